"""Recovery of the boundary: make every triangle of the surface mesh a face of the tetrahedra.

Where nodes are cocircular the tetrahedra may hold the other diagonal of two surface triangles: the
surface takes it. Where something else is in the way the surface mesh gets another node on the true
surface (conforming Delaunay: Shewchuk 1998; Si 2015 surveys the method), on the edge first.
"""

from __future__ import annotations

import itertools
from collections import defaultdict
from dataclasses import dataclass

import numpy as np
import scipy
from numba import njit

from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.charts import parts_of
from lithon.brep.topology import Edge, Face
from lithon.errors import Refusal, spot
from lithon.mesh.delaunay import FACE, Tetrahedra
from lithon.mesh.skin import Skin
from lithon.mesh.surface import SurfaceMesh
from lithon.progress import Progress

#: The corners of a tetrahedron's edges.
EDGE = np.array([[0, 1], [0, 2], [0, 3], [1, 2], [1, 3], [2, 3]])

#: More nodes a boundary may not have: three numbers of them make one of 63 bits.
_MOST_NODES = 1 << 21
_ROUNDS = 40
#: How many rounds may bring nothing; and how many more nodes a boundary may get, as a share of those it has and beside
#: that. What is recovered needs a sixth of that; what is not doubles them again and again.
_PATIENCE, _MORE_NODES = 5, (0.5, 500)
#: A node that stands nearer before a triangle, as a share of its circle, touches it.
_TOUCHING = 1e-5


@dataclass(frozen=True, slots=True)
class Failure:
    """Where meshing did not succeed: what, the face, the place, what to try, and of how many triangles."""

    what: str
    face: Face | None
    place: tuple[float, float, float]
    remedy: str
    count: int = 1

    def __str__(self) -> str:
        return f"{self.what} at {spot(self.place)}. Try: {self.remedy}"


def triple_keys(corners: Ints, n: int) -> Ints:
    """One integer per triangle (m,3), whatever the order of its corners; n bounds the numbers."""
    s = np.sort(corners, axis=1)
    return np.asarray((s[:, 0] * n + s[:, 1]) * n + s[:, 2])


def pair_keys(pairs: Ints, n: int) -> Ints:
    s = np.sort(pairs, axis=1)
    return np.asarray(s[:, 0] * n + s[:, 1])


def tet_faces(tet: Ints) -> Ints:
    """All faces (4m,3) of tetrahedra (m,4), face i of tetrahedron t at row 4 t + i."""
    return tet[:, FACE].reshape(-1, 3)


def recover(surface: SurfaceMesh, progress: Progress) -> tuple[Tetrahedra, list[Failure]]:
    """Tetrahedra holding all surface triangles, whose nodes 8.. are the surface nodes in order."""
    points = surface.points()
    if len(points) > 0.9 * _MOST_NODES:
        raise Refusal(f"the boundary has {len(points)} nodes, more than can be told apart", remedy="larger elements")
    space = Tetrahedra.box(points.min(axis=0), points.max(axis=0))
    space.add(points)
    face_of_edge: dict[Edge, list[Face]] = defaultdict(list)
    for face in surface.faces:
        for edge in dict.fromkeys(face.edges()):
            face_of_edge[edge].append(face)
    held = _Held(space)
    touched: dict[Face, float] = {}
    missing = np.zeros(0, dtype=np.int64)
    fewest = (len(surface.triangles()[0]) + 1, 0)
    most = len(surface.nodes) * (1.0 + _MORE_NODES[0]) + _MORE_NODES[1]
    for turn in range(_ROUNDS):
        progress.tell(0.1 + 0.15 * turn / _ROUNDS, "recovering the boundary")
        missing = _missing(surface, held)
        if not len(missing):
            return space, []
        fewest = min(fewest, (len(missing), turn))
        before, parts = len(surface.nodes), len(surface.triangles()[0])
        if turn - fewest[1] > _PATIENCE or before > most:
            break  # it only gets worse: what is draped there can be followed instead, or another size tried
        if not _add_nodes(surface, held, missing, face_of_edge, touched):
            break
        if len(surface.nodes) == before:
            if len(surface.triangles()[0]) == parts:
                break
            continue  # one that touches was parted at a node that is there
        if not space.add(np.array(surface.nodes[before:])).all():
            break
    return space, _failures(surface, missing)


@njit(cache=True, inline="always")
def _slot(key: int, mask: int) -> int:
    return int((key * 0x2545F4914F6CDD1D >> 20) & mask)


@njit(cache=True)
def _there(cells: Ints, corners: Ints, keys: Ints) -> Bools:
    """Which keys (k,), as `triple_keys` or `pair_keys` make them, are those of a face or an edge of cells (m,4);
    corners (c,3) or (c,2): which nodes of a cell make one."""
    mask = 1
    while mask < 2 * len(keys) + 2:
        mask *= 2
    table, mask = np.full(mask, -1, dtype=np.int64), mask - 1
    asked = np.zeros(_MOST_NODES, dtype=np.bool_)
    for k in range(len(keys)):
        rest = keys[k]
        for _ in range(corners.shape[1]):
            asked[rest % _MOST_NODES] = True
            rest //= _MOST_NODES
        slot = _slot(keys[k], mask)
        while table[slot] >= 0:
            slot = (slot + 1) & mask
        table[slot] = k
    out = np.zeros(len(keys), dtype=np.bool_)
    for t in range(len(cells)):
        for c in range(len(corners)):
            a, b = cells[t, corners[c, 0]], cells[t, corners[c, 1]]
            if not asked[a] or not asked[b]:
                continue
            key = min(a, b) * _MOST_NODES + max(a, b)
            if corners.shape[1] == 3:
                d = cells[t, corners[c, 2]]
                low, high = min(a, b, d), max(a, b, d)
                key = (low * _MOST_NODES + (a + b + d - low - high)) * _MOST_NODES + high
            slot = _slot(key, mask)
            while table[slot] >= 0:
                if keys[table[slot]] == key:
                    out[table[slot]] = True
                slot = (slot + 1) & mask
    return out


@njit(cache=True)
def _walls(cells: Ints, keys: Ints) -> Ints:
    """For the faces (m,4) of cells the number of the triangle, of keys (k,) as `triple_keys` makes them, that each is;
    -1 where it is none."""
    size = 16
    while size < 2 * len(keys):
        size *= 2
    mask = size - 1
    table = np.full(size, -1, dtype=np.int64)
    for k in range(len(keys)):
        slot = _slot(keys[k], mask)
        while table[slot] >= 0:
            slot = (slot + 1) & mask
        table[slot] = k
    out = np.full((len(cells), 4), -1, dtype=np.int64)
    for t in range(len(cells)):
        for i in range(4):
            a, b, d = cells[t, FACE[i, 0]], cells[t, FACE[i, 1]], cells[t, FACE[i, 2]]
            low, high = min(a, b, d), max(a, b, d)
            key = (low * _MOST_NODES + (a + b + d - low - high)) * _MOST_NODES + high
            slot = _slot(key, mask)
            while table[slot] >= 0:
                if keys[table[slot]] == key:
                    out[t, i] = table[slot]
                    break
                slot = (slot + 1) & mask
    return out


@njit(cache=True)
def _regions(cells: Ints, beside: Ints, wall: Ints) -> tuple[int, Ints]:
    """How many regions walls (m,4) part cells (m,4) into, and that of each (m,); -1 for what is no cell."""
    out = np.full(len(cells), -1, dtype=np.int64)
    queue = np.empty(len(cells), dtype=np.int64)
    count = 0
    for start in range(len(cells)):
        if cells[start, 0] < 0 or out[start] >= 0:
            continue
        out[start] = count
        queue[0] = start
        head, tail = 0, 1
        while head < tail:
            t = queue[head]
            head += 1
            for i in range(4):
                u = beside[t, i]
                if u >= 0 and wall[t, i] < 0 and out[u] < 0:
                    out[u] = count
                    queue[tail] = u
                    tail += 1
        count += 1
    return count, out


@njit(cache=True)
def _beside(cells: Ints, first: int, n: int) -> Bools:
    """Which of n nodes stand in a cell (m,4) with one from `first` on."""
    out = np.zeros(n, dtype=np.bool_)
    for t in range(len(cells)):
        if max(cells[t, 0], cells[t, 1], cells[t, 2], cells[t, 3]) >= first:
            for k in range(4):
                out[cells[t, k]] = True
    return out


class _Held:
    """Which triangles and sides of the surface the tetrahedra hold. What goes when nodes are put in stood around their
    cavities, so each of its corners is beside a new node: of what was held before, nothing else is asked again."""

    def __init__(self, space: Tetrahedra):
        self.space = space
        self._known: dict[int, Ints] = {}
        self._when: dict[int, int] = {}

    def of(self, corners: Ints) -> Bools:
        """For triangles (k,3) or sides (k,2) of surface nodes."""
        width, space = corners.shape[1], self.space
        corners = corners + 8
        keys = (triple_keys if width == 3 else pair_keys)(corners, _MOST_NODES)
        known = self._known.get(width, keys[:0])
        out = np.zeros(len(keys), dtype=np.bool_)
        if len(known):
            out = known[np.minimum(np.searchsorted(known, keys), len(known) - 1)] == keys
        cells = space.tet[space.live]
        # Of a node that did not go in nothing is there.
        n = max(space.points, int(corners.max(initial=0)) + 1)
        near = _beside(cells, self._when.get(width, 0), n)
        ask = np.flatnonzero(~out | near[corners].all(axis=1))
        out[ask] = _there(cells, FACE if width == 3 else EDGE, keys[ask])
        self._known[width], self._when[width] = np.sort(keys[out]), space.points
        return out

    def also(self, triangles: Ints) -> Bools:
        """For triangles (k,3) that the surface has not."""
        return _there(self.space.tet[self.space.live], FACE, triple_keys(triangles + 8, _MOST_NODES))


def _missing(surface: SurfaceMesh, held: _Held) -> Ints:
    """Indices of surface triangles that are no face of the tetrahedra, after taking other diagonals."""
    triangles, of = surface.triangles()
    lost = ~held.of(triangles)
    if lost.any() and _swap_ties(surface, triangles, of, lost, held):
        lost = ~held.of(surface.triangles()[0])
    return np.flatnonzero(lost)


def _swap_ties(surface: SurfaceMesh, triangles: Ints, of: Ints, lost: Bools, held: _Held) -> bool:
    """Exchange diagonals of pairs of lost triangles whose exchange is there. True if any changed."""
    index, followed = np.flatnonzero(lost), surface.on_edges()
    by_side = {(int(triangles[k, i]), int(triangles[k, i - 2])): k for k in index.tolist() for i in range(3)}
    found: list[tuple[int, int]] = []
    pairs: list[list[list[int]]] = []
    for k in index.tolist():
        for i in range(3):
            a, b, c = (int(triangles[k, (i + j) % 3]) for j in range(3))
            other = by_side.get((b, a))
            if other is None or of[other] != of[k] or (min(a, b), max(a, b)) in followed:
                continue  # an edge that is followed may have one face on both sides, where that is draped over
            d = int(next(v for v in triangles[other] if v not in (a, b)))
            found.append((k, other))
            pairs.append([[c, a, d], [d, b, c]])
    if not found:
        return False
    new = np.array(pairs, dtype=np.int64)
    there = held.also(new.reshape(-1, 3)).reshape(-1, 2).all(axis=1)
    diagonals = pair_keys(new[:, 0][:, [0, 2]], _MOST_NODES)
    # In a cusp a diagonal may be a side of the other face already.
    taken = set(diagonals[_there(triangles, np.array([[0, 1], [1, 2], [2, 0]]), diagonals)].tolist())
    changed: set[int] = set()
    points = surface.points() if there.any() else np.zeros((0, 3))
    for row in np.flatnonzero(there).tolist():
        k, other = found[row]
        diagonal = int(diagonals[row])
        if k in changed or other in changed or diagonal in taken:
            continue
        if _facing(surface.faces[int(of[k])], points, new[row]):
            triangles[k], triangles[other] = new[row]
            changed |= {k, other}
            taken.add(diagonal)
    if changed:
        surface.set_triangles(triangles, of)
    return bool(changed)


def _facing(face: Face, points: Floats, triangles: Ints) -> bool:
    """Whether triangles look along the face's normal."""
    v = points[triangles]
    cross = cross_product(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0])
    return bool(((cross * face.normal(v.mean(axis=1))).sum(axis=1) > 0.0).all())


def _add_nodes(
    surface: SurfaceMesh, held: _Held, missing: Ints, face_of_edge: dict[Edge, list[Face]], touched: dict[Face, float]
) -> bool:
    """A node on every model edge's stretch that is not there; else inside the faces that lack something. `touched`:
    faces on which nodes of others lie, which become their own, and how near (mm) these are; added to. Whether that
    could be done."""
    if isinstance(surface, Skin):
        _halve_sides(surface, missing, held)
        return True
    dirty: dict[Face, None] = {}
    every: list[tuple[Edge, Ints]] = []
    for edge, ids in list(surface.edge_nodes.items()):
        pairs = np.stack([ids, np.roll(ids, -1)], axis=1)
        if not edge.ring:
            pairs = pairs[:-1]
        every.append((edge, pairs))
    sides = np.concatenate([pairs for _, pairs in every])
    gone = ~held.of(sides)
    ends = np.cumsum([0, *(len(pairs) for _, pairs in every)])
    for (edge, pairs), first, last in zip(every, ends, ends[1:], strict=False):
        for a, b in pairs[gone[first:last]].tolist():
            surface.split_edge(edge, a, b)
            dirty.update(dict.fromkeys(face_of_edge[edge]))
    if not dirty:
        triangles, of = surface.triangles()
        points = surface.points()
        segments = surface.on_edges()
        split: set[tuple[int, int]] = set()
        taken: set[int] = set()
        opposite, there = _opposite(points, triangles[missing])
        for row, k in enumerate(missing.tolist()):
            corners = triangles[k]
            if there[row] >= 0:
                face = surface.faces[int(of[k])]
                reach = float(np.linalg.norm(points[corners] - points[np.roll(corners, 1)], axis=1).max())
                touched[face] = max(touched.get(face, 0.0), _TOUCHING * reach)
                continue
            if taken & set(corners.tolist()):
                continue  # one change per neighbourhood and round keeps the nodes apart
            taken |= set(corners.tolist())
            face = surface.faces[int(of[k])]
            if np.isfinite(opposite[row, 0]):
                surface.add_inner(face, opposite[row])
                dirty[face] = None
                continue
            own = [(int(corners[i]), int(corners[(i + 1) % 3])) for i in range(3)]
            lengths = [float(np.linalg.norm(points[a] - points[b])) for a, b in own]
            a, b = own[int(np.argmax(lengths))]
            key = (min(a, b), max(a, b))
            if key in split:
                continue
            split.add(key)
            owner = segments.get(key)
            if owner is not None:
                surface.split_edge(owner, a, b)
                dirty.update(dict.fromkeys(face_of_edge[owner]))
            else:
                if not surface.split_cut(face, a, b):
                    surface.add_inner(face, 0.5 * (points[a] + points[b]))
                dirty[face] = None
    for face, near in touched.items():
        nodes = surface.touching(face, near)
        if nodes is None:
            return False
        if len(nodes):
            surface.take_in(face, nodes.tolist())
            dirty[face] = None
    for face in dirty:
        surface.remesh_face(face)
    return True


def _opposite(points: Floats, triangles: Ints) -> tuple[Floats, Ints]:
    """Where triangles (m,3) want a node (m,3) because one of another face stands close before them: its foot, beside
    which it encroaches upon none of the parts (Shewchuk, *Tetrahedral mesh generation by Delaunay refinement*, 1998).
    Not a number where none does. And the node (m,) that stands there itself, where the two sides touch; else -1."""
    a, b, c = (points[triangles[:, k]] for k in range(3))
    e, f = b - a, c - a
    normal = cross_product(e, f)
    double = np.maximum(np.linalg.norm(normal, axis=1), 1e-300)[:, None]
    ee, ff = (e * e).sum(axis=1)[:, None], (f * f).sum(axis=1)[:, None]
    to = (ee * cross_product(f, normal) + ff * cross_product(normal, e)) / (2.0 * double**2)
    radius = np.linalg.norm(to, axis=1)
    unit = normal / double
    out, touched = np.full((len(triangles), 3), np.nan), np.full(len(triangles), -1)
    near = scipy.spatial.cKDTree(points).query_ball_point(a + to, radius * (1.0 - 1e-9))
    row = np.repeat(np.arange(len(triangles)), [len(ids) for ids in near])
    ids = np.fromiter(itertools.chain.from_iterable(near), dtype=np.int64, count=len(row))
    other = (ids[:, None] != triangles[row]).all(axis=1)
    row, ids = row[other], ids[other]
    away, look = points[ids] - a[row], unit[row]
    height = (away * look).sum(axis=1)
    foot = away - height[:, None] * look
    u = (cross_product(foot, f[row]) * look).sum(axis=1) / double[row, 0]
    v = (cross_product(e[row], foot) * look).sum(axis=1) / double[row, 0]
    apart = np.linalg.norm((a[row] + foot)[:, None] - points[triangles[row]], axis=2).min(axis=1)
    within = (np.minimum(u, v) > 0.02) & (u + v < 0.98)
    good = np.flatnonzero(within & (np.abs(height) < 0.2 * radius[row]) & (apart > 2.0 * np.abs(height)))
    good = good[np.lexsort((np.abs(height[good]), row[good]))]
    best = good[np.unique(row[good], return_index=True)[1]]
    k = row[best]
    out[k] = a[k] + foot[best]
    close = np.abs(height[best]) < _TOUCHING * radius[k]
    touched[k[close]] = ids[best[close]]
    return out, touched


def _halve_sides(surface: Skin, missing: Ints, held: _Held) -> None:
    """As `_add_nodes`, where triangles are tied to no chart."""
    sides = np.array(list(surface.segments), dtype=np.int64).reshape(-1, 2)
    lost = sides[~held.of(sides)].tolist()
    triangles, _ = surface.triangles()
    points, taken = surface.points(), set[int]()
    opposite, touched = _opposite(points, triangles[missing] if not lost else triangles[:0])
    pierced: dict[int, Floats | int] = {}
    for row, corners in enumerate(triangles[missing].tolist() if not lost else ()):
        if taken & set(corners):
            continue
        taken |= set(corners)
        if np.isfinite(opposite[row, 0]):
            pierced[int(missing[row])] = int(touched[row]) if touched[row] >= 0 else opposite[row]
            continue
        pairs = [(corners[i], corners[(i + 1) % 3]) for i in range(3)]
        lost.append(max(pairs, key=lambda s: float(np.linalg.norm(points[s[0]] - points[s[1]]))))
    surface.refine([(a, b) for a, b in lost], pierced)


def _failures(surface: SurfaceMesh, missing: Ints) -> list[Failure]:
    triangles, of = surface.triangles()
    points = surface.points()
    out = []
    for j in np.unique(of[missing]):
        rows = missing[of[missing] == j]
        p = points[triangles[rows[0]]].mean(axis=0)
        face = surface.faces[int(j)]
        out.append(Failure(
            f"{len(rows)} boundary triangles of a {face.surface.kind} face could not be recovered", face,
            (float(p[0]), float(p[1]), float(p[2])), "a smaller element size there, or clear the sharp corner",
            len(rows),
        ))  # fmt: skip
    return out


def wall_off(surface: SurfaceMesh, space: Tetrahedra) -> list[Failure]:
    """Mark surface triangles as walls and label every tetrahedron with its body (-1 outside)."""
    live = space.live
    tet = space.tet[live]
    triangles, of = surface.triangles()
    wall = _walls(tet, triple_keys(triangles + 8, _MOST_NODES))
    space.wall[live] = wall
    count, region = _regions(space.tet[: space.state[0]], space.nbr, space.wall)
    region = region[live]
    label = _region_labels(surface, space, tet, wall, region, count, triangles, of)
    space.lab[live] = np.where(label[region] >= 0, label[region], -1)
    leaks = np.flatnonzero(label == -2)
    if not len(leaks):
        return []
    middle = space.world()[tet[region == leaks[0]]].mean(axis=(0, 1))
    return [
        Failure(
            "two bodies, or a body and the outside, run into each other",
            None,
            (float(middle[0]), float(middle[1]), float(middle[2])),
            "check the bodies for overlaps",
        )
    ]


def _region_labels(
    surface: SurfaceMesh, space: Tetrahedra, tet: Ints, wall: Ints, region: Ints, count: int, triangles: Ints, of: Ints
) -> Ints:
    """The body of each region: told by the side on which it touches the faces; -2 where that conflicts."""
    ahead = np.full(len(surface.faces), -1, dtype=np.int64)
    behind = np.full(len(surface.faces), -1, dtype=np.int64)
    number = {face: k for k, face in enumerate(surface.faces)}
    for b, body in enumerate(surface.bodies):
        for use in body.uses:
            for part in parts_of(use.face):
                (behind if use.forward else ahead)[number[part]] = b
    t, i = np.nonzero(wall >= 0)
    corners = tet[t[:, None], FACE[i]] - 8
    want = triangles[wall[t, i]]
    # FACE runs so that the tetrahedron lies on the positive side: the same turning means "ahead".
    start = (want == corners[:, :1]).argmax(axis=1)
    same = want[np.arange(len(t)), (start + 1) % 3] == corners[:, 1]
    owner = np.where(same, ahead[of[wall[t, i]]], behind[of[wall[t, i]]])
    low = np.full(count, np.iinfo(np.int64).max)
    high = np.full(count, -1, dtype=np.int64)
    np.minimum.at(low, region[t], owner)
    np.maximum.at(high, region[t], owner)
    return np.where(low == np.iinfo(np.int64).max, -1, np.where(low == high, high, -2))
