"""A line drawn over a body with the left hand, where a form asks for one."""

from __future__ import annotations

from contextlib import suppress
from typing import TYPE_CHECKING

import numpy as np
from PySide6.QtCore import QPoint

from lithon.app import scene, theme
from lithon.arrays import Floats
from lithon.errors import BadFile
from lithon.operations.strokes import Over, Stroke

if TYPE_CHECKING:
    from lithon.app.view import SolidView

#: A place is noted each time the hand has gone so far (pixels).
_STEP = 4


class StrokeHand:
    """What is drawn while a form waits for a line, and the line that it has."""

    def __init__(self, view: SolidView):
        self.view = view
        self.points: list[Floats] = []
        self._key = ""
        self._last: QPoint | None = None

    @property
    def key(self) -> str:
        """The parameter that a line is drawn for now; '' for none."""
        p = self.view.work.proposal
        waits = p is not None and isinstance(p.form.parameters.get(p.form.waiting), Over)
        return p.form.waiting if p is not None and waits else ""

    def draw(self) -> None:
        """Put the line where it is."""
        p = self.view.work.proposal
        points = np.array(self.points)
        if not self.points and p is not None:
            has = (v for v in p.form.values.values() if isinstance(v, Stroke))
            points = np.array(next((v.points for v in has), []))
        ink = (
            [scene.actor(scene.line_data([points]), theme.INK, width=3.0, lit=False, lift=6.0)]
            if len(points) > 1
            else []
        )
        self.view.put_layer("stroke", ink)

    def press(self, here: QPoint) -> bool:
        """Begin a line, where one is asked for and the hand is on a body."""
        if not self.key:
            return False
        self._key, self.points, self._last = self.key, [], None
        self._note(here)
        return self._last is not None

    def drag(self, here: QPoint) -> bool:
        """Go on with it; what is beside the body is left out."""
        if self._last is None:
            return False
        if (here - self._last).manhattanLength() >= _STEP:
            self._note(here)
            self.draw()
        return True

    def release(self) -> bool:
        """The line is drawn: into the form with it. Returns whether there was one."""
        if self._last is None:
            return False
        points = [tuple(float(x) for x in p) for p in self.points]
        self.points, self._last = [], None
        if self.key == self._key:  # else what asked for it has been dropped meanwhile
            with suppress(BadFile):  # a click is no line: it may be drawn again
                self.view.work.asking.put(self._key, Stroke.of(points))
        self.draw()
        return True

    def _note(self, here: QPoint) -> None:
        place = self.view.at(here.x(), here.y())[2]
        if place is not None:
            self.points.append(place)
            self._last = here
