"""Bond: what touches is imprinted and shared."""

from __future__ import annotations

from lithon.bond.share import bond
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import length


class Bond(Operation):
    """Imprint bodies that touch on each other and share what coincides, so that their meshes match."""

    gap: float | None = param(length("gap", "how far apart faces may be and still touch", above=0.0, optional=True))

    def do(self, bench: Bench) -> Made:
        out, contacts = bond(bench.model, None, self.gap, bench.progress)
        shared = [c for c in contacts if c.verdict == "shared"]
        details = [{"first": c.first, "second": c.second, "area_mm2": c.area, "verdict": c.verdict} for c in contacts]
        return Made(out, f"bond {len(shared)} contact{'s' if len(shared) != 1 else ''}", details=details)

    def subject(self) -> str:
        return "imprint and share every contact"
