"""In the window: what is passed over is marked, sheets are made and meshed, what is alike is chosen by a click."""

from itertools import pairwise

import numpy as np
import pytest
from hands import button_of, labels, press, ready, settled, total

import lithon
import lithon.do as do
from lithon.app.parts import Panel, label
from lithon.app.sieve import scale
from lithon.exchange.deliver import write_triangles
from lithon.operations.table import rows
from lithon.samples import STRAP, hinge_strap
from lithon.samples.gear_cover import gear_cover
from lithon.samples.sheet_parts import culvert_joint, lock_beam
from lithon.samples.sill_ramp import RAMP, sill_ramp


def arrived(desk, qtbot, tmp_path, model, name):
    path = tmp_path / f"{name}.step"
    lithon.write_step(model, path, name)
    desk.open(path)
    settled(desk, qtbot)


def seen(desk):
    """Whether the solid itself is drawn."""
    desk.view.GetRenderWindow().Render()
    return any(actor.GetVisibility() for piece in desk.view.skin.pieces for actor in piece.actors)


def taken(desk, qtbot):
    desk.work.asking.accept()
    qtbot.waitUntil(lambda: desk.work.proposal is None, timeout=60000)
    settled(desk, qtbot)


def test_a_beam_becomes_sheets_and_carries_quads(desk, qtbot, tmp_path):
    from PySide6.QtCore import Qt

    arrived(desk, qtbot, tmp_path, lock_beam(), "lock-beam")
    desk.work.go("Carve")
    desk.begin(rows()["mid-surface"])
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready" and "10 mm thickness" in labels(desk.proposal)
    taken(desk, qtbot)
    assert all(b.sheet for b in desk.work.model.bodies) and len(desk.work.model.bodies) == 3
    assert "8 mm thick" in labels(desk.roster) and "an open skin" not in labels(desk.roster)
    desk.work.go("Prove")
    qtbot.keyClick(desk.view, Qt.Key.Key_M)
    qtbot.waitUntil(lambda: desk.work.mesh is not None, timeout=60000)
    assert desk.work.mesh.kind == "quads" and desk.work.mesh.conformal()
    assert "quads" in labels(desk.docket) and "area" in labels(desk.docket)


def test_what_an_ignore_size_passes_over_is_marked_until_it_is_dropped(desk, qtbot, tmp_path):
    arrived(desk, qtbot, tmp_path, lock_beam(), "lock-beam")
    desk.work.propose(do.ignore_below(0.8))
    ready(desk, qtbot)
    outcome = desk.work.proposal.outcome
    assert outcome.shown and all(e in set(desk.work.model.edges()) for e in outcome.shown)
    qtbot.waitUntil(lambda: bool(desk.view._layers["gone"]), timeout=10000)
    desk.work.drop()
    qtbot.waitUntil(lambda: not desk.view._layers["gone"], timeout=10000)
    desk.work.propose(do.ignore_below(desk.work.ledger.size))
    ready(desk, qtbot)
    assert desk.work.proposal.state == "refused" and "must be smaller" in labels(desk.proposal)


def test_a_joint_is_sliced_midway_between_two_picked_sides(desk, qtbot, tmp_path):
    arrived(desk, qtbot, tmp_path, culvert_joint(), "culvert-joint")
    sides = [f for f in desk.work.model.faces() if f.surface.kind == "plane" and abs(f.surface.frame.z[1]) > 0.9]
    desk.work.choose(faces=sides)
    desk.begin(rows()["slice"])
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready"
    taken(desk, qtbot)
    assert sorted(b.name for b in desk.work.model.bodies) == ["bell", "seal", "spigot"]
    assert "3 regions" in desk.work.ledger.entries[-1].outcome.words


def test_a_vent_is_clicked_and_what_is_alike_is_chosen_by_its_question(desk, qtbot, tmp_path):
    arrived(desk, qtbot, tmp_path, gear_cover(), "gear-cover")
    vent = next(f for f in desk.work.model.faces() if getattr(f.surface, "radius", 0.0) == 2.5)
    wide = next(f for f in desk.work.model.faces() if getattr(f.surface, "radius", 0.0) == 4.5)
    desk.work.choose(faces=[vent])
    here = button_of(desk.in_hand, "Of this size here: 12")
    assert here.toolTip() == 'holes where diameter = 5 in "gear cover"'
    assert button_of(desk.in_hand, "At most this: 20")
    here.click()
    assert len(desk.work.faces) == 12 and all(f.surface.radius == 2.5 for f in desk.work.faces)
    desk.work.choose(faces=[vent, wide])
    button_of(desk.in_hand, "Between these: 20").click()
    assert len(desk.work.faces) == 20


def test_a_job_is_begun_from_the_first_screen_and_its_steps_stand_on_the_docket(desk, qtbot):
    from PySide6.QtWidgets import QPushButton

    offered = [b.text() for b in desk.table.findChildren(QPushButton)]
    assert "Bad surfaces covered" in offered and "A wheel of 23" in offered
    button_of(desk.table, "Bad surfaces covered").click()
    settled(desk, qtbot)
    assert "step 1 of 4" in labels(desk.docket) and "overlap each other" in labels(desk.docket)
    button_of(desk.docket, "Next step").click()
    qtbot.wait(50)  # what was there is gone
    desk.work.go("Prove")
    qtbot.wait(50)
    assert "step 2 of 4" in labels(desk.docket) and "overlap each other" not in labels(desk.docket)
    assert "1 card would stop it" in labels(desk.docket)
    button_of(desk.docket, "Put away").click()
    qtbot.wait(50)
    assert "step 2" not in labels(desk.docket)


def test_torn_surfaces_are_named_approximated_and_patched_by_hand(desk, qtbot, tmp_path):
    """What fails a mesh is told before and after, gone on without, and cured by its card."""
    from PySide6.QtCore import Qt

    arrived(desk, qtbot, tmp_path, sill_ramp(), "sill-ramp")
    desk.work.set_size(8.0)
    settled(desk, qtbot)
    desk.work.go("Prove")
    qtbot.keyClick(desk.view, Qt.Key.Key_M)
    qtbot.waitUntil(lambda: desk.work.mesh is not None, timeout=60000)
    qtbot.wait(50)  # what was there is gone
    told = labels(desk.docket)
    assert desk.work.mesh.kind == "triangles" and "no volume" in told and told.count("torn off along 3 edges") == 2
    button_of(desk.docket, "Show me").click()
    assert desk.work.faces == [desk.work.mesh.failures[0].face]
    button_of(desk.docket, "Mesh an approximation").click()
    qtbot.waitUntil(lambda: desk.work.mesh.kind == "tetrahedra", timeout=60000)
    assert abs(float(desk.work.mesh.volumes.sum()) / RAMP.volume - 1.0) < 1e-3
    assert "torn off along 3 edges" in labels(desk.docket)
    desk.work.go("Mend")
    button_of(desk.docket, "Patch over").click()
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready" and "2 faces gone" in labels(desk.proposal)
    taken(desk, qtbot)
    assert abs(total(desk) / RAMP.volume - 1.0) < 1e-9 and len(desk.work.model.faces()) == 8


def test_triangles_get_patches_that_are_put_right_and_the_solid_is_held_against_them(desk, qtbot, tmp_path):
    """Found, parted and united again by what In hand offers; then the solid, and how far off the triangles are."""
    from PySide6.QtCore import Qt

    path = tmp_path / "strap.stl"
    write_triangles(hinge_strap(), path)
    desk.open(path)
    settled(desk, qtbot)
    desk.begin(rows()["find-patches"])
    ready(desk, qtbot)
    taken(desk, qtbot)
    marks = desk.work.ledger.state.marks
    words = dict.fromkeys(marks.all("patch").values())
    colours = {row.tobytes() for row in desk.view._paint()}
    assert len(words) == 18 and len(colours) >= 3  # in stones of their own
    around = [f for f, w in marks.all("patch").items() if w == "cylinder 1"]
    desk.work.choose(faces=around[:1])
    if len(around) > 1:
        button_of(desk.in_hand, "Take the whole patch cylinder 1").click()
    assert set(desk.work.faces) == set(around) and "patch cylinder 1" in labels(desk.in_hand)
    button_of(desk.in_hand, "› Grow a patch").click()
    assert desk.work.proposal.state == "asking"  # for the deviation: nothing is refused yet
    desk.work.drop()
    button_of(desk.in_hand, "› Part a patch").click()
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready"  # at first across its middle
    taken(desk, qtbot)
    marks = desk.work.ledger.state.marks
    halves = [f for f, w in marks.all("patch").items() if w not in words or w == "cylinder 1"]
    assert len(dict.fromkeys(marks.all("patch").values())) == 19
    desk.work.choose(faces=halves)
    button_of(desk.in_hand, "› Unite patches").click()
    ready(desk, qtbot)
    taken(desk, qtbot)
    assert len(dict.fromkeys(desk.work.ledger.state.marks.all("patch").values())) == 18
    desk.begin(rows()["solid"])
    ready(desk, qtbot)
    taken(desk, qtbot)
    assert total(desk) == pytest.approx(STRAP.volume, rel=1e-6)
    press(desk, qtbot, Qt.Key.Key_Slash)
    qtbot.keyClicks(desk.question.line, "how far off")
    qtbot.keyClick(desk.question.line, Qt.Key.Key_Return)
    qtbot.waitUntil(lambda: desk.view.deviation.shown, timeout=30000)
    assert desk.view.deviation.scale.isVisible() and desk.view.deviation.found.most < 1e-4
    assert "inside" in desk.view.deviation.scale.words[0] and not seen(desk)
    assert not any(a.GetVisibility() for a in desk.view._layers["edges"])
    desk.view.deviation.toggle()
    qtbot.wait(60)
    assert not desk.view.deviation.scale.isVisible() and seen(desk)
    assert all(a.GetVisibility() for a in desk.view._layers["edges"])


def meshed_by_hand(desk, qtbot, path, size):
    """What a press of M makes of a file."""
    from PySide6.QtCore import Qt

    desk.open(path)
    settled(desk, qtbot)
    desk.work.set_size(size)
    settled(desk, qtbot)
    desk.work.go("Prove")
    qtbot.keyClick(desk.view, Qt.Key.Key_M)
    qtbot.waitUntil(lambda: desk.work.mesh is not None, timeout=60000)
    qtbot.wait(50)
    return desk.work.mesh


def test_a_lattice_is_offered_where_it_makes_better_elements_and_makes_them(desk, qtbot, tmp_path):
    """For poor elements on triangles the card has a button, which leaves none of them; then it is not there any more,
    nor beside a mesh that no lattice would make better."""
    from PySide6.QtWidgets import QPushButton
    from test_stuffing import spiked

    from lithon.brep.topology import Model

    path = tmp_path / "ridge.stl"
    write_triangles(Model.of([spiked()[0]]), path)

    def offered():
        return "Mesh from a lattice" in [b.text() for b in desk.docket.findChildren(QPushButton)]

    poor = meshed_by_hand(desk, qtbot, path, 4.0)
    assert "not good enough everywhere" in labels(desk.docket) and list(poor.better) == [0] and offered()
    object.__setattr__(poor, "better", {})
    desk.work.go("Mend")
    desk.work.go("Prove")
    qtbot.wait(50)
    assert "not good enough everywhere" in labels(desk.docket) and not offered()
    object.__setattr__(poor, "better", {0: 0.1})
    desk.work.go("Mend")
    desk.work.go("Prove")
    qtbot.wait(50)
    button_of(desk.docket, "Mesh from a lattice").click()
    qtbot.waitUntil(lambda: desk.work.mesh is not poor, timeout=60000)
    qtbot.wait(50)
    told = labels(desk.docket)
    assert "from a lattice: creases are cut off by up to" in told and "not good enough" not in told
    assert desk.work.mesh.quality.smallest_angle.min() > 12.0 and list(desk.work.mesh.rounded) == [0]
    assert not offered()


@pytest.mark.parametrize(("low", "high"), [(1e-9, 0.3), (0.02, 90.0), (3.0, 4.9), (4.0, 4.5), (0.5, 3e6)])
def test_numbers_on_the_scale_have_room_and_those_that_have_stand_there(low, high):
    """None over the other, however many decades; and no mark is left without one that there was room for."""
    width = 1030.0

    def place(value):
        return 10.0 + (width - 20.0) * np.log(value / low) / np.log(high / low)

    def wide(text):
        return 7.0 * len(text)

    marks = scale(low, high, "mm", place, wide, width - 30.0)
    spans = [(x - max(0.5 * wide(t), 20.0), x + max(0.5 * wide(t), 20.0)) for x, t in marks if t]
    assert all(b[0] - a[1] > 5.9 for a, b in pairwise(spans))
    said = [float(t.removesuffix(" mm").replace(" ", "")) for _, t in marks if t]
    assert said == pytest.approx([low * (high / low) ** ((x - 10.0) / (width - 20.0)) for x, t in marks if t])
    for k, (x, text) in enumerate(marks):
        if not text and 60.0 < x < width - 60.0:
            assert any(t and abs(x - y) < 100.0 for y, t in marks[max(0, k - 3) : k])


def test_what_is_too_wide_does_not_push_the_rest_of_a_panel_aside(display, qtbot):
    panel = Panel("CARDS")
    qtbot.addWidget(panel)
    wide = panel.add(label("m" * 120, wrap=False))
    other = panel.add(label("A card whose end is to be read, however wide the one above it is."))
    panel.resize(300, 400)
    panel.show()
    qtbot.waitExposed(panel)
    inside, view = panel.area.widget(), panel.area.viewport()
    assert wide.minimumSizeHint().width() > view.width()
    qtbot.waitUntil(lambda: inside.width() <= view.width(), timeout=5000)
    assert other.mapTo(view, other.rect().topRight()).x() <= view.width()


def test_a_docket_is_as_wide_as_its_panel_whatever_numbers_it_holds(desk, qtbot, tmp_path):
    arrived(desk, qtbot, tmp_path, lock_beam(), "lock-beam")
    desk.work.go("Survey")
    for below in (0.8, 4.44e-4):
        desk.work.propose(do.ignore_below(below))
        ready(desk, qtbot)
        taken(desk, qtbot)
        settled(desk, qtbot)
        inside, view = desk.docket.area.widget(), desk.docket.area.viewport()
        qtbot.waitUntil(lambda inside=inside, view=view: inside.width() <= view.width(), timeout=5000)
        assert inside.minimumSizeHint().width() <= view.width()
    assert "Not followed below 4e-04 mm" in labels(desk.docket)


def test_what_comes_from_a_lattice_of_exact_faces_says_so_on_its_card(desk, qtbot, tmp_path):
    """A block with a slot of a thousandth: one press makes a mesh, the card says what it is of and what was filled:
    the whole block."""

    from lithon.brep.topology import Model
    from lithon.exchange.step_write import write_step
    from lithon.samples.build import Piece, prism

    outline = [(0, 0), (40, 0), (40, 10), (8, 10), (8, 10.001), (40, 10.001), (40, 20), (0, 20)]
    path = tmp_path / "clip.step"
    write_step(Model.of([prism([Piece(p) for p in outline], 15.0, name="clip")]), path, "clip")
    mesh = meshed_by_hand(desk, qtbot, path, 4.0)
    told = labels(desk.docket)
    assert mesh.kind == "tetrahedra" and list(mesh.rounded) == [0] == list(mesh.filled)
    assert "clip from a lattice" in told and "slots up to 0.4 mm wide are filled" in told
    assert "not good enough" not in told and "✓" in told  # no more was filled than is ignored
    assert mesh.volumes.sum() == pytest.approx(40.0 * 20.0 * 15.0, rel=2e-3)
