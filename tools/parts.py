"""Large parts for measuring: plates with thousands of faces."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from lithon.brep.topology import Body, FaceUse, Loop, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Profile, Round, face_toward, prism, rectangle, sink

_THICK = 8.0


def perforated(n: int) -> Model:
    """A plate with n round holes through it: n + 6 faces, rings only."""
    return _plate(n, 10.0, lambda x, y, share: Round((x, y), 1.0 + 2.0 * share), _THICK, "perforated plate")


def pocketed(n: int) -> Model:
    """A plate with n pockets with rounded corners: 9 n + 6 faces with edges and vertices."""
    return _plate(n, 12.0, lambda x, y, share: rectangle(x - 3, y - 4, x + 3, y + 4, 1.0), 3.5, "pocketed plate")


def _plate(n: int, pitch: float, outline: Callable[[float, float, float], Profile], depth: float, name: str) -> Model:
    side = int(np.ceil(np.sqrt(n)))
    plate = prism(rectangle(0, 0, pitch * side, pitch * side), _THICK, name=name)
    top, bottom = face_toward(plate, (0, 0, 1)), face_toward(plate, (0, 0, -1))
    up = Frame.of((0, 0, _THICK), (0, 0, 1), (1, 0, 0))
    # One sinking at a time would copy the plate n times; the loops are gathered instead.
    tops: list[Loop] = []
    bottoms: list[Loop] = []
    walls: list[FaceUse] = []
    for k in range(n):
        at = outline(pitch * (k % side + 0.5), pitch * (k // side + 0.5), k / n)
        one = sink(plate, top, up, at, depth, bottom if depth == _THICK else None)
        tops.append(face_toward(one, (0, 0, 1), (0, 0, _THICK)).loops[-1])
        if depth == _THICK:
            bottoms.append(face_toward(one, (0, 0, -1)).loops[-1])
        walls += one.uses[len(plate.uses) :]
    grown = {top: tops, bottom: bottoms}
    uses = [FaceUse(u.face.with_loops((*u.face.loops, *grown.get(u.face, ()))), u.forward) for u in plate.uses]
    return Model.of([Body((*uses, *walls), name)])


__all__ = ["perforated", "pocketed"]
