"""Where two surfaces cross that are told in numbers: what compiled code follows lies on both, and is what the surfaces
themselves give."""

from itertools import combinations

import numpy as np
import pytest
from dice import seeds

import lithon.geometry.crossing as crossing
from lithon.arrays import given
from lithon.geometry.cones import Cone
from lithon.geometry.elementary import _off, _stand
from lithon.geometry.rows import feet, row_of
from lithon.geometry.spheres import Sphere
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.swept import Extrusion, Revolution
from lithon.geometry.tori import Torus


def surfaces(rng):
    """One of each kind about the origin, so that most cross."""
    at = lambda: rng.uniform(-0.4, 0.4, 3)  # noqa: E731
    way = lambda: rng.normal(size=3)  # noqa: E731
    return [
        Plane.of(at(), way(), way()),
        Cylinder.of(at(), way(), rng.uniform(0.5, 1.2), way()),
        Cone.of(at() - 2.0, rng.uniform(0.5, 1.0, 3), rng.uniform(0.3, 1.0), rng.uniform(0.2, 0.7), (1.0, -1.0, 0.0)),
        Sphere.of(at(), rng.uniform(0.8, 1.6)),
        Torus.of(at(), way(), rng.uniform(1.2, 2.0), rng.uniform(0.3, 0.8), way()),
        hilly(rng),
        Extrusion.of(wavy(rng), rng.normal(size=3)),
    ]


CUBIC = np.array([0.0] * 4 + [1.0] * 4)


def hilly(rng):
    """A patch over a square, turned about, with weights or none."""
    x, y = np.meshgrid(np.linspace(-2.5, 2.5, 4), np.linspace(-2.5, 2.5, 4), indexing="ij")
    net = np.stack([x, y, rng.uniform(-1.2, 1.2, (4, 4))], axis=-1) @ np.linalg.qr(rng.normal(size=(3, 3)))[0]
    weights = rng.uniform(0.7, 1.4, (4, 4)) if rng.random() < 0.5 else None
    return BSplineSurface(CUBIC, CUBIC, 3, 3, net, weights)


def wavy(rng):
    x = np.linspace(-2.5, 2.5, 4)
    return BSplineCurve(CUBIC, 3, np.stack([x, rng.uniform(-1.5, 1.5, 4), rng.uniform(-0.5, 0.5, 4)], axis=1))


@pytest.mark.parametrize("seed", seeds(3))
def test_distance_and_normal_are_those_of_the_surface(seed):
    rng = np.random.default_rng(seed)
    for surface in surfaces(rng):
        points = np.concatenate([rng.uniform(-3.0, 3.0, (50, 3)), surface.frame.origin[None]])
        row, starts = row_of(surface, points), feet(surface, points)
        told = np.empty((len(points), 4))
        for k, (p, uv) in enumerate(zip(given(points), starts, strict=True)):
            _stand(row, uv)
            told[k] = _off(row, *p)
        assert told[:, 0] == pytest.approx(surface.signed_distance(points), abs=1e-12)
        assert told[:-1, 1:] == pytest.approx(surface.normal(points[:-1]), abs=1e-12)
        assert np.linalg.norm(told[:, 1:], axis=1) == pytest.approx(np.ones(51))
    assert row_of(Revolution.of(wavy(rng), (0.0, 0.0, 0.0), (0.0, 0.0, 1.0)), np.zeros((1, 3))) is None


@pytest.mark.parametrize("seed", seeds(3))
def test_curves_are_on_both_and_the_same_without_compiling(seed, monkeypatch):
    """Closed or ending at the box, every branch: on both surfaces to rounding, its derivative that of its points, its
    parameters found again; and the general way follows as many branches of the same lengths."""
    rng = np.random.default_rng(seed)
    found = 0
    for number, (a, b) in enumerate(combinations(surfaces(rng), 2)):
        near = rng.uniform(-2.5, 2.5, (300, 3))
        near = near[(np.abs(a.signed_distance(near)) < 0.4) & (np.abs(b.signed_distance(near)) < 0.4)]
        if len(near) < 5:
            continue
        curves = crossing.crossings(a, b, near)
        for curve in curves:
            t = curve.low + np.linspace(0.02, 0.98, 23) * (curve.high - curve.low)
            p, step = curve.point(t), 1e-5 * (curve.high - curve.low)
            assert max(np.abs(s.signed_distance(p)).max() for s in (a, b)) < 1e-11
            slope = (curve.point(t + step) - curve.point(t - step)) / (2.0 * step)
            assert curve.derivative(t) == pytest.approx(slope, abs=1e-5 * np.abs(slope).max())
            assert curve.point(curve.parameter(p)) == pytest.approx(p, abs=1e-9)
        found += len(curves)
        if number % 3:
            continue
        with monkeypatch.context() as general:
            general.setattr(crossing, "row_of", lambda surface, points: None)
            again = crossing.crossings(a, b, near)
            lengths = sorted(c.length(c.low, c.high) for c in again)
        assert sorted(c.length(c.low, c.high) for c in curves) == pytest.approx(lengths, rel=1e-3)
    assert found >= 8
