"""The handle of a cut in the view: an arrow on the plane that is dragged along its normal, and the number follows."""

from __future__ import annotations

from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPoint

from lithon.app import scene, theme
from lithon.arrays import Floats
from lithon.brep.topology import rough_box
from lithon.errors import LithonError
from lithon.geometry.surfaces import Plane
from lithon.operations.parameters import CutAt
from lithon.operations.places import Cut

if TYPE_CHECKING:
    from lithon.app.view import SolidView

#: How near (pixels) to the arrow a press takes it, and its length as a share of the diagonal.
_NEAR, _LONG = 12.0, 0.14


class Handle:
    """Shown while a cut with a number is proposed; dragged with the left hand."""

    def __init__(self, view: SolidView):
        self.view = view
        self.key = ""
        self.ends: Floats | None = None
        #: While it is dragged: where the hand took it, and the number then.
        self._from: tuple[QPoint, float] | None = None

    @property
    def cut(self) -> Cut | None:
        """The cut that is proposed, where one number moves it."""
        p = self.view.work.proposal
        if p is None or p.form.waiting:
            return None
        for key, parameter in p.form.parameters.items():
            value = p.form.values.get(key)
            if isinstance(parameter, CutAt) and isinstance(value, Cut) and value.amount is not None:
                self.key = key
                return value
        return None

    def draw(self) -> None:
        """Put the arrow where the cut is now."""
        cut, model = self.cut, self.view.work.model
        self.ends = None
        runs = []
        if cut is not None and model is not None:
            try:
                surface = cut.on(model)
            except LithonError:
                surface = None
            if isinstance(surface, Plane):
                start = surface.project(rough_box(model.bodies).mean(axis=0)[None])[0]
                tip = start + _LONG * self.view.diagonal * surface.frame.z
                self.ends = np.stack([start, tip])
                back = 0.25 * (start - tip)
                wings = [tip + back + 0.4 * s * np.linalg.norm(back) * surface.frame.x for s in (1.0, -1.0)]
                runs = [self.ends, np.stack([wings[0], tip, wings[1]])]
        actors = [scene.actor(scene.line_data(runs), theme.INK, width=3.0, lit=False, lift=6.0)] if runs else []
        self.view.put_layer("handle", actors)

    def press(self, here: QPoint) -> bool:
        """Take the arrow, where the hand is on it."""
        cut = self.cut
        if cut is None or cut.amount is None or self.ends is None:
            return False
        a, b = self.view.project_points(self.ends)[:, :2]
        d = b - a
        t = float(np.clip((np.array([here.x(), here.y()]) - a) @ d / max(float(d @ d), 1e-9), 0.0, 1.0))
        if float(np.linalg.norm(a + t * d - [here.x(), here.y()])) > _NEAR:
            return False
        self._from = here, cut.amount
        return True

    def drag(self, here: QPoint) -> bool:
        """Move the cut with the hand; by steps of a twentieth of an element."""
        cut = self.cut
        if self._from is None:
            return False
        if cut is None or self.ends is None or self.view.work.ledger is None:
            return True
        a, b = self.view.project_points(self.ends)[:, :2]
        start, amount = self._from
        d = b - a
        moved = np.array([here.x() - start.x(), here.y() - start.y()], dtype=float)
        length = float(np.linalg.norm(self.ends[1] - self.ends[0]))
        far = float(moved @ d) / max(float(d @ d), 1.0) * length
        step = 0.05 * self.view.work.ledger.size
        value = float(f"{round((amount + far) / step) * step:.7g}")
        if value != cut.amount:
            self.view.work.asking.put(self.key, cut.moved_to(value))
        return True

    def release(self) -> bool:
        """Let go. Returns whether it was held."""
        held, self._from = self._from is not None, None
        return held
