"""The handle of a number in the view: an arrow that is dragged along its way, and the number follows."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import TYPE_CHECKING, Any

import numpy as np
from PySide6.QtCore import QPoint

from lithon.app import scene, theme
from lithon.arrays import Floats, unit
from lithon.brep.analysis.across import straight_across
from lithon.brep.measures import face_centroid
from lithon.brep.topology import Edge, Face, Model, rough_box
from lithon.errors import LithonError
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.operations.form import Form
from lithon.operations.parameters import CutAt, Number, Things
from lithon.operations.places import Cut
from lithon.operations.strokes import Stroke

if TYPE_CHECKING:
    from lithon.app.view import SolidView

#: How near (pixels) to the arrow a press takes it, and its length as a share of the diagonal.
_NEAR, _LONG = 12.0, 0.14
#: Of two faces whose normals add up to less, one is folded back onto the other; so far beside their edge, as a share of
#: its length, it is seen where they are.
_FOLDED, _ASIDE = 1e-3, 1e-3


@dataclass(frozen=True, slots=True)
class Grip:
    """A number that can be dragged: of which parameter, its value, where its arrow stands (3,) and points (3,), and
    what the parameter becomes with another number."""

    key: str
    amount: float
    start: Floats
    way: Floats
    becomes: Callable[[float], Any]


def grip_of(form: Form, model: Model) -> Grip | None:
    """The number of a form that an arrow stands for: that of a cut, or the one that its operation names; none where a
    line that was drawn takes its place."""
    if any(isinstance(value, Stroke) for value in form.values.values()):
        return None
    for key, parameter in form.parameters.items():
        value = form.values.get(key)
        if isinstance(parameter, CutAt) and isinstance(value, Cut) and value.amount is not None:
            try:
                surface = value.on(model)
            except LithonError:
                return None
            middle = rough_box(model.bodies).mean(axis=0)
            if not isinstance(surface, Plane):
                return None
            return Grip(key, value.amount, surface.project(middle[None])[0], surface.frame.z, value.moved_to)
    key = form.row.operation.dragged
    parameter = form.parameters.get(key)
    if not isinstance(parameter, Number):
        return None
    amount, (start, way) = form.values.get(key), _stands(form, model)
    if start is None or way is None:
        return None
    return Grip(key, float(amount or 0.0), start, way, parameter.take)


def _stands(form: Form, model: Model) -> tuple[Floats | None, Floats | None]:
    """Where the arrow of a number stands: on the first thing that the form has, pointing out of the solid, or away from
    the axis of what is round."""
    for key, parameter in form.parameters.items():
        value = form.values.get(key)
        if not isinstance(parameter, Things) or value is None or value.empty:
            continue
        try:
            things = value.on(model)
        except LithonError:
            return None, None
        first = things[0]
        if isinstance(first, Face):
            at = first.surface.project(face_centroid(first)[None])[0]
            owners = model.owners(first)
            if form.row.operation.dragged == "radius" or not owners:
                return at, first.surface.normal(at[None])[0]
            return at, owners[0].outward(first, at[None])[0]
        if isinstance(first, Edge):
            at = first.at(0.5)
            beside = [(b, f) for b in model.bodies for f in b.faces if first in set(f.edges())]
            way = np.sum([b.outward(f, at[None])[0] for b, f in beside], axis=0) if beside else np.zeros(3)
            if np.linalg.norm(way) < _FOLDED:  # back onto each other: away from where both faces are
                near = [straight_across(first, f, _ASIDE * first.length) for _, f in beside]
                way = np.sum([at - p for p in near if p is not None], axis=0)
            return (at, unit(way)) if np.any(way) else (None, None)
    return None, None


class Handle:
    """Shown while an operation with a number to drag is proposed; dragged with the left hand."""

    def __init__(self, view: SolidView):
        self.view = view
        self.ends: Floats | None = None
        #: While it is dragged: where the hand took it, and the number then.
        self._from: tuple[QPoint, float] | None = None

    @property
    def grip(self) -> Grip | None:
        """What can be dragged now."""
        p, model = self.view.work.proposal, self.view.work.model
        if p is None or p.form.waiting or model is None:
            return None
        return grip_of(p.form, model)

    def draw(self) -> None:
        """Put the arrow where its number is now."""
        grip = self.grip
        self.ends = None
        runs = []
        if grip is not None:
            tip = grip.start + _LONG * self.view.diagonal * grip.way
            self.ends = np.array([grip.start, tip])
            side = Frame.of(grip.start, grip.way).x
            back = 0.25 * (grip.start - tip)
            wings = [tip + back + 0.4 * s * np.linalg.norm(back) * side for s in (1.0, -1.0)]
            runs = [self.ends, np.array([wings[0], tip, wings[1]])]
        actors = [scene.actor(scene.line_data(runs), theme.INK, width=3.0, lit=False, lift=6.0)] if runs else []
        self.view.put_layer("handle", actors)

    def press(self, here: QPoint) -> bool:
        """Take the arrow, where the hand is on it."""
        grip = self.grip
        if grip is None or self.ends is None:
            return False
        a, b = self.view.project_points(self.ends)[:, :2]
        d = b - a
        t = float(np.clip((np.array([here.x(), here.y()]) - a) @ d / max(float(d @ d), 1e-9), 0.0, 1.0))
        if float(np.linalg.norm(a + t * d - [here.x(), here.y()])) > _NEAR:
            return False
        self._from = here, grip.amount
        return True

    def drag(self, here: QPoint) -> bool:
        """Change the number with the hand; by steps of a twentieth of an element."""
        grip = self.grip
        if self._from is None:
            return False
        if grip is None or self.ends is None or self.view.work.ledger is None:
            return True
        a, b = self.view.project_points(self.ends)[:, :2]
        start, amount = self._from
        d = b - a
        moved = np.array([here.x() - start.x(), here.y() - start.y()], dtype=float)
        length = float(np.linalg.norm(self.ends[1] - self.ends[0]))
        far = float(moved @ d) / max(float(d @ d), 1.0) * length
        step = 0.05 * self.view.work.ledger.size
        value = float(f"{round((amount + far) / step) * step:.7g}")
        if value != grip.amount:
            try:
                fresh = grip.becomes(value)
            except LithonError:
                return True  # beyond what it may be
            self.view.work.asking.put(grip.key, fresh)
        return True

    def release(self) -> bool:
        """Let go. Returns whether it was held."""
        held, self._from = self._from is not None, None
        return held
