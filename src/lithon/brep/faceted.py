"""Triangles to bodies of facets faces, and back to plane faces.

A face is a patch of triangles that meet without a crease; its boundary edges are polylines along creases
and along what is wrong: open sides, sides of three triangles and more, neighbours that run the same way.
"""

from __future__ import annotations

import itertools
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
import scipy
import shapely
from numba import njit

from lithon.arrays import Bools, Floats, Ints, cross_product, frozen, run_along
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, new_uid
from lithon.geometry.curves import Line
from lithon.geometry.facets import Facets
from lithon.geometry.splines import BSplineCurve
from lithon.geometry.surfaces import Plane

#: Triangles that turn by more than this over a side belong to different faces.
CREASE = np.radians(35.0)
#: Triangles of one face lean by no more than this from its mean normal, so that it can be seen from one side.
_WIDEST = np.radians(55.0)


def faceted(body: Body) -> bool:
    """Whether a body is made of triangles."""
    return bool(body.uses) and all(isinstance(use.face.surface, Facets) for use in body.uses)


@dataclass(frozen=True, slots=True, eq=False)
class Triangles:
    """points (n,3), corners (m,3) rows of points, and the name of what they belong to."""

    points: Floats
    corners: Ints
    name: str = "part"
    colour: tuple[float, float, float] | None = None


def soup_of(body: Body) -> Triangles:
    """The triangles of a body, looking out of it."""
    points, corners, start = [], [], 0
    for use in body.uses:
        mesh = face_mesh(use.face)
        own = mesh.triangles if use.forward else mesh.triangles[:, ::-1]
        points.append(mesh.points)
        corners.append(own + start)
        start += len(mesh.points)
    return Triangles(np.concatenate(points), np.concatenate(corners), body.name, body.colour)


def welded(points: Floats, corners: Ints) -> tuple[Floats, Ints]:
    """Equal points become one; triangles that have a corner twice go."""
    first, target = _same_points(np.ascontiguousarray(points + 0.0))  # there is a negative zero
    made = target[corners]
    keep = (made[:, 0] != made[:, 1]) & (made[:, 1] != made[:, 2]) & (made[:, 2] != made[:, 0])
    return points[first], made[keep]


@njit(cache=True)
def _same_points(points: Floats) -> tuple[Ints, Ints]:
    """Rows (k,) of the first of each set of equal points, and for every point (n,) which set it is of."""
    n = len(points)
    size = 16
    while size < 2 * n:
        size *= 2
    table = np.full(size, -1, np.int64)
    bits = points.view(np.uint64)
    first, target = np.empty(n, np.int64), np.empty(n, np.int64)
    count = 0
    for i in range(n):
        h = np.uint64(1469598103934665603)
        for c in range(3):
            h = (h ^ bits[i, c]) * np.uint64(1099511628211)
            h ^= h >> np.uint64(29)
        slot = np.int64(h & np.uint64(size - 1))
        while True:
            k = table[slot]
            if k < 0:
                table[slot] = count
                first[count], target[i] = i, count
                count += 1
                break
            j = first[k]
            if points[j, 0] == points[i, 0] and points[j, 1] == points[i, 1] and points[j, 2] == points[i, 2]:
                target[i] = k
                break
            slot = (slot + 1) & (size - 1)
    return first[:count].copy(), target


def bodies_of(parts: Sequence[Triangles]) -> tuple[list[Body], list[str]]:
    """Bodies, one for each connected set of triangles of a part, and what was left out, in words.

    A set that is inside out and lies within another is a void of that one.
    """
    bodies: list[Body] = []
    notes: list[str] = []
    for part in parts:
        noise = 1e-14 * float(np.abs(part.points).max(initial=0.0))
        points, corners = welded(np.where(np.abs(part.points) < noise, 0.0, part.points), part.corners)
        lost = len(part.corners) - len(corners)
        if lost:
            notes.append(f"{part.name}: {lost} triangles without area left out")
        if not len(corners):
            continue
        sets = connected_sets(len(points), corners)
        named = len(np.unique(sets)) > 1
        order = np.argsort(sets, kind="stable")
        cuts = np.flatnonzero(np.diff(sets[order])) + 1
        pieces = sorted(np.split(order, cuts), key=len, reverse=True)
        found = []
        for rows in pieces:
            used, local = np.unique(corners[rows], return_inverse=True)
            found.append((points[used], local.reshape(-1, 3)))
        for k, (group, inner) in enumerate(_with_voids(found)):
            uses = _uses(*group) + [use for one in inner for use in _uses(*one)]
            name = f"{part.name} {k + 1}" if named and k else part.name
            bodies.append(Body(tuple(uses), name, colour=part.colour))
    return bodies, notes


def connected_sets(n: int, corners: Ints) -> Ints:
    """The connected set (m,) that each triangle belongs to; common sides connect."""
    sides = np.sort(np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    key = sides[:, 0] * n + sides[:, 1]
    owner = np.tile(np.arange(len(corners)), 3)
    order = np.argsort(key, kind="stable")
    same = np.flatnonzero(key[order[1:]] == key[order[:-1]])
    a, b = owner[order[same]], owner[order[same + 1]]
    graph = scipy.sparse.coo_array((np.ones(len(a)), (a, b)), shape=(len(corners),) * 2)
    return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])


_Piece = tuple[Floats, Ints]


def enclosed(points: Floats, corners: Ints) -> float:
    """The signed volume that triangles enclose."""
    a, b, c = (points[corners[:, k]] for k in range(3))
    return float(np.einsum("ij,ij->", a, cross_product(b, c)) / 6.0)


def _with_voids(pieces: list[_Piece]) -> list[tuple[_Piece, list[_Piece]]]:
    """Outer pieces with the inside-out ones that lie within their boxes."""
    volumes = [enclosed(*piece) for piece in pieces]
    outer = [k for k, v in enumerate(volumes) if v > 0.0]
    inner: dict[int, list[_Piece]] = {k: [] for k in outer}
    alone = []
    for k, (p, c) in enumerate(pieces):
        if volumes[k] > 0.0:
            continue
        for o in outer:
            q = pieces[o][0]
            within = (p.min(axis=0) > q.min(axis=0)).all() and (p.max(axis=0) < q.max(axis=0)).all()
            if within and volumes[o] > -volumes[k] and _closed(pieces[o][1]) and _closed(c):
                inner[o].append((p, c))
                break
        else:
            alone.append(k)
    return [(pieces[k], inner.get(k, [])) for k in sorted(outer + alone)]


def _closed(corners: Ints) -> bool:
    n = int(corners.max()) + 1
    a = np.concatenate([corners[:, k] * n + corners[:, (k + 1) % 3] for k in range(3)])
    b = np.concatenate([corners[:, (k + 1) % 3] * n + corners[:, k] for k in range(3)])
    return len(np.unique(a)) == len(a) and bool(np.array_equal(np.sort(a), np.sort(b)))


@dataclass(slots=True)
class _Sides:
    """Directed sides (3m,2), the face of each, whether it lies on a border, and its soft partner or -1."""

    ends: Ints
    patch: Ints
    border: Ints
    partner: Ints


def regrouped(points: Floats, corners: Ints, label: Ints) -> tuple[list[FaceUse], list[int]]:
    """Faces of triangles (m,3) that bear one label (m,) each, and the label of each. What cannot be seen from one side
    is several faces."""
    uses, sides = _labelled(points, corners, label)
    first = np.full(len(uses), -1, dtype=np.int64)
    patch = sides.patch[: len(corners)]
    first[patch[::-1]] = np.arange(len(corners))[::-1]
    return uses, label[first].tolist()


def _uses(points: Floats, corners: Ints) -> list[FaceUse]:
    """The faces of one connected set of triangles."""
    return _labelled(points, corners, None)[0]


def _labelled(points: Floats, corners: Ints, label: Ints | None) -> tuple[list[FaceUse], _Sides]:
    sides = _sides(points, corners, label)
    edges, stops = _edges(points, sides)
    m = len(corners)
    loops = _loops(sides, edges, stops, m)
    uses = []
    for patch, rows in enumerate(_by_patch(sides.patch[:m])):
        used, local = np.unique(corners[rows], return_inverse=True)
        surface = Facets(frozen(points[used]), np.ascontiguousarray(local.reshape(-1, 3)))
        uses.append(FaceUse(Face(surface, tuple(loops.get(patch, [])))))
    return uses, sides


def _by_patch(patch: Ints) -> list[Ints]:
    """The triangles of each patch, of numbers (m,)."""
    return np.split(np.argsort(patch, kind="stable"), np.cumsum(np.bincount(patch))[:-1])


def _sides(points: Floats, corners: Ints, label: Ints | None) -> _Sides:
    m, n = len(corners), len(points)
    ends = np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)])
    owner = np.tile(np.arange(m), 3)
    low, high = ends.min(axis=1), ends.max(axis=1)
    key = low * n + high
    order = np.argsort(key, kind="stable")
    _, start, count = np.unique(key[order], return_index=True, return_counts=True)
    pair = start[count == 2]
    a, b = order[pair], order[pair + 1]
    opposed = ends[a, 0] == ends[b, 1]
    a, b = a[opposed], b[opposed]
    p = points[corners]
    normal = cross_product(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    if label is None:
        soft = (normal[owner[a]] * normal[owner[b]]).sum(axis=1) > np.cos(CREASE)
    else:
        soft = label[owner[a]] == label[owner[b]]
    graph = scipy.sparse.coo_array((np.ones(int(soft.sum())), (owner[a[soft]], owner[b[soft]])), shape=(m, m))
    smooth = np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])
    near = np.full((m, 3), -1)
    near[owner[a[soft]], a[soft] // m], near[owner[b[soft]], b[soft] // m] = owner[b[soft]], owner[a[soft]]
    area = np.linalg.norm(cross_product(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    seen = _seen_from_one_side(normal, area, near, smooth)
    patch = _over_itself_parted(points, corners, normal * area[:, None], near, seen)
    # A crease that ends within one face is no border.
    inner = patch[owner[a]] == patch[owner[b]]
    partner = np.full(3 * m, -1)
    partner[a[inner]], partner[b[inner]] = b[inner], a[inner]
    return _Sides(ends, np.tile(patch, 3), (partner < 0).astype(np.int64), partner)


_BySide = dict[tuple[int, int], tuple[Edge, bool]]


@njit(cache=True)
def _seen_from_one_side(normal: Floats, area: Floats, near: Ints, smooth: Ints) -> Ints:
    """Patches (m,) of triangles that lean little from their mean normal: grown from the largest triangle
    left, nearest in direction first; `near` (m,3) are neighbours within the smooth sets (m,)."""
    m = len(normal)
    patch = np.full(m, -1, np.int64)
    # A smooth set that leans little as a whole stays whole.
    sets = smooth.max() + 1
    mean = np.zeros((sets, 3))
    for t in range(m):
        mean[smooth[t]] += area[t] * normal[t]
    whole = np.ones(sets, np.bool_)
    for s in range(sets):
        mean[s] /= max(np.sqrt((mean[s] ** 2).sum()), 1e-300)
    for t in range(m):
        if normal[t] @ mean[smooth[t]] < np.cos(_WIDEST):
            whole[smooth[t]] = False
    number = np.full(sets, -1, np.int64)
    count = 0
    for t in range(m):
        if whole[smooth[t]]:
            if number[smooth[t]] < 0:
                number[smooth[t]] = count
                count += 1
            patch[t] = number[smooth[t]]
    order = np.argsort(-area)
    queue = np.empty(m, np.int64)
    for start in order:
        if patch[start] >= 0:
            continue
        way = normal[start].copy()
        for grown in range(2):  # once about the first triangle, once about what that gave
            head, tail = 0, 1
            queue[0] = start
            patch[start] = count
            total = area[start] * normal[start]
            while head < tail:
                t = queue[head]
                head += 1
                for k in range(3):
                    q = near[t, k]
                    if q >= 0 and patch[q] < 0 and normal[q] @ way > np.cos(_WIDEST):
                        patch[q] = count
                        total = total + area[q] * normal[q]
                        queue[tail] = q
                        tail += 1
            middle = total / max(np.sqrt((total**2).sum()), 1e-300)
            if grown == 0 and normal[start] @ middle > np.cos(_WIDEST):
                way = middle
                for k in range(tail):
                    patch[queue[k]] = -1
            elif grown == 0:
                break
        count += 1
    return patch


def _over_itself_parted(points: Floats, corners: Ints, cross: Floats, near: Ints, patch: Ints) -> Ints:
    """Patches (m,), those parted that lie over themselves when they are seen along their mean normal, as the turns of
    a spiral do: each of their triangles goes with the nearer of two far ends."""
    m = len(patch)
    inner = (near >= 0) & (patch[near] == patch[:, None])
    out, count = patch.copy(), int(patch.max(initial=-1)) + 1
    local = np.full(m, -1)
    sets = _over_themselves(points, corners, cross, inner, _by_patch(patch))
    while sets:
        halves: list[Ints] = []
        for rows in sets:
            local[rows] = np.arange(len(rows))
            beyond = _beyond(np.where(inner[rows], local[near[rows]], -1))
            if not beyond.any() or beyond.all():
                continue
            halves += [rows[~beyond], rows[beyond]]
            out[rows[beyond]] = count
            count += 1
            inner[rows] &= out[near[rows]] == out[rows][:, None]
        sets = _over_themselves(points, corners, cross, inner, halves)
    return out


@njit(cache=True)
def _beyond(near: Ints) -> Bools:
    """Which of some triangles are nearer, in steps, to the other one of two far ends; near (n,3), -1 for none."""
    n = len(near)
    away = np.full((3, n), n)
    queue = np.empty(n, dtype=np.int64)
    start = 0
    for turn in range(3):  # the first only finds an end
        steps = away[turn]
        steps[start] = 0
        queue[0] = start
        head, tail = 0, 1
        while head < tail:
            t = queue[head]
            head += 1
            for k in range(3):
                q = near[t, k]
                if q >= 0 and steps[q] == n:
                    steps[q] = steps[t] + 1
                    queue[tail] = q
                    tail += 1
        start = 0
        for t in range(n):
            if steps[t] < n and steps[t] > steps[start]:
                start = t
    return away[2] < away[1]


def _over_themselves(points: Floats, corners: Ints, cross: Floats, inner: Bools, sets: list[Ints]) -> list[Ints]:
    """Those sets of triangles that lie over themselves, seen along their mean normal: whose rims cross themselves."""
    sets = [rows for rows in sets if len(rows) > 2]
    if not sets:
        return []
    ways = np.array([cross[rows].sum(axis=0) for rows in sets])
    rows = np.concatenate(sets)
    which, k = np.nonzero(~inner[rows])
    own = np.repeat(np.arange(len(sets)), [len(one) for one in sets])[which]
    ends = np.stack([corners[rows[which], k], corners[rows[which], (k + 1) % 3]], axis=1)
    # All are looked at in one go, side by side in one plane.
    x = np.zeros_like(ways)
    x[np.arange(len(sets)), np.abs(ways).argmin(axis=1)] = 1.0
    x = cross_product(ways, x)
    x /= np.maximum(np.linalg.norm(x, axis=1, keepdims=True), 1e-300)
    y = cross_product(ways, x)
    y /= np.maximum(np.linalg.norm(y, axis=1, keepdims=True), 1e-300)
    flat = np.stack([(points[ends] * axis[own][:, None]).sum(axis=2) for axis in (x, y)], axis=2)
    low, high = np.full(len(sets), np.inf), np.full(len(sets), -np.inf)
    np.minimum.at(low, own, flat[:, :, 0].min(axis=1))
    np.maximum.at(high, own, flat[:, :, 0].max(axis=1))
    width = np.where(high >= low, high - low, 0.0)
    start = np.cumsum(1.1 * width + 1e-3 * width.max()) - width
    flat[:, :, 0] += np.where(high >= low, start - low, 0.0)[own][:, None]
    made = shapely.linestrings(flat)
    hits = shapely.STRtree(made).query(made, predicate="crosses")[0]
    over = np.zeros(len(sets), dtype=np.bool_)
    over[own[hits]] = True
    return [sets[k] for k in np.flatnonzero(over).tolist()]


def _edges(points: Floats, sides: _Sides) -> tuple[_BySide, set[int]]:
    """Polyline edges along borders, by directed side with whether they run that way; and where they end."""
    rows = np.flatnonzero(sides.border)
    ends = np.sort(sides.ends[rows], axis=1)
    n = len(points)
    key = ends[:, 0] * n + ends[:, 1]
    unique, inverse = np.unique(key, return_inverse=True)
    a, b = unique // n, unique % n
    # The faces on a side, as one number; where it changes, an edge ends.
    who: list[tuple[int, ...]] = [() for _ in unique]
    for k, row in zip(inverse.reshape(-1).tolist(), rows.tolist(), strict=True):
        who[k] = (*who[k], int(sides.patch[row]))
    who = [tuple(sorted(w)) for w in who]
    at: dict[int, list[int]] = {}
    for k, (i, j) in enumerate(zip(a.tolist(), b.tolist(), strict=True)):
        at.setdefault(i, []).append(k)
        at.setdefault(j, []).append(k)
    stops = {v for v, ks in at.items() if len(ks) != 2 or who[ks[0]] != who[ks[1]]}
    vertices = {v: Vertex(frozen(points[v])) for v in stops}
    done: set[int] = set()
    out: _BySide = {}

    def walk(first: int, begin: int) -> list[int]:
        chain, k, v = [begin], first, begin
        while True:
            done.add(k)
            v = int(b[k]) if int(a[k]) == v else int(a[k])
            chain.append(v)
            if v in stops or v == begin:
                return chain
            k = at[v][0] if at[v][1] == k else at[v][1]

    def keep(chain: list[int]) -> None:
        line = points[chain]
        along = run_along(line)
        curve = BSplineCurve(frozen([along[0], *along, along[-1]]), 1, frozen(line))
        ring = chain[0] == chain[-1] and chain[0] not in stops
        ends = (None, None) if ring else (vertices[chain[0]], vertices[chain[-1]])
        edge = Edge(curve, 0.0, float(along[-1]), *ends)
        for p, q in itertools.pairwise(chain):
            out[p, q], out[q, p] = (edge, True), (edge, False)

    for v in sorted(stops):
        for k in at[v]:
            if k not in done:
                keep(walk(k, v))
    for k in range(len(unique)):
        if k not in done:
            keep(walk(k, int(a[k])))
    return out, stops


def _loops(sides: _Sides, edges: _BySide, stops: set[int], m: int) -> dict[int, list[Loop]]:
    """Loops by face: from border side to border side, turning about their common corner within the face."""
    border = np.flatnonzero(sides.border).tolist()
    left = set(border)
    loops: dict[int, list[Loop]] = {}
    for first in border:
        if first not in left:
            continue
        walk, row = [], first
        while row in left:
            left.discard(row)
            walk.append(row)
            row = (row + m) % (3 * m)  # the next side of the same triangle
            while sides.partner[row] >= 0:
                row = (int(sides.partner[row]) + m) % (3 * m)
        coedges: list[Coedge] = []
        start = next((k for k, r in enumerate(walk) if int(sides.ends[r, 0]) in stops), 0)
        for row in walk[start:] + walk[:start]:
            edge, forward = edges[int(sides.ends[row, 0]), int(sides.ends[row, 1])]
            if not coedges or coedges[-1].edge is not edge or coedges[-1].forward != forward:
                coedges.append(Coedge(edge, forward))
        loops.setdefault(int(sides.patch[first]), []).append(tuple(coedges))
    return loops


def as_planes(body: Body) -> Body:
    """The body with every triangle of its facets faces a plane face of its own; itself where it has none."""
    if not any(isinstance(use.face.surface, Facets) for use in body.uses):
        return body
    corners: dict[int, Vertex] = {}
    sides: dict[tuple[int, int], Edge] = {}
    uses: list[FaceUse] = []
    inner = -1
    for use in body.uses:
        if not isinstance(use.face.surface, Facets):
            uses.append(use)
            continue
        mesh = face_mesh(use.face)
        keys = mesh.keys.copy()
        loose = np.flatnonzero(keys < 0)
        keys[loose] = np.arange(inner, inner - len(loose), -1)
        inner -= len(loose)
        for key, point in zip(keys.tolist(), mesh.points, strict=True):
            if key not in corners:
                corners[key] = Vertex(frozen(point))
        for triangle in keys[mesh.triangles].tolist():
            loop = []
            for i, j in zip(triangle, triangle[1:] + triangle[:1], strict=True):
                low, high = min(i, j), max(i, j)
                if (low, high) not in sides:
                    p, q = corners[low].point, corners[high].point
                    sides[low, high] = Edge(
                        Line.through(p, q), 0.0, float(np.linalg.norm(q - p)), corners[low], corners[high]
                    )
                loop.append(Coedge(sides[low, high], i == low))
            a, b, c = (corners[k].point for k in triangle)
            plane = Plane.of(a, cross_product(b - a, c - a), b - a)
            uses.append(FaceUse(Face(plane, (tuple(loop),), True, use.face.label), use.forward))
    return replace(body, uses=tuple(uses), uid=new_uid())
