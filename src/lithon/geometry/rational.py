"""Curves as rational splines, joined end to end and brought to common knots. All of it is exact."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy

from lithon.arrays import Floats, frozen
from lithon.geometry.curves import Curve, Ellipse, Line
from lithon.geometry.splines import BSplineCurve

Part = tuple[Curve, float, float, bool]

#: Knots closer than this share of the whole are one.
_SAME = 1e-9


def rational(curve: Curve, t0: float, t1: float) -> BSplineCurve:
    """A stretch of a curve from t0 to t1 as a spline over 0..1. Lines and splines keep their parameter, an arc of a
    conic is at its ends and its middle where it was.

    Raises ValueError for curves that are neither.
    """
    if isinstance(curve, Line):
        return BSplineCurve(frozen([0.0, 0.0, 1.0, 1.0]), 1, frozen(curve.point(np.array([t0, t1]))))
    if isinstance(curve, Ellipse):
        return _arcs(curve, t0, t1)
    if isinstance(curve, BSplineCurve):
        return _stretch(curve, t0, t1)
    raise ValueError(f"a {curve.kind} cannot be joined with others")


def turned(curve: BSplineCurve) -> BSplineCurve:
    """The same curve walked back."""
    weights = None if curve.weights is None else frozen(curve.weights[::-1])
    knots = frozen(curve.knots[0] + curve.knots[-1] - curve.knots[::-1])
    return BSplineCurve(knots, curve.degree, frozen(curve.control[::-1]), weights)


def joined(parts: Sequence[Part], tolerance: float) -> BSplineCurve:
    """One spline over 0..1 through stretches (curve, t0, t1, walked from t0 to t1) that follow each other; each has a
    share of the parameter by its length.

    Raises ValueError where they do not meet within the tolerance, or one is no line, conic or spline.
    """
    curves = [rational(curve, t0, t1) for curve, t0, t1, _ in parts]
    curves = [c if forward else turned(c) for c, (*_, forward) in zip(curves, parts, strict=True)]
    degree = max(c.degree for c in curves)
    raised = [refined(c, degree, _multiplicities(c, degree)) for c in curves]
    lengths = np.array([max(c.length(0.0, 1.0), 1e-12) for c in curves])
    stops = np.concatenate([[0.0], np.cumsum(lengths)]) / lengths.sum()
    net, knots = [_net(raised[0])], [raised[0].knots[: -degree - 1] * stops[1]]
    for k, one in enumerate(raised[1:], start=1):
        own = _net(one)
        if float(np.linalg.norm(one.control[0] - raised[k - 1].control[-1])) > tolerance:
            raise ValueError("the parts of a curve do not follow each other")
        # Homogeneous ends meet only when their weights do.
        net.append((own * (net[-1][-1, 3] / own[0, 3]))[1:])
        knots.append(stops[k] + one.knots[1 : -degree - 1] * (stops[k + 1] - stops[k]))
    return _spline(np.concatenate([*knots, np.ones(degree + 1)]), degree, np.concatenate(net))


def common(a: BSplineCurve, b: BSplineCurve) -> tuple[BSplineCurve, BSplineCurve]:
    """Two splines over 0..1 with one degree and one set of knots."""
    degree = max(a.degree, b.degree)
    wanted = _multiplicities(a, degree)
    for value, many in _multiplicities(b, degree).items():
        near = next((v for v in wanted if abs(v - value) < _SAME), value)
        wanted[near] = max(wanted.get(near, 0), many)
    return refined(a, degree, wanted), refined(b, degree, wanted)


def refined(curve: BSplineCurve, degree: int, inner: dict[float, int]) -> BSplineCurve:
    """A spline over 0..1 by another degree and inner knots with their multiplicities, which must hold its own.

    The larger space contains the curve, so that interpolating it at the Greville points gives it back.
    """
    values = [np.full(many, value) for value, many in sorted(inner.items())]
    knots = np.concatenate([np.zeros(degree + 1), *values, np.ones(degree + 1)])
    at = np.array([knots[k + 1 : k + degree + 1].mean() for k in range(len(knots) - degree - 1)])
    old = scipy.interpolate.BSpline(curve.knots, _net(curve), curve.degree)
    return _spline(knots, degree, scipy.interpolate.make_interp_spline(at, old(at), k=degree, t=knots).c)


def _multiplicities(curve: BSplineCurve, degree: int) -> dict[float, int]:
    """The inner knots with the multiplicities that they need at a higher degree."""
    values, many = np.unique(curve.knots[curve.degree + 1 : -curve.degree - 1], return_counts=True)
    return {float(v): int(m) + degree - curve.degree for v, m in zip(values, many, strict=True)}


def _arcs(curve: Ellipse, t0: float, t1: float) -> BSplineCurve:
    """Quadratic pieces of a quarter turn at most."""
    n = max(1, int(np.ceil((t1 - t0) / (0.5 * np.pi) - 1e-9)))
    half = 0.5 * (t1 - t0) / n
    stops = np.linspace(t0, t1, n + 1)
    middle = 0.5 * (stops[:-1] + stops[1:])
    weight = float(np.cos(half))
    control, weights = np.empty((2 * n + 1, 3)), np.ones(2 * n + 1)
    control[::2], weights[1::2] = curve.point(stops), weight
    centre = curve.frame.origin
    control[1::2] = centre + (curve.point(middle) - centre) / weight
    inner = np.repeat(np.arange(1, n) / n, 2)
    knots = np.concatenate([np.zeros(3), inner, np.ones(3)])
    return BSplineCurve(frozen(knots), 2, frozen(control), frozen(weights))


def _stretch(curve: BSplineCurve, t0: float, t1: float) -> BSplineCurve:
    """From t0 to t1 with clamped ends."""
    p = curve.degree
    values, many = np.unique(curve.knots, return_counts=True)
    inside = (values > t0 + _SAME * (t1 - t0)) & (values < t1 - _SAME * (t1 - t0))
    inner = {float((v - t0) / (t1 - t0)): min(int(m), p) for v, m in zip(values[inside], many[inside], strict=True)}
    net = scipy.interpolate.BSpline(curve.knots, _net(curve), p)
    shares = [np.full(m, v) for v, m in sorted(inner.items())]
    knots = np.concatenate([np.zeros(p + 1), *shares, np.ones(p + 1)])
    at = np.array([knots[k + 1 : k + p + 1].mean() for k in range(len(knots) - p - 1)])
    return _spline(knots, p, scipy.interpolate.make_interp_spline(at, net(t0 + at * (t1 - t0)), k=p, t=knots).c)


def _net(curve: BSplineCurve) -> Floats:
    """Homogeneous control points (n,4)."""
    w = np.ones(len(curve.control)) if curve.weights is None else curve.weights
    return np.column_stack([curve.control * w[:, None], w])


def _spline(knots: Floats, degree: int, net: Floats) -> BSplineCurve:
    w = net[:, 3]
    plain = float(np.ptp(w)) <= 1e-13 * float(np.abs(w).max())
    return BSplineCurve(frozen(knots), degree, frozen(net[:, :3] / w[:, None]), None if plain else frozen(w / w[0]))
