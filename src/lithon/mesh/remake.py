"""The surface mesh remade over what it does not follow.

What the faces' own mesh has beside drapes and below the ignore size is collapsed, split, swapped and smoothed in
space, each node brought back onto the true surfaces (Botsch & Kobbelt, *A remeshing approach to multiresolution
modeling*, 2004; Frey & Borouchaki 1998). Nodes on edges that stay keep to them, the corners of such edges stay; all
else of the mesh is as it was. From then on triangles are not tied to charts any more: where the tetrahedra miss one,
its side is halved.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Sequence
from dataclasses import dataclass, replace
from functools import cached_property

import numpy as np

from lithon.arrays import Bools, Floats, Ints
from lithon.brep.analysis.crossings import cutting_pairs
from lithon.brep.charts import parts_of
from lithon.brep.measures import face_width
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Edge, Face
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.surfaces import Plane
from lithon.mesh.closing import Closing
from lithon.mesh.drapes import Ignored, ignored
from lithon.mesh.sizing import SizeRules
from lithon.mesh.skin import Skin, side_of
from lithon.mesh.surface import SurfaceMesh, surface_mesh
from lithon.mesh.tips import draw_together, necks, tips
from lithon.mesh.web import inner_nodes, middles, near, settle, web_of
from lithon.mesh.web_changes import collapse_all, split_all, swap_all
from lithon.progress import pulse

_ROUNDS = 8
#: How many sides away from what is not followed a drape's own mesh is still worked over.
_RINGS = 5
_TRIES = 4
#: Triangles whose height is below this share of the wanted size want smaller ones around them.
_TOO_FLAT = 0.12
#: How many times as large as what is small the elements beside it are.
_BESIDE = 2.0
#: How often elements are made smaller beside what is smaller than they are.
_GRADINGS = 3
#: Tips sharper than this (radians) are left as they are.
_TIP = 0.06


def remade(surface: SurfaceMesh, avoid: Collection[Face] = ()) -> SurfaceMesh:
    """The mesh without what its rules say is not followed; itself where that is nothing. Where triangles would pass
    through each other, as in a wall thinner than what is ignored, and beside faces to be avoided, all is followed."""
    found = ignored(surface.bodies, surface.sizes.rules).without(avoid)
    held = set(avoid)
    for _ in range(_TRIES):
        at_tips = _Tips(surface, held)
        if not found and at_tips.none():
            return surface
        work = _Remaker(surface, found, at_tips)
        if not len(work.touched):
            return surface
        out = work.run()
        triangles, of = out.triangles()
        bad = {surface.faces[j] for j in np.unique(of[cutting_pairs(out.points(), triangles)].ravel())}
        less = found.without(bad)
        if less is found and bad <= held:  # what passes through each other does so when it is followed, too
            return out
        found, held = less, held | bad
    return surface


class _Tips:
    """The tips and necks of faces of a mesh, as far as they may be drawn together below the ignore size."""

    def __init__(self, surface: SurfaceMesh, avoid: Collection[Face]):
        self.surface, self.closing = surface, Closing(surface.bodies, surface.sizes.rules, avoid)
        self.limit = self.closing.limit

    @cached_property
    def _whole(self) -> dict[Face, Face]:
        return {part: f for body in self.surface.bodies for f in dict.fromkeys(body.faces) for part in parts_of(f)}

    def _fit(self, faces: Ints) -> Bools:
        """Of faces (n,), by their numbers."""
        known = {j: self.closing.may(self._whole[self.surface.faces[j]]) for j in np.unique(faces).tolist()}
        return np.array([known[j] for j in faces.tolist()], dtype=np.bool_)

    def bound(self) -> Ints:
        """The nodes that stay in any case: where more than two faces meet along an edge, or fewer, and where faces
        touch."""
        ends = [ids for edge, ids in self.surface.edge_nodes.items() if len(self.closing.around[edge]) != 2]
        return np.concatenate([np.array(self.surface.twice, dtype=np.int64), *ends])

    def at_first(self) -> tuple[Ints, Floats]:
        """Those of the mesh as it is."""
        return self.among(self.surface.points(), *self.surface.triangles(), self.surface.sides())

    def among(self, points: Floats, triangles: Ints, of: Ints, kept: Ints) -> tuple[Ints, Floats]:
        """The nodes and faces (k,2), by number, at the tips that are drawn together, of triangles (m,3), of faces
        (m,), between kept sides (s,2). And the places (j,3) up to which others will be, if there are nodes."""
        if not self.limit or not len(kept):
            return np.zeros((0, 2), dtype=np.int64), np.zeros((0, 3))
        found, wide, places = tips(points, triangles, of, kept, self.limit)
        return found[self._fit(found[:, 1])], places[self._fit(wide[:, 1])].reshape(-1, 3)

    def across(self, points: Floats, triangles: Ints, of: Ints, kept: Ints) -> Ints:
        """The nodes and faces (k,3), two and one, at the necks that are drawn together: of faces that are wider
        elsewhere, for what is narrow all along, as the rim of a foil, is no neck."""
        if not self.limit or not len(kept):
            return np.zeros((0, 3), dtype=np.int64)
        found = necks(points, triangles, of, kept, self.limit)
        found = found[self._fit(found[:, 2])]
        wide = {
            j: face_width(self._whole[self.surface.faces[j]]) >= self.limit for j in np.unique(found[:, 2]).tolist()
        }
        return found[np.array([wide[j] for j in found[:, 2].tolist()], dtype=np.bool_)]

    def none(self) -> bool:
        """Whether there are none, nor necks."""
        first = self.surface.points(), *self.surface.triangles(), self.surface.sides()
        return not len(self.at_first()[0]) and not len(self.across(*first))


@dataclass(frozen=True, slots=True, eq=False)
class Thin:
    """The triangles (n,) of a surface mesh that are much flatter than the elements beside them, with their heights (n,)
    and the lengths (n,3) of their sides; lack: how much of that there is (mm), by length and by how far too flat."""

    rows: Ints
    height: Floats
    sides: Floats
    lack: float

    @staticmethod
    def of(surface: SurfaceMesh) -> Thin:
        v = surface.points()[surface.triangles()[0]]
        sides = np.linalg.norm(v - np.roll(v, -1, axis=1), axis=2)
        double = np.linalg.norm(np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
        long = sides.max(axis=1)
        height = double / np.maximum(long, 1e-300)
        short_of = 1.0 - height / (_TOO_FLAT * surface.sizes.at(v.mean(axis=1)))
        rows = np.flatnonzero(short_of > 0.0)
        return Thin(rows, height[rows], sides[rows], float((long * short_of)[rows].sum()))


def finer(surface: SurfaceMesh, thin: Thin) -> SizeRules:
    """The rules with smaller elements wherever something is much smaller than the elements beside it: at edges that
    could not be drawn together, in faces that could not be draped, where a face has a narrow neck."""
    rules = surface.sizes.rules
    triangles, of = surface.triangles()
    v = surface.points()[triangles[thin.rows]]
    segments = surface.on_edges()
    whole = {part: f for body in surface.bodies for f in dict.fromkeys(body.faces) for part in parts_of(f)}
    limit = rules.ignore or 0.0
    found: dict[Face | Edge, None] = {}
    spots: list[tuple[float, float, float, float]] = []
    for j, t in enumerate(thin.rows.tolist()):
        face = whole[surface.faces[int(of[t])]]
        corners, sides, height = triangles[t].tolist(), thin.sides[j], float(thin.height[j])
        small = max(_BESIDE * height, rules.smallest * rules.size)
        k = int(sides.argmax())
        along = [segments.get(side_of(corners[i], corners[(i + 1) % 3])) for i in range(3)]
        tip = sum(e is not None for e in along) == 2 and along[int(sides.argmin())] is None
        if tip and height < _TIP * float(sides[k]):
            continue  # a tip between two edges is as sharp in small elements
        share = np.linspace(0.0, 1.0, 2 + int(min(400.0, float(sides[k]) / small)))[:, None]
        spots += [(*x, small) for x in (v[j, k] + share * (v[j, (k + 1) % 3] - v[j, k])).tolist()]
        if limit and face_width(face) < limit:
            found[face] = None
        found |= dict.fromkeys(e for e in along if e is not None and e.length < limit)
    fresh = (x for x in found if x not in rules.followed)
    return replace(rules, followed=(*rules.followed, *fresh), steep=(*rules.steep, *spots))


def graded(plain: SurfaceMesh, avoid: Collection[Face] = ()) -> tuple[SurfaceMesh, SurfaceMesh]:
    """The faces' own mesh, and what is made of it where not all is followed; with smaller elements beside what is small
    and stays, where that leaves fewer needles."""
    _, ends = _Tips(plain, avoid).at_first()
    if len(ends):
        rules = plain.sizes.rules
        spots = tuple((*x, rules.ignore or 0.0) for x in ends.tolist())
        plain = surface_mesh(plain.bodies, plain.sizes.steeper(replace(rules, steep=(*rules.steep, *spots))), plain)
    surface = remade(plain, avoid)
    thin = Thin.of(surface)
    best = thin.lack, plain, surface
    for _ in range(_GRADINGS):
        if not len(thin.rows):
            break
        plain = surface_mesh(plain.bodies, plain.sizes.steeper(finer(surface, thin)), plain)
        surface = remade(plain, avoid)
        thin = Thin.of(surface)
        if thin.lack < best[0]:
            best = thin.lack, plain, surface
    return best[1:]


class _Remaker:
    """The mesh as it is remade."""

    def __init__(self, surface: SurfaceMesh, found: Ignored, at_tips: _Tips):
        self.surface, self.found, self.tips = surface, found, at_tips
        self.faces = surface.faces
        points = surface.points()
        triangles, of = surface.triangles()
        self.edges = list(surface.edge_nodes)
        soft = np.zeros(len(points), dtype=np.bool_)
        sides, numbers = [np.zeros((0, 2), dtype=np.int64)], [np.zeros(0, dtype=np.int64)]
        for k, (edge, ids) in enumerate(surface.edge_nodes.items()):
            if edge in found.soft:
                soft[ids] = True
                continue
            walk = np.append(ids, ids[0]) if edge.ring else ids
            sides.append(np.stack([walk[:-1], walk[1:]], axis=1))
            numbers.append(np.full(len(walk) - 1, k))
        kept, number = np.concatenate(sides), np.concatenate(numbers)
        is_tiny = np.array([edge in found.tiny for edge in self.edges], dtype=np.bool_)
        tiny = is_tiny[number]
        whole = {part: f for body in surface.bodies for f in dict.fromkeys(body.faces) for part in parts_of(f)}
        of_group = {f: k for k, group in enumerate(found.groups) for f in group}
        self.group = np.array([of_group.get(whole[f], -1) for f in self.faces], dtype=np.int64)
        small = np.array([whole[f] in found.small for f in self.faces], dtype=np.bool_)
        sizes = np.asarray(surface.sizes.at(points))
        self.web = web_of(
            points,
            sizes,
            _ranks(self.faces, triangles, of, len(points)),
            triangles,
            of,
            kept,
            number,
            tiny,
            self.group,
            small,
        )
        # What may change: draped faces about the edges that are not followed, and around what is drawn together.
        draped, narrow, ends = (np.zeros(len(self.web.p), dtype=np.bool_) for _ in range(3))
        draped[triangles[self.group[of] >= 0]] = True
        narrow[triangles[small[of]]] = True
        ends[kept[tiny]] = True
        narrow[: len(soft)] |= soft
        self.web.free[:] = near(self.web, narrow & draped, _RINGS, draped) | near(self.web, ends, 2, np.ones_like(ends))
        self.closed: set[int] = set()
        if not self._zip() and not self.web.free.any():
            self._zip(necks_too=True)
        self.touched = np.unique(of[self.web.free[triangles].any(axis=1)])

    def _zip(self, necks_too: bool = False) -> bool:
        """Draw the tips of faces together, or necks as well; whether there are any."""
        w = self.web
        rows = np.flatnonzero(w.tri[: w.used[1], 0] >= 0)
        a, at = np.nonzero(np.arange(w.kept.shape[1]) < w.many[:, None])
        b = w.kept[a, at]
        kept = np.stack([a, b], axis=1)[a < b]
        at_tips, _ = self.tips.among(w.p, w.tri[rows], w.of[rows], kept)
        across = np.zeros((0, 3), dtype=np.int64)
        if necks_too:
            across = self.tips.across(w.p, w.tri[rows], w.of[rows], kept)
        together = np.zeros(len(w.p), dtype=np.bool_)
        if not len(at_tips) and not len(across):
            return False
        bound = np.zeros_like(together)
        bound[self.tips.bound()] = True
        ends = draw_together(w, at_tips, across, self.tips.limit, bound, together)
        if (ends < 0).all():
            return False
        self.closed -= set(at_tips[:, 0].tolist())  # what went on from where it ended before is the same tip
        self.closed |= set(ends[ends >= 0].tolist())
        w.free[:] |= near(w, together, 1, np.ones_like(together))
        return True

    def run(self) -> Skin:
        w, limit = self.web, self.surface.sizes.rules.ignore or 0.0
        self._tree, self._owner = _tree_of(self.faces, self.touched)
        dirty, necks_done = w.free.copy(), False
        for _ in range(_ROUNDS):
            pulse("draping the surface")
            now, dirty = dirty, np.zeros_like(dirty)
            changed = collapse_all(w, now, limit, dirty)
            if changed and self._zip():  # what ended bluntly, in a short edge, is a tip now
                changed += self._freed(dirty)
            first = int(w.used[0])
            changed += split_all(w, now | dirty, dirty)
            if w.used[0] > first:
                fresh = np.zeros_like(w.free)
                fresh[first : w.used[0]] = True
                self._moved(fresh, lambda p: self._tree.nearest(p)[1])
            swap_all(w, now | dirty, dirty)
            self._smooth(now | dirty)
            if not changed and not necks_done:  # what short edges and tips leave of them
                necks_done = True
                changed += self._freed(dirty) if self._zip(necks_too=True) else 0
            if not changed:
                break
        swap_all(w, w.free.copy(), dirty)
        self._moved(w.free, self._onto)
        return self._made()

    def _freed(self, dirty: Bools) -> int:
        """Take in what is free since something was drawn together; 1, for that is a change."""
        w = self.web
        dirty |= w.free
        rows = np.flatnonzero(w.tri[: w.used[1], 0] >= 0)
        self.touched = np.union1d(self.touched, w.of[rows[w.free[w.tri[rows]].any(axis=1)]])
        self._tree, self._owner = _tree_of(self.faces, self.touched)
        return 1

    def _moved(self, nodes: Bools, onto: Callable[[Floats], Floats]) -> None:
        """Nodes within drapes brought to where they should be, but where triangles would turn over."""
        inner, start, tri = inner_nodes(self.web, nodes)
        if len(inner):
            settle(self.web.p, inner, start, tri, onto(self.web.p[inner]))

    def _smooth(self, nodes: Bools) -> None:
        """Nodes within drapes moved to the middle of what is around them, and back onto the faces' triangles; onto the
        true surfaces in the end only, which are no more than the chords' height off."""
        inner, start, tri = inner_nodes(self.web, nodes)
        for _ in range(2 if len(inner) else 0):
            pulse()
            goal = self._tree.nearest(middles(self.web.p, start, tri))[1]
            settle(self.web.p, inner, start, tri, goal)

    def _onto(self, points: Floats) -> Floats:
        """Points (n,3) on the true surfaces, of the faces that are nearest."""
        row, at = self._tree.nearest(points)
        owner = self._owner[row]
        out = at.copy()
        for j in np.unique(owner):
            own = owner == j
            out[own] = self.faces[j].surface.project(points[own])
        far = (
            np.linalg.norm(out - at, axis=1)
            > np.linalg.norm(at - points, axis=1) + 1e-3 * self.surface.sizes.rules.size
        )
        out[far] = at[far]  # beyond the face's end the surface is another place
        return out

    # ---- the end

    def _made(self) -> Skin:
        """Numbered anew, each triangle with the face of its drape that is nearest."""
        w = self.web
        rows = np.flatnonzero(w.tri[: w.used[1], 0] >= 0)
        used, tri = np.unique(w.tri[rows], return_inverse=True)
        tri, of, points = tri.reshape(-1, 3), w.of[rows], w.p[used]
        for k in range(len(self.found.groups)):
            own = np.flatnonzero(self.group[of] == k)
            if len(own):
                mine = np.flatnonzero(self.group == k)
                tree, owner = _tree_of(self.faces, mine)
                of[own] = owner[tree.nearest(points[tri[own]].mean(axis=1))[0]]
        out = Skin(self.surface.bodies, self.surface.sizes, self.faces, list(points))
        number = np.full(len(w.p), -1)
        number[used] = np.arange(len(used))
        a, at = np.nonzero(np.arange(w.kept.shape[1]) < w.many[:, None])
        b, edge = number[w.kept[a, at]], w.edge[a, at]
        a = number[a]
        once = (a < b) & (a >= 0)  # of an edge between faces that were left out for failing there is nothing
        out.segments = {
            (int(s), int(t)): self.edges[e] for s, t, e in zip(a[once], b[once], edge[once].tolist(), strict=True)
        }
        there = set(out.segments.values())
        out.ignored = {
            "narrow_faces": len(self.found.small),
            "short_edges": len(self.found.tiny - there),
            "edges_draped_over": len(self.found.soft),
            "tips": len(self.closed),
        }
        out.draped = frozenset(f for j, f in enumerate(self.faces) if self.group[j] >= 0)
        out.set_triangles(tri, of)
        # Nodes within one face that is not draped may slide there.
        low, high = np.full(len(used), len(self.faces)), np.full(len(used), -1)
        np.minimum.at(low, tri, of[:, None])
        np.maximum.at(high, tri, of[:, None])
        on_edge = np.zeros(len(used), dtype=np.bool_)
        on_edge[np.array(list(out.segments), dtype=np.int64).ravel()] = True
        inner = np.flatnonzero((low == high) & ~on_edge & (self.group[np.minimum(low, len(self.faces) - 1)] < 0))
        inner = inner[np.argsort(low[inner], kind="stable")]
        parts = np.split(inner, np.searchsorted(low[inner], np.arange(1, len(self.faces))))
        for face, ids in zip(self.faces, parts, strict=True):
            out.inner[face], out.singular[face] = (ids, np.zeros((0, 2))), 0
        return out


def _ranks(faces: Sequence[Face], triangles: Ints, of: Ints, n: int) -> Ints:
    """On how many planes, faces of one plane taken as one, each of n nodes lies."""
    flat = [j for j, f in enumerate(faces) if isinstance(f.surface, Plane)]
    if not flat:
        return np.zeros(n, dtype=np.int64)
    z = np.array([faces[j].surface.frame.z for j in flat])
    origin = np.array([faces[j].surface.frame.origin for j in flat])
    z = z * np.where(z[np.arange(len(z)), np.abs(z).argmax(axis=1)] < 0.0, -1.0, 1.0)[:, None]
    key = np.round(np.column_stack([z, (z * origin).sum(axis=1)]), 6)
    plane = np.full(len(faces), -1)
    plane[flat] = np.unique(key, axis=0, return_inverse=True)[1].reshape(-1)
    rows = plane[of] >= 0
    pairs = np.unique(np.stack([triangles[rows].ravel(), np.repeat(plane[of[rows]], 3)], axis=1), axis=0)
    return np.bincount(pairs[:, 0], minlength=n)


def _tree_of(faces: Sequence[Face], rows: Ints) -> tuple[BoxTree, Ints]:
    """The triangles of some faces by place, and the number (t,) of the face of each."""
    meshes = [face_mesh(faces[j]) for j in rows.tolist()]
    base = np.cumsum([0, *(len(m.points) for m in meshes)])
    tree = BoxTree.of(
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.triangles + b for m, b in zip(meshes, base, strict=False)]),
    )
    return tree, np.repeat(rows, [len(m.triangles) for m in meshes])
