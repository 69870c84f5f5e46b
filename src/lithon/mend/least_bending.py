"""The spline surface of least bending near points: its control net by least squares.

By the normal equations, whose matrix is a narrow band that is summed up point by point, and again for what is left
(Golub & Van Loan, *Matrix Computations*, 5.3.8): what they lose by being squared comes back.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass
from functools import lru_cache

import numpy as np
import scipy
from numba import njit

from lithon.arrays import Floats, Ints, frozen, gauss
from lithon.errors import Refusal
from lithon.geometry.spline_kernels import basis
from lithon.mend.patch import DEGREE, spline_values, uniform_knots

#: Weight of bending beside that of the points.
_BEND = 1e-5
#: So many places in each span, each way, at which it is asked how a surface goes on beyond its points.
_PLACES = 2
#: How often what is left of the equations is solved for.
_AGAIN = 4


@dataclass(frozen=True, slots=True, eq=False)
class Bending:
    """The thin-plate energy of a net of n by n control points: the products (3,n,n) of the functions' derivatives of
    each order, how much of each pair of them counts (3,), a trace that keeps it definite, and how long the unit
    square's sides are."""

    products: Floats
    shares: Floats
    trace: float
    sides: tuple[float, float]

    @staticmethod
    def of(spans: int, sides: Floats) -> Bending:
        """Of so many spans a side, where the unit square's sides are so long (2,)."""
        products = _products(spans)
        a, b = np.maximum(sides, 1e-3)
        shares = np.array([a / b**3, 2.0 / (a * b), b / a**3])
        n = len(products[0])
        traces = np.trace(products, axis1=1, axis2=2)
        whole = float(shares @ (traces * traces[::-1]))
        return Bending(products, shares, 1e-12 * whole / n**2, (float(a), float(b)))

    def toarray(self) -> Floats:
        """All of it (n*n,n*n)."""
        out = sum(c * np.kron(a, b) for c, a, b in zip(self.shares, self.products, self.products[::-1], strict=True))
        return np.asarray(out + self.trace * np.eye(len(self.products[0]) ** 2))

    def times(self, net: Floats) -> Floats:
        """What it gives for a net (n*n,3)."""
        n = len(self.products[0])
        x = net.reshape(n, n, -1)
        out = self.trace * x
        for c, a, b in zip(self.shares, self.products, self.products[::-1], strict=True):
            out = out + c * np.tensordot(a, b @ x, 1)
        return np.asarray(out.reshape(n * n, -1))


@lru_cache(maxsize=32)
def _products(spans: int) -> Floats:
    nodes, share = gauss(DEGREE + 1)
    t = (np.arange(spans)[:, None] + 0.5 + 0.5 * nodes).ravel() / spans
    w = np.tile(0.5 * share / spans, spans)
    values = (spline_values(uniform_knots(spans), t, order) for order in range(3))
    return frozen([(b.T * w) @ b for b in values])


def spots(spans: int) -> Floats:
    """The parameters (k,2) at which it is asked whether they are beyond what is around the points."""
    once = (np.arange(_PLACES * spans) + 0.5) / (_PLACES * spans)
    return np.stack(np.meshgrid(once, once), axis=-1).reshape(-1, 2)


def control_net(
    knots: Floats, parts: Sequence[tuple[Floats, Floats, float]], bending: Bending, beyond: Floats | None = None,
    calm: float = 0.0,
) -> Floats:  # fmt: skip
    """Control points (n,n,3): least squares of bending and of parts, each parameters (k,2), points (k,3) and weight.
    beyond (k,2): those of the `spots` that are beyond what is around the points, where some that reach in there a
    little would throw it about; how much it counts (calm) that it goes on there as it is. Raises Refusal where the
    equations are singular."""
    n = len(knots) - DEGREE - 1
    weight = np.concatenate([np.full(len(uv), w) for uv, _, w in parts])
    right = np.concatenate([points for _, points, _ in parts])
    first, share = _shares(knots, DEGREE, np.concatenate([uv for uv, _, _ in parts]))
    if beyond is not None and len(beyond):
        more, counts = _going_on(knots, beyond, bending)
        first, share = (np.concatenate(each) for each in zip((first, share), *more, strict=True))
        weight = np.concatenate([weight, np.repeat(calm * counts, len(beyond))])
        right = np.concatenate([right, np.zeros((len(counts) * len(beyond), 3))])
    band = _band(first, share, weight, n, bending.products, bending.shares * _BEND**2, bending.trace * _BEND**2)
    try:
        factor = scipy.linalg.cholesky_banded(band.T, lower=True, overwrite_ab=True, check_finite=False)
    except np.linalg.LinAlgError:
        raise Refusal("no free-form face is held by its corners", remedy="part the patch, or keep the facets") from None
    net = np.zeros((n * n, 3))
    for _ in range(_AGAIN):
        rest = _rest(first, share, weight, n, right, net) - _BEND**2 * bending.times(net)
        net += scipy.linalg.cho_solve_banded((factor, True), rest, check_finite=False)
    return net.reshape(n, n, 3)


def _going_on(knots: Floats, uv: Floats, bending: Bending) -> tuple[list[tuple[Ints, Floats]], Floats]:
    """As equations that the third derivatives at some places (k,2) are none, in each of their (4,) mixed orders: the
    first control points (k,2) and shares (k,2,degree+1) of each order, and its weight."""
    first, _ = _shares(knots, DEGREE, uv)
    spans = len(knots) - 2 * DEGREE - 1
    columns = first[:, :, None] + np.arange(DEGREE + 1)
    rows, counts = [], []
    a, b = bending.sides
    for k in range(4):
        each = [spline_values(knots, uv[:, way], order) for way, order in ((0, k), (1, 3 - k))]
        share = np.stack([np.take_along_axis(x, columns[:, way], axis=1) for way, x in enumerate(each)], axis=1)
        rows.append((first, share))
        counts.append(math.comb(3, k) * a ** (1 - 2 * k) * b ** (1 - 2 * (3 - k)))
    return rows, np.sqrt(np.array(counts)) / (_PLACES * spans)


@njit(cache=True, nogil=True)
def _shares(knots: Floats, degree: int, uv: Floats) -> tuple[Ints, Floats]:
    """The first control points (k,2) each way that have a share at parameters (k,2), and the shares (k,2,degree+1)."""
    first, share = np.empty((len(uv), 2), dtype=np.int64), np.empty((len(uv), 2, degree + 1))
    work = np.empty((7, degree + 1))
    for k in range(len(uv)):
        for way in range(2):
            first[k, way] = basis(knots, degree, min(max(uv[k, way], 0.0), 1.0), work)
            share[k, way] = work[0]
    return first, share


@njit(cache=True, nogil=True)
def _band(first: Ints, share: Floats, weight: Floats, n: int, products: Floats, counts: Floats, trace: float) -> Floats:
    """The lower band of the equations' matrix, a row (of columns from the diagonal on) for each unknown."""
    m = share.shape[2]
    wide = (m - 1) * (n + 1) + 1
    band = np.zeros((n * n, wide))
    for a in range(n):
        for c in range(a, min(a + m, n)):
            for b in range(n):
                for d in range(b if c == a else max(b - m + 1, 0), min(b + m, n)):
                    value = 0.0
                    for k in range(3):
                        value += counts[k] * products[k, a, c] * products[2 - k, b, d]
                    band[a * n + b, (c - a) * n + d - b] = value
    for k in range(n * n):
        band[k, 0] += trace
    column, each = np.empty(m * m, dtype=np.int64), np.empty(m * m)
    for k in range(len(weight)):
        for i in range(m):
            for j in range(m):
                column[i * m + j] = (first[k, 0] + i) * n + first[k, 1] + j
                each[i * m + j] = weight[k] * share[k, 0, i] * share[k, 1, j]
        for p in range(m * m):
            row, x = column[p], each[p]
            for q in range(p, m * m):
                band[row, column[q] - row] += x * each[q]
    return band


@njit(cache=True, nogil=True)
def _rest(first: Ints, share: Floats, weight: Floats, n: int, right: Floats, net: Floats) -> Floats:
    """What points leave of the equations' right side (n*n,3) where the net is this."""
    m = share.shape[2]
    out = np.zeros((n * n, 3))
    for k in range(len(weight)):
        x, y, z = right[k, 0], right[k, 1], right[k, 2]
        for i in range(m):
            row = (first[k, 0] + i) * n + first[k, 1]
            for j in range(m):
                s = share[k, 0, i] * share[k, 1, j]
                x -= s * net[row + j, 0]
                y -= s * net[row + j, 1]
                z -= s * net[row + j, 2]
        for i in range(m):
            row = (first[k, 0] + i) * n + first[k, 1]
            for j in range(m):
                s = weight[k] ** 2 * share[k, 0, i] * share[k, 1, j]
                out[row + j, 0] += s * x
                out[row + j, 1] += s * y
                out[row + j, 2] += s * z
    return out
