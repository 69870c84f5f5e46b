"""Where two elementary surfaces cross: what compiled code follows lies on both, and is what the surfaces themselves
give."""

from itertools import combinations

import numpy as np
import pytest
from dice import seeds

import lithon.geometry.crossing as crossing
from lithon.arrays import given
from lithon.geometry.cones import Cone
from lithon.geometry.elementary import _off, in_numbers
from lithon.geometry.spheres import Sphere
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane
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
    ]


@pytest.mark.parametrize("seed", seeds(3))
def test_distance_and_normal_are_those_of_the_surface(seed):
    rng = np.random.default_rng(seed)
    for surface in surfaces(rng):
        points = np.concatenate([rng.uniform(-3.0, 3.0, (50, 3)), surface.frame.origin[None]])
        told = np.array([_off(in_numbers(surface), *p) for p in given(points)])
        assert told[:, 0] == pytest.approx(surface.signed_distance(points), abs=1e-12)
        assert told[:-1, 1:] == pytest.approx(surface.normal(points[:-1]), abs=1e-12)
        assert np.linalg.norm(told[:, 1:], axis=1) == pytest.approx(np.ones(51))
    net = np.stack([*np.meshgrid([0.0, 1.0], [0.0, 1.0], indexing="ij"), np.zeros((2, 2))], axis=-1)
    assert in_numbers(BSplineSurface(np.array([0.0, 0, 1, 1]), np.array([0.0, 0, 1, 1]), 1, 1, net)) is None


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
            general.setattr(crossing, "in_numbers", lambda surface: None)
            again = crossing.crossings(a, b, near)
            lengths = sorted(c.length(c.low, c.high) for c in again)
        assert sorted(c.length(c.low, c.high) for c in curves) == pytest.approx(lengths, rel=1e-3)
    assert found >= 8
