"""Features that others make up: slots, ribs, words of raised or sunk letters, threads of grooves, teeth around an axis.

They are told from the features that `features` finds and from faces about one axis, and their faces may be those of
others too: a slot is a pocket or a window, a letter is a boss or a pocket.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.copies import copy_of
from lithon.brep.measures import face_area
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face
from lithon.geometry.rounds import Cone
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.remembered import Remembered
from lithon.survey.features import Feature, Kind, carried, features

#: A slot with plane ends, and a rib, are at least so many times as long as they are wide.
_LONG = 3.0
#: Letters of a word stand no further apart than this share of their height.
_GAP = 0.6
#: So many grooves make a thread, and so many teeth a ring of them.
_GROOVES, _TEETH = 3, 6


def families(body: Body, kind: Kind) -> tuple[Feature, ...]:
    """The slots, ribs, words, threads or teeth of a body."""
    known = _families[kind]
    return known.over(body, copy_of, _FIND[kind], lambda copy, there: tuple(carried(f, body, copy) for f in there))


# ---- slots and ribs


def _slots(body: Body) -> tuple[Feature, ...]:
    """Pockets and windows between two parallel sides, with round ends as wide as they are, or long between plane
    ones."""
    out, letters = [], _letters(body)
    for f in features(body):
        if f.kind in ("pocket", "window") and letters.isdisjoint(f.faces):
            span = _between_sides(body, f)
            if span is not None and (_round_ends(f, span[0]) or span[1] >= _LONG * span[0]):
                out.append(replace(f, kind="slot", size=span[0]))
    return tuple(out)


def _ribs(body: Body) -> tuple[Feature, ...]:
    """Bosses between two parallel sides, far longer than they are thick."""
    out, letters = [], _letters(body)
    for f in features(body):
        rises = f.kind == "boss" and letters.isdisjoint(f.faces)
        span = _between_sides(body, f) if rises else None
        if span is not None and span[1] >= _LONG * span[0]:
            out.append(replace(f, kind="rib", size=span[0]))
    return tuple(out)


def _letters(body: Body) -> set[Face]:
    """The faces of all words: an I is no rib."""
    return {face for word in families(body, "word") for face in word.faces}


def _between_sides(body: Body, f: Feature) -> tuple[float, float] | None:
    """How far the two largest parallel walls of a feature are apart, and its length along them; none where it has no
    such pair, or more walls beside them than ends."""
    normal = _lies_on(body, f)
    if normal is None:
        return None
    walls = [x for x in f.faces if isinstance(x.surface, Plane) and abs(float(x.surface.frame.z @ normal)) < 1e-6]
    walls.sort(key=face_area, reverse=True)
    if len(walls) < 2:
        return None
    one, two = walls[:2]
    a, b = one.surface, two.surface
    assert isinstance(a, Plane) and isinstance(b, Plane)
    if abs(abs(float(a.frame.z @ b.frame.z)) - 1.0) > 1e-6 or len(walls) > 4:
        return None
    apart = abs(float(a.signed_distance(b.frame.origin[None])[0]))
    along = np.cross(a.frame.z, normal)
    points = np.concatenate([face_mesh(x).points for x in f.faces])
    across = float(np.ptp(points @ a.frame.z))
    long = float(np.ptp(points @ along))
    return (apart, long) if apart > 0.0 and across < 1.01 * apart and long > 1.01 * apart else None


def _lies_on(body: Body, f: Feature) -> Floats | None:
    """The normal (3,) of the plane face that a feature rises from or sinks into."""
    inside, adj = set(f.faces), adjacency(body)
    for face in f.faces:
        for other in adj.neighbours(face):
            if other not in inside and isinstance(other.surface, Plane):
                return other.surface.frame.z
    return None


def _round_ends(f: Feature, width: float) -> bool:
    ends = [x.surface for x in f.faces if isinstance(x.surface, Cylinder)]
    return len(ends) >= 2 and all(abs(2.0 * s.radius - width) < 1e-6 * width for s in ends)


# ---- words


def _words(body: Body) -> tuple[Feature, ...]:
    """Letters beside each other on one face, as high or as deep as each other: bosses or pockets with small gaps."""
    by: dict[tuple[object, ...], list[Feature]] = defaultdict(list)
    adj = adjacency(body)
    for f in features(body):
        if f.kind not in ("boss", "pocket"):
            continue
        inside = set(f.faces)
        base = next((o for face in f.faces for o in adj.neighbours(face)
                     if o not in inside and isinstance(o.surface, Plane)), None)  # fmt: skip
        if base is not None:
            by[f.kind, base, round(f.depth, 6)].append(f)
    return tuple(word for letters in by.values() for word in _told_apart(body, letters))


def _told_apart(body: Body, letters: Sequence[Feature]) -> list[Feature]:
    """The words that letters on one face make up: those within a gap of each other."""
    if len(letters) < 2:
        return []
    clouds = [np.concatenate([edge_points(e)[1] for face in f.faces for e in face.edges()]) for f in letters]
    normal = _lies_on(body, letters[0])
    assert normal is not None
    # What tells how large a letter is: its longest extent within the face.
    tall = float(np.median([_extent(cloud, normal) for cloud in clouds]))
    trees = [scipy.spatial.cKDTree(cloud) for cloud in clouds]
    groups: scipy.cluster.hierarchy.DisjointSet = scipy.cluster.hierarchy.DisjointSet(range(len(letters)))
    for i in range(len(letters)):
        for j in range(i):
            if not groups.connected(i, j) and trees[i].query(clouds[j])[0].min() <= _GAP * tall:
                groups.merge(i, j)
    out = []
    for group in groups.subsets():
        if len(group) < 2:
            continue
        rows = sorted(group)
        faces = tuple(dict.fromkeys(face for k in rows for face in letters[k].faces))
        place = np.concatenate([clouds[k] for k in rows]).mean(axis=0)
        out.append(Feature("word", body, faces, tall, letters[0].depth, place, convex=letters[0].kind == "boss"))
    return out


def _extent(points: Floats, normal: Floats) -> float:
    """The longest extent (mm) of points within a plane."""
    flat = points - (points @ normal)[:, None] * normal
    ways = np.linalg.svd(flat - flat.mean(axis=0), full_matrices=False)[2]
    return float(np.ptp(flat @ ways[0]))


# ---- threads


def _threads(body: Body) -> tuple[Feature, ...]:
    """Grooves one after another about one axis: flanks that are cones with one angle, at even steps."""
    by: list[tuple[Cone, list[Face]]] = []
    for face in body.faces:
        s = face.surface
        if not isinstance(s, Cone):
            continue
        for other, own in by:
            away = s.frame.origin - other.frame.origin
            off = float(np.linalg.norm(away - float(away @ other.frame.z) * other.frame.z))
            same = abs(abs(float(s.frame.z @ other.frame.z)) - 1.0) < 1e-9 and off < 1e-6 * max(1.0, other.radius)
            if same and abs(s.angle - other.angle) < 1e-6:
                own.append(face)
                break
        else:
            by.append((s, [face]))
    out = []
    for cone, flanks in by:
        heights = sorted(float((face_mesh(f).points @ cone.frame.z).mean()) for f in flanks)
        steps = np.diff(heights[::2])
        if len(flanks) < 2 * _GROOVES or not np.allclose(steps, steps.mean(), rtol=0.05):
            continue
        points = np.concatenate([face_mesh(f).points for f in flanks])
        rho = np.linalg.norm(np.cross(points - cone.frame.origin, cone.frame.z), axis=1)
        length = float(np.ptp(points @ cone.frame.z))
        faces = tuple(dict.fromkeys([*flanks, *_between(body, flanks)]))
        out.append(Feature("thread", body, faces, float(steps.mean()), length, points.mean(axis=0),
                           convex=float(np.ptp(rho)) > 0.0 and _outward(body, flanks[0])))  # fmt: skip
    return tuple(out)


def _between(body: Body, flanks: Sequence[Face]) -> list[Face]:
    """Narrow faces between two flanks: the grounds of grooves."""
    adj, own = adjacency(body), set(flanks)
    out = []
    for flank in flanks:
        for other in adj.neighbours(flank):
            beside = adj.neighbours(other)
            if other not in own and beside and all(x in own for x in beside):
                out.append(other)
    return out


def _outward(body: Body, face: Face) -> bool:
    """Whether the material is inside a round face."""
    use = body.use_of(face)
    return use is not None and use.forward == face.along


# ---- teeth


def _teeth(body: Body) -> tuple[Feature, ...]:
    """Like bosses or pockets at even steps around an axis."""
    out = []
    for kind in ("boss", "pocket"):
        alike: dict[tuple[int, float, float], list[Feature]] = defaultdict(list)
        for f in features(body):
            if f.kind == kind:
                alike[len(f.faces), round(f.size, 6), round(f.depth, 6)].append(f)
        for group in alike.values():
            if len(group) >= _TEETH and _evenly_around(np.array([f.place for f in group])):
                faces = tuple(dict.fromkeys(face for f in group for face in f.faces))
                place = np.mean([f.place for f in group], axis=0)
                out.append(Feature("teeth", body, faces, group[0].size, group[0].depth, place, convex=kind == "boss"))
    return tuple(out)


def _evenly_around(places: Floats) -> bool:
    """Whether points (n,3) are the corners of a regular polygon."""
    middle = places.mean(axis=0)
    away = places - middle
    far = np.linalg.norm(away, axis=1)
    _, size, ways = np.linalg.svd(away, full_matrices=False)
    if far.min() < 0.999 * far.max() or size[2] > 1e-6 * size[0]:
        return False
    angles = np.sort(np.arctan2(away @ ways[1], away @ ways[0]))
    steps = [b - a for a, b in pairwise([*angles.tolist(), float(angles[0]) + 2.0 * np.pi])]
    return bool(np.allclose(steps, 2.0 * np.pi / len(places), atol=1e-4))


_FIND: Mapping[Kind, Callable[[Body], tuple[Feature, ...]]] = {
    "slot": _slots, "rib": _ribs, "word": _words, "thread": _threads, "teeth": _teeth,
}  # fmt: skip
_families = {kind: Remembered[Body, tuple[Feature, ...]](f"survey/families:{kind}") for kind in _FIND}
#: The kinds that are told here.
FAMILIES = tuple(_FIND)
