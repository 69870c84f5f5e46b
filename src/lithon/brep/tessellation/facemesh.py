"""The triangles of one face, as all that makes them gives them."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, given


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


def joined(mesh: FaceMesh, plugs: Sequence[FaceMesh]) -> FaceMesh:
    """The triangles of a face with those of small ones that close some of its loops, by the keys along these."""
    points, keys, triangles = [mesh.points], [mesh.keys], [mesh.triangles]
    base = len(mesh.keys)
    for plug in plugs:
        own = plug.keys[plug.keys >= 0]
        near = np.flatnonzero(
            (mesh.keys >= own.min(initial=np.iinfo(np.int64).max)) & (mesh.keys <= own.max(initial=-1))
        )
        _, mine, theirs = np.intersect1d(plug.keys, mesh.keys[near], return_indices=True)
        new = np.ones(len(plug.keys), dtype=bool)
        new[mine] = False
        row = base + np.cumsum(new) - 1
        row[mine] = near[theirs]
        points.append(plug.points[new])
        keys.append(plug.keys[new])
        triangles.append(row[plug.triangles])
        base += len(points[-1])
    trouble = next((p.trouble for p in (mesh, *plugs) if p.trouble), "")
    return FaceMesh(np.concatenate(points), np.concatenate(triangles), np.concatenate(keys), trouble)


def clipped(mesh: FaceMesh, box: Floats) -> FaceMesh:
    """The triangles that reach into a box (2,3), and their points."""
    rows = mesh.triangles[_reach(given(mesh.points), np.ascontiguousarray(mesh.triangles), given(box))]
    used, place = np.unique(rows, return_inverse=True)
    return FaceMesh(mesh.points[used], place.reshape(-1, 3), mesh.keys[used], mesh.trouble)


@njit(cache=True)
def _reach(points: Floats, triangles: Ints, box: Floats) -> Bools:
    """Whether triangles (m,) are not all beyond one side of a box."""
    out = np.empty(len(triangles), np.bool_)
    for k in range(len(triangles)):
        a, b, c = triangles[k]
        near = True
        for i in range(3):
            near &= max(points[a, i], points[b, i], points[c, i]) >= box[0, i]
            near &= min(points[a, i], points[b, i], points[c, i]) <= box[1, i]
        out[k] = near
    return out
