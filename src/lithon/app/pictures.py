"""Pictures of models and meshes without a window."""

from __future__ import annotations

import base64
import tempfile
from pathlib import Path

import numpy as np
import vtkmodules.vtkRenderingOpenGL2  # noqa: F401 - registers the drawing back end
from vtkmodules.vtkCommonCore import vtkLogger
from vtkmodules.vtkCommonDataModel import vtkPolyData
from vtkmodules.vtkIOImage import vtkPNGWriter
from vtkmodules.vtkRenderingCore import vtkActor, vtkRenderer, vtkRenderWindow, vtkWindowToImageFilter

from lithon.app import scene, theme
from lithon.arrays import Floats
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Face, Model
from lithon.mesh.tetrahedra import Mesh
from lithon.project.ledger import Ledger
from lithon.project.report import Pictures, StepPictures
from lithon.survey.card import Finding
from lithon.survey.deviation import Deviation


def _render(actors: list[vtkActor], points: Floats, path: Path, size: tuple[int, int] = (960, 640)) -> None:
    from lithon.app.lighting import lights

    renderer = vtkRenderer()
    renderer.GradientBackgroundOn()
    renderer.SetBackground(*theme.rgb(theme.VIEW_LOW))
    renderer.SetBackground2(*theme.rgb(theme.VIEW_TOP))
    lights(renderer)
    for a in actors:
        renderer.AddActor(a)
    camera = renderer.GetActiveCamera()
    camera.SetViewAngle(24.0)
    camera.SetPosition(0.52, -0.72, 0.46)
    camera.SetFocalPoint(0.0, 0.0, 0.0)
    camera.SetViewUp(0.0, 0.0, 1.0)
    low, high = points.min(axis=0), points.max(axis=0)
    renderer.ResetCamera([low[0], high[0], low[1], high[1], low[2], high[2]])
    camera.Zoom(1.12)
    # Without a display VTK warns before it falls back to drawing off screen; that is expected here.
    vtkLogger.SetStderrVerbosity(vtkLogger.VERBOSITY_OFF)
    window = vtkRenderWindow()
    window.SetOffScreenRendering(1)
    window.SetMultiSamples(4)
    window.SetSize(*size)
    window.AddRenderer(renderer)
    window.Render()
    grab = vtkWindowToImageFilter()
    grab.SetInput(window)
    grab.ReadFrontBufferOff()
    writer = vtkPNGWriter()
    writer.SetFileName(str(path))
    writer.SetInputConnection(grab.GetOutputPort())
    writer.Write()
    window.Finalize()


#: Of so many steps pictures are made, and how large.
_STEPS, _SMALL = 30, (520, 360)


def pictures(ledger: Ledger, off: Deviation | None) -> Pictures:
    """Those of a report: of the steps and, where something was measured, of the deviation."""
    return Pictures(pictures_of_steps(ledger), _as_data(off) if off is not None else "")


def _as_data(off: Deviation) -> str:
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder) / "off.png"
        _render([scene.deviation_actor(off)], off.points, path)
        return _data(path)


def _data(path: Path) -> str:
    return "data:image/png;base64," + base64.b64encode(path.read_bytes()).decode()


def pictures_of_steps(ledger: Ledger) -> list[StepPictures]:
    """Before and after of every step that has changed the solid: what goes in madder, what is new in verdigris, seen
    from one place; PNG as data in the page itself."""
    out: list[StepPictures] = []
    before = ledger.base
    with tempfile.TemporaryDirectory() as folder:
        for entry in ledger.entries[: ledger.position]:
            after = entry.outcome.model
            if not entry.on or after is before or len(out) == _STEPS:
                continue
            old, new = set(before.faces()), set(after.faces())
            points = _where(before, after, old ^ new)
            both = []
            for model, others, colour in ((before, new, theme.MADDER), (after, old, theme.VERDIGRIS)):
                path = Path(folder) / "step.png"
                _render(_marked(model, others, colour), points, path, _SMALL)
                both.append(_data(path))
            out.append(StepPictures(entry.outcome.words, both[0], both[1]))
            before = after
    return out


def _marked(model: Model, others: set[Face], colour: str) -> list[vtkActor]:
    """The solid faint where it is as in the other picture, the rest in a colour."""
    actors = []
    for same, tint in ((True, theme.STONES[0][1]), (False, colour)):
        meshes = [face_mesh(f) for f in model.faces() if (f in others) == same]
        if meshes:
            base = np.cumsum([0, *(len(m.points) for m in meshes)])
            corners = np.concatenate([m.triangles + base[k] for k, m in enumerate(meshes)])
            actors.append(scene.actor(scene.surface_data(np.concatenate([m.points for m in meshes]), corners), tint))
    edges = list(model.edges())
    if edges:
        actors.append(scene.actor(scene.line_data(scene.edge_runs(edges)), theme.INK, width=1.2, lit=False, lift=2.0))
    return actors


def _where(before: Model, after: Model, changed: set[Face]) -> Floats:
    """What is looked at: where faces have come or gone, with something of what is around."""
    every = np.concatenate([face_mesh(f).points for m in (before, after) for f in m.faces()] or [np.zeros((1, 3))])
    there = np.concatenate([face_mesh(f).points for f in changed]) if changed else every
    low, high = there.min(axis=0), there.max(axis=0)
    spare = 0.15 * float(np.linalg.norm(np.ptp(every, axis=0))) + 0.3 * (high - low)
    return np.clip(np.array([low - spare, high + spare]), every.min(axis=0), every.max(axis=0))


def picture_of_model(model: Model, path: Path) -> None:
    """A shaded picture of all bodies with their edges."""
    actors, points = [], []
    for k, body in enumerate(model.bodies):
        pic = scene.picture(Model((body,), model.tolerance), set())
        data = scene.surface_data(pic.points, pic.triangles, pic.normals)
        actors.append(scene.actor(data, theme.STONES[k % len(theme.STONES)][1]))
        actors.append(scene.actor(pic.outlines(), theme.INK, width=1.4, lit=False, lift=2.0))
        points.append(pic.points)
    _render(actors, np.concatenate(points), path)


def picture_of_finding(model: Model, finding: Finding, path: Path) -> None:
    """The solid faint, what a finding is about in madder, seen near its place."""
    pic = scene.picture(Model((finding.body,), model.tolerance), set())
    body = scene.actor(scene.surface_data(pic.points, pic.triangles, pic.normals), theme.STONES[0][1])
    body.GetProperty().SetOpacity(0.35)
    lines = scene.actor(pic.outlines(), theme.INK2, width=1.0, lit=False, lift=2.0)
    actors = [body, lines]
    edges = list(finding.edges) or [e for f in finding.faces for e in f.edges()]
    if edges:
        actors.append(
            scene.actor(scene.line_data(scene.edge_runs(edges)), theme.MADDER, width=4.0, lit=False, lift=4.0)
        )
    if finding.faces and not finding.edges:
        meshes = [face_mesh(f) for f in finding.faces]
        base = np.cumsum([0, *(len(m.points) for m in meshes)])
        skin = scene.surface_data(
            np.concatenate([m.points for m in meshes]),
            np.concatenate([m.triangles + base[k] for k, m in enumerate(meshes)]),
        )
        actors.append(scene.actor(skin, theme.MADDER, lift=1.0))
    actors.append(scene.actor(_bead(finding.place, 0.008 * float(np.ptp(pic.points, axis=0).max())), theme.MADDER))
    _render(actors, pic.points, path)


def _bead(place: tuple[float, float, float], radius: float) -> vtkPolyData:
    """A small octahedron: what is too small to be seen has its place all the same."""
    tips = np.asarray(place) + radius * np.vstack([np.eye(3), -np.eye(3)])
    sides = [(0, 1, 2), (1, 3, 2), (3, 4, 2), (4, 0, 2), (1, 0, 5), (3, 1, 5), (4, 3, 5), (0, 4, 5)]
    return scene.surface_data(tips, np.array(sides, dtype=np.int64))


def picture_of_mesh(mesh: Mesh, path: Path) -> None:
    """The outside of a mesh, body by body, with its element edges."""
    actors = []
    for b in range(len(mesh.bodies)):
        skin = scene.surface_data(mesh.points, mesh.skin(np.flatnonzero(mesh.body == b)))
        a = scene.actor(skin, theme.STONES[b % len(theme.STONES)][1])
        a.GetProperty().SetInterpolationToFlat()
        a.GetProperty().EdgeVisibilityOn()
        a.GetProperty().SetEdgeColor(*theme.rgb("#6C665B"))
        actors.append(a)
    _render(actors, mesh.points, path)
