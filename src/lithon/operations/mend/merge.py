"""Merge: faces that were split for no reason become one again."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence

import numpy as np

from lithon.brep.topology import Face
from lithon.mend.merge import merged
from lithon.operations.choices import Choice
from lithon.operations.mend.mending import mended
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import faces


def _one_surface(faces: Sequence[Face]) -> bool:
    """Whether the edges of all faces lie on the surface of the first."""
    surface = faces[0].surface
    points = np.array([e.at(share) for f in faces[1:] for e in f.edges() for share in (0.2, 0.5, 0.8)])
    return bool(np.abs(surface.signed_distance(points)).max() < 1e-4)


class Merge(Operation):
    """Join faces over the edges between them, where one surface goes on there; no point moves."""

    faces: Choice = param(faces(help="faces side by side on one surface", least=2))

    unbonded = "merge"
    on_sheets = True

    @classmethod
    def of(cls, chosen: Chosen) -> Merge | None:
        kinds = {f.surface.kind for f in chosen.faces}
        count = Counter(e for f in chosen.faces for e in set(f.edges()))
        beside = len(chosen.faces) > 1 and len(kinds) == 1 and max(count.values(), default=0) > 1
        return super().of(chosen) if beside and _one_surface(chosen.faces) else None

    def do(self, bench: Bench) -> Made:
        out, chosen = mended(bench, lambda body, own: merged(body, own, bench.tolerance))
        return Made(out, f"merge {len(chosen)} faces")
