"""Meshes that do not follow everything, that stand all around an axis, and that are parted between groups."""

import json

import numpy as np
import pytest
from click.testing import CliRunner
from scipy.spatial import cKDTree
from solids import hip_roof

import lithon.do as do
from lithon.brep.measures import face_width, volume
from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.exchange.step_write import write_step
from lithon.geometry.frames import Frame
from lithon.mesh.drapes import ignored
from lithon.mesh.make import mesh_of
from lithon.mesh.sizing import SizeRules
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.operations.cures import cure, cured, moved, ways
from lithon.operations.places import turn
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples.build import Piece, Round, face_toward, prism, raised, rectangle, sink
from lithon.survey.findings import findings
from lithon.survey.groups import grouped
from lithon.survey.judging import judged


def stepped(step):
    """A block whose top has a step."""
    corners = [(0, 0), (40, 0), (40, 20), (20, 20), (20, 20 + step), (0, 20 + step)]
    return Model.of([prism([Piece(c) for c in corners], 30.0, name="step")])


def chamfered(width, at=40.0):
    corners = [(0, 0), (at, 0), (at, 20 - width), (at - width, 20), (0, 20)]
    return Model.of([prism([Piece(c) for c in corners], 30.0, name="chamfered")])


def gear(n=5):
    """A ring of n like lobes about z, a hole through its middle."""
    corners = []
    for k in range(2 * n):
        a, r = np.pi * k / n, 20.0 if k % 2 else 14.0
        corners.append(Piece((r * np.cos(a), r * np.sin(a))))
    body = prism(corners, 6.0, name="gear")
    top = Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0))
    return sink(body, face_toward(body, (0, 0, 1)), top, Round((0, 0), 5.0), 6.0, face_toward(body, (0, 0, -1)))


@pytest.mark.parametrize(
    ("model", "soft"), [(stepped(0.03), 2), (stepped(0.2), 2), (chamfered(0.05), 1), (chamfered(0.2), 1)]
)
def test_what_is_small_is_passed_over_and_the_rest_followed(model, soft):
    """A step goes as a whole, of a chamfer one edge stays: the corner between two faces is a corner still."""
    found = ignored(model.bodies, SizeRules(4.0, ignore=0.5))
    assert len(found.soft) == soft and len(found.small) == 1
    followed = tetrahedral_mesh(model, SizeRules(4.0))
    passed = tetrahedral_mesh(model, SizeRules(4.0, ignore=0.5))
    assert passed.conformal() and len(passed.elements) < len(followed.elements)
    assert passed.quality.smallest_angle.min() > 20.0
    assert passed.volume_ratio == pytest.approx(1.0, abs=5e-3)
    nodes = passed.points[np.unique(passed.triangles)]  # every one lies on a true surface
    off = np.min([np.abs(f.surface.signed_distance(nodes)) for f in passed.faces], axis=0)
    assert off.max() < 1e-9
    edge = next(e for e in model.edges() if abs(e.at(0.5)[1]) < 1e-9 and abs(e.at(0.5)[0]) < 1e-9)
    on = np.abs(passed.points[:, :2]).max(axis=1) < 1e-9
    assert on.sum() >= round(edge.length / 4.0)  # a sharp edge is followed


def test_nothing_is_passed_over_that_has_a_name_is_held_or_is_shared():
    model = stepped(0.05)
    step = min(model.faces(), key=face_width)
    rules = SizeRules(4.0, ignore=0.5)
    state = run(State(model, settings=Settings(4.0)), do.ignore_below(0.5)).state
    named = run(state, do.name(step, "riser")).state
    assert not ignored(named.model.bodies, named.rules()).soft
    held = run(state, do.keep(step, "it stays")).state
    assert not ignored(held.model.bodies, held.rules()).soft and ignored(model.bodies, rules).soft
    halves = run(State(Model.of([prism(rectangle(0, 0, 20, 20), 30.0, name="whole")])), do.carve("y = 10")).state
    bonded = run(halves, do.bond()).state
    assert not ignored(
        bonded.model.bodies, SizeRules(4.0, drapes=tuple((f, "all") for f in bonded.model.shared()))
    ).soft


def test_a_drape_by_hand_by_strength_and_off_again():
    state = State(chamfered(4.0), settings=Settings(5.0))
    side = [f for f in state.model.faces() if len(f.loops[0]) == 4]
    slope = [f for f in side if 0.5 < abs(f.surface.frame.z[0]) < 0.9]
    top = [f for f in side if abs(f.surface.frame.z[1]) > 0.9 and f.surface.frame.origin[1] > 10.0]
    (between,) = set(slope[0].edges()) & set(top[0].edges())

    def on(mesh):
        ends = between.at(0.0), between.at(1.0)
        off = np.linalg.norm(np.cross(mesh.points - ends[0], ends[1] - ends[0]), axis=1) / between.length
        return int((off < 1e-6).sum())

    worn = run(state, do.drape([*slope, *top])).state
    plain, draped = (mesh_of(s.model, s.rules(), "tet") for s in (state, worn))
    assert on(plain) >= 7 and on(draped) < 5 and draped.conformal()
    assert draped.quality.smallest_angle.min() > 15.0
    by_strength = run(state, do.drape(strength=np.radians(46.0))).state
    assert set(by_strength.marks.all("drape")) >= {*slope, *top}
    assert not run(worn, do.drape([*slope, *top], off=True)).state.marks.all("drape")
    with pytest.raises(Refusal, match="must be smaller"):
        run(run(state, do.size_on_edges(between, 1.0)).state, do.ignore_below(1.0))
    with pytest.raises(Refusal, match="not below"):
        run(run(state, do.ignore_below(1.0)).state, do.size_on_edges(between, 0.8))


def test_edges_that_are_gone_over_are_followed_again_and_outlines_stay():
    state = State(chamfered(0.8), settings=Settings(5.0))
    ends = [e for e in state.model.edges() if e.length < 1.2]
    (ridge, _) = [e for e in state.model.edges() if e.length == pytest.approx(30.0) and e.at(0.0)[:2].sum() > 58.0]

    def chords(mesh, edge):
        away = edge.at(0.5) - edge.at(0.0)
        off = np.linalg.norm(np.cross(mesh.points - edge.at(0.0), away), axis=1) / np.linalg.norm(away)
        return int((off < 1e-9).sum())

    drawn, gone = (run(state, do.drape(edges=e)).state for e in (ends, ridge))
    plain, together, over = (mesh_of(s.model, s.rules(), "tet") for s in (state, drawn, gone))
    corners = np.array([e.at(t) for e in ends for t in (0.0, 1.0)])
    there = [cKDTree(m.points).query(corners)[0] < 1e-9 for m in (plain, together)]
    assert len(ends) == 2 and there[0].all() and there[1].sum() == 2  # of the two ends of each one node is left
    assert chords(plain, ridge) >= 7 and chords(over, ridge) < 4 and len(together.elements) < len(plain.elements)
    for mesh in (together, over):
        assert mesh.conformal() and mesh.volume_ratio == pytest.approx(1.0, abs=5e-3)
    back = run(run(drawn, do.drape(edges=ridge)).state, do.drape(edges=ridge, off=True)).state
    assert set(back.marks.all("passed")) == set(ends) and not back.marks.all("drape")
    named = run(state, do.name([f for f in state.model.faces() if ridge in f.edges()][:1], "slope")).state
    with pytest.raises(Refusal, match="is followed"):
        run(named, do.drape(edges=ridge))


def test_what_draping_gives_up_is_told_and_bounded():
    """A wedge at each edge that is gone over: as wide as the faces are, but no wider than an element. Thin pins are not
    draped to threads unseen."""
    w, h, size = 12.0, 30.0, 4.0
    block = Model.of([prism(rectangle(0.0, 0.0, w, w), h, name="pin")])
    state = State(block, settings=Settings(size))
    sides = [f for f in block.faces() if abs(f.surface.frame.z[2]) < 0.5]
    out = run(state, do.drape(sides))
    (told,) = out.details
    assert told["given_up_mm3"] == pytest.approx(4 * 0.5 * size * size * h)  # four edges between sides wider than that
    thin = State(block, settings=Settings(2.0 * w))
    (told,) = run(thin, do.drape(sides)).details
    assert told["given_up_mm3"] == pytest.approx(4 * 0.5 * (w * h / (w + h)) ** 2 * h)
    # A long plate carries pins that are far narrower than an element.
    pins = [prism(rectangle(x, 0.0, x + 0.3, 0.3), 4.0, name=f"pin {x}") for x in (0.0, 2.0, 4.0)]
    state = State(Model.of(pins), settings=Settings(1.6))
    after = cured(state, 0.8)
    assert after.given_up <= 0.003 * after.volume
    assert mesh_of(after.state.model, after.state.rules(), "tet").volume_ratio == pytest.approx(1.0, abs=5e-3)


def test_the_cards_of_short_edges_and_kinks_are_cured_in_the_mesh():
    lean = 20.0 * np.tan(np.radians(1.5))
    corners = [(0, 0), (40, 0), (40, 20), (20, 20 + lean), (0, 20)]
    both = [prism([Piece(c) for c in corners], 30.0, name="roof"), hip_roof(0.8, 60.0)]
    state = State(Model.of(both), settings=Settings(4.0))
    found = findings(state.model, 4.0)
    kinds = [f.kind for f in found]
    assert kinds.count("kink") == 1 and kinds.count("short edge") == 1
    for group in grouped(f for f in found if f.kind in ("kink", "short edge")):
        # What gives up something of the shape is not taken unseen.
        alone = cure(state, group, 1.0, volume(group.first.body))
        assert (alone.outcome is None) == (group.first.kind == "short edge")
        (step,) = ways(group)
        taken = run(state, step)
        assert taken.model is state.model
        assert moved(state.model, taken) == pytest.approx(0.4 if group.first.kind == "short edge" else 0.0)
        state = taken.state
    left = findings(state.model, 4.0, rules=state.rules())
    notes = {f.body.name: f.text for f in left if f.kind == "not followed"}
    assert "1 kink" in notes["roof"] and "1 short edge" in notes["roof with a hip"]
    assert not {"kink", "short edge"} & {f.kind for f in left}
    mesh = mesh_of(state.model, state.rules(), "tet")
    assert mesh.conformal() and mesh.quality.smallest_angle.min() > 15.0


def test_a_wall_thinner_than_what_is_ignored_stays_whole():
    """Two sides of a thin web are not brought through each other."""
    corners = [(0, 0), (30, 0), (30, 20), (15.2, 20), (15.2, 4), (15, 4), (15, 20), (0, 20)]
    model = Model.of([prism([Piece(c) for c in corners], 20.0, name="slit")])
    made = tetrahedral_mesh(model, SizeRules(4.0, ignore=0.5))
    assert made.conformal() and made.volume_ratio == pytest.approx(1.0, abs=0.02)


@pytest.mark.parametrize(
    ("wide", "thick", "tall", "size"), [(0.54, 0.2, 2.0, 3.9), (0.5, 0.18, 0.5, 1.4), (1, 0.3, 3, 3)]
)
def test_a_blade_is_not_draped_all_around(wide, thick, tall, size):
    """Thicker than what is ignored, but compact sides are twice as wide as their area over their outline says."""
    block = prism(rectangle(0, 0, 20, 10), 6.0, name="bladed")
    foot = Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0))
    body = raised(block, face_toward(block, (0, 0, 1)), foot, rectangle(9, 5, 9 + wide, 5 + thick), tall)
    rules = SizeRules(size, ignore=0.97 * thick)
    narrow = [f for f in body.faces if face_width(f) < rules.ignore]
    found = ignored((body,), rules)
    assert len(narrow) > 1 and not found.soft and not found.small
    made = tetrahedral_mesh(Model.of([body]), rules)
    assert made.volume_ratio == pytest.approx(1.0, rel=1e-9)
    assert made.quality.scaled_jacobian.min() > 0.1 and made.quality.smallest_angle.min() > 20.0


def test_a_sector_is_repeated_and_tetrahedra_say_why_they_are_not():
    state = run(State(Model.of([gear()]), settings=Settings(3.0)), do.sector()).state
    one = run(state, do.mesh("hex")).mesh
    for order in ("1", "2"):
        whole = run(state, do.mesh("hex", order, True)).mesh
        assert len(whole.elements) == 5 * len(one.elements) and whole.conformal()
        assert whole.volume_ratio == pytest.approx(one.volume_ratio) and whole.order == int(order)
        rounded = np.round(whole.points, 7)
        assert len(np.unique(rounded, axis=0)) == len(rounded)
    turned = whole.points @ turn(np.zeros(3), np.array([0.0, 0.0, 1.0]), 0.4 * np.pi)[:3, :3].T
    assert cKDTree(whole.points).query(turned)[0].max() < 1e-9  # a fifth of a turn takes it onto itself
    with pytest.raises(Refusal, match="no sector"):
        run(State(Model.of([gear()]), settings=Settings(3.0)), do.mesh("hex", "1", True))


def test_groups_have_the_same_nodes_twice_where_they_meet():
    whole = State(Model.of([prism(rectangle(0, 0, 30, 10), 10.0, name="bar")]), settings=Settings(2.5))
    state = run(run(run(whole, do.carve("x = 10")).state, do.carve("x = 20")).state, do.bond()).state
    end = max(state.model.bodies, key=lambda b: max(v.point[0] for v in b.vertices()))
    apart = run(state, do.group([end], "end")).state
    for kind in ("hex", "tet"):
        joined, parted = (run(s, do.mesh(kind)).mesh for s in (state, apart))
        double = np.flatnonzero(parted.same != np.arange(len(parted.points)))
        at = np.flatnonzero(np.abs(joined.points[:, 0] - 20.0) < 1e-9)
        assert len(parted.points) == len(joined.points) + len(at) and len(double) == len(at)
        assert np.allclose(parted.points[double, 0], 20.0) and parted.conformal()
        mine = np.unique(parted.elements[parted.body == parted.bodies.index(end)])
        others = np.unique(parted.elements[parted.body != parted.bodies.index(end)])
        assert not set(mine.tolist()) & set(others.tolist())
        sides = [k for k, f in enumerate(parted.faces) if len(state.model.owners(f)) == 2]
        counts = {k: int((parted.face == k).sum()) / int((joined.face == k).sum()) for k in sides}
        assert sorted(counts.values()) == [1.0, 2.0]


def test_a_judgement_says_what_stands_beside_a_hole():
    body = prism(rectangle(0, 0, 40, 30), 6.0, name="plate")
    top = Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0))
    body = sink(body, face_toward(body, (0, 0, 1)), top, Round((15, 4), 1.5), 6.0, face_toward(body, (0, 0, -1)))
    hole = next(f for f in body.faces if f.surface.kind == "cylinder")
    far = face_toward(body, (1, 0, 0))
    state = run(State(Model.of([body]), settings=Settings(2.0)), do.name(far, "load")).state
    found = judged(state.model, next(f for f in state.model.faces() if f.surface is hole.surface), 2.0)
    assert found.wall == pytest.approx(2.5, rel=1e-3) and found.widths == pytest.approx(1.25, rel=1e-3)
    assert found.nearest == "load" and found.away == pytest.approx(40.0 - 16.5)
    assert "1.25 elements wide" in found.words() and "23.5 mm from load" in found.words()
    assert judged(state.model, next(f for f in state.model.faces() if f.label == "load"), 2.0) is None


def meshed_from_none(*_):
    raise Refusal("no lattice either")


def test_what_can_be_meshed_is_kept_and_what_failed_is_named(monkeypatch):
    """One of three bodies cannot be meshed: the others are, and the failure has face, place and remedy."""
    import lithon.mesh.partly as partly

    model = Model.of([prism(rectangle(30 * k, 0, 30 * k + 20, 20), 10.0, name=f"part {k}") for k in range(3)])
    bad = model.bodies[1].faces[2]

    def meshed(model, rules, progress=None):
        if any(b.use_of(bad) is not None for b in model.bodies):
            raise Refusal("a plane face cannot be meshed", remedy="clear it", entities=(bad,))
        return tetrahedral_mesh(model, rules)

    monkeypatch.setattr(partly, "tetrahedral_mesh", meshed)
    monkeypatch.setattr(partly, "stuffed", meshed_from_none)
    out = run(State(model, settings=Settings(5.0)), do.mesh("tet"))
    mesh = out.mesh
    assert [b.name for b in mesh.bodies] == ["part 0", "part 2"] and mesh.conformal()
    assert mesh.volume_ratio == pytest.approx(1.0) and "1 body not meshed" in out.words
    (failure,) = mesh.failures
    assert failure.face is bad and "part 1" in failure.what and failure.remedy == "clear it"
    assert abs(bad.surface.signed_distance(np.array([failure.place]))[0]) < 1e-9
    alone = Model((model.bodies[1],), model.tolerance)
    out = run(State(alone, settings=Settings(5.0)), do.mesh("tet"))
    assert "no volume: 1 place failed" in out.words and out.mesh.kind == "triangles"
    assert set(out.mesh.faces) == set(alone.bodies[0].faces) - {bad} and out.mesh.failures[0].face is bad


def test_the_command_line_says_what_was_not_meshed(monkeypatch, tmp_path):
    import lithon.mesh.partly as partly
    from lithon.cli import cli

    model = Model.of([prism(rectangle(30 * k, 0, 30 * k + 20, 20 + k), 10.0, name=f"part {k}") for k in range(2)])
    write_step(model, tmp_path / "two.step", "two")

    def meshed(model, rules, progress=None):
        if any(b.name == "part 1" for b in model.bodies):
            raise Refusal("it cannot be meshed", remedy="clear it")
        return tetrahedral_mesh(model, rules)

    monkeypatch.setattr(partly, "tetrahedral_mesh", meshed)
    monkeypatch.setattr(partly, "stuffed", meshed_from_none)
    asked = ["mesh", str(tmp_path / "two.step"), "--size", "5", "--elements", "tet", "--out", str(tmp_path / "two.vtu")]
    done = CliRunner().invoke(cli, [*asked, "--json"])
    facts = json.loads(done.stdout)
    assert done.exit_code == 3 and (tmp_path / "two.vtu").exists() and facts["elements"]["tet"] > 50
    (failure,) = facts["failures"]
    assert "part 1" in failure["what"] and failure["remedy"] == "clear it" and "not meshed" in done.stderr
