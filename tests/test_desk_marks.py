"""What is written and dragged in the view: flags at names, references and fields; arrows for numbers that move
something; points that are picked."""

import numpy as np
import pytest
from blocks import body, box, hole, plate
from hands import button_of, click, labels, press, ready, settled, total
from test_bevelling import between, cusp
from test_desk_operations import drag, laid_out

from lithon import do
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.operations.places import Axis, Cut, Spot
from lithon.operations.table import rows
from lithon.samples.build import face_toward

pytestmark = pytest.mark.usefixtures("display")


def took(desk, qtbot, operation) -> None:
    before = desk.work.ledger.state
    desk.work.ledger.take(operation)
    desk.work.state_moved(before)
    qtbot.wait(30)


def told(desk) -> dict:
    return dict(desk.view.flags.told)


def test_references_and_names_stand_in_the_view(desk, qtbot):
    laid_out(desk, qtbot, plate(), surveyed=False)
    model = desk.work.model
    assert not told(desk)
    took(desk, qtbot, do.reference_plane("z = 3", "cut here"))
    took(desk, qtbot, do.reference_axis(Axis.along(hole(model, 4.0)[0]), "bore"))
    took(desk, qtbot, do.reference_point((1.0, 2.0, 3.0), "mark"))
    flags = told(desk)
    assert set(flags) == {"cut here", "bore", "mark"} and flags["mark"] == pytest.approx([1.0, 2.0, 3.0])
    assert flags["bore"][:2] == pytest.approx([8.0, 10.0]) and flags["cut here"][2] == pytest.approx(3.0)
    for at in flags.values():  # where they can be read
        spot = desk.view.pixel_of(at)
        assert desk.view.rect().contains(spot)
    took(desk, qtbot, do.name(hole(desk.work.model, 4.0), "load"))
    assert "load" not in told(desk)
    desk.work.go("Prove")
    qtbot.wait(30)
    assert told(desk)["load"] == pytest.approx([8.0, 10.0, 4.0], abs=3.0)
    desk.work.undo()
    qtbot.wait(30)
    assert "load" not in told(desk) and "bore" in told(desk)


def test_each_picked_field_says_at_its_thing_what_it_is(desk, qtbot):
    parts = [box(0, 0, 20, 10, 0, 8, "body"), box(15, 2, 30, 8, 2, 6, "arm")]
    laid_out(desk, qtbot, Model.of(parts), surveyed=False)
    desk.work.choose(faces=[desk.work.model.bodies[0].faces[0], desk.work.model.bodies[1].faces[0]])
    desk.begin(rows()["subtract"])
    ready(desk, qtbot)
    flags = told(desk)
    assert set(flags) == {"body", "tool"} and flags["tool"] == pytest.approx([22.5, 5.0, 4.0])
    desk.work.drop()
    qtbot.wait(30)
    assert not told(desk)


@pytest.mark.parametrize(
    ("name", "picked", "key", "sign"),
    [
        ("slide", lambda m: {"faces": [face_toward(body(m, "block"), (0, 0, 1))]}, "by", 1.0),
        ("offset", lambda m: {"faces": [face_toward(body(m, "block"), (1, 0, 0))]}, "by", 1.0),
        ("resize", lambda m: {"faces": [f for f in m.faces() if getattr(f.surface, "radius", 0) == 3.0][:1]},
         "radius", 1.0),
        ("round", lambda m: {"edges": [e for e in body(m, "block").edges() if abs(e.length - 8.0) < 1e-9][1:2]},
         "radius", 1.0),
        ("bevel", lambda m: {"edges": [e for e in body(m, "block").edges() if abs(e.length - 8.0) < 1e-9][1:2]},
         "setback", 1.0),
    ],
)  # fmt: skip
def test_a_number_is_dragged_at_its_arrow(desk, qtbot, name, picked, key, sign):
    laid_out(desk, qtbot, plate(), surveyed=False)
    desk.work.choose(**picked(desk.work.model))
    desk.begin(rows()[name])
    ready(desk, qtbot)
    handle, form = desk.view.handle, desk.proposal.form
    assert handle.grip is not None and handle.grip.key == key and handle.ends is not None
    before = float(desk.work.proposal.form.values[key])
    root, tip = (desk.view.pixel_of(p) for p in handle.ends)
    drag(desk, qtbot, tip, tip + (tip - root) * 0.25)
    ready(desk, qtbot)
    after = float(desk.work.proposal.form.values[key])
    assert sign * (after - before) > 0.1 and abs(after / 0.2 - round(after / 0.2)) < 1e-6
    assert form.fields[key].line.text() and float(form.fields[key].line.text()) == pytest.approx(after)
    assert desk.work.proposal.state in ("ready", "refused")


def test_a_cut_of_no_angle_is_filled_from_its_card(desk, qtbot):
    """The arrow of an edge whose faces are folded back onto each other points away from both."""
    from PySide6.QtCore import Qt

    laid_out(desk, qtbot, Model.of([cusp()]), size=1.0)
    was = total(desk)
    qtbot.waitUntil(lambda: "The cure moves" in labels(desk.docket), timeout=60000)
    assert "part only slowly" in labels(desk.docket)
    button_of(desk.docket, "Fill").click()
    ready(desk, qtbot)
    grip = desk.view.handle.grip
    assert grip is not None and grip.amount == 2.0 and grip.way == pytest.approx([1.0, 0.0, 0.0], abs=0.02)
    assert "moved | 1.99 mm" in labels(desk.proposal)
    press(desk, qtbot, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: desk.work.proposal is None, timeout=30000)
    assert total(desk) - was == pytest.approx(8.0 * between(2.0), rel=1e-7)


def test_a_dragged_slide_is_taken_as_it_stands(desk, qtbot):
    from PySide6.QtCore import Qt

    laid_out(desk, qtbot, Model.of([box(0, 0, 20, 10, 0, 8, "sill")]), surveyed=False)
    click(desk, qtbot, (10.0, 5.0, 8.0))
    settled(desk, qtbot)
    offered = labels(desk.in_hand) + " ".join(b.text() for b in desk.in_hand.findChildren(type(button_of(desk, "?"))))
    assert "Slide" in offered
    desk.begin(rows()["slide"])
    ready(desk, qtbot)
    root, tip = (desk.view.pixel_of(p) for p in desk.view.handle.ends)
    drag(desk, qtbot, tip, tip + (tip - root) * 0.3)
    ready(desk, qtbot)
    by = desk.work.proposal.operation.by
    press(desk, qtbot, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: desk.work.ledger.position == 1, timeout=20000)
    assert total(desk) == pytest.approx(200.0 * (8.0 + by), rel=1e-9)
    assert desk.view.handle.ends is None


def test_a_pin_is_set_on_a_picked_bore(desk, qtbot):
    """Stock at what is in hand: the place is that of the bore, and the axis is picked."""
    laid_out(desk, qtbot, plate(), surveyed=False)
    work = desk.work
    work.choose(faces=hole(work.model, 6.0))
    desk.begin(rows()["cylinder"])
    form = desk.proposal.form
    assert isinstance(work.proposal.form.values["at"], Spot) and "1 face" in form.fields["at"].line.placeholderText()
    work.asking.wait_for("way")
    work.choose(faces=hole(work.model, 6.0))
    form.fields["radius"].typed("radius", "3")
    form.fields["height"].typed("height", "8")
    ready(desk, qtbot)
    assert work.proposal.state == "ready", work.proposal.form.wrong
    assert work.asking.accept()
    pin = next(b for b in work.model.bodies if b.name == "cylinder")
    assert volume(pin) == pytest.approx(np.pi * 72.0, rel=1e-9)
    middle = np.mean([e.curve.frame.origin for e in pin.edges()], axis=0)
    assert middle[:2] == pytest.approx([20.0, 10.0])


def test_a_cut_by_the_name_of_a_reference(desk, qtbot):
    laid_out(desk, qtbot, plate(), surveyed=False)
    took(desk, qtbot, do.reference_plane("z = 3", "low"))
    desk.begin(rows()["carve"])
    desk.work.asking.put("cut", Cut.named("low"))
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready" and desk.work.asking.accept()
    assert len(desk.work.model.bodies) == 4


def test_from_nothing_to_a_solid_and_back_from_its_project(desk, qtbot, tmp_path):
    """An empty table: the one line finds what can be added; two bodies are made, one taken from the other, and the
    project opens again."""
    button_of(desk.table, "Start from nothing").click()
    qtbot.waitUntil(lambda: desk.stack.currentWidget() is desk.view)
    qtbot.wait(300)
    assert not desk.work.model.bodies and "from nothing" in desk.windowTitle()
    for name, numbers in (("block", {"x": "20", "y": "10", "z": "8"}), ("cylinder", {"radius": "3", "height": "8"})):
        desk.begin(rows()[name])
        form = desk.proposal.form
        for key, text in numbers.items():
            form.fields[key].typed(key, text)
        if name == "cylinder":
            form.fields["at"].typed("at", "10 5 0")
        ready(desk, qtbot)
        assert desk.work.proposal.state == "ready", desk.work.proposal.error
        assert desk.work.asking.accept()
    first, second = desk.work.model.bodies
    desk.work.asking.propose(do.subtract(first, second))
    ready(desk, qtbot)
    assert desk.work.asking.accept()
    settled(desk, qtbot)
    assert total(desk) == pytest.approx(1600.0 - 72.0 * np.pi, rel=1e-9)
    desk.work.save(tmp_path / "made.lithon")
    for _ in range(3):
        desk.work.undo()
    qtbot.wait(100)
    assert not desk.work.model.bodies
    desk.open(tmp_path / "made.lithon")
    qtbot.waitUntil(lambda: not desk.work.opening and len(desk.work.model.bodies) == 1, timeout=30000)
    assert total(desk) == pytest.approx(1600.0 - 72.0 * np.pi, rel=1e-9)
