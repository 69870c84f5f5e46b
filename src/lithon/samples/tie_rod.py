"""The tie rod's eye: an eye on a shank with a threaded bore, a cross hole, two small holes beside the eye's bore, and
the rod that is screwed in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrange.boolean import combine
from lithon.brep.topology import Body, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, Round, prism, rectangle, revolved


@dataclass(frozen=True, slots=True)
class Eye:
    """mm: the eye about z, the shank and the rod along x. thread: from where to where its grooves are, their pitch and
    depth."""

    outer: float = 30.0
    bore: float = 14.0
    half: float = 12.0
    end: float = 90.0
    rod: float = 6.0
    rod_from: float = 46.0
    rod_to: float = 150.0
    grooves: int = 8
    pitch: float = 4.0
    depth: float = 1.0
    cross: float = 2.5
    cross_at: float = 38.0
    small: float = 1.0
    small_at: float = 22.0

    @property
    def groove_volume(self) -> float:
        """Of one groove: a triangle twice as wide as deep, carried around (Pappus)."""
        return float(2.0 * np.pi * (self.rod + self.depth / 3.0) * self.depth**2)

    @property
    def wall(self) -> float:
        """Between a small hole and the eye's bore."""
        return self.small_at - self.small - self.bore


EYE = Eye()


def _along_x(x: float = 0.0) -> Frame:
    """z along x."""
    return Frame.of((x, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 1.0, 0.0))


def _bar(radius: float, at: tuple[float, float], half: float) -> Body:
    low = Frame.of((0.0, 0.0, -half), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    return prism(Round(at, radius), 2.0 * half, low)


def _thread() -> Body:
    """What the threaded bore takes away."""
    e = EYE
    profile = [Piece((0.0, e.rod_from)), Piece((e.rod, e.rod_from))]
    for k in range(e.grooves):
        middle = e.rod_from + (k + 1) * e.pitch
        groove = ((e.rod, middle - e.depth), (e.rod + e.depth, middle), (e.rod, middle + e.depth))
        profile += [Piece(corner) for corner in groove]
    profile += [Piece((e.rod, e.end + 5.0)), Piece((0.0, e.end + 5.0))]
    return revolved(profile, _along_x())


def tie_rod_eye() -> Model:
    """The eye and its rod."""
    e = EYE
    low = Frame.of((0.0, 0.0, -e.half), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    shank = prism(rectangle(0.0, -e.half, e.end, e.half), 2.0 * e.half, low)
    (body,) = combine(prism(Round((0.0, 0.0), e.outer), 2.0 * e.half, low), shank, "union", 1e-6)
    taken = [
        _bar(e.bore, (0.0, 0.0), e.half + 5.0), _thread(), _bar(e.cross, (e.cross_at, 0.0), e.half + 5.0),
        *(_bar(e.small, (0.0, s * e.small_at), e.half + 5.0) for s in (-1.0, 1.0)),
    ]  # fmt: skip
    for tool in taken:
        (body,) = combine(body, tool, "subtract", 1e-6)
    rod = prism(Round((0.0, 0.0), e.rod), e.rod_to - e.rod_from, _along_x(e.rod_from), "rod")
    return Model.of([Body(body.uses, "eye"), rod])
