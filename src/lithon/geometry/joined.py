"""Several curves one after the other as one spline, exactly: each is parted into Bezier spans of a common degree
(Piegl and Tiller, The NURBS Book, 5.3 to 5.5)."""

from __future__ import annotations

import itertools
from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.geometry.curves import Curve, Ellipse, Line
from lithon.geometry.splines import BSplineCurve

Part = tuple[Curve, float, float, bool]


def joined(parts: Sequence[Part], tolerance: float) -> BSplineCurve:
    """One curve through stretches (curve, t0, t1, walked from t0 to t1) that follow each other.

    Raises ValueError where they do not meet within the tolerance, or one is no line, conic or spline.
    """
    degree = max(_degree(curve) for curve, *_ in parts)
    spans: list[Floats] = []
    for curve, t0, t1, forward in parts:
        own = [_raised(span, degree) for span in _spans(curve, t0, t1)]
        spans += own if forward else [span[::-1] for span in own[::-1]]
    for k in range(1, len(spans)):
        # Weights may be scaled as a whole: each span starts with the weight that the last one ended with.
        spans[k] = spans[k] * (spans[k - 1][-1, 3] / spans[k][0, 3])
        gap = spans[k][0, :3] / spans[k][0, 3] - spans[k - 1][-1, :3] / spans[k - 1][-1, 3]
        if float(np.linalg.norm(gap)) > tolerance:
            raise ValueError("the parts of a curve do not follow each other")
    net = np.concatenate([spans[0], *(span[1:] for span in spans[1:])])
    lengths = [max(float(np.linalg.norm(np.diff(s[:, :3] / s[:, 3:], axis=0), axis=1).sum()), 1e-12) for s in spans]
    at = np.concatenate([[0.0], np.cumsum(lengths)])
    knots = np.concatenate([[0.0], np.repeat(at, degree), at[-1:]])
    weights = net[:, 3]
    return BSplineCurve(
        frozen(knots), degree, frozen(net[:, :3] / net[:, 3:]), None if np.ptp(weights) < 1e-14 else frozen(weights)
    )


def _degree(curve: Curve) -> int:
    if isinstance(curve, Line):
        return 1
    if isinstance(curve, Ellipse):
        return 2
    if isinstance(curve, BSplineCurve):
        return curve.degree
    raise ValueError(f"a {curve.kind} cannot be joined with others")


def _spans(curve: Curve, t0: float, t1: float) -> list[Floats]:
    """Bezier spans, homogeneous (degree + 1, 4), from t0 to t1."""
    if isinstance(curve, Line):
        p = curve.point(np.array([t0, t1]))
        return [np.column_stack([p, np.ones(2)])]
    if isinstance(curve, Ellipse):
        n = max(1, int(np.ceil((t1 - t0) / (0.5 * np.pi) - 1e-9)))
        cuts = np.linspace(t0, t1, n + 1)
        half = 0.5 * (cuts[1] - cuts[0])
        out = []
        for a, b in itertools.pairwise(cuts):
            p, q = curve.point(np.array([a, b]))
            centre = curve.frame.origin
            corner = centre + (curve.point(np.array([0.5 * (a + b)]))[0] - centre) / np.cos(half)
            weight = float(np.cos(half))
            out.append(np.array([[*p, 1.0], [*(weight * corner), weight], [*q, 1.0]]))
        return out
    assert isinstance(curve, BSplineCurve)
    inner = np.unique(curve.knots[(curve.knots > t0) & (curve.knots < t1)])
    cuts = np.concatenate([[t0], inner, [t1]])
    share = np.linspace(0.0, 1.0, curve.degree + 1)
    basis = _bernstein(share, curve.degree)
    out = []
    weights = np.ones(len(curve.control)) if curve.weights is None else curve.weights
    net = np.column_stack([curve.control * weights[:, None], weights])
    for a, b in itertools.pairwise(cuts):
        # Each span is a polynomial in homogeneous coordinates: found by its values at degree + 1 places.
        values = np.stack([_de_boor(curve.knots, curve.degree, net, a + s * (b - a), a, b) for s in share])
        out.append(np.linalg.solve(basis, values))
    return out


def _bernstein(t: Floats, degree: int) -> Floats:
    """(n, degree + 1)."""
    k = np.arange(degree + 1)
    binomial = np.array([float(np.prod(np.arange(degree - i + 1, degree + 1) / np.arange(1, i + 1))) for i in k])
    return np.asarray(binomial * t[:, None] ** k * (1.0 - t[:, None]) ** (degree - k))


def _de_boor(knots: Floats, degree: int, net: Floats, t: float, a: float, b: float) -> Floats:
    """The value at t of the polynomial that holds between the neighbouring knots a and b."""
    k = int(np.clip(np.searchsorted(knots, 0.5 * (a + b), side="right") - 1, degree, len(net) - 1))
    d = net[k - degree : k + 1].copy()
    for r in range(1, degree + 1):
        for j in range(degree, r - 1, -1):
            i = j + k - degree
            share = (t - knots[i]) / (knots[i + degree - r + 1] - knots[i])
            d[j] = (1.0 - share) * d[j - 1] + share * d[j]
    return np.asarray(d[degree])


def _raised(span: Floats, degree: int) -> Floats:
    """A Bezier span of a higher degree, the same curve."""
    while len(span) - 1 < degree:
        n = len(span)
        share = np.arange(1, n)[:, None] / n
        span = np.vstack([span[:1], share * span[:-1] + (1.0 - share) * span[1:], span[-1:]])
    return span
