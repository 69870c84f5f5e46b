"""The picture of a large solid that rests: kept pixels in other colours must be what drawing it again would give, and
marks must be hidden by the same faces."""

import sys
from pathlib import Path

import numpy as np
import pytest
from PySide6.QtCore import QEvent, QPoint, QPointF, Qt
from PySide6.QtGui import QMouseEvent
from vtkmodules.util.numpy_support import vtk_to_numpy
from vtkmodules.vtkCommonCore import vtkUnsignedCharArray

import lithon
from lithon import do
from lithon.brep.analysis.adjacency import adjacency
from lithon.operations.form import Form
from lithon.operations.running import run
from lithon.operations.state import State

sys.path.insert(0, str(Path(__file__).parents[1] / "tools"))
from parts import perforated, pocketed

pytestmark = pytest.mark.usefixtures("display")


@pytest.fixture(scope="module", params=["holes", "pockets"])
def ledger(request, tmp_path_factory):
    path = tmp_path_factory.mktemp("plates") / "plate.step"
    lithon.write_step(perforated(450) if request.param == "holes" else pocketed(140), path)
    return lithon.open(path)


@pytest.fixture
def model(ledger):
    return ledger.model


@pytest.fixture
def view(ledger, qtbot, display):
    """A view of its own, without a desk and its workers."""
    from lithon.app.view import SolidView
    from lithon.app.work import Work

    work = Work()
    work.job = lambda *args, **more: None
    out = SolidView(work)
    qtbot.addWidget(out)
    out.setAttribute(Qt.WidgetAttribute.WA_ShowWithoutActivating)
    out.resize(820, 560)
    out.show()
    qtbot.waitExposed(out)
    work.ledger = ledger
    out.look_from_front()
    rest(out, qtbot)
    yield out
    out.still.close()
    out.Finalize()


def rest(view, qtbot):
    """Until the picture is still, softened, and it is known what is behind each pixel."""
    qtbot.waitUntil(lambda: not view._drawn.isActive() and not view._calm.isActive(), timeout=20_000)


def drawn(view, afresh):
    """Colours (h,w,3) on screen now, unsoftened; with everything drawn again, or as the view thinks fit."""
    if afresh:
        view.still.forget()
    view.marks.SetUseFXAA(False)
    window = view.GetRenderWindow()
    window.Render()
    assert bool(view.renderer.GetDraw()) == afresh
    w, h = window.GetSize()
    out = vtkUnsignedCharArray()
    window.GetRGBACharPixelData(0, 0, w - 1, h - 1, 0, out)
    return vtk_to_numpy(out).reshape(h, w, 4)[:, :, :3].astype(int)


def assert_alike(kept, fresh, share=2e-4):
    """Colours may differ by rounding; where lines are, by a few pixels."""
    off = np.abs(kept - fresh).max(axis=2)
    assert (off > 3).mean() < share


def move(view, at):
    none = Qt.MouseButton.NoButton
    spot = QPointF(at)
    event = QMouseEvent(QEvent.Type.MouseMove, spot, view.mapToGlobal(spot), none, none, Qt.KeyboardModifier.NoModifier)
    view.mouseMoveEvent(event)


def test_choosing_and_hovering_give_the_picture_that_drawing_again_gives(view, qtbot, model):
    work = view.work
    features = lithon.features(model.bodies[0])
    plain = drawn(view, afresh=False)
    top = max(model.bodies[0].faces, key=lambda f: len(f.loops))
    for faces in (features[3].faces, [f for x in features[::3] for f in x.faces], (top,)):
        work.choose(faces=faces)
        kept = drawn(view, afresh=False)
        assert (np.abs(kept - plain).max(axis=2) > 20).sum() >= 10  # something is to be seen of it
        assert_alike(kept, drawn(view, afresh=True))
        work.choose()
        view._render_now()
        rest(view, qtbot)
    spot = QPoint(view.width() // 2, view.height() // 2)
    move(view, spot)
    assert view._hover is not None
    kept = drawn(view, afresh=False)
    assert (np.abs(kept - plain).max(axis=2) > 8).any()
    assert_alike(kept, drawn(view, afresh=True))


def test_what_the_sieve_lights_is_drawn_from_kept_pixels(view, model):
    features = lithon.features(model.bodies[0])
    for some in (features[:40], features[20:], features):
        view.light({f for x in some for f in x.faces}, [])
        assert_alike(drawn(view, afresh=False), drawn(view, afresh=True))
        # What is behind each pixel is still known: the next lights are drawn from these colours.


def test_marks_are_hidden_by_what_lies_before_them(view, model):
    """An edge of the far side, chosen, is not to be seen through the plate."""
    toward = np.array(view.renderer.GetActiveCamera().GetDirectionOfProjection())
    body = model.bodies[0]
    under = [f for f in body.faces if len(f.loops) > 9 and turned_away(body, f, toward)]
    inner = [e for f in under for loop in f.loops if len(loop) != 4 for e in (c.edge for c in loop)]
    if not inner:  # pockets do not come out below: an edge of the outline there
        inner = [e for e in body.edges() if all(turned_away(body, f, toward) for f in faces_at(body, e))]
    plain = drawn(view, afresh=False)
    view.work.choose(edges=inner[len(inner) // 2 : len(inner) // 2 + 3])
    kept = drawn(view, afresh=False)
    fresh = drawn(view, afresh=True)
    assert_alike(kept, fresh)
    assert (np.abs(fresh - plain).max(axis=2) > 20).sum() < 60


def turned_away(body, face, toward):
    return float(body.outward(face, next(face.edges()).at(0.5)[None])[0] @ toward) > 0.2


def faces_at(body, edge):
    return [use.face for use, _ in adjacency(body).uses[edge]]


def test_a_cut_solid_keeps_its_section_whatever_is_chosen_behind_it(view, qtbot, model):
    view.toggle_cut()
    view._render_now()
    rest(view, qtbot)
    plain = drawn(view, afresh=False)
    view.work.choose(faces=model.bodies[0].faces)  # all of it but the section
    kept = drawn(view, afresh=False)
    assert (np.abs(kept - plain).max(axis=2) > 20).sum() > 100
    assert_alike(kept, drawn(view, afresh=True))


def test_the_kept_picture_is_let_go_when_the_eye_or_the_solid_moves(view, qtbot, model):
    window = view.GetRenderWindow()
    window.Render()
    assert not view.renderer.GetDraw()  # it rests
    view._turn(QPoint(9, 4))
    window.Render()
    assert view.renderer.GetDraw()
    rest(view, qtbot)
    window.Render()
    assert not view.renderer.GetDraw()
    for change in (
        lambda: view.resize(700, 500),
        lambda: view.toggle_cut(),
        lambda: view.toggle_cut(),
        lambda: (setattr(view, "glass", True), view.recolour()),
        lambda: view.show_only([model.bodies[0].faces[7]]),
    ):
        change()
        window.Render()
        assert view.renderer.GetDraw()
        rest(view, qtbot)
    view.work.hidden = {model.bodies[0]}
    view.rebuild()
    window.Render()
    assert view.renderer.GetDraw()


def test_a_ghost_is_drawn_over_the_kept_picture_and_seen_through_once_it_rests(view, qtbot, model):
    from lithon.app.asking import Proposal
    from lithon.brep.tessellation.patches import change

    feature = lithon.features(model.bodies[0])[5]
    plain = drawn(view, afresh=False)
    step = do.clear(feature.faces)
    asked = Proposal(Form.of(step), step)
    asked.outcome = run(State(model), step)
    asked.ghost, asked.state = change(model, asked.outcome.model), "ready"
    view.work.asking.proposal = asked
    view.work.proposal_changed.emit()
    first = drawn(view, afresh=False)
    assert (np.abs(first - plain).max(axis=2) > 15).sum() >= 8
    assert view.still.pales
    rest(view, qtbot)
    assert not view.still.pales  # drawn again, what goes is really seen through
    assert_alike(drawn(view, afresh=False), drawn(view, afresh=True))


def test_hundreds_of_marks_run_along_their_edges(model):
    """Every edge from its start to its end, never further off it than the coarser steps may be, and no other."""
    from lithon.app import scene

    pic = scene.picture(model, set())
    edges = [e for k, e in enumerate(pic.edges) if k % 3]
    assert len(edges) > scene._HUNDREDS
    fine = pic.diagonal / 500.0
    data = pic.marked(edges, fine)
    points = vtk_to_numpy(data.GetPoints().GetData())
    starts = vtk_to_numpy(data.GetLines().GetOffsetsArray())
    assert data.GetNumberOfLines() == len(edges)
    assert len(points) < 0.8 * sum(len(run) for run in scene.edge_runs(edges))
    for edge, a, b in zip(edges, starts[:-1], starts[1:], strict=True):
        (run,) = scene.edge_runs([edge])
        assert np.array_equal(points[a], run[0]) and np.array_equal(points[b - 1], run[-1])
        middle = 0.5 * (points[a : b - 1] + points[a + 1 : b])
        t = edge.curve.parameter(middle)
        off = np.linalg.norm(edge.curve.point(np.clip(t, edge.t0, edge.t1)) - middle, axis=1)
        assert off.max() <= 0.25 * fine
    # A few are drawn as finely as they are.
    few = edges[:5]
    assert pic.marked(few, fine).GetNumberOfPoints() == sum(len(run) for run in scene.edge_runs(few))
