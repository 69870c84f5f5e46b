"""Planes through cones and swept surfaces: on both, complete, and as closed as the closed forms say."""

import numpy as np
import pytest
from dice import examples
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st
from scipy.integrate import quad

import lithon
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.geometry.curves import Circle, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.meet import closed_form, meet
from lithon.geometry.rounds import Cone
from lithon.geometry.splines import BSplineCurve
from lithon.geometry.surfaces import Plane
from lithon.geometry.swept import Extrusion, Revolution
from lithon.samples.build import Piece, revolved

UP = Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
seeds = st.integers(0, 10**9)


def somewhere(rng):
    return Frame.of(rng.normal(size=3), rng.normal(size=3), rng.normal(size=3))


def spline(rng, points):
    n, degree = len(points), 3
    inner = np.sort(rng.random(n - degree - 1))
    knots = np.concatenate([np.zeros(degree + 1), inner, np.ones(degree + 1)])
    weights = rng.uniform(0.5, 2.0, n) if rng.random() < 0.5 else None
    return BSplineCurve(knots, degree, points, weights)


def stretch_of(curve):
    """Parameters along a curve: all of it, of a line what is near its origin."""
    if isinstance(curve, Line):
        return np.linspace(-5.0, 5.0, 60)
    if curve.period is not None:
        return np.linspace(0.0, curve.period, 60)
    return np.linspace(curve.low, curve.high, 60)


def on_both(curves, a, b, within=1e-9):
    for curve in curves:
        p = curve.point(stretch_of(curve))
        size = 1.0 + np.abs(p).max()
        assert np.abs(a.signed_distance(p)).max() < within * size
        assert np.abs(b.signed_distance(p)).max() < within * size


def all_there(points, curves, within=1e-7):
    """Whether points (n,3) known to be common to both surfaces lie on the curves."""
    away = np.full(len(points), np.inf)
    for curve in curves:
        away = np.minimum(away, np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1))
    assert away.max(initial=0.0) < within


@settings(max_examples=examples(150), deadline=None)
@given(seeds, st.floats(0.05, 1.4))
def test_conics_of_a_cone_are_whole_near_the_place(seed, angle):
    rng = np.random.default_rng(seed)
    cone = Cone(somewhere(rng), float(rng.uniform(0.2, 2.0)), angle)
    plane = Plane(somewhere(rng))
    if rng.random() < 0.3:  # along a generator: a parabola
        out = np.cos(angle) * cone.frame.z + np.sin(angle) * cone.frame.x
        plane = Plane.of(plane.frame.origin, np.cross(out, cone.frame.y))
    d = float(plane.signed_distance(cone.apex))
    assume(abs(d) > 1e-2)
    near = cone.apex + 6.0 * rng.normal(size=(40, 3))
    curves = meet(plane, cone, 1e-9, near)
    on_both(curves, plane, cone)
    # Every generator meets the plane at most once, on the cone's own side of the apex.
    turn = np.linspace(0.0, 2.0 * np.pi, 721)
    across = np.outer(np.cos(turn), cone.frame.x) + np.outer(np.sin(turn), cone.frame.y)
    ways = np.cos(angle) * cone.frame.z + np.sin(angle) * across
    with np.errstate(divide="ignore"):
        t = -d / (ways @ plane.frame.z)
    reach = np.linalg.norm(near - cone.apex, axis=1).max()
    hit = (t > 0.0) & (t < reach)
    all_there(cone.apex + t[hit, None] * ways[hit], curves)
    if not hit.any() and closed_form(plane, cone, 1e-9) is None:
        assert all(np.linalg.norm(c.point(stretch_of(c)) - cone.apex, axis=1).min() >= reach for c in curves)


@settings(max_examples=examples(120), deadline=None)
@given(seeds)
@example(21492)  # a short span of knots comes through the plane and back
def test_a_plane_takes_the_profile_of_an_extrusion_along(seed):
    rng = np.random.default_rng(seed)
    way = rng.normal(size=3)
    kind = rng.integers(3)
    if kind == 0:
        profile = Ellipse(somewhere(rng), 2.0, float(rng.uniform(0.3, 2.0)))
    else:
        points = np.cumsum(rng.normal(size=(int(rng.integers(5, 10)), 3)), axis=0)
        profile = spline(rng, points)
    swept = Extrusion.of(profile, way)
    parallel = rng.random() < 0.4
    normal = np.cross(way, rng.normal(size=3)) if parallel else rng.normal(size=3)
    t = rng.uniform(*((0.0, 2.0 * np.pi) if kind == 0 else (profile.low, profile.high)), 40)
    plane = Plane.of(profile.point(t[:1])[0] + rng.normal() * swept.frame.z, normal)
    lean = float(plane.frame.z @ swept.frame.z)
    assume(parallel or abs(lean) > 0.05)
    curves = closed_form(plane, swept, 1e-9)
    assert curves
    on_both(curves, plane, swept)
    if not parallel:
        p = profile.point(t)
        all_there(p - np.outer(plane.signed_distance(p) / lean, swept.frame.z), curves)
        return
    assert all(isinstance(c, Line) for c in curves)
    # As many lines as the profile comes through the plane, counted by samples.
    fine = profile.point(np.linspace(*((0.0, 2.0 * np.pi) if kind == 0 else (profile.low, profile.high)), 20001))
    side = np.sign(plane.signed_distance(fine))
    through = int((side[1:] * side[:-1] < 0.0).sum())
    assert len(curves) >= through
    all_there(profile.point(t[:1]), curves)


@settings(max_examples=examples(100), deadline=None)
@given(seeds)
def test_planes_across_and_through_the_axis_of_a_revolution(seed):
    rng = np.random.default_rng(seed)
    frame = somewhere(rng)
    half = np.column_stack([rng.uniform(0.2, 3.0, 7), np.zeros(7), np.cumsum(rng.normal(size=7))])
    turned = float(rng.uniform(0.0, 2.0 * np.pi))
    half[:, :2] = np.outer(half[:, 0], [np.cos(turned), np.sin(turned)])
    profile = spline(rng, frame.world(half))
    swept = Revolution(profile, frame)
    t = float(rng.uniform(profile.low, profile.high))
    across = Plane.of(profile.point(np.array([t]))[0], frame.z)
    rings = closed_form(across, swept, 1e-9)
    assert rings and all(isinstance(c, Circle) for c in rings)
    on_both(rings, across, swept)
    all_there(profile.point(np.array([t])), rings)
    through = Plane.of(frame.origin + rng.normal() * frame.z, np.cross(frame.z, rng.normal(size=3)))
    both = closed_form(through, swept, 1e-9)
    assert len(both) == 2
    on_both(both, through, swept)
    assert both[0].length(profile.low, profile.high) == pytest.approx(profile.length(profile.low, profile.high))


@settings(max_examples=examples(60), deadline=None)
@given(seeds, st.booleans())
@example(40583, True)  # a short last span, run through within one of even steps
@example(9783, True)  # two feet, nearly as near
def test_no_sample_of_a_swept_surface_is_nearer_than_the_closest_point(seed, around):
    rng = np.random.default_rng(seed)
    frame = somewhere(rng)
    points = np.cumsum(rng.normal(size=(7, 3)), axis=0)
    if around and rng.random() < 0.5:
        points = frame.world(np.column_stack([rng.uniform(0.0, 3.0, 7), np.zeros(7), points[:, 2]]))
    profile = spline(rng, points)
    swept = Revolution(profile, frame) if around else Extrusion.of(profile, frame.z)
    asked = points.mean(axis=0) + 2.0 * rng.normal(size=(30, 3))
    away = np.abs(swept.signed_distance(asked))
    grid = np.linspace(profile.low, profile.high, 800)
    local = frame.local(profile.point(grid))
    p = frame.local(asked)
    if around:  # both in (radius, height): the sweep brings any point of the profile around to the one that asks
        gaps = np.stack([np.subtract.outer(np.hypot(*p[:, :2].T), np.hypot(*local[:, :2].T)),
                         np.subtract.outer(p[:, 2], local[:, 2])])  # fmt: skip
    else:
        across = Frame.of(profile.point(grid[:1])[0], frame.z)
        gaps = np.stack([np.subtract.outer(across.local(asked)[:, k], across.local(profile.point(grid))[:, k])
                         for k in (0, 1)])  # fmt: skip
    sampled = np.hypot(*gaps).min(axis=1)
    assert (away <= sampled + 1e-9).all()
    assert (away >= sampled - np.linalg.norm(np.diff(local, axis=0), axis=1).max()).all()


@settings(max_examples=examples(25), deadline=None)
@given(st.floats(0.02, 0.95), st.floats(-0.4, 0.4))
def test_a_cone_cut_along_a_hyperbola_has_the_volume_of_its_segments(share, lean):
    low, high, tall = 3.0, 1.2, 4.0
    profile = [Piece((0.0, 0.0)), Piece((low, 0.0)), Piece((high, tall)), Piece((0.0, tall))]
    body = revolved(profile, UP)
    whole = volume(body)
    assert whole == pytest.approx(np.pi * tall * (low**2 + low * high + high**2) / 3.0, rel=1e-9)
    normal = np.array([np.cos(lean), 0.0, np.sin(lean)])
    plane = Plane.of((share * low, 0.0, 0.0), normal)
    made = split(Model((body,), 1e-6), [body], plane)
    assert not [f for b in made.bodies for f in flaws(b, 1e-6)]
    assert sum(volume(b) for b in made.bodies) == pytest.approx(whole, rel=1e-9)

    def beyond(z):
        """Of a disc, what lies beyond the plane."""
        r = low + (high - low) * z / tall
        c = (share * low * np.cos(lean) - z * np.sin(lean)) / np.cos(lean) / r
        if abs(c) >= 1.0:
            return 0.0 if c > 0.0 else np.pi * r * r
        return r * r * (np.arccos(c) - c * np.sqrt(1.0 - c * c))

    ahead, _ = quad(beyond, 0.0, tall, limit=400, epsabs=1e-11)
    sides = [volume(b) for b in made.bodies if plane.signed_distance(b_middle(b)[None])[0] > 0.0]
    assert sum(sides) == pytest.approx(ahead, rel=1e-6, abs=1e-7)


def b_middle(body):
    from lithon.brep.measures import mass_properties

    return mass_properties(body).centroid


def test_what_is_cut_along_a_hyperbola_is_written_exactly_and_read_back():
    body = revolved([Piece((0.0, 0.0)), Piece((3.0, 0.0)), Piece((1.2, 4.0)), Piece((0.0, 4.0))], UP)
    made = split(Model((body,), 1e-6), [body], Plane.of((1.7, 0.0, 0.0), (1.0, 0.0, 0.0)))
    back = lithon.parse_step(lithon.step_text(made)).model
    for one, two in zip(made.bodies, back.bodies, strict=True):
        assert volume(two) == pytest.approx(volume(one), rel=1e-12)
        assert len(two.faces) == len(one.faces) and len(two.edges()) == len(one.edges())
        assert not flaws(two, 1e-6)
    again = split(back, back.bodies, Plane.of((0.0, 0.0, 1.0), (0.0, 0.0, 1.0)))
    assert sum(volume(b) for b in again.bodies) == pytest.approx(volume(body), rel=1e-9)
