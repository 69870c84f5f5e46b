"""Planes, axes and points: by numbers, of what is there, by name; written, read, and where they are asked for."""

import json

import numpy as np
import pytest
from blocks import body, box, hole, plate

from lithon import do
from lithon.brep.measures import face_centroid, volume
from lithon.brep.topology import Model
from lithon.errors import BadFile, LithonError, Refusal, Unresolved
from lithon.exchange.step_read import Arrival
from lithon.operations.places import Axis, Cut, Spot, turn
from lithon.operations.recorded import read
from lithon.operations.references import Reference, References
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.project.files import load_project, save_project
from lithon.project.ledger import Ledger, Source
from lithon.samples.build import face_toward


def flat(model, way, name="plate"):
    return face_toward(body(model, name), way)


def test_cuts_say_the_same_as_data_and_as_text():
    model = plate()
    edge = body(model, "block").edges()[0]
    cuts = [
        Cut.named("middle of it"), Cut.round(Axis.at((1, 2, 3), (0, 1, 0)), 4.5), Cut.round(Axis.named("post"), 2.0),
        Cut.turned(flat(model, (0, 0, 1)), edge, 0.3), Cut.at((0, 0, 3), (0, 0, 1)),
        Cut.offset(flat(model, (1, 0, 0)), -2),
    ]  # fmt: skip
    for cut in cuts:
        told = cut.recorded(model)
        again = Cut.from_json(json.loads(json.dumps(told.as_json())))
        assert again == told and again.as_json() == told.as_json()
        if told.way != "turned":
            assert Cut.parse(told.text()) == told
    for bad in ("radius -2 about z", "radius 3 about", "plane ", "turned 3 about z", {"round": 2}, {"turned": "faces"},
                {"round": True, "about": {"origin": [0, 0, 0], "way": [0, 0, 1]}}, "nothing at all"):  # fmt: skip
        with pytest.raises(LithonError):
            Cut.parse(bad) if isinstance(bad, str) else Cut.from_json(bad)


def test_axes_and_points_say_the_same_as_data_and_as_text():
    model = plate()
    for axis in (Axis.parse("x"), Axis.at((1, 2, 3), (0, 1, 1)), Axis.named("post"), Axis.along(hole(model, 4.0)[0]),
                 Axis.where(flat(model, (0, 0, 1)), flat(model, (1, 0, 0)))):  # fmt: skip
        told = axis.recorded(model)
        assert Axis.from_json(json.loads(json.dumps(told.as_json()))) == told and Axis.parse(told.text()) == told
    things = (hole(model, 4.0)[0], body(model, "block").edges()[0], body(model, "block").vertices()[0])
    for spot in (Spot.at((1, 2, 3)), Spot.named("corner"), *map(Spot.on_entity, things)):
        told = spot.recorded(model)
        assert Spot.from_json(json.loads(json.dumps(told.as_json()))) == told
        assert told.of is not None or Spot.parse(told.text()) == told
    for bad in ("1 2", "here", "of nonsense"):
        with pytest.raises(LithonError):
            Spot.parse(bad)
    for bad in (5, {"x": 1}, [1, 2], [1, 2, float("nan")]):
        with pytest.raises(BadFile):
            Spot.from_json(bad)
    with pytest.raises(BadFile):
        Axis.at((0, 0, 0), (0, 0, 0))


def test_what_they_are_on_a_model():
    model = plate()
    origin, way = Axis.along(hole(model, 4.0)[0]).on(model)
    assert origin[:2] == pytest.approx([8.0, 10.0]) and abs(way[2]) == pytest.approx(1.0)
    origin, way = Axis.where(flat(model, (0, 0, 1)), flat(model, (1, 0, 0))).on(model)
    assert abs(way[1]) == pytest.approx(1.0) and (origin[0], origin[2]) == pytest.approx((30.0, 8.0))
    with pytest.raises(Refusal, match="parallel"):
        Axis.where(flat(model, (0, 0, 1)), flat(model, (0, 0, -1))).on(model)
    ball_model = ball()
    with pytest.raises(Refusal, match="no axis"):
        Axis.along(next(f for f in ball_model.faces() if f.surface.kind == "sphere")).on(ball_model)
    edge = body(model, "block").edges()[0]
    assert Spot.on_entity(edge).on(model) == pytest.approx(edge.at(0.5))
    ring = next(e for e in model.edges() if e.ring)
    assert Spot.on_entity(ring).on(model) == pytest.approx(ring.curve.frame.origin)
    face = flat(model, (0, 0, 1), "block")
    assert Spot.on_entity(face).on(model) == pytest.approx(face_centroid(face))
    made = Cut.turned(face, Axis.at((0, 0, 8), (0, 1, 0)), np.radians(30.0)).on(model)
    assert abs(float(made.frame.z[2])) == pytest.approx(np.cos(np.radians(30.0)))
    assert Cut.round(Axis.parse("z"), 5.0).on(model).radius == 5.0


def ball():
    return run(State(Model.of([box(0, 0, 1, 1, 0, 1, "b")])), do.sphere(2.0, (9, 9, 9))).model


def test_a_turn_turns_about_its_axis():
    motion = turn(np.array([1.0, 2.0, 3.0]), np.array([0.0, 0.0, 2.0]), np.pi / 2)
    at = motion[:3, :3] @ np.array([2.0, 2.0, 7.0]) + motion[:3, 3]
    assert at == pytest.approx([1.0, 3.0, 7.0]) and np.linalg.det(motion[:3, :3]) == pytest.approx(1.0)


def test_references_are_found_by_name_and_sort():
    all_of = References().put(Reference("a", "plane", (0, 0, 1))).put(Reference("b", "axis", (0, 0, 0)))
    assert all_of.find("a", "plane").origin == (0, 0, 1)
    with pytest.raises(Unresolved, match="'c'"):
        all_of.find("c", "plane")
    with pytest.raises(Refusal, match="axis"):
        all_of.find("b", "plane")
    again = all_of.put(Reference("a", "point", (5, 5, 5)))
    assert [r.name for r in again] == ["b", "a"] and again.find("a", "point").origin == (5, 5, 5)
    assert [r.name for r in all_of.without("a")] == ["b"]


def test_what_is_drawn_serves_what_comes_after_and_survives_the_project(tmp_path):
    """A plane midway, an axis in it, a point; a carve, a turn and a block that ask for them by name; undone, switched
    off and opened again."""
    model = plate()
    ledger = Ledger(Source("plate.step", step_bytes(model)), Arrival(model, []), Settings(4.0))
    whole = sum(map(volume, model.bodies))
    ledger.take(do.reference_plane(Cut.midway(flat(model, (1, 0, 0)), flat(model, (-1, 0, 0))), "middle"))
    ledger.take(do.reference_axis(Axis.along(hole(model, 4.0)[0]), "bore"))
    ledger.take(do.reference_point(body(model, "block").vertices()[0], "corner"))
    ledger.take(do.carve("plane middle", body(ledger.model, "plate")))
    assert len(ledger.model.bodies) == 3
    ledger.take(do.turn(["block"], "axis bore", np.pi))
    block = body(ledger.model, "block")
    assert np.mean([v.point for v in block.vertices()], axis=0)[:2] == pytest.approx([16.0 - 45.0, 20.0 - 5.0])
    ledger.take(do.block(1.0, 1.0, 1.0, "point corner", called="dot"))
    assert sum(map(volume, ledger.model.bodies)) == pytest.approx(whole + 1.0, rel=1e-12)
    assert len(ledger.state.references.all) == 3
    path = tmp_path / "p.lithon"
    save_project(ledger, path)
    again, troubles = load_project(path)
    assert not troubles and again.state.references == ledger.state.references
    assert sorted(map(volume, again.model.bodies)) == pytest.approx(sorted(map(volume, ledger.model.bodies)), rel=1e-9)
    told = ledger.switch(0)  # without the plane nothing can be carved at it
    assert any("middle" in text for text in told)
    assert len(ledger.model.bodies) == 3 and not any(b.name == "plate A" for b in ledger.model.bodies)
    assert not ledger.switch(0) and len(ledger.model.bodies) == 4


def step_bytes(model):
    from lithon.exchange.step_write import step_text

    return step_text(model).encode()


def test_a_reference_is_where_it_was_put_whatever_becomes_of_the_solid():
    model = plate()
    state = run(State(model), do.reference_plane(Cut.offset(flat(model, (0, 0, 1)), -2.0), "two below")).state
    lower = run(state, do.slide(flat(model, (0, 0, 1)), -1.0)).state
    assert lower.references == state.references
    out = run(lower, do.carve("plane two below", ["plate"]))
    sizes = sorted(volume(b) for b in out.model.bodies if b.name.startswith("plate"))
    assert sum(sizes) == pytest.approx(volume(body(lower.model, "plate")), rel=1e-12)
    assert sizes[0] / sizes[1] == pytest.approx(1.0 / 6.0, rel=1e-9)
    with pytest.raises(Unresolved):
        run(State(model), do.carve("plane two below"))
    step = read(json.loads(json.dumps(do.carve("plane two below").as_json())))
    assert run(lower, step).faces_change == run(lower, do.carve("plane two below")).faces_change


def test_nothing_is_read_where_nothing_was_brought(tmp_path):
    ledger = Ledger.empty()
    assert not ledger.model.bodies and ledger.size > 0.0
    ledger.take(do.block(2.0, 3.0, 4.0))
    ledger.take(do.cylinder(1.0, 9.0, (1.0, 1.5, -1.0)))
    ledger.take(do.subtract(["block"], ["cylinder"]))
    # The cylinder is as wide as the block: what it leaves touches only along two lines.
    halves = [12.0 - 2.0 * np.pi] * 2
    assert [volume(b) for b in ledger.model.bodies] == pytest.approx(halves, rel=1e-12)
    save_project(ledger, tmp_path / "made.lithon")
    again, troubles = load_project(tmp_path / "made.lithon")
    assert not troubles and [volume(b) for b in again.model.bodies] == pytest.approx(halves, rel=1e-12)
