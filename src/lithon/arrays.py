"""Array types used in signatures; shapes are said in the docstrings."""

from __future__ import annotations

import functools
import math
from itertools import pairwise
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]

#: Make a number that starts a count in compiled code, or a flag; for a plain 0 or True what is called would be compiled
#: once more.
whole: Any = np.int64
flag: Any = np.bool_


def frozen(values: npt.ArrayLike) -> Floats:
    """A read-only float copy, so that an immutable value cannot be changed through its array."""
    out = np.array(values, dtype=np.float64)
    out.flags.writeable = False
    return out


def given(values: npt.ArrayLike) -> Floats:
    """Values as compiled code takes them: in order, and read-only whether they are or not, since it is compiled anew
    for arrays that may be written."""
    out = np.ascontiguousarray(values, dtype=np.float64).view()
    out.flags.writeable = False
    return out


@functools.cache
def gauss(n: int) -> tuple[Floats, Floats]:
    """Nodes and weights (n,) of Gauss-Legendre quadrature over -1 to 1."""
    nodes, weights = np.polynomial.legendre.leggauss(n)
    return frozen(nodes), frozen(weights)


def span_by_span(knots: Floats, least: int, whole: int) -> Floats:
    """Values (n,) from the lowest knot to the highest, evenly within each span between two, however short it is: at
    least so many steps in each, and so many in the whole. For what runs evenly within a span, as splines do."""
    k: Floats = np.unique(knots)
    steps = max(least, -(-whole // max(1, len(k) - 1)))
    return np.append((k[:-1, None] + np.diff(k)[:, None] * np.arange(steps) / steps).ravel(), k[-1])


def by_label(label: Ints, n: int) -> tuple[Ints, Ints]:
    """The rows in the order of their labels, and where (n+1,) those of each label 0 to n - 1 begin."""
    order = np.argsort(label, kind="stable")
    return order, np.searchsorted(label[order], np.arange(n + 1))


def rows_of(label: Ints, n: int) -> list[Ints]:
    """The rows with each of the labels 0 to n - 1, in order."""
    order, starts = by_label(label, n)
    return [order[i:j] for i, j in pairwise(starts.tolist())]


def run_along(points: Floats) -> Floats:
    """How far along a polyline (n,d) each of its points is (n,)."""
    return np.append(0.0, np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1)))


def evenly(start: Floats, end: Floats, pieces: Ints) -> Floats:
    """Values from each start (k,) to each end (k,) in as many even pieces (k,), ends and all, one row after the
    other."""
    row = np.repeat(np.arange(len(pieces)), pieces + 1)
    last = np.cumsum(pieces + 1) - 1
    at = np.arange(len(row)) - (last - pieces)[row]
    out: Floats = start[row] + at * ((end - start) / pieces)[row]
    out[last] = end
    return out


def triangle_areas(points: Floats, corners: Ints) -> Floats:
    """The areas (m,) of triangles (m,3) of points (n,3)."""
    a, b, c = (points[corners[:, k]] for k in range(3))
    return np.asarray(0.5 * np.linalg.norm(cross_product(b - a, c - a), axis=1))


def unit(vector: npt.ArrayLike) -> Floats:
    """The vector(s) scaled to length one along the last axis; zero stays zero."""
    v = np.asarray(vector, dtype=np.float64)
    if v.ndim == 1:
        size = math.sqrt(v.dot(v))
        return np.asarray(v / size) if size > 0.0 else v.copy()
    length = np.linalg.norm(v, axis=-1, keepdims=True)
    return np.asarray(v / np.where(length > 0.0, length, 1.0))


def cross_product(a: npt.ArrayLike, b: npt.ArrayLike) -> Floats:
    """Vector products of vectors (...,3): NumPy's own takes ten times as long for few of them."""
    p, q = np.asarray(a, dtype=np.float64), np.asarray(b, dtype=np.float64)
    if p.ndim == q.ndim == 1:
        (x, y, z), (u, v, w) = p.tolist(), q.tolist()
        return np.array((y * w - z * v, z * u - x * w, x * v - y * u))
    out = np.empty(np.broadcast_shapes(p.shape, q.shape))
    for k, (i, j) in enumerate(((1, 2), (2, 0), (0, 1))):
        np.subtract(p[..., i] * q[..., j], p[..., j] * q[..., i], out=out[..., k])
    return out
