"""The gear's cover: a plate with arrays of holes, pockets and raised marks of 140 faces; its bolts and nuts."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from lithon.brep.copies import moved
from lithon.brep.topology import Body, Model, new_uid
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink
from lithon.samples.cast_anchor import STAMP
from lithon.samples.outline import area


@dataclass(frozen=True, slots=True)
class GearCover:
    """mm: the plate about its corner, holes by radius and place, pockets, marks, and the bolts' cross holes."""

    length: float = 180.0
    width: float = 100.0
    thickness: float = 8.0
    vent: float = 2.5
    vents: tuple[int, int] = (6, 2)
    bolt: float = 4.5
    pocket: tuple[float, float, float] = (14.0, 9.0, 2.0)
    pockets: int = 4
    marks: int = 22
    mark: float = 0.6
    head: float = 8.0
    shank: float = 4.0
    cross: float = 1.0
    #: A nut: half its width over corners, its height, and the dot sunk into one of its sides by radius and depth.
    nut: float = 8.5
    nut_high: float = 6.0
    dot: tuple[float, float] = (0.8, 0.5)

    @property
    def nut_volume(self) -> float:
        hexagon = 1.5 * np.sqrt(3.0) * self.nut**2
        return float((hexagon - np.pi * self.shank**2) * self.nut_high - np.pi * self.dot[0] ** 2 * self.dot[1])

    @property
    def marks_volume(self) -> float:
        return float(sum(area(STAMP[k % 3]) for k in range(self.marks)) * self.mark)

    @property
    def mark_faces(self) -> int:
        """Of all marks: their sides and tops."""
        return sum(len(STAMP[k % 3]) + 1 for k in range(self.marks))

    @property
    def bolts_at(self) -> tuple[tuple[float, float], ...]:
        return tuple((x, y) for x in (12.0, self.length - 12.0) for y in (12.0, self.width - 12.0))


GEAR_COVER = GearCover()


def _plate() -> Body:
    g, up = GEAR_COVER, (0.0, 0.0, 1.0)
    body = prism(rectangle(0.0, 0.0, g.length, g.width), g.thickness, name="gear cover")
    top = Frame.of((0.0, 0.0, g.thickness), up, (1.0, 0.0, 0.0))
    low = (0.0, 0.0, -1.0)
    vents = [(40.0 + 20.0 * i, 20.0 + 12.0 * j) for i in range(g.vents[0]) for j in range(g.vents[1])]
    for radius, places in ((g.vent, vents), (g.bolt, list(g.bolts_at))):
        for place in places:
            body = sink(body, face_toward(body, up), top, Round(place, radius), g.thickness, face_toward(body, low))
    a, b, deep = g.pocket
    for k in range(g.pockets):
        x = 35.0 + 30.0 * k
        body = sink(body, face_toward(body, up), top, rectangle(x, 50.0, x + a, 50.0 + b), deep)
    for k in range(g.marks):
        at = Frame.of((25.0 + 5.6 * k, 75.0, g.thickness), up, (1.0, 0.0, 0.0))
        surface = face_toward(body, up, (0.0, 0.0, g.thickness))
        body = raised(body, surface, at, STAMP[k % 3], g.mark)
    return body


def _bolt() -> Body:
    """A head on a shank with a hole across it."""
    g, up = GEAR_COVER, (0.0, 0.0, 1.0)
    body = prism(Round((0.0, 0.0), g.head), 5.0, Frame.of((0.0, 0.0, g.thickness), up, (1.0, 0.0, 0.0)), "bolt")
    under = face_toward(body, (0.0, 0.0, -1.0))
    at = Frame.of((0.0, 0.0, g.thickness), (0.0, 0.0, -1.0), (1.0, 0.0, 0.0))
    body = raised(body, under, at, Round((0.0, 0.0), g.shank), 24.0)
    head = face_toward(body, up)
    above = Frame.of((0.0, 0.0, g.thickness + 5.0), up, (1.0, 0.0, 0.0))
    return sink(body, head, above, Round((4.0, 0.0), g.cross), 3.0)


def _nut() -> Body:
    """A hexagon under the plate with a bore for the bolt, and a dot in one of its sides."""
    g = GEAR_COVER
    low = Frame.of((0.0, 0.0, -g.nut_high), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    corners = [Piece((g.nut * np.cos(a), g.nut * np.sin(a))) for a in np.arange(6) * np.pi / 3.0]
    body = prism(corners, g.nut_high, low, "nut")
    top = Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    up, down = face_toward(body, (0.0, 0.0, 1.0)), face_toward(body, (0.0, 0.0, -1.0))
    body = sink(body, up, top, Round((0.0, 0.0), g.shank), g.nut_high, down)
    flat = Frame.of((0.0, np.sqrt(0.75) * g.nut, -0.5 * g.nut_high), (0.0, 1.0, 0.0), (1.0, 0.0, 0.0))
    return sink(body, face_toward(body, (0.0, 1.0, 0.0)), flat, Round((0.0, 0.0), g.dot[0]), g.dot[1])


def gear_cover() -> Model:
    """The plate, and a bolt with its nut in each of its four corners."""
    bodies = []
    for name, one in (("bolt", _bolt()), ("nut", _nut())):
        for k, (x, y) in enumerate(GEAR_COVER.bolts_at):
            there = np.eye(4)
            there[:3, 3] = (x, y, 0.0)
            bodies.append(replace(moved(one, there), name=f"{name} {k + 1}", uid=new_uid()))
    return Model.of([_plate(), *bodies])
