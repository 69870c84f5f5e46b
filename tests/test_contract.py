"""What holds for every operation of the table, whoever wrote it: one suite over all examples."""

import contextlib
import json
from functools import cache

import jsonschema
import numpy as np
import pytest
from blocks import total
from dice import LONG
from operation_examples import EXAMPLES, HERE, THERE, start

import lithon
from lithon import do
from lithon.brep.measures import mass_properties, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import BadFile, Cancelled, Fault, Refusal, Unresolved
from lithon.exchange.step_read import Arrival
from lithon.operations.form import Form
from lithon.operations.marks import Marks
from lithon.operations.operation import Chosen, Operation
from lithon.operations.parameters import Things
from lithon.operations.recorded import from_text, read, schema
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.operations.table import STATIONS, TABLE, rows
from lithon.progress import Progress
from lithon.project.ledger import Ledger, Source

every = pytest.mark.parametrize("example", EXAMPLES, ids=str)


def chosen_by(model: Model, operation, marks: Marks) -> Chosen:
    """What would be in hand if an operation's things were."""
    things = {"faces": [], "edges": [], "vertices": [], "bodies": []}
    for key, p in operation.parameters().items():
        value = getattr(operation, key)
        if isinstance(p, Things):
            things[p.of] += value.on(model) if not value.empty else []
    return Chosen(model, **{kind: tuple(found) for kind, found in things.items()}, size=4.0, marks=marks)


@cache
def recipe_validator():
    """The recipe's schema, itself checked once."""
    kind = jsonschema.validators.validator_for(schema())
    kind.check_schema(schema())
    return kind(schema())


def look(outcome) -> list:
    """What an outcome is, without the identity of anything."""
    marks = sorted((sort, type(x).__name__, str(v)) for (sort, x), v in outcome.state.marks.of.items())
    bodies = sorted((b.name, len(b.uses), round(volume(b), 6)) for b in outcome.model.bodies)
    return [bodies, len(outcome.model.shared()), sorted(f.label for f in outcome.model.faces()), marks,
            outcome.state.settings, outcome.words]  # fmt: skip


def test_every_operation_has_an_example_a_home_and_its_own_key():
    assert {e.name for e in EXAMPLES} == {row.name for row in TABLE} == set(rows())
    keys = [row.key for row in TABLE if row.key]
    assert len(keys) == len(set(keys))
    for row in TABLE:
        assert row.station in STATIONS and row.help.endswith(".") and row.title
        assert row.operation.name == row.name and 0.0 < row.likely <= 1.0
        assert all(p.title for p in row.operation.parameters().values())
        assert getattr(do, row.name.replace("-", "_")) is row.operation
    mains = [row.station for row in TABLE if row.main]
    assert len(mains) == len(set(mains))


_DONE = {}


def done(example):
    """What an example gives where it stands, found once."""
    if id(example) not in _DONE:
        state = start(example)
        faces, marks = state.model.faces(), dict(state.marks.of)
        _DONE[id(example)] = run(state, example.make(state.model, HERE))
        assert state.model.faces() == faces and state.marks.of == marks
    return _DONE[id(example)]


@every
def test_it_keeps_its_promise_and_what_is_untouched(example):
    state, out = start(example), done(example)
    example.holds(state.model, out)
    assert len(set(out.model.faces()) & set(state.model.faces())) >= example.kept
    assert out.words and out.operation is not None
    if example.sound:
        assert not [f for b in out.model.bodies for f in flaws(b, out.model.tolerance)]


@every
def test_it_is_written_and_read_as_data_and_as_text_and_replays_as_it_was_taken(example):
    state, taken = start(example), done(example)
    written = json.loads(json.dumps(taken.operation.as_json()))
    recipe_validator().validate({"lithon recipe": 2, "steps": [written]})
    again = read(written)
    assert again == taken.operation and again.as_json() == written
    assert from_text(again.text()) == again
    form = Form.of(again)
    for key, p in again.parameters().items():
        assert p.decode(p.encode(getattr(again, key))) == getattr(again, key)
        assert form.type(key, p.text(getattr(again, key))), form.wrong
    assert form.operation() == again and not form.missing()
    assert look(run(state, again)) == look(taken)
    with pytest.raises(BadFile):
        read({**written, "nonsense": 1})


@pytest.mark.slow
@every
def test_undone_it_is_as_it_was_and_redone_as_it_became(example):
    ledger = Ledger(Source("a.step", b""), Arrival(example.model(), []), start(example).settings)
    for step in example.first:
        ledger.take(step if isinstance(step, Operation) else step(ledger.model, HERE))
    before = ledger.model
    entry = ledger.take(example.make(before, HERE))
    after = ledger.state
    ledger.undo()
    assert ledger.model is before
    ledger.redo()
    assert ledger.state is after
    assert ledger.replay() == []
    if rows()[example.name].operation.replayed:
        assert look(ledger.entries[-1].outcome) == look(entry.outcome)


@pytest.mark.slow
@every
def test_elsewhere_it_is_the_same(example):
    """On a model that stands elsewhere, whose bodies are copies: the same, moved."""
    there, one = start(example, THERE), done(example)
    two = run(there, example.make(there.model, THERE))
    built = [sorted((b.name, len(b.uses)) for b in out.model.bodies) for out in (one, two)]
    assert built[0] == built[1]
    area = [sum(mass_properties(b).area for b in out.model.bodies) for out in (one, two)]
    assert area[0] == pytest.approx(area[1], rel=1e-8)
    if example.sound:  # what is open has no volume of its own
        assert total(two.model) == pytest.approx(total(one.model), rel=1e-8)
    assert two.faces_change == one.faces_change and len(two.state.marks.of) == len(one.state.marks.of)
    centre = [np.mean([v.point for b in m.bodies for v in b.vertices()], axis=0) for m in (one.model, two.model)]
    assert not example.there or THERE.at(*centre[0]) == pytest.approx(tuple(centre[1]), abs=1e-5)


@every
def test_what_it_refuses_it_refuses_in_words(example):
    state = start(example)
    for bad in example.bad:
        with pytest.raises((Refusal, Unresolved)) as caught:
            run(state, bad(state.model, HERE))
        error = caught.value
        assert not isinstance(error, Fault) and error.what and (error.remedy or error.where or error.entities), error
    for key, p in rows()[example.name].operation.parameters().items():
        if isinstance(p, Things) and not p.optional:
            gone = {"do": example.name, **example.make(state.model, HERE).recorded(state.model).as_json()}
            nowhere = {"name": "nobody", "kind": "plane", "curve": "line", "place": [9e5, 0, 0], "direction": [0, 0, 1]}
            gone[key] = {p.of: [{**nowhere, "area": 1.0, "length": 1.0, "volume": 1.0, "surfaces": {"plane": 6}}]}
            with pytest.raises(Unresolved) as missing:
                run(state, read(gone))
            assert missing.value.what and (missing.value.where or missing.value.remedy)


@pytest.mark.slow
@every
def test_stopped_midway_it_leaves_all_as_it_was(example, monkeypatch):
    expected = look(done(example))
    kind, asked = rows()[example.name].operation, []
    do_it = kind.do
    #: How often it is asked, once it is at work, whether it is to stop; after its last word the result is looked at.
    working = [False]

    def at_work(self, bench):
        working[0] = True
        made = do_it(self, bench)
        asked.append("done")
        return made

    monkeypatch.setattr(kind, "do", at_work)

    def run_until(turns):
        state = start(example, fresh=True)
        operation, faces = example.make(state.model, HERE), state.model.faces()
        working[0], asked[:] = False, []

        def stop():
            if working[0]:
                asked.append("asked")
            return asked.count("asked") > turns

        with contextlib.suppress(Cancelled):
            run(state, operation, Progress(None, stop))
        assert state.model.faces() == faces
        return state, operation

    run_until(10**9)
    often = asked.index("done")  # that often within the operation itself
    turns = often // 2  # at its first word, where it has but one
    state, operation = run_until(turns)
    assert asked.count("asked") == turns + 1 and ("done" in asked) == (turns >= often)
    assert look(run(state, operation)) == expected
    if example.name in ("clear", "carve", "bond", "unite", "subtract", "intersect", "sew", "close", "mesh"):
        assert often > 1, "it is asked while it is at work"


@pytest.mark.slow
@every
def test_what_is_offered_for_what_is_in_hand_is_what_would_be_made(example):
    state = start(example)
    operation = example.make(state.model, HERE)
    chosen = chosen_by(state.model, operation, state.marks)
    offered = rows()[example.name].operation.of(chosen)
    things = [key for key, p in operation.parameters().items() if isinstance(p, Things)]
    if offered is not None:
        asked = operation.parameters()
        # What may be left out is not in hand: it is given in the form.
        things = [key for key in things if not (asked[key].optional and getattr(offered, key).empty)]
        assert [asked[key].on(getattr(offered, key), state.model) for key in things] == [
            asked[key].on(getattr(operation, key), state.model) for key in things
        ]
    form = Form.begun(rows()[example.name], chosen)
    for key in things:
        value = form.values[key]
        assert value.empty == getattr(operation, key).empty
    for key in operation.parameters():
        if key not in things:
            assert form.put(key, getattr(operation, key))
    assert form.operation() is not None and look(run(state, form.operation()))[:-1] == look(run(state, operation))[:-1]


def test_a_bug_is_told_as_a_bug(monkeypatch, tmp_path):
    """An error that nobody foresaw is no fault of the file's: it says so, names the log, and the model is unchanged."""
    monkeypatch.setenv("LITHON_STATE", str(tmp_path))
    example = next(e for e in EXAMPLES if e.name == "clear")
    state = start(example)
    for bug in (KeyError("x"), IndexError("y"), AttributeError("z"), ValueError("w"), ZeroDivisionError()):

        def broken(self, bench, bug=bug):
            raise bug

        monkeypatch.setattr(rows()["clear"].operation, "do", broken)
        with pytest.raises(Fault, match="our fault") as caught:
            run(state, example.make(state.model, HERE))
        assert "lithon.log" in caught.value.remedy
    assert (tmp_path / "lithon.log").read_text("utf-8").count("Traceback") == 5


def test_doubled_names_lose_nothing():
    """Bodies part, part, other: what is done to one `part` is done to that one, live and as it was recorded."""
    from blocks import box

    model = Model.of([box(0, 0, 5, 5, 0, 5, "part"), box(0, 0, 5, 5, 0, 5, "part"), box(9, 0, 12, 5, 0, 5, "other")])
    for k in (0, 1):
        for operation in (do.drop_bodies(model.bodies[k]), do.drop(list(model.bodies[k].faces))):
            out = run(State(model), operation)
            assert [b.name for b in out.model.bodies] == ["part", "other"] and model.bodies[1 - k] in out.model.bodies
            again = run(State(model), read(out.operation.as_json()))
            assert again.model.bodies == out.model.bodies
    with pytest.raises(Unresolved, match="2 bodies"):
        run(State(model), do.drop_bodies(["part"]))  # a name alone does not say which
    one = run(State(model), do.drop_bodies(model.bodies[1])).operation
    with pytest.raises(Unresolved):  # there is only one of them now: it is not the second
        run(State(Model(model.bodies[:1] + model.bodies[2:], model.tolerance)), read(one.as_json()))
    apart = Model.of([box(0, 0, 5, 5, 0, 5, "part"), box(20, 0, 25, 9, 0, 5, "part"), box(9, 0, 12, 5, 0, 5, "other")])
    for operation in (do.carve("z = 2", apart.bodies[1]), do.set_aside(apart.bodies[1])):
        out = run(State(apart), operation)
        assert apart.bodies[0] in out.model.bodies and apart.bodies[1] not in out.model.bodies
        assert look(run(State(apart), read(out.operation.as_json()))) == look(out)


def test_marks_go_along_with_every_operation():
    """A hold, a name and sizes stay with what they were said of: through cuts, clears, merges and copies."""
    example = next(e for e in EXAMPLES if e.name == "clear")
    ledger = Ledger(Source("a.step", b""), Arrival(start(example).model, []), start(example).settings)
    plate, block = ledger.model.bodies
    (bore,) = next(f.faces for f in lithon.features(plate) if f.kind == "hole" and f.size == 6.0)
    top = next(f for f in plate.faces if f.surface.kind == "plane" and f.surface.frame.z[2] > 0.9)
    edge = next(e for e in block.edges() if abs(e.length - 8.0) < 1e-9)
    for operation in (do.keep(bore, "it carries load"), do.size_on_faces(top, 0.8), do.divide(edge, 4),
                      do.size_in_bodies(block, 0.9)):  # fmt: skip
        ledger.take(operation)
    ledger.take(do.carve("y = 10"))
    marks, model = ledger.state.marks, ledger.model
    assert sorted(f.surface.kind for f in marks.all("hold")) == ["cylinder", "cylinder"]
    sized = marks.all("size")
    tops = [f for f in sized if isinstance(f, lithon.brep.topology.Face)]
    assert len(tops) == 2 and all(abs(f.surface.frame.origin[2] - 8.0) < 1e-9 for f in tops)
    assert {b.name for b in sized if isinstance(b, lithon.brep.topology.Body)} == {"block"}
    ledger.take(do.carve("z = 4", [model.bodies[-1]]))
    assert sorted(b.name for b in ledger.state.marks.all("size") if hasattr(b, "uses")) == ["block A", "block B"]
    assert [round(e.length, 6) for e in ledger.state.marks.all("divisions")] == [4.0, 4.0]
    ledger.take(do.drop_bodies(next(b for b in ledger.model.bodies if b.name == "plate A")))
    assert len(ledger.state.marks.all("hold")) == 1 and len(ledger.state.marks.all("size")) == 3
    for _ in range(3):
        ledger.undo()
    assert list(ledger.state.marks.all("hold")) == [bore]


def test_sizes_and_divisions_are_in_the_mesh():
    from blocks import plate, straight

    model = plate()
    state = State(model, settings=lithon.Settings(4.0))
    plain = run(state, do.mesh()).mesh
    block = model.bodies[1]
    finer = run(run(state, do.size_in_bodies(block, 1.0)).state, do.mesh()).mesh
    count = [np.count_nonzero(m.body == 1) for m in (plain, finer)]
    assert count[1] > 10 * count[0]
    edges = straight(model)
    five = run(run(state, do.divide(edges, 5)).state, do.mesh()).mesh
    for edge in edges:
        on = five.points[np.linalg.norm(np.cross(five.points - edge.at(0.0), edge.direction(0.5)), axis=1) < 1e-9]
        heights = np.unique(np.round((on - edge.at(0.0)) @ edge.direction(0.5), 6))
        assert np.allclose(heights, np.linspace(0.0, 8.0, 6), atol=1e-6)
    hexes = run(run(State(Model.of([block]), settings=state.settings), do.divide(edges, 5)).state, do.mesh("hex")).mesh
    assert len(np.unique(np.round(hexes.points[:, 2], 6))) == 6


def test_a_short_soak_over_the_table():
    """Operations drawn at random on two samples: nothing wrong, no fault, undo and replay exact."""
    import sys
    from pathlib import Path

    sys.path.insert(0, str(Path(__file__).parent.parent / "tools"))
    from soak import soak

    from lithon.samples import collar_anchor, hinge_strap

    count, wrong = soak([("anchor", collar_anchor()), ("strap", hinge_strap())], 120 if LONG else 18, 5)
    assert not wrong
    assert sum(n for what, n in count.items() if what.endswith("done")) >= 5
