"""What the hand does in the view: pointing, clicking, boxes, chains."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint, QRect, Qt

from lithon.app import scene, theme
from lithon.arrays import Floats, Ints
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.topology import Edge, Face, Model
from lithon.survey.features import feature_of

_NEAR = 6.0  # pixels within which an edge is meant


def smooth_chain(model: Model, edge: Edge) -> list[Edge]:
    """An edge with all that run on from it without a kink, over vertices where just one does."""
    chain = {edge: None}
    at: dict[object, list[Edge]] = {}
    for body in model.bodies:
        if edge in adjacency(body).uses:
            for e in body.edges():
                for v in (e.start, e.end):
                    if v is not None:
                        at.setdefault(v, []).append(e)
            break
    stack = [(edge, v) for v in (edge.start, edge.end) if v is not None]
    while stack:
        here, vertex = stack.pop()
        out = here.direction(0.0) if here.start is vertex else -here.direction(1.0)
        goes_on = [
            e for e in at.get(vertex, [])
            if e not in chain and float((e.direction(0.0) if e.start is vertex else -e.direction(1.0)) @ out) < -0.9998
        ]  # fmt: skip
        if len(goes_on) == 1:
            e = goes_on[0]
            chain[e] = None
            stack.append((e, e.end if e.start is vertex else e.start))
    return list(chain)


class Hand:
    """The mouse's half of the view."""

    # ---- picking

    def _ray(self, x: float, y: float) -> tuple[Floats, Floats]:
        ratio = self.devicePixelRatioF()
        ends = []
        for z in (0.0, 1.0):
            self.renderer.SetDisplayPoint(x * ratio, (self.height() - 1 - y) * ratio, z)
            self.renderer.DisplayToWorld()
            w = np.array(self.renderer.GetWorldPoint())
            ends.append(w[:3] / w[3])
        direction = ends[1] - ends[0]
        return ends[0], direction / np.linalg.norm(direction)

    def _project(self, points: Floats) -> Floats:
        """World points (n,3) to widget pixels and depth (n,3)."""
        w, h = max(1, self.width()), max(1, self.height())
        matrix = self.renderer.GetActiveCamera().GetCompositeProjectionTransformMatrix(w / h, -1.0, 1.0)
        m = np.array([[matrix.GetElement(i, j) for j in range(4)] for i in range(4)])
        q = np.c_[points, np.ones(len(points))] @ m.T
        q = q[:, :3] / q[:, 3:]
        return np.stack([(q[:, 0] + 1.0) * w / 2.0, (1.0 - q[:, 1]) * h / 2.0, q[:, 2]], axis=1)

    def at(self, x: float, y: float) -> tuple[Face | None, Edge | None, Floats | None]:
        """Face, near edge and surface point under a pixel."""
        if self._picture is None or not len(self._picture.triangles):
            return None, None, None
        face, place = self._face_at(x, y)
        start, ray = self._ray(x, y)
        seen = float((place - start) @ ray) if place is not None else np.inf
        return face, self._edge_near(x, y, start, ray, seen), place

    def _face_at(self, x: float, y: float) -> tuple[Face | None, Floats | None]:
        """The first face under a pixel and where, on the side of a cut that is shown."""
        pic = self._picture
        start, ray = self._ray(x, y)
        least, most = 0.0, np.inf
        if self.cut_plane is not None:
            way = np.array(self.cut_plane.GetNormal())
            height, slope = float((start - self.cut_plane.GetOrigin()) @ way), float(ray @ way)
            if slope > 0.0:
                least = max(0.0, -height / slope)
            elif slope < 0.0:
                most = -height / slope
        index, distance = pic.tree.first_hits(start[None], ray[None], least)
        if index[0] < 0 or distance[0] > most:
            return None, None
        return pic.faces[int(pic.owner[index[0]])], start + distance[0] * ray

    def _edge_near(self, x: float, y: float, start: Floats, ray: Floats, seen: float) -> Edge | None:
        pic = self._picture
        if not len(pic.edge_points):
            return None
        a, b, same, world_a, world_b, boxes = self._edges_on_screen()
        # One side of all boxes after the other: each leaves fewer to look at.
        close = np.flatnonzero(boxes[0] <= x)
        for side, beyond in ((1, -x), (2, y), (3, -y)):
            close = close[boxes[side][close] <= beyond]
        d = b[close] - a[close]
        t = ((np.array([x, y]) - a[close]) * d).sum(axis=1) / np.maximum((d**2).sum(axis=1), 1e-12)
        t = np.clip(t, 0.0, 1.0)
        gap = np.linalg.norm(a[close] + t[:, None] * d - [x, y], axis=1)
        for k in np.argsort(gap)[:8]:
            if gap[k] > _NEAR:
                break
            p = world_a[close[k]] + t[k] * (world_b[close[k]] - world_a[close[k]])
            if float((p - start) @ ray) < seen + 0.01 * self.diagonal:
                return pic.edges[int(same[close[k]])]
        return None

    def _edges_on_screen(self) -> tuple[Floats, Floats, Ints, Floats, Floats, Floats]:
        """Ends of all edge pieces in pixels, their edge, their ends in the world, and the boxes (4,n) within which
        a pixel is near (left, -right, top, -bottom); kept until the eye or the picture moves."""
        pic, camera = self._picture, self.renderer.GetActiveCamera()
        key = (id(pic), camera.GetMTime(), self.width(), self.height())
        if self._screen is None or self._screen[0] != key:
            screen = self._project(pic.edge_points)
            same = pic.edge_of[1:] == pic.edge_of[:-1]
            a, b = screen[:-1, :2][same], screen[1:, :2][same]
            low, high = np.minimum(a, b) - _NEAR, np.maximum(a, b) + _NEAR
            self._screen = key, (
                a, b, pic.edge_of[:-1][same], pic.edge_points[:-1][same], pic.edge_points[1:][same],
                np.ascontiguousarray(np.array([low[:, 0], -high[:, 0], low[:, 1], -high[:, 1]])),
            )  # fmt: skip
        return self._screen[1]

    def pixel_of(self, point: Floats) -> QPoint:
        """Where a world point is in the widget; for tests and for labels."""
        x, y, _ = self._project(np.asarray(point, dtype=float)[None])[0]
        return QPoint(round(float(x)), round(float(y)))

    # ---- the hand

    def mousePressEvent(self, event) -> None:
        self.setFocus()
        self._last = event.position().toPoint()
        if event.button() == Qt.MouseButton.LeftButton and (
            self.stroke.press(self._last) or self.handle.press(self._last)
        ):
            return
        self._press = self._last

    def mouseMoveEvent(self, event) -> None:
        here = event.position().toPoint()
        if self.stroke.drag(here) or self.handle.drag(here):
            self._last = here
            return
        if event.buttons() & Qt.MouseButton.RightButton and self._last is not None:
            self._turn(here - self._last)
        elif event.buttons() & Qt.MouseButton.MiddleButton and self._last is not None:
            self._pan(here - self._last)
        elif event.buttons() & Qt.MouseButton.LeftButton and self._press is not None and not self.picking_points:
            if (here - self._press).manhattanLength() >= 5:
                self._band.setGeometry(QRect(self._press, here).normalized())
                self._band.show()
        elif not event.buttons():
            self._hovered(here)
        self._last = here

    def mouseReleaseEvent(self, event) -> None:
        here = event.position().toPoint()
        if self.stroke.release() or self.handle.release():
            return
        still = self._press is not None and (here - self._press).manhattanLength() < 5
        if event.button() == Qt.MouseButton.LeftButton and still:
            self._click(here, bool(event.modifiers() & Qt.KeyboardModifier.ControlModifier))
        elif event.button() == Qt.MouseButton.LeftButton and self._band.isVisible():
            self._box(self._band.geometry(), event.modifiers())
        self._band.hide()
        self._press = None

    def _box(self, box: QRect, modifiers) -> None:
        """Faces wholly inside a box, with Alt all that it touches; with Shift also what is hidden; Ctrl
        adds them to what is chosen."""
        pic = self._picture
        if pic is None or not len(pic.triangles):
            return
        screen = self._project(pic.points)[:, :2]
        low, high = np.array([box.left(), box.top()]), np.array([box.right(), box.bottom()])
        corners = screen[pic.triangles]
        if modifiers & Qt.KeyboardModifier.AltModifier:
            hit = ((corners.min(axis=1) <= high) & (corners.max(axis=1) >= low)).all(axis=1)
            chosen = np.unique(pic.owner[hit])
        else:
            inside = ((corners >= low) & (corners <= high)).all(axis=(1, 2))
            outside = np.unique(pic.owner[~inside])
            chosen = np.setdiff1d(pic.owner, outside)
        if not modifiers & Qt.KeyboardModifier.ShiftModifier:
            chosen = np.array([k for k in chosen if self._seen(int(k))], dtype=np.int64)
        faces = [pic.faces[int(k)] for k in chosen]
        if modifiers & Qt.KeyboardModifier.ControlModifier:
            faces = [*self.work.faces, *(f for f in faces if f not in set(self.work.faces))]
        self.work.choose(faces=faces)

    def _seen(self, k: int) -> bool:
        """Whether any of a few points of a face can be seen."""
        pic = self._picture
        rows = np.flatnonzero(pic.owner == k)
        rows = rows[np.linspace(0, len(rows) - 1, min(12, len(rows))).astype(int)]
        for p in pic.points[pic.triangles[rows]].mean(axis=1):
            pixel = self._project(p[None])[0]
            face, _ = self._face_at(float(pixel[0]), float(pixel[1]))
            if face is not None and pic.faces.number(face) == k:
                return True
        return False

    def mouseDoubleClickEvent(self, event) -> None:
        """The whole chain: a feature's faces, or edges that run on smoothly."""
        if event.button() != Qt.MouseButton.LeftButton or self.picking_points:
            return
        here = event.position().toPoint()
        face, edge, _ = self.at(here.x(), here.y())
        model = self.work.model
        if edge is not None and model is not None:
            self.work.choose(edges=smooth_chain(model, edge))
        elif face is not None and model is not None:
            owners = model.owners(face)
            feature = feature_of(owners[0], face) if owners else None
            self.work.choose(faces=feature.faces if feature is not None else [face])

    def leaveEvent(self, event) -> None:
        self._hover = None
        self._put("size", [])
        self.recolour()

    def _click(self, here: QPoint, toggle: bool) -> None:
        face, edge, place = self.at(here.x(), here.y())
        if self.picking_points and place is not None:
            self.work.choose_point(tuple(float(c) for c in self._snapped(here, place)))
            return
        if face is None and edge is None:
            if not toggle:
                self.unfocus()
                self.work.choose()
            return
        if edge is not None:
            self.work.choose(edges=[edge], toggle=toggle)
        else:
            self.work.choose(faces=[face], toggle=toggle, at=place)
        self.picked.emit(face, edge)

    def _snapped(self, here: QPoint, place: Floats) -> Floats:
        """A vertex within ten pixels, else the place itself."""
        p = self._picture.vertices
        if not len(p):
            return place
        gap = np.linalg.norm(self._project(p)[:, :2] - [here.x(), here.y()], axis=1)
        depth_ok = np.linalg.norm(p - place, axis=1) < 0.2 * self.diagonal
        gap = np.where(depth_ok, gap, np.inf)
        return p[int(gap.argmin())] if gap.min() < 10.0 else place

    def _hovered(self, here: QPoint) -> None:
        face, edge, place = self.at(here.x(), here.y())
        now = edge if edge is not None else face
        if now is not self._hover:
            self._hover = now
            self.recolour()
        self._draw_size_ghost(face, place)

    def _draw_size_ghost(self, face: Face | None, place: Floats | None) -> None:
        if place is None or face is None or self.work.ledger is None or self.work.mesh is not None:
            self._put("size", [])
            return
        body = scene.body_of_face(self.shown_model(), face)
        if body is None:
            return
        corners = scene.size_tetrahedron(place, body.outward(face, place[None])[0], self.work.ledger.size)
        runs = [corners[[i, j]] for i in range(4) for j in range(i + 1, 4)]
        self._put("size", [scene.actor(scene.line_data(runs), theme.INK2, width=1.4, lit=False, lift=4.0)])
