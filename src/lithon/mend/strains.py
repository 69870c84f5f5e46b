"""What speaks against triangles being of the patches beside them: how far corners stand off, how they lean."""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.mend.fitting import facing, local_of, stand

#: From so many triangles it is told to which side those of a patch look.
LOOKED_AT = 40


@njit(cache=True)
def senses(kinds: Ints, here: Floats, rows: Ints, label: Ints, corners: Ints, points: Floats, normal: Floats) -> Floats:
    """Whether triangles (n,) look as the surfaces (k,) of their patches (n,) do, 1, or the other way, -1."""
    total, count = np.zeros(len(kinds)), np.zeros(len(kinds), np.int64)
    for q in range(len(label)):
        i, k = rows[q], label[q]
        if k >= 0 and count[k] < LOOKED_AT:
            count[k] += 1
            total[k] += facing(kinds[k], here[k], corners[i], points, normal[i])
    for k in range(len(kinds)):
        total[k] = -1.0 if total[k] < 0.0 else 1.0
    return total


@njit(cache=True, nogil=True)
def strains(
    rows: Ints, patch: Ints, kinds: Ints, here: Floats, sense: Floats, corners: Ints, points: Floats, normal: Floats,
    lean: Floats, noise: float, each: float,
) -> Floats:  # fmt: skip
    """What speaks against triangles (n,) being of patches (n,), in squares of scatters (`noise`, in mm; `lean` (m,), in
    radians): how far corners stand off in the mean, and the lean, neither more than a few times `each`."""
    out = np.empty(len(rows))
    for q in range(len(rows)):
        i, k = rows[q], patch[q]
        total = 0.0
        for c in range(3):
            x, y, z = local_of(here[k], points[corners[i, c]])
            off = stand(kinds[k], here[k, 12:], x, y, z)[0] / noise
            total += min(off * off, 4.0 * each * each)
        turn = facing(kinds[k], here[k], corners[i], points, normal[i]) * sense[k]
        turn = np.arccos(min(1.0, max(-1.0, turn))) / lean[i]
        out[q] = total / 3.0 + min(turn * turn, 3.0 * each * each)
    return out
