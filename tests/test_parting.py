"""Bodies that overlap are told with the faces where they do, and parted: one gives up what both fill."""

import numpy as np
import pytest
from dice import seeds

import lithon
from lithon import do
from lithon.arrange.boolean import combine
from lithon.bond.share import bond
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal, Unresolved
from lithon.geometry.frames import Frame
from lithon.mesh.partly import what_can
from lithon.mesh.sizing import SizeRules
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import FRAME, paddle_frame
from lithon.samples.build import Round, prism, rectangle
from lithon.survey.findings import findings

TURNED = Frame.of((20.0, 10.0, 6.0), (0.3, 0.2, 1.0), (1.0, 0.0, 0.0))


def pair(second=None):
    plate = prism(rectangle(0.0, 0.0, 60.0, 40.0), 12.0, name="plate")
    stud = second or prism(rectangle(-4.0, -4.0, 4.0, 4.0), 30.0, TURNED, name="stud")
    return Model.of([plate, stud])


def by_name(model, name):
    return next(b for b in model.bodies if b.name.startswith(name))


def test_either_body_gives_up_just_what_both_fill():
    model = pair()
    plate, stud = model.bodies
    (common,) = combine(plate, stud, "intersect", model.tolerance)
    shared = volume(common)
    assert 100.0 < shared < volume(stud)
    for solution, giver, keeper in ((0, "plate", "stud"), (1, "stud", "plate")):
        out = run(State(model), do.part(["stud"], ["plate"]).with_(solution=solution))
        assert out.solutions == 2
        given, kept = by_name(out.model, giver), by_name(out.model, keeper)
        assert kept is by_name(model, keeper)  # nothing of it was touched
        assert volume(given) == pytest.approx(volume(by_name(model, giver)) - shared, rel=1e-9)
        assert not flaws(given, model.tolerance) and not combine(given, kept, "intersect", model.tolerance)
        assert {f.kind for f in findings(out.model, 5.0)}.isdisjoint({"overlap", "fragment inside"})
        done, contacts = bond(out.model)
        assert sum(c.area for c in contacts if c.verdict == "shared") > 50.0
        assert all(not flaws(b, done.tolerance) for b in done.bodies)


@pytest.mark.parametrize("seed", seeds(12))
def test_random_pairs_are_parted_to_their_volumes(seed):
    rng = np.random.default_rng(seed)
    frame = Frame.of(rng.uniform(5.0, 30.0, 3) * (1.0, 1.0, 0.4), rng.normal(size=3), rng.normal(size=3))
    half = rng.uniform(3.0, 9.0, 2)
    model = pair(
        prism(rectangle(-half[0], -half[1], half[0], half[1]), float(rng.uniform(8.0, 40.0)), frame, name="bar")
    )
    common = sum(volume(b) for b in combine(*model.bodies, "intersect", model.tolerance))
    if common < 1.0:
        pytest.fail("the draw should overlap: choose other bounds")
    before = sum(volume(b) for b in model.bodies)
    out = run(State(model), do.part(["plate"], ["bar"])).model
    assert sum(volume(b) for b in out.bodies) == pytest.approx(before - common, rel=1e-9)


def test_a_crumb_beside_the_cut_goes_with_it_and_a_piece_stays():
    """A bar cuts a plate near to its end: what is left there is a crumb where it is a film, and a piece elsewhere."""
    for film, pieces in ((0.002, 1), (2.0, 2)):
        bar = prism(rectangle(-1.0, -1.0, 41.0, 1.0), 30.0, Frame.of((59.0 - film, 0.0, -5.0), (0, 0, 1), (0, 1, 0)))
        out = run(State(pair(bar)), do.part(["plate"], [bar.name]))
        plates = [b for b in out.model.bodies if b.name.startswith("plate")]
        left = (60.0 - 2.0 - (film if pieces == 1 else 0.0)) * 40.0 * 12.0
        assert len(plates) == pieces and sum(map(volume, plates)) == pytest.approx(left, rel=1e-12)
        assert out.words.endswith("given up, 1 crumb with it") is (pieces == 1)
        assert f"{60.0 * 480.0 - left:.4g} mm³" in out.words


@pytest.mark.slow
def test_the_card_names_the_faces_that_reach_in():
    model = pair()
    (card,) = [f for f in findings(model, 4.0) if f.kind == "overlap"]
    assert str(card.remedy) == "part" and {card.body, card.other} == set(model.bodies)
    plate, stud = model.bodies
    assert set(card.faces) & set(stud.faces) and set(card.faces) & set(plate.faces)
    work = paddle_frame()
    (gap,) = [f for f in findings(work, 5.0) if f.kind == "thin gap"]
    assert len(gap.faces) == 2 and {gap.body, gap.other} == {b for b in work.bodies if set(b.faces) & set(gap.faces)}
    a, b = gap.faces
    where = np.array(gap.place)[None]
    off = [abs(float(f.surface.signed_distance(where)[0])) for f in (a, b)]
    assert sum(off) == pytest.approx(FRAME.gap, abs=1e-9)  # between the two


def test_what_cannot_be_parted_is_refused_in_words():
    model = pair()
    with pytest.raises(Unresolved, match="nobody"):
        run(State(model), do.part(["plate"], ["nobody"]))
    with pytest.raises(Refusal, match="two bodies"):
        run(State(model), do.part(["plate"], ["plate"]))
    apart = pair(prism(rectangle(0.0, 0.0, 5.0, 5.0), 5.0, Frame.of((80, 0, 0), (0, 0, 1), (1, 0, 0)), name="stud"))
    with pytest.raises(Refusal, match="do not overlap"):
        run(State(apart), do.part(["plate"], ["stud"]))
    held = pair(prism(rectangle(5.0, 5.0, 15.0, 15.0), 5.0, Frame.of((0, 0, 3), (0, 0, 1), (1, 0, 0)), name="core"))
    with pytest.raises(Refusal, match="nothing would be left of core"):
        run(State(held), do.part(["plate"], ["core"]).with_(solution=1))
    hollow = by_name(run(State(held), do.part(["plate"], ["core"])).model, "plate")
    assert volume(hollow) == pytest.approx(60 * 40 * 12 - 500, rel=1e-12)  # a void is left for it
    bonded = run(State(run(State(model), do.part(["plate"], ["stud"])).model), do.bond()).model
    with pytest.raises(Refusal, match="bonded"):
        run(State(bonded), do.part(["plate"], ["stud"]))


@pytest.mark.slow
def test_the_paddle_frame_bonds_whole_once_its_overlap_is_parted(tmp_path):
    path = tmp_path / "frame.step"
    lithon.write_step(paddle_frame(), path)
    work = lithon.open(path)
    work.take(do.part(["upper plate"], ["stop"]))
    assert volume(by_name(work.model, "stop")) == pytest.approx(volume(by_name(paddle_frame(), "stop")), rel=1e-9)
    _, contacts = bond(work.model)
    assert not [c for c in contacts if c.verdict == "overlap"]
    assert ("upper plate", "stop") in {(c.first, c.second) for c in contacts if c.verdict == "shared"}


@pytest.mark.parametrize("solution", [0, 1])
def test_what_is_parted_has_nothing_in_common(solution):
    """Bodies that share an edge are meshed together: what is parted touches, and is meshed like anything that does."""
    block = prism(rectangle(0.0, 0.0, 30.0, 20.0), 10.0, name="block")
    peg = prism(Round((8.0, 9.0), 3.0), 12.0, Frame.of((0.0, 0.0, 4.0), (0, 0, 1), (1, 0, 0)), name="peg")
    out = run(State(Model.of([block, peg])), do.part([block], [peg]).with_(solution=solution)).model
    one, two = out.bodies
    for what in (lambda b: b.vertices(), lambda b: b.edges(), lambda b: b.faces):
        assert set(what(one)).isdisjoint(what(two))
    assert all(not flaws(b, out.tolerance) for b in out.bodies)
    mesh = what_can(out, SizeRules(3.0))
    assert not mesh.failures and mesh.volumes.sum() == pytest.approx(6000.0 + 54.0 * np.pi, rel=0.01)
    done, contacts = bond(out)
    assert sum(c.area for c in contacts if c.verdict == "shared") == pytest.approx(
        np.pi * (9.0 + (36.0 if solution == 0 else 0.0)), rel=1e-6
    )
    assert what_can(done, SizeRules(3.0)).conformal()
