"""Lines drawn over triangles: what they part and what lies under them, in closed form; and drawn in the window."""

import numpy as np
import pytest
from dice import examples
from hands import button_of, ready, settled
from hypothesis import given, settings
from hypothesis import strategies as st
from solids import frame as frame_of

from lithon import do
from lithon.brep.faceted import Triangles, bodies_of, connected_sets
from lithon.brep.measures import face_area
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import BadFile, Refusal
from lithon.exchange.deliver import write_triangles
from lithon.mend.segments import KINDS, patch_as
from lithon.mend.strokes import parted_by, under
from lithon.mesh.sizing import SizeRules, size_field
from lithon.mesh.surface import surface_mesh
from lithon.operations.running import run
from lithon.operations.state import State
from lithon.operations.strokes import Stroke
from lithon.samples import collar_anchor
from lithon.samples.build import Round, prism, rectangle

LONG, WIDE, THICK, SIDE = 20.0, 10.0, 0.4, 0.4


def slab(seed):
    """A thin slab divided finely, anywhere: its frame, points and triangles, and which of these are on top."""
    frame = frame_of(np.random.default_rng(seed))
    body = prism(rectangle(0, 0, LONG, WIDE), THICK, frame)
    mesh = surface_mesh((body,), size_field((body,), SizeRules(SIDE, ignore=None)))
    corners, points = mesh.triangles()[0], mesh.points()
    top = np.flatnonzero((frame.local(points[corners].reshape(-1, 3))[:, 2].reshape(-1, 3) > THICK - 1e-9).all(axis=1))
    return frame, points, corners, top


def area(points, corners):
    v = points[corners]
    return 0.5 * np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1).sum()


@settings(max_examples=examples(12))
@given(
    seed=st.integers(0, 999),
    x=st.floats(4, 16),
    lean=st.floats(-3, 3),
    short=st.floats(0.0, 2.0),
    r=st.floats(1.5, 4.0),
)
def test_a_line_parts_what_it_crosses_and_a_ring_what_it_goes_round(seed, x, lean, short, r):
    """Across the top of a slab, or nearly from border to border: two pieces that hang together, of the areas on its two
    sides; round: what is within. All within a side of the line."""
    frame, points, corners, top = slab(seed)
    line = frame.world(np.array([[x - lean, short, THICK], [x + lean, WIDE - short, THICK]]))
    parts = parted_by(points, corners, top, line)
    assert len(parts) == 2 and sorted(np.concatenate(parts).tolist()) == top.tolist()
    assert all(connected_sets(len(points), corners[own]).max() == 0 for own in parts)
    found = sorted(area(points, corners[own]) for own in parts)
    one = WIDE * x
    assert found == pytest.approx(
        sorted([one, LONG * WIDE - one]), abs=SIDE * np.hypot(WIDE, 2 * lean) + 2 * short * SIDE
    )
    turn = np.linspace(0.0, 2.0 * np.pi, 80)
    ring = np.stack([10.0 + r * np.cos(turn), 5.0 + r * np.sin(turn), np.full(80, THICK)], axis=1)
    parts = parted_by(points, corners, top, frame.world(ring))
    assert len(parts) == 2
    assert min(area(points, corners[own]) for own in parts) == pytest.approx(np.pi * r**2, abs=np.pi * r * SIDE)


@settings(max_examples=examples(12))
@given(seed=st.integers(0, 999), width=st.floats(0.6, 1.5), x=st.floats(3, 8))
def test_under_a_line_is_what_is_as_near_on_that_side(seed, width, x):
    """A band with round ends, and nothing of the far side of the slab, which is nearer than the band is wide."""
    frame, points, corners, top = slab(seed)
    rows = under(points, corners, frame.world(np.array([[x, 5.0, THICK], [x + 8.0, 5.0, THICK]])), width)
    assert set(rows.tolist()) <= set(top.tolist())
    rim = 16.0 + 2.0 * np.pi * width
    assert area(points, corners[rows]) == pytest.approx(16.0 * width + np.pi * width**2, abs=0.35 * SIDE * rim)
    with pytest.raises(Refusal, match="not on the triangles"):
        under(points, corners, frame.world(np.array([[0.0, 0.0, 60.0], [1.0, 0.0, 60.0]])), width)


@pytest.mark.parametrize("kind", KINDS)
def test_a_patch_is_of_the_kind_that_was_said_as_near_as_one_can_be(kind):
    """Half a turn of a cylinder's triangles: on it exactly, on the others as far off as their best is; a plane by the
    closed form of a half circle's chord."""
    body = prism(Round((0.0, 0.0), 5.0), 8.0)
    points, corners, owner = body_mesh(body)
    wall = [k for k, f in enumerate(body.faces) if f.surface.kind == "cylinder"]
    middle = points[corners].mean(axis=1)
    rows = np.flatnonzero(np.isin(owner, wall) & (middle[:, 0] > 0.0))
    try:
        made = patch_as(points, corners, rows, kind)
    except Refusal as refusal:
        assert kind in refusal.what and kind in ("cone", "torus", "pipe")  # two rings tell none from a cylinder
        return
    off = np.abs(made.surface.signed_distance(points[np.unique(corners[rows])])).max()
    assert made.surface.kind == kind and made.off == pytest.approx(off)
    if kind in ("cylinder", "sphere"):
        assert off < 1e-9
    if kind == "plane":
        assert 2.0 < off < 5.0


def test_a_line_is_written_as_it_is_read():
    line = Stroke.of([(0.1, 1 / 3, -2e-17), (1, 2, 3)])
    assert Stroke.parse(line.text()) == line
    for bad in ("1 2 3", "1 2; 3 4", "a b c; 1 2 3", "nan 0 0; 1 1 1"):
        with pytest.raises(BadFile):
            Stroke.parse(bad)


def fine_anchor(size=8.0):
    model = collar_anchor()
    mesh = surface_mesh(model.bodies, size_field(model.bodies, SizeRules(size)))
    return Model.of(
        bodies_of([Triangles(mesh.points().astype(np.float32).astype(float), mesh.triangles()[0], "anchor")])[0]
    )


def test_a_solid_keeps_what_was_said():
    """A plane of an anchor of triangles that is said to be one changes nothing; one that is said to be of no kind stays
    facets, and all else is what it was."""
    state = run(State(fine_anchor()), do.find_patches()).state
    flat = [f for f, w in state.marks.all("patch").items() if str(w).startswith("plane")]
    widest = max(flat, key=lambda f: float(np.ptp(face_mesh(f).points, axis=0).sum()))
    said = run(state, do.say_kind(widest, "plane")).state
    out = run(said, do.solid()).model
    assert not flaws(out.bodies[0], out.tolerance) and len(out.bodies[0].faces) == 36
    free = run(run(state, do.say_kind(widest, "free")).state, do.solid())
    (body,) = free.model.bodies
    (left,) = free.details[0]["left"]
    assert not flaws(body, free.model.tolerance) and free.details[0]["faces"]["facets"] > 10
    assert left["area_mm2"] == pytest.approx(face_area(widest), rel=1e-6)
    assert sum(n for kind, n in free.details[0]["faces"].items() if kind != "facets") == 35


def test_a_line_drawn_in_the_view_parts_a_patch_and_paints_one(desk, qtbot, tmp_path):
    """Patches of a scan's kind of triangles: a line is drawn across the base with the left button, then a band painted;
    both are taken, and undone again."""
    from PySide6.QtCore import QPoint, Qt

    path = tmp_path / "anchor.stl"
    write_triangles(fine_anchor(), path)
    desk.open(path)
    settled(desk, qtbot)
    desk.begin(_row("find-patches"))
    ready(desk, qtbot)
    _take(desk, qtbot)
    marks = desk.work.ledger.state.marks
    before = set(marks.all("patch").values())

    # The patch of which most is seen, and a line of pixels across it.
    view = desk.view
    hits = {}
    for x in range(20, view.width() - 20, 12):
        for y in range(20, view.height() - 20, 12):
            face, _, place = view.at(x, y)
            if face is not None and place is not None:
                hits.setdefault(marks.get("patch", face), []).append((x, y))
    word, spots = max(hits.items(), key=lambda item: len(item[1]))
    spots = np.array(spots)
    y = int(np.median(spots[:, 1]))
    row = np.sort(spots[np.abs(spots[:, 1] - y) < 7][:, 0])
    ends = (int(row[0]), y), (int(row[-1]), y)

    def draw(a, b):
        from PySide6.QtCore import QEvent, QPointF
        from PySide6.QtGui import QMouseEvent

        left, none = Qt.MouseButton.LeftButton, Qt.KeyboardModifier.NoModifier
        qtbot.mousePress(view, left, none, pos=QPoint(*a))
        for t in np.linspace(0.0, 1.0, 30):
            at = QPointF(*(np.array(a) + t * (np.array(b) - a)))
            view.mouseMoveEvent(
                QMouseEvent(QEvent.Type.MouseMove, at, view.mapToGlobal(at), Qt.MouseButton.NoButton, left, none)
            )
        qtbot.mouseRelease(view, left, none, pos=QPoint(*b))

    own = [f for f, w in marks.all("patch").items() if w == word]
    desk.work.choose(faces=own)
    button_of(desk.in_hand, "› Part a patch").click()
    ready(desk, qtbot)
    desk.proposal.form.fields["line"].pick.click()
    assert desk.work.proposal.form.waiting == "line"
    draw(ends[0], ends[0])  # a click is no line
    assert desk.work.proposal.form.waiting == "line" and not view.stroke.points
    draw(*ends)
    ready(desk, qtbot)
    p = desk.work.proposal
    assert p.state == "ready" and len(p.form.values["line"].points) > 10 and not p.form.waiting
    assert view._layers["stroke"]
    _take(desk, qtbot)
    parted = set(desk.work.ledger.state.marks.all("patch").values())
    assert len(parted) == len(before) + 1 and not view._layers["stroke"]

    desk.work.choose()
    desk.begin(_row("paint-patch"))
    assert desk.work.proposal.form.waiting == "line"  # it is asked for at once
    third = (ends[1][0] - ends[0][0]) // 3
    draw((ends[0][0] + third, y), (ends[1][0] - third, y))
    ready(desk, qtbot)
    assert desk.work.proposal.state == "ready"
    _take(desk, qtbot)
    assert len(set(desk.work.ledger.state.marks.all("patch").values())) == len(parted) + 1
    desk.begin(_row("paint-patch"))
    qtbot.mousePress(view, Qt.MouseButton.LeftButton, pos=QPoint(ends[0][0] + third, y))
    assert view.stroke.points
    desk.work.drop()  # while the hand is down
    qtbot.mouseRelease(view, Qt.MouseButton.LeftButton, pos=QPoint(ends[0][0] + third, y))
    assert desk.work.proposal is None and not view.stroke.points and not view._layers["stroke"]
    desk.work.undo()
    desk.work.undo()
    settled(desk, qtbot)
    assert set(desk.work.ledger.state.marks.all("patch").values()) == before


def _row(name):
    from lithon.operations.table import rows

    return rows()[name]


def _take(desk, qtbot):
    desk.work.asking.accept()
    qtbot.waitUntil(lambda: desk.work.proposal is None, timeout=60000)
    settled(desk, qtbot)
