"""Element quality by the trade's measures, vectorised. Angles in degrees where the name says so."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints, cross_product
from lithon.mesh.hexes import hex_dihedral_degrees, hex_edge_ratio, hex_scaled_jacobian

_EDGES = np.array([[0, 1], [0, 2], [0, 3], [1, 2], [1, 3], [2, 3]])
#: The two corners off each edge, in an order that makes the dihedral angle positive.
_OFF = np.array([[2, 3], [3, 1], [1, 2], [0, 3], [2, 0], [0, 1]])


def tet_volumes(points: Floats, tets: Ints) -> Floats:
    """Signed volumes (m,)."""
    v = points[tets[:, :4]]
    return np.asarray(
        np.einsum("ij,ij->i", v[:, 3] - v[:, 0], cross_product(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])) / 6.0
    )


def flat_areas(points: Floats, cells: Ints) -> Floats:
    """Areas (m,) of triangles (m,3) or quads (m,4); of bent quads the mean of both ways to part them."""
    v = points[cells]
    if cells.shape[1] == 3:
        return np.asarray(0.5 * np.linalg.norm(cross_product(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1))
    out = np.zeros(len(cells))
    for a, b, c in ((0, 1, 2), (0, 2, 3), (0, 1, 3), (1, 2, 3)):
        out += 0.25 * np.linalg.norm(cross_product(v[:, b] - v[:, a], v[:, c] - v[:, a]), axis=1)
    return out


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


@dataclass(frozen=True, slots=True)
class Quality:
    """Per element (m,): scaled Jacobian, smallest and largest angle in degrees (between sides; of flat elements at
    corners), edge ratio."""

    scaled_jacobian: Floats
    smallest_angle: Floats
    largest_angle: Floats
    edge_ratio: Floats

    @staticmethod
    def of_flat(points: Floats, cells: Ints) -> Quality:
        """Of triangles (m,3) or quads (m,4): their angles are those at the corners.

        The scaled Jacobian is the least sine at a corner, of quads signed by the way they turn, of triangles over that
        of the equilateral one."""
        v = points[cells]
        n = cells.shape[1]
        ahead = np.roll(v, -1, axis=1) - v
        length = np.linalg.norm(ahead, axis=2)
        unit = ahead / np.maximum(length, 1e-300)[:, :, None]
        back = -np.roll(unit, 1, axis=1)
        cross = cross_product(unit, back)
        total = cross.sum(axis=1)
        normal = total / np.maximum(np.linalg.norm(total, axis=1), 1e-300)[:, None]
        sine = np.einsum("mkc,mc->mk", cross, normal)
        angle = np.degrees(np.arctan2(sine, (unit * back).sum(axis=2)))
        angle = np.where(angle < 0.0, angle + 360.0, angle)
        best = np.sqrt(3.0) / 2.0 if n == 3 else 1.0
        ratio = length.max(axis=1) / np.maximum(length.min(axis=1), 1e-300)
        return Quality(sine.min(axis=1) / best, angle.min(axis=1), angle.max(axis=1), ratio)

    @staticmethod
    def of(points: Floats, tets: Ints) -> Quality:
        if tets.shape[1] in (8, 20):
            angles = hex_dihedral_degrees(points, tets)
            jacobian, ratio = hex_scaled_jacobian(points, tets), hex_edge_ratio(points, tets)
            return Quality(jacobian, angles.min(axis=1), angles.max(axis=1), ratio)
        angles = tet_dihedral_degrees(points, tets)
        return Quality(
            tet_scaled_jacobian(points, tets), angles.min(axis=1), angles.max(axis=1), tet_edge_ratio(points, tets)
        )

    def worst(self, n: int) -> Ints:
        """The n elements with the smallest angles, worst first."""
        return np.asarray(np.argsort(self.smallest_angle, kind="stable")[:n], dtype=np.int64)
