"""What is set for the whole model, each a step like any other."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from lithon.errors import Refusal
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import Count, Number, angle, length


class _Setting(Operation):
    on_sheets = True
    gate = "unchanged"

    def _set(self, bench: Bench, words: str, **values: Any) -> Made:
        return Made(bench.model, words, settings=replace(bench.state.settings, **values))


class ElementSize(_Setting):
    """Set the element size, for everything that has none of its own."""

    size: float = param(length("size", "of elements", above=0.0))

    def do(self, bench: Bench) -> Made:
        ignored = bench.state.settings.ignore
        if ignored is not None and ignored >= self.size:
            raise Refusal(f"features below {ignored:g} mm are ignored, which is not below elements of {self.size:g} mm",
                          remedy="a smaller ignore size first")  # fmt: skip
        return self._set(bench, f"elements of {self.size:g} mm", size=self.size)


class Growth(_Setting):
    """Set how much longer an element may be than its neighbour."""

    growth: float = param(Number(title="growth", help="0.35: at most 35 % longer", above=0.0, most=4.0))

    def do(self, bench: Bench) -> Made:
        return self._set(bench, f"growth {self.growth:g}", growth=self.growth)


class ArcAngle(_Setting):
    """Set how much of a round edge, or of a curved face, one element may span."""

    angle: float = param(
        replace(angle("angle", help="30°: twelve around a circle, at least"), above=0.0, most=float(np.pi / 2.0))
    )

    def do(self, bench: Bench) -> Made:
        return self._set(bench, f"arcs of {np.degrees(self.angle):.3g}°", arc=self.angle)


class FaceBudget(_Setting):
    """Set how many faces there may be; watched in the Ledger. Nothing lifts it."""

    faces: int = param(Count(title="faces", help="at most; 0 lifts it", least=0))

    def do(self, bench: Bench) -> Made:
        return self._set(bench, f"at most {self.faces} faces" if self.faces else "any number of faces",
                         budget=self.faces or None)  # fmt: skip
