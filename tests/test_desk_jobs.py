"""Jobs done by mouse and keys in the real window, from the file to the mesh; each number as when they are played."""

from collections import Counter

import numpy as np
import pytest
from dice import LONG
from hands import button_of, click, cut_field, drag_box, labels, press, ready, settled, total

import lithon
from lithon.brep.measures import volume
from lithon.samples import WHEEL, sluice_wheel
from lithon.samples.gear_cover import GEAR_COVER, gear_cover
from lithon.samples.lining_ring import RING, lining_ring
from lithon.samples.sheet_parts import BEAM, lock_beam
from lithon.samples.tie_rod import EYE, tie_rod_eye
from lithon.survey.features import features

pytestmark = [pytest.mark.slow, pytest.mark.skipif(not LONG, reason="a minute of clicking: in a long run")]


class Hands:
    """What somebody at the desk does: finds by typing, picks by clicking, fills in, takes."""

    def __init__(self, desk, qtbot, tmp_path, model, name):
        from PySide6.QtCore import Qt

        self.desk, self.qtbot, self.key = desk, qtbot, Qt.Key
        path = tmp_path / f"{name}.step"
        lithon.write_step(model, path, name)
        desk.open(path)
        settled(desk, qtbot)

    def find(self, text):
        """The one line: what is typed and taken with Return is chosen, opened or begun."""
        press(self.desk, self.qtbot, self.key.Key_Slash)
        self.desk.question.line.clear()
        self.qtbot.keyClicks(self.desk.question.line, text)
        self.qtbot.keyClick(self.desk.question.line, self.key.Key_Return)

    def put(self, key, text):
        """Type into a field of the form."""
        from PySide6.QtCore import Qt

        line = self.desk.proposal.form.fields[key].line
        self.qtbot.mouseClick(line, Qt.MouseButton.LeftButton)
        line.clear()
        self.qtbot.keyClicks(line, text)
        self.qtbot.keyClick(line, self.key.Key_Return)

    def amount(self, text):
        """Type the number of the cut."""
        line = cut_field(self.desk).amount
        self.qtbot.waitUntil(lambda: line.isVisible(), timeout=10000)
        line.clear()
        self.qtbot.keyClicks(line, text)
        self.qtbot.keyClick(line, self.key.Key_Return)

    def choose(self, key, option):
        """Press one of the choices of a field."""
        self.desk.proposal.form.fields[key].toggles.buttons[option].click()

    def size(self, text):
        line = self.desk.size_field
        line.clear()
        self.qtbot.keyClicks(line, text)
        self.qtbot.keyClick(line, self.key.Key_Return)
        settled(self.desk, self.qtbot)

    def take(self):
        """Wait for the price, look that it stands, take it with Return."""
        ready(self.desk, self.qtbot)
        proposal = self.desk.work.proposal
        assert proposal.state == "ready", labels(self.desk.proposal)
        words = proposal.outcome.words
        press(self.desk, self.qtbot, self.key.Key_Return)
        self.qtbot.waitUntil(lambda: self.desk.work.proposal is None, timeout=60000)
        settled(self.desk, self.qtbot)
        return words

    def mesh(self):
        self.desk.work.go("Prove")
        before = self.desk.work.mesh
        press(self.desk, self.qtbot, self.key.Key_M)
        self.qtbot.waitUntil(lambda: self.desk.work.mesh not in (None, before), timeout=120000)
        return self.desk.work.mesh

    def body(self, name):
        return next(b for b in self.desk.work.model.bodies if b.name.startswith(name))


def test_dirty_geometry(desk, qtbot, tmp_path):
    """J13: hidden sheet, crumbs, steps under the bore, a lug proud of it, a gap that is meant."""
    hands = Hands(desk, qtbot, tmp_path, lining_ring(), "lining-ring")
    hands.size("6")
    partly = hands.mesh()
    assert len(partly.failures) == 1 and "stands by itself" in labels(desk.docket)
    button_of(desk.docket, "Show me").click()
    hidden = desk.work.faces
    assert len(hidden) == 1 and hidden[0] in hands.body("stave 5").faces
    hands.find("drop sheets")
    hands.take()
    assert volume(hands.body("stave 5")) == pytest.approx(RING.volume(4), rel=1e-9)
    hands.find("crumb 1")
    assert desk.work.chosen().of("bodies")[0].name == "crumb 1"
    hands.find("drop bodies")
    hands.take()
    hands.find("crumb 2")
    hands.find("drop bodies")
    hands.take()
    bore = next(f for f in hands.body("stave 6").faces if getattr(f.surface, "radius", 0.0) == pytest.approx(RING.bore))
    for k in (1, 2, 3):
        desk.work.choose(faces=[bore])
        hands.find("skim")
        hands.put("depth", "1")
        hands.put("bodies", f'bodies in "stave {k}"')
        hands.take()
        assert volume(hands.body(f"stave {k}")) == pytest.approx(RING.volume(k - 1), rel=1e-9)
    proud = next(
        f for f in hands.body("stave 4").faces if getattr(f.surface, "radius", 0.0) == pytest.approx(RING.bore)
    )
    desk.work.choose(faces=[proud])
    hands.find("skim")
    ready(desk, qtbot)
    assert desk.work.proposal.state == "refused" and "nothing lies under" in labels(desk.proposal)
    press(desk, qtbot, hands.key.Key_Escape)
    desk.work.choose(faces=[proud])
    press(desk, qtbot, hands.key.Key_V)
    hands.put("bodies", 'bodies in "stave 4"')
    hands.take()
    pieces = sorted((b for b in desk.work.model.bodies if b.name.startswith("stave 4")), key=volume)
    desk.work.choose(faces=list(pieces[0].faces))
    hands.find("drop bodies")
    hands.take()
    assert total(desk) == pytest.approx(sum(RING.volume(k) for k in range(RING.staves)), rel=1e-9)
    press(desk, qtbot, hands.key.Key_B)
    hands.take()
    assert len(desk.work.model.shared()) == 5
    whole = hands.mesh()
    assert len(whole.bodies) == RING.staves and whole.conformal() and not whole.failures
    assert "stands by itself" not in labels(desk.docket)


def test_removal_as_the_daily_tool(desk, qtbot, tmp_path):
    """J15: single click, double click, what is alike, from a seed up to a fence, instances."""
    g = GEAR_COVER
    hands = Hands(desk, qtbot, tmp_path, gear_cover(), "gear-cover")
    from PySide6.QtCore import Qt

    # A box from either corner holds the lower row of vents; with Ctrl a click takes one out again.
    desk.view.look_along(np.array([0.1, 0.2, -1.0]), np.array([0.0, 1.0, 0.0]))
    qtbot.wait(100)
    low, high = (desk.view.pixel_of(np.array(p)) for p in ((33.0, 12.0, g.thickness), (147.0, 26.0, g.thickness)))
    for start, end in ((low, high), (high, low)):
        press(desk, qtbot, hands.key.Key_Escape)
        drag_box(desk, qtbot, start, end)
        assert len(desk.work.faces) == g.vents[0]
        assert all(f.surface.radius == g.vent for f in desk.work.faces)
    taken = desk.work.faces[0]
    kept = list(desk.work.faces)
    desk.work.choose(faces=[taken])
    press(desk, qtbot, hands.key.Key_J)
    desk.work.choose(faces=kept)
    middle = np.array([*taken.surface.frame.origin[:2], 0.5 * g.thickness])
    ring = [middle + g.vent * np.array([np.cos(a), np.sin(a), 0.0]) for a in np.arange(0.0, 6.3, 0.1)]
    wall = next(p for p in ring if desk.view.at(*desk.view.pixel_of(p).toTuple())[:2] == (taken, None))
    click(desk, qtbot, wall, Qt.KeyboardModifier.ControlModifier)
    assert len(desk.work.faces) == g.vents[0] - 1 and taken not in desk.work.faces
    whole = total(desk)
    hands.find(f"bosses where depth = {g.mark}")
    assert len(desk.work.faces) == g.mark_faces
    press(desk, qtbot, hands.key.Key_C)
    hands.take()
    assert whole - total(desk) == pytest.approx(g.marks_volume, rel=1e-6)
    vent = next(f for f in desk.work.model.faces() if getattr(f.surface, "radius", 0.0) == g.vent)
    before = total(desk)
    desk.work.choose(faces=[vent])
    button_of(desk.in_hand, f"Of this size here: {g.vents[0] * g.vents[1]}").click()
    press(desk, qtbot, hands.key.Key_C)
    hands.take()
    count = g.vents[0] * g.vents[1]
    assert total(desk) - before == pytest.approx(count * np.pi * g.vent**2 * g.thickness, rel=1e-6)
    desk.view.look_along(np.array([0.1, 0.2, -1.0]), np.array([0.0, 1.0, 0.0]))
    qtbot.wait(100)
    # A pocket's floor is clicked, the plate's top with Ctrl: what lies within is a question.
    click(desk, qtbot, (42.0, 54.5, g.thickness - g.pocket[2]))
    assert len(desk.work.faces) == 1
    click(desk, qtbot, (20.0, 40.0, g.thickness), Qt.KeyboardModifier.ControlModifier)
    button_of(desk.in_hand, "As far as the others: 5").click()
    assert len(desk.work.faces) == 5
    before = total(desk)
    press(desk, qtbot, hands.key.Key_C)
    hands.take()
    assert total(desk) - before == pytest.approx(float(np.prod(g.pocket)), rel=1e-6)


def test_a_part_that_failed_in_service(desk, qtbot, tmp_path):
    """J07: set aside, threads plain, small holes judged and kept, a quarter between its mirrors, half of the bore
    parted, names, two meshes compared."""
    e = EYE
    hands = Hands(desk, qtbot, tmp_path, tie_rod_eye(), "tie-rod-eye")
    hands.find("rod")
    hands.find("set a body aside")
    hands.take()
    assert len(desk.work.model.bodies) == 1
    before = total(desk)
    hands.find("cones")
    press(desk, qtbot, hands.key.Key_C)
    hands.take()
    assert total(desk) - before == pytest.approx(e.grooves * e.groove_volume, rel=1e-6)
    hands.size("4")
    for hole in [f for f in features(desk.work.model.bodies[0]) if abs(f.size - 2.0 * e.small) < 1e-6]:
        desk.work.choose(faces=list(hole.faces))
        hands.find("keep")
        hands.take()
    reasons = set(desk.work.ledger.state.marks.all("hold").values())
    assert len(reasons) >= 1 and all("elements wide" in str(r) for r in reasons)
    whole = total(desk)
    hands.find("halve")
    hands.choose("part", "quarter")
    hands.take()
    assert 4.0 * total(desk) == pytest.approx(whole, rel=1e-9)
    bore = f"cylinders where radius = {e.bore}"
    hands.find(bore)
    hands.find("score")
    cut_field(desk).toggles.buttons["x"].click()
    hands.amount("0")
    hands.take()
    hands.find(f"{bore} and x < 0")
    hands.find("name faces")
    hands.put("label", "pressed")
    hands.take()
    labels_now = {f.label for f in desk.work.model.faces() if f.label}
    assert "pressed" in labels_now and {x[:8] for x in labels_now if x.startswith("mirror")} == {"mirror y", "mirror z"}
    first = hands.mesh()
    hands.size("3")
    second = hands.mesh()
    assert len(second.elements) > len(first.elements) and "BEFORE, AND NOW" in labels(desk.docket)


def test_a_working_copy_cleaned(desk, qtbot, tmp_path):
    """J03: stamped number, cut-outs and chamfers cleared; rounds larger; a flange raised and one put on the other's
    surface; sheets midway; a strip along an edge, halved, each half with its name."""
    s = BEAM
    hands = Hands(desk, qtbot, tmp_path, lock_beam(), "lock-beam")
    for question in ("pockets", "windows", "chamfers"):
        hands.find(question)
        press(desk, qtbot, hands.key.Key_C)
        hands.take()
    assert total(desk) == pytest.approx(s.plain(s.root), rel=1e-9) and len(hands.body("lock beam").faces) == 18
    hands.find(f"fillets where radius = {s.root}")
    hands.find("resize")
    hands.put("radius", "8")
    hands.take()
    assert total(desk) == pytest.approx(s.plain(8.0), rel=1e-9)
    hands.find(f"planes along y where y > {s.height - s.flange - 1.0}")
    hands.find("slide")
    hands.put("by", "20")
    hands.choose("way", "y")
    hands.take()
    assert total(desk) == pytest.approx(s.plain(8.0, 20.0), rel=1e-9)
    hands.find(f"planes along x where x > {s.width - 1.0} and y < {s.flange}")
    hands.find("slide")
    hands.put("by", "5")
    hands.take()
    assert total(desk) == pytest.approx(s.plain(8.0, 20.0) + 5.0 * s.flange * s.length, rel=1e-9)
    hands.find(f"planes along x where x > {s.width + 1.0}")
    hands.find("reface")
    hands.put("target", f"planes along x where x > {s.width - 1.0} and y > 100")
    hands.take()
    assert total(desk) == pytest.approx(s.plain(8.0, 20.0), rel=1e-9)
    hands.find("mid-surface")
    hands.take()
    sheets = sorted(desk.work.model.bodies, key=lambda b: b.thickness or 0.0)
    assert [b.thickness for b in sheets] == pytest.approx([s.web, s.flange, s.flange])
    flange = sheets[-1]
    rim = next(e for e in flange.edges() if e.curve.kind == "line" and float(e.at(0.5)[0]) > s.width - 1e-6)
    level = float(rim.at(0.5)[1])
    desk.work.choose(faces=[f for f in flange.faces if rim in set(f.edges())])
    hands.find("score")
    cut_field(desk).toggles.buttons["round"].click()
    desk.work.choose(edges=[rim])
    hands.amount("15")
    hands.take()
    here = f"faces where y > {level - 1.0} and y < {level + 1.0} and x > {s.width - 15.0}"
    hands.find(here)
    hands.find("score")
    cut_field(desk).toggles.buttons["z"].click()
    hands.amount(f"{0.5 * s.length}")
    hands.take()
    for word, name in (("<", "near half"), (">", "far half")):
        hands.find(f"{here} and z {word} {0.5 * s.length}")
        hands.find("name faces")
        hands.put("label", name)
        hands.take()
    named = Counter(f.label for f in desk.work.model.faces() if f.label.endswith("half"))
    assert named == {"near half": 1, "far half": 1}


def test_a_wheel_of_23(desk, qtbot, tmp_path):
    """J04: small rounds cleared, the hub parted, one sector, plates parted, bonded, a hub's group, hexahedra."""
    w = WHEEL
    hands = Hands(desk, qtbot, tmp_path, sluice_wheel(), "sluice-wheel")
    hands.size("3")
    hands.find("fillets where radius < 2 mm")
    press(desk, qtbot, hands.key.Key_C)
    hands.take()
    whole = total(desk)
    press(desk, qtbot, hands.key.Key_V)
    cut_field(desk).toggles.buttons["round"].click()
    desk.work.choose(faces=[next(f for f in desk.work.model.faces() if f.surface.kind == "cylinder")])
    hands.amount(f"{w.hub}")
    hands.take()
    hands.find("sector")
    hands.take()
    assert w.blades * total(desk) == pytest.approx(whole, rel=1e-9)
    for height in (w.thickness, w.thickness + w.height):
        desk.work.choose()
        press(desk, qtbot, hands.key.Key_V)
        cut_field(desk).toggles.buttons["z"].click()
        hands.amount(f"{height}")
        hands.take()
    press(desk, qtbot, hands.key.Key_B)
    hands.take()
    assert len(desk.work.model.bodies) == 6
    qtbot.waitUntil(lambda: desk.work.standings is not None, timeout=60000)
    assert all(desk.work.standing(b).kind in ("mapped", "swept") for b in desk.work.model.bodies)
    hands.find("mesh with hexahedra")
    qtbot.waitUntil(lambda: desk.work.mesh is not None, timeout=120000)
    assert desk.work.mesh.kind == "hexahedra" and desk.work.mesh.conformal()
