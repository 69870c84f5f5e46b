"""Repairs: what is dropped is gone and nothing else, what is merged fills the same space."""

import numpy as np
import pytest
from dice import seeds

import lithon
from lithon import do
from lithon.brep.measures import mass_properties, volume
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, vertex_at
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import Refusal, Unresolved
from lithon.exchange.iges_geometry import outline_of
from lithon.geometry.frames import Frame
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Plane
from lithon.operations.recorded import read
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, revolved, sink
from lithon.samples.pintle_shoe import sound_shoe, spoiled_shoe
from lithon.samples.wounds import sheet_hidden, wall_cut
from lithon.survey.findings import findings


def cards(model, kind):
    return [f for f in findings(model, 4.0) if f.kind == kind]


def test_a_hidden_sheet_is_dropped_and_nothing_else():
    body, _ = sheet_hidden(sound_shoe(), (0.0, 0.0, 12.0), (0.1, 0.0, 1.0), 8.0)
    model = Model.of([body])
    (card,) = cards(model, "hidden sheet")
    done = run(State(model), do.drop(card.faces))
    (left,) = done.model.bodies
    assert done.faces_change == -1 and volume(left) == pytest.approx(volume(sound_shoe()), rel=1e-12)
    assert set(left.faces) == set(body.faces) - set(card.faces) and not flaws(left, model.tolerance)


def test_the_shoe_through_its_remedies():
    """Of the wounds of the shoe those that can be taken from a card are gone afterwards; the others are told still."""
    model, _ = spoiled_shoe(5)
    before = sum(len(b.faces) for b in model.bodies)
    for kind, make in (("hidden sheet", do.drop), ("needless split", do.merge), ("needless split", do.merge)):
        card = cards(model, kind)[0]
        model = run(State(model), make(card.faces)).model
    assert not cards(model, "hidden sheet") and not cards(model, "needless split")
    assert not cards(model, "narrow face")
    assert sum(len(b.faces) for b in model.bodies) == before - 1 - 1 - 2
    assert len(cards(model, "open boundary")) == 1 and len(cards(model, "gap between edges")) == 1


MENDS = {"drop": do.drop, "merge": do.merge, "close": do.close, "sew": do.sew, "replace": do.replace}


@pytest.mark.parametrize("seed", seeds(8))
def test_a_spoiled_shoe_is_sound_again_after_its_cards(seed):
    """Remedy after remedy, whatever is on top: nothing stops the mesh any more, and the solid is the one that was
    spoiled."""
    model, _ = spoiled_shoe(seed)
    taken = []
    for _ in range(30):
        left = [f for f in findings(model, 4.0) if f.station == "mend" and str(f.remedy) in MENDS and f.faces]
        if not left:
            break
        card = left[0]
        taken.append(str(card.remedy))
        model = run(State(model), MENDS[str(card.remedy)](card.faces)).model
    assert set(taken) == set(MENDS)
    assert not [f for f in findings(model, 4.0) if f.severity == "stops"]
    (body,) = model.bodies
    assert not flaws(body, model.tolerance)
    a, b = mass_properties(body), mass_properties(sound_shoe())
    assert a.volume == pytest.approx(b.volume, rel=1e-9) and a.area == pytest.approx(b.area, rel=1e-9)
    assert a.centroid == pytest.approx(b.centroid, abs=1e-7)
    assert len(body.faces) == len(sound_shoe().faces)


def _without(body, *faces):
    return body.with_uses(u for u in body.uses if u.face not in faces)


def test_openings_are_closed_on_what_passes_through_them():
    """Planes with holes in them, walls, rounded corners, bores, a taper: each face comes back as it was."""
    block = prism(rectangle(0, 0, 20, 10, 2.0), 5.0)
    top = Frame.of((0, 0, 5), (0, 0, 1), (1, 0, 0))
    through = sink(block, face_toward(block, top.z), top, Round((6, 5), 2.0), 5.0, face_toward(block, -top.z))
    both = sink(through, face_toward(through, top.z), top, Round((14, 5), 3.0), 2.0)
    cone = revolved([Piece((0, 0)), Piece((8, 0)), Piece((4, 10)), Piece((0, 10))], top, "taper")
    for whole in (both, cone):
        for lost in whole.faces:
            model = Model.of([_without(whole, lost)])
            for _ in lost.loops:
                left = cards(model, "open boundary")
                if left:
                    model = run(State(model), do.close(left[-1].faces)).model
            (body,) = model.bodies
            assert not flaws(body, model.tolerance), lost.surface.kind
            assert volume(body) == pytest.approx(volume(whole), rel=1e-12) and len(body.faces) == len(whole.faces)


def test_what_cannot_be_mended_is_refused_by_name():
    block = prism(rectangle(0, 0, 20, 10, 3.0), 5.0)
    model = Model.of([block])
    for make, said in ((do.close, "no opening"), (do.sew, "no gap")):
        with pytest.raises(Refusal, match=said) as refusal:
            run(State(model), make(block.faces[:2]))
        assert refusal.value.remedy
    # A missing piece of a ball's skin: nothing that is left says what it was.
    dome = revolved([Piece((0, -8), (0, 0)), Piece((8, 0)), Piece((0, 0))], Frame.of((0, 0, 0), (0, 0, 1)), "dome")
    half = split(Model.of([dome]), [dome], Plane.of((0, 0, 0), (1, 0, 0))).bodies[0]
    skin = next(f for f in half.faces if f.surface.kind == "sphere")
    open_ = Model.of([_without(half, skin)])
    (card,) = cards(open_, "open boundary")
    with pytest.raises(Refusal, match="no plane, cylinder or cone") as refusal:
        run(State(open_), do.close(card.faces))
    assert refusal.value.where
    # A wave is nothing in disguise.
    wave = np.stack(np.meshgrid(np.linspace(0, 9, 4), np.linspace(0, 9, 4), indexing="ij"), axis=-1)
    net = np.dstack([wave, np.sin(wave[..., 0]) * np.cos(wave[..., 1])])
    knots = np.array([0, 0, 0, 0, 1, 1, 1, 1.0])
    surface = BSplineSurface(knots, knots, 3, 3, net)
    (loop,) = outline_loops(surface)
    sheet = Model.of([Body((FaceUse(Face(surface, (loop,))),), "wave")])
    with pytest.raises(Refusal, match="is no plane, cylinder, cone or sphere"):
        run(State(sheet), do.replace(sheet.bodies[0].faces))


def outline_loops(surface):
    """The natural boundary of a spline patch as one loop."""
    sides = [s.ends() for s in outline_of(surface)]
    corners = [vertex_at(p[0]) for p in sides]
    edges = []
    for k, s in enumerate(outline_of(surface)):
        a, b = corners[k], corners[(k + 1) % 4]
        edges.append(Coedge(Edge(s.curve, s.t0, s.t1, *((a, b) if s.forward else (b, a))), s.forward))
    return [tuple(edges)]


def test_merging_moves_nothing():
    block = prism(rectangle(0, 0, 20, 10), 5.0)
    wall = next(f for f in block.faces if abs(f.surface.frame.z[1]) > 0.9)
    level = [e for e in wall.edges() if abs(float(e.direction(0.5)[2])) < 0.1]
    cut, _ = wall_cut(block, wall, level[0], level[1], (0.2, 0.5, 0.55))
    model = Model.of([cut])
    (card,) = cards(model, "needless split")
    (left,) = run(State(model), do.merge(card.faces)).model.bodies
    assert (len(left.faces), len(left.edges()), len(left.vertices())) == (6, 12, 8)
    a, b = mass_properties(left), mass_properties(block)
    assert a.volume == pytest.approx(b.volume, rel=1e-12) and a.centroid == pytest.approx(b.centroid, abs=1e-12)
    with pytest.raises(Refusal, match="do not go on"):
        run(State(model), do.merge([f for f in cut.faces if f.surface.kind == "plane"][:2]))


def test_hollows_and_doubled_bodies_are_dropped_and_the_skin_is_not():
    block = prism(rectangle(0, 0, 10, 10), 10.0, name="block")
    inner = prism(rectangle(4, 4, 6, 6), 2.0, frame=Frame.of((0, 0, 4), (0, 0, 1), (1, 0, 0)))
    hollow = block.with_uses([*block.uses, *(type(u)(u.face, not u.forward) for u in inner.uses)])
    model = Model.of([hollow])
    (card,) = cards(model, "void")
    done = run(State(model), do.drop(card.faces))
    assert done.volume_change == pytest.approx(8.0) and len(done.model.bodies[0].faces) == 6
    twice = Model.of([block, prism(rectangle(0, 0, 10, 10), 10.0, name="again")])
    (card,) = cards(twice, "doubled body")
    step = do.drop(card.faces)
    written = step.recorded(twice).as_json()  # of two bodies in one place it is the one that was meant
    assert [b.name for b in run(State(twice), read(written)).model.bodies] == ["block"]
    assert [b.name for b in run(State(twice), step).model.bodies] == ["block"]
    with pytest.raises(Refusal, match="outer skin"):
        run(State(model), do.drop([block.faces[0]]))
    with pytest.raises(Refusal, match="nothing would be left"):
        run(State(Model.of([block])), do.drop(block.faces))
    with pytest.raises(Unresolved):
        run(State(Model.of([block])), do.drop_bodies(["gone"]))


def test_repairs_are_recorded_and_replayed(tmp_path):
    path = tmp_path / "shoe.step"
    lithon.write_step(spoiled_shoe(5)[0], path, "pintle shoe")
    work = lithon.open(path)
    work.take(do.drop(cards(work.model, "hidden sheet")[0].faces))
    work.take(do.merge(cards(work.model, "needless split")[0].faces))
    again = lithon.open(path)
    assert not lithon.run_recipe(again, work.recipe())
    assert len(again.model.faces()) == len(work.model.faces())
    assert [e.outcome.words for e in again.entries] == [e.outcome.words for e in work.entries]
