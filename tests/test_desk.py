"""The real window, driven by mouse and keys through a preparation of the collar anchor."""

import itertools
import os
import signal

import numpy as np
import pytest
from dice import LONG
from hands import button_of, click, cut_field, desk_words, drag_box, labels, press, read, ready, settled, total

import lithon
from lithon import do
from lithon.brep.boxes import box
from lithon.brep.measures import volume
from lithon.samples import ANCHOR

pytestmark = pytest.mark.usefixtures("display")


def test_a_whole_preparation_by_hand(opened, qtbot, tmp_path):
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    key = Qt.Key
    assert [g.first.kind for g in desk.docket.groups].count("small fillet") == 3
    # A pick in the view: the front of the lug, then Ctrl adds the plate's front.
    click(desk, qtbot, (-3.0, -13.0, 50.0))
    assert [f.surface.kind for f in work.faces] == ["plane"] and abs(work.faces[0].surface.frame.z[1]) > 0.9
    click(desk, qtbot, (10.0, -40.0, 6.0), Qt.KeyboardModifier.ControlModifier)
    assert len(work.faces) == 2 and "apart by 27 mm" in desk_words(desk)
    press(desk, qtbot, key.Key_Escape)
    assert not work.faces
    # From the Docket: next card until the weep holes, take the remedy, Enter.
    while "hole, diameter 2.5" not in desk.docket.groups[desk.docket.current].first.text:
        press(desk, qtbot, key.Key_N)
    press(desk, qtbot, key.Key_R)
    ready(desk, qtbot)
    assert work.proposal.outcome.faces_change == -2 and len(work.proposal.ghost.gone) == 2
    assert len(work.model.faces()) == 36  # nothing has happened yet
    press(desk, qtbot, key.Key_Return)
    assert total(desk) == pytest.approx(ANCHOR.volume + ANCHOR.weeps_volume, rel=1e-9)
    settled(desk, qtbot)
    # The hole beside the thin wall is kept, with its reason.
    desk.docket.choose(next(k for k, g in enumerate(desk.docket.groups) if g.first.keep))
    press(desk, qtbot, key.Key_K)
    settled(desk, qtbot)
    assert (
        "thin" in work.ledger.entries[-1].outcome.words
        or "wall" in work.ledger.entries[-1].outcome.words
        or "outside" in work.ledger.entries[-1].outcome.words
    )
    assert not any(g.first.kind == "small hole" for g in desk.docket.groups)
    # All fillets up to the largest small one in one go, from any of their cards.
    desk.docket.choose(max(k for k, g in enumerate(desk.docket.groups) if g.first.kind == "small fillet"))
    press(desk, qtbot, key.Key_A)
    ready(desk, qtbot)
    assert work.proposal.outcome.faces_change == -12
    press(desk, qtbot, key.Key_Return)
    settled(desk, qtbot)
    # The pocket goes through a question and the key for Clear.
    press(desk, qtbot, key.Key_Slash)
    qtbot.keyClicks(desk.question.line, "pockets where depth < 5 mm")
    assert desk.question.count.text() == "1 found"
    qtbot.keyClick(desk.question.line, key.Key_Return)
    assert len(work.faces) == 5
    press(desk, qtbot, key.Key_C)
    ready(desk, qtbot)
    press(desk, qtbot, key.Key_Return)
    settled(desk, qtbot)
    assert len(work.model.faces()) == 17
    # Carve at the mirror plane, midway between two faces picked in the view and turned to.
    sides = [
        f
        for f in work.model.faces()
        if f.surface.kind == "plane"
        and abs(abs(f.surface.frame.origin[1]) - 40) < 1e-6
        and abs(f.surface.frame.z[1]) > 0.9
    ]
    work.choose(sides)
    press(desk, qtbot, key.Key_V)
    ready(desk, qtbot)
    assert cut_field(desk).way == "midway" and cut_field(desk).isVisible()
    press(desk, qtbot, key.Key_Return)
    settled(desk, qtbot)
    assert [b.name for b in work.model.bodies] == ["collar anchor A", "collar anchor B"]
    halves = [volume(b) for b in work.model.bodies]
    assert halves[0] == pytest.approx(halves[1], rel=1e-12)
    press(desk, qtbot, key.Key_B)
    ready(desk, qtbot)
    press(desk, qtbot, key.Key_Return)
    settled(desk, qtbot)
    assert len(work.model.shared()) == 2
    # Undo and redo all the way.
    steps = work.ledger.position
    for _ in range(steps):
        qtbot.keyClick(desk, key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert work.ledger.position == 0 and total(desk) == pytest.approx(ANCHOR.volume, rel=1e-12)
    for _ in range(steps):
        qtbot.keyClick(desk, key.Key_Z, Qt.KeyboardModifier.ControlModifier | Qt.KeyboardModifier.ShiftModifier)
    assert work.ledger.position == steps
    settled(desk, qtbot)
    qtbot.mouseMove(desk.view, desk.view.pixel_of(np.array((55.0, -30.0, 12.0))))
    press(desk, qtbot, key.Key_M)
    qtbot.waitUntil(lambda: work.mesh is not None, timeout=120000)
    assert work.station == "Prove" and work.mesh.conformal() and work.mesh.quality.smallest_angle.min() > 10
    assert not desk.view._layers["size"]
    for kind, name in (("step", "a.step"), ("vtu", "a.vtu"), ("recipe", "a.recipe.json"), ("report", "a.html")):
        assert desk.write(kind, tmp_path / name) and (tmp_path / name).stat().st_size > 500
    # Save, open again, go on.
    assert work.save(tmp_path / "a.lithon")
    desk.open(tmp_path / "a.lithon")
    settled(desk, qtbot)
    assert work.ledger.position == steps + 1 and len(work.model.shared()) == 2
    assert (work.ledger.settings.elements, work.ledger.settings.order) == (
        "tet",
        1,
    )  # how it was meshed is known, though the mesh itself is not kept
    for _ in range(2):  # that it was meshed, and the bond
        qtbot.keyClick(desk, key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert not work.model.shared()


def test_cards_are_as_tall_as_their_words_from_the_first(opened, qtbot):
    """Before any event is handled, at any width: what is drawn next may take a while, and until then this is seen."""
    from PySide6.QtWidgets import QLabel

    from lithon.app.parts import Card

    desk = opened
    for wide in (1280, 1000):
        desk.resize(wide, 800)
        qtbot.wait(100)
        for station in ("Survey", "Trim", "Prove"):
            desk.work.go(station)
            desk.docket.refresh()
            told = [x for x in desk.docket.findChildren(QLabel) if x.wordWrap() and not x.isHidden() and x.isVisible()]
            assert told
            for one in told:
                assert one.height() >= one.heightForWidth(one.width()), one.text()
            cards = sorted((c.geometry().top(), c.geometry().bottom()) for c in desk.docket.findChildren(Card)
                           if c.isVisible())  # fmt: skip
            assert all(above[1] < below[0] for above, below in itertools.pairwise(cards))


def test_the_sieve_is_dragged_and_brushed(opened, qtbot):
    from PySide6.QtCore import QPoint, Qt

    desk, axis = opened, opened.sieve.axis
    y = axis.height() // 2

    def at(size: float) -> QPoint:
        return QPoint(round(axis.x(size)), y)

    left = Qt.MouseButton.LeftButton
    assert desk.work.ledger.size == 4.0
    qtbot.mousePress(axis, left, pos=at(4.0))
    qtbot.mouseMove(axis, at(2.7))
    assert 2.5 < axis.size < 2.9 and len(desk.view._lit_edges) == 16  # the small fillets' arcs light up at once
    assert desk.work.ledger.size == 4.0
    qtbot.mouseRelease(axis, left, pos=at(2.7))
    assert desk.work.ledger.size == axis.size and not desk.view._lit_edges
    assert desk.size_field.value() == pytest.approx(axis.size)
    settled(desk, qtbot)
    assert not any(g.first.text.startswith("hole, diameter 3") for g in desk.docket.groups)
    desk.sieve.lens_buttons["holes"].click()
    qtbot.waitUntil(lambda: bool(desk.sieve.marks), timeout=60000)
    qtbot.mousePress(axis, left, pos=at(9.0))
    qtbot.mouseMove(axis, at(14.0))
    qtbot.mouseRelease(axis, left, pos=at(14.0))
    assert len(desk.work.faces) == 4  # the bolt holes


def test_a_long_step_is_stopped_and_a_crash_loses_nothing(opened, qtbot):
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    work.set_size(1.2)
    settled(desk, qtbot)
    model = work.model
    press(desk, qtbot, Qt.Key.Key_M)
    qtbot.waitUntil(lambda: work.proposal is not None and work.proposal.share > 0.0, timeout=60000)
    press(desk, qtbot, Qt.Key.Key_Escape)
    qtbot.waitUntil(lambda: work.proposal is None, timeout=30000)
    assert work.mesh is None and work.model is model
    press(desk, qtbot, Qt.Key.Key_M)
    qtbot.waitUntil(lambda: work.proposal is not None and work.proposal.share > 0.0, timeout=60000)
    os.kill(work._worker.process.pid, signal.SIGKILL)
    qtbot.waitUntil(lambda: work.proposal is not None and work.proposal.state == "refused", timeout=30000)
    assert "unexpectedly" in str(work.proposal.error) and work.model is model
    press(desk, qtbot, Qt.Key.Key_Escape)
    assert work.proposal is None
    work.set_size(4.0)
    settled(desk, qtbot)  # a new worker is at work


def test_refusals_are_shown_in_words(opened, qtbot):
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    bottom = next(f for f in work.model.faces() if f.surface.kind == "plane" and f.surface.frame.z[2] < -0.9)
    work.choose([bottom])
    press(desk, qtbot, Qt.Key.Key_C)
    ready(desk, qtbot)
    assert work.proposal.state == "refused" and work.proposal.error.where and work.proposal.error.remedy
    assert desk.proposal.isVisible()
    press(desk, qtbot, Qt.Key.Key_Return)
    assert work.proposal is not None and not work.ledger.entries  # Enter does not take a refusal
    press(desk, qtbot, Qt.Key.Key_Escape)
    assert work.proposal is None


def test_bad_files_leave_the_desk_as_it_was(opened, qtbot, tmp_path):
    desk = opened
    model = desk.work.model
    for name, data in (("empty.step", b""), ("cut.step", b"ISO-10303-21;\nDATA;\n#1=PLANE("), ("x.lithon", b"zip")):
        (tmp_path / name).write_bytes(data)
        desk.open(tmp_path / name)
        read(desk, qtbot)
        assert desk.notices.trouble.isVisible() and desk.notices.trouble_text.text()
        assert desk.work.model is model
        desk.notices.hush()
    desk.open(tmp_path / "gone.step")
    read(desk, qtbot)
    assert "No such file" in desk.notices.trouble_text.text()


def test_looking(opened, qtbot):
    from PySide6.QtCore import QPoint, Qt

    desk, view = opened, opened.view
    camera = view.renderer.GetActiveCamera()
    before = camera.GetPosition()
    qtbot.mousePress(view, Qt.MouseButton.RightButton, pos=QPoint(300, 300))
    from PySide6.QtCore import QEvent, QPointF
    from PySide6.QtGui import QMouseEvent

    move = QMouseEvent(
        QEvent.Type.MouseMove,
        QPointF(360, 280),
        view.mapToGlobal(QPointF(360, 280)),
        Qt.MouseButton.NoButton,
        Qt.MouseButton.RightButton,
        Qt.KeyboardModifier.NoModifier,
    )
    view.mouseMoveEvent(move)
    qtbot.mouseRelease(view, Qt.MouseButton.RightButton, pos=QPoint(360, 280))
    assert np.linalg.norm(np.array(camera.GetPosition()) - before) > 1.0 and not desk.work.faces
    view.look_from_front()
    for point in ((30.0, 0.0, 8.0), (0.0, -13.0, 45.0), (55.0, -30.0, 12.0)):
        pixel = view.pixel_of(np.array(point))
        face, _, place = view.at(*pixel.toTuple())
        assert face is not None and (view.pixel_of(place) - pixel).manhattanLength() <= 1
        assert np.linalg.norm(place - point) < 1.0  # a pixel is a third of a millimetre, more at a slant
    desk.docket.choose(0)
    press(desk, qtbot, Qt.Key.Key_S)
    assert view._focus
    press(desk, qtbot, Qt.Key.Key_W)
    assert view._focus is None
    desk.work.propose(do.carve("y = 0"))
    ready(desk, qtbot)
    press(desk, qtbot, Qt.Key.Key_Return)
    qtbot.keyPress(view, Qt.Key.Key_Space)
    assert view.showing_original and len(view._picture.faces) == 36
    qtbot.keyRelease(view, Qt.Key.Key_Space)
    assert not view.showing_original and len(view._picture.faces) > 40
    qtbot.mouseMove(view, view.pixel_of(np.array((55.0, -30.0, 12.0))))
    press(desk, qtbot, Qt.Key.Key_Question)
    assert desk.sheet.isVisible()
    desk.sheet.hide()


def test_every_action_is_on_the_sheet_and_has_its_own_key(desk):
    from lithon.app.actions import ACTIONS

    desk.toggle_sheet()
    written = labels(desk.sheet).split(" | ")
    for action in ACTIONS:
        assert not action.key or (action.key in written and action.title in written), action.id
    desk.sheet.hide()
    keys = [a.key for a in ACTIONS if a.key]
    assert len(keys) == len(set(keys))
    assert all(a.title and a.group for a in ACTIONS)


def test_a_cut_through_three_points_picked_in_the_view(opened, qtbot):
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    press(desk, qtbot, Qt.Key.Key_P)
    assert desk.view.picking_points
    corners = [(14.0, -11.5, 54.0), (-20.0, -11.5, 54.0), (60.0, -38.0, 12.0)]
    for corner in corners:
        click(desk, qtbot, corner)
    ready(desk, qtbot)
    assert cut_field(desk).way == "through" and work.proposal.state == "ready", work.proposal.error
    assert desk.docket.verb.objectName() != "main"  # taking it is the one thing to press now
    recorded = work.proposal.operation.cut.points
    assert np.allclose(recorded, corners, atol=1e-6)  # corners are caught exactly
    press(desk, qtbot, Qt.Key.Key_Return)
    assert len(work.model.bodies) >= 2 and total(desk) == pytest.approx(ANCHOR.volume, rel=1e-9)
    assert desk.docket.verb.objectName() == "main"


@pytest.mark.skipif(not LONG, reason="in a long run")
def test_the_ledger_switches_a_step_off_and_the_offset_follows_its_number(opened, qtbot):
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    click(desk, qtbot, (10.0, -40.0, 6.0))
    press(desk, qtbot, Qt.Key.Key_V)
    ready(desk, qtbot)
    assert cut_field(desk).way == "offset"
    cut_field(desk).set_amount(-10.0)
    ready(desk, qtbot)
    press(desk, qtbot, Qt.Key.Key_Return)
    assert len(work.model.bodies) == 2
    settled(desk, qtbot)
    assert desk.roster.column.count() == 2
    desk.ledger_bar.buttons[0].click()
    qtbot.waitUntil(lambda: len(work.model.bodies) == 1, timeout=20000)
    assert not work.ledger.entries[0].on
    desk.ledger_bar.buttons[0].click()
    qtbot.waitUntil(lambda: len(work.model.bodies) == 2, timeout=20000)
    # The step is changed in its place: the same cut, further in; nonsense is said and nothing changes.
    thickness = [np.ptp(box(b), axis=0).min() for b in work.model.bodies]
    assert [a.text() for a in desk.ledger_bar.menu(0).actions()] == ["Switch off", "Change…"]
    desk.ledger_bar.change(0)
    form = desk.ledger_bar.form
    line = form.fields.fields["cut"].amount
    assert float(line.text()) == -10.0
    line.setText("deep")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert form.isVisible() and "deep" in form.fields.fields["cut"].said.text()
    line.setText("-14")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    button_of(form, "Change it").click()
    qtbot.waitUntil(lambda: work.ledger.entries[0].operation.cut.by == -14.0, timeout=20000)
    assert not form.isVisible() and len(work.model.bodies) == 2
    assert [np.ptp(box(b), axis=0).min() for b in work.model.bodies] != thickness


def test_boxes_chains_and_what_is_hidden(desk, qtbot, tmp_path):
    """A box picks what is wholly inside it, a double click the chain; bodies are hidden and shown."""
    from PySide6.QtCore import QPoint, Qt

    from lithon.samples import cast_anchor

    path = tmp_path / "cast-anchor.step"
    lithon.write_step(cast_anchor(), path)
    desk.open(path)
    settled(desk, qtbot)
    qtbot.wait(120)
    view, work, left = desk.view, desk.work, Qt.MouseButton.LeftButton
    fillet = next(f for f in work.model.faces() if f.surface.kind == "cylinder" and f.surface.radius == 2.0)
    spot = next(
        p for f in work.model.faces() if f.surface.kind == "cylinder" and f.surface.radius == 2.0
        for p in [f.surface.project(np.mean([e.at(0.5) for e in f.edges()], axis=0)[None])[0]]
        if view.at(view.pixel_of(p).x(), view.pixel_of(p).y())[0] is f
    )  # fmt: skip
    qtbot.mouseDClick(view, left, pos=view.pixel_of(spot))
    assert len(work.faces) == 8 and fillet in work.faces
    everything = [QPoint(4, 4), QPoint(view.width() - 5, view.height() - 5)]
    drag_box(desk, qtbot, *everything)
    seen = len(work.faces)
    drag_box(desk, qtbot, *everything, Qt.KeyboardModifier.ShiftModifier)
    all_of_them = len(work.faces)
    assert 20 < seen < all_of_them == len(work.model.faces())
    press(desk, qtbot, Qt.Key.Key_Escape)
    work.choose(faces=[fillet])
    press(desk, qtbot, Qt.Key.Key_U)
    assert view.cut_plane is not None
    press(desk, qtbot, Qt.Key.Key_U)
    assert view.cut_plane is None
    press(desk, qtbot, Qt.Key.Key_E)
    assert view.wire
    press(desk, qtbot, Qt.Key.Key_E)
    work.choose(faces=[fillet])
    press(desk, qtbot, Qt.Key.Key_H)
    assert work.hidden == set(work.model.bodies)
    press(desk, qtbot, Qt.Key.Key_O)
    assert not work.hidden


def test_unsaved_work_is_offered_again(opened, qtbot, tmp_path, monkeypatch):
    from lithon.app.recovery import kept_aside, left_behind

    monkeypatch.setenv("LITHON_STATE", str(tmp_path / "state"))
    work = opened.work
    work.take(do.keep(work.model.faces()[:1], "for the test"))
    work._autosave()
    assert kept_aside().exists() and not left_behind()  # its window is still there
    gone = kept_aside().with_name("unsaved-999999999.lithon")
    kept_aside().rename(gone)
    assert left_behind() == [gone]
    opened.table._show_left_behind()
    opened.table._take_up(gone)
    read(opened, qtbot)
    assert len(opened.work.ledger.entries) == 1 and opened.work.saved_as is None and not left_behind()


def test_words_are_offered_while_a_question_is_typed():
    from lithon.operations.questions import next_words

    assert "fillets" in next_words("") and next_words("holes ") == ["where"]
    assert next_words("holes where ") == ["diameter", "radius", "depth"]
    assert "<=" in next_words("holes where diameter ") and next_words("holes where diameter <= 4 ") == ["mm", "and"]
