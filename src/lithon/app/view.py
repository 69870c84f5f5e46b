"""The solid on screen: drawing, picking, and moving the eye.

Left hand picks, right drag turns, middle drag pans, the wheel zooms at the cursor.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import vtkmodules.qt

vtkmodules.qt.PyQtImpl = "PySide6"
import vtkmodules.vtkInteractionStyle  # noqa: E402 - registers what the interactor needs
import vtkmodules.vtkRenderingOpenGL2  # noqa: E402 - registers the drawing back end
from PySide6.QtCore import QPoint, Qt, QTimer, Signal  # noqa: E402
from PySide6.QtWidgets import QRubberBand  # noqa: E402
from vtkmodules.qt.QVTKRenderWindowInteractor import QVTKRenderWindowInteractor  # noqa: E402
from vtkmodules.vtkCommonDataModel import vtkPlane, vtkPolyData  # noqa: E402
from vtkmodules.vtkInteractionStyle import vtkInteractorStyleUser  # noqa: E402
from vtkmodules.vtkRenderingCore import vtkActor, vtkRenderer  # noqa: E402

from lithon.app import scene, theme  # noqa: E402
from lithon.app.deviation import DeviationMap  # noqa: E402
from lithon.app.eye import Eye  # noqa: E402
from lithon.app.flags import Flags  # noqa: E402
from lithon.app.hand import Hand  # noqa: E402
from lithon.app.handle import Handle  # noqa: E402
from lithon.app.lighting import lights  # noqa: E402
from lithon.app.skin import Skin  # noqa: E402
from lithon.app.still import Still  # noqa: E402
from lithon.app.stroke import StrokeHand  # noqa: E402
from lithon.app.work import Work  # noqa: E402
from lithon.arrays import Floats, Ints  # noqa: E402
from lithon.brep.tessellation.division import edge_points  # noqa: E402
from lithon.brep.tessellation.patches import Change  # noqa: E402
from lithon.brep.topology import Body, Edge, Face, Model  # noqa: E402
from lithon.mesh.mesh import Mesh  # noqa: E402
from lithon.operations.marks import Marks  # noqa: E402

#: Above so many triangles edges are softened only once the picture is still, and nobody sees faces from behind.
_MANY = 20_000
#: How long (ms) a picture lies still before its edges are softened.
_STILL = 350
#: What belongs to the solid, and what is drawn over it.
_SOLID = ("section", "edges", "shared", "mesh", "deviation", "worst")
_LAYERS = (*_SOLID, "chosen", "lit", "ghost", "gone", "size", "points", "handle", "stroke", "flags")


class SolidView(Eye, Hand, QVTKRenderWindowInteractor):
    """The middle of the desk. It shows the Work and turns clicks into choices."""

    picked = Signal(object, object)  # face or None, edge or None

    def __init__(self, work: Work, parent=None):
        super().__init__(parent)
        self.work = work
        self.setMouseTracking(True)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.renderer = vtkRenderer()
        self.renderer.GradientBackgroundOn()
        self.renderer.SetBackground(*theme.rgb(theme.VIEW_LOW))
        self.renderer.SetBackground2(*theme.rgb(theme.VIEW_TOP))
        self.renderer.SetUseDepthPeeling(False)
        self.renderer.SetUseOIT(False)  # it leaves bright dots along softened lines
        # Depths are told apart the better the less room there is before and behind the solid.
        self.renderer.SetClippingRangeExpansion(0.08)
        lights(self.renderer)
        #: What lies on the solid has a renderer of its own, over the same depths.
        self.marks = vtkRenderer()
        self.marks.SetLayer(1)
        self.marks.SetPreserveDepthBuffer(True)
        self.marks.SetUseOIT(False)
        self.marks.SetActiveCamera(self.renderer.GetActiveCamera())
        lights(self.marks)
        window = self.GetRenderWindow()
        window.SetMultiSamples(4)
        window.SetNumberOfLayers(2)
        window.AddRenderer(self.renderer)
        window.AddRenderer(self.marks)
        window.GetInteractor().SetInteractorStyle(vtkInteractorStyleUser())
        self.Initialize()
        self.glass = False
        self.wire = False
        self.cut_plane: vtkPlane | None = None
        self.showing_original = False
        self.cut_open = False
        self.skin = Skin(self.renderer)
        paper = 0.5 * (np.array(theme.rgb(theme.VIEW_LOW)) + np.array(theme.rgb(theme.VIEW_TOP)))
        self.still = Still(window, self.renderer, self.marks, paper)
        #: The colours of the faces (n,4) as they should be seen now.
        self._colours: Ints | None = None
        self._patches: tuple[Marks, dict[str, list[Face]]] = (Marks(), {})
        #: Goes up whenever something of the solid but its colours is another.
        self._laid = 0
        self._layers: dict[str, list[vtkActor]] = {name: [] for name in _LAYERS}
        self._picture: scene.Picture | None = None
        #: The model and what was hidden of it when the picture was made, and its edges as lines.
        self._pictured: tuple[Model, set[Body]] | None = None
        self._edge_lines: vtkPolyData | None = None
        self._hover: Face | Edge | None = None
        self._lit: set[Face] = set()
        self._lit_edges: list[Edge] = []
        self._press: QPoint | None = None
        self._band = QRubberBand(QRubberBand.Shape.Rectangle, self)
        self._screen = None
        self._last: QPoint | None = None
        self._focus: set[Face] | None = None
        #: Whether colours or marks have changed since they were last drawn, and the ghost that is drawn.
        self._stale = False
        self._ghost: Change | None = None
        self._shown: tuple[Edge, ...] = ()
        self._drawn = QTimer(self, singleShot=True, interval=0)  # once all that waits has been heard
        self._drawn.timeout.connect(self._render_now)
        self._calm = QTimer(self, singleShot=True, interval=_STILL)
        self._calm.timeout.connect(self._render_softly)
        self._ahead = QTimer(self, singleShot=True, interval=100)
        self._ahead.timeout.connect(self._make_ready)
        window.AddObserver("StartEvent", self._begin)
        self.handle = Handle(self)
        self.stroke = StrokeHand(self)
        self.flags = Flags(self)
        self.deviation = DeviationMap(self)
        work.proposal_changed.connect(self.handle.draw)
        work.proposal_changed.connect(self.stroke.draw)
        for changed in (work.model_changed, work.ledger_changed, work.proposal_changed, work.station_changed):
            changed.connect(self.flags.draw)
        work.model_changed.connect(self.rebuild)
        work.selection_changed.connect(self.recolour)
        work.proposal_changed.connect(self._draw_proposal)
        work.mesh_changed.connect(self._draw_mesh)
        work.station_changed.connect(self.rebuild)

    # ---- drawing

    def redraw(self) -> None:
        """Draw soon; several requests in one turn become one."""
        if not self._drawn.isActive():
            self._drawn.start()

    def paintEvent(self, event) -> None:
        """Exposed, moved or grown, several times at once as a rule: one picture does for all."""
        self.redraw()

    def _render_now(self) -> None:
        if self.isVisible():
            self.marks.SetUseFXAA(False)
            self.GetRenderWindow().Render()
            self._drawn.stop()  # marks that were put on only now asked for another
            self._ahead.start()
            if not self.GetRenderWindow().GetMultiSamples():
                self._calm.start()

    def _make_ready(self) -> None:
        """Begin with what picking needs."""
        if self._picture is not None:
            self._picture.make_ready()

    def _render_softly(self) -> None:
        """The picture once more now that it is still, its edges softened and what is faint really seen through: what
        costs too much while something moves. What is behind each pixel is found out for what comes next."""
        if not self.isVisible() or self._drawn.isActive():
            return
        if self.still.pales:
            self.still.forget()
        self.marks.SetUseFXAA(True)
        self.GetRenderWindow().Render()
        if not self._covered() and not self.wire:
            black = [*self._edge_actors("#000000"), *self._section("#000000")]
            for actor in black:
                self._clip(actor)
            self.still.number(self.skin, black, self.cut_plane, self._outside_only())

    def _begin(self, *_: object) -> None:
        """The window is about to draw: the solid afresh, or its kept picture in the present colours."""
        if self.still.busy:
            return
        if self._stale:
            self._repaint()
        if self._colours is None:
            return
        key = (self._laid, self.renderer.GetActiveCamera().GetMTime(), self.GetRenderWindow().GetSize())
        ghost = self.work.proposal.ghost if self.work.proposal is not None else None
        going = self._picture.faces.numbers(ghost.gone if ghost is not None else ())
        kept = self.still.fits(key, self._colours, going)
        self.renderer.SetDraw(not kept)
        if kept:
            self.still.tint(self._colours)
            return
        self.still.wanted = not self.GetRenderWindow().GetMultiSamples()
        self.still.expect(key, self._colours)
        self.skin.paint(self._colours)
        self.skin.cut(self.cut_plane, self._outside_only())
        self.skin.visible(not self._covered())

    def _outside_only(self) -> bool:
        """Whether nobody sees a face from behind."""
        pic = self._picture
        return self.cut_plane is not None or (pic is not None and pic.closed and len(pic.triangles) > _MANY)

    def _put(self, layer: str, actors: list[vtkActor]) -> None:
        on = self.renderer if layer in _SOLID else self.marks
        if layer in _SOLID and (actors or self._layers[layer]):
            self._laid += 1
        for old in self._layers[layer]:
            on.RemoveActor(old)
        self._layers[layer] = actors
        for new in actors:
            on.AddActor(new)
            if layer in ("section", "edges", "shared", "chosen"):
                self._clip(new)
        self.redraw()

    def put_layer(self, layer: str, actors: list[vtkActor]) -> None:
        """Draw these in a layer, in place of what was there."""
        if actors or self._layers[layer]:
            self._put(layer, actors)

    def project_points(self, points: Floats) -> Floats:
        """World points (n,3) in pixels of the widget, and depth (n,3)."""
        return self._project(points)

    def _clip(self, actor: vtkActor) -> None:
        if self.cut_plane is not None:
            actor.GetMapper().AddClippingPlane(self.cut_plane)

    @property
    def picking_points(self) -> bool:
        """Whether a click is a point now, not a choice."""
        return self.work.asking.wants_points

    @property
    def diagonal(self) -> float:
        return self._picture.diagonal if self._picture is not None else 1.0

    def shown_model(self):
        ledger = self.work.ledger
        if ledger is None:
            return None
        return ledger.base if self.showing_original else ledger.model

    def rebuild(self) -> None:
        """Draw the model afresh."""
        model = self.shown_model()
        if model is None:
            for layer in _LAYERS:
                self._put(layer, [])
            self.skin.show(None)
            self._picture = self._pictured = self._colours = None
            self.still.forget()
            self.renderer.DrawOn()
            return
        self._hover = None
        # Moving to another station changes what lies on the solid, not the solid.
        if self._picture is None or self._pictured != (model, set(self.work.hidden)):
            pic = self._picture = scene.picture(model, self.work.hidden)
            self._pictured = (model, set(self.work.hidden))
            self._edge_lines = pic.outlines() if len(pic.edges) else None
            # Small pictures are softened sample by sample, in every frame.
            self.GetRenderWindow().SetMultiSamples(0 if len(pic.triangles) > _MANY else 4)
        self._put("edges", self._edge_actors(theme.INK))
        self._put("section", self._section(theme.SECTION))
        self._draw_shared()
        self.recolour()
        self.deviation.draw()
        self._draw_mesh()
        self._draw_proposal()

    def _edge_actors(self, colour: str) -> list[vtkActor]:
        lines = self._edge_lines
        return [scene.actor(lines, colour, width=1.2, lit=False, lift=1.0)] if lines is not None else []

    def _section(self, colour: str) -> list[vtkActor]:
        pic = self._picture
        if self.cut_plane is None or not len(pic.triangles):
            return []
        return [scene.section_fill(scene.surface_data(pic.points, pic.triangles), colour)]

    def _draw_shared(self) -> None:
        model = self.shown_model()
        shared = [f for f in model.shared() if self._picture is not None and self._picture.faces.number(f) is not None]
        if not shared or self.work.station not in ("Bond", "Carve", "Deliver"):
            self._put("shared", [])
            return
        lines = [run for f in shared for run in scene.hatch(f, self.diagonal / 110.0)]
        outline = scene.edge_runs(list(dict.fromkeys(e for f in shared for e in f.edges())))
        self._put(
            "shared",
            [
                scene.actor(scene.line_data(lines), theme.VERDIGRIS, width=1.3, lit=False, lift=1.5),
                scene.actor(scene.line_data(outline), theme.VERDIGRIS, width=2.5, lit=False, lift=2.0),
            ],
        )

    def _see_through(self) -> bool:
        shared = self.work.station == "Bond" and bool(self.shown_model() and self.shown_model().shared())
        return self.glass or shared or self.wire

    def _paint(self) -> Ints:
        """Red, green, blue, alpha of every face (n,4), from what is chosen, lit, hovered, going."""
        work, pic = self.work, self._picture

        def rows(faces: Iterable[object]) -> Ints:
            return np.array(pic.faces.numbers(faces), dtype=np.int64)

        chosen, lit = rows(work.faces), rows(self._lit)
        ghost = work.proposal.ghost if work.proposal is not None else None
        table = pic.colours.copy()
        for stone, faces in self._patched().items():
            table[rows(faces), :3] = 255.0 * np.array(theme.rgb(stone))
        for some, colour, share in ((lit, theme.OCHRE, 0.75), (chosen, theme.VERDIGRIS, 0.8)):
            table[some, :3] = (1.0 - share) * table[some, :3] + share * 255.0 * np.array(theme.rgb(colour))
        hovered = rows([self._hover])
        table[hovered, :3] = 0.72 * table[hovered, :3] + 0.28 * 255.0
        faint, spared = np.full(len(table), 255.0), np.zeros(len(table), dtype=bool)
        spared[chosen] = True
        if self._see_through() or (ghost is not None and work.proposal.kind == "carve"):
            faint[~spared] = 85.0
        faint[rows(ghost.gone if ghost is not None else ())] = 85.0
        if self._focus is not None:
            faded = ~spared
            faded[rows(self._focus)] = False
            faint[faded] = np.minimum(faint[faded], 60.0)
        if self.wire:
            spared[lit] = True
            faint[~spared] = 14.0
        table[:, 3] = faint
        return np.clip(table, 0, 255).astype(np.uint8)

    def _patched(self) -> dict[str, list[Face]]:
        """The faces that are of patches of triangles, by colour: patches side by side differ."""
        ledger = self.work.ledger
        if ledger is None or self.showing_original:
            return {}
        marks = ledger.state.marks
        if self._patches[0] is not marks:
            self._patches = marks, scene.stones_of(ledger.model, marks.all("patch"))
        return self._patches[1]

    def recolour(self) -> None:
        """Draw the faces in their present colours, soon: several requests in one turn become one."""
        self._stale = True
        self.redraw()

    def _repaint(self) -> None:
        """The present colours of the faces; marks for edges and outlines."""
        self._stale = False
        pic, work = self._picture, self.work
        if pic is None:
            return
        self.skin.show(pic)
        self._colours = self._paint()
        marks = []
        if work.edges:
            marks.append(
                scene.actor(
                    scene.line_data(scene.edge_runs(work.edges)), theme.VERDIGRIS, width=4.0, lit=False, lift=3.0
                )
            )
        if isinstance(self._hover, Edge):
            marks.append(
                scene.actor(scene.line_data(scene.edge_runs([self._hover])), theme.INK, width=3.0, lit=False, lift=3.0)
            )
        # Chosen faces get a heavy outline too: colour alone says nothing.
        outline = list(dict.fromkeys(e for f in work.faces for e in f.edges()))
        if outline:
            marks.append(
                scene.actor(pic.marked(outline, self.diagonal / 500.0), theme.VERDIGRIS, width=3.0, lit=False, lift=2.0)
            )
        self._put("chosen", marks)
        lit = (
            [
                scene.actor(
                    pic.marked(self._lit_edges, self.diagonal / 500.0), theme.OCHRE, width=3.5, lit=False, lift=2.5
                )
            ]
            if self._lit_edges
            else []
        )
        self._put("lit", lit)
        self._draw_points()

    def _draw_points(self) -> None:
        runs = []
        r = self.diagonal / 90.0
        for p in self.work.points:
            for axis in np.eye(3):
                runs.append(np.array([np.array(p) - r * axis, np.array(p) + r * axis]))
        self._put(
            "points",
            [scene.actor(scene.line_data(runs), theme.VERDIGRIS, width=3.0, lit=False, lift=5.0)] if runs else [],
        )

    def light(self, faces: set[Face], edges: list[Edge]) -> None:
        """Light up faces and edges (the Sieve does, while its handle is dragged)."""
        if faces != self._lit or edges != self._lit_edges:
            self._lit, self._lit_edges = faces, edges
            self.recolour()

    def _draw_proposal(self) -> None:
        p = self.work.proposal
        ghost = p.ghost if p is not None else None
        shown = p.outcome.shown if p is not None and p.outcome is not None else ()
        if ghost is self._ghost and shown == self._shown:
            return
        self._ghost, self._shown = ghost, shown
        self.recolour()
        if shown and self._picture is not None:  # nothing changes; what it is about is marked
            runs = scene.edge_runs(list(shown))
            self._put("ghost", [])
            self._put("gone", [scene.actor(scene.line_data(runs), theme.MADDER, width=2.5, lit=False, lift=4.0)])
            return
        if ghost is None or self._picture is None:
            self._put("ghost", [])
            self._put("gone", [])
            return
        actors = []
        if len(p.ghost.triangles):
            actors.append(
                scene.actor(
                    scene.surface_data(p.ghost.points, p.ghost.triangles), theme.VERDIGRIS, opacity=0.62, lift=2.0
                )
            )
        old = {e for face in self.work.model.faces_but_of(p.outcome.model) for e in face.edges()}
        new = dict.fromkeys(e for face in p.outcome.model.faces_but_of(self.work.model) for e in face.edges())
        fresh = [e for e in new if e not in old and _is_new(e, self._picture)]
        if fresh:
            actors.append(
                scene.actor(scene.line_data(scene.edge_runs(fresh)), theme.VERDIGRIS, width=2.5, lit=False, lift=4.0)
            )
        self._put("ghost", actors)
        going = list(dict.fromkeys(e for f in p.ghost.gone for e in f.edges()))
        dashes = scene.dashed(scene.edge_runs(going), self.diagonal / 180.0)
        self._put(
            "gone",
            [scene.actor(scene.line_data(dashes), theme.MADDER, width=2.0, lit=False, lift=3.5)] if dashes else [],
        )

    def _draw_mesh(self) -> None:
        mesh = self.work.mesh
        show = self._mesh_shown()
        self._put("size", [])  # it stood on what was there before
        self._laid += 1
        for layer in ("section", "edges"):
            for a in self._layers[layer]:
                a.SetVisibility(not self._covered())
        if not show:
            self._put("mesh", [])
            self._put("worst", [])
            return
        self._put("mesh", self._mesh_actors(mesh))
        failed = [edge_points(e)[1] for f in mesh.failures if f.face is not None for e in f.face.edges()]
        runs = failed or _runs(mesh, mesh.quality.worst(12))  # what has failed matters more than what is poor
        self._put("worst", [scene.actor(scene.line_data(runs), theme.MADDER, width=2.5, lit=False, lift=6.0)])

    def _covered(self) -> bool:
        """Whether something else is shown in place of the solid."""
        return self._mesh_shown() or self.deviation.shown

    def _mesh_shown(self) -> bool:
        there = self.work.mesh is not None and self.work.station == "Prove"
        return there and not self.showing_original and not self.deviation.shown

    def _mesh_actors(self, mesh: Mesh) -> list[vtkActor]:
        """Elements body by body; cut open, whole elements on the near side are left away."""
        if self.cut_open:
            centre = mesh.points[mesh.corners].mean(axis=1)
            middle = 0.5 * (mesh.points.min(axis=0) + mesh.points.max(axis=0))
            toward = np.array(self.renderer.GetActiveCamera().GetDirectionOfProjection())
            axis = np.eye(3)[int(np.argmax(np.abs(toward)))] * np.sign(toward[int(np.argmax(np.abs(toward)))])
            keep = (centre - middle) @ axis > -0.05 * self.diagonal
        else:
            keep = np.ones(len(mesh.elements), dtype=bool)
        out = []
        for b in range(len(mesh.bodies)):
            if mesh.bodies[b] in self.work.hidden:
                continue
            rows = np.flatnonzero(keep & (mesh.body == b))
            if not len(rows):
                continue
            a = scene.actor(scene.surface_data(mesh.points, mesh.skin(rows)), theme.STONES[b % len(theme.STONES)][1])
            a.GetProperty().SetInterpolationToFlat()
            a.GetProperty().EdgeVisibilityOn()
            a.GetProperty().SetEdgeColor(*theme.rgb("#6C665B"))
            a.GetProperty().SetLineWidth(0.5)
            out.append(a)
        return out


def _is_new(edge: Edge, pic: scene.Picture) -> bool:
    """Whether an edge lies where no edge was: one that was only trimmed does not count."""
    middle = edge.at(0.5)
    scale = float(np.ptp(pic.edge_points, axis=0).max()) if len(pic.edge_points) else 1.0
    same = pic.edge_of[1:] == pic.edge_of[:-1]
    a, b = pic.edge_points[:-1][same], pic.edge_points[1:][same]
    if not len(a):
        return True  # nothing was there
    d = b - a
    t = np.clip(((middle - a) * d).sum(axis=1) / np.maximum((d**2).sum(axis=1), 1e-300), 0.0, 1.0)
    return bool(np.linalg.norm(a + t[:, None] * d - middle, axis=1).min() > 1e-4 * scale)


def _runs(mesh: Mesh, rows: Ints) -> list[Floats]:
    """The edges of some elements as runs of two points."""
    return [mesh.points[mesh.elements[t][pair]] for t in rows for pair in mesh.shape.edges]
