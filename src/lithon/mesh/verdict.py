"""Whether a mesh is good enough to work with: how many elements fall below strict and lenient limits, where and why."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Bools, Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.measures import face_width
from lithon.brep.topology import Coedge, Face, Loop
from lithon.mesh.mesh import Mesh
from lithon.mesh.quality import Quality
from lithon.words import many

#: Below these an element is poor, strictly and leniently: scaled Jacobian, smallest angle (degrees).
STRICT, LENIENT = (0.1, 12.0), (0.05, 8.0)
#: What is shorter than this share of the elements beside it makes them poor; and a corner sharper than this (radians).
_SHORT, _SHARP = 0.3, np.radians(25.0)
#: The cause of poor elements where nothing about the shape is one.
UNASKED = "nothing in the shape asks for it; a slightly other size may not have it"


@dataclass(frozen=True, slots=True, eq=False)
class Poor:
    """Elements below the strict limits at one face, none where they touch none; what about it makes them so, in words,
    `UNASKED` where nothing does."""

    face: Face | None
    elements: int
    cause: str


@dataclass(frozen=True, slots=True, eq=False)
class Verdict:
    """How many elements are below the strict and below the lenient limits, and where, most of them first."""

    strict: int
    lenient: int
    places: tuple[Poor, ...]

    @property
    def good(self) -> bool:
        return not self.strict

    def where(self) -> list[str]:
        """The places in words, those that are of one kind and cause together."""
        alike: dict[tuple[str, str], list[Poor]] = {}
        for p in self.places:
            alike.setdefault(("" if p.face is None else p.face.surface.kind, p.cause), []).append(p)
        out = []
        for (kind, cause), own in alike.items():
            at = "no face" if not kind else f"a {kind} face" if len(own) == 1 else f"{len(own)} {kind} faces"
            if kind == "facets":
                at = many(len(own), "face") + " of triangles"
            what = f"{many(sum(p.elements for p in own), 'element')} at {at}"
            out.append(f"{what}: {cause}")
        return out

    def words(self) -> str:
        if self.good:
            return f"none below {STRICT[1]:g}° or a scaled Jacobian of {STRICT[0]:g}"
        told = f"{many(self.strict, 'element')} below {STRICT[1]:g}° or a scaled Jacobian of {STRICT[0]:g}"
        return told + (f", {self.lenient} of them below {LENIENT[1]:g}° or {LENIENT[0]:g}" if self.lenient else "")


def below(q: Quality, limits: tuple[float, float]) -> Bools:
    """Which elements (m,) are below limits of scaled Jacobian and smallest angle."""
    return np.asarray((q.scaled_jacobian < limits[0]) | (q.smallest_angle < limits[1]))


def verdict(mesh: Mesh) -> Verdict:
    """Of a mesh of any kind."""
    poor = np.flatnonzero(below(mesh.quality, STRICT))
    lenient = int(below(mesh.quality, LENIENT).sum())
    if not len(poor):
        return Verdict(0, lenient, ())
    at: dict[int, dict[int, int]] = {}
    wanted = np.zeros(len(mesh.points), dtype=bool)
    wanted[mesh.corners[poor]] = True
    for k in np.flatnonzero(wanted[mesh.triangles].any(axis=1)).tolist():
        for node in mesh.triangles[k].tolist():
            at.setdefault(node, {})[int(mesh.face[k])] = 1
    groups: dict[int, list[int]] = {}
    for row in poor.tolist():
        count: dict[int, int] = {}
        for node in mesh.corners[row].tolist():
            for number in at.get(node, ()):
                count[number] = count.get(number, 0) + 1
        # Of the faces that it stands on most, the narrowest.
        best = max(count, key=lambda f: (count[f], -face_width(mesh.faces[f])), default=-1)
        groups.setdefault(best, []).append(row)
    places = []
    for number, rows in groups.items():
        face = mesh.faces[number] if number >= 0 else None
        cause = UNASKED if face is None else _cause(mesh, face, mesh.points[mesh.corners[rows]])
        places.append(Poor(face, len(rows), cause))
    return Verdict(len(poor), lenient, tuple(sorted(places, key=lambda p: -p.elements)))


def _cause(mesh: Mesh, face: Face, corners: Floats) -> str:
    """What about a face makes elements (n,c,3) at it poor."""
    ends = np.array(mesh.shape.edges)
    lengths = np.linalg.norm(corners[:, ends[:, 0]] - corners[:, ends[:, 1]], axis=2)
    wide = float(lengths.max())
    short = [e for e in face.edges() if e.length < _SHORT * wide]
    if short:
        least = min(e.length for e in short)
        return f"an edge of {least:.3g} mm stands beside elements of {wide:.3g} mm"
    width = face_width(face)
    if width < _SHORT * wide:
        return f"it is {width:.3g} mm wide beside elements of {wide:.3g} mm"
    for body in mesh.bodies:
        if body.use_of(face) is None:
            continue
        adj = adjacency(body)
        sharp = [np.pi - float(adj.angle(e)) for e in face.edges() if len(adj.uses[e]) == 2]
        if sharp and min(sharp) < _SHARP:
            return f"it meets its neighbour at {np.degrees(min(sharp)):.0f}°"
    corner = min((_corner(loop) for loop in face.loops), default=np.pi)
    if corner < _SHARP:
        return f"two of its edges meet at {np.degrees(corner):.0f}°"
    share = lengths.min(axis=1) / lengths.max(axis=1)
    worst = int(share.argmin())
    if share[worst] < _SHORT:
        return f"nodes stand {lengths[worst].min():.3g} mm apart beside elements of {lengths[worst].max():.3g} mm"
    return UNASKED


def _corner(loop: Loop) -> float:
    """The sharpest angle (radians) between two edges of a loop that follow each other."""
    if len(loop) < 2:
        return float(np.pi)
    ways = np.array([[_walk(c, s) for c in loop] for s in (0.0, 1.0)])
    cosine = -(ways[1] * np.roll(ways[0], -1, axis=0)).sum(axis=1)
    return float(np.arccos(np.clip(cosine.max(), -1.0, 1.0)))


def _walk(coedge: Coedge, share: float) -> Floats:
    """Which way (3,) a loop goes on an edge, at a share of it."""
    way = coedge.edge.direction(share if coedge.forward else 1.0 - share)
    return np.asarray(way if coedge.forward else -way) / max(float(np.linalg.norm(way)), 1e-300)
