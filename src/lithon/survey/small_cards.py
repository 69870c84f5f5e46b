"""Thin walls and slots, short edges and narrow faces: what is small beside an element."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.faceted import faceted
from lithon.brep.measures import face_centroid, face_width, prepare
from lithon.brep.topology import Body, Face
from lithon.mesh.drapes import between_walls
from lithon.mesh.sizing import SizeRules
from lithon.survey.card import CLEAR, DRAPE, DRAW, FILL, NEEDLES, Finding, share, xyz
from lithon.survey.walls import Thinness, joined, slots, walls

#: Elements through a wall, at least, by default.

#: Elements through a wall, at least, by default.
_THROUGH = SizeRules(size=1.0).through


def thin_walls(body: Body, size: float) -> list[Finding]:
    """Places where the solid is thinner than an element, one card for what is about as thick and hangs together."""
    return [
        Finding(
            "thin wall",
            "costs",
            wall,
            place,
            f"wall {wall:.3g} mm thick, {share(wall, size)}",
            f"Elements shrink to about {wall / _THROUGH:.2g} mm there.",
            "clear what thins it, or mesh its mid-surface",
            body,
            faces,
            station="survey",
        )
        for wall, faces, place in joined(body, walls(body, _THROUGH * size))
    ]


def thin_slots(body: Body, size: float, known: set[Face]) -> list[Finding]:
    """Places where the solid's own sides come closer than a third of an element, but for small features."""
    return [
        Finding(
            "thin slot",
            "note",
            gap,
            place,
            f"slot {gap:.3g} mm wide, {share(gap, size)}",
            "Its sides are meshed apart; what looks for contacts at this size takes them for one.",
            "clear it: choose its faces; or keep it",
            body,
            faces,
            instead=(FILL,),
        )
        for gap, faces, place in joined(body, slots(body, 0.35 * size))
        if not known.issuperset(faces)
    ]


def _beside(thin: Thinness | None, size: float, places: Floats, faces: list[list[Face]]) -> Floats:
    """How large (mm) the elements are at some places (n,3) of some faces, where walls are thin there: what is no
    smaller than these is told with the wall."""
    return np.full(len(places), size) if thin is None else np.minimum(size, thin.at(places, faces) / _THROUGH)


def short_edges(body: Body, size: float, known: set[Face], thin: Thinness | None = None) -> list[Finding]:
    adj = adjacency(body)
    short = [e for e in body.edges() if e.length < 0.35 * size and not any(u.face in known for u, _ in adj.uses[e])]
    places = np.array([e.at(0.5) for e in short]).reshape(-1, 3)
    near = [{e, *(g for end in (e.start, e.end) if end is not None for g in adj.at_vertex[end])} for e in short]
    faces = [list({u.face for g in edges for u, _ in adj.uses[g]}) for edges in near]
    out = []
    for edge, place, there in zip(short, places, _beside(thin, size, places, faces), strict=True):
        length = edge.length
        if length >= 0.35 * there:
            continue
        out.append(
            Finding(
                "short edge",
                "costs",
                length,
                xyz(place),
                f"edge {length:.3g} mm long",
                f"It is {share(length, size)}: the elements on it are that small.",
                DRAW,
                body,
                edges=(edge,),
            )
        )
    return out


#: What a person can do about a strip that stands between two walls.
_BETWEEN = {"rim": "mesh it finer, or make a sheet of the wall", "floor": "mesh it finer, or clear the whole slot"}


def narrow_faces(body: Body, size: float, known: set[Face], thin: Thinness | None = None) -> list[Finding]:
    """Faces whose width, taken as twice the area over the perimeter, is a fraction of an element."""
    out, adj = [], adjacency(body)
    prepare(f for f in body.faces if f not in known)
    narrow = [f for f in body.faces if f not in known and face_width(f) < 0.2 * size]
    places = np.array([f.surface.project(face_centroid(f)[None])[0] for f in narrow]).reshape(-1, 3)
    around = [[f, *adj.neighbours(f)] for f in narrow]
    for face, place, there in zip(narrow, places, _beside(thin, size, places, around), strict=True):
        width = face_width(face)
        if width < 0.2 * there:
            walls = between_walls(adj, face)
            out.append(
                Finding(
                    "narrow face",
                    "costs",
                    width,
                    xyz(place),
                    f"face about {width:.3g} mm wide",
                    f"It is {share(width, size)} across.",
                    _BETWEEN[walls] if walls else NEEDLES if faceted(body) else CLEAR,
                    body,
                    (face,),
                    instead=() if walls else (DRAPE,),
                )
            )
    return out
