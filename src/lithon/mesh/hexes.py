"""Hexahedra by the numbers: sides, volumes, quality. Nodes in VTK's order."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, Ints, cross_product

#: Corners of the six sides, turned outwards.
SIDES = np.array([[0, 3, 2, 1], [4, 5, 6, 7], [0, 1, 5, 4], [1, 2, 6, 5], [2, 3, 7, 6], [3, 0, 4, 7]])
#: Corner pairs of the twelve edges, in the order of the twenty-node element's mid-nodes.
EDGES = np.array([[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [6, 7], [7, 4], [0, 4], [1, 5], [2, 6], [3, 7]])
#: Each corner with the three it is joined to, so that their triple product is positive.
CORNERS = np.array([
    [0, 1, 3, 4], [1, 2, 0, 5], [2, 3, 1, 6], [3, 0, 2, 7], [4, 7, 5, 0], [5, 4, 6, 1], [6, 5, 7, 2], [7, 6, 4, 3],
])  # fmt: skip


def hex_volumes(points: Floats, hexes: Ints) -> Floats:
    """Volumes (m,) enclosed by the six bilinear sides (each as the mean of its two triangulations)."""
    v = points[hexes[:, :8]]
    out = np.zeros(len(hexes))
    for side in SIDES:
        a, b, c, d = (v[:, k] for k in side)
        for p, q, r in ((a, b, c), (a, c, d), (a, b, d), (b, c, d)):
            out += np.einsum("ij,ij->i", p, cross_product(q, r)) / 12.0
    return out


def hex_scaled_jacobian(points: Floats, hexes: Ints) -> Floats:
    """The least over the corners (m,) of the triple product of unit edges; 1 for a cube."""
    v = points[hexes[:, :8]]
    worst = np.full(len(hexes), np.inf)
    for at, *ends in CORNERS:
        e = [v[:, k] - v[:, at] for k in ends]
        e = [x / np.maximum(np.linalg.norm(x, axis=1, keepdims=True), 1e-300) for x in e]
        worst = np.minimum(worst, np.einsum("ij,ij->i", e[0], cross_product(e[1], e[2])))
    return worst


def hex_dihedral_degrees(points: Floats, hexes: Ints) -> Floats:
    """The twelve angles (m,12) between neighbouring sides, measured at both ends of each edge, the
    smaller kept."""
    v = points[hexes[:, :8]]
    out = np.full((len(hexes), 12), 180.0)
    for k, (i, j) in enumerate(EDGES):
        for at, to in ((i, j), (j, i)):
            row = next(c for c in CORNERS if c[0] == at)
            off = [x for x in row[1:] if x != to]
            e = v[:, to] - v[:, at]
            n1, n2 = cross_product(e, v[:, off[0]] - v[:, at]), cross_product(e, v[:, off[1]] - v[:, at])
            size = np.maximum(np.linalg.norm(n1, axis=1) * np.linalg.norm(n2, axis=1), 1e-300)
            angle = np.degrees(np.arccos(np.clip((n1 * n2).sum(axis=1) / size, -1.0, 1.0)))
            out[:, k] = np.minimum(out[:, k], angle)
    return out


def hex_edge_ratio(points: Floats, hexes: Ints) -> Floats:
    """Longest over shortest edge (m,)."""
    v = points[hexes[:, :8]]
    length = np.stack([np.linalg.norm(v[:, b] - v[:, a], axis=1) for a, b in EDGES], axis=1)
    return np.asarray(length.max(axis=1) / length.min(axis=1))
