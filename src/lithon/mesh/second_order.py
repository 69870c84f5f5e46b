"""Quadratic elements: a node in the middle of every edge, brought onto the true geometry."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.area import clamped, off_edge
from lithon.mesh.hexes import EDGES
from lithon.mesh.mesh import Mesh


def quadratic(mesh: Mesh) -> tuple[Mesh, int]:
    """The mesh with mid-nodes; and how many of them had to stay straight to keep elements valid."""
    n = len(mesh.points)
    mids = mesh.shape.edges
    pairs = np.sort(mesh.corners[:, mids].reshape(-1, 2), axis=1)
    keys, inverse = np.unique(pairs[:, 0] * n + pairs[:, 1], return_inverse=True)
    a, b = keys // n, keys % n
    straight = 0.5 * (mesh.points[a] + mesh.points[b])
    curved = straight.copy()
    around = mesh.triangles.shape[1]
    turn = [[k, (k + 1) % around] for k in range(around)]
    sides = np.sort(mesh.triangles[:, turn].reshape(-1, 2), axis=1)
    side_row = np.searchsorted(keys, sides[:, 0] * n + sides[:, 1])
    side_face = np.repeat(mesh.face, around)
    # Alternating projections settle on both surfaces where an edge of the model lies on two.
    for _ in range(40):
        for k, face in enumerate(mesh.faces):
            rows = np.unique(side_row[side_face == k])
            curved[rows] = face.surface.project(curved[rows])
    if mesh.shape.flat:
        _onto_edges(mesh, a, b, curved)
    elements = np.concatenate([mesh.corners, n + inverse.reshape(-1, len(mids))], axis=1)
    kept = 0
    points = np.concatenate([mesh.points, curved])
    first = elements.shape[1] - len(mids)
    while True:
        valid = _VALID[mesh.shape.short](points, elements)
        bad = elements[~valid][:, first:] - n
        bow = np.linalg.norm(curved - straight, axis=1)[bad]
        # In each element the one that is furthest off its edge: mostly the others can then stay on the surface.
        rows = np.unique(bad[np.arange(len(bad)), bow.argmax(axis=1)][bow.max(axis=1) > 0.0]) if len(bad) else bad
        if not len(rows):
            break
        kept += len(rows)
        curved[rows] = straight[rows]
        points = np.concatenate([mesh.points, curved])
    return replace(mesh, points=points, elements=elements), kept


def _onto_edges(mesh: Mesh, a: Ints, b: Ints, curved: Floats) -> None:
    """Mid-nodes between corners a and b (k,) brought onto the edges of the model that both ends lie on: a free edge
    lies on one surface only."""
    near = 1e-9 * (1.0 + float(np.abs(mesh.points).max()))
    for edge in dict.fromkeys(e for f in mesh.faces for e in f.edges()):
        if edge.curve.kind == "line":
            continue
        on = off_edge(edge, mesh.points) < near
        rows = np.flatnonzero(on[a] & on[b])
        at = edge.curve.point(clamped(edge, curved[rows]))
        bowed = np.linalg.norm(at - curved[rows], axis=1) < 0.5 * np.linalg.norm(
            mesh.points[a[rows]] - mesh.points[b[rows]], axis=1
        )
        curved[rows[bowed]] = at[bowed]


def _valid_flat(points: Floats, elements: Ints) -> Bools:
    """Whether the normal at the corners of the six- or eight-node element stays on its own side."""
    n = elements.shape[1] // 2
    x = points[elements]
    middle = (
        cross_product(x[:, 1] - x[:, 0], x[:, 2] - x[:, 0])
        if n == 3
        else cross_product(x[:, 2] - x[:, 0], x[:, 3] - x[:, 1])
    )
    ok = np.ones(len(elements), dtype=bool)
    for k in range(n):
        after, before = x[:, n + k], x[:, n + (k - 1) % n]
        ahead = 4.0 * after - 3.0 * x[:, k] - x[:, (k + 1) % n]
        back = 4.0 * before - 3.0 * x[:, k] - x[:, (k - 1) % n]
        ok &= (cross_product(ahead, back) * middle).sum(axis=1) > 0.0
    return ok


def _valid_hexes(points: Floats, elements: Ints) -> Bools:
    """Whether the Jacobian of the twenty-node element is positive at its corners and centre."""
    corner = np.array(
        [[-1, -1, -1], [1, -1, -1], [1, 1, -1], [-1, 1, -1], [-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1]]
    )
    node = np.concatenate([corner, 0.5 * (corner[EDGES[:, 0]] + corner[EDGES[:, 1]])]).astype(float)
    x = points[elements]
    ok = np.ones(len(elements), dtype=bool)
    for at in (*corner.astype(float), np.zeros(3)):
        grad = np.empty((20, 3))
        for k, m in enumerate(node):
            u = 1.0 + at * m  # the factors of the serendipity functions (Zienkiewicz & Taylor)
            others = [u[1] * u[2], u[0] * u[2], u[0] * u[1]]
            if k < 8:
                total = float(at @ m)
                for i in range(3):
                    grad[k, i] = 0.125 * m[i] * others[i] * (total - 2.0 + u[i])
            else:
                free = int(np.flatnonzero(m == 0.0)[0])
                for i in range(3):
                    rest = float(np.prod([u[j] for j in range(3) if j not in (i, free)]))
                    bubble = 1.0 - at[free] ** 2
                    grad[k, i] = 0.25 * (-2.0 * at[free] * rest if i == free else m[i] * bubble * rest)
        ok &= np.linalg.det(np.einsum("eni,nj->eij", x, grad)) > 0.0
    return ok


def _valid(points: Floats, elements: Ints) -> Bools:
    """Whether the Jacobian is positive at the ten nodes of each element."""
    nodes = np.array(
        [
            [0, 0, 0],
            [1, 0, 0],
            [0, 1, 0],
            [0, 0, 1],
            [0.5, 0, 0],
            [0.5, 0.5, 0],
            [0, 0.5, 0],
            [0, 0, 0.5],
            [0.5, 0, 0.5],
            [0, 0.5, 0.5],
        ]
    )
    x = points[elements]
    ok = np.ones(len(elements), dtype=bool)
    for r, s, t in nodes:
        u = 1.0 - r - s - t
        grad = np.array([
            [1 - 4 * u, 1 - 4 * u, 1 - 4 * u], [4 * r - 1, 0, 0], [0, 4 * s - 1, 0], [0, 0, 4 * t - 1],
            [4 * (u - r), -4 * r, -4 * r], [4 * s, 4 * r, 0], [-4 * s, 4 * (u - s), -4 * s],
            [-4 * t, -4 * t, 4 * (u - t)], [4 * t, 0, 4 * r], [0, 4 * t, 4 * s],
        ])  # fmt: skip
        jacobian = np.einsum("eni,nj->eij", x, grad)
        ok &= np.linalg.det(jacobian) > 0.0
    return ok


#: Whether elements of second order are right, by their shape.
_VALID = {"tet": _valid, "hex": _valid_hexes, "tri": _valid_flat, "quad": _valid_flat}
