"""The spoiled anchor: the cast anchor as a careless export leaves it, with three small bolts above it.

Its bed and the front of its lug are parted in bands, two of them splinters; some edges are nicked close to their ends.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrange.overlay import overlay
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Face, FaceUse, Model
from lithon.geometry.frames import Frame
from lithon.samples.build import Round, face_toward, prism, rectangle
from lithon.samples.cast_anchor import CastAnchor, cast_anchor
from lithon.samples.wounds import edge_nicked


@dataclass(frozen=True, slots=True)
class SpoiledAnchor:
    """bed: where the anchor's bed is parted (x, mm), the second and third a splinter apart; lug: the same along z of
    the lug's front; nick: how long the short edges are; bolt: radius and length of the bolts."""

    bed: tuple[float, ...] = (-12.0, 12.0, 12.04)
    lug: tuple[float, ...] = (22.0, 22.03)
    nick: float = 0.05
    bolt: tuple[float, float] = (3.0, 9.0)

    @property
    def bolt_volume(self) -> float:
        return float(np.pi * self.bolt[0] ** 2 * self.bolt[1])


SPOILED = SpoiledAnchor()
#: The cast anchor with larger rounds.
ROUNDER = CastAnchor(edge_round=3.0, root_round=6.0, lug_corner=9.0, chamfer=3.0, corner=14.0)


def _parted(body: Body, face: Face, axis: int, places: tuple[float, ...]) -> Body:
    for k, at in enumerate(places):
        normal = np.eye(3)[axis]
        beyond = face if not k else _beyond(body, face, axis, places[k - 1])
        flat = prism(rectangle(-201.0, -203.0, 207.0, 205.0), 1.0, Frame.of(at * normal, normal))
        made = overlay(body, Body((FaceUse(flat.faces[0]),), "line"), 1e-6)
        # Only the one face is parted; its neighbours get no more than the line's ends.
        body = body.with_uses(
            FaceUse(piece, use.forward)
            for use in body.uses
            for piece in (made.fragments[use.face] if use.face is beyond or len(made.fragments[use.face]) == 1
                          else [made.recut(use.face)])
        )  # fmt: skip
    return body


def _beyond(body: Body, face: Face, axis: int, at: float) -> Face:
    """The piece of a face that lies beyond a place."""
    pieces = [f for f in body.faces if f.surface is face.surface]
    return max(pieces, key=lambda f: min(e.at(0.5)[axis] for e in f.edges()) if f.edges() else at)


def spoiled_anchor() -> Model:
    """One body and three bolts."""
    (body,) = cast_anchor(ROUNDER).bodies
    whole = volume(body)
    body = _parted(body, face_toward(body, (0, 0, -1)), 0, SPOILED.bed)
    front = face_toward(body, (0, 1, 0), (0.0, ROUNDER.lug_width / 2, 0.0))
    body = _parted(body, front, 2, SPOILED.lug)
    long = sorted((e for e in body.edges() if e.curve.kind == "line" and e.length > 15.0), key=lambda e: -e.length)
    for edge in long[:6:2]:
        body, _ = edge_nicked(body, edge, SPOILED.nick)
    assert abs(volume(body) - whole) < 1e-9 * whole
    radius, length = SPOILED.bolt
    bolts = []
    for k, (x, y) in enumerate(((-1, -1), (-1, 1), (1, 1))):
        at = Frame.of((x * ROUNDER.bolt_x, y * ROUNDER.bolt_y, ROUNDER.thickness + 6.0), (0, 0, 1), (1, 0, 0))
        bolts.append(prism(Round((0.0, 0.0), radius), length, at, f"bolt {k + 1}"))
    return Model.of([body, *bolts])
