"""What a model's symmetry would save: a half, a quarter, a sector instead of the whole."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.symmetry import Symmetry


def smaller_parts(found: Symmetry, elements: int) -> list[tuple[str, int]]:
    """Parts that stand for the whole, in words, each with about so many elements; the largest first."""
    out = []
    if found.round:
        return [(f"round about {_line(found.axis)}: a quarter", round(elements / 4))]
    if len(found.mirrors):
        along = np.abs(found.mirrors).max(axis=1)
        first = found.mirrors[int(along.argmax())]
        for parts, word in ((2, "half"), (4, "quarter"), (8, "eighth")):
            if found.parts() >= parts:
                where = f", mirror {_plane(first, found.centre)}" if parts == 2 else ""
                out.append((f"{word}{where}", round(elements / parts)))
    if found.count > 2 or (found.count == 2 and not len(found.mirrors)):
        out.append((f"one of {found.count} sectors about {_line(found.axis)}", round(elements / found.count)))
    return sorted(out, key=lambda part: -part[1])


def _plane(normal: Floats, through: Floats) -> str:
    """'y = 0', or the normal where it is along no axis."""
    k = int(np.abs(normal).argmax())
    if abs(float(normal[k])) > 1.0 - 1e-9:
        return f"{'xyz'[k]} = {round(float(through[k]), 4) + 0.0:g}"
    return f"across ({' '.join(f'{x:.3g}' for x in normal + 0.0)})"


def _line(axis: Floats) -> str:
    k = int(np.abs(axis).argmax())
    return "xyz"[k] if abs(float(axis[k])) > 1.0 - 1e-9 else f"({' '.join(f'{x:.3g}' for x in axis + 0.0)})"
