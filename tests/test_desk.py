"""The real window, driven by mouse and keys through a preparation of the collar anchor."""

import os
import signal

import numpy as np
import pytest

import lithon
from lithon.brep.boxes import box
from lithon.brep.measures import face_area, volume
from lithon.samples import ANCHOR

# Tests run side by side by files: all windows stay in this one, since only one window has the keys.
pytestmark = pytest.mark.usefixtures("display")


@pytest.fixture(scope="module")
def workers():
    """Worker processes go on from test to test where they are idle and well: starting one takes seconds."""
    import lithon.app.lane as lane

    idle = []

    class Lent(lane.WorkerHandle):
        under_way = 0

        def submit(self, name, *args):
            self.under_way += 1
            return super().submit(name, *args)

        def receive(self):
            message = super().receive()
            self.under_way -= message[0] != "progress"
            return message

        def close(self):
            if self.under_way or self.process.poll() is not None:
                super().close()
            else:
                idle.append(self)

    own = lane.WorkerHandle
    lane.WorkerHandle = lambda started=None, nice=0: idle.pop() if idle and started is None else Lent(started, nice)
    yield
    lane.WorkerHandle = own
    for worker in idle:
        own.close(worker)


@pytest.fixture
def desk(display, qtbot, tmp_path, workers):
    from PySide6.QtCore import QSettings

    QSettings.setPath(QSettings.Format.NativeFormat, QSettings.Scope.UserScope, str(tmp_path / "settings"))
    from lithon.app.desk import Desk

    made = Desk()
    qtbot.addWidget(made)
    made.show()
    qtbot.waitExposed(made)
    made.activateWindow()
    return made


@pytest.fixture
def opened(desk, qtbot, anchor_file):
    desk.open(anchor_file)
    settled(desk, qtbot)
    qtbot.wait(80)  # the first look is taken in the next turn of the event loop
    return desk


def settled(desk, qtbot) -> None:
    work = desk.work
    qtbot.waitUntil(lambda: not work.opening and work.findings_ready and work.forecast is not None, timeout=60000)


def read(desk, qtbot) -> None:
    """Wait until a file that was asked for lies on the desk, or was refused."""
    qtbot.waitUntil(lambda: not desk.work.opening, timeout=60000)


def ready(desk, qtbot) -> None:
    qtbot.waitUntil(lambda: desk.work.proposal is not None and desk.work.proposal.state != "thinking", timeout=60000)


def click(desk, qtbot, point, modifier=None) -> None:
    """A real click in the view where a world point is seen."""
    from PySide6.QtCore import Qt

    modifier = modifier or Qt.KeyboardModifier.NoModifier
    qtbot.mouseClick(desk.view, Qt.MouseButton.LeftButton, modifier, desk.view.pixel_of(np.array(point, dtype=float)))


def press(desk, qtbot, key) -> None:
    qtbot.keyClick(desk.view, key)


def total(desk) -> float:
    return sum(volume(b) for b in desk.work.model.bodies)


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
    assert desk.carve_bar.way == "midway" and desk.carve_bar.isVisible()
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
    assert work.station == "Prove" and work.mesh.conformal() and work.mesh.quality.smallest_dihedral.min() > 10
    assert not desk.view._layers["size"]
    for kind, name in (("step", "a.step"), ("vtu", "a.vtu"), ("recipe", "a.recipe.json"), ("report", "a.html")):
        assert desk.write(kind, tmp_path / name) and (tmp_path / name).stat().st_size > 500
    # Save, open again, go on.
    assert work.save(tmp_path / "a.lithon")
    desk.open(tmp_path / "a.lithon")
    settled(desk, qtbot)
    assert work.ledger.position == steps and len(work.model.shared()) == 2
    qtbot.keyClick(desk, key.Key_Z, Qt.KeyboardModifier.ControlModifier)
    assert not work.model.shared()


def desk_words(desk) -> str:
    from lithon.app.roster import in_words

    return "; ".join(in_words(desk.work.model, desk.work.faces, desk.work.edges, desk.work.points))


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
    desk.work.propose("carve", "Carve", {"do": "split", "plane": {"origin": [0, 0, 0], "normal": [0, 1, 0]}})
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


def test_every_action_is_on_the_sheet_and_has_its_own_key():
    from lithon.app.actions import ACTIONS

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
    assert desk.carve_bar.way == "points" and work.proposal.state == "ready", work.proposal.error
    recorded = work.proposal.step["plane"]["through"]
    assert np.allclose(recorded, corners, atol=1e-6)  # corners are caught exactly
    press(desk, qtbot, Qt.Key.Key_Return)
    assert len(work.model.bodies) >= 2 and total(desk) == pytest.approx(ANCHOR.volume, rel=1e-9)


def test_the_ledger_switches_a_step_off_and_the_offset_follows_its_number(opened, qtbot):
    from PySide6.QtCore import Qt

    desk, work = opened, opened.work
    click(desk, qtbot, (10.0, -40.0, 6.0))
    press(desk, qtbot, Qt.Key.Key_V)
    ready(desk, qtbot)
    assert desk.carve_bar.way == "offset"
    desk.carve_bar.amount.setValue(-10.0)
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
    ((path, line),) = form.lines
    assert path == ("plane", "by") and float(line.text()) == -10.0
    line.setText("deep")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert form.isVisible() and "deep" in form.said.text()
    line.setText("-14")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: work.ledger.entries[0].step["plane"]["by"] == -14.0, timeout=20000)
    assert not form.isVisible() and len(work.model.bodies) == 2
    assert [np.ptp(box(b), axis=0).min() for b in work.model.bodies] != thickness


def test_boxes_chains_and_what_is_hidden(desk, qtbot, tmp_path):
    """A box picks what is wholly inside it, a double click the chain; bodies are hidden and shown."""
    from PySide6.QtCore import QPoint, Qt

    import lithon
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

    def drag(modifier=Qt.KeyboardModifier.NoModifier) -> int:
        qtbot.mousePress(view, left, modifier, pos=everything[0])
        qtbot.mouseMove(view, everything[1])
        qtbot.wait(20)
        from PySide6.QtCore import QEvent, QPointF
        from PySide6.QtGui import QMouseEvent

        at = QPointF(everything[1])
        view.mouseMoveEvent(
            QMouseEvent(QEvent.Type.MouseMove, at, view.mapToGlobal(at), Qt.MouseButton.NoButton, left, modifier)
        )
        qtbot.mouseRelease(view, left, modifier, pos=everything[1])
        return len(work.faces)

    seen, all_of_them = drag(), drag(Qt.KeyboardModifier.ShiftModifier)
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
    assert work.hidden == {"cast anchor"}
    press(desk, qtbot, Qt.Key.Key_O)
    assert not work.hidden


def test_unsaved_work_is_offered_again(opened, qtbot, tmp_path, monkeypatch):
    from lithon.app.recovery import kept_aside, left_behind

    monkeypatch.setenv("LITHON_STATE", str(tmp_path / "state"))
    work = opened.work
    work.keep(work.model.faces()[:1], "for the test")
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
    from lithon.project.questions import next_words

    assert "fillets" in next_words("") and next_words("holes ") == ["where"]
    assert next_words("holes where ") == ["diameter", "radius", "depth"]
    assert "<=" in next_words("holes where diameter ") and next_words("holes where diameter <= 4 ") == ["mm", "and"]


def labels(panel) -> str:
    from PySide6.QtWidgets import QLabel

    return " | ".join(x.text() for x in panel.findChildren(QLabel))


def button_of(panel, text):
    from PySide6.QtWidgets import QPushButton

    return next(b for b in panel.findChildren(QPushButton) if b.text() == text)


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
    assert len(desk.work.hidden) == 12 and all(name.startswith("bolt") for name in desk.work.hidden)
    button_of(desk.roster, "unfold").click()
    assert "bolt 12" in labels(desk.roster)


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
    desk.work.accept()
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

    from lithon.brep.build import Round, face_toward, prism, rectangle, sink
    from lithon.brep.topology import Model
    from lithon.geometry.frames import Frame

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
    import sys

    from PySide6.QtCore import QTimer
    from PySide6.QtWidgets import QApplication, QLabel

    words, timer = QLabel("a"), QTimer()
    qtbot.addWidget(words)
    before = sys.getrefcount(None)
    for k in range(500):
        words.setText(str(k))
        words.update()
        timer.start(1000)
        timer.stop()
        QApplication.processEvents()
    assert sys.getrefcount(None) > before - 400
