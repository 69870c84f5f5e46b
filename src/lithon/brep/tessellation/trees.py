"""The tree of boxes over a body's triangles, and what lies within it."""

from __future__ import annotations

import functools

import numpy as np

from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.copies import copy_of
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Body
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.columns import windings
from lithon.remembered import Remembered

_trees = Remembered[Body, BoxTree]("brep/tessellation/trees:trees")
#: Directions that no model is built along.
_ASKEW = np.array([[0.57321, 0.31179, 0.75778], [-0.41873, 0.83321, 0.36114], [0.21317, -0.68911, 0.69259]])


def tree_of(body: Body) -> BoxTree:
    """Over the triangles of `body_mesh`; cached, of copies the latest few."""
    if copy_of(body) is not None:
        return _tree_lately(body)
    return _trees.of(body, _made)


def _made(body: Body) -> BoxTree:
    points, triangles, _ = body_mesh(body)
    return BoxTree.of(points, triangles)


@functools.lru_cache(maxsize=16)
def _tree_lately(body: Body) -> BoxTree:
    return _made(body)


def triangle_normals(points: Floats, triangles: Ints) -> Floats:
    """Unit normals (m,3)."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    n = cross_product(b - a, c - a)
    return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300))


def inside(body: Body, points: Floats) -> Bools:
    """Whether points (n,3) lie within a closed body's triangles: two of three rays must say so."""
    p, triangles, _ = body_mesh(body)
    return inside_triangles(tree_of(body), triangle_normals(p, triangles), points)


def inside_triangles(tree: BoxTree, normals: Floats, points: Floats) -> Bools:
    """Whether points (n,3) lie within closed triangles that look along normals (m,3): two of three rays must say so."""
    votes = np.zeros(len(points), dtype=np.int64)
    for way in _ASKEW:
        row, _ = tree.first_hits(points, np.broadcast_to(way, points.shape), 0.0)
        votes += (row >= 0) & (normals[np.maximum(row, 0)] @ way > 0.0)
    return np.asarray(votes >= 2)


def inside_lattice(body: Body, points: Floats, step: float) -> Bools:
    """As `inside`, for points (n,3) of a lattice along the axes, `step` apart: lines along its two longer sides tell,
    and rays where these do not agree."""
    if not len(points):
        return np.zeros(0, dtype=bool)
    one, two = np.argsort(-np.ptp(points, axis=0))[:2].tolist()
    out = windings(tree_of(body), points, one, step) > 0
    unsure = np.flatnonzero(out != (windings(tree_of(body), points, two, step) > 0))
    out[unsure] = inside(body, points[unsure])
    return np.asarray(out)
