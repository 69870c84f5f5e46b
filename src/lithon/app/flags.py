"""Flags in the view: names of faces, references, and at what was picked the field that it went into."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from vtkmodules.vtkRenderingCore import vtkBillboardTextActor3D

from lithon.app import scene, theme
from lithon.arrays import Floats
from lithon.brep.measures import face_centroid
from lithon.brep.topology import Body, Edge, Face, Vertex, rough_box
from lithon.errors import LithonError
from lithon.geometry.frames import Frame
from lithon.operations.parameters import About, At, CutAt, Things
from lithon.operations.references import Reference

if TYPE_CHECKING:
    from lithon.app.view import SolidView

#: So many names are shown at once; the stations at which those of faces matter.
_MOST = 24
_NAMED = ("Bond", "Prove", "Deliver")


class Flags:
    """What is written into the view beside the solid."""

    def __init__(self, view: SolidView):
        self.view = view
        #: What is said and where, in the order drawn; for tests.
        self.told: list[tuple[str, Floats]] = []

    def draw(self) -> None:
        """Put everything where it is now."""
        work = self.view.work
        self.told = []
        actors: list[object] = []
        if work.ledger is not None and work.model is not None and not self.view.showing_original:
            for reference in work.ledger.state.references:
                actors += self._reference(reference)
            if work.station in _NAMED:
                self._names()
            self._fields()
        actors += [self._flag(text, at) for text, at in self.told]
        self.view.put_layer("flags", actors)

    def _reference(self, r: Reference) -> list[object]:
        """A plane as a frame, an axis as a line of dots and dashes, a point as a cross."""
        work = self.view.work
        box = rough_box(work.model.bodies) if work.model.bodies else np.array([[-10.0] * 3, [10.0] * 3])
        reach = float(np.linalg.norm(box[1] - box[0]))
        origin, way = np.array(r.origin), np.array(r.way)
        frame = Frame.of(origin, way)
        corners = frame.local(np.stack(np.meshgrid(*box.T, indexing="ij"), axis=-1).reshape(-1, 3))
        low, high = corners.min(axis=0) - 0.04 * reach, corners.max(axis=0) + 0.04 * reach
        here = origin
        if r.sort == "plane":
            ring = [(low[0], low[1]), (high[0], low[1]), (high[0], high[1]), (low[0], high[1]), (low[0], low[1])]
            line = frame.world(np.array([(x, y, 0.0) for x, y in ring]))
            runs = scene.dashed([line], reach / 60.0)
            here = self._readable(np.concatenate([line, 0.5 * (line[:-1] + line[1:])]))
        elif r.sort == "axis":
            line = frame.world(np.array([(0.0, 0.0, low[2]), (0.0, 0.0, high[2])]))
            runs, here = scene.dashed([line], reach / 36.0), self._readable(line)
        else:
            arm = 0.03 * reach
            runs = [np.array([origin - arm * e, origin + arm * e]) for e in np.eye(3)]
        self.told.append((r.name, here))
        return [scene.actor(scene.line_data(runs), theme.INK, width=1.5, lit=False, lift=3.0)]

    def _readable(self, points: Floats) -> Floats:
        """Of points (n,3), the one furthest out that is still well inside the view: the solid does not hide it."""
        width, height = max(self.view.width(), 1), max(self.view.height(), 1)
        pixels = self.view.project_points(points)[:, :2]
        off = np.abs(pixels / np.array([width, height]) - 0.5).max(axis=1)
        inside = np.where(off < 0.44, off, -off)
        return np.asarray(points[int(inside.argmax())])

    def _names(self) -> None:
        seen: dict[str, Face] = {}
        for face in self.view.work.model.faces():
            if face.label and face.label != "cut":
                seen.setdefault(face.label, face)
        for label, face in list(seen.items())[:_MOST]:
            self.told.append((label, face.surface.project(face_centroid(face)[None])[0]))

    def _fields(self) -> None:
        """Where more than one field is filled by picking, each says at its thing what it is."""
        p, model = self.view.work.proposal, self.view.work.model
        if p is None:
            return
        picked = [(k, q) for k, q in p.form.parameters.items() if isinstance(q, Things | CutAt | About | At)]
        if len(picked) < 2:
            return
        for key, parameter in picked:
            value = p.form.values.get(key)
            choice = (
                value if isinstance(parameter, Things) else getattr(value, "of", None) or getattr(value, "faces", None)
            )
            if choice is None or choice.empty:
                continue
            try:
                things = choice.on(model)
            except LithonError:
                continue
            self.told.append((parameter.title, _middle(things[0])))

    def _flag(self, text: str, at: Floats) -> object:
        out = vtkBillboardTextActor3D()
        out.SetInput(f" {text} ")
        out.SetPosition(*at.tolist())
        out.SetDisplayOffset(10, 12)
        style = out.GetTextProperty()
        style.SetFontSize(13)
        style.SetColor(*theme.rgb(theme.INK))
        style.SetBackgroundColor(*theme.rgb(theme.PANEL))
        style.SetBackgroundOpacity(0.88)
        style.SetFrame(True)
        style.SetFrameColor(*theme.rgb(theme.HAIR))
        return out


def _middle(thing: object) -> Floats:
    if isinstance(thing, Face):
        return np.asarray(thing.surface.project(face_centroid(thing)[None])[0])
    if isinstance(thing, Edge):
        return np.asarray(thing.at(0.5))
    if isinstance(thing, Vertex):
        return np.asarray(thing.point)
    assert isinstance(thing, Body)
    return np.asarray(rough_box([thing]).mean(axis=0))
