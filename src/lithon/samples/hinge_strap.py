"""The hinge strap of Tarnhow Lock: a strap in five thicknesses with rounds in the steps. Without the
rounds and with a cut at every step it is five blocks: the mapped mesh."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.brep.topology import Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Piece, prism


@dataclass(frozen=True, slots=True)
class Strap:
    """Dimensions in mm and the closed forms that follow from them."""

    steps: tuple[float, ...] = (0.0, 30.0, 60.0, 90.0, 110.0, 140.0)
    heights: tuple[float, ...] = (6.0, 10.0, 8.0, 12.0, 6.0)
    width: float = 22.0
    root: float = 1.5

    @property
    def blocks(self) -> list[float]:
        """Volumes of the five blocks without rounds."""
        return [
            float((b - a) * h * self.width) for a, b, h in zip(self.steps, self.steps[1:], self.heights, strict=False)
        ]

    @property
    def rounds_volume(self) -> float:
        """What the four rounds in the steps add."""
        return float(4.0 * (1.0 - np.pi / 4.0) * self.root**2 * self.width)

    @property
    def volume(self) -> float:
        return sum(self.blocks) + self.rounds_volume

    def outline(self) -> list[Piece]:
        """The side view, counter-clockwise in (x, height)."""
        pieces = [Piece((0.0, 0.0)), Piece((self.steps[-1], 0.0))]
        r = self.root
        for k in range(len(self.heights) - 1, 0, -1):
            x, high, low = self.steps[k], self.heights[k], self.heights[k - 1]
            if k == len(self.heights) - 1:
                pieces.append(Piece((self.steps[-1], high)))
            if low < high:  # going left and down: a step down, its root on the left
                pieces += [Piece((x, high)), Piece((x, low + r), (x - r, low + r), ccw=False), Piece((x - r, low))]
            else:
                pieces += [Piece((x + r, high), (x + r, high + r), ccw=False), Piece((x, high + r)), Piece((x, low))]
        return [*pieces, Piece((0.0, self.heights[0]))]

    @property
    def faces(self) -> int:
        return 2 + len(self.outline())


STRAP = Strap()


def hinge_strap(size: Strap = STRAP) -> Model:
    """The part as one exact body: x along it, z up, y across from 0 to its width."""
    frame = Frame.of((0.0, size.width, 0.0), (0.0, -1.0, 0.0), (1.0, 0.0, 0.0))
    return Model.of([prism(size.outline(), size.width, frame, "hinge strap")])
