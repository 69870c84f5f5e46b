"""Element quality by the trade's measures, vectorised. Angles in degrees where the name says so."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, cross_product
from lithon.mesh.hexes import hex_dihedral_degrees, hex_edge_ratio, hex_scaled_jacobian
from lithon.threads import shared_out


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


@njit(cache=True, nogil=True)
def _tet_measures(x: Floats, tets: Ints) -> tuple[Floats, Floats, Floats, Floats]:
    """Of each element (m,): its scaled Jacobian, 1 for the regular one (Knupp et al., Verdict reference manual),
    the least and the greatest of its dihedral angles in degrees, its longest over its shortest edge."""
    m = len(tets)
    jacobian, low, high, ratio = np.empty(m), np.empty(m), np.empty(m), np.empty(m)
    for t in range(m):
        a, b, c, d = tets[t, 0], tets[t, 1], tets[t, 2], tets[t, 3]
        ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        wx, wy, wz = x[d, 0] - x[a, 0], x[d, 1] - x[a, 1], x[d, 2] - x[a, 2]
        dx, dy, dz = uy * vz - uz * vy, uz * vx - ux * vz, ux * vy - uy * vx
        cx, cy, cz = wy * uz - wz * uy, wz * ux - wx * uz, wx * uy - wy * ux
        bx, by, bz = vy * wz - vz * wy, vz * wx - vx * wz, vx * wy - vy * wx
        ax, ay, az = -(dx + cx + bx), -(dy + cy + by), -(dz + cz + bz)
        na, nb = np.sqrt(ax * ax + ay * ay + az * az), np.sqrt(bx * bx + by * by + bz * bz)
        nc, nd = np.sqrt(cx * cx + cy * cy + cz * cz), np.sqrt(dx * dx + dy * dy + dz * dz)
        # All four normals look outwards, or all inwards.
        ab = -(ax * bx + ay * by + az * bz) / max(na * nb, 1e-300)
        ac = -(ax * cx + ay * cy + az * cz) / max(na * nc, 1e-300)
        ad = -(ax * dx + ay * dy + az * dz) / max(na * nd, 1e-300)
        bc = -(bx * cx + by * cy + bz * cz) / max(nb * nc, 1e-300)
        bd = -(bx * dx + by * dy + bz * dz) / max(nb * nd, 1e-300)
        cd = -(cx * dx + cy * dy + cz * dz) / max(nc * nd, 1e-300)
        low[t] = np.degrees(np.arccos(min(1.0, max(ab, ac, ad, bc, bd, cd))))
        high[t] = np.degrees(np.arccos(max(-1.0, min(ab, ac, ad, bc, bd, cd))))
        u, v, w = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, wx * wx + wy * wy + wz * wz
        p = (vx - ux) ** 2 + (vy - uy) ** 2 + (vz - uz) ** 2
        r = (wx - ux) ** 2 + (wy - uy) ** 2 + (wz - uz) ** 2
        s = (wx - vx) ** 2 + (wy - vy) ** 2 + (wz - vz) ** 2
        six = dx * wx + dy * wy + dz * wz
        longest = np.sqrt(max(max(u * v * w, u * p * r), max(v * p * s, w * r * s)))
        jacobian[t] = six * np.sqrt(2.0) / max(longest, abs(six), 1e-300)
        ratio[t] = np.sqrt(max(u, v, w, p, r, s) / max(min(u, v, w, p, r, s), 1e-300))
    return jacobian, low, high, ratio


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
        x = np.ascontiguousarray(points, dtype=float)
        rows = np.ascontiguousarray(tets[:, :4], dtype=np.int64)
        return Quality(*shared_out(lambda s: _tet_measures(x, rows[s]), len(rows)))

    def worst(self, n: int) -> Ints:
        """The n elements with the smallest angles, worst first."""
        return np.asarray(np.argsort(self.smallest_angle, kind="stable")[:n], dtype=np.int64)
