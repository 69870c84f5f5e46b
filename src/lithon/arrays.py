"""Array types used in signatures; shapes are said in the docstrings."""

from __future__ import annotations

import functools
from typing import Any, TypeAlias

import numpy as np
import numpy.typing as npt

Floats: TypeAlias = npt.NDArray[np.float64]
Ints: TypeAlias = npt.NDArray[np.int64]
Bools: TypeAlias = npt.NDArray[np.bool_]

#: Makes a number that starts a count in compiled code; for a plain 0 or 1 what is called would be compiled once more.
whole: Any = np.int64


def frozen(values: npt.ArrayLike) -> Floats:
    """A read-only float copy, so that an immutable value cannot be changed through its array."""
    out = np.array(values, dtype=np.float64)
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


def unit(vector: npt.ArrayLike) -> Floats:
    """The vector(s) scaled to length one along the last axis; zero stays zero."""
    v = np.asarray(vector, dtype=np.float64)
    length = np.linalg.norm(v, axis=-1, keepdims=True)
    return np.asarray(v / np.where(length > 0.0, length, 1.0))
