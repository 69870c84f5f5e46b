"""The cover plate: rounds along its upper edge, a web, a boss with a bore through it; a thin lid beside it that comes
as an open skin."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, face_toward, polyhedron, prism, raised, rectangle, rounded_top, sink


@dataclass(frozen=True, slots=True)
class Cover:
    """mm: the plate about z with rounded corners, its web along x, its boss and bore; the lid, its pit and hole."""

    length: float = 140.0
    width: float = 80.0
    thickness: float = 12.0
    corner: float = 10.0
    edge: float = 3.0
    web: tuple[float, float, float] = (50.0, 6.0, 15.0)
    web_at: float = -35.0
    boss: float = 14.0
    boss_high: float = 10.0
    boss_at: float = 35.0
    bore: float = 6.0
    lid: tuple[float, float] = (40.0, 30.0)
    pit: tuple[float, float, float] = (10.0, 8.0, 3.0)
    hole: float = 4.0
    #: The splash rib beside them: half its length and width, how steeply its two ridges fall along it and across it,
    #: how far they are twisted against each other, how high the flat is that is cut across between them, and its floor.
    rib: tuple[float, float] = (30.0, 20.0)
    fall: tuple[float, float] = (0.4, 0.5)
    twist: float = 8.0
    flat: float = 2.0
    floor: float = -12.0
    rib_at: tuple[float, float] = (0.0, 90.0)

    @property
    def knots(self) -> tuple[float, float]:
        """What lies below the flat and above it of the space between the two ways in which the rib's four slopes can
        meet: a tetrahedron of whose box a third is its volume, cut at a height. With t the height over the twist, a cut
        is 2 t (1 - t) of the box's."""
        t, box = self.flat / self.twist, self.twist**3 / (self.fall[0] * self.fall[1])
        below = t**2 - 2.0 * t**3 / 3.0
        return below * box, (1.0 / 3.0 - below) * box

    @property
    def web_volume(self) -> float:
        return float(np.prod(self.web))

    @property
    def edge_volume(self) -> float:
        """What the round along the upper edge takes away: its section along the sides, carried around the corners."""
        r, c = self.edge, self.corner
        section = (1.0 - np.pi / 4.0) * r**2
        # Pappus: the section's middle lies this far in from the wall.
        inward = (r / 2.0 * r**2 - np.pi * r**2 / 4.0 * (r - 4.0 * r / (3.0 * np.pi))) / section
        straight = 2.0 * (self.length - 2.0 * c + self.width - 2.0 * c)
        return float(section * (straight + 2.0 * np.pi * (c - inward)))

    @property
    def slab(self) -> float:
        """The plate with sharp edges and nothing on it."""
        return float((self.length * self.width - (4.0 - np.pi) * self.corner**2) * self.thickness)

    @property
    def volume(self) -> float:
        boss = np.pi * self.boss**2 * self.boss_high
        bore = np.pi * self.bore**2 * (self.thickness + self.boss_high)
        return float(self.slab - self.edge_volume + self.web_volume + boss - bore)

    @property
    def lid_area(self) -> float:
        """As it comes: flat, but for a pit and a hole."""
        a, b, deep = self.pit
        return float(np.prod(self.lid) + 2.0 * (a + b) * deep - np.pi * self.hole**2)


COVER = Cover()


def _lid() -> Body:
    """An open skin: a rectangle with a pit and a hole."""
    c = COVER
    x, y = c.length + 20.0, 0.0
    low = Frame.of((x, y, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    block = prism(rectangle(0.0, 0.0, *c.lid), 10.0, low, "lid")
    up = (0.0, 0.0, 1.0)
    top = Frame.of((x, y, 10.0), up, (1.0, 0.0, 0.0))
    a, b, deep = c.pit
    block = sink(block, face_toward(block, up), top, rectangle(8.0, 8.0, 8.0 + a, 8.0 + b), deep)
    block = sink(block, face_toward(block, up), top, Round((30.0, 20.0), c.hole), 4.0)
    plane = face_toward(block, up)
    pit = [u for u in block.uses if u.face is plane or _within(u.face, x + 8.0, x + 8.0 + a)]
    return block.with_uses(pit)


def _within(face, low: float, high: float) -> bool:  # type: ignore[no-untyped-def]
    xs = [float(v.point[0]) for e in face.edges() for v in (e.start, e.end) if v is not None]
    return bool(xs) and min(xs) > low - 1e-6 and max(xs) < high + 1e-6


def _rib() -> Body:
    """Four slopes, each falling the other way along and across, with two ridges and two valleys between them that miss
    each other; a flat where they would meet."""
    c = COVER
    x, y, (m, k), e, h = *c.rib, c.fall, c.twist, c.flat
    dx, dy, off = e / (2.0 * m), e / (2.0 * k), (h - e / 2.0)
    corners = [
        (off / m, dy, h), (dx, off / k, h), (-off / m, -dy, h), (-dx, -off / k, h),  # of the flat
        (x, dy, m * x + e / 2.0), (dx, -y, e / 2.0 - k * y), (-x, -dy, e / 2.0 + m * x), (-dx, y, e / 2.0 - k * y),
        (x, y, e + m * x - k * y), (x, -y, m * x - k * y), (-x, -y, e + m * x - k * y), (-x, y, m * x - k * y),
        *((a, b, c.floor) for a, b in ((x, y), (x, -y), (-x, -y), (-x, y))),
    ]  # fmt: skip
    sides = [
        (3, 2, 1, 0),
        (4, 8, 7, 3, 0), (1, 5, 9, 4, 0), (2, 6, 10, 5, 1), (3, 7, 11, 6, 2),
        (8, 4, 9, 13, 12), (9, 5, 10, 14, 13), (10, 6, 11, 15, 14), (11, 7, 8, 12, 15), (12, 13, 14, 15),
    ]  # fmt: skip
    return polyhedron(np.array(corners) + [*c.rib_at, 0.0], sides, "splash rib")


def cover_plate() -> Model:
    """The plate, the lid and the rib."""
    c, up = COVER, (0.0, 0.0, 1.0)
    outline = rectangle(-c.length / 2, -c.width / 2, c.length / 2, c.width / 2, c.corner)
    body = prism(outline, 0.0, None, "cover plate", rounded_top(0.0, c.thickness, c.edge))
    top = Frame.of((0.0, 0.0, c.thickness), up, (1.0, 0.0, 0.0))
    long, wide, high = c.web
    corners = [(-long / 2, -wide / 2), (long / 2, -wide / 2), (long / 2, wide / 2), (-long / 2, wide / 2)]
    web = [Piece((x + c.web_at, y)) for x, y in corners]
    body = raised(body, face_toward(body, up), top, web, high)
    plate_top = face_toward(body, up, (0.0, 0.0, c.thickness))
    body = raised(body, plate_top, top, Round((c.boss_at, 0.0), c.boss), c.boss_high)
    above = face_toward(body, up, (0.0, 0.0, c.thickness + c.boss_high))
    on_boss = Frame.of((0.0, 0.0, c.thickness + c.boss_high), up, (1.0, 0.0, 0.0))
    body = sink(body, above, on_boss, Round((c.boss_at, 0.0), c.bore), c.thickness + c.boss_high,
                face_toward(body, (0.0, 0.0, -1.0)))  # fmt: skip
    return Model.of([body, _lid(), _rib()])
