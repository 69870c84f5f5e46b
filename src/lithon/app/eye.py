"""Where the eye is: fitting, looking along and straight at, what is in focus, cutting away."""

from __future__ import annotations

import numpy as np
from PySide6.QtCore import QPoint
from vtkmodules.vtkCommonDataModel import vtkPlane

from lithon.app import scene
from lithon.arrays import Floats, cross_product
from lithon.brep.topology import Edge, Face


class Eye:
    """The camera's half of the view."""

    def fit(self, points: Floats | None = None, spare: float = 1.15) -> None:
        """Bring the whole solid, or some points, into view without turning."""
        p = points if points is not None else (self._picture.points if self._picture is not None else None)
        if p is None or not len(p):
            return
        camera = self.renderer.GetActiveCamera()
        middle = 0.5 * (p.min(axis=0) + p.max(axis=0))
        forward = np.array(camera.GetDirectionOfProjection())
        up = np.array(camera.GetViewUp())
        right = cross_product(forward, up)
        right /= np.linalg.norm(right)
        up = cross_product(right, forward)
        w, h = max(1, self.width()), max(1, self.height())
        tangent = np.tan(np.radians(camera.GetViewAngle()) / 2.0)
        q = p - middle
        depth = q @ forward
        need = max(
            float((np.abs(q @ up) / tangent - depth).max()),
            float((np.abs(q @ right) / (tangent * w / h) - depth).max()),
        )
        distance = max(need * spare, 1e-6 * self.diagonal + 1e-9)
        camera.SetFocalPoint(*middle)
        camera.SetPosition(*(middle - forward * distance))
        self._range()

    def _range(self) -> None:
        self.renderer.ResetCameraClippingRange()
        self.redraw()

    def look_along(self, direction: Floats, up: Floats) -> None:
        camera = self.renderer.GetActiveCamera()
        camera.SetViewAngle(24.0)
        camera.SetFocalPoint(0.0, 0.0, 0.0)
        camera.SetPosition(*(-np.asarray(direction)))
        camera.SetViewUp(*up)
        self.fit()

    def look_from_front(self) -> None:
        """The first look at a solid: from the front, a little from the right and above."""
        self._focus = None
        self.rebuild()
        self.look_along(np.array([-0.52, 0.72, -0.46]), np.array([0.0, 0.0, 1.0]))

    def look_straight(self, face: Face) -> None:
        """Look straight at a face."""
        at = scene.face_mesh(face).points.mean(axis=0)[None]
        body = scene.body_of_face(self.shown_model(), face)
        normal = (body.outward(face, at) if body is not None else face.normal(at))[0]
        up = np.array([0.0, 0.0, 1.0]) if abs(normal[2]) < 0.9 else np.array([0.0, 1.0, 0.0])
        self.look_along(-normal, up)

    def show_only(self, faces: list[Face], edges: list[Edge] | None = None) -> None:
        """Fly to faces or edges and let the rest fade."""
        runs = [scene.face_mesh(f).points for f in faces] + scene.edge_runs(edges or [])
        if not runs:
            return
        self._focus = set(faces) if faces else None
        p = np.concatenate(runs)
        spare = 0.10 * self.diagonal
        middle = 0.5 * (p.min(axis=0) + p.max(axis=0))
        around = np.vstack([p, middle + spare * np.vstack([np.eye(3), -np.eye(3)])])
        self.recolour()
        self.fit(around, spare=1.6)

    def unfocus(self) -> None:
        if self._focus is not None:
            self._focus = None
            self.recolour()

    def hold_original(self, on: bool) -> None:
        if self.work.ledger is not None and on != self.showing_original:
            self.showing_original = on
            self.rebuild()

    def toggle_cut(self, face: Face | None = None) -> None:
        """Cut away what is before a plane face, or before the middle of the solid; or show all again."""
        if self.cut_plane is not None:
            self.cut_plane = None
        else:
            self.cut_plane = vtkPlane()
            forward = np.array(self.renderer.GetActiveCamera().GetDirectionOfProjection())
            if face is not None and face.surface.kind == "plane":
                origin, normal = face.surface.frame.origin, face.surface.frame.z
                normal = normal if float(normal @ forward) > 0.0 else -normal
            else:
                p = self._picture.points
                origin, normal = 0.5 * (p.min(axis=0) + p.max(axis=0)), forward
                k = int(np.argmax(np.abs(normal)))
                normal = np.eye(3)[k] * np.sign(normal[k])
            self.cut_plane.SetOrigin(*origin)
            self.cut_plane.SetNormal(*normal)
        self.rebuild()

    def _turn(self, by: QPoint) -> None:
        camera = self.renderer.GetActiveCamera()
        camera.Azimuth(-0.4 * by.x())
        camera.Elevation(0.4 * by.y())
        camera.OrthogonalizeViewUp()
        self._range()

    def _pan(self, by: QPoint) -> None:
        camera = self.renderer.GetActiveCamera()
        forward, up = np.array(camera.GetDirectionOfProjection()), np.array(camera.GetViewUp())
        right = cross_product(forward, up)
        scale = 2.0 * camera.GetDistance() * np.tan(np.radians(camera.GetViewAngle()) / 2.0) / max(1, self.height())
        shift = scale * (-by.x() * right + by.y() * up)
        camera.SetFocalPoint(*(np.array(camera.GetFocalPoint()) + shift))
        camera.SetPosition(*(np.array(camera.GetPosition()) + shift))
        self._range()

    def wheelEvent(self, event) -> None:
        factor = 0.85 ** (event.angleDelta().y() / 120.0)
        position = event.position()
        _, ray = self._ray(position.x(), position.y())
        camera = self.renderer.GetActiveCamera()
        eye, focus = np.array(camera.GetPosition()), np.array(camera.GetFocalPoint())
        forward = np.array(camera.GetDirectionOfProjection())
        # The point under the cursor in the plane of the focus stays where it is.
        anchor = eye + ray * camera.GetDistance() / max(1e-9, float(ray @ forward))
        camera.SetPosition(*(anchor + factor * (eye - anchor)))
        camera.SetFocalPoint(*(anchor + factor * (focus - anchor)))
        self._range()
