"""Parameters, choices, cuts and axes one by one: as data, as text, on a model, and what they say when wrong."""

import json

import numpy as np
import pytest
from blocks import box, pair, plate

import lithon
from lithon import do
from lithon.brep.topology import Model
from lithon.errors import BadFile, LithonError, Refusal, Unresolved
from lithon.operations.choices import Choice, of_entities
from lithon.operations.documents import operations_page, stub
from lithon.operations.fingerprints import (
    body_mark,
    edge_mark,
    resolve_bodies,
    resolve_edges,
    resolve_vertices,
    vertex_mark,
)
from lithon.operations.form import Form
from lithon.operations.operation import Chosen
from lithon.operations.parameters import Count, Flag, OneOf, Words, angle, length
from lithon.operations.places import Axis, Cut, numbers
from lithon.operations.recorded import Unreadable, from_text, migrated, read, read_kept, schema
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.operations.table import TABLE, fitting, rows


def wrong(call, *words):
    with pytest.raises(LithonError) as caught:
        call()
    assert all(w in str(caught.value) for w in words), str(caught.value)


def test_numbers_within_their_bounds():
    p = length("gap", above=0.0, optional=True)
    assert p.take("0,25") == 0.25 and p.take("3 mm") == 3.0 and p.take("") is None and p.text(0.1) == "0.1"
    for bad in ("far", "-1", "0", "nan", "inf", True, [1]):
        wrong(lambda bad=bad: p.take(bad), "gap")
    assert p.schema()["exclusiveMinimum"] == 0.0 and p.schema()["type"] == ["number", "null"]
    a = angle("turn", default=0.0)
    assert a.parse("90") == pytest.approx(np.pi / 2.0) and a.parse(a.text(1.234)) == 1.234
    rng = np.random.default_rng(0)
    for value in [*rng.normal(size=30) * 10.0 ** rng.integers(-8, 8, 30), 1e-300, 2.0 / 3.0]:
        assert length("x").parse(length("x").text(float(value))) == float(value)
        assert a.parse(a.text(float(value))) == pytest.approx(float(value), rel=1e-15)


def test_counts_choices_words_and_flags():
    way = Count(title="solution", first=1)
    assert way.parse("1") == 0 and way.text(2) == "3" and way.take(2.0) == 2
    wrong(lambda: way.parse("0"), "from 1")
    wrong(lambda: way.parse("two"), "two")
    wrong(lambda: way.take(True), "whole number")
    kind = OneOf(title="elements", options=("tet", "hex"))
    assert kind.take("hex") == "hex"
    wrong(lambda: kind.take("wedge"), "tet or hex", "wedge")
    assert Words(title="name").take("  two   words ") == "two words"
    wrong(lambda: Words(title="name").take("  "), "something")
    flag = Flag(title="beside")
    assert flag.parse("yes") is True and flag.parse(flag.text(False)) is False
    wrong(lambda: flag.take("perhaps"), "yes or no")


CUTS = ("z = 3.0", "x = -0.125", "at 1.0 2.0 3.0 across 0.0 1.0 1.0", "through 0.0 0.0 0.0; 1.0 0.0 0.0; 0.0 1.0 0.5",
        "surface of holes where diameter = 4 mm", "midway faces where area > 100 mm2",
        "offset -2.5 from faces")  # fmt: skip


@pytest.mark.parametrize("text", CUTS)
def test_cuts_as_data_and_as_text(text):
    cut = Cut.parse(text)
    assert Cut.parse(cut.text()) == cut
    assert Cut.from_json(json.loads(json.dumps(cut.as_json()))) == cut
    if cut.amount is not None:
        assert cut.moved_to(7.5).amount == 7.5 and Cut.parse(cut.moved_to(7.5).text()) == cut.moved_to(7.5)


def test_cuts_on_a_model():
    model = plate()
    block = model.bodies[1]
    top, low = (next(f for f in block.faces if f.surface.kind == "plane" and s * f.surface.frame.z[2] > 0.9 and
                     abs(f.surface.frame.origin[2] - z) < 1e-9) for s, z in ((1.0, 8.0), (-1.0, 0.0)))  # fmt: skip
    assert Cut.midway(top, low).on(model).frame.origin[2] == pytest.approx(4.0)
    assert Cut.offset(top, -3.0).on(model).frame.origin[2] == pytest.approx(5.0)
    assert Cut.offset(low, -3.0).on(model).frame.origin[2] == pytest.approx(3.0)  # inwards from below
    assert Cut.parse("surface of holes where diameter = 4 mm").on(model).radius == pytest.approx(2.0)
    bore = next(f for f in model.faces() if f.surface.kind == "cylinder")
    for cut, word in ((Cut.midway(top, bore), "two plane"), (Cut.offset(bore, 1.0), "plane face"),
                      (Cut.parse("midway holes where diameter = 4 mm"), "2 faces"),
                      (Cut.through([(0, 0, 0), (1, 0, 0), (2, 0, 0)]), "line")):  # fmt: skip
        with pytest.raises(Refusal, match=word) as caught:
            cut.on(model)
        assert caught.value.remedy
    recorded = Cut.midway(top, low).recorded(model)
    assert Cut.from_json(recorded.as_json()).on(model).frame.origin[2] == pytest.approx(4.0)
    for bad in ({}, {"origin": "here", "normal": [0, 0, 1]}, {"origin": [0, 0, 0], "normal": [0, 0, 0]}, {"through": 3},
                {"through": [[0, 0, 0]]}, {"offset": [], "by": "far"}, 7, {"midway": [3, 4]}):  # fmt: skip
        with pytest.raises(BadFile):
            Cut.from_json(bad)
    for text in ("", "w = 3", "z = far", "at 1 2 across 0 0 1", "through 1 2 3", "offset x from faces", "midway what"):
        with pytest.raises(LithonError):
            Cut.parse(text)
    assert numbers("(1, 2; 3)") == [1.0, 2.0, 3.0]


def test_axes():
    model = plate()
    bore = next(f for f in model.faces() if f.surface.kind == "cylinder")
    edge = next(e for e in model.edges() if e.curve.kind == "line" and abs(e.direction(0.5)[0]) > 0.99)
    for axis, way in ((Axis.along(bore), (0, 0, 1)), (Axis.along(edge), (1, 0, 0)), (Axis.parse("y"), (0, 1, 0)),
                      (Axis.at((1, 2, 3), (0, 0, 2)), (0, 0, 1))):  # fmt: skip
        origin, found = axis.on(model)
        assert abs(abs(float(found @ np.array(way, dtype=float))) - 1.0) < 1e-12 and origin.shape == (3,)
        again = Axis.from_json(json.loads(json.dumps(axis.recorded(model).as_json())))
        assert np.allclose(again.on(model)[1], found)
    assert Axis.parse(Axis.at((1, 2, 3), (0, 1, 1)).text()) == Axis.at((1, 2, 3), (0, 1, 1))
    wrong(lambda: Axis.at((0, 0, 0), (0, 0, 0)), "length")
    wrong(lambda: Axis.parse("up"), "axis")
    wrong(lambda: Axis.from_json({"origin": [0, 0, 0]}), "axis")


def test_choices_live_by_question_and_by_marks():
    model = plate()
    (bore,) = next(f.faces for f in lithon.features(model.bodies[0]) if f.size == pytest.approx(4.0))
    live = Choice.made("faces", bore)
    assert live.on(model) == [bore] and not live.marks
    with pytest.raises(ValueError, match="recorded"):
        live.as_json()
    marked = Choice.from_json(json.loads(json.dumps(live.recorded(model).as_json())), "faces")
    assert marked.on(model) == [bore] and marked == live.recorded(model)
    asked = Choice.made("faces", "holes where diameter = 4 mm")
    assert asked.on(model) == [bore] and Choice.from_json(asked.as_json(), "faces") == asked
    assert Choice.made("bodies", "holes").on(model) == [model.bodies[0]]  # the bodies of what is found
    feature = next(f for f in lithon.features(model.bodies[0]) if f.size == pytest.approx(4.0))
    assert Choice.made("faces", feature).on(model) == [bore]
    elsewhere = Model.of([box(0, 0, 3, 3, 0, 3, "other")])
    with pytest.raises(Unresolved):
        live.on(elsewhere)
    wrong(lambda: Choice.made("edges", [bore]), "edges")
    wrong(lambda: Choice.made("faces", 7), "faces")
    wrong(lambda: Choice.from_json({"edges": []}, "faces"), "faces")
    wrong(lambda: Choice.made("faces", "all the holes"), "understood")
    edge, vertex = model.edges()[0], model.bodies[0].vertices()[0]
    sorted_ = of_entities([bore, edge, vertex, model.bodies[0]])
    assert [len(sorted_[k]) for k in ("faces", "edges", "vertices", "bodies")] == [1, 1, 1, 1]


def test_marks_find_everything_again_and_nothing_else():
    model = plate()
    edges = model.edges()
    vertices = list(dict.fromkeys(v for b in model.bodies for v in b.vertices()))
    assert resolve_edges(model, [edge_mark(e) for e in edges]) == list(edges)
    assert resolve_vertices(model, [vertex_mark(v) for v in vertices]) == vertices
    assert resolve_bodies(model, [body_mark(model, b) for b in model.bodies]) == list(model.bodies)
    far = {"place": [1e4, 0, 0], "curve": "line", "length": 3.0}
    for call in (lambda: resolve_edges(model, [far]), lambda: resolve_vertices(model, [far])):
        with pytest.raises(Unresolved, match="1 of 1"):
            call()
    for bad in ({}, {"place": [1, 2]}, {"place": "here", "curve": "line", "length": "long"}, {"place": [1, 2, None]}):
        with pytest.raises(BadFile, match="well formed"):
            resolve_edges(model, [bad])
    renamed = Model.of([model.bodies[0], box(40, 0, 50, 10, 0, 8, "renamed")])
    assert resolve_bodies(renamed, [body_mark(model, model.bodies[1])]) == [renamed.bodies[1]]  # by its place and build
    with pytest.raises(Unresolved):
        resolve_bodies(Model.of([model.bodies[0]]), [body_mark(model, model.bodies[1])])


def test_older_steps_are_brought_to_the_present():
    assert migrated({"do": "split", "plane": {"origin": [0, 0, 0], "normal": [0, 0, 1]}, "bodies": ["a"]}, 1) == {
        "do": "carve", "cut": {"origin": [0, 0, 0], "normal": [0, 0, 1]}, "bodies": {"bodies": ["a"]},
    }  # fmt: skip
    assert migrated({"do": "combine", "operation": "union", "body": "a", "tool": "b"}, 1)["do"] == "unite"
    assert migrated({"do": "part", "bodies": ["a", "b"], "solution": 1}, 1)["second"] == {"bodies": ["b"]}
    assert migrated({"do": "aside", "bodies": ["a"], "labels": False}, 1)["do"] == "set-aside"
    for step, version in (({"do": "combine", "operation": "glue"}, 1), ({"do": "part", "bodies": ["a"]}, 1), ({}, 9)):
        with pytest.raises(BadFile):
            migrated(step, version)
    kept = read_kept({"do": "clear"})
    assert isinstance(kept, Unreadable) and kept.as_json() == {"do": "clear"}
    with pytest.raises(BadFile, match="needs faces"):
        run(State(plate()), kept)
    for text in ("", "fold it", "clear", "clear faces", "clear 'faces=all the holes'", "carve cut=sideways", 'clear "'):
        with pytest.raises(LithonError):
            from_text(text)
    assert from_text("carve 'cut=y = 0'") == do.carve("y = 0")
    with pytest.raises(BadFile, match="not an object"):
        read(["clear"])


def test_the_table_tells_all_that_is_made_from_it():
    page, typed = operations_page(), stub()
    for row in TABLE:
        assert f"`{row.name}`" in page and f"class {row.name.replace('-', '_')}(Operation)" in typed
        for key in row.operation.parameters():
            assert f"| `{key}` |" in page and f"        {key}: " in typed
    compile(typed, "do.pyi", "exec")
    assert len(schema()["properties"]["steps"]["items"]["anyOf"]) == len(TABLE)


@pytest.mark.slow
def test_what_fits_is_offered_and_what_is_offered_works():
    """Whatever is in hand: each operation that is offered can be made, and those that need no more are done or refuse
    for a reason that lies in the shape, never because of what was chosen."""
    model = pair()
    body, arm, lone = model.bodies
    hands = {
        "a face": Chosen(model, faces=body.faces[:1]),
        "two faces of one": Chosen(model, faces=body.faces[:2]),
        "two bodies": Chosen(model, faces=(body.faces[0], arm.faces[0])),
        "bodies apart": Chosen(model, faces=(body.faces[0], lone.faces[0])),
        "an edge": Chosen(model, edges=body.edges()[:1]),
        "nothing": Chosen(model),
        "points": Chosen(model, points=((0, 0, 4), (20, 0, 4), (0, 10, 4))),
    }
    offered = {name: [row.name for row in fitting(chosen)] for name, chosen in hands.items()}
    assert "unite" in offered["two bodies"] and "part" in offered["two bodies"]
    assert "unite" not in offered["bodies apart"] and "unite" not in offered["a face"]
    assert "divide" in offered["an edge"] and "clear" not in offered["an edge"]
    assert "name" in offered["a face"] and "size-on-faces" in offered["a face"]
    assert offered["nothing"] == [] or set(offered["nothing"]) <= {"bond"}
    assert "carve" in offered["points"]
    refused: list = []
    for name, chosen in hands.items():
        for row in fitting(chosen):
            operation = row.operation.of(chosen)
            form = Form.begun(row, chosen)
            if operation is None and form.missing():
                assert form.waiting in ("", *form.missing())
                continue
            assert operation is None or form.operation() == operation or row.name == "carve"
            try:
                run(State(model), operation or form.operation())
            except Refusal as refusal:
                refused.append((name, row.name, refusal.what))
    assert {row for _, row, _ in refused} <= {"clear"}, refused


def test_forms_take_what_is_picked_into_what_waits():
    model = pair()
    body, arm, _ = model.bodies
    form = Form.begun(rows()["subtract"], Chosen(model))
    assert form.waiting == "body" and form.missing() == ["body", "tool"] and form.operation() is None
    assert not form.pick(Chosen(model, edges=body.edges()[:1]))  # an edge is no body
    assert form.pick(Chosen(model, faces=body.faces[:1])) and form.waiting == "tool"
    assert form.pick(Chosen(model, faces=arm.faces[:1])) and not form.waiting
    assert form.operation() == do.subtract(body, arm)
    cut = Form.begun(rows()["carve"], Chosen(model), "cut", "through")
    assert cut.waiting == "cut"
    assert not cut.pick(Chosen(model, points=((0, 0, 1),)))
    assert cut.pick(Chosen(model, points=((0, 0, 1), (1, 0, 1), (0, 1, 1)))) and cut.operation() is not None
    size = Form.begun(rows()["size-on-faces"], Chosen(model, faces=body.faces[:2]))
    assert size.missing() == ["size"] and not size.type("size", "wide") and "wide" in size.wrong["size"]
    assert size.operation() is None and size.type("size", "0.5") and size.operation().size == 0.5
