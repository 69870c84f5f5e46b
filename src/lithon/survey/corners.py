"""Angles that elements cannot fill well: sharp corners of faces, spikes, edges like knives, narrow cuts, and
kinks where the surface was meant to run on smoothly."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Bools, Floats, cross_product
from lithon.brep.analysis.across import straight_across
from lithon.brep.analysis.adjacency import FOLDED, adjacency, holds_solid, sides_of
from lithon.brep.measures import face_width
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse
from lithon.geometry.batch import CurveBatch
from lithon.geometry.curves import Circle, Line
from lithon.geometry.facets import Facets
from lithon.geometry.tolerance import SMOOTH
from lithon.remembered import Remembered
from lithon.survey.card import BLUNT, CLEAR, FILL_CUT, PASS, Finding, Severity, share, xyz

#: A corner of a face or an edge of the solid sharper than this (degrees) shows in the elements.
SHARP = 12.0
#: Faces that meet with less of a turn than this (degrees), but not smoothly, are nearly tangent.
KINK = 6.0
#: What blunts an edge is so wide, in elements, that it is no narrow face; and stands so far back from it, the first
#: that does.
_FLAT, _SETBACKS = 0.21, (0.3, 0.45, 0.7, 1.0, 1.4, 2.0, 3.0)
#: Where along an edge its angle is looked at.
_SHARES = np.array([0.02, 0.25, 0.5, 0.75, 0.98])


@dataclass(frozen=True, slots=True, eq=False)
class Turn:
    """How the outward normal turns over an edge (degrees, 0 smooth, 180 folded back), at `_SHARES` of it (k,),
    `convex` there (k,), at points (k,3); the faces on both sides."""

    edge: Edge
    faces: tuple[Face, Face]
    angle: Floats
    convex: Bools
    points: Floats


#: What is known of each edge: between which uses, and the angles, `convex` and points of its `Turn`.
_turned = Remembered[Edge, tuple[object, Floats, Bools, Floats]]("survey/corners:turned")


def turns(body: Body) -> list[Turn]:
    """Of every edge between two exact faces."""
    uses = {
        edge: pair
        for edge, pair in adjacency(body).uses.items()
        if len(pair) == 2 and not any(isinstance(use.face.surface, Facets) for use, _ in pair)
    }
    _look({edge: pair for edge, pair in uses.items() if _turned.get(edge, (None,))[0] != sides_of(pair)})
    return [Turn(edge, (a[0].face, b[0].face), *_turned[edge][1:]) for edge, (a, b) in uses.items()]


def _look(uses: dict[Edge, list[tuple[FaceUse, Coedge]]]) -> None:
    """Find how the normal turns over edges, each with its two uses, and keep it."""
    if not uses:
        return
    edges = list(uses)
    k = len(_SHARES)
    row = np.repeat(np.arange(len(edges)), k)
    first, last = np.array([e.t0 for e in edges])[row], np.array([e.t1 for e in edges])[row]
    t = first + np.tile(_SHARES, len(edges)) * (last - first)
    batch = CurveBatch.of([e.curve for e in edges])
    points, along = batch.points(row, t).reshape(-1, k, 3), batch.speeds(row, t).reshape(-1, k, 3)
    normal = np.empty((len(edges), 2, k, 3))
    sides: dict[FaceUse, list[tuple[int, int]]] = defaultdict(list)
    for n, edge in enumerate(edges):
        for s, (use, _) in enumerate(uses[edge]):
            sides[use].append((n, s))
    for use, where in sides.items():
        n, s = np.array(where).T
        normal[n, s] = use.outward(points[n].reshape(-1, 3)).reshape(-1, k, 3)
    # Into the second face: its own normal x its walk.
    second = [pair[1] for pair in uses.values()]
    own = np.array([1.0 if use.forward else -1.0 for use, _ in second])
    walk = np.array([1.0 if c.forward else -1.0 for _, c in second])
    into = cross_product(normal[:, 1] * own[:, None, None], along * walk[:, None, None])
    a, b = normal[:, 0], normal[:, 1]
    angle = np.degrees(np.arctan2(np.linalg.norm(cross_product(a, b), axis=-1), (a * b).sum(axis=-1)))
    convex = (a * into).sum(axis=-1) <= 0.0
    for n, s in np.argwhere(angle > np.degrees(FOLDED)).tolist():
        convex[n, s] = holds_solid(uses[edges[n]], edges[n], _SHARES[s])
    for n, edge in enumerate(edges):
        _turned[edge] = sides_of(uses[edge]), angle[n], convex[n], points[n]


def corner_cards(body: Body, size: float, known: set[Face]) -> list[Finding]:
    """Sharp edges, cuts, kinks and sharp corners of faces, at this element size; those of `known` faces are
    told by other cards."""
    every = turns(body)
    return [*_edge_cards(body, every, size, known), *_corners(body, every, size, known)]


def _edge_cards(body: Body, every: list[Turn], size: float, known: set[Face]) -> list[Finding]:
    out = []
    for turn in every:
        if known & set(turn.faces):
            continue
        most = float(turn.angle.max())
        k = min(np.flatnonzero(turn.angle > most - 0.1).tolist(), key=lambda i: abs(i - len(_SHARES) // 2))
        if most > 180.0 - SHARP:
            out.append(_folded(body, turn, k, 180.0 - most, size))
        elif np.degrees(SMOOTH) < most < KINK and float(turn.angle.min()) > 0.2 * most:
            out.append(
                Finding(
                    "kink",
                    "note",
                    turn.edge.length,
                    xyz(turn.points[k]),
                    f"two faces meet at {most:.2g}°, nearly smooth, along {turn.edge.length:.3g} mm",
                    "The crease holds a line of nodes, and shows in the stress where none is meant.",
                    PASS,
                    body,
                    turn.faces,
                    (turn.edge,),
                )
            )
    return out


def _folded(body: Body, turn: Turn, k: int, angle: float, size: float) -> Finding:
    """An edge where the solid, or the space outside of it, comes to a point across."""
    solid = bool(turn.convex[k])
    flat = f"{angle:.2g}°" if angle >= 0.05 else "no angle at all"
    reach = turn.edge.length
    if solid:
        kind, text = "knife edge", f"the solid runs out to an edge of {flat}, {reach:.3g} mm long"
        severity: Severity = "costs"
        consequence = f"No element there has a better angle than {flat}."
        advice = "cut the edge off, or clear one of its faces"
    else:
        kind, text = "cut", f"a cut that closes at {flat}, {reach:.3g} mm long"
        severity = "note"
        consequence = (
            "Its walls touch along the edge and part only slowly."
            if angle < 1.0
            else f"Its walls are less than an element apart for {size / np.radians(angle):.3g} mm."
        )
        advice = "clear its walls"
    setback = _setback(turn, size)
    remedy = (BLUNT if solid else FILL_CUT) if setback else advice
    place = xyz(turn.points[k])
    return Finding(
        kind, severity, reach, place, text, consequence, remedy, body, turn.faces, (turn.edge,), setback=setback
    )


def _setback(turn: Turn, size: float) -> float:
    """How far (mm) a flat stands back from an edge where it is as wide as wanted; 0 where that is too far, or the edge
    is neither line nor circle."""
    if not isinstance(turn.edge.curve, Line) and type(turn.edge.curve) is not Circle:
        return 0.0
    for far in _SETBACKS:
        one, two = (straight_across(turn.edge, face, far * size) for face in turn.faces)
        if one is None or two is None:
            return 0.0
        if float(np.linalg.norm(two - one)) >= _FLAT * size:
            return far * size
    return 0.0


def _corners(body: Body, every: list[Turn], size: float, known: set[Face]) -> list[Finding]:
    """Corners of faces sharper than `SHARP`; a spike where both arms stay together to the end of one."""
    knives = [t.edge for t in every if float(t.angle.max()) > 180.0 - SHARP]
    told = {v for edge in knives for v in (edge.start, edge.end)}  # the knife's own ends
    out = []
    for use in body.uses:
        face = use.face
        if face in known or isinstance(face.surface, Facets):
            continue
        for a, b, angle in _sharp(face):
            if a.last not in told:
                reach = min(a.edge.length, b.edge.length)
                out.append(_corner_card(body, face, a, b, angle, reach, size))
    return out


_sharps = Remembered[Face, tuple[tuple[int, int, float], ...]]("survey/corners:sharps")


def _sharp(face: Face) -> list[tuple[Coedge, Coedge, float]]:
    """The corners of a face sharper than `SHARP`: both coedges and the angle (degrees); cached."""
    found = _sharps.of(face, _sharp_places)
    return [(loop[k], loop[(k + 1) % len(loop)], angle) for n, k, angle in found for loop in (face.loops[n],)]


def _sharp_places(face: Face) -> tuple[tuple[int, int, float], ...]:
    """The loop, the place in it and the angle of each sharp corner."""
    return tuple(
        (n, k, angle)
        for n, loop in enumerate(face.loops)
        for k, a in enumerate(loop)
        if a.edge is not (b := loop[(k + 1) % len(loop)]).edge
        and a.last is not None
        and (angle := _corner_angle(face, a, b)) <= SHARP
    )


def _corner_angle(face: Face, a: Coedge, b: Coedge) -> float:
    """The angle (degrees) that a face fills between two edges of a loop, 0 to 360."""
    back = a.edge.direction(1.0 if a.forward else 0.0) * (-1.0 if a.forward else 1.0)
    out = b.edge.direction(0.0 if b.forward else 1.0) * (1.0 if b.forward else -1.0)
    assert a.last is not None
    cross, dot = cross_product(out, back), float(out @ back)
    if float(np.linalg.norm(cross)) < 1e-6:  # back along itself, or straight on: the arms' bend decides
        if dot < 0.0:
            return 180.0
        step = 0.05 * min(a.edge.length, b.edge.length)
        back = a.edge.at(1.0 - step / a.edge.length if a.forward else step / a.edge.length) - a.last.point
        out = b.edge.at(step / b.edge.length if b.forward else 1.0 - step / b.edge.length) - a.last.point
        cross, dot = cross_product(out, back), float(out @ back)
    sine = float(cross @ face.normal(a.last.point[None])[0])
    return float(np.degrees(np.mod(np.arctan2(sine, dot), 2.0 * np.pi)))


def _corner_card(body: Body, face: Face, a: Coedge, b: Coedge, angle: float, reach: float, size: float) -> Finding:
    assert a.last is not None
    short, other = sorted((a, b), key=lambda c: c.edge.length)
    far = short.edge.at(0.0 if (short is a) == short.forward else 1.0)
    t = np.clip(other.edge.curve.parameter(far[None])[0], other.edge.t0, other.edge.t1)
    width = float(np.linalg.norm(other.edge.curve.point(np.array([t]))[0] - far))
    spike = width < 0.2 * reach and width < 0.5 * size
    words = f"{angle:.2g}°" if angle >= 0.05 else "no angle at all"
    return Finding(
        "spike" if spike else "small angle",
        "costs",
        max(width, 1e-9) if spike else reach,
        xyz(a.last.point),
        f"a spike of {words}, {reach:.3g} mm long, {width:.2g} mm across"
        if spike
        else f"a corner of {words} on a face",
        f"{share(width, size)} across at its foot." if spike else f"No triangle there has a better angle than {words}.",
        # To clear a face that elements fill is more than its corner is worth to anyone who was not asked.
        CLEAR if face_width(face) <= 0.5 * size else replace(CLEAR, by_hand=True),
        body,
        (face,),
        tuple(dict.fromkeys((a.edge, b.edge))),
    )
