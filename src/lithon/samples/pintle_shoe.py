"""The pintle shoe of Tarnhow Lock: the casting that the gate's pintle stands in, exported badly.

The sound part is a stepped foot with a boss and its bore. Spoiling it is a matter of dice: which wall,
which edge and how far follow from the seed, and each wound is written down.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Cylinder
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink
from lithon.samples.wounds import (
    Wound,
    bore_disguised,
    edge_nicked,
    face_lost,
    gap_opened,
    plane_disguised,
    sheet_hidden,
    straight_edges,
    wall_cut,
)


@dataclass(frozen=True, slots=True)
class Shoe:
    """Dimensions in mm and the closed form that follows from them."""

    length: float = 120.0
    width: float = 80.0
    low: float = 24.0
    high: float = 40.0
    step: float = 45.0
    boss: float = 24.0
    boss_height: float = 18.0
    bore: float = 12.0
    depth: float = 30.0
    slot: tuple[float, float, float, float] = (-52.0, -20.0, -24.0, 20.0)
    slot_depth: float = 10.0

    @property
    def volume(self) -> float:
        x0, y0, x1, y1 = self.slot
        foot = self.width * (self.step * self.low + (self.length - self.step) * self.high)
        return float(
            foot
            + np.pi * self.boss**2 * self.boss_height
            - np.pi * self.bore**2 * self.depth
            - (x1 - x0) * (y1 - y0) * self.slot_depth
        )


SHOE = Shoe()


def sound_shoe() -> Body:
    """The part as it was meant."""
    s = SHOE
    x = s.length / 2.0
    side = [Piece((-x, 0)), Piece((x, 0)), Piece((x, s.high)), Piece((s.step - x, s.high)),
            Piece((s.step - x, s.low)), Piece((-x, s.low))]  # fmt: skip
    across = Frame.of((0.0, s.width / 2.0, 0.0), (0.0, -1.0, 0.0), (1.0, 0.0, 0.0))
    body = prism(side, s.width, frame=across, name="pintle shoe")
    up, axis = (0.0, 0.0, 1.0), (x - 40.0, 0.0)
    top = face_toward(body, up, (axis[0], 0.0, s.high))
    body = raised(body, top, Frame.of((0, 0, s.high), up, (1, 0, 0)), Round(axis, s.boss), s.boss_height)
    lid = face_toward(body, up, (axis[0], 0.0, s.high + s.boss_height))
    body = sink(body, lid, Frame.of((0, 0, s.high + s.boss_height), up, (1, 0, 0)), Round(axis, s.bore), s.depth)
    floor = face_toward(body, up, (-x + 5.0, 0.0, s.low))
    frame = Frame.of((0, 0, s.low), up, (1, 0, 0))
    return sink(body, floor, frame, rectangle(*s.slot), s.slot_depth)


def spoiled_shoe(seed: int = 11) -> tuple[Model, list[Wound]]:
    """The part as it arrives, and what was done to it."""
    dice = np.random.default_rng(seed)
    body, wounds = sound_shoe(), []

    def spoil(made: tuple[Body, list[Wound]]) -> None:
        nonlocal body
        body = made[0]
        wounds.extend(made[1])

    s, x = SHOE, SHOE.length / 2.0
    foot = face_toward(body, (0, 0, -1), (0, 0, 0))
    spoil(plane_disguised(body, foot))
    bore = next(f for f in body.faces if isinstance(f.surface, Cylinder) and f.surface.radius == s.bore)
    spoil(bore_disguised(body, bore))
    # One wall of the slot is split for no reason; another twice, which leaves a sliver.
    x0, y0, x1, y1 = s.slot
    middle = (0.5 * (x0 + x1), 0.5 * (y0 + y1), s.low - 0.5 * s.slot_depth)
    first, width = float(dice.uniform(0.3, 0.6)), float(dice.uniform(0.05, 0.2))
    for way, edge_x, shares in (
        (1.0, x0, (float(dice.uniform(0.3, 0.7)),)),
        (-1.0, x1, (first, first + width / (y1 - y0))),
    ):
        wall = face_toward(body, (way, 0, 0), (edge_x, middle[1], middle[2]))
        low, high = (e for e in wall.edges() if abs(float(e.direction(0.5)[2])) < 0.1)
        spoil(wall_cut(body, wall, low, high, shares))
    slim = (f for f in body.faces if len(list(f.edges())) == 4 and min(e.length for e in f.edges()) < 0.5)
    (sliver,) = slim
    x_, y_, z_ = np.mean([e.at(0.5) for e in sliver.edges()], axis=0).tolist()
    wounds.append(Wound("narrow face", (x_, y_, z_), s.slot_depth, None))
    lost = face_toward(body, (0, 0, 1), (middle[0], middle[1], s.low - s.slot_depth))
    spoil(face_lost(body, lost))
    end = face_toward(body, (1, 0, 0), (x, 0.0, 0.5 * s.high))
    edge = straight_edges(body, end, 20.0)[int(dice.integers(2))]
    spoil(edge_nicked(body, edge, float(dice.uniform(0.05, 0.3))))
    heel = face_toward(body, (-1, 0, 0), (-x, 0.0, 0.5 * s.low))
    edge = straight_edges(body, heel, 20.0)[int(dice.integers(2))]
    spoil(gap_opened(body, heel, edge, float(dice.uniform(0.02, 0.4))))
    centre = np.array([dice.uniform(-10.0, 40.0), dice.uniform(-25.0, 25.0), dice.uniform(9.0, 15.0)])
    spoil(sheet_hidden(body, centre, np.array([0.3, 0.2, 1.0]), float(dice.uniform(6.0, 10.0))))
    return Model.of([body]), wounds


def pintle_shoe() -> Model:
    """As it stands on the intake table."""
    return spoiled_shoe()[0]
