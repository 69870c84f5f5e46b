"""The real window, driven by mouse and keys: what arrives dirty, as triangles, as an assembly, or too late."""

import sys
from pathlib import Path

import numpy as np
import pytest
from dice import LONG
from hands import button_of, click, desk_words, labels, press, read, ready, settled, total

import lithon
from lithon import do
from lithon.brep.boxes import box
from lithon.brep.measures import face_area, volume

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from parts import perforated

pytestmark = pytest.mark.usefixtures("display")


def test_triangles_arrive_with_a_choice_of_units(desk, qtbot, tmp_path, anchor):
    import lithon

    path = tmp_path / "anchor.stl"
    lithon.write_triangles(anchor, path)
    desk.open(path)
    settled(desk, qtbot)
    exact = total(desk)
    desk.work.go("Intake")
    assert "names no unit" in labels(desk.docket)
    button_of(desk.docket, "○ inch").click()
    settled(desk, qtbot)
    assert total(desk) == pytest.approx(exact * 25.4**3, rel=1e-6)
    assert desk.work.ledger.size > 60.0  # a size that fits the part as it is now
    # The unit is kept with the project.
    saved = tmp_path / "work.lithon"
    assert desk.work.save(saved)
    desk.open(saved)
    settled(desk, qtbot)
    assert total(desk) == pytest.approx(exact * 25.4**3, rel=1e-6)


def test_bad_triangles_leave_the_desk_as_it_was(opened, qtbot, tmp_path):
    before = opened.work.model
    for name, data in (("a.stl", b""), ("b.ply", b"ply\n"), ("c.3mf", b"PK\x03\x04"), ("d.obj", b"v 1 2 nan\n")):
        path = tmp_path / name
        path.write_bytes(data)
        opened.open(path)
        read(opened, qtbot)
        assert opened.notices.trouble.isVisible() and opened.work.model is before
        opened.notices.hush()


def test_twins_are_folded_and_hidden_together(desk, qtbot, tmp_path):
    import lithon
    from lithon.samples import paddle_frame

    path = tmp_path / "paddle-frame.step"
    lithon.write_step(paddle_frame(), path, "paddle frame")
    desk.open(path)
    settled(desk, qtbot)
    assert "bolt  × 12" in labels(desk.roster) and "bolt 12" not in labels(desk.roster)
    from PySide6.QtWidgets import QFrame, QLabel

    card = next(
        f
        for f in desk.roster.findChildren(QFrame)
        if f.objectName() == "card" and any("× 12" in x.text() for x in f.findChildren(QLabel))
    )
    button_of(card, "hide").click()
    assert len(desk.work.hidden) == 12 and all(b.name.startswith("bolt") for b in desk.work.hidden)
    button_of(desk.roster, "unfold").click()
    assert "bolt 12" in labels(desk.roster)


def test_what_is_proposed_for_one_is_taken_for_its_twins(desk, qtbot, tmp_path):
    from PySide6.QtCore import Qt
    from test_assemblies import feature_with, lugs

    path = tmp_path / "lugs.step"
    lithon.write_step(lugs(), path, "lugs")
    desk.open(path)
    settled(desk, qtbot)
    work, was = desk.work, total(desk)
    body = next(b for b in work.model.bodies if b.name == "lug 2")
    work.choose(feature_with(body, 3.0))
    press(desk, qtbot, Qt.Key.Key_C)
    ready(desk, qtbot)
    assert work.proposal.outcome.volume_change == pytest.approx(45.0 * np.pi)
    press(desk, qtbot, Qt.Key.Key_T)
    ready(desk, qtbot)
    assert work.proposal.outcome.volume_change == pytest.approx(3 * 45.0 * np.pi)
    assert len(work.proposal.ghost.gone) == 6 and button_of(desk.proposal, "On this body only  (T)")
    press(desk, qtbot, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert total(desk) == pytest.approx(was + 3 * 45.0 * np.pi)
    # It is recorded as one step, and replayed as such.
    saved = tmp_path / "lugs.lithon"
    assert work.save(saved)
    desk.open(saved)
    settled(desk, qtbot)
    assert total(desk) == pytest.approx(was + 3 * 45.0 * np.pi) and len(work.ledger.entries) == 1


def test_a_new_revision_takes_the_place_of_the_source(desk, qtbot, tmp_path):
    from PySide6.QtCore import Qt

    from lithon.samples import Anchor, collar_anchor

    path = tmp_path / "anchor.step"
    lithon.write_step(collar_anchor(), path)
    desk.open(path)
    settled(desk, qtbot)
    work = desk.work
    for question in ("holes where diameter < 2.6 mm", "pockets where depth < 5 mm"):
        work.propose(do.clear(question))
        ready(desk, qtbot)
        press(desk, qtbot, Qt.Key.Key_Return)
        settled(desk, qtbot)
    # The file changes under the desk's hands: that is told, and nothing is done about it by itself.
    b = Anchor(length=130.0, bolt_x=50.0, grease_x=61.0, lug_x0=-19.0, lug_x1=15.0)
    lithon.write_step(collar_anchor(b), path)
    qtbot.waitUntil(lambda: "has changed on the disk" in desk.note.text(), timeout=10000)
    was = work.model
    work.go("Intake")
    assert button_of(desk.docket, "New revision of the source…  (Ctrl+R)")
    assert work.model is was
    work.revise(path)
    settled(desk, qtbot)
    assert [e.trouble for e in work.ledger.entries] == ["", ""]
    assert total(desk) == pytest.approx(b.volume + b.weeps_volume + b.pocket_volume, rel=1e-9)
    assert "2 of 2 steps taken again" in desk.note.text() and "the one before had 36" in desk.note.toolTip()
    # One without pockets: the step that needs them is marked and told, the other is taken.
    other = tmp_path / "block.step"
    lithon.write_step(perforated(7), other)
    work.revise(other)
    settled(desk, qtbot)
    assert "finds nothing" in work.ledger.entries[1].trouble
    assert desk.notices.trouble.isVisible() and desk.ledger_bar.buttons[1].property("trouble")
    # A file that is none leaves everything as it is.
    now = work.model
    bad = tmp_path / "bad.step"
    bad.write_bytes(b"")
    work.revise(bad)
    read(desk, qtbot)
    assert work.model is now


def test_a_budget_of_faces_is_watched_and_kept(desk, qtbot, tmp_path, anchor_file):
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QLineEdit

    desk.open(anchor_file)
    settled(desk, qtbot)
    work = desk.work
    work.go("Survey")
    told = labels(desk.docket)
    assert "Half, mirror y = 0" in told and "there for small things" in told and "Together about" in told

    # Where one has scrolled to, and what is being typed, stays when prices come.
    bar = desk.docket.area.verticalScrollBar()
    qtbot.waitUntil(lambda: bar.maximum() > 1)  # laid out at the next turn of events
    bar.setValue(bar.maximum() // 2)
    stood = bar.value()
    work.forecast_changed.emit()
    qtbot.wait(100)
    assert bar.value() == stood > 0

    def type_budget(text):
        field = next(x for x in desk.docket.findChildren(QLineEdit) if x.objectName() == "face-budget")
        field.setText(text)
        field.editingFinished.emit()

    assert "of" not in desk.ledger_bar.totals.text()
    field = next(x for x in desk.docket.findChildren(QLineEdit) if x.objectName() == "face-budget")
    field.setFocus()
    qtbot.keyClicks(field, "3")
    work.forecast_changed.emit()
    qtbot.keyClicks(field, "4")
    qtbot.keyClick(field, Qt.Key.Key_Return)
    assert "36 of 34 ▲ too many" in desk.ledger_bar.totals.text()
    type_budget("few")
    assert work.ledger.settings.budget == 34 and desk.notices.trouble.isVisible()
    work.propose(do.clear("holes where diameter < 2.6 mm"))
    ready(desk, qtbot)
    assert work.asking.twins() == 0
    press(desk, qtbot, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert "→ 34 of 34  " in desk.ledger_bar.totals.text()
    saved = tmp_path / "work.lithon"
    assert work.save(saved)
    desk.open(saved)
    settled(desk, qtbot)
    assert work.ledger.settings.budget == 34
    work.go("Survey")
    type_budget("")
    assert work.ledger.settings.budget is None and "of" not in desk.ledger_bar.totals.text()


def test_walls_and_gaps_come_from_the_worker(desk, qtbot, tmp_path):
    import lithon
    from lithon.samples import FRAME, paddle_frame
    from lithon.survey.sizes import LENSES

    path = tmp_path / "paddle-frame.step"
    lithon.write_step(paddle_frame(), path, "paddle frame")
    desk.open(path)
    settled(desk, qtbot)
    for key, least in (("gaps", FRAME.gap), ("walls", 0.5 * (FRAME.bush - FRAME.pin))):
        desk.sieve.lens_buttons[key].click()
        assert desk.sieve.lens is next(x for x in LENSES if x.key == key)
        qtbot.waitUntil(lambda: bool(desk.sieve.marks), timeout=60000)
        assert desk.sieve.marks[0].value == pytest.approx(least, rel=1e-6)
        assert desk.sieve.marks[0].faces


def test_a_dirty_part_is_told_card_by_card(desk, qtbot, tmp_path):
    import lithon
    from lithon.samples import pintle_shoe

    path = tmp_path / "pintle-shoe.step"
    lithon.write_step(pintle_shoe(), path, "pintle shoe")
    desk.open(path)
    settled(desk, qtbot)
    desk.work.go("Mend")
    kinds = [g.first.kind for g in desk.docket.groups]
    assert set(kinds) >= {"gap between edges", "open boundary", "hidden sheet", "disguised surface", "needless split"}
    assert "blocked" in labels(desk.roster)
    desk.docket.show(desk.docket.groups[kinds.index("hidden sheet")])
    assert len(desk.work.faces) == 1
    # Its remedy is a proposal like any other: seen, taken, recorded, and the card is gone.
    before = len(desk.work.model.faces())
    desk.docket.remedy(desk.docket.groups[kinds.index("hidden sheet")])
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready"
    desk.work.asking.accept()
    settled(desk, qtbot)
    kinds = [g.first.kind for g in desk.docket.groups]
    assert "hidden sheet" not in kinds and "open boundary" in kinds
    assert len(desk.work.model.faces()) == before - 1 and len(desk.work.ledger.entries) == 1


def test_a_dirty_part_is_mended_by_its_cards(desk, qtbot, tmp_path):
    """R and Enter on the uppermost card, until Mend has nothing left to say; undone, all is as wounded as before."""
    from PySide6.QtCore import Qt

    import lithon
    from lithon.samples import pintle_shoe
    from lithon.samples.pintle_shoe import sound_shoe

    path = tmp_path / "pintle-shoe.step"
    lithon.write_step(pintle_shoe(), path, "pintle shoe")
    desk.open(path)
    settled(desk, qtbot)
    work = desk.work
    work.go("Mend")
    first = [g.first.text for g in desk.docket.groups]
    for _ in range(16):
        if not desk.docket.groups:
            break
        press(desk, qtbot, Qt.Key.Key_R)
        ready(desk, qtbot)
        assert work.proposal.state == "ready", work.proposal.error
        press(desk, qtbot, Qt.Key.Key_Return)
        settled(desk, qtbot)
    assert not desk.docket.groups and not [f for f in work.findings if f.severity == "stops"]
    assert total(desk) == pytest.approx(volume(sound_shoe()), rel=1e-9)
    words = [entry.outcome.words for entry in work.ledger.entries]
    assert any(w.startswith("sew a gap, an edge moved by") for w in words) and "close 1 opening" in words
    assert "blocked" not in labels(desk.roster)
    while work.ledger.position:
        work.undo()
    settled(desk, qtbot)
    assert [g.first.text for g in desk.docket.groups] == first


def test_a_body_is_set_aside_and_its_contacts_get_names(desk, qtbot, tmp_path):
    from PySide6.QtCore import Qt

    from lithon.samples import paddle_frame

    path = tmp_path / "frame.step"
    lithon.write_step(paddle_frame(), path)
    desk.open(path)
    settled(desk, qtbot)
    work = desk.work
    bolt = next(b for b in work.model.bodies if b.name == "bolt")
    work.choose(bolt.faces[:1])
    qtbot.keyClick(desk, Qt.Key.Key_D)
    qtbot.waitUntil(lambda: work.proposal is not None and work.proposal.state == "ready", timeout=60000)
    qtbot.keyClick(desk, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert len(work.model.bodies) == 17 and not any(b.name == "bolt" for b in work.model.bodies)
    named = [f for f in work.model.faces() if f.label == "contact bolt"]
    assert {work.model.owners(f)[0].name for f in named} == {"lower plate", "upper plate"}
    work.choose(named[:1])
    assert "“contact bolt”" in desk_words(desk)
    qtbot.keyClick(desk, Qt.Key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert len(work.model.bodies) == 18


def test_triangles_are_turned_and_scaled_before_work_begins(desk, qtbot, tmp_path, anchor):
    from PySide6.QtWidgets import QLineEdit, QPushButton

    path = tmp_path / "anchor.stl"
    lithon.write_triangles(anchor, path)
    desk.open(path)
    settled(desk, qtbot)
    work = desk.work
    work.go("Intake")
    before = box(work.model.bodies[0])
    up = next(b for b in desk.docket.findChildren(QPushButton) if b.objectName() == "choice")
    next(a for a in up.menu().actions() if a.text() == "y").trigger()
    settled(desk, qtbot)
    after = box(work.model.bodies[0])
    assert np.allclose((after[1] - after[0])[[0, 2, 1]], before[1] - before[0], atol=1e-4)
    field = next(x for x in desk.docket.findChildren(QLineEdit) if x.objectName() == "place-scale")
    field.setText("0.5")
    field.editingFinished.emit()
    settled(desk, qtbot)
    assert np.allclose(np.ptp(box(work.model.bodies[0]), axis=0), 0.5 * (after[1] - after[0]), atol=1e-4)
    field = next(x for x in desk.docket.findChildren(QLineEdit) if x.objectName() == "place-scale")
    field.setText("a lot")
    field.editingFinished.emit()
    assert work.ledger.source.placement.scale == 0.5


def test_measures_are_told_to_as_many_digits_as_asked(opened, qtbot):
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QLabel, QPushButton

    desk, work = opened, opened.work
    bore = next(f for f in work.model.faces() if f.surface.kind == "cylinder" and len(f.loops) == 2)
    ring = bore.loops[0][0].edge
    work.choose([bore], at=np.asarray(ring.at(0.2) + 0.5 * (bore.loops[1][0].edge.at(0.2) - ring.at(0.2))))
    for _ in range(5):
        more = next(b for b in desk.in_hand.findChildren(QPushButton) if b.text() == "+")
        qtbot.mouseClick(more, Qt.MouseButton.LeftButton)
        qtbot.wait(20)
    assert work.digits == 11
    told = [x.text() for x in desk.in_hand.findChildren(QLabel)]
    exact = face_area(bore)
    assert any(f"{exact:.11g} mm²" in text for text in told)


def test_many_cards_are_laid_out_in_parts_and_the_window_comes_to_rest(desk, qtbot, tmp_path):
    """A plate with more kinds of holes than anybody reads: the Docket shows some, and the layout settles."""
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QApplication, QPushButton

    from lithon.brep.topology import Model
    from lithon.geometry.frames import Frame
    from lithon.samples.build import Round, face_toward, prism, rectangle, sink

    plate = prism(rectangle(0, 0, 80, 70), 6.0)
    up = Frame.of((0, 0, 6), (0, 0, 1), (1, 0, 0))
    for k in range(50):
        hole = Round((5 + 8 * (k % 10), 5 + 14 * (k // 10)), 0.8 + 0.02 * k)
        plate = sink(plate, face_toward(plate, (0, 0, 1)), up, hole, 6.0, face_toward(plate, (0, 0, -1)))
    path = tmp_path / "plate.step"
    lithon.write_step(Model.of([plate]), path)
    desk.open(path)
    settled(desk, qtbot)
    desk.work.set_size(6.0)
    settled(desk, qtbot)
    desk.work.go("Survey")
    docket = desk.docket
    assert len(docket.groups) >= 50 and len(docket.cards) == 40
    for _ in range(5):
        QApplication.processEvents()  # a layout that chases itself would not come back from here
    more = next(b for b in docket.findChildren(QPushButton) if "more of" in b.text())
    qtbot.mouseClick(more, Qt.MouseButton.LeftButton)
    assert len(docket.cards) == min(80, len(docket.groups))
    docket.choose(len(docket.groups) - 1)
    assert docket.current == len(docket.groups) - 1 and len(docket.cards) == len(docket.groups)


def test_reading_can_be_stopped_and_loses_nothing(opened, qtbot, tmp_path, anchor):
    """While a file is read the window says so; Esc lets go of it, and what lay on the desk stays."""
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    before = work.model
    assert desk.notices.isHidden()
    work.job("rest", 30.0, done=lambda words: None, failed=lambda error: None)  # the worker has something to do
    path = tmp_path / "other.step"
    lithon.write_step(anchor, path)
    desk.open(path)
    qtbot.waitUntil(lambda: desk.notices.reading.isVisible(), timeout=10000)
    assert "Reading other.step" in desk.notices.reading_text.text()
    press(desk, qtbot, Qt.Key.Key_Escape)
    read(desk, qtbot)
    qtbot.wait(300)
    assert work.model is before and work.path.name == "collar-anchor.step" and desk.notices.isHidden()
    settled(desk, qtbot)  # what lies there is surveyed again, as that was broken off
    assert work.findings and work.standings is not None
    desk.open(path)
    settled(desk, qtbot)
    assert work.path == path and work.model is not before


def test_the_last_file_asked_for_is_opened(opened, qtbot, tmp_path, anchor):
    desk = opened
    for name in ("first.step", "second.step", "third.step"):
        lithon.write_step(anchor, tmp_path / name)
        desk.open(tmp_path / name)
    settled(desk, qtbot)
    assert desk.work.path.name == "third.step"


def test_calls_into_qt_give_back_what_they_take(display, qtbot):
    """A binding that drops a reference to None at every call ends the process after some hours of work."""
    import gc
    import sys

    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication, QLabel

    words, timer = QLabel("a"), QTimer()
    qtbot.addWidget(words)
    QApplication.processEvents()
    gc.collect()  # what earlier windows left behind holds None, too
    before = sys.getrefcount(None)
    for k in range(500):
        words.setText(str(k))
        words.update()
        timer.start(1000)
        timer.stop()
        QApplication.processEvents()
    assert sys.getrefcount(None) > before - 400


def test_an_overlap_is_parted_from_its_card(desk, qtbot, tmp_path):
    from PySide6.QtCore import Qt

    from lithon.samples import paddle_frame

    path = tmp_path / "paddle-frame.step"
    lithon.write_step(paddle_frame(), path)
    desk.open(path)
    settled(desk, qtbot)
    work, was = desk.work, total(desk)
    number = next(k for k, g in enumerate(desk.docket.groups) if g.first.kind == "overlap")
    desk.docket.choose(number)
    assert {work.model.owners(f)[0].name for f in work.faces} == {"upper plate", "stop"}
    qtbot.mouseClick(button_of(desk.docket.cards[number], "Show me"), Qt.MouseButton.LeftButton)
    assert desk.view._focus
    qtbot.mouseClick(button_of(desk.docket.cards[number], "Part"), Qt.MouseButton.LeftButton)
    ready(desk, qtbot)
    first = work.proposal.outcome
    assert first.solutions == 2 and first.words.startswith("part upper plate from stop")
    press(desk, qtbot, Qt.Key.Key_Tab)
    ready(desk, qtbot)
    assert work.proposal.outcome.words.startswith("part stop from upper plate")
    press(desk, qtbot, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert total(desk) < was and not any(g.first.kind == "overlap" for g in desk.docket.groups)


@pytest.mark.skipif(not LONG, reason="in a long run")
def test_a_large_part_is_measured_by_the_worker_and_sieved_by_what_is_chosen(desk, qtbot, tmp_path):
    """Above a few hundred faces the wall behind a click comes from the worker; the Sieve marks what is chosen whole."""
    plate = perforated(220)
    (x, y, z), (far_x, _, top_z) = box(plate.bodies[0])
    thick = f"wall behind it {top_z - z:.6g} mm"
    path = tmp_path / "plate.step"
    lithon.write_step(plate, path)
    desk.open(path)
    settled(desk, qtbot)
    click(desk, qtbot, (x + 70.0, y + 70.0, top_z))
    (top,) = desk.work.faces
    assert top.surface.kind == "plane"
    qtbot.waitUntil(lambda: thick in labels(desk.in_hand), timeout=30000)
    # Another place is asked for anew, and the measure of the one before is not shown for it.
    click(desk, qtbot, (far_x - 70.0, y + 50.0, top_z))
    assert "being measured" in labels(desk.in_hand)
    qtbot.waitUntil(lambda: "being" not in labels(desk.in_hand) and thick in labels(desk.in_hand), timeout=30000)
    # A mark is chosen where all its faces and edges are, whatever else is.
    rng = np.random.default_rng(5)
    for key in ("holes", "edges", "widths"):
        desk.sieve.lens_buttons[key].click()
        qtbot.waitUntil(lambda key=key: desk.sieve.lens.key == key and len(desk.sieve.marks) > 0, timeout=30000)
        model = desk.work.model
        some = [f for f in model.faces() if rng.random() < 0.5]
        desk.work.choose(faces=some, edges=list(model.edges())[::3])
        faces, edges = set(desk.work.faces), set(desk.work.edges)
        told = [bool((m.faces and set(m.faces) <= faces) or (m.edges and set(m.edges) <= edges))
                for m in desk.sieve.marks]  # fmt: skip
        assert 0 < sum(told) < len(told)
        assert desk.sieve.axis.chosen.tolist() == told
        assert desk.sieve.axis.grab().width() > 0


def test_a_spoiled_scan_shows_a_card_for_each_cause_and_is_cleaned_by_one(desk, qtbot, tmp_path):
    """Hundreds of wounds are a handful of cards; each is walked through place by place; one press cleans them all."""
    import meshio
    from PySide6.QtCore import Qt
    from PySide6.QtWidgets import QPushButton

    from lithon.brep.tessellation.tessellate import body_mesh
    from lithon.samples.gudgeon_scan import GUDGEON, finer, sound_gudgeon

    points, corners = finer(*body_mesh(sound_gudgeon())[:2], 4.5)
    dice = np.random.default_rng(11)
    turned, doubled, gone = np.array_split(dice.permutation(len(corners))[: len(corners) // 8], 3)
    corners[turned] = corners[turned, ::-1]
    corners = np.vstack([np.delete(corners, gone, axis=0), corners[np.setdiff1d(doubled, gone)]])
    path = tmp_path / "gudgeon-rough.stl"
    meshio.Mesh(points, [("triangle", corners)]).write(path, binary=True)
    desk.open(path)
    settled(desk, qtbot)
    work = desk.work
    work.go("Mend")
    stops = [f for f in work.open_findings() if f.severity == "stops"]
    groups = desk.docket.groups
    assert len(stops) > 150 and len(groups) <= 8 and len(groups) == len({g.first.kind for g in groups})
    assert sum(len(g.findings) for g in groups) >= len(stops)
    assert all(g.first.offer is not None and g.first.offer.operation == "clean-triangles" for g in groups)
    k = next(k for k, g in enumerate(groups) if g.first.kind == "open boundary")
    places = []
    for n in range(3):
        walk = next(b for b in desk.docket.cards[k].findChildren(QPushButton) if "›" in b.text())
        qtbot.mouseClick(walk, Qt.MouseButton.LeftButton)
        assert walk.text() == f"{n + 1} of {len(groups[k].findings)} ›"
        assert set(work.edges) == set(groups[k].findings[n].edges)
        places.append(desk.view.renderer.GetActiveCamera().GetFocalPoint())
    assert len(set(places)) == 3
    desk.docket.remedy(groups[0])
    ready(desk, qtbot)
    assert work.proposal.state == "ready", work.proposal.error
    desk.work.asking.accept()
    settled(desk, qtbot)
    assert not [f for f in work.findings if f.severity == "stops"] and not desk.docket.groups
    # A wound at an edge of the solid is closed flat: what was cut off there by is less than a triangle's share.
    assert total(desk) == pytest.approx(GUDGEON.volume, rel=0.01)
