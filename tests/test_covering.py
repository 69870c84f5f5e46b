"""What is bad is covered: patches between edges, surfaces skimmed, what fails a mesh named, kept and approximated."""

import numpy as np
import pytest
from dice import seeds

from lithon import do
from lithon.arrays import frozen
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.analysis.openings import tears, torn_faces
from lithon.brep.cleaning import least_area
from lithon.brep.measures import face_area, volume
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Coedge, Edge, Face, Model, Vertex
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.curves import Line
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.shape_operator import shape_operator
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.mend.patch import fitted
from lithon.mesh.failing import approximated, failing
from lithon.mesh.sizing import SizeRules
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples import collar_anchor
from lithon.samples.build import Piece, prism, rectangle
from lithon.samples.gate_vane import VANE, gate_vane
from lithon.samples.lining_ring import RING, lining_ring
from lithon.samples.sill_ramp import RAMP, sill_ramp
from lithon.survey.findings import findings
from lithon.trim.skim import skimmed

# ---- patches


@pytest.mark.parametrize("seed", seeds(9, 3))
def test_a_patch_that_is_tangent_all_around_is_the_cubic_it_was_cut_from(seed):
    """A cubic is biharmonic: between clamped edges it is itself the surface of least bending, whatever the outline."""
    rng = np.random.default_rng(seed)
    c = rng.normal(size=10) * 0.4
    turn = Frame.of(rng.normal(size=3), rng.normal(size=3))

    def z(x, y):
        return c @ np.stack([x**0, x, y, x * x, x * y, y * y, x**3, x * x * y, x * y * y, y**3]) * 0.3

    def normal(x, y, h=1e-6):
        slope = np.stack([-(z(x + h, y) - z(x - h, y)) / (2 * h), -(z(x, y + h) - z(x, y - h)) / (2 * h), x**0], axis=1)
        return slope / np.linalg.norm(slope, axis=1)[:, None]

    a = np.linspace(0.0, 2.0 * np.pi, 240, endpoint=False)
    r = 1.0 + 0.15 * np.cos(int(rng.integers(3, 6)) * a)
    x, y = r * np.cos(a), 0.7 * r * np.sin(a)
    axes = np.stack([turn.x, turn.y, turn.z])
    points = turn.world(np.stack([x, y, z(x, y)], axis=1))
    plane = Plane.of(turn.origin, turn.z, turn.x)
    made = fitted(points, plane, 1e-5, normal(x, y) @ axes, np.ones(len(x)))
    s, t = (0.8 * rng.uniform(-1, 1, 60) for _ in range(2))
    inside = np.hypot(s, t / 0.7) < 0.75
    at = turn.world(np.stack([s, t, z(s, t)], axis=1))[inside]
    assert np.abs(made.signed_distance(at)).max() < 1e-4 and np.abs(made.signed_distance(points)).max() < 1e-5
    lean = np.abs((made.normal(at) * (normal(s, t)[inside] @ axes)).sum(axis=1))
    assert np.degrees(np.arccos(np.clip(lean, -1, 1))).max() < 0.1


def _around(surface, place, normal, width):
    """Points (n,3) of a surface around a place, in a wavy loop."""
    frame = Frame.of(place, normal)
    a = np.linspace(0.0, 2.0 * np.pi, 200, endpoint=False)
    r = width * (1.0 + 0.1 * np.cos(3.0 * a))
    flat = frame.world(np.stack([r * np.cos(a), 0.8 * r * np.sin(a), 0.0 * a], axis=1))
    return surface.project(flat), Plane.of(place, normal)


_BENT = [
    Sphere(Frame.of([1.0, 2.0, 3.0], [0.0, 0.6, 0.8]), 4.0),
    Cylinder.of([1.0, -2.0, 0.5], [0.6, 0.0, 0.8], 3.0),
    Cone(Frame.of([0.0, 0.0, 1.0], [0.0, 1.0, 0.0]), 5.0, 0.4),
    Torus(Frame.of([0.0, 3.0, 0.0], [0.8, 0.0, 0.6]), 7.0, 2.0),
]


def _principal(surface, points):
    """The principal curvatures (n,2) in closed form, seen from inside, the smaller first."""
    if isinstance(surface, Sphere):
        return np.full((len(points), 2), 1.0 / surface.radius)
    if isinstance(surface, Cylinder):
        return np.stack([np.zeros(len(points)), np.full(len(points), 1.0 / surface.radius)], axis=1)
    x, y, _ = surface.frame.local(points).T
    if isinstance(surface, Cone):
        return np.stack([0.0 * x, np.cos(surface.angle) / np.hypot(x, y)], axis=1)
    minor = surface.minor
    along = (np.hypot(x, y) - surface.major) / minor / np.hypot(x, y)
    return np.sort(np.stack([along, np.full(len(points), 1.0 / minor)], axis=1), axis=1)


@pytest.mark.parametrize("surface", _BENT, ids=lambda s: s.kind)
def test_a_patch_that_is_to_goes_on_in_the_curvature_of_what_is_beside_it(surface):
    """Where it is told in closed form how it bends: the shape operator tells the principal curvatures, and a patch has
    them across its border, which one that is tangent alone has not."""
    place = surface.project(np.array([[4.0, 5.0, 6.0]]))[0]
    normal = surface.normal(place[None])[0]
    points, plane = _around(surface, place, normal, 1.0)
    shapes = shape_operator(surface, points)
    told = -np.linalg.eigvalsh(shapes)
    told = np.sort(np.take_along_axis(told, np.argsort(np.abs(told), axis=1)[:, 1:], axis=1), axis=1)
    assert np.allclose(told, np.sort(_principal(surface, points), axis=1), atol=2e-6)
    normals, all_of = surface.normal(points), np.ones(len(points))
    largest, off = np.abs(told).max(), []
    for curved in (None, all_of):
        made = fitted(points, plane, 1e-4, normals, all_of, shapes, curved)
        same = np.sign((made.normal(points) * normals).sum(axis=1))[:, None, None]
        off.append(np.abs(same * shape_operator(made, points) - shapes).max())
        assert np.abs(made.signed_distance(points)).max() < 1e-4
    assert off[1] < 0.02 * largest and off[1] < 0.5 * off[0], off


def test_a_ramp_runs_out_into_the_landing_in_its_curvature():
    """A cubic does not: its curvature ends at six heights over the square of its length."""
    sound = sill_ramp(torn=False)
    ramp = next(f for f in sound.bodies[0].faces if f.surface.kind == "b-spline")
    ends = [e for e in ramp.edges() if e.curve.kind == "line"]
    out = run(State(sound), do.patch_over(list(ramp.edges()), curved=ends))
    cubic = 6.0 * (RAMP.high - RAMP.low) / RAMP.length**2
    assert out.details[0]["curvature_off_per_mm"] < 0.1 * cubic and out.details[0]["kink_deg"] < 0.01
    made = next(f for f in out.model.bodies[0].faces if f.surface.kind == "b-spline")
    middle = np.stack([e.at(0.5) for e in ends])
    assert made.surface.bend(middle).max() < 0.1 * cubic < ramp.surface.bend(middle).min()
    assert "curvature" in out.words and not flaws(out.model.bodies[0], out.model.tolerance)
    with pytest.raises(Refusal, match="not around"):
        run(State(sound), do.patch_over(list(ramp.edges()), curved=list(sound.bodies[0].faces[0].edges())[:1]))


def test_what_is_torn_gets_a_card_that_cures_it():
    model = sill_ramp()
    (card,) = [c for c in findings(model, 8.0) if c.severity == "stops"]
    assert card.kind == "torn surface" and len(card.faces) == 2 and len(card.edges) == 4
    offer = {name: card.given(source) for name, source in card.offer.takes}
    out = run(State(model, settings=Settings(8.0)), do.patch_over(**offer))
    assert volume(out.model.bodies[0]) == pytest.approx(RAMP.volume, rel=1e-9) and "filled" in out.words
    assert not [c for c in findings(out.model, 8.0) if c.severity == "stops"]
    # What is an opening, or stands by itself, is no tear.
    block = prism(rectangle(0, 0, 20, 10), 5.0)
    for lost in block.faces:
        left = block.with_uses(u for u in block.uses if u.face is not lost)
        assert not tears(left) and not torn_faces(left)
    hidden = lining_ring().bodies[4]
    assert len(torn_faces(hidden)) == 1 and not tears(hidden)


def test_patches_are_refused_in_words():
    model = sill_ramp()
    (body,) = model.bodies
    sides = list(body.faces[0].edges())
    with pytest.raises(Refusal, match="both of its sides"):
        run(State(model), do.patch_over(sides))
    sound = sill_ramp(torn=False)
    ramp = next(f for f in sound.bodies[0].faces if f.surface.kind == "b-spline")
    again = run(
        State(sound), do.patch_over(list(ramp.edges()), tangent=[e for e in ramp.edges() if e.curve.kind == "line"])
    )
    assert volume(again.model.bodies[0]) == pytest.approx(RAMP.volume, rel=1e-9)
    sides = list(sound.bodies[0].faces[0].edges())
    with pytest.raises(Refusal, match="not around"):
        run(State(sound), do.patch_over(list(ramp.edges()), tangent=sides[:1]))


# ---- skim


@pytest.mark.parametrize("seed", seeds(12, 4))
def test_whatever_lies_under_a_bore_is_swallowed_and_the_bore_is_whole_again(seed):
    rng = np.random.default_rng(seed)
    low, high, bore, outer, tall = 0.0, float(rng.uniform(0.8, 2.5)), 50.0, 58.0, 20.0
    cuts = np.sort(rng.uniform(low + 0.05, high - 0.05, 2 * int(rng.integers(1, 4))))
    while np.diff(cuts).min(initial=1.0) < 0.03:
        cuts = np.sort(rng.uniform(low + 0.05, high - 0.05, len(cuts)))

    def at(r, a):
        return float(r * np.cos(a)), float(r * np.sin(a))

    inside, missing = [Piece(at(bore, high), (0.0, 0.0), ccw=False)], 0.0
    for b, a in zip(cuts[::-2], cuts[-2::-2], strict=True):
        deep = bore + float(rng.uniform(0.1, 0.9))
        wide = 0.01 if rng.random() < 0.5 else 0.0  # wider at its bottom
        inside += [Piece(at(bore, b)), Piece(at(deep, b + wide), (0.0, 0.0), ccw=False), Piece(at(deep, a - wide)),
                   Piece(at(bore, a), (0.0, 0.0), ccw=False)]  # fmt: skip
        missing += 1.0
    outline = [Piece(at(outer, low), (0.0, 0.0)), Piece(at(outer, high)), *inside, Piece(at(bore, low))]
    body = prism(outline, tall)
    face = next(f for f in body.faces if f.surface.kind == "cylinder" and abs(f.surface.radius - bore) < 1e-9)
    made = skimmed(body, face.surface, False, 1.0, 1e-6)
    whole = 0.5 * (high - low) * (outer**2 - bore**2) * tall
    assert volume(made.body) == pytest.approx(whole, rel=1e-11) and len(made.body.faces) == 6
    assert volume(body) < whole and made.swallowed == 3 * missing and not flaws(made.body, 1e-6)
    with pytest.raises(Refusal, match=r"whole body|does not|apart"):
        skimmed(body, face.surface, False, 9.0, 1e-6)


def test_nothing_under_a_face_and_a_face_that_is_chosen_alone():
    block = prism(rectangle(0, 0, 30, 20), 10.0)
    top = next(f for f in block.faces if f.surface.kind == "plane" and float(f.surface.frame.z[2]) > 0.9)
    with pytest.raises(Refusal, match="nothing lies under"):
        skimmed(block, top.surface, True, 1.0, 1e-6)
    model = lining_ring()
    bore = next(f for f in model.bodies[5].faces if f.surface.kind == "cylinder" and f.surface.radius < 101.0)
    treads = [f for f in model.bodies[0].faces if f.surface.kind == "cylinder" and 100.1 < f.surface.radius < 101.0]
    deepest = max(treads, key=lambda f: f.surface.radius)
    with pytest.raises(Refusal):  # its riser would be left hanging
        skimmed(model.bodies[0], bore.surface, False, 1.0, 1e-6, [deepest])
    whole = skimmed(model.bodies[0], bore.surface, False, 1.0, 1e-6)
    assert volume(whole.body) == pytest.approx(RING.volume(0), rel=1e-11)


# ---- what fails


def test_a_face_that_passes_through_itself_is_found_and_no_other():
    for body in (*gate_vane(spoiled=False).bodies, *sill_ramp(torn=False).bodies):
        assert not self_intersections(body, 1e-5)
    (body,) = gate_vane().bodies
    ((one, two, spots),) = self_intersections(body, 1e-5)
    assert one is two and one.surface.kind == "b-spline" and len(spots)
    middle = spots.mean(axis=0)
    assert 0.4 * VANE.length < middle[0] < 0.9 * VANE.length and abs(middle[1]) < 0.3 * VANE.width
    (named,) = failing([body], None, 1e-5)
    assert named.face is one and "itself" in named.what


def test_a_bump_between_the_edges_is_seen():
    """A free-form face that is flat along all of its edges and the middles between them."""
    n, size, high = 14, 10.0, 3.0
    knots = frozen(np.concatenate([[0.0] * 3, np.linspace(0, 1, n - 2), [1.0] * 3]))
    at = np.array([knots[k + 1 : k + 4].mean() for k in range(n)]) * size
    x, y = np.meshgrid(at, at, indexing="ij")
    net = np.stack([x, y, np.zeros_like(x)], axis=-1)
    net[4:6, 4:6, 2] = high
    corners = [
        Vertex(frozen(np.array(p))) for p in ((0.0, 0.0, 0.0), (size, 0.0, 0.0), (size, size, 0.0), (0.0, size, 0.0))
    ]
    edges = [Edge(Line(a.point, frozen((b.point - a.point) / size)), 0.0, size, a, b)
             for a, b in zip(corners, corners[1:] + corners[:1], strict=True)]  # fmt: skip
    face = Face(BSplineSurface(knots, knots, 3, 3, frozen(net)), (tuple(Coedge(e, True) for e in edges),))
    mesh = face_mesh(face)
    a, b, c = (mesh.points[mesh.triangles[:, k]] for k in range(3))
    area = 0.5 * np.linalg.norm(np.cross(b - a, c - a), axis=1).sum()
    assert float(mesh.points[:, 2].max()) > 0.8 * high * 0.5
    assert area == pytest.approx(face_area(face), rel=0.02) and area > 1.05 * size * size


@pytest.mark.slow
def test_an_approximation_is_as_large_as_what_it_stands_for():
    """A body that lacks a plane face is closed over by triangles: just as it was."""
    anchor = collar_anchor().bodies[0]
    for lost in [f for f in anchor.faces if f.surface.kind == "plane" and len(f.loops) == 1][:2]:
        left = Model.of([anchor.with_uses(u for u in anchor.uses if u.face is not lost)])
        mesh = approximated(left, SizeRules(12.0), Refusal("open"))
        assert mesh.conformal() and float(mesh.volumes.sum()) == pytest.approx(volume(anchor), rel=5e-3)


@pytest.mark.parametrize("seed", seeds(8, 2))
def test_a_rim_with_corners_on_a_line_is_filled_without_flat_triangles(seed):
    rng = np.random.default_rng(seed)
    corners = np.array([[0, 0], [9, 0], [9, 7], [0, 7]], dtype=float)
    rim = []
    for a, b in zip(corners, np.roll(corners, -1, axis=0), strict=True):
        t = np.sort(np.concatenate([[0.0], rng.uniform(0.0, 1.0, rng.integers(1, 9))]))
        rim.append(a + t[:, None] * (b - a))
    points = np.column_stack([np.concatenate(rim), np.zeros(sum(map(len, rim)))])
    t = least_area(np.ascontiguousarray(points))
    a, b, c = (points[t[:, k]] for k in range(3))
    cross = np.cross(b - a, c - a)[:, 2]
    assert (cross > 1e-9).all() and 0.5 * cross.sum() == pytest.approx(63.0)
