"""Slots: what is told of them, and that filling one gives back the block."""

import numpy as np
import pytest
from dice import seeds
from hands import labels, settled
from solids import motion as any_motion

from lithon.brep.copies import moved
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Model
from lithon.brep.validate import flaws
from lithon.exchange.step_write import write_step
from lithon.geometry.frames import Frame
from lithon.operations.cures import cured, tried, ways
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.samples.build import Piece, Round, face_toward, prism, rectangle, sink
from lithon.survey.findings import findings
from lithon.survey.groups import grouped

LONG, HIGH, DEEP = 20.0, 10.0, 8.0


def slotted(gap: float, depth: float = 6.0, count: int = 1) -> Body:
    """A block with slots of a width cut into its top."""
    outline = [(0.0, 0.0), (LONG, 0.0), (LONG, HIGH)]
    for x in np.linspace(15.0, 5.0, count) if count > 1 else [10.0]:
        outline += [(x + gap, HIGH), (x + gap, HIGH - depth), (x, HIGH - depth), (x, HIGH)]
    return prism([Piece(p) for p in [*outline, (0.0, HIGH)]], DEEP)


def card_of(state: State):
    return next(g for g in grouped(findings(state.model, 4.0, rules=state.rules())) if g.first.kind == "thin slot")


@pytest.mark.parametrize("seed", seeds(71, 2))
@pytest.mark.parametrize("gap", [4e-4, 0.05, 0.3, 1.2])
def test_a_slot_between_two_planes_is_filled_from_its_card(gap, seed):
    """Tried before it is offered; the block comes back whole, wherever it stands, and no card of it is left. Nobody
    fills it unseen: the two sides may be meant to stay apart."""
    body = moved(slotted(gap), any_motion(np.random.default_rng(seed)))
    state = State(Model.of([body]), settings=Settings(4.0))
    card = card_of(state)
    assert card.first.size == pytest.approx(gap, rel=1e-6)
    way = tried(state, {}, 60.0)[card.key]
    assert way.number == 0 and way.moved <= gap
    out = run(state, next(ways(card)))
    (block,) = out.model.bodies
    assert volume(block) == pytest.approx(LONG * HIGH * DEEP, rel=1e-9) and len(block.faces) == 6
    assert not flaws(block, out.model.tolerance)
    assert not findings(out.model, 4.0)
    assert cured(state, 2.0).tally["thin slot"] == {"left": 1}


def test_alike_slots_are_one_card_and_filled_one_by_one():
    state = State(Model.of([slotted(0.1, count=3)]), settings=Settings(4.0))
    whole = LONG * HIGH * DEEP
    for left in (3, 2, 1):
        card = card_of(state)
        assert len(card.findings) == left and not card.first.offers[0].of_all
        assert volume(state.model.bodies[0]) == pytest.approx(whole - left * 0.1 * 6.0 * DEEP, rel=1e-9)
        state = run(state, next(ways(card))).state
    assert volume(state.model.bodies[0]) == pytest.approx(whole, rel=1e-9)


def test_what_is_no_slot_between_two_planes_is_not_offered_to_be_filled():
    """Around a pin in a hole."""
    body = prism(rectangle(0, 0, 20, 20), 8.0)
    top, low = face_toward(body, (0, 0, 1)), face_toward(body, (0, 0, -1))
    frame = Frame.of((0, 0, 8), (0, 0, 1), (1, 0, 0))
    body = sink(body, top, frame, Round((10, 10), 5.0), 6.0)
    assert low in body.faces
    rod = prism(Round((10, 10), 4.8), 6.0, Frame.of((0, 0, 2), (0, 0, 1), (1, 0, 0)))
    from lithon.arrange.boolean import combine

    (body,) = combine(body, rod, "union", 1e-6)
    found = [f for f in findings(Model.of([body]), 4.0) if f.kind == "thin slot"]
    assert found and not any(f.offers for f in found)


def test_the_card_of_a_slot_has_a_button_that_fills_it(desk, qtbot, tmp_path):
    from PySide6.QtWidgets import QPushButton

    path = tmp_path / "sill.step"
    write_step(Model.of([slotted(0.05)]), path, "sill")
    desk.open(path)
    settled(desk, qtbot)
    desk.work.set_size(4.0)
    settled(desk, qtbot)
    desk.work.go("Trim")
    qtbot.waitUntil(
        lambda: any(w.number == 0 for k, w in desk.work.tried.items() if k[0] == "thin slot"), timeout=60000
    )
    qtbot.wait(50)
    assert "slot 0.05 mm wide" in labels(desk.docket) and "The cure moves" in labels(desk.docket)
    (fill,) = [b for b in desk.docket.findChildren(QPushButton) if b.isVisible() and b.text() == "Fill"]
    fill.click()
    qtbot.waitUntil(lambda: desk.work.proposal is not None and desk.work.proposal.outcome is not None, timeout=30000)
    assert desk.work.proposal.outcome.faces_change == -4
    from PySide6.QtCore import Qt

    qtbot.keyClick(desk.view, Qt.Key.Key_Return)
    settled(desk, qtbot)
    assert volume(desk.work.model.bodies[0]) == pytest.approx(LONG * HIGH * DEEP, rel=1e-9)
