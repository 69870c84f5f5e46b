"""The gear's cover: a plate with an array of holes, wider holes, pockets and raised marks of 140 faces; its bolts."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from lithon.brep.copies import moved
from lithon.brep.topology import Body, Model, new_uid
from lithon.geometry.frames import Frame
from lithon.samples.build import Round, face_toward, prism, raised, rectangle, sink
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


def gear_cover() -> Model:
    """The plate, and a bolt in each of its four corners."""
    bolt = _bolt()
    bodies = []
    for k, (x, y) in enumerate(GEAR_COVER.bolts_at):
        there = np.eye(4)
        there[:3, 3] = (x, y, 0.0)
        bodies.append(replace(moved(bolt, there), name=f"bolt {k + 1}", uid=new_uid()))
    return Model.of([_plate(), *bodies])
