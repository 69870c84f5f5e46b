"""The collar anchor as it is cast and machined: chains of fillets around corners, a chamfer,
counterbored bolt holes, a drilled blind hole and a stamped number. Mirror plane y = 0 but for the stamp.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, Section, face_toward, prism, raised, rectangle, rounded_top, sink
from lithon.samples.outline import SPANDREL, SPANDREL_CENTRE, area, band, rounded

Point2 = tuple[float, float]


def _polygon(*points: Point2) -> list[Piece]:
    return [Piece(p) for p in points]


#: The stamp "L17", one outline a character, lower left corner at the origin, 4 mm wide, 6 mm high.
STAMP: tuple[list[Piece], ...] = (
    _polygon((0, 0), (4, 0), (4, 1), (1, 1), (1, 6), (0, 6)),
    _polygon((1.5, 0), (2.5, 0), (2.5, 6), (1.5, 6)),
    _polygon((0, 5), (2.4, 5), (1, 0), (2.2, 0), (4, 6), (0, 6)),
)


@dataclass(frozen=True, slots=True)
class CastAnchor:
    """Dimensions in mm and the closed forms that follow from them."""

    length: float = 120.0
    width: float = 80.0
    thickness: float = 14.0
    corner: float = 8.0
    edge_round: float = 2.0
    lug_length: float = 40.0
    lug_width: float = 26.0
    lug_height: float = 44.0
    lug_corner: float = 5.0
    root_round: float = 3.0
    chamfer: float = 1.5
    pin: float = 18.0
    pin_height: float = 28.0
    bolt: float = 11.0
    bore: float = 18.0
    bore_depth: float = 5.0
    bolt_x: float = 46.0
    bolt_y: float = 27.0
    drill: float = 4.0
    drill_depth: float = 8.0
    drill_x: float = 40.0
    stamp_depth: float = 0.4

    @property
    def edge_round_volume(self) -> float:
        """What the fillet around the plate's upper edge takes away."""
        r = self.edge_round
        return band(self.length, self.width, self.corner, SPANDREL * r * r, SPANDREL_CENTRE * r)

    @property
    def root_round_volume(self) -> float:
        """What the fillet around the lug's root adds."""
        r = self.root_round
        return band(self.lug_length, self.lug_width, self.lug_corner, SPANDREL * r * r, -SPANDREL_CENTRE * r)

    @property
    def chamfer_volume(self) -> float:
        c = self.chamfer
        return band(self.lug_length, self.lug_width, self.lug_corner, c * c / 2.0, c / 3.0)

    @property
    def bolts_volume(self) -> float:
        through = np.pi / 4.0 * self.bolt**2 * self.thickness
        wide = np.pi / 4.0 * (self.bore**2 - self.bolt**2) * self.bore_depth
        return float(4.0 * (through + wide))

    @property
    def drill_volume(self) -> float:
        r = self.drill / 2.0
        return float(np.pi * r * r * (self.drill_depth + r / np.tan(np.radians(59.0)) / 3.0))

    @property
    def pin_volume(self) -> float:
        return float(np.pi / 4.0 * self.pin**2 * self.lug_width)

    @property
    def stamp_volume(self) -> float:
        return sum(area(c) for c in STAMP) * self.stamp_depth

    @property
    def volume(self) -> float:
        plate = rounded(self.length, self.width, self.corner) * self.thickness - self.edge_round_volume
        lug = rounded(self.lug_length, self.lug_width, self.lug_corner) * self.lug_height
        lug += self.root_round_volume - self.chamfer_volume - self.pin_volume
        return float(plate + lug - self.bolts_volume - self.drill_volume - self.stamp_volume)

    @property
    def faces(self) -> int:
        plate, lug = 2 + 8 + 8, 8 + 8 + 8 + 1 + 1  # ends, walls, fillet; root, walls, chamfer, top, pin bore
        return plate + lug + 4 * 3 + 2 + sum(len(c) + 1 for c in STAMP)


CAST = CastAnchor()


def cast_anchor(size: CastAnchor = CAST) -> Model:
    """The part as one exact body."""
    s, up = size, (0.0, 0.0, 1.0)
    outline = rectangle(-s.length / 2, -s.width / 2, s.length / 2, s.width / 2, s.corner)
    body = prism(outline, 0.0, None, "cast anchor", rounded_top(0.0, s.thickness, s.edge_round))
    top = Frame.of((0.0, 0.0, s.thickness), up, (1.0, 0.0, 0.0))
    through = s.thickness - s.bore_depth
    half = (s.bore - s.bolt) / 2.0
    stepped = Section.through(
        (0.0, -s.thickness), (0.0, through - s.thickness), (half, through - s.thickness), (half, 0.0)
    )
    for x in (-s.bolt_x, s.bolt_x):
        for y in (-s.bolt_y, s.bolt_y):
            body = sink(body, face_toward(body, up), top, Round((x, y), s.bolt / 2.0), 0.0,
                        face_toward(body, (0.0, 0.0, -1.0)), stepped)  # fmt: skip
    r = s.drill / 2.0
    tip = Section.through((-r, -s.drill_depth - r / np.tan(np.radians(59.0))), (0.0, -s.drill_depth), (0.0, 0.0))
    body = sink(body, face_toward(body, up), top, Round((s.drill_x, 0.0), r), 0.0, None, tip)
    for k, character in enumerate(STAMP):
        at = Frame.of((-52.0 + 5.5 * k, -3.0, s.thickness), up, (1.0, 0.0, 0.0))
        body = sink(body, face_toward(body, up), at, character, s.stamp_depth)
    plate_top = face_toward(body, up)
    lug = rectangle(-s.lug_length / 2, -s.lug_width / 2, s.lug_length / 2, s.lug_width / 2, s.lug_corner)
    f, h, c = s.root_round, s.lug_height, s.chamfer
    wall = Section((Piece((f, 0.0), (f, f), ccw=False), Piece((0.0, f)), Piece((0.0, h - c))), (-c, h))
    body = raised(body, plate_top, top, lug, h, wall)
    across = Frame.of((0.0, s.lug_width / 2, s.thickness + s.pin_height), (0.0, 1.0, 0.0), (1.0, 0.0, 0.0))
    front = face_toward(body, (0.0, 1.0, 0.0), (0.0, s.lug_width / 2, 0.0))
    back = face_toward(body, (0.0, -1.0, 0.0), (0.0, -s.lug_width / 2, 0.0))
    body = sink(body, front, across, Round((0.0, 0.0), s.pin / 2.0), s.lug_width, back)
    return Model.of([body])
