"""What a mesh does not follow: faces draped and edges gone over by hand, and whatever is smaller than the ignore size.

A drape is a set of faces that are meshed as one: the edges between them are no edges of the mesh. Below the ignore
size a narrow face is draped together with the neighbour that it turns into least, and with the one beyond where the two
look the same way in the end, as over a step; short edges are drawn together to a point. Faces of different names, held
faces, rims of walls and the borders of what bodies share are never draped over.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass
from functools import lru_cache, partial
from typing import Literal

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.faceted import faceted
from lithon.brep.lineage import ByFace, face_by_face
from lithon.brep.measures import STRIP, face_area, face_centroid, face_width, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body, Edge, Face
from lithon.mesh.sizing import SizeRules
from lithon.remembered import Remembered

#: A face between two others is draped together with both where they look the same way within this (radians).
_SAME_WAY = np.radians(40.0)
#: Faces on the two sides of a rim turn by more than this (radians) over it, both outwards.
_AWAY = np.radians(150.0)


#: Whether two faces may be draped together.
_May = Callable[[Face, Face], bool]


@dataclass(frozen=True, slots=True, eq=False)
class Ignored:
    """small: faces narrower than the ignore size; soft: edges that the mesh does not follow; tiny: edges that are drawn
    together; groups: faces meshed as one, each a set."""

    small: frozenset[Face]
    soft: frozenset[Edge]
    tiny: frozenset[Edge]
    groups: tuple[frozenset[Face], ...]

    def __bool__(self) -> bool:
        return bool(self.soft or self.tiny)

    def without(self, faces: Collection[Face]) -> Ignored:
        """The same but around some faces, where all is followed; itself where that changes nothing."""
        if not faces:
            return self
        stay = {f for group in self.groups if not group.isdisjoint(faces) for f in group} | set(faces)
        bound = {e for f in stay for e in f.edges()}
        groups = tuple(g for g in self.groups if g.isdisjoint(stay))
        less = Ignored(self.small - stay, self.soft - bound, self.tiny - bound, groups)
        same = (less.soft, less.tiny, less.groups) == (self.soft, self.tiny, self.groups)
        return self if same else less


def ignored(bodies: Sequence[Body], rules: SizeRules) -> Ignored:
    """What the rules say is not followed in bodies meshed together."""
    return _ignored(tuple(bodies), rules)


@lru_cache(maxsize=2)  # a step asks for that before it, which was that after the last one
def _ignored(bodies: tuple[Body, ...], rules: SizeRules) -> Ignored:
    owners: dict[Face, list[Body]] = defaultdict(list)
    for body in bodies:
        for face in dict.fromkeys(body.faces):
            owners[face].append(body)
    kept = set(rules.kept)
    followed = set(rules.followed)
    words = dict(rules.drapes)
    passed = set(rules.passed)
    limit = rules.ignore or 0.0
    soft: set[Edge] = set()
    tiny: set[Edge] = set()
    small: set[Face] = set()

    def may(f: Face, g: Face) -> bool:
        same = f.label == g.label and owners[f] == owners[g] and not kept & {f, g}
        return same and f is not g

    for body in bodies if words or limit or passed else ():
        adj = adjacency(body)
        for edge in dict.fromkeys([*passed, *(e for face in words for e in face.edges())]):
            uses = adj.uses.get(edge, ())
            if len(uses) != 2:
                continue
            f, g = uses[0][0].face, uses[1][0].face
            together = edge in passed or (words.get(f) is not None and words.get(f) == words.get(g))
            if together and may(f, g):
                soft.add(edge)
        if passed:
            drawn = {e for e in passed if e in adj.uses and _is_short(e, rules)}
            soft, tiny = soft - drawn, tiny | drawn
        if not limit:
            continue
        shared = frozenset((f, tuple(owners[f])) for f in body.made_faces() if len(owners[f]) > 1)
        asked = limit, frozenset(kept.intersection(body.made_faces())), shared
        rims: set[Edge] = set()
        short: set[Edge] = set()
        for face, told in face_by_face(body, _narrow, asked, partial(_told_of, adj, limit, may)).items():
            short.update(told.short)
            if told.rim and face not in followed:
                rims.update(face.edges())
            elif told.narrow and face not in followed:
                small.add(face)
                soft |= told.over
        soft -= rims
        tiny |= short - rims
    soft -= followed
    tiny -= followed
    if len(bodies) > 1:  # an edge where a third body, or a shared face, ends is followed
        met: dict[Edge, set[Face]] = defaultdict(set)
        for body in bodies:
            here = adjacency(body).uses
            for edge in soft:
                met[edge].update(use.face for use, _ in here.get(edge, ()))
        soft = {e for e in soft if len(met[e]) == 2}
    return Ignored(frozenset(small), frozenset(soft), frozenset(tiny - soft), _groups(soft, bodies))


@dataclass(frozen=True, slots=True)
class _Narrow:
    """Whether a face is narrower than the ignore size, and is the rim of a wall; the edges of it that are given up for
    that, and those that are shorter."""

    narrow: bool
    rim: bool
    over: frozenset[Edge]
    short: tuple[Edge, ...]


_narrow: ByFace[_Narrow] = Remembered("mesh/drapes:narrow")


def _told_of(adj: Adjacency, limit: float, may: _May, face: Face) -> _Narrow:
    """What an ignore size makes of a face."""
    short = tuple(e for e in face.edges() if not e.ring and e.length < limit)
    if not face.loops or face_width(face) >= limit:
        return _Narrow(False, False, frozenset(), short)
    sides = _turns(adj, face, max(limit, STRIP * face_width(face)), may)
    if _is_rim(sides):
        return _Narrow(True, True, frozenset(), short)
    return _Narrow(True, False, frozenset(_over(adj, face, sides, may)), short)


def given_up(bodies: Sequence[Body], edges: Collection[Edge], size: float) -> float:
    """How much volume (mm3) a mesh of elements of a size cuts off, or fills, at most where it goes over some edges: at
    each a wedge as long as the edge, as wide on both sides as the faces are or an element."""
    out = 0.0
    for body in bodies:
        uses = adjacency(body)
        for edge in (e for e in edges if len(uses.uses.get(e, ())) == 2):
            wide = [min(face_width(use.face), size) for use, _ in uses.uses[edge]]
            out += 0.5 * wide[0] * wide[1] * abs(float(np.sin(uses.angle(edge)))) * edge.length
    return out


@lru_cache(maxsize=2)
def sparing(bodies: tuple[Body, ...], kept: tuple[Face, ...], size: float, most: float) -> float:
    """The size (mm) below which bodies meshed in elements of a size may be left unfollowed, `most` where that hardly
    changes their volume, less where it would: on small parts of a long body, as pins, an edge that is gone over is a
    fair share of them."""
    bodies = tuple(body for body in bodies if not faceted(body) and closed(body))
    allowed = _SPARED * sum(volume(body) for body in bodies)
    if allowed <= 0.0:
        return most
    limit = most
    for _ in range(_HALVINGS):
        found = ignored(bodies, SizeRules(size, ignore=limit, kept=kept))
        lost = max(given_up(bodies, found.soft | found.tiny, size), _cut_short(bodies, found, size))
        if max(lost, _pinched(bodies, found, size)) <= allowed:
            break
        limit *= 0.5
    return limit


def _cut_short(bodies: Sequence[Body], found: Ignored, size: float) -> float:
    """How much volume (mm3) a mesh of elements of a size cuts off, or fills, where narrow faces are draped that turn
    from the face on one side of them to that on the other, as those of a bend do: a wedge between the two."""
    out = 0.0
    for body in bodies:
        adj = adjacency(body)
        for face in dict.fromkeys(body.faces):
            soft = [e for e in face.edges() if e in found.soft] if face in found.small else []
            beside = [(e, other) for e in soft if (other := adj.across(face, e)) is not face]
            if len(beside) == 1:
                own = max((e for e in face.edges() if e not in found.soft), key=lambda e: e.length, default=None)
                beside += [] if own is None else [(own, face)]
            if len(beside) < 2:
                continue
            (a, one), (b, two) = sorted(beside, key=lambda row: -row[0].length)[:2]
            n, m = (adj.use_of[f].outward(e.at(0.5)[None])[0] for e, f in ((a, one), (b, two)))
            wide = min(face_width(one), size) * min(face_width(two), size)
            out += 0.5 * wide * float(np.linalg.norm(np.cross(n, m))) * min(a.length, b.length)
    return out


def _pinched(bodies: Sequence[Body], found: Ignored, size: float) -> float:
    """How much volume (mm3) a mesh of elements of a size cuts off, or fills, where all edges about a face are drawn
    together: as at the end of a pin, of which what is left is as pointed as an element is long."""
    out = 0.0
    for body in bodies if found.tiny else ():
        adj = adjacency(body)
        for cap in dict.fromkeys(body.faces):
            if not cap.loops or cap not in found.small or any(e not in found.tiny for e in cap.edges()):
                continue
            way = body.outward(cap, face_centroid(cap)[None])[0]
            # What goes with it: narrow faces beside it; and what is beyond these, by how far that looks another way.
            own = [cap, *(f for f in adj.neighbours(cap) if f in found.small)]
            area = sum(face_area(f) * abs(float(body.outward(f, face_centroid(f)[None])[0] @ way)) for f in own)
            rim = [(e, g) for f in own for e in f.edges() if (g := adj.across(f, e)) not in own]
            turned = [1.0 - abs(float(adj.use_of[g].outward(e.at(0.5)[None])[0] @ way)) for e, g in rim]
            if turned:
                out += 2.0 / 3.0 * area * size * float(np.average(turned, weights=[e.length for e, _ in rim]))
    return out


def _is_short(edge: Edge, rules: SizeRules) -> bool:
    """Whether an edge that is passed over is drawn together: no element would be as long."""
    return not edge.ring and edge.length < rules.size


#: The share of their volume that bodies may lose to what is not followed without being asked; so often the size below
#: which that is so is halved.
_SPARED, _HALVINGS = 0.01, 3

#: One side of a narrow face: its edges, at each the turn (radians) into what is beyond, and the length (mm).
_Side = tuple[list[Edge], Floats, Floats]


def _turns(adj: Adjacency, face: Face, limit: float, may: _May) -> list[_Side]:
    """The sides of a narrow face over which it may be draped."""
    sides = []
    for chain in _sides(face, limit):
        own = [e for e in chain if len(adj.uses[e]) == 2 and may(face, adj.across(face, e))]
        if own and sum(e.length for e in own) >= limit:
            sides.append((own, np.array([adj.angle(e) for e in own]), np.array([e.length for e in own])))
    return sides


def _mean(side: _Side) -> float:
    """How far the normal turns over a side; over one of no length as over each of its edges."""
    long = float(side[2].sum())
    return float((side[1] * side[2]).sum() / long) if long > 0.0 else float(side[1].mean())


def _is_rim(sides: list[_Side]) -> bool:
    """Whether a narrow face is the rim of a wall, or the top of a fin: what is on both sides of it looks away from each
    other. Draped it would take a wedge off a wall that is no thicker."""
    means = sorted(map(_mean, sides))
    return len(means) > 1 and means[-1] > 0.0 and means[-1] + means[-2] > _AWAY


def between_walls(adj: Adjacency, face: Face) -> Literal["rim", "floor", ""]:
    """Whether a face is a strip that only the parallel walls on its two sides make narrow: the rim of a
    wall, or the floor of a slot; '' for neither. Nothing that goes on beside such a strip could take its place."""
    means = sorted(map(_mean, _turns(adj, face, STRIP * face_width(face), lambda f, g: f is not g)))
    if len(means) > 1 and means[-1] + means[-2] > _AWAY:
        return "rim"
    return "floor" if len(means) > 1 and means[0] + means[1] < -_AWAY else ""


def _over(adj: Adjacency, face: Face, sides: list[_Side], may: _May) -> set[Edge]:
    """The edges of a narrow face that are given up: all along that side of it at which it turns into its neighbours
    least, and along the other where what is beyond looks the same way."""
    if not sides:
        return set()
    means = [_mean(side) for side in sides]
    first = min(range(len(sides)), key=lambda k: abs(means[k]))
    own, turns, _ = sides[first]
    out = {e for e, t in zip(own, turns, strict=True) if abs(t - means[first]) < _SAME_WAY}
    beyond = {adj.across(face, e) for e in out}
    for k, (others, turns, _) in enumerate(sides):
        if k != first:
            out |= {e for e, t in zip(others, turns, strict=True) if abs(means[first] + t) < _SAME_WAY
                    and all(may(g, adj.across(face, e)) or g is adj.across(face, e) for g in beyond)}  # fmt: skip
    return out


def _sides(face: Face, limit: float) -> list[list[Edge]]:
    """The outlines of a narrow face, parted where it ends: at edges shorter than a limit, and at tips."""
    out = []
    for loop in face.loops:
        if len(loop) == 1:
            out.append([loop[0].edge])
            continue
        whole, runs = True, [list[Edge]()]
        for c, after in zip(loop, (*loop[1:], loop[0]), strict=True):
            if c.edge.length < limit:
                whole = False
                runs.append([])
                continue
            runs[-1].append(c.edge)
            there = c.edge.direction(1.0) if c.forward else -c.edge.direction(0.0)
            back = after.edge.direction(0.0) if after.forward else -after.edge.direction(1.0)
            if float(there @ back) < -0.5:
                whole = False
                runs.append([])
        if not whole:  # the walk began in the midst of a side
            runs[0] = runs.pop() + runs[0] if len(runs) > 1 else runs[0]
        out += [run for run in runs if run]
    return out


def _groups(soft: set[Edge], bodies: Sequence[Body]) -> tuple[frozenset[Face], ...]:
    """The faces that soft edges join."""
    sets: scipy.cluster.hierarchy.DisjointSet = scipy.cluster.hierarchy.DisjointSet()
    at: dict[Edge, Face] = {}
    for body in bodies if soft else ():
        uses = adjacency(body).uses
        for edge in (e for e in body.edges() if e in soft):
            for use, _ in uses[edge]:
                sets.add(use.face)
                sets.merge(at.setdefault(edge, use.face), use.face)
    return tuple(frozenset(s) for s in sets.subsets() if len(s) > 1)


def asks_nothing(rules: SizeRules, body: Body) -> tuple[set[Face], set[Edge]]:
    """The faces and edges of a body that ask for no size, since the mesh does not follow them."""
    if not (rules.ignore or rules.drapes or rules.passed):
        return set(), set()
    found = ignored((body,), rules)
    return set(found.small), set(found.soft | found.tiny)
