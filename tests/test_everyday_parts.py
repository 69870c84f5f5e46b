"""Parts as they come to the desk every day, from what is read to what is meshed."""

import numpy as np
import pytest
from dice import seeds
from everyday import at, beaded_lead, coil, gull_wing, lens, less, lettered, one, slotted_screw, wire
from solids import motion

from lithon import do
from lithon.arrange.boolean import combine
from lithon.arrange.places import Places
from lithon.arrays import triangle_areas
from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.rewrite import apart
from lithon.brep.shells import closed
from lithon.brep.topology import Model, vertex_at
from lithon.brep.validate import flaws
from lithon.exchange.step_write import write_step
from lithon.geometry.curves import Line
from lithon.geometry.meet import cross
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.mesh.verdict import verdict
from lithon.operations.cures import cured
from lithon.operations.prove.settings import ElementSize
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.project.ledger import Ledger
from lithon.samples.build import Piece, Round, Section, prism, rectangle, revolved
from lithon.survey.features import features
from lithon.survey.findings import findings
from lithon.trim.clear import clear


def sound(body):
    return closed(body) and not flaws(body, 1e-6)


def settled(work, size):
    """A ledger once every cure that is safe is taken."""
    work.take(ElementSize(size=size))
    cured(work.state, 0.5 * size, taken=lambda step: work.take(step.operation or {}, step))
    return work


@pytest.mark.parametrize("text,family,height", [("W4R", "DejaVu Sans", 0.03), ("Ro5", "DejaVu Serif", 0.2),
                                                ("8%", "DejaVu Serif", -0.05)])  # fmt: skip
def test_lettering_is_built_meshed_and_cleared(text, family, height):
    """Each letter, or its hollow, is one card however many faces it has, and the block is plain when they are gone."""
    body, true = lettered(text, 1.2, height, family)
    assert sound(body) and volume(body) == pytest.approx(true, rel=1e-9)
    model = Model.of([moved(body, motion(3))])
    mesh = what_can(model, SizeRules(0.3, ignore=0.03))
    assert not mesh.failures and verdict(mesh).good and mesh.volume_ratio == pytest.approx(1.0, abs=2e-3)
    kind = "low boss" if height > 0.0 else "pocket"
    size = 0.5 if height > 0.1 else 0.3
    cards = [f for f in findings(model, size) if f.kind == kind]
    faces = {face for f in cards for face in f.faces}
    walls = [f for f in model.bodies[0].faces if f not in faces and f.surface.kind == "extrusion"]
    assert cards and not walls
    assert not [f for f in findings(model, size) if f.kind == "narrow face" and faces.intersection(f.faces)]
    (plain, *_) = clear(model.bodies[0], faces, model.tolerance)
    assert len(plain.body.faces) == 6 and volume(plain.body) == pytest.approx(24.0, rel=1e-9)


@pytest.mark.parametrize("gap", [0.0, 0.0005, 0.003, 0.03])
def test_a_face_that_two_edges_nearly_part_is_closed_there(gap):
    """Where a flat comes as near a dome as nothing, the face between the two is closed as far as it is narrower than
    what is ignored, and followed where that is nothing; no node leaves the faces by more."""
    body, true = lens(gap)
    assert volume(body) == pytest.approx(true, rel=1e-9)
    rules = SizeRules(0.55, ignore=0.055)
    mesh = what_can(Model.of([moved(body, motion(1))]), rules)
    assert not mesh.failures and verdict(mesh).good and mesh.quality.smallest_angle.min() > 12.0
    assert mesh.volume_ratio == pytest.approx(1.0, abs=0.008)
    assert mesh.ignored["tips"] == (2 if gap < 0.01 else 0)
    off = [np.abs(f.surface.signed_distance(mesh.points[np.unique(mesh.triangles[mesh.face == k])])).max()
           for k, f in enumerate(mesh.faces)]  # fmt: skip
    assert max(off) < 0.055
    if gap:
        followed = what_can(Model.of([body]), SizeRules(0.55, kept=tuple(body.faces), ignore=0.055))
        assert followed.ignored["tips"] == 0


def test_bodies_that_share_only_an_edge_are_meshed_though_their_faces_lie_on_each_other():
    bodies, true = beaded_lead()
    bead, lead = (moved(b, motion(2)) for b in bodies)
    assert set(bodies[0].edges()) & set(bodies[1].edges()) and not set(bodies[0].faces) & set(bodies[1].faces)
    for pair in (bodies, [bead, lead]):
        mesh = what_can(Model.of(pair), SizeRules(0.3, ignore=0.03))
        assert not mesh.failures and not mesh.rounded and verdict(mesh).good and len(mesh.bodies) == 2
        own = [mesh.volumes[mesh.body == k].sum() for k in range(2)]
        assert own == pytest.approx(true, rel=0.02)


def test_chamfers_go_on_around_corners_and_are_cleared_as_one(tmp_path):
    """The bevelled rim of a rounded box is one chamfer, and what it took comes back."""
    plain = prism(rectangle(-4.0, -4.0, 4.0, 4.0, 0.3), 4.0, name="box")
    ground = prism(
        rectangle(-4.0, -4.0, 4.0, 4.0, 0.3),
        4.0,
        name="box",
        section=Section.through((0.0, 0.0), (0.0, 3.8), (-0.2, 4.0)),
    )
    (bevel,) = [f for f in features(ground) if f.kind == "chamfer"]
    around = 4.0 * 7.4 + np.pi * (0.3 + 0.1)
    assert len(bevel.faces) == 8 and bevel.depth == pytest.approx(around, rel=1e-6)
    (back, *_) = clear(ground, bevel.faces, 1e-6)
    assert volume(back.body) == pytest.approx(volume(plain), rel=1e-9) and len(back.body.faces) == len(plain.faces)
    path = tmp_path / "box.step"
    write_step(Model.of([ground]), path)
    assert volume(settled(Ledger.open(path), 1.0).model.bodies[0]) == pytest.approx(
        256.0, rel=1e-9
    )  # the round corners went as well


@pytest.mark.parametrize("wide", [0.1, 0.2, 0.45])
def test_half_a_chamfer_between_the_walls_of_a_slot_is_cleared(wide):
    """The slot's wall is beside the wound twice and meets the same two faces at both of its ends."""
    body = slotted_screw(wide)
    plain = one(
        prism(Round((0.0, 0.0), 1.45), 1.4), prism(rectangle(-3, -wide, 3, wide), 1.0, at((0, 0, 0.8))), "subtract"
    )
    halves = [f for f in body.faces if f.surface.kind == "cone"]
    assert len(halves) == 2
    (half, *_) = clear(body, halves[:1], 1e-6)
    assert volume(half.body) == pytest.approx(0.5 * (volume(body) + volume(plain)), rel=1e-9)
    (whole, *_) = clear(body, halves, 1e-6)
    assert volume(whole.body) == pytest.approx(volume(plain), rel=1e-9) and sound(whole.body)


@pytest.mark.parametrize("seed", seeds(10))
def test_a_line_meets_half_a_pipe_where_it_meets_the_whole_and_nowhere_else(seed):
    """Beyond the rims of a surface its sides change by a leap; that is no meeting."""
    rng = np.random.default_rng(seed)
    pipe = wire(np.stack([np.linspace(0.0, 6.0, 25), np.zeros(25), np.zeros(25)], axis=1), 1.0)
    half = next(f for f in pipe.faces if f.surface.kind == "b-spline").surface
    middle = half.at(np.array([0.5]), np.array([0.5]))[0][0] * [0.0, 1.0, 1.0]
    for _ in range(20):
        start, way = rng.uniform((0.5, -0.9, -0.9), (5.5, 0.9, 0.9)), rng.normal(size=3)
        way /= np.linalg.norm(way)
        a, b, c = way[1:] @ way[1:], start[1:] @ way[1:], start[1:] @ start[1:] - 1.0
        roots = (-b + np.array([-1.0, 1.0]) * np.sqrt(b * b - a * c)) / a
        there = start + roots[:, None] * way
        want = roots[(there @ middle > 0.0) & (there[:, 0] > 0.0) & (there[:, 0] < 6.0)]
        if np.abs(there @ middle).min() < 0.02 or np.abs(there[:, 0] - 3.0).max() > 2.95:
            continue
        found = cross(Line(start - 8.0 * way, way), half, 0.0, 16.0) - 8.0
        assert np.sort(found) == pytest.approx(np.sort(want), abs=1e-6)


def test_wound_wire_is_meshed_and_parted_from_what_it_runs_through():
    """A coil has the volume of its length; a post that it cuts into gives up what it fills, and no more."""
    body, true = coil(3.0, 1.2, 1, 0.3)
    assert volume(body) == pytest.approx(true, rel=1e-4)
    mesh = what_can(Model.of([body]), SizeRules(0.4, ignore=0.04))
    assert not mesh.failures and verdict(mesh).good and mesh.volume_ratio == pytest.approx(1.0, abs=0.02)
    post = prism(rectangle(2.8, -0.6, 3.6, 0.6), 5.0, at((0.0, 0.0, -1.0)), "post")
    left = less(post, [body])
    both = combine(post, body, "intersect", 1e-7)
    assert sound(left) and all(sound(b) for b in both) and len(both) == 2
    assert volume(left) + sum(map(volume, both)) == pytest.approx(volume(post), rel=1e-7)


def test_bent_leads_beside_a_body_come_through_whole(tmp_path):
    """Eight leads that touch their body keep what they are; nothing of them is taken for small."""
    mould = prism(rectangle(-3.0, -2.0, 3.0, 2.0), 1.5, at((0.0, 0.0, 0.35)), "mould")
    lead, true = gull_wing(0.4)
    assert volume(lead) == pytest.approx(true, rel=1e-9)
    bodies = [mould]
    for side in (1.0, -1.0):
        for k in range(4):
            place = np.eye(4)
            place[:2, :2] *= side
            place[:3, 3] = side * 3.0, side * (1.27 * k - 1.7), 0.0
            bodies.append(moved(lead, place))
    path = tmp_path / "mould.step"
    write_step(Model.of(bodies), path)
    work = settled(Ledger.open(path), 0.35)
    assert sum(map(volume, work.model.bodies)) == pytest.approx(36.0 + 8.0 * true, rel=5e-3)
    mesh = what_can(work.model, work.state.rules())
    assert not mesh.failures and verdict(mesh).good and mesh.volume_ratio == pytest.approx(1.0, abs=5e-3)


@pytest.mark.parametrize("radius,long", [(2.5, 6.0), (1.5, 9.0), (6.0, 4.0)])
def test_what_is_round_keeps_its_volume(radius, long):
    """A can in elements of a twenty-fifth of its diagonal holds what it should within half a percent."""
    can = revolved([Piece((0, 0)), Piece((radius, 0)), Piece((radius, long)), Piece((0, long))], at((0, 0, 0)), "can")
    size = float(np.hypot(2.0 * np.sqrt(2.0) * radius, long)) / 25.0
    mesh = what_can(Model.of([can]), SizeRules(size, ignore=0.1 * size))
    assert verdict(mesh).good and mesh.volume_ratio == pytest.approx(1.0, abs=5e-3)
    assert mesh.volumes.sum() / (np.pi * radius**2 * long) == pytest.approx(1.0, abs=5e-3)


@pytest.mark.parametrize("radius,long,size", [(0.08, 20.0, 0.8), (0.05, 5.0, 0.5), (0.3, 40.0, 1.6)])
def test_a_thin_wire_has_nodes_all_along(radius, long, size):
    """Where the nodes on both sides of the cut that rolls a wall out stand in pairs, what goes around from one to the
    other has no width in space, and gets nodes all the same."""
    body = prism(Round((0.0, 0.0), radius), long, at((0.0, 0.0, 0.0), (1.0, 0.0, 0.0), (0.0, 0.0, 1.0)), "wire")
    mesh = surface_mesh((body,), size_field((body,), SizeRules(size, ignore=0.1 * size)))
    triangles, _ = mesh.triangles()
    points = mesh.points()
    sides = np.linalg.norm(points[triangles] - points[np.roll(triangles, 1, axis=1)], axis=2)
    assert sides.min() > 0.0 and sides.max() < 1.3 * radius
    skin = triangle_areas(points, triangles).sum()
    assert skin == pytest.approx(2.0 * np.pi * radius * (radius + long), rel=0.02)


def flush(lift):
    """A case with a pocket, and what fits into it to the last digit, or stands in the midst of the case."""
    case = prism(rectangle(-6.0, -6.0, 6.0, 6.0), 5.0, name="case")
    seg = prism(
        [Piece((-2, 0)), Piece((-1.4, -0.6)), Piece((1.4, -0.6)), Piece((2, 0)), Piece((0, 1))], 0.3, name="seg"
    )
    up = np.eye(4)
    up[2, 3] = 4.7 - lift
    return case, moved(seg, up)


def test_what_fits_into_a_pocket_is_no_fragment_inside():
    """It is dropped by nobody; one that lies within is. Bonded, nobody is offered to clear the pocket that it fills."""
    case, seg = flush(0.0)
    holed = apart(one(case, seg, "subtract"), seg)
    for k in range(6):
        place = motion(k)
        kinds = {f.kind for f in findings(Model.of([moved(holed, place), moved(seg, place)]), 2.0)}
        assert "fragment inside" not in kinds and "pocket" in kinds
    buried = {f.kind for f in findings(Model.of(flush(1.0)), 2.0)}
    assert "fragment inside" in buried
    bonded = run(State(Model.of([holed, seg])), do.bond()).model
    cards = findings(bonded, 2.0)
    shared = {f for b in bonded.bodies for f in b.faces if len(bonded.owners(f)) > 1}
    assert shared and not [f for f in cards if f.kind == "pocket"]


@pytest.mark.parametrize("held", [False, True])
def test_no_cure_lets_a_body_run_into_another(held, tmp_path):
    """The rounded edges of what a cap fits over go with those of the cap, and stay where the cap's are held."""
    inner = prism(rectangle(-3.0, -2.0, 3.0, 2.0, 0.3), 4.0, name="inner")
    outer = prism(rectangle(1.0, -2.2, 3.2, 2.2), 4.0, name="cap")
    path = tmp_path / "capped.step"
    write_step(Model.of([inner, apart(one(outer, inner, "subtract"), inner)]), path)
    work = Ledger.open(path)
    if held:
        work.take(do.keep([f for f in work.model.bodies[1].faces if f.surface.kind == "cylinder"], "it snaps in there"))
    work = settled(work, 1.0)
    left = [sum(f.surface.kind == "cylinder" for f in b.faces) for b in work.model.bodies]
    assert left == ([2, 2] if held else [0, 0])
    assert not [f for f in findings(work.model, 1.0) if f.kind == "overlap"]
    if not held:
        assert sum(map(volume, work.model.bodies)) == pytest.approx(64.0 + 2.2 * 4.4 * 4.0, rel=1e-9)


@pytest.mark.parametrize("seed", seeds(10))
def test_a_vertex_is_found_however_its_cell_begins(seed):
    rng = np.random.default_rng(seed)
    near = 2e-6
    places = Places(near)
    spots = np.round(rng.uniform(-3.0, 3.0, (200, 3)) / (2.0 * near)) * 2.0 * near + rng.choice([0.0, near], (200, 3))
    for spot in spots:
        assert places.find(spot) is None
        places.add(vertex_at(spot))
        assert places.find(spot + rng.uniform(-0.5, 0.5, 3) * near).point == pytest.approx(spot, abs=1e-15)
