"""Repairs: what is dropped is gone and nothing else, what is merged fills the same space."""

import pytest

import lithon
from lithon.brep.build import prism, rectangle
from lithon.brep.measures import mass_properties, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Refusal, Unresolved
from lithon.geometry.frames import Frame
from lithon.project.steps import drop_step, merge_step, run_step
from lithon.samples.pintle_shoe import sound_shoe, spoiled_shoe
from lithon.samples.wounds import sheet_hidden, wall_cut
from lithon.survey.findings import findings


def cards(model, kind):
    return [f for f in findings(model, 4.0) if f.kind == kind]


def test_a_hidden_sheet_is_dropped_and_nothing_else():
    body, _ = sheet_hidden(sound_shoe(), (0.0, 0.0, 12.0), (0.1, 0.0, 1.0), 8.0)
    model = Model.of([body])
    (card,) = cards(model, "hidden sheet")
    done = run_step(model, drop_step(model, card.faces))
    (left,) = done.model.bodies
    assert done.faces_change == -1 and volume(left) == pytest.approx(volume(sound_shoe()), rel=1e-12)
    assert set(left.faces) == set(body.faces) - set(card.faces) and not flaws(left, model.tolerance)


def test_the_shoe_through_its_remedies():
    """Of the wounds of the shoe those that can be taken from a card are gone afterwards; the others are told still."""
    model, _ = spoiled_shoe(5)
    before = sum(len(b.faces) for b in model.bodies)
    for kind, make in (("hidden sheet", drop_step), ("needless split", merge_step), ("needless split", merge_step)):
        card = cards(model, kind)[0]
        model = run_step(model, make(model, card.faces)).model
    assert not cards(model, "hidden sheet") and not cards(model, "needless split")
    assert not cards(model, "narrow face")
    assert sum(len(b.faces) for b in model.bodies) == before - 1 - 1 - 2
    assert len(cards(model, "open boundary")) == 1 and len(cards(model, "gap between edges")) == 1


def test_merging_moves_nothing():
    block = prism(rectangle(0, 0, 20, 10), 5.0)
    wall = next(f for f in block.faces if abs(f.surface.frame.z[1]) > 0.9)
    level = [e for e in wall.edges() if abs(float(e.direction(0.5)[2])) < 0.1]
    cut, _ = wall_cut(block, wall, level[0], level[1], (0.2, 0.5, 0.55))
    model = Model.of([cut])
    (card,) = cards(model, "needless split")
    (left,) = run_step(model, merge_step(model, card.faces)).model.bodies
    assert (len(left.faces), len(left.edges()), len(left.vertices())) == (6, 12, 8)
    a, b = mass_properties(left), mass_properties(block)
    assert a.volume == pytest.approx(b.volume, rel=1e-12) and a.centroid == pytest.approx(b.centroid, abs=1e-12)
    with pytest.raises(Refusal, match="do not go on"):
        run_step(model, merge_step(model, [f for f in cut.faces if f.surface.kind == "plane"][:2]))


def test_hollows_and_doubled_bodies_are_dropped_and_the_skin_is_not():
    block = prism(rectangle(0, 0, 10, 10), 10.0, name="block")
    inner = prism(rectangle(4, 4, 6, 6), 2.0, frame=Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0)))
    hollow = block.with_uses([*block.uses, *(type(u)(u.face, not u.forward) for u in inner.uses)])
    model = Model.of([hollow])
    (card,) = cards(model, "void")
    done = run_step(model, drop_step(model, card.faces))
    assert done.volume_change == pytest.approx(8.0) and len(done.model.bodies[0].faces) == 6
    twice = Model.of([block, prism(rectangle(0, 0, 10, 10), 10.0, name="again")])
    (card,) = cards(twice, "doubled body")
    step = drop_step(twice, card.faces)
    assert step == {"do": "drop", "bodies": ["again"]}
    assert [b.name for b in run_step(twice, step).model.bodies] == ["block"]
    with pytest.raises(Refusal, match="outer skin"):
        run_step(model, drop_step(model, [block.faces[0]]))
    with pytest.raises(Refusal, match="nothing would be left"):
        run_step(Model.of([block]), drop_step(Model.of([block]), block.faces))
    with pytest.raises(Unresolved):
        run_step(Model.of([block]), {"do": "drop", "bodies": ["gone"]})


def test_repairs_are_recorded_and_replayed(tmp_path):
    path = tmp_path / "shoe.step"
    lithon.write_step(spoiled_shoe(5)[0], path, "pintle shoe")
    work = lithon.open(path)
    work.take(drop_step(work.model, cards(work.model, "hidden sheet")[0].faces))
    work.take(merge_step(work.model, cards(work.model, "needless split")[0].faces))
    again = lithon.open(path)
    assert not lithon.run_recipe(again, work.recipe())
    assert len(again.model.faces()) == len(work.model.faces())
    assert [e.outcome.words for e in again.entries] == [e.outcome.words for e in work.entries]
