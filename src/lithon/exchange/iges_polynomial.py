"""Curves and surfaces that IGES gives by the coefficients of polynomials, as splines: types 112 and 114, and the
conics of type 104 that are no ellipses."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.errors import BadFile
from lithon.exchange.iges_records import Record
from lithon.geometry.splines import BSplineCurve, BSplineSurface

_MOST_PIECES = 100_000
#: Bezier points of 1, s, s^2, s^3 over 0..1, one column each.
_BEZIER = np.array([[1, 0, 0, 0], [1, 1 / 3, 0, 0], [1, 2 / 3, 1 / 3, 0], [1, 1, 1, 1]], dtype=float)


def cubic_curve(r: Record, scale: float) -> BSplineCurve:
    """A parametric spline curve (type 112): pieces of cubics in x, y and z. Raises BadFile."""
    many = _pieces(r, 3)
    breaks = _breaks(r, 4, many)
    c = scale * np.array(r.reals(5 + many, 12 * many)).reshape(many, 3, 4)
    powers = np.diff(breaks)[:, None] ** np.arange(4)
    points = np.einsum("kp,npx->nkx", _BEZIER, (c * powers[:, None]).transpose(0, 2, 1))
    control = np.concatenate([points[:, :3].reshape(-1, 3), points[-1, 3:]])
    return BSplineCurve(_knots(breaks), 3, frozen(control))


def cubic_surface(r: Record, scale: float) -> BSplineSurface:
    """A parametric spline surface (type 114): patches of bicubics, the second direction quicker; a row and a column
    of patches may follow that mean nothing. Raises BadFile."""
    m, n = _pieces(r, 2), _pieces(r, 3)
    u, v = _breaks(r, 4, m), _breaks(r, 5 + m, n)
    at = 6 + m + n
    spare = len(r.values) - at >= 48 * (m + 1) * (n + 1)
    rows = n + 1 if spare else n
    c = scale * np.array(r.reals(at, 48 * m * rows)).reshape(m, rows, 3, 4, 4)[:, :n]  # piece, piece, xyz, t, s
    c = c * (np.diff(u)[:, None, None, None, None] ** np.arange(4))
    c = c * (np.diff(v)[None, :, None, None, None] ** np.arange(4)[:, None])
    patch = np.einsum("ks,lt,ijxts->ijklx", _BEZIER, _BEZIER, c)
    net = np.empty((3 * m + 1, 3 * n + 1, 3))
    for i in range(m):
        for j in range(n):
            net[3 * i : 3 * i + 4, 3 * j : 3 * j + 4] = patch[i, j]
    return BSplineSurface(_knots(u), _knots(v), 3, 3, frozen(net))


def conic_arc(quadric: Floats, ends: Floats) -> BSplineCurve:
    """The arc between two points (2,2) of the conic whose form (3,3) is 0 on it, as a rational quadratic.

    Raises BadFile where the points lie on different branches.
    """
    p = np.column_stack([ends, np.ones(2)])
    slopes = p @ quadric  # tangents as lines a x + b y + c = 0
    if abs(np.linalg.det(slopes[:, :2])) < 1e-12 * float(np.prod(np.linalg.norm(slopes[:, :2], axis=1))):
        raise BadFile("a conic's ends have parallel tangents")
    corner = np.linalg.solve(slopes[:, :2], -slopes[:, 2])
    middle = ends.mean(axis=0)
    a, b = np.append(middle, 1.0), np.append(corner - middle, 0.0)
    roots = np.roots([b @ quadric @ b, 2.0 * a @ quadric @ b, a @ quadric @ a])
    found = [float(x.real) for x in roots if abs(x.imag) < 1e-9 and 0.0 < x.real < 1.0]
    if not found:
        raise BadFile("a conic's ends lie on two branches of it")
    u = min(found)
    flat = np.vstack([ends[0], corner, ends[1]])
    knots = frozen([0.0, 0.0, 0.0, 1.0, 1.0, 1.0])
    return BSplineCurve(knots, 2, frozen(np.column_stack([flat, np.zeros(3)])), frozen([1.0, u / (1.0 - u), 1.0]))


def _pieces(r: Record, k: int) -> int:
    many = r.integer(k)
    if not 1 <= many <= _MOST_PIECES:
        raise BadFile(f"entity {r.number} has {many} pieces")
    return many


def _breaks(r: Record, k: int, many: int) -> Floats:
    out = np.array(r.reals(k, many + 1))
    if not (np.diff(out) > 0.0).all():
        raise BadFile(f"the pieces of entity {r.number} do not follow each other")
    return out


def _knots(breaks: Floats) -> Floats:
    """Every break three times, the ends four."""
    return frozen(np.concatenate([breaks[:1], np.repeat(breaks, 3), breaks[-1:]]))
