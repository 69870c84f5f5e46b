"""Cures taken one after another, tried before they are offered; files prepared unattended, side by side."""

import csv
import json
import os
import signal
import time

import numpy as np
import pytest
from dice import LONG
from hands import labels, press, ready, settled
from test_cli import within
from test_desk_operations import laid_out
from test_stuffing import spiked

import lithon
from lithon import do
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.exchange.deliver import write_triangles
from lithon.geometry.frames import Frame
from lithon.operations.cures import cured, moved, tried, ways
from lithon.operations.running import run
from lithon.operations.state import IGNORED, Settings, State
from lithon.project import many
from lithon.project.many import Bounds, prepare_all, prepare_by, row
from lithon.project.prepare import Wish, prepare
from lithon.samples import collar_anchor, pintle_shoe
from lithon.samples.build import Piece, Round, face_toward, polyhedron, prism, raised, rectangle, sink
from lithon.samples.spoiled_anchor import spoiled_anchor
from lithon.survey.findings import findings
from lithon.survey.groups import grouped

pytestmark = pytest.mark.slow


def drilled(name="plate", holes=2, long=40.0):
    """A plate with holes far smaller than an element of 4 mm."""
    body = prism(rectangle(0, 0, long, 20), 6.0, name=name)
    for k in range(holes):
        top, low = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
        body = sink(body, top, Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0)), Round((8.0 + 9 * k, 10), 0.8), 6.0, low)
    return body


def stepped():
    """A plate with a step of a twentieth of an element across its top, which no neighbour closes over."""
    body = prism(rectangle(0, 0, 40, 20), 6.0, name="step")
    top = face_toward(body, (0, 0, 1))
    return raised(body, top, Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0)), rectangle(10, 5, 30, 15), 0.6)


MODELS = {
    "anchor": lambda: collar_anchor(),
    "spoiled": lambda: Model.of([spoiled_anchor().bodies[0]]),
    "shoe": pintle_shoe,
    "plates": lambda: Model.of([drilled("one"), prism(rectangle(60, 0, 90, 20), 6.0, name="two")]),
    "step": lambda: Model.of([stepped()]),
}


@pytest.mark.slow
@pytest.mark.parametrize("name", [n for n in MODELS if LONG or n != "spoiled"])
def test_every_cure_taken_leaves_a_valid_model_and_every_card_has_its_fate(name):
    state = State(MODELS[name](), settings=Settings(6.0, share=IGNORED))
    before = sum(map(volume, state.model.bodies)) if name != "shoe" else None
    seen = []

    def look(step):
        seen.append(step)
        assert not [f for b in step.model.bodies for f in flaws(b, state.model.tolerance)] or name == "shoe"

    out = cured(state, 3.0, taken=look)
    assert out.state.model is (seen[-1].model if seen else state.model)
    assert [o for _, o, _ in out.taken] == seen and all(far <= 3.0 for _, _, far in out.taken)
    left = grouped(findings(out.state.model, 6.0, rules=out.state.rules()))
    counted = sum(t["left"] + t["refused"] for t in out.tally.values())
    assert counted == sum(len(g.findings) for g in left) == len(out.reasons)
    if before is not None:
        assert sum(map(volume, out.state.model.bodies)) == pytest.approx(before, rel=0.05)
    again = state
    for step in seen:  # as they are written, they give the same on the model as it was
        again = run(again, step.operation).state
    assert again.model.face_count() == out.state.model.face_count()


def test_what_would_move_too_far_or_is_held_is_left_alone():
    state = State(Model.of([drilled()]), settings=Settings(4.0))
    assert cured(state, 4.0).tally["small hole"] == {"taken": 2}
    assert all(0.6 < far <= 0.8 for _, _, far in cured(state, 4.0).taken)  # the radius of a hole, but for chords
    near = cured(state, 0.5)
    assert near.tally["small hole"] == {"left": 2} and "move" in near.reasons[0][1] and not near.taken
    held = run(state, do.keep("holes", "a gauge goes in")).state
    assert not cured(held, 4.0).taken


def test_cure_all_is_one_step_with_its_list_and_refuses_where_nothing_is_to_do():
    out = run(State(Model.of([drilled()]), settings=Settings(4.0)), do.cure())
    (told,) = out.details
    assert (told["kind"], told["cure"], told["findings"]) == ("small hole", "clear", 2) and out.faces_change == -2
    assert 0.6 < told["moved_mm"] <= 0.8
    assert sum(map(volume, out.model.bodies)) == pytest.approx(40 * 20 * 6, rel=1e-12)
    with pytest.raises(lithon.Refusal, match="no card is open"):
        run(out.state, do.cure())


@pytest.mark.parametrize("name", ["spoiled", "step", "plates"])
def test_an_offer_that_was_tried_holds_when_it_is_taken(name):
    state = State(MODELS[name](), settings=Settings(6.0))
    found = tried(state, (), 60.0)
    groups = {g.key: g for g in grouped(findings(state.model, 6.0)) if g.first.offers}
    assert found.keys() == groups.keys() and found
    for key, way in found.items():
        offered = list(ways(groups[key]))
        for number, operation in enumerate(offered):
            if way.number is None or number < way.number:
                with pytest.raises(lithon.LithonError):
                    run(state, operation)
            elif number == way.number:
                far = moved(state.model, run(state, operation))
                assert way.moved == pytest.approx(far, abs=1e-9)
                assert (f"{far:.2g} mm" if far > 1e-9 else "nothing") in way.words
    assert tried(state, found.keys(), 60.0) == {}
    assert len(tried(state, (), 0.0)) == 1  # one at a time, where there is no time


def test_what_the_mesh_goes_over_is_one_note_and_no_card():
    model = Model.of([spoiled_anchor().bodies[0]])
    every = findings(model, 25.0)
    state = State(model, settings=Settings(25.0, share=IGNORED))
    small = [f for f in every if f.kind in ("narrow face", "short edge") and f.size < 2.5]
    rest = findings(model, 25.0, rules=state.rules())
    (note,) = [f for f in rest if f.kind == "not followed"]
    assert note.severity == "note" and len(note.faces) + len(note.edges) == len(every) - len(rest) + 1 >= len(small) > 3
    assert state.ignored == pytest.approx(2.5) and State(model, settings=Settings(25.0)).ignored is None
    own = run(state, do.size_on_faces(model.faces()[:1], 5.0)).state
    assert own.ignored == pytest.approx(0.5)  # a tenth of the smallest
    assert run(own, do.ignore_below(0.0)).state.ignored is None
    assert run(own, do.ignore_below(1.5)).state.ignored == 1.5


def comb(teeth=12, wide=0.7, broken=0.15):
    """A long bar with square pins in a row, their corners broken."""
    body = prism(rectangle(0, 0, 5.0 * teeth, 3.0), 2.5, name="comb")
    w, b = wide, broken
    corners = [(b, 0), (w - b, 0), (w, b), (w, w - b), (w - b, w), (b, w), (0, w - b), (0, b)]
    for k in range(teeth):
        up = Frame.of((5.0 * k + 2.0, 1.2, 2.5), (0, 0, 1), (1, 0, 0))
        floor = max((f for f in body.faces if abs(float(f.surface.signed_distance(up.origin[None])[0])) < 1e-9),
                    key=face_area)  # fmt: skip
        body = raised(body, floor, up, [Piece(p) for p in corners], 12.0)
    return Model.of([body])


def test_what_is_not_followed_spares_the_volume():
    """Broken corners of pins are below a tenth of an element of a long bar, and more than a hundredth of the whole."""
    model, size = comb(), 4.5
    exact = 5.0 * 12 * 3.0 * 2.5 + 12 * 12.0 * (0.7**2 - 2.0 * 0.15**2)
    assert volume(model.bodies[0]) == pytest.approx(exact, rel=1e-9)
    state = State(model, settings=Settings(size, share=IGNORED))
    assert state.ignored < 0.6 * IGNORED * size
    asked = run(state, do.ignore_below(IGNORED * size)).state
    assert asked.ignored == IGNORED * size  # what is asked for is done
    mesh, coarse = (run(s, do.mesh(elements="tet")).mesh for s in (state, asked))
    assert abs(mesh.volume_ratio - 1.0) < 0.01 < 0.015 < abs(coarse.volume_ratio - 1.0)
    assert mesh.quality.scaled_jacobian.min() > 0.1
    block = State(Model.of([prism(rectangle(0, 0, 60, 40), 30.0)]), settings=Settings(size, share=IGNORED))
    assert block.ignored == pytest.approx(IGNORED * size)


def rack(teeth=12, wide=1.2, r=0.3):
    """A bar with a row of small ridges along it, their edges rounded; and its volume."""
    line, end = [Piece((0, 0)), Piece((5.0 * teeth, 0)), Piece((5.0 * teeth, 4.0))], 4.0 + wide
    for k in reversed(range(teeth)):
        left, right = 5.0 * k + 2.0, 5.0 * k + 2.0 + wide
        line += [Piece((right, 4.0)), Piece((right, end - r), (right - r, end - r)), Piece((right - r, end)),
                 Piece((left + r, end), (left + r, end - r)), Piece((left, end - r)), Piece((left, 4.0))]  # fmt: skip
    exact = 20.0 * (5.0 * teeth * 4.0 + teeth * (wide**2 - (2.0 - 0.5 * np.pi) * r**2))
    return Model.of([prism([*line, Piece((0, 4.0))], 20.0, name="rack")]), exact


def test_the_ends_of_pins_are_not_drawn_to_a_point():
    """Pins with blunt tips beside a block, all of whose small edges together are under the share that may be given up:
    drawn together they would take a cone off every pin as long as an element."""
    half, tip, long = 0.32, 0.16, 11.0
    rings = [(0.0, tip), (tip, half), (long - tip, half), (long, tip)]
    square = ((-1, -1), (1, -1), (1, 1), (-1, 1))
    sides = [[3, 2, 1, 0], [12, 13, 14, 15]] + [
        [4 * r + k, 4 * r + (k + 1) % 4, 4 * r + 4 + (k + 1) % 4, 4 * r + 4 + k] for r in range(3) for k in range(4)
    ]
    pins = [
        polyhedron([(5.0 * k + a * x, a * y + 20.0, z) for z, a in rings for x, y in square], sides) for k in range(12)
    ]
    block = prism(rectangle(0, 0, 20, 5), 2.0)
    model = Model.of([block, *pins])
    state = State(model, settings=Settings(3.3, share=IGNORED))
    assert state.ignored == pytest.approx(0.5 * IGNORED * 3.3)
    mesh, coarse = (run(s, do.mesh(elements="tet")).mesh for s in (state, run(state, do.ignore_below(0.33)).state))
    assert abs(mesh.volume_ratio - 1.0) < 0.01 < 0.02 < abs(coarse.volume_ratio - 1.0)


def test_rounds_that_turn_from_one_side_to_another_are_no_trifle():
    """Where a draped round turns by a right angle the mesh cuts the corner, though no edge of it has an angle."""
    model, exact = rack()
    assert volume(model.bodies[0]) == pytest.approx(exact, rel=1e-9)
    size = 6.0
    state = State(model, settings=Settings(size, share=IGNORED))
    assert state.ignored == pytest.approx(0.5 * IGNORED * size)
    mesh, coarse = (run(s, do.mesh(elements="tet")).mesh for s in (state, run(state, do.ignore_below(0.6)).state))
    assert abs(mesh.volume_ratio - 1.0) < 0.005 < 0.01 < abs(coarse.volume_ratio - 1.0)


def written(folder, **bodies):
    folder.mkdir(exist_ok=True)
    for name, body in bodies.items():
        lithon.write_step(Model.of([body]), folder / f"{name}.step", name)
    return sorted(folder.iterdir())


def test_a_step_is_levelled_and_a_thin_rim_is_left_to_a_person():
    """Of a block with a low step in its top and a slim fin: the step goes, by as much as it is high and for as much
    volume as stood on it; of the fin, and of the floor of a slim slot, the card says what can be done, and
    nothing is offered that cannot."""
    slot, fin = [(10, 20.3), (10, 14), (9.6, 14), (9.6, 20.3)], [(20, 20.3), (20, 28), (19.5, 28), (19.5, 20.3)]
    outline = [(0, 0), (60, 0), (60, 20), (52, 20), (52, 20.3), *fin, *slot, (0, 20.3)]
    body = prism([Piece(p) for p in outline], 30.0)
    state = State(Model.of([body]), settings=Settings(size=5.0, ignore=None, share=0.0))
    narrow = [f for f in findings(state.model, 5.0, rules=state.rules()) if f.kind == "narrow face"]
    assert len(narrow) == 2 and sorted(bool(f.offers) for f in narrow) == [False, True]
    assert {f.advice.split()[-1] for f in narrow if not f.offers} == {"slot"}
    (wall,) = [f for f in findings(state.model, 5.0) if f.kind == "thin wall" and f.size == pytest.approx(0.5)]
    assert not wall.offers  # its rim is told with it
    out = cured(state, 2.5)
    assert dict(out.tally["narrow face"]) == {"taken": 1, "left": 1}
    (made,) = out.state.model.bodies
    assert len(made.faces) == len(body.faces) - 2 and not flaws(made, out.state.model.tolerance)
    assert volume(made) - volume(body) == pytest.approx(0.3 * 8.0 * 30.0, rel=1e-9)
    assert out.taken[0][2] == pytest.approx(0.3, rel=0.05)
    assert cured(state, 0.2).state.model is state.model  # what may move no further is left to the mesh


def test_a_file_is_prepared_and_all_that_was_done_can_be_opened_again(tmp_path):
    (file,) = written(tmp_path / "in", plate=drilled())
    facts = prepare(file, Wish(4.0), tmp_path / "out")
    assert (facts["faces_before"], facts["faces_after"]) == (8, 6) and facts["well"] and not facts["flaws"]
    assert facts["cards"]["small hole"] == {"taken": 2, "refused": 0, "left": 0}
    assert facts["volume_mm3"]["after"] == pytest.approx(4800.0, rel=1e-12)
    assert facts["volume_mm3"]["before"] == pytest.approx(4800.0 - 2 * 6 * np.pi * 0.64, rel=1e-12)
    mesh = facts["mesh"]
    assert (
        mesh["patch_test"]["passed"] and mesh["min_scaled_jacobian"] > 0.1 and mesh["ignore_mm"] == pytest.approx(0.4)
    )
    assert set(mesh["ignored"]) == {"narrow_faces", "short_edges", "edges_draped_over", "tips"}
    out = {p.suffix: p for p in (tmp_path / "out").iterdir()}
    assert set(out) == {".step", ".lithon", ".html", ".vtu", ".json"}
    assert json.loads(out[".json"].read_text()) == facts
    work, troubles = lithon.load_project(out[".lithon"])
    assert not troubles and work.model.face_count() == 6 and len(work.entries) == len(facts["steps"])
    assert volume(lithon.read_step(out[".step"]).model.bodies[0]) == pytest.approx(4800.0, rel=1e-9)


def test_one_bad_file_hurts_no_other(tmp_path, monkeypatch):
    """One that is no part, one that never ends, one that eats memory, one that takes its process down."""
    files = written(tmp_path / "in", a=drilled("a"), b=drilled("b", 1), endless=drilled("c"), greedy=drilled("d"),
                    dead=drilled("e"))  # fmt: skip
    broken = tmp_path / "in" / "broken.step"
    broken.write_text("ISO-10303-21; nothing follows")
    real = many.prepare

    def prepared(file, wish, folder):
        if file.stem == "endless":
            time.sleep(60.0)
        if file.stem == "greedy":
            bytearray(64 << 30)
        if file.stem == "dead":
            os.kill(os.getpid(), signal.SIGKILL)
        return real(file, wish, folder)

    monkeypatch.setattr(many, "prepare", prepared)
    told = []
    files = [broken, *files]
    (late,) = prepare_all([f for f in files if f.stem == "endless"], Wish(4.0), tmp_path / "out", Bounds(seconds=1.0))
    assert "not done within 1 s" in late["error"] and not late["well"]
    files = [f for f in files if f.stem != "endless"]
    done = prepare_all(files, Wish(4.0), tmp_path / "out", told=told.append)
    by = {facts["file"].partition(".")[0]: facts for facts in done}
    assert [facts["file"] for facts in done] == [f.name for f in files] and len(told) == len(files)
    assert by["a"]["well"] and by["b"]["well"] and by["a"]["faces_after"] == by["b"]["faces_after"] == 6
    assert "memory" in by["greedy"]["error"]
    assert "ended unexpectedly" in by["dead"]["error"] and by["broken"]["error"]
    table = list(csv.DictReader((tmp_path / "out" / "table.csv").open()))
    assert [r["file"] for r in table] == [f.name for f in files]
    assert [bool(r["trouble"]) for r in table] == [not facts["well"] for facts in done]
    assert {r["file"]: r["taken"] for r in table}["a.step"] == "2" and row(by["a"])["elements"] > 50


def test_what_lies_prepared_is_not_prepared_again(tmp_path, monkeypatch):
    files = written(tmp_path / "in", a=drilled("a"))
    first = prepare_all(files, Wish(4.0), tmp_path / "out")

    def never(*_):
        raise AssertionError("it was prepared again")

    monkeypatch.setattr(many, "prepare", never)
    assert prepare_all(files, Wish(4.0), tmp_path / "out") == first
    other = prepare_all(files, Wish(5.0), tmp_path / "out")  # asked for in another way it is another matter
    assert not other[0]["well"] and "our fault" in other[0]["error"]


@pytest.mark.slow
def test_a_scheduler_s_workers_do_it_and_one_that_dies_loses_nothing(tmp_path):
    distributed = pytest.importorskip("distributed")
    files = written(tmp_path / "in", **{f"p{k}": drilled(f"p{k}", 1 + k % 2, 40.0 + k) for k in range(4)})
    out, marks = tmp_path / "out", {}
    with distributed.LocalCluster(
        n_workers=2, threads_per_worker=1, dashboard_address=None, worker_dashboard_address=None
    ) as cluster:

        def told(facts):
            if not marks:  # the first is done: a worker dies, and what lies there is not touched again
                whole = [p for p in out.glob("*.json") if "mark" in json.loads(p.read_text() or "{}")]
                marks.update({p: p.stat().st_mtime_ns for p in whole})
                next(iter(cluster.workers.values())).process.process.kill()

        done = prepare_by(cluster.scheduler_address, files, Wish(4.0), out, told)
    assert [facts["file"] for facts in done] == [f.name for f in files] and all(facts["well"] for facts in done)
    assert marks and all(p.stat().st_mtime_ns == at for p, at in marks.items())
    with pytest.raises(lithon.LithonError, match="no scheduler answers"):
        prepare_by("tcp://127.0.0.1:9", files[:1], Wish(4.0), out)


def test_on_the_command_line(tmp_path, capfd, monkeypatch):
    written(tmp_path / "in", a=drilled("a"), b=drilled("b", 1))
    done = within(capfd, monkeypatch, "prepare", tmp_path / "in", "--size", 4, "--out", tmp_path / "out")
    assert done.returncode == 0 and "2 of 2 files without trouble" in done.stdout
    assert "a.step: 2 cured, 0 refused" in done.stdout and "b.step: 1 cured" in done.stdout
    one = tmp_path / "in" / "a.step"
    told = within(capfd, monkeypatch, "prepare", one, "--ignore", "none", "--out", tmp_path / "o2", "--json")
    facts = json.loads(told.stdout)
    assert told.returncode == 0 and facts["mesh"]["ignore_mm"] is None and facts["size_mm"] == 1.0
    for wrong in (("--size", "-1"), ("--size", "few"), ("--size", 4, "--ignore", 5), ("--limit", 0)):
        bad = within(capfd, monkeypatch, "prepare", one, *wrong, "--out", tmp_path / "o3")
        assert bad.returncode == 1 and bad.stderr.count("\n") == 1


@pytest.mark.window
@pytest.mark.usefixtures("display")
def test_cards_offer_what_holds_and_all_are_cured_with_one_press(desk, qtbot):
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QPushButton

    work = desk.work
    laid_out(desk, qtbot, MODELS["plates"](), size=4.0)
    qtbot.waitUntil(lambda: bool(work.tried), timeout=30000)
    assert "However small" in labels(desk.docket)  # nothing is ignored here
    cards = [g for g in grouped(work.open_findings()) if g.first.offers]
    assert all(work.tried[g.key].number == 0 for g in cards)
    qtbot.waitUntil(lambda: all(work.tried[g.key].words in labels(desk.docket) for g in cards[:2]), timeout=10000)
    laid_out(desk, qtbot, Model.of([drilled("a"), stepped()]), size=4.0)
    settled(desk, qtbot)
    qtbot.wait(60)
    button = next(b for b in desk.docket.findChildren(QPushButton) if "Cure all" in b.text())
    button.click()
    ready(desk, qtbot)
    assert work.proposal.state != "refused"
    press(desk, qtbot, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert work.model.face_count() < 8 + 11 and work.ledger.position == 1


def test_a_scan_with_poor_elements_is_meshed_from_a_lattice_where_that_moves_no_more_than_a_cure_may(tmp_path):
    """Nobody is asked: within the limit the better elements, beyond it the creases."""
    write_triangles(Model.of([spiked(3.0)[0]]), tmp_path / "ridge.stl")
    good = prepare(tmp_path / "ridge.stl", Wish(size=4.0, ignore=1e-3), tmp_path / "good")["mesh"]
    assert len(good["rounded"]) == 1 and good["min_dihedral_degrees"] > 12.0 and not good["below_strict"]
    off = good["rounded"][0]["off_mm"]
    assert 0.0 < off < 2.0 and good["volume_ratio"] == pytest.approx(1.0, abs=0.02)
    # Whether a finer one catches the ridge between its nodes is chance.
    half = prepare(tmp_path / "ridge.stl", Wish(size=4.0, ignore=1e-3, limit=0.5 * off), tmp_path / "half")["mesh"]
    assert all(r["off_mm"] <= 0.5 * off for r in half["rounded"]) and (half["rounded"] or half["below_strict"])
    # The ridge is 0.02 mm wide: good elements within far less of it are more than a lattice may have.
    kept = prepare(tmp_path / "ridge.stl", Wish(size=4.0, ignore=1e-3, limit=1e-3), tmp_path / "kept")["mesh"]
    assert not kept["rounded"] and kept["below_strict"]
