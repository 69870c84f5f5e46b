"""Bond: what touches is imprinted and shared."""

from __future__ import annotations

import itertools

from lithon.bond.share import bond
from lithon.operations.bond.closing import brought_together
from lithon.operations.bond.crumbs import near, overlapping
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import length, some_bodies


class Bond(Operation):
    """Imprint bodies that touch on each other and share what coincides, so that their meshes match."""

    bodies: Choice = param(some_bodies())
    apart: Choice = param(some_bodies("left apart", "between these nothing is shared; left out: none"))
    gap: float | None = param(length("gap", "how far apart faces may be and still touch", above=0.0, optional=True))

    def do(self, bench: Bench) -> Made:
        chosen, model, apart = list(bench.given["bodies"]) or None, bench.model, list(bench.given["apart"])
        if self.gap is not None:
            near = list(chosen or model.bodies)
            model, moved = brought_together(model, near, self.gap, bench.progress, apart)
            now = dict(zip(near, moved, strict=True))
            chosen, apart = moved if chosen else None, [now.get(body, body) for body in apart]
        out, contacts = bond(model, chosen, self.gap, bench.progress, apart)
        shared = [c for c in contacts if c.verdict == "shared"]
        details = [{"first": c.first, "second": c.second, "area_mm2": c.area, "verdict": c.verdict} for c in contacts]
        return Made(out, f"bond {len(shared)} contact{'s' if len(shared) != 1 else ''}", details=details)

    def subject(self) -> str:
        return "imprint and share every contact" if self.bodies.empty else super().subject()

    @classmethod
    def of(cls, chosen: Chosen) -> Bond:
        return cls(bodies=chosen.bodies) if len(chosen.bodies) > 1 else cls()

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        """Two bodies or more are in hand whose boxes touch: what runs into each other is told by its card."""
        found = chosen.of("bodies")[:20]
        pairs = itertools.combinations(found, 2)
        return any(near(a, b, chosen.model.tolerance) and not overlapping(a, b) for a, b in pairs)

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        made = cls.of(chosen)
        return {key: getattr(made, key) for key in cls.parameters()}
