"""What is wrong is found, at its place and size; what is sound is not said to stop the mesh."""

import time

import numpy as np
import pytest
from blocks import hollow
from dice import seeds

import lithon
from lithon import do
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.analysis.fits import nearest_simple
from lithon.brep.measures import volume
from lithon.brep.topology import Body, FaceUse, Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal
from lithon.exchange.obj import obj_text
from lithon.exchange.stl import stl_binary
from lithon.geometry.cones import Cone
from lithon.geometry.frames import Frame
from lithon.geometry.spheres import Sphere
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.operations.cures import ways
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples import FRAME, SAMPLES, paddle_frame
from lithon.samples.build import Round, face_toward, prism, rectangle, sink
from lithon.samples.gudgeon_scan import GUDGEON, scanned, sound_gudgeon
from lithon.samples.pintle_shoe import SHOE, sound_shoe, spoiled_shoe
from lithon.samples.sill_blocks import SILL, sill_parts
from lithon.samples.wounds import gap_opened, straight_edges
from lithon.survey.findings import findings
from lithon.survey.groups import grouped

SEEDS = seeds(24)


def answers(finding, wound) -> bool:
    """Whether a finding tells of a wound: its kind, a place within the wound's reach, its measure to 5 %."""
    near = float(np.linalg.norm(np.array(finding.place) - wound.place)) <= wound.reach + 0.1
    size = wound.size is None or finding.size == pytest.approx(wound.size, rel=0.05)
    return finding.kind == wound.kind and near and size


def rates(arrivals, size):
    """Over (model, wounds): how many wounds were found, how many findings that stop the mesh are of none."""
    wounds = found = stops = false = 0
    missed = []
    for model, given in arrivals:
        cards = findings(model, size)
        for wound in given:
            wounds += 1
            hit = any(answers(card, wound) for card in cards)
            found += hit
            if not hit:
                missed.append(wound)
        for card in cards:
            if card.severity == "stops":
                stops += 1
                false += not any(answers(card, wound) for wound in given)
    print(f"\nfound {found} of {wounds} wounds; {false} of {stops} cards that stop the mesh are of none")
    return found, wounds, false, missed


def test_every_wound_of_the_pintle_shoe_is_found(capsys):
    assert volume(sound_shoe()) == pytest.approx(SHOE.volume, rel=1e-12) and not flaws(sound_shoe(), 1e-6)
    assert not [f for f in findings(Model.of([sound_shoe()]), 4.0) if f.severity == "stops" or f.station == "mend"]
    spoiled = [spoiled_shoe(seed) for seed in SEEDS]
    through_step = [(lithon.parse_step(lithon.step_text(model)).model, wounds) for model, wounds in spoiled]
    with capsys.disabled():
        found, wounds, false, missed = rates(through_step, 4.0)
    assert wounds == 9 * len(SEEDS) and found == wounds and false == 0, missed


def test_every_wound_of_the_gudgeon_scan_is_found(capsys):
    assert volume(sound_gudgeon()) == pytest.approx(GUDGEON.volume, rel=1e-12)
    scans = [scanned(seed) for seed in SEEDS]
    read = [(lithon.parse_model(stl_binary([part]), "gudgeon-scan.stl").model, wounds) for part, wounds in scans]
    with capsys.disabled():
        found, wounds, false, missed = rates(read, 4.0)
    assert wounds == 8 * len(SEEDS) and found == wounds and false == 0, missed


def test_crumbs_between_the_sill_blocks():
    model = lithon.parse_model(obj_text(sill_parts()), "sill-blocks.obj").model
    assert len(model.bodies) == 11 and not any(flaws(b, model.tolerance) for b in model.bodies)
    size = {b.name: volume(b) for b in model.bodies}
    assert size["course 2"] == pytest.approx(SILL.block_volume)
    cards = findings(model, 100.0)
    assert not [c for c in cards if c.severity == "stops"]
    crumbs = {c.body.name: c for c in cards if c.kind == "crumb"}
    assert sorted(crumbs) == [f"crumb {k + 1}" for k in range(5)]
    for k in range(5):
        assert size[f"crumb {k + 1}"] == pytest.approx(SILL.crumb_volume(k))
        assert crumbs[f"crumb {k + 1}"].size ** 3 == pytest.approx(SILL.crumb_volume(k))


@pytest.mark.parametrize("title", [s[0] for s in SAMPLES if s[1] not in ("pintle-shoe", "gudgeon-scan")])
def test_nothing_sound_stops_the_mesh(title):
    make = next(s[2] for s in SAMPLES if s[0] == title)
    cards = findings(make(), 5.0)
    assert {c.kind for c in cards if c.severity == "stops"} <= ({"overlap"} if title == "Paddle frame" else set())
    assert not [c for c in cards if c.kind in ("needless split", "disguised surface", "touching edge")]


def test_the_gap_and_the_overlap_of_the_paddle_frame():
    cards = findings(paddle_frame(), 5.0)
    (overlap,) = [c for c in cards if c.kind == "overlap"]
    (gap,) = [c for c in cards if c.kind == "thin gap"]
    assert overlap.size == pytest.approx(FRAME.overlap, abs=1e-9) and overlap.severity == "stops"
    assert gap.size == pytest.approx(FRAME.gap, abs=1e-9) and gap.severity == "note"
    assert "pin" in gap.text and "stop" in overlap.text


def block(x=0.0, side=10.0, name="block") -> Body:
    return prism(rectangle(x, 0, x + side, side), side, name=name)


@pytest.mark.parametrize("gap", [0.02, 0.3, 1.0])
def test_gaps_between_blocks_at_their_width(gap):
    (card,) = [c for c in findings(Model.of([block(), block(10.0 + gap, name="other")]), 4.0) if c.station == "bond"]
    assert card.kind == "thin gap" and card.size == pytest.approx(gap, rel=1e-9)
    assert card.place[0] == pytest.approx(10.0, abs=gap + 1e-9)


def test_blocks_that_touch_or_are_bonded_are_no_finding():
    pair = Model.of([block(), block(10.0, name="other")])
    assert not [c for c in findings(pair, 2.0) if c.station == "bond" or c.severity == "stops"]


def test_doubled_hidden_and_hollow():
    twice = findings(Model.of([block(), block(name="again")]), 4.0)
    assert [c.kind for c in twice if c.severity == "stops"] == ["doubled body"]
    inner = prism(rectangle(4, 4, 6, 6), 2.0, frame=Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0)), name="inner")
    swallowed = [c for c in findings(Model.of([block(), inner]), 4.0) if c.severity == "stops"]
    assert [c.kind for c in swallowed] == ["fragment inside"] and swallowed[0].body.name == "inner"
    assert swallowed[0].place == pytest.approx((5, 5, 5))
    hollow = block().with_uses([*block().uses, *(type(u)(u.face, not u.forward) for u in inner.uses)])
    (void,) = [c for c in findings(Model.of([hollow]), 4.0) if c.kind == "void"]
    assert void.size**3 == pytest.approx(8.0) and void.place == pytest.approx((5, 5, 5))


def test_a_skin_that_passes_through_itself():
    """Two blocks that overlap, taken as the skin of one body; side by side they are no finding."""
    one, two = block(), prism(rectangle(6, 3, 16, 7), 4.0, frame=Frame.of((0, 0, 3), (0, 0, 1), (1, 0, 0)))
    crossed = one.with_uses([*one.uses, *two.uses])
    pairs = self_intersections(crossed, 1e-6)
    assert len(pairs) == 4  # the wall at x = 10 is cut by four sides of the other
    for _, _, spots in pairs:
        assert np.allclose(spots[:, 0], 10.0)
    (card,) = [c for c in findings(Model.of([crossed]), 4.0) if c.kind == "self-intersection"]
    assert card.severity == "stops" and card.place[0] == pytest.approx(10.0)
    apart = block(20.0)
    assert not self_intersections(one.with_uses([*one.uses, *apart.uses]), 1e-6)


def test_round_walls_close_together_do_not_cross():
    """A tube whose wall is thinner than the chords are deep: its triangles cut each other, its faces do not."""
    plate = prism(Round((0, 0), 10.0), 4.0)
    up = Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0))
    tube = sink(plate, face_toward(plate, (0, 0, 1)), up, Round((0, 0), 9.98), 4.0, face_toward(plate, (0, 0, -1)))
    assert not self_intersections(tube, 1e-6)


@pytest.mark.parametrize("width", [0.01, 0.1, 0.5])
def test_gaps_in_the_skin_at_their_width(width):
    body = block(side=30.0)
    face = face_toward(body, (0, 0, 1))
    torn, (wound,) = gap_opened(body, face, straight_edges(body, face, 5.0)[0], width)
    (card,) = [c for c in findings(Model.of([torn]), 4.0) if c.severity == "stops"]
    assert answers(card, wound) and card.size == pytest.approx(width, rel=0.02)


SIMPLE = [
    Plane.of((1, 2, 3), (0.2, 0.3, 1.0)),
    Cylinder.of((1, 2, 3), (0.2, 0.3, 1.0), 7.0),
    Cone.of((1, 2, 3), (0.2, -0.3, 1.0), 5.0, 0.4),
    Sphere.of((1, 2, 3), 6.0),
]


@pytest.mark.parametrize("surface", SIMPLE, ids=lambda s: s.kind)
def test_simple_surfaces_are_known_by_their_points_and_normals(surface):
    dice = np.random.default_rng(3)
    points = surface.project(surface.frame.world(dice.uniform(-1, 1, (300, 3)) * [5, 5, 4] + [6, 0, 0]))
    made, off = nearest_simple(points, surface.normal(points))
    assert made.kind == surface.kind and off < 1e-9
    assert np.abs(made.signed_distance(surface.project(points + 0.5))).max() < 1e-7
    _, off = nearest_simple(points + dice.normal(scale=0.01, size=points.shape), surface.normal(points))
    assert 1e-3 < off < 0.1


@pytest.mark.parametrize("seed", seeds(6))
def test_what_is_turned_round_is_found_and_turned_back(seed):
    """Some faces of a block with a hollow in it, of the shell outside or of that within, turned at random, and all of
    it: the card's own cure and mending what is safe give the solid that it was, every face as it was used."""
    rng = np.random.default_rng(seed)
    good = hollow().bodies[0]
    few = set(rng.choice(len(good.uses), int(rng.integers(1, 3)), replace=False).tolist())
    for which in (few, set(range(len(good.uses)))):
        bad = good.with_uses(FaceUse(u.face, u.forward != (k in which)) for k, u in enumerate(good.uses))
        state = State(Model.of([bad]))
        cards = [g for g in grouped(findings(state.model, 2.0)) if g.first.kind in ("flipped face", "inside-out")]
        assert cards
        for operation in (do.mend_safe(), next(ways(cards[0]))):
            out = run(state, operation).model.bodies[0]
            assert volume(out) == pytest.approx(volume(good), rel=1e-12)
            assert [u.forward for u in out.uses] == [u.forward for u in good.uses]
    with pytest.raises(Refusal, match="all faces look outwards"):
        run(State(Model.of([good])), do.turn_outwards())


def test_nothing_goes_on_after_a_survey(monkeypatch):
    """What is looked at aside has come to an end when the cards are told, though nobody asks for it on a torn body."""
    ended = []

    def slow(body):
        time.sleep(0.3)
        ended.append(body)

    monkeypatch.setattr("lithon.survey.findings.thickness", slow)
    good = hollow().bodies[0]
    bad = good.with_uses(FaceUse(u.face, u.forward != (k == 0)) for k, u in enumerate(good.uses))
    assert any(f.severity == "stops" for f in findings(Model.of([bad]), 2.0)) and ended == [bad]
