"""The triangles of one face, as all that makes them gives them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints


@dataclass(frozen=True, slots=True, eq=False)
class FaceMesh:
    """Triangles of one face: points (n,3), corners (m,3) counter-clockwise about the face's normal,
    keys (n,) identities of points on edges (negative for points inside the face). `trouble` says what is
    wrong with its outline, where it can be drawn nevertheless; `tight`: it is known to end along the face's edges as
    they are walked."""

    points: Floats
    triangles: Ints
    keys: Ints
    trouble: str = ""
    tight: bool = False


def merged(points: Floats, keys: Ints, triangles: Ints) -> tuple[Floats, Ints, Ints]:
    """Join nodes of one key: the copies on a cut, and along edges."""
    target = np.arange(len(keys))
    named = np.flatnonzero(keys >= 0)
    _, first, again = np.unique(keys[named], return_index=True, return_inverse=True)
    target[named] = named[first][again]
    kept, inverse = np.unique(target, return_inverse=True)
    return points[kept], keys[kept], inverse[triangles]
