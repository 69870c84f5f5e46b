"""Curved surfaces and curves: by properties, differences and closed forms."""

import numpy as np
import pytest
import scipy.spatial
from hypothesis import assume, given
from hypothesis import strategies as st

from lithon.arrays import unit
from lithon.geometry.charts import Chart
from lithon.geometry.crossing import Crossing, crossings
from lithon.geometry.curves import Circle
from lithon.geometry.frames import Frame
from lithon.geometry.meet import cross, meet
from lithon.geometry.rounds import Cone, ConeBand, ConeTip, Sphere, Stereographic, Torus, TorusChart
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.swept import Extrusion, Revolution

coordinate = st.floats(-20, 20, allow_nan=False)
vector = st.tuples(coordinate, coordinate, coordinate)
frames = st.builds(lambda o, z: Frame.of(o, z), vector, vector.filter(lambda v: np.linalg.norm(v) > 0.1))
size = st.floats(0.5, 15.0)
cones = st.builds(Cone, frames, size, st.floats(0.1, 1.4))
spheres = st.builds(Sphere, frames, size)
tori = st.builds(lambda f, a, b: Torus(f, a + b + 0.1, b), frames, size, size)
rounds = st.one_of(cones, spheres, tori)
clouds = st.lists(vector, min_size=1, max_size=8).map(np.array)


def wavy(seed: int, rational: bool = False) -> BSplineSurface:
    """A gently curved spline patch over 20 x 16 mm."""
    rng = np.random.default_rng(seed)
    x, y = np.meshgrid(np.linspace(-10, 10, 6), np.linspace(-8, 8, 5), indexing="ij")
    net = np.stack([x, y, rng.uniform(-2, 2, x.shape)], axis=-1)
    weights = rng.uniform(0.7, 1.4, x.shape) if rational else None
    return BSplineSurface(
        np.array([0, 0, 0, 0, 0.3, 0.7, 1, 1, 1, 1.0]), np.array([0, 0, 0, 0.4, 0.6, 1, 1, 1.0]), 3, 2, net, weights
    )


def curve(seed: int, rational: bool = False) -> BSplineCurve:
    rng = np.random.default_rng(seed)
    control = np.cumsum(rng.uniform(0.5, 3.0, (7, 3)), axis=0)
    weights = rng.uniform(0.6, 1.5, 7) if rational else None
    return BSplineCurve(np.array([0, 0, 0, 0, 0.2, 0.5, 0.9, 1, 1, 1, 1.0]), 3, control, weights)


@given(rounds, clouds)
def test_projection_is_closest_and_normals_lead_away(surface, points):
    on = surface.project(points)
    scale = 1.0 + np.abs(points).max()
    assert np.abs(surface.signed_distance(on)).max() < 1e-9 * scale
    gap = np.linalg.norm(on - points, axis=1)
    assert np.allclose(gap, np.abs(surface.signed_distance(points)), atol=1e-9 * scale)
    # No other point of the surface is nearer than the one found.
    others = surface.project(points + np.random.default_rng(0).normal(size=points.shape))
    assert (np.linalg.norm(others - points, axis=1) >= gap - 1e-9 * scale).all()
    away = on + 1e-3 * surface.normal(on)
    clear = surface.bend(on) < 100.0
    assert np.allclose(surface.signed_distance(away)[clear], 1e-3, atol=1e-8 * scale)


@given(rounds, st.floats(0.01, 0.4))
def test_offsets_keep_their_distance(surface, d):
    t = np.linspace(0, 6.2, 30)
    ring = surface.project(surface.frame.world(np.stack([20 * np.cos(t), 20 * np.sin(t), t], axis=1)))
    moved = surface.offset(d)
    assert np.allclose(moved.signed_distance(ring), -d, atol=1e-7)


@given(rounds, vector, vector.filter(lambda v: np.linalg.norm(v) > 0.1), st.floats(-3, 3))
def test_motions_carry_points_along(surface, shift, axis, angle):
    k = unit(np.array(axis))
    cross_matrix = np.array([[0, -k[2], k[1]], [k[2], 0, -k[0]], [-k[1], k[0], 0]])
    motion = np.eye(4)
    motion[:3, :3] = np.eye(3) + np.sin(angle) * cross_matrix + (1 - np.cos(angle)) * cross_matrix @ cross_matrix
    motion[:3, 3] = shift
    p = np.random.default_rng(1).uniform(-20, 20, (9, 3))
    moved = surface.moved(motion)
    carried = p @ motion[:3, :3].T + motion[:3, 3]
    assert np.allclose(moved.signed_distance(carried), surface.signed_distance(p), atol=1e-8)
    assert moved.same_as(surface.moved(motion), 1e-7, 10.0)


def charts(f: Frame, a: float, b: float) -> list[Chart]:
    ball, ring, cone = Sphere(f, a), Torus(f, a + b + 0.1, b), Cone(f, a, 0.1 + 0.1 * min(b, 12.0))
    apple = Torus(f, 0.5 * b, b)
    slanting = 5.0 + 0.4 * np.sin(np.arange(256) * 2.0 * np.pi / 256)  # where a torus is cut open need not be a ring
    return [
        Stereographic(ball, f), TorusChart(ring, False, np.array([0.3]), a), TorusChart(ring, True, np.array([0.3]), a),
        TorusChart(ring, False, slanting, a), TorusChart(ring, True, slanting, a),
        TorusChart(apple, False, np.zeros(1), a), ConeBand(cone, 2.0 * a), ConeTip(cone, True),
    ]  # fmt: skip


@given(frames, size, size, st.floats(0.1, 2.5), st.floats(0.1, 1.5))
def test_charts_come_back_and_their_tangents_agree_with_differences(f, a, b, u, v):
    for chart in charts(f, a, b):
        flat = np.array([[u, v], [0.7 * u, -v]]) * (0.5 if isinstance(chart, TorusChart) else 1.0)
        p = chart.point(flat)
        assert np.allclose(chart.point(chart.flat(p)), p, atol=1e-7 * (1 + a + b))
        h = 1e-6
        for k in (0, 1):
            step = np.zeros((1, 2))
            step[0, k] = h
            slope = (chart.point(flat + step) - chart.point(flat - step)) / (2 * h)
            assert np.allclose(chart.tangents(flat)[:, k], slope, atol=1e-5 * (1 + np.abs(slope).max()))
        e, g = chart.tangents(flat)[:, 0], chart.tangents(flat)[:, 1]
        surface = getattr(chart, "sphere", None) or getattr(chart, "torus", None) or chart.cone
        n = np.cross(e, g)
        assert ((n * surface.normal(p)).sum(axis=1) > 0.0).all(), "right-handed about the normal"
        if not isinstance(chart, ConeTip):  # these keep angles
            assert np.allclose((e * g).sum(axis=1), 0.0, atol=1e-7 * (e * e).sum())
            assert np.allclose(np.linalg.norm(e, axis=1), np.linalg.norm(g, axis=1), rtol=1e-7)


@pytest.mark.parametrize("rational", [False, True])
@given(seed=st.integers(0, 10**6), t=st.floats(0.05, 0.95))
def test_spline_curves(rational, seed, t):
    c = curve(seed, rational)
    p = c.point(np.array([t]))
    assert np.allclose(c.point(c.parameter(p)), p, atol=1e-9)
    h = 1e-6
    slope = (c.point(np.array([t + h])) - c.point(np.array([t - h]))) / (2 * h)
    assert np.allclose(c.derivative(np.array([t])), slope, atol=1e-5 * np.abs(slope).max())
    chords = np.linalg.norm(np.diff(c.point(np.linspace(0, 1, 4001)), axis=0), axis=1).sum()
    assert c.length(0.0, 1.0) == pytest.approx(chords, rel=1e-5)


def test_a_rational_quadratic_is_a_circle():
    w = np.sqrt(0.5)
    c = BSplineCurve(
        np.array([0, 0, 0, 1, 1, 1.0]), 2, np.array([[5, 0, 0], [5, 5, 0], [0, 5, 0.0]]), np.array([1, w, 1])
    )
    assert np.allclose(np.linalg.norm(c.point(np.linspace(0, 1, 33)), axis=1), 5.0)
    assert c.length(0.0, 1.0) == pytest.approx(2.5 * np.pi, rel=1e-10)


@pytest.mark.parametrize("rational", [False, True])
@given(seed=st.integers(0, 10**6), u=st.floats(0.05, 0.95), v=st.floats(0.05, 0.95), d=st.floats(-0.3, 0.3))
def test_spline_surfaces(rational, seed, u, v, d):
    s = wavy(seed, rational)
    p, du, dv, *_ = s.at(np.array([u]), np.array([v]))
    n = unit(np.cross(du, dv))
    assume(float(s.bend(p)[0]) < 1.0)
    assert np.allclose(s.parameters(p), [[u, v]], atol=1e-7)
    assert float(s.signed_distance(p + d * n)[0]) == pytest.approx(d, abs=1e-7)
    assert np.allclose(s.project(p + d * n), p, atol=1e-6)
    h = 1e-6
    slope = (s.at(np.array([u + h]), np.array([v]))[0] - s.at(np.array([u - h]), np.array([v]))[0]) / (2 * h)
    assert np.allclose(du, slope, atol=1e-5 * np.abs(slope).max())


def test_swept_surfaces_agree_with_simple_ones():
    f = Frame.of((1, 2, 3), (0, 0, 1), (1, 0, 0))
    p = np.random.default_rng(2).uniform(-9, 9, (60, 3)) + [1, 2, 3]
    tube = Extrusion.of(Circle.about(f, 4.0), (0, 0, 1))
    assert np.allclose(np.abs(tube.signed_distance(p)), np.abs(Cylinder(f, 4.0).signed_distance(p)), atol=1e-7)
    section = Circle.about(Frame.of((7, 2, 3), (0, 1, 0), (1, 0, 0)), 2.0)
    ring, torus = Revolution.of(section, (1, 2, 3), (0, 0, 1)), Torus(f, 6.0, 2.0)
    assert np.allclose(np.abs(ring.signed_distance(p)), np.abs(torus.signed_distance(p)), atol=1e-6)
    assert np.allclose(ring.bend(torus.project(p)), torus.bend(p), rtol=1e-3)


@pytest.mark.parametrize("away", [2.0, 1.2, 0.3, 3.0])
def test_circles_turned_about_what_touches_or_crosses_them(away):
    """The nearest of many points of it is no nearer than the one that is found, and that is on it."""
    f = Frame.of((1, 2, 3), (0.3, -0.2, 1))
    circle = Circle.about(Frame.of(f.origin + away * f.x + 0.7 * f.z, f.y, f.x), 2.0)
    horn = Revolution.of(circle, f.origin, f.z)
    p = f.origin + np.random.default_rng(3).uniform(-5, 5, (80, 3))
    t, s = (a.ravel() for a in np.meshgrid(np.linspace(0, 2 * np.pi, 240), np.linspace(0, 2 * np.pi, 240)))
    every, *_ = horn.at(np.stack([t, s], axis=1))
    nearest = scipy.spatial.cKDTree(every).query(p)[0]
    on = horn.project(p)
    gap = np.linalg.norm(on - p, axis=1)
    assert (gap < nearest + 1e-9).all() and (gap > nearest - 0.1).all()
    assert np.allclose(horn.at(horn.parameters(on))[0], on, atol=1e-9)


# ---- meet


@given(frames, st.integers(0, 4), st.integers(0, 4), size, size, st.floats(-6, 6))
def test_surfaces_about_one_axis_meet_in_circles_on_both(f, i, j, a, b, lift):
    def make(k: int, r: float, h: float):
        at = Frame.of(f.origin + h * f.z, f.z, f.x)
        return [Plane(at), Cylinder(at, r), Cone(at, r, 0.6), Sphere(at, r), Torus(at, r + 1.0, 0.8)][k]

    one, other = make(i, a, 0.0), make(j, b, lift)
    assume(not one.same_as(other, 1e-6, 10.0))
    for c in meet(one, other):
        p = c.point(np.linspace(0, 6.28, 9))
        assert np.abs(one.signed_distance(p)).max() < 1e-6 and np.abs(other.signed_distance(p)).max() < 1e-6


@given(frames, frames.map(lambda f: f.z), st.floats(2, 8), st.floats(0.2, 1.2), st.floats(0.5, 9))
def test_a_plane_cuts_a_cone_in_points_of_both(f, n, r, angle, away):
    cone = Cone(f, r, angle)
    plane = Plane.of(cone.apex + away * f.z, n)
    near = plane.project(cone.apex + np.random.default_rng(3).uniform(-15, 15, (80, 3)))
    for c in meet(plane, cone, near=near):
        low = getattr(c, "low", 0.0)
        t = np.linspace(low, getattr(c, "high", 6.28), 41)[1:-1]
        p = c.point(t)
        assert np.abs(plane.signed_distance(p)).max() < 1e-7 and np.abs(cone.signed_distance(p)).max() < 1e-6


def test_crossing_tubes_part_into_two_closed_branches():
    wide, thin = Cylinder.of((0, 0, 0), (0, 0, 1), 5.0), Cylinder.of((0, 0, 0), (1, 0, 0), 3.0)
    near = np.random.default_rng(4).uniform(-8, 8, (150, 3))
    found = crossings(wide, thin, near)
    assert len(found) == 2 and all(c.period is not None for c in found)
    # (5 cos a, 5 sin a, z) with 25 sin^2 a + z^2 = 9, measured by fine chords.
    s = np.linspace(0, 2 * np.pi, 200001)
    y, z = 3 * np.cos(s), 3 * np.sin(s)
    exact = np.linalg.norm(np.diff(np.stack([np.sqrt(25 - y * y), y, z], axis=1), axis=0), axis=1).sum()
    for c in found:
        assert c.length(c.low, c.high) == pytest.approx(exact, rel=1e-7)
        t = np.linspace(c.low, c.high, 300)
        p = c.point(t)
        assert max(np.abs(wide.signed_distance(p)).max(), np.abs(thin.signed_distance(p)).max()) < 1e-12
        h = 1e-6
        slope = (c.point(t[1:-1] + h) - c.point(t[1:-1] - h)) / (2 * h)
        assert np.allclose(c.derivative(t[1:-1]), slope, atol=1e-6)
        fit = c.fitted(c.low, c.high, 1e-6)
        assert np.linalg.norm(fit.point(t) - p, axis=1).max() < 2e-6


def test_spline_patches_meet_along_their_waves():
    s, tilted = wavy(5), Plane.of((0, 0, 0.1), (0.1, 0.05, 1))
    grid = np.random.default_rng(5).uniform((-3, -3, -1), (3, 3, 1), (4, 3))
    found = crossings(s, tilted, s.project(grid))
    assert found and all(isinstance(c, Crossing) for c in found)
    for c in found:
        p = c.point(np.linspace(c.low, c.high, 60))
        assert np.abs(tilted.signed_distance(p)).max() < 1e-9 and np.abs(s.signed_distance(p)).max() < 1e-7


@given(rounds, vector, vector.filter(lambda v: np.linalg.norm(v) > 0.1))
def test_lines_meet_round_surfaces_where_the_distance_vanishes(surface, origin, way):
    from lithon.geometry.curves import Line

    line = Line(np.array(origin), unit(np.array(way)))
    t = cross(line, surface, -200.0, 200.0)
    assert np.abs(surface.signed_distance(line.point(t))).max(initial=0.0) < 1e-5
    # Every change of sign along fine samples has a root beside it.
    s = np.linspace(-60, 60, 4001)
    d = surface.signed_distance(line.point(s))
    for k in np.flatnonzero(d[:-1] * d[1:] < 0.0):
        if isinstance(surface, Cone) and abs(d[k] - d[k + 1]) > 0.06:
            continue  # the distance jumps where the nearest point is the apex
        assert np.abs(t - s[k]).min() < 0.04
