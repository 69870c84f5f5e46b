"""The quality of tetrahedra, one measure at a time, straight from the definitions: what compiled code is held to."""

import numpy as np

from lithon.arrays import Floats, Ints, cross_product
from lithon.mesh.quality import tet_volumes

_EDGES = np.array([[0, 1], [0, 2], [0, 3], [1, 2], [1, 3], [2, 3]])
#: The two corners off each edge, in an order that makes the dihedral angle positive.
_OFF = np.array([[2, 3], [3, 1], [1, 2], [0, 3], [2, 0], [0, 1]])


def tet_dihedral_degrees(points: Floats, tets: Ints) -> Floats:
    """The six dihedral angles (m,6)."""
    v = points[tets[:, :4]]
    out = np.empty((len(tets), 6))
    for k, ((a, b), (c, d)) in enumerate(zip(_EDGES, _OFF, strict=True)):
        e = v[:, b] - v[:, a]
        n1, n2 = cross_product(e, v[:, c] - v[:, a]), cross_product(e, v[:, d] - v[:, a])
        cosine = (n1 * n2).sum(axis=1) / np.maximum(np.linalg.norm(n1, axis=1) * np.linalg.norm(n2, axis=1), 1e-300)
        out[:, k] = np.degrees(np.arccos(np.clip(cosine, -1.0, 1.0)))
    return out


def tet_scaled_jacobian(points: Floats, tets: Ints) -> Floats:
    """Scaled Jacobian (m,): 1 for the regular tetrahedron (Knupp et al., Verdict reference manual)."""
    v = points[tets[:, :4]]
    length = np.stack([np.linalg.norm(v[:, b] - v[:, a], axis=1) for a, b in _EDGES], axis=1)
    jacobian = 6.0 * tet_volumes(points, tets)
    l01, l02, l03, l12, l13, l23 = length.T
    corner = np.stack([l01 * l02 * l03, l01 * l12 * l13, l02 * l12 * l23, l03 * l13 * l23], axis=1).max(axis=1)
    return np.asarray(jacobian * np.sqrt(2.0) / np.maximum(np.maximum(corner, np.abs(jacobian)), 1e-300))


def tet_edge_ratio(points: Floats, tets: Ints) -> Floats:
    """Longest over shortest edge (m,)."""
    v = points[tets[:, :4]]
    length = np.stack([np.linalg.norm(v[:, b] - v[:, a], axis=1) for a, b in _EDGES], axis=1)
    return np.asarray(length.max(axis=1) / length.min(axis=1))
