"""Joined curves and offset surfaces: against the curves they are made of, and against closed forms."""

import itertools

import numpy as np
import pytest
from dice import examples, seeds
from hypothesis import example, given, settings
from hypothesis import strategies as st
from proof import sound
from scipy.interpolate import make_interp_spline
from scipy.spatial import cKDTree

import lithon
from lithon.arrange.boolean import combine
from lithon.brep.area import area_of
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, Vertex, backwards
from lithon.brep.validate import flaws
from lithon.errors import BadFile
from lithon.geometry.curves import Circle, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.offset import Offset, offset_of
from lithon.geometry.rational import common, joined, rational
from lithon.geometry.rational import turned as walked_back
from lithon.geometry.rounds import Torus
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane
from lithon.geometry.swept import Revolution
from lithon.samples.build import Piece, Round, prism


def _spline(rng, closed_to):
    n, degree = int(rng.integers(4, 8)), int(rng.integers(1, 4))
    control = np.cumsum(rng.normal(size=(n, 3)), axis=0)
    control = control - control[0] + closed_to
    inner = np.sort(rng.random(n - degree - 1))
    knots = np.concatenate([np.zeros(degree + 1), inner, np.ones(degree + 1)])
    weights = rng.uniform(0.5, 2.0, n) if rng.random() < 0.5 else None
    return BSplineCurve(knots, degree, control, weights)


@settings(max_examples=examples(150))
@given(st.integers(0, 10**9))
@example(457994033)  # a hairpin within a hundredth of the curve
@example(25454677)  # one that sixteen nodes do not see
def test_a_joined_curve_runs_through_all_its_parts(seed):
    rng = np.random.default_rng(seed)
    at = rng.normal(size=3)
    parts = []
    for _ in range(int(rng.integers(1, 5))):
        kind = rng.integers(3)
        if kind == 0:
            end = at + rng.normal(size=3)
            parts.append((Line.through(at, end), 0.0, float(np.linalg.norm(end - at)), True))
        elif kind == 1:
            out = rng.normal(size=3)
            r = float(np.linalg.norm(out))
            frame = Frame.of(at - out, rng.normal(size=3), out)
            curve = Ellipse(frame, 1.7 * r, r)
            turn = float(rng.uniform(0.3, 6.0))
            curve = Ellipse(frame.shifted(at - curve.point(np.array([0.4]))[0]), 1.7 * r, r)
            parts.append((curve, 0.4, 0.4 + turn, True) if rng.random() < 0.5 else (curve, 0.4 - turn, 0.4, False))
        else:
            parts.append((_spline(rng, at), 0.0, 1.0, True))
        curve, t0, t1, forward = parts[-1]
        at = curve.point(np.array([t1 if forward else t0]))[0]
    whole = joined(parts, 1e-9)
    for curve, t0, t1, _ in parts:
        p = curve.point(np.linspace(t0, t1, 23))
        stops = np.unique(whole.knots)
        q = whole.point(np.concatenate([np.linspace(a, b, 2000) for a, b in itertools.pairwise(stops)]))
        near = cKDTree(q).query(p)[0]
        assert near.max() < 2e-3 * whole.length(whole.low, whole.high)
        assert np.linalg.norm(whole.point(whole.parameter(p)) - p, axis=1).max() < 1e-6
    exact = sum(curve.length(t0, t1) for curve, t0, t1, _ in parts)
    assert whole.length(whole.low, whole.high) == pytest.approx(exact, rel=1e-4)


def test_parts_that_do_not_meet_are_refused():
    a, b = Line.through([0, 0, 0], [1, 0, 0]), Line.through([1, 0.1, 0], [2, 0, 0])
    with pytest.raises(ValueError, match="do not follow"):
        joined([(a, 0.0, 1.0, True), (b, 0.0, 1.0, True)], 1e-3)


def _bowl(radius=10.0):
    """A rational patch that is a part of a ball: a quarter turn by an eighth, so that offsets are known."""
    s = np.sqrt(0.5)
    k = np.array([0, 0, 0, 1, 1, 1], dtype=float)
    # Profile: an arc of 45 degrees up from the equator; turned by 90 degrees about z.
    h = np.pi / 8
    profile = radius * np.array([[1, 0], [1, np.tan(h)], [np.cos(2 * h), np.sin(2 * h)]])
    wp = np.array([1.0, np.cos(h), 1.0])
    around = np.array([[1, 0], [1, 1], [0, 1]], dtype=float)
    wa = np.array([1.0, s, 1.0])
    control = np.array([[[r * a[0], r * a[1], z] for r, z in profile] for a in around])
    return BSplineSurface(k, k, 2, 2, control, np.outer(wa, wp))


def test_the_offset_of_a_ball_patch_is_a_bigger_ball():
    basis = _bowl()
    assert np.abs(np.linalg.norm(basis.at(*np.random.default_rng(1).random((2, 50)))[0], axis=1) - 10.0).max() < 1e-12
    out = offset_of(basis, 2.5)
    assert isinstance(out, Offset)
    rng = np.random.default_rng(2)
    way = np.column_stack([rng.uniform(0.3, 0.9, (60, 2)), rng.uniform(0.1, 0.5, 60)])
    way /= np.linalg.norm(way, axis=1, keepdims=True)
    p = way * rng.uniform(8, 16, (60, 1))
    assert np.allclose(out.project(p), 12.5 * way, atol=1e-8)
    assert np.allclose(out.signed_distance(p), np.linalg.norm(p, axis=1) - 12.5, atol=1e-8)
    assert np.allclose(out.bend(12.5 * way), 1 / 12.5, rtol=1e-3)
    mirror = np.diag([1.0, 1.0, -1.0, 1.0])
    turned = out.moved(mirror)
    assert np.abs(turned.signed_distance(12.5 * way * [1, 1, -1])).max() < 1e-8
    assert out.offset(-2.5) is basis and out.same_as(offset_of(_bowl(), 2.5), 1e-9, 1.0)


def offset_face(distance):
    """The patch's face at a distance, on edges that are circles about the centre."""
    radius = 10.0 + distance
    v = {}

    def vertex(p):
        return v.setdefault(tuple(np.round(p, 9)), Vertex(np.array(p, dtype=float)))

    def arc(normal, centre, r, a, b):
        frame = Frame.of(centre, normal, np.array(a) - centre)
        t = float(Circle.about(frame, r).parameter(np.array([b], dtype=float))[0])
        return Coedge(Edge(Circle.about(frame, r), 0.0, t, vertex(a), vertex(b)), True)

    s, z = radius * np.sqrt(0.5), np.zeros(3)
    a, b, c, d = [radius, 0, 0], [0, radius, 0], [0, s, s], [s, 0, s]
    loop = (arc([0, 0, 1], z, radius, a, b), arc([1, 0, 0], z, radius, b, c), arc([0, 0, -1], [0, 0, s], s, c, d),
            arc([0, 1, 0], z, radius, d, a))  # fmt: skip
    return Face(offset_of(_bowl(), distance), (loop,))


@pytest.mark.parametrize("distance", [2.5, -3.0])
def test_a_face_on_an_offset_is_measured_meshed_and_written(distance):
    radius = 10.0 + distance
    face = offset_face(distance)
    area = radius**2 * np.pi / 2 * np.sin(np.pi / 4)
    assert face_area(face) == pytest.approx(area, rel=1e-7)
    cone_of_it = area * radius / 3.0
    walls = [FaceUse(Face(Plane.of(loop[0].first.point, n), (backwards(loop),))) for n, loop in _closing(face, radius)]
    body = Body((FaceUse(face), *walls))
    model = Model.of([body])
    assert not flaws(body, model.tolerance)
    top = radius * np.sqrt(0.5)  # the floor and the walls hold the centre and add nothing; the lid is a quarter disc
    assert volume(body) == pytest.approx(cone_of_it + np.pi / 4 * (radius**2 / 2) * top / 3, rel=1e-7)
    (back,) = lithon.parse_step(lithon.step_text(model)).model.bodies
    assert [f.surface.kind for f in back.faces].count("offset") == 1
    assert volume(back) == pytest.approx(volume(body), rel=1e-9) and not flaws(back, model.tolerance)
    sound(lithon.tetrahedral_mesh(model, lithon.SizeRules(2.0)))


def _closing(face, radius):
    """What closes the patch to a solid: floor, two walls through the axis and lid, by their outward normals."""
    ab, bc, cd, da = face.loops[0]
    s = radius * np.sqrt(0.5)
    origin, up = Vertex(np.zeros(3)), Vertex(np.array([0.0, 0.0, s]))
    a, b, c, d = ab.edge.start, bc.edge.start, cd.edge.start, da.edge.start

    def line(p, q):
        return Edge(Line.through(p.point, q.point), 0.0, float(np.linalg.norm(q.point - p.point)), p, q)

    oa, ob, uc, ud, axis = line(origin, a), line(origin, b), line(up, c), line(up, d), line(origin, up)
    yield (0, 0, -1), (Coedge(oa, True), ab, Coedge(ob, False))
    yield (-1, 0, 0), (Coedge(ob, True), bc, Coedge(uc, False), Coedge(axis, False))
    yield (0, -1, 0), (Coedge(axis, True), Coedge(ud, True), da, Coedge(oa, False))
    yield (0, 0, 1), (Coedge(uc, True), cd, Coedge(ud, False))


STEP = """ISO-10303-21;
HEADER;FILE_DESCRIPTION((''),'2;1');FILE_NAME('a','',(''),(''),'','','');FILE_SCHEMA(('AP242'));ENDSEC;
DATA;
"""


def test_a_composite_edge_comes_in_as_one_curve():
    """The text of a prism whose bottom outline is one composite curve of two lines and an arc."""
    block = prism([Piece((0, 0)), Piece((10, 0), (10, 5)), Piece((10, 10)), Piece((0, 10))], 6.0)
    text = lithon.step_text(Model.of([block]))
    # The arc's circle becomes a composite curve of one trimmed half.
    number = next(line.split("=")[0] for line in text.splitlines() if "=CIRCLE(" in line.replace(" ", ""))
    line = next(x for x in text.splitlines() if x.startswith((number + "=", number + " =")))
    body = line.split("=", 1)[1].strip().rstrip(";")
    fresh = 900000
    new = (
        f"#{fresh}={body};\n"
        f"#{fresh + 1}=TRIMMED_CURVE('',#{fresh},(PARAMETER_VALUE(0.)),(PARAMETER_VALUE({np.pi!r})),.T.,.PARAMETER.);\n"
        f"#{fresh + 2}=COMPOSITE_CURVE_SEGMENT(.CONTINUOUS.,.T.,#{fresh + 1});\n"
        f"{number}=COMPOSITE_CURVE('',(#{fresh + 2}),.F.);\n"
    )
    (back,) = lithon.parse_step(text.replace(line + "\n", new)).model.bodies
    assert volume(back) == pytest.approx(volume(block), rel=1e-9)
    assert sum(e.curve.kind == "b-spline" for e in back.edges()) == 1
    with pytest.raises(BadFile):
        lithon.parse_step(STEP + "ENDSEC;END-ISO-10303-21;")


# ---- poles

R = 10.0
S = np.sqrt(0.5)
QUARTER = np.array([0, 0, 0, 1, 1, 1], dtype=float)
AROUND = np.array([[1, 0], [1, 1], [0, 1], [-1, 1], [-1, 0], [-1, -1], [0, -1], [1, -1], [1, 0]], dtype=float)
WEIGHTS = np.array([1, S] * 4 + [1])


def ball_patch(quarters, south=False, swap=False):
    """A ball as a rational net: so many quarter turns about z, from the equator or the south pole to the north."""
    profile = R * np.array([[0, -1], [1, -1], [1, 0], [1, 1], [0, 1]], dtype=float)[0 if south else 2 :]
    w = np.array([1, S, 1, S, 1])[0 if south else 2 :]
    n = 2 * quarters + 1
    control = np.array([[[r * a[0], r * a[1], z] for r, z in profile] for a in AROUND[:n]])
    ku = np.concatenate([[0.0], np.repeat(np.arange(quarters + 1.0), 2), [float(quarters)]])
    kv = QUARTER if not south else np.array([0, 0, 0, 1, 1, 2, 2, 2], dtype=float)
    weights = np.outer(WEIGHTS[:n], w)
    if swap:
        return BSplineSurface(kv, ku, 2, 2, control.transpose(1, 0, 2), weights.T)
    return BSplineSurface(ku, kv, 2, 2, control, weights)


def turned(profile_south=False):
    whole = ball_patch(1, profile_south)
    profile = BSplineCurve(whole.knots_v, 2, whole.control[0], whole.weights[0])
    return Revolution.of(profile, (0, 0, 0), (0, 0, 1))


def _outward(surface, *loops):
    """A face on a ball's surface that looks out of it, its loops walked as seen from outside."""
    along = bool(surface.normal(np.array([[5.0, 6.0, 5.0]]))[0] @ [5.0, 6.0, 5.0] > 0.0)
    return Face(surface, tuple(loops), along)


def _arc(normal, a, b):
    frame = Frame.of((0, 0, 0), normal, a.point)
    return Coedge(Edge(Circle.about(frame, R), 0.0, np.pi / 2, a, b), True)


@pytest.mark.parametrize("swap", [False, True])
@pytest.mark.parametrize("first", seeds(3))
def test_an_eighth_of_a_ball_with_its_pole_in_a_corner(swap, first):
    v = [Vertex(R * e) for e in np.eye(3)]
    loop = (_arc((0, 0, 1), v[0], v[1]), _arc((1, 0, 0), v[1], v[2]), _arc((0, 1, 0), v[2], v[0]))
    face = _outward(ball_patch(1, swap=swap), loop[first:] + loop[:first])
    assert face_area(face) == pytest.approx(np.pi * R**2 / 2, rel=1e-10)
    origin = Vertex(np.zeros(3))
    axes = [Edge(Line.through(origin.point, q.point), 0.0, R, origin, q) for q in v]
    walls = []
    for k in range(3):
        around = (Coedge(axes[k], True), loop[k], Coedge(axes[(k + 1) % 3], False))
        normal = -np.cross(v[k].point, v[(k + 1) % 3].point)
        walls.append(FaceUse(Face(Plane.of((0, 0, 0), normal), (backwards(around),))))
    body = Body((FaceUse(face), *walls))
    model = Model.of([body])
    assert not flaws(body, model.tolerance) and volume(body) == pytest.approx(np.pi * R**3 / 6, rel=1e-10)
    (back,) = lithon.parse_step(lithon.step_text(model)).model.bodies
    assert volume(back) == pytest.approx(volume(body), rel=1e-10)
    if first == 0:
        sound(lithon.tetrahedral_mesh(model, lithon.SizeRules(2.5)))


@pytest.mark.parametrize("surface", [ball_patch(4), ball_patch(4, swap=True), turned()])
def test_a_dome_with_its_pole_inside(surface):
    ring = Edge(Circle.about(Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0)), R), 0.0, 2 * np.pi)
    floor = Face(Plane.of((0, 0, 0), (0, 0, -1)), ((Coedge(ring, False),),))
    body = Body((FaceUse(_outward(surface, (Coedge(ring, True),))), FaceUse(floor)))
    model = Model.of([body])
    assert not flaws(body, model.tolerance) and volume(body) == pytest.approx(2 / 3 * np.pi * R**3, rel=1e-10)
    assert np.allclose(body.outward(body.faces[0], np.array([[0.0, 0.0, R]])), [0, 0, 1], atol=5e-3)
    (back,) = lithon.parse_step(lithon.step_text(model)).model.bodies
    assert volume(back) == pytest.approx(volume(body), rel=1e-9) and len(back.edges()) == 1
    sound(lithon.tetrahedral_mesh(model, lithon.SizeRules(2.5)))


def test_half_a_ball_between_two_poles():
    v = [Vertex(np.array([0.0, 0.0, z])) for z in (-R, R)]
    left, right = (
        Edge(Circle.about(Frame.of((0, 0, 0), (0, s, 0), (0, 0, -1)), R), 0.0, np.pi, *v) for s in (1.0, -1.0)
    )
    loop = (Coedge(left, True), Coedge(right, False))
    face = Face(ball_patch(2, south=True), (loop,))
    body = Body((FaceUse(face), FaceUse(Face(Plane.of((0, 0, 0), (0, -1, 0)), (backwards(loop),)))))
    model = Model.of([body])
    assert not flaws(body, model.tolerance) and volume(body) == pytest.approx(2 / 3 * np.pi * R**3, rel=1e-9)
    sound(lithon.tetrahedral_mesh(model, lithon.SizeRules(2.5)))


@pytest.mark.parametrize("surface", [ball_patch(4, south=True), turned(True)])
def test_a_whole_ball_without_any_edge(surface):
    body = Body((FaceUse(_outward(surface)),))
    model = Model.of([body])
    assert not flaws(body, model.tolerance) and volume(body) == pytest.approx(4 / 3 * np.pi * R**3, rel=1e-9)
    sound(lithon.tetrahedral_mesh(model, lithon.SizeRules(3.0)))


def test_a_torus_with_a_hole_in_its_side():
    """One face that lacks a patch: bored from the top to its middle, and through."""
    ring = Body((FaceUse(Face(Torus(Frame.of((0, 0, 0), (0, 0, 1)), 10.0, 3.0), ())),))
    for start, length in ((0.0, 5.0), (-6.0, 12.0)):
        bar = prism(Round((0, 0), 1.2), length, Frame.of((10, 0, start), (0, 0, 1)))
        both, common, less = (combine(ring, bar, op, 1e-6) for op in ("union", "intersect", "subtract"))
        total = [sum(volume(b) for b in x) for x in (both, common, less)]
        assert total[0] + total[1] == pytest.approx(volume(ring) + volume(bar), rel=1e-7)
        assert total[2] + total[1] == pytest.approx(2 * np.pi**2 * 90, rel=1e-7)
        (bored,) = less
        assert [f.surface.kind for f in bored.faces].count("torus") == 1
        sound(lithon.tetrahedral_mesh(Model.of([bored]), lithon.SizeRules(1.5)))
        (back,) = lithon.parse_step(lithon.step_text(Model.of([bored]))).model.bodies
        assert volume(back) == pytest.approx(volume(bored), rel=1e-6)


@pytest.mark.parametrize("seed", seeds(12))
def test_no_point_of_a_surface_is_nearer_than_the_closest(seed):
    """Nets that are shaken until they fold: against a dense sampling of the very surface."""
    rng = np.random.default_rng(seed)
    n, m = (int(k) for k in rng.integers(4, 9, 2))

    def knots(k):
        return np.concatenate([np.zeros(4), np.sort(rng.uniform(0.0, 1.0, k - 4)), np.ones(4)])

    flat = np.stack([*np.meshgrid(np.linspace(0, 10, n), np.linspace(0, 10, m), indexing="ij"), np.zeros((n, m))], -1)
    net = flat + rng.normal(size=flat.shape) * rng.uniform(0.2, 0.8)
    surface = BSplineSurface(knots(n), knots(m), 3, 3, net, rng.uniform(0.5, 2.0, (n, m)))
    u, v = np.meshgrid(np.linspace(0, 1, 200), np.linspace(0, 1, 200))
    dense = cKDTree(surface.at(u.ravel(), v.ravel())[0])
    on = surface.at(*rng.uniform(0.0, 1.0, (2, 150)))[0]
    for points in (on, on + rng.normal(size=on.shape)):
        assert (np.abs(surface.signed_distance(points)) < dense.query(points)[0] + 1e-9).all()


@settings(max_examples=examples(60))
@given(st.integers(0, 10**9))
def test_rational_stretches_and_common_knots_change_nothing(seed):
    rng = np.random.default_rng(seed)
    curve = _spline(rng, rng.normal(size=3))
    t0, t1 = np.sort(rng.uniform(0.0, 1.0, 2))
    arc = Circle.about(Frame.of(rng.normal(size=3), rng.normal(size=3)), 2.0)
    one, two = rational(curve, t0, t1), rational(arc, 0.1, float(rng.uniform(0.3, 6.2)))
    t = np.linspace(0.0, 1.0, 40)
    assert np.abs(one.point(t) - curve.point(t0 + t * (t1 - t0))).max() < 1e-8
    assert np.linalg.norm(two.point(t) - arc.frame.origin, axis=1) == pytest.approx(2.0, rel=1e-12)
    back = walked_back(one)
    assert np.abs(back.point(1.0 - t) - one.point(t)).max() < 1e-9
    for before, after in zip((one, two), common(one, two), strict=True):
        assert np.abs(after.point(t) - before.point(t)).max() < 1e-8 and after.degree == max(one.degree, 2)


@pytest.mark.parametrize("weight", [0.3, 1.0, 40.0, 1100.0, 1e-3])
def test_a_rational_edge_is_measured_however_unevenly_it_runs(weight):
    """Of a conic that hugs its corner, or its chord, nearly all is run through in next to no time: against chords."""
    control = np.array([[0.0, 0.0, 0.0], [1.0, 1.5, 0.0], [2.0, 0.0, 0.0]])
    curve = BSplineCurve(np.repeat([0.0, 1.0], 3), 2, control, np.array([1.0, weight, 1.0]))
    t = 1.0 / (1.0 + np.exp(-np.linspace(-40.0, 40.0, 400001)))  # as many near the ends as anywhere
    points = curve.point(np.concatenate([[0.0], t, [1.0]]))
    ends = [Vertex(points[0]), Vertex(points[-1])]
    arc, chord = Edge(curve, 0.0, 1.0, *ends), Edge(Line.through(points[0], points[-1]), 0.0, 2.0, *ends)
    assert arc.length == pytest.approx(float(np.linalg.norm(np.diff(points, axis=0), axis=1).sum()), rel=1e-7)
    face = Face(Plane.of(np.zeros(3), np.array([0.0, 0.0, -1.0])), ((Coedge(arc, True), Coedge(chord, False)),), True)
    x, y, _ = points.T
    want = 0.5 * abs(float((x[:-1] * y[1:] - x[1:] * y[:-1]).sum()))
    assert face_area(face) == pytest.approx(want, rel=1e-7)


def test_an_edge_says_nothing_of_what_lies_across_a_hairpin():
    """A profile of two walls 3 mm apart turned about an axis: on the outer one, beyond where the inner one ends, the
    nearest edge is the inner one's, and the face goes on."""
    bend = np.linspace(0.0, np.pi, 9)
    turn = np.column_stack([21.5 - 1.5 * np.cos(bend), 10.0 + 1.5 * np.sin(bend)])
    flat = np.vstack([[[20.0, z] for z in np.linspace(0, 9, 5)], turn, [[23.0, z] for z in np.linspace(9, -12, 9)]])
    points = np.column_stack([flat[:, 0], np.zeros(len(flat)), flat[:, 1]])
    along = np.concatenate([[0.0], np.cumsum(np.linalg.norm(np.diff(points, axis=0), axis=1))])
    fit = make_interp_spline(along, points, k=3)
    profile = BSplineCurve(fit.t, 3, fit.c)
    axis = Frame.of((0.0, 0.0, 0.0), (0.0, 0.0, 1.0), (1.0, 0.0, 0.0))
    ends = [
        Edge(Circle.about(axis.shifted(z * axis.z), r), 0.0, 2.0 * np.pi, None, None) for r, z in ((20, 0), (23, -12))
    ]
    face = Face(Revolution(profile, axis), ((Coedge(ends[0], True),), (Coedge(ends[1], False),)), False)
    asked = profile.point(np.linspace(profile.low, profile.high, 62)[1:-1])
    spun = np.column_stack([asked[:, 0] * np.cos(1.0), asked[:, 0] * np.sin(1.0), asked[:, 2]])
    near = np.linalg.norm(spun - ends[0].curve.point(ends[0].curve.parameter(spun)), axis=1)
    far = np.linalg.norm(spun - ends[1].curve.point(ends[1].curve.parameter(spun)), axis=1)
    assert ((near < far) & (asked[:, 2] < 0.0)).sum() > 3
    assert (area_of(face).side(spun, 1e-6) == 1).all()
