"""Where the skin of a body passes through itself.

Pairs of triangles that cut each other come from the tree of boxes; on exact faces, whose triangles are
only near them, a pair counts where a point on both true surfaces lies within both faces.
"""

from __future__ import annotations

from collections import Counter

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.area import area_of
from lithon.brep.boxes import edge_boxes, face_boxes, meeting
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Face
from lithon.errors import LithonError
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.crossing import onto_both
from lithon.geometry.facets import Facets
from lithon.geometry.splines import BSplineSurface
from lithon.remembered import Remembered

_Cut = tuple[Face, Face, Floats]
_found = Remembered[Body, list[_Cut]]("brep/analysis/crossings:found")
#: Bodies looked at, by face: what was found between two faces of one body holds in every other that has both.
_seen_with = Remembered[Face, set[int]]("brep/analysis/crossings:seen_with")
_seen: dict[int, list[_Cut]] = {}


def self_intersections(body: Body, tolerance: float) -> list[_Cut]:
    """Pairs of faces that cut each other (or one that cuts itself), with points (k,3) where they do; cached."""
    hit = _found.get(body)
    if hit is not None:
        return hit
    # Faces that were looked at together before, as most were after an edit, are not looked at again.
    known, old = _known(body)
    fresh = [face for face in dict.fromkeys(body.faces) if face not in known]
    made = [(known[one], known[two], spots) for one, two, spots in old if one in known and two in known]
    if known and fresh:
        # Of a face that was closed over a loop only the plug is new.
        parts = [part for f in fresh for part in (f.plugs() if f.before in known else (f,))]
        made += _near(body, set(fresh), face_boxes(parts), tolerance)
    elif fresh:
        points, triangles, owner = body_mesh(body)
        facets = np.array([_may_cut_itself(use.face) for use in body.uses])
        # A simple face's own triangles do not cut each other.
        tags = np.where(facets[owner], len(body.uses) + np.arange(len(owner)), owner)
        made += _cutting(body, points, triangles, owner, tree_of(body).own_pairs(tags, _through(points)), tolerance)
    _found[body] = made
    if len(_seen) > 256:
        _seen.clear()
    _seen[body.uid] = made
    for face in body.faces:
        _seen_with.setdefault(face, set()).add(body.uid)
    return made


def fresh_cuts(made: Body, before: Body, tolerance: float) -> list[_Cut]:
    """As `self_intersections`, of what an edit may have brought about: pairs with a face that is new, looked at where
    edges have come or gone."""
    fresh = set(made.faces) - set(before.faces)
    moved = list(set(made.edges()) ^ set(before.edges()))
    if not fresh or not moved:
        return []
    # A plane face has grown or shrunk between its edges; a curved one may bulge far beyond them.
    curved = [part for f in fresh if f.surface.kind != "plane" for part in (f.plugs() or (f,))]
    cuts = _near(made, fresh, np.concatenate([edge_boxes(moved), face_boxes(curved)]), tolerance)
    if not cuts:
        return []
    # What cut each other before still does, whatever the edit was.
    old = {frozenset((id(a.surface), id(b.surface))) for a, b, _ in self_intersections(before, tolerance)}
    return [cut for cut in cuts if frozenset((id(cut[0].surface), id(cut[1].surface))) not in old]


def _near(body: Body, fresh: set[Face], boxes: Floats, tolerance: float) -> list[_Cut]:
    """Pairs of faces that cut each other, one of them fresh, within what boxes (n,2,3) span together."""
    here = np.array([boxes[:, 0].min(axis=0) - tolerance, boxes[:, 1].max(axis=0) + tolerance])
    near = np.unique(meeting(face_boxes(body.faces), here[None])[:, 0]).tolist()
    if not near:
        return []  # what has changed lies with another piece
    uses = sorted((body.uses[k] for k in near), key=lambda use: use.face not in fresh)
    part = Body(tuple(uses))
    points, triangles, owner = body_mesh(part, here)
    if not len(triangles):
        return []
    # What was there before has one tag, and is not looked at again; of fresh facets every triangle is looked at.
    new = sum(use.face in fresh for use in uses)
    facets = np.array([use.face in fresh and _may_cut_itself(use.face) for use in uses])
    tags = np.where(facets[owner], new + 1 + np.arange(len(owner)), np.minimum(owner, new))
    return _cutting(
        part, points, triangles, owner, BoxTree.of(points, triangles).own_pairs(tags, _through(points)), tolerance
    )


def _through(points: Floats) -> float:
    """The slack by which boxes of triangles must overlap: such as only touch do not pass through each other."""
    return -1e-13 * float(np.abs(points).max(initial=0.0))


def _cutting(body: Body, points: Floats, triangles: Ints, owner: Ints, pairs: Ints, tolerance: float) -> list[_Cut]:
    """Which faces cut each other, of pairs (k,2) of triangles whose boxes meet."""
    a, b = triangles[pairs[:, 0]], triangles[pairs[:, 1]]
    pairs = pairs[~(a[:, :, None] == b[:, None, :]).any(axis=(1, 2))]
    cut, at = _cuts(points, triangles, pairs)
    # Where a skin touches itself in a corner, that has a number on each side.
    p, q = (points[triangles[pairs[cut, k]]] for k in (0, 1))
    apart = ~(p[:, :, None] == q[:, None]).all(axis=3).any(axis=(1, 2))
    cut = cut[apart]
    groups: dict[tuple[int, int], list[int]] = {}
    for row in cut.tolist():
        i, j = owner[pairs[row]]
        groups.setdefault((int(min(i, j)), int(max(i, j))), []).append(row)
    out = []
    for (i, j), rows in groups.items():
        one, two = body.uses[i].face, body.uses[j].face
        spots = at[rows]
        if one is two and isinstance(one.surface, BSplineSurface):
            spots = _confirmed_alone(one.surface, points[triangles[pairs[rows[:: 1 + len(rows) // 200]]]], tolerance)
        elif not (isinstance(one.surface, Facets) and isinstance(two.surface, Facets)):
            spots = _confirmed(one, two, spots, tolerance)
        if len(spots):
            out.append((one, two, spots))
    return out


def _known(body: Body) -> tuple[dict[Face, Face], list[_Cut]]:
    """The faces that were all looked at together before, in one body, each with what it is now: itself, or what was
    closed over some of its loops; and what was found then."""
    seen = [_seen_with.get(face, set()) & _seen.keys() for face in body.faces]
    count = Counter(uid for own in seen for uid in own)
    if not count:
        return {}, []
    best = max(count, key=count.__getitem__)
    now = {face: face for face, own in zip(body.faces, seen, strict=True) if best in own}
    for face in body.faces:
        if face not in now and face.before is not None and best in _seen_with.get(face.before, set()):
            now[face.before] = face
    return now, _seen[best]


def _may_cut_itself(face: Face) -> bool:
    """Whether a face's own triangles may cut each other: a facets face's, or those of a free-form surface that no
    direction sees all from one side."""
    if isinstance(face.surface, Facets):
        return True
    if not isinstance(face.surface, BSplineSurface) or any(face.surface.closed()):
        return False
    mesh = face_mesh(face)
    a, b, c = (mesh.points[mesh.triangles[:, k]] for k in range(3))
    normals = cross_product(b - a, c - a)
    return bool((normals @ normals.sum(axis=0)).min(initial=0.0) < 0.0)


def _confirmed_alone(surface: BSplineSurface, corners: Floats, tolerance: float) -> Floats:
    """Of pairs (k,2,3,3) of triangles of one surface that cut each other, where it truly passes through itself: two
    pairs of parameters, apart, with one point (Newton's steps of least norm on their difference)."""
    k = len(corners)
    uv = surface.parameters(corners.reshape(-1, 3)).reshape(k, 2, 3, 2)
    size = np.ptp(uv, axis=2).max(axis=(1, 2))  # of the triangles
    low, high = surface.range
    q = uv.mean(axis=2).reshape(k, 4)
    for _ in range(12):
        one, two = surface.frames(q[:, 0], q[:, 1]), surface.frames(q[:, 2], q[:, 3])
        slope = np.stack([one[1], one[2], -two[1], -two[2]], axis=2)
        q = q - np.einsum("kij,kj->ki", np.linalg.pinv(slope), one[0] - two[0])
        q = np.clip(q, np.tile(low, 2), np.tile(high, 2))
    here, there = surface.frames(q[:, 0], q[:, 1])[0], surface.frames(q[:, 2], q[:, 3])[0]
    apart = np.abs(q[:, :2] - q[:, 2:]).max(axis=1) > size
    return np.asarray(here[apart & (np.linalg.norm(here - there, axis=1) < tolerance)])


def _confirmed(one: Face, two: Face, spots: Floats, tolerance: float) -> Floats:
    """Of places where triangles cut each other, those where the true faces do."""
    common = set(one.edges()) & set(two.edges())
    try:
        p, off = onto_both(one.surface, two.surface, spots[:200])
        moved = np.linalg.norm(p - spots[:200], axis=1)
        scale = float(np.ptp(spots, axis=0).max()) + 100.0 * tolerance
        keep = (off < tolerance) & (moved < 0.2 * scale + 1e3 * tolerance)
        keep &= (area_of(one).side(p, 20.0 * tolerance) > 0) & (area_of(two).side(p, 20.0 * tolerance) > 0)
        # Where smooth neighbours touch along their edge, nothing is cut.
        across = np.linalg.norm(cross_product(one.surface.normal(p), two.surface.normal(p)), axis=1)
        keep &= across > (0.05 if common else 1e-3)
        return p[keep]
    except (LithonError, ValueError):
        return np.zeros((0, 3))


#: Points no further off a plane than this share of their coordinates are in it.
_FLAT = 4e-12


@njit(cache=True)
def _pierces(p: Floats, a: int, b: int, t0: int, t1: int, t2: int, out: Floats) -> bool:
    """Whether the segment a-b passes through the inside of the triangle t0 t1 t2 (rows of p); fills out with
    the place."""
    ex, ey, ez = p[t1, 0] - p[t0, 0], p[t1, 1] - p[t0, 1], p[t1, 2] - p[t0, 2]
    fx, fy, fz = p[t2, 0] - p[t0, 0], p[t2, 1] - p[t0, 1], p[t2, 2] - p[t0, 2]
    nx, ny, nz = ey * fz - ez * fy, ez * fx - ex * fz, ex * fy - ey * fx
    sx, sy, sz = p[a, 0] - p[t0, 0], p[a, 1] - p[t0, 1], p[a, 2] - p[t0, 2]
    dx, dy, dz = p[b, 0] - p[a, 0], p[b, 1] - p[a, 1], p[b, 2] - p[a, 2]
    above = nx * sx + ny * sy + nz * sz
    slope = nx * dx + ny * dy + nz * dz
    if above * (above + slope) >= 0.0:
        return False  # both ends on one side
    far = 0.0
    for c in range(3):
        far = max(far, abs(p[t0, c]), abs(p[a, c]), abs(p[b, c]))
    # Nodes brought onto a plane are off it by their rounding: what lies in one plane touches.
    if max(abs(above), abs(above + slope)) <= _FLAT * far * np.sqrt(nx * nx + ny * ny + nz * nz):
        return False
    size = (ex * ex + ey * ey + ez * ez) * (fx * fx + fy * fy + fz * fz) * (dx * dx + dy * dy + dz * dz)
    if abs(slope) <= 1e-12 * np.sqrt(size):
        return False
    w = -above / slope
    hx, hy, hz = dy * fz - dz * fy, dz * fx - dx * fz, dx * fy - dy * fx
    qx, qy, qz = sy * ez - sz * ey, sz * ex - sx * ez, sx * ey - sy * ex
    u = -(sx * hx + sy * hy + sz * hz) / slope
    v = -(dx * qx + dy * qy + dz * qz) / slope
    edge = 1e-9
    if u < edge or v < edge or u + v > 1.0 - edge or w < edge or w > 1.0 - edge:
        return False
    for c in range(3):
        out[c] = p[a, c] + w * (p[b, c] - p[a, c])
    return True


def cutting_pairs(points: Floats, triangles: Ints) -> Ints:
    """Pairs (k,2) of rows of triangles that pass through each other; such as share a side do not."""
    pairs = BoxTree.of(points, triangles).own_pairs(np.arange(len(triangles)), _through(points))
    a, b = triangles[pairs[:, 0]], triangles[pairs[:, 1]]
    pairs = pairs[(a[:, :, None] == b[:, None, :]).sum(axis=(1, 2)) < 2]
    return pairs[_cuts(points, triangles, pairs)[0]]


@njit(cache=True)
def _cuts(points: Floats, triangles: Ints, pairs: Ints) -> tuple[Ints, Floats]:
    """Rows of the pairs of triangles that cut each other and, for every pair, where (n,3)."""
    at = np.zeros((len(pairs), 3))
    hit = np.zeros(len(pairs), np.bool_)
    for n in range(len(pairs)):
        s, t = triangles[pairs[n, 0]], triangles[pairs[n, 1]]
        for k in range(3):
            ahead = _pierces(points, s[k], s[(k + 1) % 3], t[0], t[1], t[2], at[n])
            if ahead or _pierces(points, t[k], t[(k + 1) % 3], s[0], s[1], s[2], at[n]):
                hit[n] = True
                break
    return np.flatnonzero(hit), at
