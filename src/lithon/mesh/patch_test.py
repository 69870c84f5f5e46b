"""The patch test: a linear displacement given on the skin of a mesh must come out everywhere inside.

Linear elasticity on isoparametric elements of first and second order, assembled here and solved by conjugate gradients.
A mesh that passes is joined up, its elements are the right way round and its nodes numbered as they should be (Irons &
Razzaque 1972; Zienkiewicz, Taylor & Zhu, *The Finite Element Method*).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, gauss
from lithon.errors import Refusal
from lithon.mesh.mesh import Mesh
from lithon.mesh.shapes import TET

#: Poisson's ratio, and the displacement's gradient, that no element is built along.
_NU = 0.3
_FIELD = 1e-3 * np.array([[1.3, -0.4, 0.7], [0.2, -0.9, 0.5], [-0.6, 0.8, 1.1]])
#: Corners of an element in its own coordinates, as VTK numbers them; sides of tetrahedra and hexahedra with mid-nodes.
_HEX = np.array([[-1, -1, -1], [1, -1, -1], [1, 1, -1], [-1, 1, -1], [-1, -1, 1], [1, -1, 1], [1, 1, 1], [-1, 1, 1]],
                dtype=float)  # fmt: skip
_HEX_MID = np.array([[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [6, 7], [7, 4], [0, 4], [1, 5], [2, 6], [3, 7]])
_TET_MID = np.array([[0, 1], [1, 2], [2, 0], [0, 3], [1, 3], [2, 3]])


@dataclass(frozen=True, slots=True)
class PatchTest:
    """error: how far the displacement inside is off, as a share of the largest; nodes: how many were free; steps: of
    the solver."""

    error: float
    nodes: int
    steps: int

    @property
    def passed(self) -> bool:
        return self.error < 1e-8


def patch_test(mesh: Mesh) -> PatchTest:
    """Solve it on a mesh. Raises Refusal where an element is folded or the solver does not come to an end."""
    n = len(mesh.points)
    if mesh.shape.flat:
        raise Refusal("the patch test is for solid elements", remedy="a mesh of tetrahedra or hexahedra")
    matrix = stiffness(mesh.points, mesh.elements, mesh.shape is TET)
    want = (mesh.points - mesh.points.mean(axis=0)) @ _FIELD.T
    free = np.setdiff1d(np.unique(mesh.elements), _skin(mesh))
    if not len(free):
        return PatchTest(0.0, 0, 0)
    dofs = (3 * free[:, None] + np.arange(3)).ravel()
    given = np.ones(3 * n, dtype=bool)
    given[dofs] = False
    known = np.flatnonzero(given)
    rows = matrix[dofs]
    right = -rows[:, known] @ want.ravel()[known]
    inner = rows[:, dofs]
    scale = scipy.sparse.diags_array(1.0 / inner.diagonal())
    steps = 0

    def count(_: Floats) -> None:
        nonlocal steps
        steps += 1

    found, end = scipy.sparse.linalg.cg(inner, right, rtol=1e-11, maxiter=20000, M=scale, callback=count)
    if end:
        raise Refusal("the patch test does not come to an end", remedy="look at the worst elements")
    error = float(np.abs(found - want.ravel()[dofs]).max() / np.abs(want).max())
    return PatchTest(error, len(free), steps)


def _skin(mesh: Mesh) -> Ints:
    """The nodes on the boundary of all bodies together, mid-nodes too."""
    sides = _sides(mesh.elements, mesh.shape is TET)
    key = np.sort(sides[:, : mesh.shape.sides.shape[1]], axis=1)
    _, back, count = np.unique(key, axis=0, return_inverse=True, return_counts=True)
    return np.unique(sides[count[back.reshape(-1)] == 1])


def _sides(elements: Ints, tetrahedral: bool) -> Ints:
    """The sides (k,·) of elements, corners first, then mid-nodes."""
    if tetrahedral:
        corners = np.array([[0, 1, 2], [0, 1, 3], [1, 2, 3], [0, 2, 3]])
        mids = np.array([[4, 5, 6], [4, 8, 7], [5, 9, 8], [6, 9, 7]])
        second = elements.shape[1] == 10
    else:
        corners = np.array([[0, 1, 2, 3], [4, 5, 6, 7], [0, 1, 5, 4], [1, 2, 6, 5], [2, 3, 7, 6], [3, 0, 4, 7]])
        mids = np.array([[8, 9, 10, 11], [12, 13, 14, 15], [8, 17, 12, 16], [9, 18, 13, 17], [10, 19, 14, 18],
                         [11, 16, 15, 19]])  # fmt: skip
        second = elements.shape[1] == 20
    table = np.concatenate([corners, mids], axis=1) if second else corners
    return np.concatenate([elements[:, row] for row in table])


def stiffness(points: Floats, elements: Ints, tetrahedral: bool) -> scipy.sparse.csr_array:
    """The matrix (3n,3n) for a unit Young's modulus. Raises Refusal where an element is folded."""
    lam, mu = _NU / ((1 + _NU) * (1 - 2 * _NU)), 0.5 / (1 + _NU)
    m, k = elements.shape
    local = np.zeros((m, 3 * k, 3 * k))
    x = points[elements]
    for at, weight in _quadrature(k):
        slope = _slopes(at, k)  # (k,3)
        jacobian = np.einsum("mki,kj->mij", x, slope)
        det = np.linalg.det(jacobian)
        if det.min() <= 0.0:
            raise Refusal("an element is folded", where=str(np.round(x[int(det.argmin())].mean(axis=0), 3)),
                          remedy="a smaller element size")  # fmt: skip
        g = np.einsum("kj,mji->mki", slope, np.linalg.inv(jacobian))
        w = weight * det
        # lambda div u div v + 2 mu eps : eps
        local += np.einsum("m,mai,mbj->maibj", lam * w, g, g).reshape(m, 3 * k, 3 * k)
        local += np.einsum("m,maj,mbi->maibj", mu * w, g, g).reshape(m, 3 * k, 3 * k)
        dot = np.einsum("m,mac,mbc->mab", mu * w, g, g)
        local += np.einsum("mab,ij->maibj", dot, np.eye(3)).reshape(m, 3 * k, 3 * k)
    dofs = (3 * elements[:, :, None] + np.arange(3)).reshape(m, 3 * k)
    rows, columns = np.repeat(dofs, 3 * k, axis=1).ravel(), np.tile(dofs, (1, 3 * k)).ravel()
    size = 3 * len(points)
    return scipy.sparse.csr_array((local.ravel(), (rows, columns)), shape=(size, size))


def _quadrature(k: int) -> list[tuple[Floats, float]]:
    """Points and weights for elements of k nodes."""
    if k == 4:
        return [(np.full(3, 0.25), 1.0 / 6.0)]
    if k == 10:  # sides that bow want more points: a cube drawn together into a tetrahedron (Stroud 1971)
        nodes, weights = gauss(4)
        u, w = 0.5 * (nodes + 1.0), 0.5 * weights
        out = []
        for i, a in enumerate(u):
            for j, b in enumerate(u):
                for n, c in enumerate(u):
                    at = np.array([a, (1 - a) * b, (1 - a) * (1 - b) * c])
                    out.append((at, float(w[i] * w[j] * w[n] * (1 - a) ** 2 * (1 - b))))
        return out
    nodes, weights = gauss(2 if k == 8 else 3)
    out = []
    for i, u in enumerate(nodes):
        for j, v in enumerate(nodes):
            for n, w in enumerate(nodes):
                out.append((np.array([u, v, w]), float(weights[i] * weights[j] * weights[n])))
    return out


def _slopes(at: Floats, k: int) -> Floats:
    """Derivatives (k,3) of the shape functions at a point (3,) in the element's own coordinates."""
    if k in (4, 10):
        corner = np.vstack([-np.ones(3), np.eye(3)])
        if k == 4:
            return corner
        bary = np.array([1.0 - at.sum(), *at])
        ends = (4.0 * bary - 1.0)[:, None] * corner
        i, j = _TET_MID.T
        return np.vstack([ends, 4.0 * (bary[i, None] * corner[j] + bary[j, None] * corner[i])])
    one = 1.0 + _HEX * at  # (8,3)
    if k == 8:
        return np.asarray(
            np.stack([_HEX[:, a] * one[:, (a + 1) % 3] * one[:, (a + 2) % 3] for a in range(3)], axis=1) / 8
        )
    reach = (_HEX * at).sum(axis=1) - 2.0
    out = np.empty((20, 3))
    for a in range(3):
        b, c = (a + 1) % 3, (a + 2) % 3
        out[:8, a] = _HEX[:, a] * one[:, b] * one[:, c] * (reach + one[:, a]) / 8.0
    for row, (p, q) in enumerate(_HEX_MID.tolist()):
        middle = 0.5 * (_HEX[p] + _HEX[q])
        along = int(np.flatnonzero(middle == 0.0)[0])
        b, c = (along + 1) % 3, (along + 2) % 3
        fb, fc = 1.0 + middle[b] * at[b], 1.0 + middle[c] * at[c]
        bow = 1.0 - at[along] ** 2
        out[8 + row, along] = -2.0 * at[along] * fb * fc / 4.0
        out[8 + row, b] = bow * middle[b] * fc / 4.0
        out[8 + row, c] = bow * middle[c] * fb / 4.0
    return out
