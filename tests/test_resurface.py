"""Faces on other surfaces: neighbours and rounds follow, all else stays; by closed forms and there and back."""

import numpy as np
import pytest
from blocks import box, hole, plate
from dice import seeds
from solids import motion as any_motion

from lithon import do
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.copies import moved
from lithon.brep.extrude import extruded
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import cast_anchor, collar_anchor, hinge_strap
from lithon.samples.build import Piece, Round, face_toward, prism, raised, revolved, rounded_root
from lithon.trim.resurface import resurfaced
from lithon.trim.rolling import blend_radius, rolled_to, supports

NEAR = 1e-6


def out_by(body, face, by):
    """A plane face's surface moved outwards."""
    same = float(body.outward(face, face.surface.frame.origin[None])[0] @ face.surface.frame.z) > 0.0
    return face.surface.offset(by if same else -by)


@pytest.mark.slow
@pytest.mark.parametrize("make", [collar_anchor, hinge_strap, plate], ids=lambda f: f.__name__)
def test_every_plane_face_goes_out_and_comes_back(make):
    """By a little: the volume grows by area times way, and at most that of the rounds that go along; and back it is as
    it was."""
    body, done = make().bodies[0], 0
    before, way = volume(body), 0.01
    for face in body.faces:
        if face.surface.kind != "plane":
            continue
        made = resurfaced(body, {face: out_by(body, face, way)}, NEAR)
        assert not flaws(made, NEAR) and len(made.faces) == len(body.faces)
        adj = adjacency(body)
        along = sum(face_area(f) for f in adj.neighbours(face) if blend_radius(f) and len(supports(adj, f)) >= 2)
        grown = volume(made) - before
        assert way * face_area(face) * (1 - 1e-3) <= grown <= way * (face_area(face) + along) * (1 + 1e-3)
        (there,) = [f for f in made.faces if f.label == face.label and f.surface.kind == "plane"
                    and abs(float(f.surface.signed_distance(face.surface.frame.origin[None])[0])) == pytest.approx(way)
                    and abs(float(f.surface.frame.z @ face.surface.frame.z)) > 1 - 1e-12
                    and f not in body.faces][:1]  # fmt: skip
        back = resurfaced(made, {there: face.surface}, NEAR)
        assert volume(back) == pytest.approx(before, rel=1e-12)
        done += 1
    assert done >= 6


def test_what_does_not_border_on_it_is_the_same_object():
    body = plate().bodies[0]
    side = face_toward(body, (1, 0, 0))
    made = resurfaced(body, {side: out_by(body, side, 2.0)}, NEAR)
    kept = set(made.faces) & set(body.faces)
    adj = adjacency(body)
    beside = set(adj.neighbours(side)) | {f for n in adj.neighbours(side) for f in adj.neighbours(n)}
    assert set(body.faces) - beside - {side} <= kept and volume(made) == pytest.approx(volume(body) + 320.0, rel=1e-12)


@pytest.mark.parametrize("seed", seeds(6))
def test_a_box_takes_any_six_planes_that_meet(seed):
    """All faces at once, leaning a little: the volume is that of the hexahedron, by tetrahedra from its corners."""
    rng = np.random.default_rng(seed)
    body = moved(box(0, 0, 10, 12, 0, 8, "b"), any_motion(seed))
    new = {}
    for face in body.faces:
        frame = face.surface.frame
        lean = frame.z + 0.06 * rng.normal() * frame.x + 0.06 * rng.normal() * frame.y
        new[face] = Plane.of(frame.origin + 0.3 * rng.normal() * frame.z, lean)
    made = resurfaced(body, new, NEAR)
    assert not flaws(made, NEAR)
    middle = np.mean([v.point for v in made.vertices()], axis=0)
    total = 0.0
    for face in made.faces:
        p = np.array([c.first.point for c in face.loops[0]])
        for k in range(1, len(p) - 1):
            total += abs(float(np.linalg.det(np.stack([p[0], p[k], p[k + 1]]) - middle))) / 6.0
    assert volume(made) == pytest.approx(total, rel=1e-10)


def test_round_surfaces_are_offset():
    pin = prism(Round((0.0, 0.0), 5.0), 10.0)
    (wall,) = [f for f in pin.faces if isinstance(f.surface, Cylinder)]
    assert volume(resurfaced(pin, {wall: wall.surface.offset(1.0)}, NEAR)) == pytest.approx(np.pi * 360.0, rel=1e-12)
    frame = Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))
    cone = revolved([Piece((0, 0)), Piece((6, 0)), Piece((3, 4)), Piece((0, 4))], frame)
    (side,) = [f for f in cone.faces if isinstance(f.surface, Cone)]
    made = resurfaced(cone, {side: side.surface.offset(-0.5)}, NEAR)  # slant 3:4, so radii shrink by 0.5 / 0.8
    a, b = 6.0 - 0.625, 3.0 - 0.625
    assert volume(made) == pytest.approx(np.pi * 4.0 / 3.0 * (a * a + a * b + b * b), rel=1e-12)


def test_a_sphere_and_a_torus_between_planes_are_offset():
    frame = Frame.of((0, 0, 0), (0, 0, 1), (1, 0, 0))
    barrel = revolved([Piece((0, -3)), Piece((4, -3), (0, 0)), Piece((4, 3)), Piece((0, 3))], frame)
    (side,) = [f for f in barrel.faces if isinstance(f.surface, Sphere)]
    made = resurfaced(barrel, {side: side.surface.offset(1.0)}, NEAR)
    assert volume(made) == pytest.approx(np.pi * (6.0**2 * 6.0 - 2.0 * 27.0 / 3.0), rel=1e-12)
    ring = revolved([Piece((0, 0)), Piece((5, 0)), Piece((5, 2), (5, 3), False), Piece((5, 4)),
                     Piece((5, 6)), Piece((0, 6))], frame)  # fmt: skip
    (groove,) = [f for f in ring.faces if isinstance(f.surface, Torus)]
    # A groove of a half circle about (5, 3): its area times the way of its centroid.
    before = np.pi * 25.0 * 6.0 - 2.0 * np.pi * (5.0 * 0.5 * np.pi - 2.0 / 3.0)
    assert volume(ring) == pytest.approx(before, rel=1e-10)
    wider = resurfaced(ring, {groove: groove.surface.offset(0.5)}, NEAR)
    r = groove.surface.offset(0.5).minor
    assert volume(wider) == pytest.approx(
        np.pi * 150.0 - 2.0 * np.pi * (5.0 * 0.5 * np.pi * r**2 - 2.0 / 3.0 * r**3), rel=1e-9
    )


def test_rounds_are_rolled_along():
    """A boss with a fillet at its root: the ground rises, the fillet rises with it and keeps its radius."""
    body = box(0, 0, 40, 40, 0, 10, "b")
    top = face_toward(body, (0, 0, 1))
    frame = Frame.of((20, 20, 10), (0, 0, 1), (1, 0, 0))
    boss = raised(body, top, frame, Round((0, 0), 6.0), 12.0, rounded_root(0.0, 12.0, 2.0))
    (root,) = [f for f in boss.faces if isinstance(f.surface, Torus)]
    assert blend_radius(root) == pytest.approx(2.0) and len(supports(adjacency(boss), root)) == 2
    ground = next(f for f in boss.faces if f.surface.kind == "plane" and len(f.loops) == 2)
    made = resurfaced(boss, {ground: out_by(boss, ground, 3.0)}, NEAR)
    (after,) = [f for f in made.faces if isinstance(f.surface, Torus)]
    assert after.surface.minor == pytest.approx(2.0) and after.surface.frame.origin[2] == pytest.approx(15.0)
    assert volume(made) - volume(boss) == pytest.approx(3.0 * (1600.0 - np.pi * 36.0), rel=1e-9)
    wider = resurfaced(boss, rolled_to(adjacency(boss), [root], 3.5, NEAR), NEAR, False)

    def fillet(r):
        """Of an inner fillet about a radius of 6: its section turned about the axis."""
        return 2.0 * np.pi * ((1.0 - np.pi / 4.0) * r**2 * 6.0 + (0.5 - (np.pi / 4.0 - 1.0 / 3.0)) * r**3)

    assert volume(wider) - volume(boss) == pytest.approx(fillet(3.5) - fillet(2.0), rel=1e-9)


def test_all_fillets_of_the_strap_are_resized_and_cleared():
    from lithon.samples import STRAP
    from lithon.trim.clear import clear

    body = hinge_strap().bodies[0]
    rounds = [f for f in body.faces if isinstance(f.surface, Cylinder)]
    made = resurfaced(body, rolled_to(adjacency(body), rounds, 0.7, NEAR), NEAR, False)
    want = sum(STRAP.blocks) + 4.0 * (1.0 - np.pi / 4.0) * 0.49 * STRAP.width
    assert volume(made) == pytest.approx(want, rel=1e-12)
    fresh = [f for f in made.faces if isinstance(f.surface, Cylinder)]
    assert volume(clear(made, fresh, NEAR)[0].body) == pytest.approx(sum(STRAP.blocks), rel=1e-12)


def test_fillets_around_the_corners_of_the_cast_anchor():
    """Its chains hold cylinders, tori and spheres; each plane that may move a little does, and stays sound."""
    body, done, refused = cast_anchor().bodies[0], 0, 0
    for face in body.faces:
        if face.surface.kind == "plane" and face_area(face) > 400.0:
            try:
                made = resurfaced(body, {face: out_by(body, face, 0.2)}, NEAR)
            except Refusal as refusal:
                refused += 1
                assert refusal.what and (refusal.remedy or refusal.where)
                continue
            assert not flaws(made, NEAR)
            assert volume(made) - volume(body) == pytest.approx(0.2 * face_area(face), rel=0.3)
            done += 1
    assert done >= 2 and done + refused >= 8


def test_what_cannot_be_is_refused_and_nothing_changes():
    body = plate().bodies[0]
    side, bore = face_toward(body, (1, 0, 0)), hole(plate(), 4.0)
    with pytest.raises(Refusal):
        resurfaced(body, {side: out_by(body, side, -40.0)}, NEAR)
    with pytest.raises(Refusal, match="not of this body"):
        resurfaced(body, {bore[0]: bore[0].surface}, NEAR)
    with pytest.raises(Refusal, match="no round"):
        rolled_to(adjacency(body), [side], 1.0, NEAR)
    opened = body.with_uses(u for u in body.uses if u.face is not side)
    with pytest.raises(Refusal, match="opening"):
        top = face_toward(opened, (0, 0, 1))
        resurfaced(opened, {top: out_by(opened, top, 1.0)}, NEAR)


@pytest.mark.parametrize("seed", seeds(4))
def test_a_face_carried_along_makes_a_solid(seed):
    """With holes and arcs, at any angle to it: area times the way along its normal."""
    rng = np.random.default_rng(seed)
    body = moved(plate().bodies[0], any_motion(seed))
    face = max(body.faces, key=face_area)
    normal = body.outward(face, face.surface.frame.origin[None])[0]
    way = 5.0 * normal * rng.choice([-1.0, 1.0]) + rng.normal(size=3)
    made = extruded(face, way)
    assert not flaws(made, NEAR) and len(made.faces) == 2 + len(list(face.edges()))
    assert volume(made) == pytest.approx(face_area(face) * abs(float(way @ normal)), rel=1e-9)
    assert not set(made.edges()) & set(body.edges())
    with pytest.raises(Refusal, match="along the face"):
        extruded(face, np.cross(normal, way))
    with pytest.raises(Refusal, match="plane"):
        extruded(next(f for f in body.faces if f.surface.kind == "cylinder"), way)


@pytest.mark.parametrize("by", [0.5, -0.5, -3.9])
def test_a_hollow_without_an_edge_is_offset(by):
    """A sphere all inside a block has no edge by which to tell which way it looks."""
    state = run(State(Model.of([box(0, 0, 14, 14, 0, 14, "block")])), do.sphere(3.0, (7, 7, 7))).state
    state = run(state, do.subtract(*state.model.bodies)).state
    (ball,) = [f for f in state.model.faces() if f.surface.kind == "sphere"]
    out = run(state, do.offset(ball, by)).model
    assert volume(out.bodies[0]) == pytest.approx(14.0**3 - 4.0 / 3.0 * np.pi * (3.0 - by) ** 3, rel=1e-12)
    assert not flaws(out.bodies[0], out.tolerance)
