"""The collar anchor of Tarnhow Lock: a plate with a lug, made of planes and cylinders.

It holds the upper collar of a lock gate. Mirror plane y = 0. The small hole near the plate's end
stands beside a thin wall and should be kept; the two weep holes and the rounds may go.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Round, face_toward, prism, raised, rectangle, sink

_CORNERS = 4.0 - np.pi  # a rounded rectangle of corner radius r lacks this times r squared


@dataclass(frozen=True, slots=True)
class Anchor:
    """Dimensions in mm and the closed forms that follow from them."""

    length: float = 120.0
    width: float = 80.0
    thickness: float = 12.0
    corner: float = 2.0
    bolt: float = 11.0
    bolt_x: float = 46.0
    bolt_y: float = 27.0
    grease: float = 3.0
    grease_x: float = 56.4
    weep: float = 2.5
    weep_x: float = -34.0
    weep_y: float = 9.0
    lug_x0: float = -20.0
    lug_x1: float = 14.0
    lug_y: float = 13.0
    lug_height: float = 42.0
    lug_round: float = 1.5
    pin: float = 18.0
    pin_z: float = 34.0
    pocket_x0: float = 22.0
    pocket_x1: float = 38.0
    pocket_y: float = 9.0
    pocket_depth: float = 4.0
    pocket_round: float = 1.5

    @property
    def volume(self) -> float:
        """mm3, from the dimensions alone."""
        plate = (self.length * self.width - _CORNERS * self.corner**2) * self.thickness
        lug_area = (self.lug_x1 - self.lug_x0) * 2.0 * self.lug_y - _CORNERS * self.lug_round**2
        lug = lug_area * self.lug_height - np.pi / 4.0 * self.pin**2 * 2.0 * self.lug_y
        return float(plate + lug - self.bolts_volume - self.grease_volume - self.weeps_volume - self.pocket_volume)

    @property
    def bolts_volume(self) -> float:
        return float(4.0 * np.pi / 4.0 * self.bolt**2 * self.thickness)

    @property
    def grease_volume(self) -> float:
        return float(np.pi / 4.0 * self.grease**2 * self.thickness)

    @property
    def weeps_volume(self) -> float:
        return float(2.0 * np.pi / 4.0 * self.weep**2 * self.thickness)

    @property
    def pocket_volume(self) -> float:
        area = (self.pocket_x1 - self.pocket_x0) * 2.0 * self.pocket_y - _CORNERS * self.pocket_round**2
        return float(area * self.pocket_depth)

    @property
    def outer_rounds_volume(self) -> float:
        """What the four plate corners and the four lug edges lack to sharp corners."""
        return float(_CORNERS * (self.corner**2 * self.thickness + self.lug_round**2 * self.lug_height))

    @property
    def faces(self) -> int:
        plate = 2 + 8
        lug = 1 + 8 + 1  # top, sides with rounds, pin bore
        return plate + lug + 4 + 1 + 2 + (8 + 1)


ANCHOR = Anchor()


def collar_anchor(size: Anchor = ANCHOR) -> Model:
    """The part as one exact body."""
    up, s = (0.0, 0.0, 1.0), size
    base = Frame.of((0.0, 0.0, 0.0), up, (1.0, 0.0, 0.0))
    top = Frame.of((0.0, 0.0, s.thickness), up, (1.0, 0.0, 0.0))
    half_x, half_y = s.length / 2.0, s.width / 2.0
    body = prism(rectangle(-half_x, -half_y, half_x, half_y, s.corner), s.thickness, base, "collar anchor")
    round_holes = [Round((x, y), s.bolt / 2.0) for x in (-s.bolt_x, s.bolt_x) for y in (-s.bolt_y, s.bolt_y)]
    round_holes.append(Round((s.grease_x, 0.0), s.grease / 2.0))
    round_holes += [Round((s.weep_x, y), s.weep / 2.0) for y in (-s.weep_y, s.weep_y)]
    for hole in round_holes:
        body = sink(body, face_toward(body, up), top, hole, s.thickness, face_toward(body, (0.0, 0.0, -1.0)))
    pocket = rectangle(s.pocket_x0, -s.pocket_y, s.pocket_x1, s.pocket_y, s.pocket_round)
    body = sink(body, face_toward(body, up), top, pocket, s.pocket_depth)
    lug = rectangle(s.lug_x0, -s.lug_y, s.lug_x1, s.lug_y, s.lug_round)
    body = raised(body, face_toward(body, up, (0.0, 0.0, s.thickness)), top, lug, s.lug_height)
    across = Frame.of((0.5 * (s.lug_x0 + s.lug_x1), s.lug_y, s.pin_z), (0.0, 1.0, 0.0), (1.0, 0.0, 0.0))
    front = face_toward(body, (0.0, 1.0, 0.0), (0.0, s.lug_y, 0.0))
    back = face_toward(body, (0.0, -1.0, 0.0), (0.0, -s.lug_y, 0.0))
    body = sink(body, front, across, Round((0.0, 0.0), s.pin / 2.0), 2.0 * s.lug_y, back)
    return Model.of([body])
