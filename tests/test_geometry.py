"""Curves, surfaces and where they meet: by properties and closed forms."""

import numpy as np
import pytest
import scipy
from dice import examples
from hypothesis import assume, given, settings
from hypothesis import strategies as st

from lithon.arrays import evenly, unit
from lithon.errors import Refusal
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.cones import Cone
from lithon.geometry.curves import Circle, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.meet import cross, meet, midway
from lithon.geometry.surfaces import Cylinder, Plane

coordinate = st.floats(-50, 50, allow_nan=False)
vector = st.tuples(coordinate, coordinate, coordinate)
direction = vector.filter(lambda v: np.linalg.norm(v) > 1e-2)
radius = st.floats(0.1, 30)
frames = st.builds(lambda o, z, x: Frame.of(o, z, x), vector, direction, direction)
curves = st.one_of(
    st.builds(lambda f: Line(f.origin, f.z), frames),
    st.builds(lambda f, r: Circle.about(f, r), frames, radius),
    st.builds(lambda f, a, b: Ellipse(f, max(a, b), min(a, b)), frames, radius, radius),
)
planes = st.builds(Plane, frames)
cylinders = st.builds(Cylinder, frames, radius)
surfaces = st.one_of(planes, cylinders)
PROFILE = settings(max_examples=examples(120), deadline=None)


@PROFILE
@given(curves, st.floats(-3, 3))
def test_a_parameter_comes_back_from_its_point(curve, t):
    point = curve.point(np.array([t]))
    back = curve.parameter(point)
    assert np.allclose(curve.point(back), point, atol=1e-9)
    if curve.period is None:
        assert back[0] == pytest.approx(t, abs=1e-9)


@PROFILE
@given(curves, st.floats(-3, 3))
def test_derivatives_agree_with_differences(curve, t):
    h = 1e-5
    a, b = curve.point(np.array([t - h, t + h]))
    assert np.allclose(curve.derivative(np.array([t]))[0], (b - a) / (2 * h), atol=1e-5)


@PROFILE
@given(surfaces, st.lists(vector, min_size=1, max_size=8))
def test_projection_is_closest_and_comes_back(surface, points):
    p = np.array(points)
    on = surface.project(p)
    assert np.abs(surface.signed_distance(on)).max() < 1e-9
    assert np.allclose(np.linalg.norm(on - p, axis=1), np.abs(surface.signed_distance(p)), atol=1e-9)
    assert np.allclose(surface.point(surface.flat(on)), on, atol=1e-9)
    n = surface.normal(on)
    assert np.allclose(surface.signed_distance(on + 0.01 * n), 0.01, atol=1e-9)


@PROFILE
@given(cylinders, st.floats(0, 6), st.floats(-5, 5))
def test_rolling_out_keeps_lengths(cylinder, angle, height):
    """A short step on the surface is as long in the flat, and flat is right-handed about the normal."""
    at = cylinder.point(np.array([[cylinder.radius * angle, height]]))[0]
    base, h = cylinder.flat(at[None])[0], 1e-3 * cylinder.radius
    steps = np.array([base + [h, 0.0], base - [h, 0.0], base + [0.0, h], base - [0.0, h]])
    ahead, behind, up, down = cylinder.point(steps)
    du, dv = (ahead - behind) / (2.0 * h), (up - down) / (2.0 * h)
    assert np.linalg.norm(du) == pytest.approx(1.0, abs=1e-6)
    assert np.linalg.norm(dv) == pytest.approx(1.0, abs=1e-6)
    assert np.cross(du, dv) @ cylinder.normal(at[None])[0] > 0.999


@PROFILE
@given(surfaces, surfaces)
def test_meeting_curves_lie_on_both(a, b):
    try:
        found = meet(a, b)
    except Refusal:
        assert a.kind == b.kind == "cylinder"
        return
    for curve in found:
        t = np.linspace(-3.0, 3.0, 13)
        p = curve.point(t)
        slack = 1e-6 * (1.0 + np.abs(p).max())
        assume(np.abs(p).max() < 1e6)
        assert np.abs(a.signed_distance(p)).max() < slack
        assert np.abs(b.signed_distance(p)).max() < slack


def test_closed_forms_of_meeting():
    bore = Cylinder.of((0, 0, 0), (0, 0, 1), 5.0)
    (ring,) = meet(Plane.of((0, 0, 3), (0, 0, 1)), bore)
    assert ring.kind == "circle" and ring.radius == 5.0 and ring.frame.origin[2] == pytest.approx(3.0)
    lines = meet(Plane.of((3, 0, 0), (1, 0, 0)), bore)
    assert sorted(round(float(c.origin[1]), 9) for c in lines) == [-4.0, 4.0]
    (touch,) = meet(Plane.of((5, 0, 0), (1, 0, 0)), bore)
    assert np.allclose(touch.origin[:2], [5, 0])
    assert meet(Plane.of((5.1, 0, 0), (1, 0, 0)), bore) == []
    (slanted,) = meet(Plane.of((0, 0, 0), unit(np.array([0.0, 1.0, 1.0]))), bore)
    assert (slanted.major, slanted.minor) == (pytest.approx(5.0 * np.sqrt(2.0)), 5.0)
    twins = meet(bore, Cylinder.of((0, 0, 0), (1, 0, 0), 5.0))
    assert [c.kind for c in twins] == ["ellipse", "ellipse"]
    sides = meet(bore, Cylinder.of((6, 0, 0), (0, 0, 1), 5.0))
    assert sorted(round(float(c.origin[1]), 9) for c in sides) == [-4.0, 4.0]
    with pytest.raises(Refusal):
        meet(bore, Cylinder.of((0, 0, 0), (1, 0, 0), 2.0))


@PROFILE
@given(curves, surfaces)
def test_crossings_are_on_the_surface_and_none_is_missed(curve, surface):
    low, high = (-40.0, 40.0) if curve.period is None else (0.0, curve.period)
    t = np.linspace(low, high, 4001)
    f = surface.signed_distance(curve.point(t))
    assume(np.abs(f).max() > 1e-6)
    found = cross(curve, surface, low, high)
    if len(found):
        scale = 1.0 + np.abs(curve.point(found)).max()
        assert np.abs(surface.signed_distance(curve.point(found))).max() < 1e-6 * scale
    clear = np.flatnonzero((f[:-1] * f[1:] < 0) & (np.minimum(np.abs(f[:-1]), np.abs(f[1:])) > 1e-3))
    for k in clear:
        assert ((found > t[k] - 1e-9) & (found < t[k + 1] + 1e-9)).any()


def test_a_plane_midway():
    between = midway(Plane.of((0, 0, 2), (0, 0, 1)), Plane.of((5, 5, 8), (0, 0, -1)))
    assert abs(between.signed_distance(np.array([9.0, -4.0, 5.0]))) < 1e-12
    half = midway(Plane.of((0, 0, 0), (1, 0, 0)), Plane.of((0, 0, 0), (0, 1, 0)))
    assert abs(abs(half.frame.z @ unit(np.array([1.0, 1.0, 0.0]))) - 1.0) < 1e-12


@pytest.mark.parametrize("angle", [0.4, 1.3, -0.4, -1.3, 1.98, 2.9, -2.2, np.pi + 0.3])
def test_a_cone_opens_whichever_way_its_line_is_told(angle):
    """The line that goes around leans by an angle and by that and half a turn alike."""
    turn = np.linalg.qr(np.random.default_rng(4).normal(size=(3, 3)))[0]
    origin, radius = np.array([3.0, -1.0, 2.0]), 2.0
    cone = Cone.of(origin, turn[2], radius, angle)
    assert 0.0 < cone.angle < 0.5 * np.pi
    h = np.linspace(-1.0, 1.0, 9) * 0.9 * radius / abs(np.tan(angle))
    r, t = radius + h * np.tan(angle), np.linspace(0.0, 6.0, 9)
    p = origin + h[:, None] * turn[2] + r[:, None] * (np.outer(np.cos(t), turn[0]) + np.outer(np.sin(t), turn[1]))
    assert abs(cone.signed_distance(p)).max() < 1e-12
    away = cone.signed_distance(p + 0.1 * (p - origin - h[:, None] * turn[2]))
    assert (away > 0.0).all()


@pytest.mark.parametrize("slack", [0.0, 0.004])
def test_pairs_among_many_triangles_are_those_whose_boxes_meet(slack):
    """Of so many that they are looked for in two threads, against all that are near by their middles."""
    rng = np.random.default_rng(5)
    n = 30_000
    corners = rng.uniform(0.0, 1.0, (n, 1, 3)) + rng.uniform(-0.008, 0.008, (n, 3, 3))
    points, triangles = corners.reshape(-1, 3), np.arange(3 * n).reshape(n, 3)
    tags = rng.integers(0, 50, n)
    low, high = corners.min(axis=1), corners.max(axis=1)
    near = scipy.spatial.cKDTree(0.5 * (low + high)).query_pairs(0.06, output_type="ndarray")
    a, b = near.T
    meet = (low[a] - high[b] <= slack).all(axis=1) & (low[b] - high[a] <= slack).all(axis=1) & (tags[a] != tags[b])
    found = BoxTree.of(points, triangles).own_pairs(tags, slack)
    assert len(found) == int(meet.sum()) > 1000
    assert set(map(tuple, found.tolist())) == set(map(tuple, np.sort(near[meet], axis=1).tolist()))


def test_even_pieces_are_those_of_each_by_itself():
    rng = np.random.default_rng(1)
    start, end, pieces = rng.normal(size=40), rng.normal(size=40), rng.integers(1, 9, 40)
    each = [np.linspace(a, b, n + 1) for a, b, n in zip(start, end, pieces, strict=True)]
    assert np.array_equal(evenly(start, end, pieces), np.concatenate(each))
    assert not len(evenly(np.zeros(0), np.zeros(0), np.zeros(0, dtype=int)))
