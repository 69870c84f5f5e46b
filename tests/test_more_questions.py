"""Questions by kind of surface, place, direction and name: as counted by hand on parts whose every face is known."""

import numpy as np
import pytest
from blocks import body, box, plate

from lithon import do
from lithon.brep.topology import Model
from lithon.operations.questions import NotAQuestion, ask, next_words, parse
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.survey.features import features


@pytest.mark.parametrize(
    ("question", "count"),
    [
        ("planes", 12),
        ("cylinders", 6),
        ("cylinders where radius = 3 mm", 5),
        ("cylinders where diameter = 4 mm", 1),
        ("cylinders along z", 6),
        ("cylinders along x", 0),
        ("spheres", 0),
        ("planes along z", 4),
        ("planes along z where z = 8", 2),
        ("planes along x where x > 35 mm", 2),
        ('planes along x in "plate"', 2),
        ("edges along z", 12),
        ("edges along y where x >= 40 and z = 0", 2),
        ('edges along x where y = 0 in "block"', 2),
        ("faces where z = 8", 2),
        ("faces where area > 500 mm2", 2),
        ("edges where length = 8 mm", 12),
    ],
)
def test_on_the_plate_and_the_block(question, count):
    answer = ask(plate(), question)
    assert answer.items == count == len(answer.faces or answer.edges)


def test_on_what_is_no_plane():
    model = Model.of([box(0, 0, 1, 1, 0, 1, "b")])
    for operation in (do.sphere(2.0, (9, 0, 0)), do.cone(2.0, 3.0, (20, 0, 0)), do.ring(4.0, 1.0, (40, 0, 0))):
        model = run(State(model), operation).model
    for question, count in (("spheres where radius = 2", 1), ("cones", 1), ("tori where radius = 1", 1), ("tori", 1),
                            ("spheres where x = 9", 1), ("planes where x > 15", 1)):  # fmt: skip
        assert ask(model, question).items == count, question


def test_by_name():
    model = run(State(plate()), do.name("holes where diameter = 4 mm", "load here")).model
    assert ask(model, 'faces named "load here"').items == 1
    assert ask(model, 'cylinders named "load here" where radius = 2').items == 1
    assert ask(model, 'planes named "load here"').items == 0
    assert ask(model, 'faces named "load"').items == 0


@pytest.mark.parametrize(
    "text",
    ["holes along x", "bodies along z", 'edges named "a"', "planes where radius > 2", "edges along w", "faces named a",
     "cylinders where depth > 1", "along x", "planes where", "edges where x"],
)  # fmt: skip
def test_what_is_no_question_is_told(text):
    with pytest.raises(NotAQuestion) as caught:
        parse(text)
    assert caught.value.what and caught.value.remedy


def test_what_may_come_next():
    assert {"planes", "cylinders", "edges"} <= set(next_words(""))
    assert {"x", "area"} <= set(next_words("planes where "))
    assert "<" in next_words("planes where x ")


def test_divisions_by_direction_go_where_they_are_meant():
    model = plate()
    out = run(State(model), do.divide('edges along z in "block"', 5))
    marked = out.state.marks.all("divisions")
    assert len(marked) == 4 and set(marked.values()) == {5}
    assert all(abs(float(e.direction(0.5)[2])) > 0.999 for e in marked)
    assert set(marked) <= set(body(model, "block").edges())
    middle = np.mean([e.at(0.5) for e in marked], axis=0)
    assert middle == pytest.approx([45.0, 5.0, 4.0])


def test_what_is_alike_is_told_by_the_questions_that_find_it():
    """Each question finds what is in hand, and no more than its words say."""
    from lithon.operations.alike import alike
    from lithon.samples import paddle_frame

    model = paddle_frame()
    bolt = next(b for b in model.bodies if b.name.startswith("bolt"))
    holes = [f for b in model.bodies for f in features(b) if f.kind == "hole"]
    for hole in holes:
        told = alike(model, list(hole.faces))
        assert [t.title for t in told][-1] == "all holes" and told[-1].count == len(holes)
        for one in told:
            assert (
                set(hole.faces) <= set(ask(model, one.question).faces) and one.count == ask(model, one.question).items
            )
        by = {t.title: t.count for t in told}
        assert by["of this size"] == sum(abs(h.size - hole.size) < 1e-6 for h in holes)
        assert by["at most this"] == sum(h.size <= hole.size + 1e-9 for h in holes)
        assert by["of this size here"] == sum(
            abs(h.size - hole.size) < 1e-6 and h.body.name == hole.body.name for h in holes
        )
    small, large = min(holes, key=lambda h: h.size), max(holes, key=lambda h: h.size)
    (between, every) = alike(model, [*small.faces, *large.faces])
    assert between.count == every.count == len(holes)
    side = next(f for f in bolt.faces if f.surface.kind == "plane")
    plain = {t.title: t for t in alike(model, [side])}
    assert set(ask(model, plain["of this area"].question).faces) >= {side} and plain["all planes"].count > 20
    edges = [e for e in model.edges() if e.curve.kind == "line" and abs(abs(e.direction(0.5)[0]) - 1) < 1e-9][:2]
    told = alike(model, [], edges)
    assert any(t.question == "edges along x" for t in told)
    assert all(set(edges) <= set(ask(model, t.question).edges) for t in told)
    assert alike(model, [side, *holes[0].faces]) == [] or all("hole" not in t.question for t in alike(model, [side]))


@pytest.mark.slow
@pytest.mark.parametrize("seed", range(4))
def test_from_a_seed_up_to_a_fence_is_what_a_walk_over_edges_finds(seed):
    """The question, with its points, finds on the model and on one that is written and read again what hangs together
    without the fence."""
    import scipy

    from lithon.operations.alike import alike
    from lithon.operations.reach import fenced
    from lithon.samples import cast_anchor

    rng = np.random.default_rng(seed)
    model = cast_anchor()
    (solid,) = model.bodies
    faces = list(solid.faces)
    number = {f: k for k, f in enumerate(faces)}
    fence = [faces[k] for k in rng.choice(len(faces), 14, replace=False)]
    first = next(f for f in faces if f not in fence)
    pairs = [(number[f], number[g]) for e in solid.edges() for f in faces for g in faces
             if e in set(f.edges()) and e in set(g.edges()) and f not in fence and g not in fence]  # fmt: skip
    a, b = np.array(pairs).T
    graph = scipy.sparse.coo_array((np.ones(len(a)), (a, b)), shape=(len(faces),) * 2)
    _, part = scipy.sparse.csgraph.connected_components(graph, directed=False)
    wanted = {f for f in faces if f not in fence and part[number[f]] == part[number[first]]}
    reach = fenced(model, [first, *fence], [])
    if reach is None:
        assert len(wanted) in (1, len(faces) - len(fence))
        return
    question = f"faces {reach.text()}"
    assert set(ask(model, question).faces) == wanted
    offered = alike(model, [first, *fence])[0]
    assert offered.question == question and offered.count == len(wanted)
    walls = [e for f in fence for e in f.edges()]
    edges = fenced(model, [first], list(dict.fromkeys(walls)))
    assert edges is None or set(ask(model, f"faces {edges.text()}").faces) == wanted
    small = ask(model, f"{question} where area < 50")
    assert set(small.faces) <= wanted
    with pytest.raises(NotAQuestion):
        parse("holes from (0, 0, 0) up to faces (1, 1, 1)")
    with pytest.raises(NotAQuestion):
        parse("faces from (0, 0) up to faces (1, 1, 1)")
