"""Clear: closed forms after every removal, other solutions, refusals in words."""

import numpy as np
import pytest
from dice import examples
from hypothesis import given, settings
from hypothesis import strategies as st
from solids import frame as frame_of

from lithon.arrange.boolean import combine
from lithon.bond.share import bond
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.collapse import collapsed
from lithon.brep.measures import face_width, volume
from lithon.brep.tessellation.patches import change
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.mesh.sizing import SizeRules
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.samples import ANCHOR
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, revolved, sink
from lithon.survey.features import feature_of, features
from lithon.trim.clear import clear

UP = (0.0, 0.0, 1.0)


def of_kind(body, kind, test=lambda f: True):
    return [x for f in features(body) if f.kind == kind and test(f) for x in f.faces]


@pytest.mark.parametrize(
    "kind,test,gain,faces",
    [
        ("hole", lambda f: f.size < 2.6, ANCHOR.weeps_volume, 34),
        ("hole", lambda f: f.size < 5, ANCHOR.weeps_volume + ANCHOR.grease_volume, 33),
        ("fillet", lambda f: f.convex, ANCHOR.outer_rounds_volume, 28),
        ("fillet", lambda f: not f.convex, -(4 - np.pi) * ANCHOR.pocket_round**2 * ANCHOR.pocket_depth, 32),
        ("pocket", lambda f: True, ANCHOR.pocket_volume, 27),
    ],
)
def test_closed_forms_on_the_collar_anchor(anchor, kind, test, gain, faces):
    (body,) = anchor.bodies
    best = clear(body, of_kind(body, kind, test), anchor.tolerance)[0]
    assert best.volume_change == pytest.approx(gain, rel=1e-9)
    assert volume(best.body) == pytest.approx(ANCHOR.volume + gain, rel=1e-12)
    assert len(best.body.faces) == faces
    assert not flaws(best.body, anchor.tolerance)
    # Whatever shares no edge and no vertex with what went is the very same object.
    gone = set(of_kind(body, kind, test))
    near = {x for f in gone for e in f.edges() for x in (e, e.start, e.end)} - {None}
    far = [f for f in body.faces if f not in gone and not any({e, e.start, e.end} & near for e in f.edges())]
    assert len(far) > 10 and set(far) <= set(best.body.faces)


def test_everything_at_once_leaves_a_plain_bracket(anchor):
    (body,) = anchor.bodies
    chosen = of_kind(body, "fillet") + of_kind(body, "pocket") + of_kind(body, "hole") + of_kind(body, "boss")
    (best, *_) = clear(body, chosen, anchor.tolerance)
    assert volume(best.body) == pytest.approx(120 * 80 * 12, rel=1e-12)
    assert len(best.body.faces) == 6 and len(best.body.edges()) == 12


@settings(max_examples=examples(25), deadline=None)
@given(
    st.floats(20, 80),
    st.floats(20, 80),
    st.floats(3, 30),
    st.lists(st.tuples(st.floats(0.1, 0.9), st.floats(0.1, 0.9), st.floats(0.2, 1.5), st.booleans()), max_size=4),
    st.floats(0.2, 2.0),
    st.tuples(*[st.floats(-1, 1)] * 3).filter(lambda v: np.linalg.norm(v) > 0.2),
)
def test_a_spoiled_block_is_itself_again(a, b, h, holes, r, z):
    """Random rounded, drilled and stepped blocks, anywhere in space, cleared back to six faces."""
    base = Frame.of((3, -7, 11), z)
    top = Frame(base.origin + h * base.z, base.x, base.y, base.z)
    body = prism(rectangle(0, 0, a, b, r), h, base)
    kept: list[tuple[float, float, float]] = []
    for x, y, d, through in holes:
        p = (4 + x * (a - 8), 4 + y * (b - 8), d)
        if all(np.hypot(p[0] - q[0], p[1] - q[1]) > p[2] + q[2] + 0.1 for q in kept):
            kept.append(p)
            far = face_toward(body, -base.z) if through else None
            depth = h if through else 0.4 * h
            body = sink(body, face_toward(body, base.z), top, Round(p[:2], d), depth, far)
    tolerance = Model.of([body]).tolerance
    assert not flaws(body, tolerance)
    found = features(body)
    assert sum(f.kind == "hole" for f in found) == len(kept)
    assert sum(f.kind == "fillet" for f in found) == 4
    chosen = [x for f in found if f.kind in ("hole", "fillet") for x in f.faces]
    best = clear(body, chosen, tolerance)[0].body
    assert volume(best) == pytest.approx(a * b * h, rel=1e-9)
    assert len(best.faces) == 6 and len(best.edges()) == 12


def test_a_chamfer_and_a_notch_close():
    """A chamfer is a wound with four neighbours; a notch across a corner has five."""
    profile = [Piece((0, 0)), Piece((10, 0)), Piece((10, 6)), Piece((8, 8)), Piece((0, 8))]
    body = prism(profile, 5.0)
    slope = max(body.faces, key=lambda f: abs(f.surface.frame.z[0] * f.surface.frame.z[1]))
    best = clear(body, [slope], 1e-6)[0]
    assert volume(best.body) == pytest.approx(400.0) and best.volume_change == pytest.approx(10.0)
    step = prism([Piece((0, 0)), Piece((10, 0)), Piece((10, 5)), Piece((6, 5)), Piece((6, 8)), Piece((0, 8))], 5.0)
    riser = next(f for f in step.faces if abs(f.surface.frame.z[0]) > 0.9 and f.surface.frame.origin[0] == 6.0)
    tread = next(f for f in step.faces if abs(f.surface.frame.z[1]) > 0.9 and f.surface.frame.origin[1] == 5.0)
    filled = clear(step, [riser, tread], 1e-6)[0]
    assert volume(filled.body) == pytest.approx(400.0)


def test_a_blind_hole_and_a_round_boss():
    block = prism(rectangle(0, 0, 20, 20), 10.0)
    up = Frame.of((0, 0, 10), UP, (1, 0, 0))
    blind = sink(block, face_toward(block, UP), up, Round((6, 6), 2.0), 5.0)
    (hole,) = [f for f in features(blind) if f.kind == "hole"]
    assert (hole.size, hole.depth, hole.through, len(hole.faces)) == (4.0, pytest.approx(5.0), False, 2)
    stud = raised(blind, face_toward(blind, UP), up, Round((14, 14), 3.0), 6.0)
    (boss,) = [f for f in features(stud) if f.kind == "boss"]
    assert (boss.size, boss.depth) == (pytest.approx(6.0, rel=1e-2), pytest.approx(6.0))
    bare = clear(stud, [*hole.faces, *boss.faces], 1e-6)[0]
    assert volume(bare.body) == pytest.approx(4000.0)
    assert feature_of(stud, hole.faces[0]).kind == "hole" and feature_of(stud, boss.faces[0]).kind == "boss"


def test_refusals_say_where_and_what_to_try(anchor):
    (body,) = anchor.bodies
    with pytest.raises(Refusal) as caught:
        clear(body, [face_toward(body, (0, 0, -1))], anchor.tolerance)
    assert caught.value.where and caught.value.remedy
    with pytest.raises(Refusal, match="nothing would remain"):
        clear(body, body.faces, anchor.tolerance)
    floor = next(f for f in of_kind(body, "pocket") if f.surface.kind == "plane" and abs(f.surface.frame.z[2]) > 0.9)
    with pytest.raises(Refusal) as caught:
        clear(body, [floor], anchor.tolerance)
    assert "(30" in caught.value.where
    with pytest.raises(Refusal):
        clear(prism(rectangle(0, 0, 1, 1), 1.0), [], 1e-6)


def test_the_ghost_is_what_was_gained(anchor):
    """The patches shown before a step have the area by which the remaining surfaces grew."""
    (body,) = anchor.bodies
    fillets = of_kind(body, "fillet", lambda f: f.convex and f.size == 2.0)
    after = anchor.replaced(body, [clear(body, fillets, anchor.tolerance)[0].body])
    ghost = change(anchor, after)
    v = ghost.points[ghost.triangles]
    area = 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum()
    sides, ends = 4 * 2 * 2.0 * 12.0, 2 * (4 - np.pi) * 4.0
    assert area == pytest.approx(sides + ends, rel=2e-3)
    assert set(ghost.gone) == set(fillets)


@pytest.mark.parametrize("top", [9.0, 12.0])
def test_walls_that_would_run_into_another_part_of_the_body_are_refused(top):
    """A ridge under an overhanging arm: low enough it closes to a known volume, else it would come through the arm."""
    across = Frame.of((0, 20, 0), (0, -1, 0), (1, 0, 0))
    clamp = prism(
        [Piece(p) for p in ((0, 0), (40, 0), (40, 5), (10, 5), (10, 15), (40, 15), (40, 20), (0, 20))], 20.0, across
    )
    half = 2.0 if top == 9.0 else 4.0
    ridge = [Piece(p) for p in ((15, 5), (35, 5), (25 + half, top), (25 - half, top))]
    (body,) = combine(clamp, prism(ridge, 10.0, Frame.of((0, 15, 0), (0, -1, 0), (1, 0, 0))), "union", 1e-6)
    flat = [f for f in body.faces if f.surface.kind == "plane" and abs(f.surface.frame.origin[2] - top) < 1e-6
            and abs(f.surface.frame.z[2]) > 0.99]  # fmt: skip
    slope = (10.0 - half) / (top - 5.0)
    rise = half / slope
    if top + rise < 15.0:
        (way,) = clear(body, flat, 1e-6)
        assert way.volume_change == pytest.approx(half * rise * 10.0, rel=1e-9)
    else:
        with pytest.raises(Refusal, match="pass through") as refusal:
            clear(body, flat, 1e-6)
        assert refusal.value.where and refusal.value.remedy


@pytest.mark.parametrize("low", [9.0, 12.0])
def test_a_dome_that_would_bulge_into_an_arm_is_refused(low):
    """A ball cut flat grows back far above its rim: under an arm that leaves it room, or does not."""
    up = Frame.of((0, 0, 0), UP, (1, 0, 0))
    ball = revolved([Piece((0, -10), (0, 0)), Piece((0, 10))], up)
    (cut,) = combine(ball, prism(rectangle(-20, -20, 20, 20), 30.0, up.shifted(2.0 * up.z)), "subtract", 1e-6)
    body = prism(rectangle(-30, -30, 30, 30), 6.0, up.shifted(-8.0 * up.z))
    for part in (
        prism(rectangle(20, -30, 30, 30), 20.0, up.shifted(-3.0 * up.z)),
        prism(rectangle(-5, -30, 30, 30), 4.0, up.shifted(low * up.z)),
        cut,
    ):
        (body,) = combine(body, part, "union", 1e-6)
    flat = [f for f in body.faces if f.surface.kind == "plane" and abs(f.surface.frame.origin[2] - 2.0) < 1e-6
            and len(list(f.edges())) == 1]  # fmt: skip
    if low > 10.0:
        (way,) = clear(body, flat, 1e-6)
        assert way.volume_change == pytest.approx(np.pi * 8.0**2 * (3 * 10.0 - 8.0) / 3.0, rel=1e-9)
    else:
        with pytest.raises(Refusal, match="pass through"):
            clear(body, flat, 1e-6)


@settings(max_examples=examples(20), deadline=None)
@given(st.lists(st.floats(5e-7, 4e-6), min_size=1, max_size=5), st.floats(0.0, 0.7))
def test_steps_as_thin_as_the_tolerance_close_like_a_zip(steps, tilt):
    """A side of stairs, each of a few millionths: treads that should be one plane. Regrowing cannot help there,
    since the planes beside a riser are parallel."""
    stairs, x = [Piece((0.0, 0.0)), Piece((10.0, 0.0))], 10.0
    for k, rise in enumerate(steps):
        y = 5.0 * (k + 1) / len(steps)
        stairs += [Piece((x, y)), Piece((x - rise, y))]
        x -= rise
    stairs += [Piece((x, 8.0)), Piece((0.0, 8.0))]
    body = prism(stairs, 3.0, Frame.of((1.0, 2.0, 3.0), (tilt, 0.2, 1.0)))
    risers = [f for f in body.faces if face_width(f) < 1e-5]
    assert len(risers) == len(steps)
    with pytest.raises(Refusal):  # half a step is no wider than one place, the whole stair is not one face
        collapsed(body, body.faces, 1e-5)
    best = clear(body, risers, 1e-6)[0]
    assert not flaws(best.body, 1e-6)
    assert len(best.body.faces) == len(body.faces) - len(steps)
    assert len(best.body.edges()) == len(body.edges()) - 3 * len(steps)
    assert abs(best.volume_change) < 10.0 * 3.0 * sum(steps)
    mesh = tetrahedral_mesh(Model((best.body,), 1e-6), SizeRules(2.0))
    assert mesh.conformal() and mesh.quality.smallest_angle.min() > 10.0


def test_a_fillet_that_ends_where_four_faces_meet():
    """A post stands on the block, its edge in the end of the fillet: that vertex stays, and the corner rises beside."""
    rounded = [Piece((0.0, 0.0)), Piece((10.0, 0.0)), Piece((10.0, 6.0), (8.0, 6.0)), Piece((8.0, 8.0)),
               Piece((0.0, 8.0))]  # fmt: skip
    block = prism(rounded, 4.0)
    post = prism(rectangle(7.0, 3.0, 10.0, 6.0), 3.0, Frame.of((0.0, 0.0, 4.0), UP, (1.0, 0.0, 0.0)))
    (body,) = combine(block, post, "union", 1e-6)
    adj = adjacency(body)
    end = min(adj.at_vertex, key=lambda v: float(np.linalg.norm(v.point - [10.0, 6.0, 4.0])))
    assert len(adj.at_vertex[end]) >= 4
    (fillet,) = of_kind(body, "fillet")
    best = clear(body, [fillet], 1e-6)[0]
    assert best.volume_change == pytest.approx((1.0 - np.pi / 4.0) * 4.0 * 4.0, rel=1e-9)
    assert not flaws(best.body, 1e-6)
    assert volume(best.body) == pytest.approx(10 * 8 * 4 + 3 * 3 * 3, rel=1e-12)


@settings(max_examples=examples(20), deadline=None)
@given(st.floats(0.3, 2.0), st.integers(0, 1), st.floats(0.0, 1.0))
def test_one_of_two_chamfers_that_end_in_one_vertex(width, which, tilt):
    """Both chamfers and both walls meet there; the other chamfer runs on until it meets the edge that comes back."""
    frame = Frame.of((1.0, 2.0, 3.0), (tilt, 0.3, 1.0), (1.0, 0.0, 0.0))
    block = prism(rectangle(0.0, 0.0, 10.0, 8.0), 5.0, frame)

    def bevelled(body, across):
        """Without what lies beyond a plane through points `width` from the top edge at the far side."""
        at = np.zeros(3)
        at[across], at[2] = (10.0, 8.0)[across] - width, 5.0
        normal = np.eye(3)[across] + np.eye(3)[2]
        plane = Plane.of(frame.world(at[None])[0], normal @ np.stack([frame.x, frame.y, frame.z]))
        parts = split(Model((body,), 1e-6), [body], plane).bodies
        return max(parts, key=volume)

    body = bevelled(bevelled(block, 0), 1)
    adj = adjacency(body)
    assert max(len(edges) for edges in adj.at_vertex.values()) == 4
    other = bevelled(block, 1 - which)
    ways = [np.array([1.0, 0.0, 1.0]), np.array([0.0, 1.0, 1.0])]
    gone = face_toward(body, ways[which] @ np.stack([frame.x, frame.y, frame.z]))
    best = clear(body, [gone], 1e-6)[0]
    assert not flaws(best.body, 1e-6)
    assert volume(best.body) == pytest.approx(400.0 - 0.5 * width**2 * (10.0, 8.0)[which], rel=1e-9)
    assert volume(best.body) == pytest.approx(volume(other), rel=1e-9)
    assert len(best.body.faces) == 7


def test_a_round_end_is_no_fillet_and_a_groove_around_a_pin_no_hole():
    slot = [Piece((0.0, 0.0)), Piece((10.0, 0.0), (10.0, 2.0)), Piece((10.0, 4.0)), Piece((0.0, 4.0))]
    assert not [f for f in features(prism(slot, 3.0)) if f.kind == "fillet"]
    block = prism(rectangle(0.0, 0.0, 10.0, 10.0), 5.0)
    top = face_toward(block, UP)
    pocket = sink(block, top, Frame.of((0.0, 0.0, 5.0), UP, (1.0, 0.0, 0.0)), Round((5.0, 5.0), 3.0), 2.0)
    assert [f.kind for f in features(pocket)] == ["hole"]
    floor = face_toward(pocket, UP, (5.0, 5.0, 3.0))
    pin = raised(pocket, floor, Frame.of((0.0, 0.0, 3.0), UP, (1.0, 0.0, 0.0)), Round((5.0, 5.0), 1.0), 1.5)
    assert volume(pin) == pytest.approx(500.0 - 18.0 * np.pi + 1.5 * np.pi, rel=1e-12)
    found = features(pin)
    assert "hole" not in [f.kind for f in found]
    (groove,) = [f for f in found if f.kind == "pocket"]
    assert clear(pin, groove.faces, 1e-6)[0].volume_change == pytest.approx(16.5 * np.pi, rel=1e-9)


def parted(shape):
    """A solid with one of its surfaces parted between two faces by a bonded neighbour, its volume, and a box that
    notches it where that line ends."""
    if shape == "flat top":
        solid = prism(rectangle(0.0, 0.0, 40.0, 30.0), 10.0, Frame.of((0.0, 0.0, 0.0), UP, (1.0, 0.0, 0.0)))
        other = prism(rectangle(0.0, 0.0, 20.0, 30.0), 8.0, Frame.of((0.0, 0.0, 10.0), UP, (1.0, 0.0, 0.0)))
        place, sides, size = (14.0, -4.0, 6.0), (12.0, 10.0, 9.0), 12000.0
    else:
        solid = prism(Round((0.0, 0.0), 15.0), 20.0, Frame.of((0.0, 0.0, 0.0), UP))
        around = prism(Round((0.0, 0.0), 25.0), 20.0, Frame.of((0.0, 0.0, 0.0), UP))
        half = prism(rectangle(-30.0, 0.0, 60.0, 30.0), 40.0, Frame.of((0.0, 0.0, -10.0), UP, (1.0, 0.0, 0.0)))
        (other,) = combine(combine(around, half, "intersect", 1e-6)[0], solid, "subtract", 1e-6)
        place, sides, size = (12.0, -2.0, 17.0), (6.0, 5.0, 6.0), np.pi * 225.0 * 20.0
    body, _ = bond(Model.of([solid, other]))[0].bodies
    notch = prism(rectangle(0.0, 0.0, *sides[:2]), sides[2], Frame.of(place, UP, (1.0, 0.0, 0.0)))
    return body, size, notch


@pytest.mark.parametrize("shape", ["flat top", "round wall"])
def test_a_notch_where_one_surface_is_parted_between_two_faces(shape):
    """The two meet where they were parted, not where their surfaces meet: those are one."""
    body, size, notch = parted(shape)
    assert volume(body) == pytest.approx(size, rel=1e-12)
    (notched,) = combine(body, notch, "subtract", 1e-6)
    kept = {f.surface for f in body.faces}
    wound = [f for f in notched.faces if not any(f.surface.same_as(s, 1e-6, 100.0) for s in kept)]
    best = clear(notched, wound, 1e-6)[0]
    assert volume(best.body) == pytest.approx(size, rel=1e-10)
    assert len(best.body.faces) == len(body.faces)
    assert not flaws(best.body, 1e-6)


def test_a_refusal_names_the_neighbour_that_is_in_the_way():
    """Walls that stand side by side meet nowhere: one of them is named, and that choosing it helps is true."""
    block = prism(rectangle(0.0, 0.0, 20.0, 20.0), 10.0)
    body = raised(block, face_toward(block, UP), Frame.of((0.0, 0.0, 10.0), UP, (1.0, 0.0, 0.0)),
                  rectangle(5.0, 5.0, 15.0, 9.0), 6.0)  # fmt: skip
    top = face_toward(body, UP)
    with pytest.raises(Refusal, match="in the way") as caught:
        clear(body, [top], 1e-6)
    (face,) = caught.value.entities
    assert face in adjacency(body).neighbours(top) and "choose that face" in caught.value.remedy
    walls = adjacency(body).neighbours(top)
    assert volume(clear(body, [top, *walls], 1e-6)[0].body) == pytest.approx(4000.0, rel=1e-12)


@settings(max_examples=examples(12))
@given(
    seed=st.integers(0, 10_000), height=st.floats(0.05, 1.5), lean=st.floats(-0.4, 0.4), back=st.floats(8.0, 32.0),
)  # fmt: skip
def test_a_step_is_levelled_either_way(seed, height, lean, back):
    """Of a stair of two treads one is put on the plane of the other, the smaller first; a hole through the lower and
    a boss on the higher follow, and walls that lean are met where they are then."""
    frame = frame_of(np.random.default_rng(seed))

    def end(y):
        return 40.0 + lean * y

    outline = [
        Piece(p) for p in ((0, 0), (end(0.0), 0), (end(10.0), 10), (back, 10), (back, 10 + height), (0, 10 + height))
    ]
    body = prism(outline, 20.0, frame)

    def tread(y):
        way = Frame.of(frame.world(np.array([0.0, y, 0.0])), frame.y, frame.x)
        here = [f for f in body.faces if isinstance(f.surface, Plane) and abs(f.surface.frame.z @ frame.y) > 1 - 1e-9
                and abs(f.surface.frame.local(way.origin)[2]) < 1e-9]  # fmt: skip
        return here[0], way

    bottom = tread(0.0)[0]
    low, way = tread(10.0)
    spot = 0.5 * (back + min(end(10.0), end(10.0 + height)))
    body = sink(body, low, way, Round((spot, -10.0), 1.5), 10.0, through=bottom)
    high, way = tread(10.0 + height)
    body = raised(body, high, way, rectangle(2.0, -12.0, 5.0, -6.0), 2.0)
    was = volume(body)
    (step,) = [f for f in body.faces if isinstance(f.surface, Plane) and abs(f.surface.frame.z @ frame.x) > 1 - 1e-9
               and abs(face_width(f) - 20.0 * height / (20.0 + height)) < 1e-6]  # fmt: skip
    ways = clear(body, [step], 1e-6)
    # Between the heights of the treads: the lower one, less the hole; the higher.
    mean = end(10.0 + 0.5 * height) - back
    filled = height * (20.0 * mean - np.pi * 1.5**2)
    cut = -height * (20.0 * back - 18.0)  # the boss grows downwards
    small = low_area(end(10.0) - back) < 20.0 * back - 18.0
    assert [w.volume_change for w in ways] == pytest.approx([filled, cut] if small else [cut, filled], rel=1e-6)
    for way_out in ways:
        assert volume(way_out.body) == pytest.approx(was + way_out.volume_change, rel=1e-12)
        assert not flaws(way_out.body, 1e-6)
        assert len(way_out.body.faces) == len(body.faces) - 2


def low_area(width):
    return 20.0 * width - np.pi * 1.5**2


def test_a_chamfer_from_a_free_end_to_a_flange_is_no_step():
    """Its two ends are parallel planes that look the same way, one a corner: it goes as a chamfer does."""
    bar = prism([Piece(p) for p in ((0, 0), (10, 0), (10, 9), (9, 10), (0, 10))], 20.0)
    flange = prism(rectangle(-5, -5, 15, 15), 3.0, Frame.of((0, 0, 20), UP, (1, 0, 0)))
    (body,) = combine(bar, flange, "union", 1e-6)
    (slope,) = [f for f in body.faces if abs(f.surface.frame.z @ np.array([1, 1, 0]) / np.sqrt(2)) > 1 - 1e-9]
    (made,) = clear(body, [slope], 1e-6)
    assert made.volume_change == pytest.approx(0.5 * 20.0, rel=1e-9) and not flaws(made.body, 1e-6)
