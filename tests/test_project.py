"""Ledger, recipes, project files, fingerprints on a changed part, and the worker's wire."""

import json
import os
import signal
import time
import zipfile
from dataclasses import replace
from pathlib import Path

import numpy as np
import pytest
from conftest import PREPARATION

import lithon
from lithon import do
from lithon.brep.measures import face_area, volume
from lithon.errors import BadFile, Cancelled, Fault, LithonError, Unresolved
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.project.ledger import Ledger, Past, Source
from lithon.project.opening import revised
from lithon.project.wire import Wire
from lithon.project.worker import WorkerHandle
from lithon.samples import ANCHOR, Anchor, collar_anchor
from lithon.trim.clear import clear


def total(model) -> float:
    return sum(volume(b) for b in model.bodies)


def test_the_path_has_its_closed_forms_at_every_step(prepared):
    a = ANCHOR
    sharp_pocket = (a.pocket_x1 - a.pocket_x0) * 2 * a.pocket_y * a.pocket_depth
    weeps = a.volume + a.weeps_volume
    rounds = weeps + a.outer_rounds_volume - (sharp_pocket - a.pocket_volume)
    expected = [weeps, rounds, rounds + sharp_pocket, rounds + sharp_pocket, rounds + sharp_pocket]
    for entry, value in zip(prepared.entries, expected, strict=True):
        assert total(entry.outcome.model) == pytest.approx(value, rel=1e-9)
    assert [len(e.outcome.model.faces()) for e in prepared.entries] == [34, 22, 17, 30, 28]
    assert len(prepared.model.shared()) == 2


@pytest.mark.slow
def test_undo_redo_and_switching_off(anchor_file):
    work = lithon.open(anchor_file)
    models = [work.model]
    for step in PREPARATION:
        work.take(step)
        models.append(work.model)
    for k in reversed(range(5)):
        work.undo()
        assert work.model is models[k]
    assert not work.position
    while work.redo():
        pass
    assert work.model is models[-1]
    assert not work.switch(0)  # the weep holes come back, all else still resolves
    assert total(work.model) == pytest.approx(total(models[-1]) - ANCHOR.weeps_volume, rel=1e-9)
    assert not work.switch(0)
    assert total(work.model) == pytest.approx(total(models[-1]), rel=1e-12)
    work.undo()
    work.undo()
    work.take(lithon.do.carve(lithon.do.Cut.at((0, 0, 6), (0, 0, 1))))
    assert len(work.entries) == 4 and not work.redo()


def test_a_refused_step_changes_nothing(anchor_file):
    work = lithon.open(anchor_file)
    before = work.model
    with pytest.raises(LithonError):
        work.take(lithon.do.carve(lithon.do.Cut.at((0, 0, 900), (0, 0, 1))))
    with pytest.raises(Unresolved):
        work.take(lithon.do.clear("holes where diameter > 100 mm"))
    with pytest.raises(BadFile):
        work.take({"do": "fold"})
    with pytest.raises(BadFile):
        work.take({"do": "carve", "cut": {"origin": "here"}})
    assert work.model is before and not work.entries


def test_planes_from_the_model(anchor_file):
    work = lithon.open(anchor_file)
    sides = [f for f in work.model.faces() if f.surface.kind == "plane" and abs(f.surface.frame.z[1]) > 0.9]
    outer = [f for f in sides if abs(abs(f.surface.frame.origin[1]) - 40.0) < 1e-9]
    for spec in (
        lithon.do.Cut.midway(*outer),
        lithon.do.Cut.offset(outer[0], -40.0),
        lithon.do.Cut.through([(0, 0, 0), (1, 0, 0), (0, 0, 5)]),
    ):
        cut = work.try_step(lithon.do.carve(spec)).model
        assert [volume(b) for b in cut.bodies] == pytest.approx([ANCHOR.volume / 2] * 2, rel=1e-9)
    with pytest.raises(LithonError, match="line"):
        work.try_step(lithon.do.carve(lithon.do.Cut.through([(0, 0, 0), (1, 0, 0), (2, 0, 0)])))


def test_projects_survive_closing(prepared, tmp_path, monkeypatch):
    path = tmp_path / "anchor.lithon"
    prepared.set_size(3.0)
    prepared.set_size(3.5)  # in place of the one before
    lithon.save_project(prepared, path)
    again, troubles = lithon.load_project(path)
    assert not troubles and again.size == 3.5 and again.position == 6
    assert [e.outcome.words for e in again.entries] == [e.outcome.words for e in prepared.entries]
    assert total(again.model) == pytest.approx(total(prepared.model), rel=1e-12)
    assert len(again.model.shared()) == 2
    again.undo()
    assert again.size == 4.0
    lithon.save_project(again, path)
    undone, _ = lithon.load_project(path)
    assert undone.position == 5 and undone.size == 4.0 and undone.redo()
    old = path.read_bytes()
    with pytest.raises(BadFile, match="a project"):
        lithon.open(path)

    def full(*args):
        raise OSError(28, "No space left on device")

    monkeypatch.setattr("os.fsync", full)
    with pytest.raises(BadFile, match="space"):
        lithon.save_project(prepared, path)
    assert path.read_bytes() == old
    prepared.undo()
    del prepared.entries[5:]


def test_broken_projects(tmp_path):
    path = tmp_path / "x.lithon"
    for data in (b"", b"PK\x03\x04 nonsense", b"not a zip"):
        path.write_bytes(data)
        with pytest.raises(BadFile):
            lithon.load_project(path)
    with pytest.raises(BadFile, match="cannot be opened"):
        lithon.load_project(tmp_path / "gone.lithon")
    for text in ("", "{}", "[1]", '{"lithon recipe": 1, "steps": [4]}', '{"lithon recipe": 3, "steps": []}'):
        with pytest.raises(BadFile):
            lithon.load_recipe(text)


def test_the_recipe_prepares_revision_b(prepared):
    """A longer plate and a moved lug: all steps resolve, and the truth follows the new dimensions."""
    b = Anchor(length=130.0, bolt_x=50.0, grease_x=61.0, lug_x0=-19.0, lug_x1=15.0)
    text = lithon.step_text(collar_anchor(b))
    work = Ledger.of(Source("revision-b.step", text.encode()))
    recipe = lithon.load_recipe(json.dumps(prepared.recipe()))
    assert lithon.run_recipe(work, recipe) == []
    expected = b.volume + b.weeps_volume + b.outer_rounds_volume + b.pocket_volume
    assert total(work.model) == pytest.approx(expected, rel=1e-9)


def test_the_same_work_on_a_new_revision(prepared, tmp_path):
    """What is switched off or undone stays so; what the revision lacks is told, and the rest is done."""
    work = prepared
    revision = tmp_path / "anchor-b.step"
    b = Anchor(length=130.0, bolt_x=50.0, grease_x=61.0, lug_x0=-19.0, lug_x1=15.0)
    bare = collar_anchor(b)
    weeps = [f for x in lithon.features(bare.bodies[0]) if x.kind == "hole" and x.size < 2.6 for f in x.faces]
    lithon.write_step(bare.replaced(bare.bodies[0], [clear(bare.bodies[0], weeps, 1e-6)[0].body]), revision)
    past = replace(Past.of(work), start=Settings(3.0, budget=40))
    again, troubles = revised(revision, past)
    assert len(troubles) == 1 and "finds nothing" in troubles[0] and troubles[0].startswith("step 1,")
    assert [bool(e.trouble) for e in again.entries] == [True, False, False, False, False]
    assert again.source.name == "anchor-b.step" and (again.size, again.settings.budget) == (3.0, 40)
    expected = b.volume + b.weeps_volume + b.outer_rounds_volume + b.pocket_volume
    assert total(again.model) == pytest.approx(expected, rel=1e-9) and len(again.model.shared()) == 2
    # Two steps undone, one switched off.
    off = tuple((step, words, k != 1) for k, (step, words, _) in enumerate(past.steps))
    less, troubles = revised(revision, replace(past, steps=off, position=3))
    assert len(less.model.bodies) == 1 and len(less.entries) == 5 and less.redo()
    assert total(less.before(3)) == pytest.approx(b.volume + b.weeps_volume + b.pocket_volume, rel=1e-9)


def test_a_selection_by_hand_is_found_again_or_reported(anchor_file):
    work = lithon.open(anchor_file)
    fillets = [
        f for feature in lithon.features(work.model.bodies[0]) for f in feature.faces if feature.kind == "fillet"
    ]
    work.take(lithon.do.clear(fillets[:2]))
    recipe = work.recipe()
    near = Ledger.of(Source("b.step", lithon.step_text(collar_anchor(Anchor(length=121.0, grease_x=56.9))).encode()))
    assert lithon.run_recipe(near, recipe) == []
    assert near.entries[0].outcome.faces_change == -2
    far = Ledger.of(Source("c.step", lithon.step_text(collar_anchor(Anchor(corner=5.0))).encode()))
    (trouble,) = lithon.run_recipe(far, recipe)
    assert "2 of 2" in trouble and not far.entries


def test_the_wire_keeps_identity_and_sends_differences(anchor, prepared):
    near, far = Wire(), Wire()
    first = near.pack(anchor)
    there = far.unpack(first)
    assert total(there) == total(anchor)
    again = near.pack(anchor)
    assert len(again) < 0.02 * len(first)
    back = near.unpack(far.pack(there))
    assert back.bodies[0] is anchor.bodies[0]
    after = prepared.entries[0].outcome.model
    base = prepared.base
    near.pack(base)
    step = near.pack(after)
    assert len(step) < 0.6 * len(first)


def test_triangles_travel_with_their_faces(prepared):
    """What was drawn on one side is there on the other, fits what that side has drawn itself, and closes."""
    from lithon.brep.tessellation.tessellate import body_mesh, known_faces, open_edges
    from lithon.project.travel import make_ready

    text = lithon.step_text(prepared.base)
    there = lithon.parse_step(text).model
    (body,) = there.bodies
    make_ready(there.faces())
    near, far = Wire(), Wire()
    data = far.pack(there)
    here = near.unpack(data)
    assert near.last.whole and len(known_faces(here.faces())) == len(here.faces())
    points, triangles, _ = body_mesh(here.bodies[0])
    assert open_edges(triangles) == 0
    theirs = body_mesh(body)
    assert len(triangles) == len(theirs[1])
    assert sorted(map(tuple, np.round(points, 12))) == sorted(map(tuple, np.round(theirs[0], 12)))
    # A step taken there: its new faces meet the old ones here node for node.
    outcome = run(State(there), lithon.do.clear("holes where diameter <= 2.6 mm"))
    make_ready(outcome.model.faces())
    after = near.unpack(far.pack(outcome)).model
    assert not near.last.whole
    assert open_edges(body_mesh(after.bodies[0])[1]) == 0
    assert total(after) == pytest.approx(total(outcome.model), rel=1e-12)
    # Somebody who knows nothing can read the first message as it came.
    other = Wire()
    assert total(other.unpack(data)) == total(there)
    back = other.pack(there)  # identity is what the uid says
    assert len(back) < 0.02 * len(data)


def test_the_package_loads_nothing_before_it_is_used():
    import subprocess
    import sys

    code = "import lithon, sys; print(sorted(m for m in ('numpy', 'scipy', 'numba', 'PySide6') if m in sys.modules))"
    said = subprocess.run([sys.executable, "-c", code], capture_output=True, text=True, check=True).stdout
    assert said.strip() == "[]"
    missing = [name for name in lithon.__all__ if not hasattr(lithon, name)]
    assert not missing and {"open", "mesh_of", "survey_of", "SizeRules"} <= set(lithon.__all__)


def wait(worker: WorkerHandle):
    """The answer to the last job and the progress told on the way."""
    told = []
    while worker.connection.poll(60):
        message = worker.receive()
        if message[0] != "progress":
            return message, told
        told.append(message)
    pytest.fail("the worker does not answer")


@pytest.mark.slow
def test_the_worker_works_stops_and_may_die(anchor):
    worker = WorkerHandle()
    try:
        worker.submit("step", State(anchor), lithon.do.clear("holes where diameter < 3 mm"))
        (kind, number, (outcome, ghost)), _ = wait(worker)
        assert (kind, number) == ("done", 1) and outcome.faces_change == -2
        assert set(ghost.gone) == set(anchor.faces()) - set(outcome.model.faces()) - {
            f.before for f in outcome.model.faces()
        }
        kept = set(outcome.model.faces()) & set(anchor.faces())
        assert len(kept) >= 30  # the same objects as here
        worker.submit("standings", anchor)
        (kind, _, told), _ = wait(worker)
        assert kind == "done" and set(told.moments) == set(anchor.faces())  # as known there, for the very faces here
        assert all(m[0] == pytest.approx(face_area(f), rel=1e-12) for f, m in told.moments.items())
        assert {len(f.faces) for f in told.features[anchor.bodies[0]]} == {
            len(f.faces) for f in lithon.features(anchor.bodies[0])
        }
        worker.submit("step", State(anchor), lithon.do.clear("holes where diameter > 99 mm"))
        (kind, _, error), _ = wait(worker)
        assert kind == "failed" and isinstance(error, Unresolved) and "finds nothing" in str(error)
        worker.submit("step", State(anchor, settings=Settings(2.0)), do.mesh())
        assert worker.connection.poll(60)
        worker.cancel()
        (kind, _, error), told = wait(worker)
        assert kind == "failed" and isinstance(error, Cancelled) and told
        worker.submit("nonsense")
        (kind, _, error), _ = wait(worker)
        assert kind == "failed" and isinstance(error, Fault) and "our fault" in str(error)
        worker.submit("rest", 30.0)
        time.sleep(0.3)
        os.kill(worker.process.pid, signal.SIGKILL)
        with pytest.raises((EOFError, OSError)):
            while True:
                worker.receive()
    finally:
        worker.close()


def test_a_step_is_changed_in_its_place_and_what_follows_runs_again(anchor, tmp_path):
    text = lithon.step_text(anchor).encode()
    ledger = Ledger.of(Source("anchor.step", text))
    ledger.take(do.clear("holes where diameter < 3 mm"))
    ledger.take(do.carve(do.Cut.at((5.0, 0.0, 0.0), (1.0, 0.0, 0.0))))
    sizes = sorted(volume(b) for b in ledger.model.bodies)
    first, second = (entry.operation for entry in ledger.entries)
    assert first.parameters()["faces"].text(first.faces) == "holes where diameter < 3 mm"
    moved = second.with_(cut="x = 9")
    assert second.cut.origin[0] == 5.0  # the old one is as it was
    assert ledger.change(1, moved) == []
    assert sorted(volume(b) for b in ledger.model.bodies) != sizes
    assert sum(volume(b) for b in ledger.model.bodies) == pytest.approx(sum(sizes), rel=1e-12)
    assert ledger.change(1, moved.with_(cut="at 5 0 0 across 1 0 0")) == []
    assert sorted(volume(b) for b in ledger.model.bodies) == pytest.approx(sizes, rel=1e-12)
    # A question that finds nothing is told, and the step after it still runs.
    (trouble,) = ledger.change(0, first.with_(faces="holes where diameter < 0.1 mm"))
    assert "finds nothing" in trouble and len(ledger.model.bodies) == 2
    for operation, changes in (
        (first, {"faces": "all the holes"}),
        (first, {"solution": -1}),
        (second, {"cut": "offset far from faces"}),
        (second, {"cut": "at 1 2 across 0 0 1"}),
        (do.bond(), {"gap": -1.0}),
        (do.bond(), {"nothing": 1.0}),
    ):
        with pytest.raises(LithonError):
            operation.with_(**changes)


FIXTURES = Path(__file__).parent / "fixtures"
EXPECTED = json.loads((FIXTURES / "expected.json").read_text("utf-8"))


@pytest.mark.parametrize("name", EXPECTED)
def test_what_the_first_version_wrote_opens_and_replays(name, tmp_path):
    """Projects and recipes of version 1: nothing in them is lost, and what is written of them is read again."""
    expected = EXPECTED[name]
    project, troubles = lithon.load_project(FIXTURES / f"{name}.lithon")
    recipe = lithon.load_recipe((FIXTURES / f"{name}.recipe.json").read_text("utf-8"))
    lithon.save_project(project, tmp_path / "again.lithon")
    again, more = lithon.load_project(tmp_path / "again.lithon")
    fresh = Ledger.of(project.source)
    assert troubles == more == [] and lithon.run_recipe(fresh, recipe) == []
    for ledger in (project, again, fresh):
        found = sorted((b.name, len(b.faces), volume(b)) for b in ledger.model.bodies)
        assert [x[:2] for x in found] == [tuple(x[:2]) for x in expected["bodies"]]
        assert [x[2] for x in found] == pytest.approx([x[2] for x in expected["bodies"]], rel=1e-9)
        assert len(ledger.model.shared()) == expected["shared"] and ledger.size == expected["size"]
        assert sorted(f.label for f in ledger.model.faces() if f.label) == expected["labels"]
    for ledger in (project, again):
        assert ledger.position == expected["position"] and ledger.settings.budget == expected["budget"]
        assert [e.outcome.words for e in ledger.entries] == expected["words"]


def test_a_step_of_another_lithon_is_kept_as_it_was_written(anchor_file, tmp_path):
    work = lithon.open(anchor_file)
    strange = {"do": "fold", "at": 3}
    with pytest.raises(BadFile, match="fold"):
        work.take(strange)
    work.take(do.clear("holes where diameter <= 2.6 mm"))
    lithon.save_project(work, tmp_path / "a.lithon")
    with zipfile.ZipFile(tmp_path / "a.lithon") as archive:
        state, source = json.loads(archive.read("project.json")), archive.read("source")
    state["entries"].insert(0, {"step": strange, "words": "fold", "on": True})
    state["position"] = 2
    with zipfile.ZipFile(tmp_path / "b.lithon", "w") as archive:
        archive.writestr("project.json", json.dumps(state))
        archive.writestr("source", source)
    again, troubles = lithon.load_project(tmp_path / "b.lithon")
    assert len(troubles) == 1 and "fold" in troubles[0]
    assert total(again.model) == pytest.approx(ANCHOR.volume + ANCHOR.weeps_volume, rel=1e-9)
    assert again.recipe()["steps"][0] == strange
