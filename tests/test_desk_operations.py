"""Any operation by hand: from In hand, from the one line, by keys; its form filled by picking, typing and dragging."""

from dataclasses import replace

import numpy as np
import pytest
from blocks import box
from dice import LONG
from hands import button_of, click, cut_field, labels, press, ready, settled, total
from operation_examples import EXAMPLES, HERE, start

from lithon import do
from lithon.brep.topology import Model
from lithon.exchange.step_read import Arrival
from lithon.operations.choices import Choice
from lithon.operations.parameters import Things
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.operations.table import rows
from lithon.project.ledger import Ledger, Source

pytestmark = pytest.mark.usefixtures("display")


def laid_out(desk, qtbot, model: Model, size: float = 4.0, surveyed: bool = True) -> None:
    """A model on the desk as if it had been read."""
    from lithon.operations.state import Settings

    desk.work.station = "Survey"
    desk.work._adopt(Ledger(Source("made.step", b""), Arrival(model, []), Settings(size)))
    if surveyed:
        settled(desk, qtbot)
    qtbot.wait(60)


def drag(desk, qtbot, start, end) -> None:
    from PySide6.QtCore import QEvent, QPointF, Qt
    from PySide6.QtGui import QMouseEvent

    view = desk.view
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=start)
    for share in (0.3, 0.7, 1.0):
        here = start + (end - start) * share
        event = QMouseEvent(
            QEvent.Type.MouseMove, QPointF(here), view.mapToGlobal(QPointF(here)), Qt.MouseButton.NoButton,
            Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier,
        )  # fmt: skip
        view.mouseMoveEvent(event)
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=end)


def test_what_can_be_done_stands_in_hand_and_a_cut_is_dragged(opened, qtbot):
    from PySide6.QtCore import QPoint, Qt

    desk, work = opened, opened.work
    click(desk, qtbot, (10.0, -40.0, 6.0))
    offered = [b.text() for b in desk.in_hand.findChildren(type(button_of(desk.in_hand, "−")))]
    assert "› Clear  (C)" in offered and "› Carve  (V)" in offered
    assert not any("Unite" in text or "Replace" in text for text in offered)  # they do not fit one plane face
    button_of(desk.in_hand, "› Carve  (V)").click()
    ready(desk, qtbot)
    field = cut_field(desk)
    assert field.way == "offset" and work.proposal.state == "ready" and work.station == "Carve"
    tip = desk.view.pixel_of(desk.view.handle.ends[1])
    root = desk.view.pixel_of(desk.view.handle.ends[0])
    before = work.proposal.operation.cut.by
    toward = QPoint(round(0.8 * (root.x() - tip.x())), round(0.8 * (root.y() - tip.y())))
    drag(desk, qtbot, tip, tip + toward)  # into the solid
    ready(desk, qtbot)
    after = work.proposal.operation.cut.by
    assert after < before - 2.0 and abs(after / 0.2 - round(after / 0.2)) < 1e-6  # in twentieths of an element
    assert float(field.amount.text()) == pytest.approx(after)
    press(desk, qtbot, Qt.Key.Key_Return)
    assert work.ledger.entries[-1].operation.cut.by == after and len(work.model.bodies) == 2
    assert desk.view.handle.ends is None


def test_the_one_line_finds_everything(desk, qtbot):
    from PySide6.QtCore import Qt

    laid_out(desk, qtbot, Model.of([box(0, 0, 20, 10, 0, 8, "sill"), box(15, 2, 30, 8, 2, 6, "arm")]))
    work, line = desk.work, desk.question.line
    for text, kind, first in (
        ("unite", "operation", "Unite"),
        ("boolean", "operation", None),
        ("imprint", "operation", "Bond what touches"),
        ("sill", "body", "sill"),
        ("prove", "station", "Prove"),
        ("edges where length > 19 mm", "question", None),
        ("see whole", "action", "See the whole"),
        ("hol", "question", "holes"),
    ):
        press(desk, qtbot, Qt.Key.Key_Slash)
        line.clear()
        qtbot.keyClicks(line, text)
        found = desk.question.found
        assert found and any(f.kind == kind and (first is None or f.text == first) for f in found), (text, found)
        qtbot.keyClick(line, Qt.Key.Key_Escape)
        assert not desk.question.isVisible()
    press(desk, qtbot, Qt.Key.Key_Slash)
    line.clear()
    qtbot.keyClicks(line, "arm")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert work.chosen().of("bodies")[0].name == "arm"
    # Unite with one body in hand: the other is picked in the view, into the field that waits.
    press(desk, qtbot, Qt.Key.Key_Slash)
    line.clear()
    qtbot.keyClicks(line, "unite")
    qtbot.keyClick(line, Qt.Key.Key_Return)
    assert work.proposal.state == "asking" and work.proposal.form.waiting == "tool"
    assert "pick" in desk.proposal.form.fields["tool"].line.placeholderText()
    click(desk, qtbot, (5.0, 0.0, 4.0))
    ready(desk, qtbot)
    assert work.proposal.state == "ready" and not work.proposal.form.waiting
    before = total(desk)
    press(desk, qtbot, Qt.Key.Key_Return)
    assert len(work.model.bodies) == 1 and total(desk) == pytest.approx(before - 120.0)


def test_every_operation_goes_through_the_window_s_form(desk, qtbot):
    """What the contract asks of an operation, driven by the generic form: the same comes of it. Every other one, and
    all of them in a long run."""
    work = desk.work
    for example in [e for e in EXAMPLES if not e.tag and not e.first][:: 1 if LONG else 9]:
        state = start(example)
        operation = example.make(state.model, HERE)
        laid_out(desk, qtbot, state.model, state.settings.size, surveyed=False)
        expected = run(state, operation)
        desk.begin(rows()[example.name])
        form = desk.proposal.form
        for key, p in operation.parameters().items():
            value = getattr(operation, key)
            if isinstance(p, Things) and not value.question:
                work.asking.wait_for(key)
                faces = [f for b in value.live for f in b.faces] if p.of == "bodies" else value.live
                work.choose(**{"edges" if p.of == "edges" else "faces": list(faces)})
                work.asking.wait_for("")
            elif p.shown in ("number", "text"):
                form.fields[key].typed(key, p.text(value))
            else:
                form.fields[key].put(key, value)
            assert not form.fields[key].said.text()
        if not operation.at_once:
            ready(desk, qtbot)
            assert work.proposal.state == "ready", (str(example), work.proposal.error, work.proposal.form.wrong)
            assert work.asking.accept()
        qtbot.waitUntil(lambda: work.ledger.position == 1, timeout=60000)
        now = work.ledger.state
        assert sorted((b.name, len(b.uses)) for b in now.model.bodies) == sorted(
            (b.name, len(b.uses)) for b in expected.model.bodies
        ), str(example)
        assert len(now.marks.of) == len(expected.state.marks.of) and now.settings == expected.state.settings
        assert work.ledger.recipe()["steps"][0]["do"] == example.name
        qtbot.wait(1)


def test_long_names_end_in_dots_and_leave_room(desk, qtbot):
    name = "a very long name that some exporter has made of a path and a date " * 2
    laid_out(desk, qtbot, Model.of([replace(box(0, 0, 10, 10, 0, 10, "x"), name=name)]))
    hide = button_of(desk.roster, "hide")
    place = hide.mapTo(desk.roster, hide.rect().topRight())
    assert hide.isVisible() and place.x() < desk.roster.width()
    shown = labels(desk.roster)
    assert "…" in shown and name not in shown
    assert any(w.toolTip() == name for w in desk.roster.findChildren(type(desk.part_name)))
    desk.part_name.setText(name)
    assert desk.part_name.text().endswith("…") and desk.part_name.toolTip() == name


def test_a_card_without_an_operation_says_what_to_do(desk, qtbot):
    """Advice is words, not a button; and it is no button that would refuse."""
    laid_out(desk, qtbot, Model.of([box(0, 0, 40, 40, 0, 2, "sheet")]), 5.0)
    groups = desk.docket.shown()
    (wall,) = (g for g in groups if g.first.kind == "thin wall")
    assert wall.first.offer is None and wall.first.advice
    card = desk.docket.cards[groups.index(wall)]
    assert "Clear what thins it, or mesh its mid-surface." in labels(card)
    from PySide6.QtWidgets import QPushButton

    assert [b.text() for b in card.findChildren(QPushButton)] == ["Show me", "Keep"]
    desk.docket.remedy(wall)
    assert desk.work.proposal is None


def test_a_choice_by_hand_is_the_very_thing(desk, qtbot):
    """Two bodies of one name in one place: what is proposed for one is done to that one."""
    model = Model.of([box(0, 0, 5, 5, 0, 5, "part"), box(0, 0, 5, 5, 0, 5, "part"), box(9, 0, 12, 5, 0, 5, "other")])
    laid_out(desk, qtbot, model)
    desk.work.propose(do.drop_bodies(Choice.made("bodies", model.bodies[1])))
    ready(desk, qtbot)
    assert desk.work.asking.accept()
    assert [b.name for b in desk.work.model.bodies] == ["part", "other"] and desk.work.model.bodies[0] is model.bodies[
        0
    ]
    desk.work.hidden = {model.bodies[0]}
    desk.work.undo()
    assert desk.work.hidden == {model.bodies[0]} and desk.work.model is model
    assert np.isclose(total(desk), 125.0 + 125.0 + 75.0)


def test_what_is_hidden_stays_so_and_nothing_else_with_it():
    """A body that is hidden and cut: its pieces are hidden; another whose name begins like its own is not."""
    from lithon.app.work import carried

    before = Model.of([box(0, 0, 5, 5, 0, 5, "bolt"), box(9, 0, 14, 5, 0, 5, "bolt 2"), box(20, 0, 25, 5, 0, 5, "nut")])
    after = run(State(before), do.carve("z = 2")).model
    left = carried({before.bodies[0]}, before, after)
    assert sorted(b.name for b in left) == ["bolt A", "bolt B"]
    assert carried({before.bodies[2]}, before, before) == {before.bodies[2]}
