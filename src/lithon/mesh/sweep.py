"""Hexahedra by sweep: a profile carried in layers along a line or around an axis.

A body is swept when it has a source and a target that one motion takes onto each other, and when
every other face is a wall which that motion slides along itself. Divisions are assigned over all
bodies at once: edges that must agree form classes, each class one number. Shared faces are meshed once.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field

import numpy as np
from scipy.spatial import cKDTree

from lithon.arrays import Floats, Ints
from lithon.brep.area import off_edge
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane
from lithon.geometry.swept import Extrusion
from lithon.mesh.hexes import hex_volumes
from lithon.mesh.mesh import Mesh
from lithon.mesh.quads import face_middle, four_sided, mapped, paved
from lithon.mesh.quality import Quality
from lithon.mesh.sizing import SizeRules
from lithon.mesh.walls import WallEdges, matched, wall_edges
from lithon.progress import SILENT, Progress


@dataclass(frozen=True, slots=True)
class Motion:
    """Along `way` by `amount` mm, or about `way` through `origin` by `amount` radians."""

    turning: bool
    origin: Floats
    way: Floats
    amount: float

    def at(self, points: Floats, share: float) -> Floats:
        """Points (n,3) after a share of the motion."""
        if not self.turning:
            return np.asarray(points + share * self.amount * self.way)
        a = share * self.amount
        p = points - self.origin
        along = np.multiply.outer(p @ self.way, self.way)
        return np.asarray(self.origin + along + np.cos(a) * (p - along) + np.sin(a) * np.cross(self.way, p))

    def length(self, points: Floats) -> float:
        """How far a typical point travels."""
        if not self.turning:
            return self.amount
        p = points - self.origin
        return float(np.linalg.norm(p - np.multiply.outer(p @ self.way, self.way), axis=1).mean() * self.amount)


@dataclass(frozen=True, slots=True, eq=False)
class Sweep:
    """How a body is swept: source faces, target faces, the walls between, and the motion."""

    body: Body
    source: tuple[FaceUse, ...]
    target: tuple[FaceUse, ...]
    walls: tuple[Face, ...]
    motion: Motion

    def end_edges(self) -> tuple[set[Edge], set[Edge]]:
        """The edges of the source and those of the target."""
        low, high = ({e for u in uses for e in u.face.edges()} for uses in (self.source, self.target))
        return low, high


def sweep_of(body: Body) -> Sweep:
    """How to sweep a body. Raises Refusal naming the face that stands in the way."""
    blocked: list[tuple[int, Face]] = []
    found: list[Sweep] = []
    planes = [u for u in body.uses if isinstance(u.face.surface, Plane)]
    for motion, source, target in (*_along_lines(planes), *_around_axes(body, planes)):
        ends = {u.face for u in (*source, *target)}
        walls = [f for f in body.faces if f not in ends]
        low, high = ({e for u in uses for e in u.face.edges()} for uses in (source, target))
        bad = [f for f in walls if not _slides(f, motion) or wall_edges(f, low, high) is None]
        if bad:
            blocked.append((len(bad), bad[0]))
            continue
        if len(target) > len(source):
            source, target, motion = target, source, _back(motion)
        found.append(Sweep(body, tuple(source), tuple(target), tuple(walls), motion))
    if found:  # walls with one edge at either end need no cuts; a mapped source makes better elements than a paved one
        return min(found, key=lambda s: (_uneven(s), not all(four_sided(u.face) for u in s.source)))
    if not blocked:
        raise Refusal(
            f"{body.name} has no two opposite plane ends to sweep between",
            where=spot(face_middle(body.faces[0])) if body.edges() else "",
            remedy="carve it into pieces that are one profile each, or mesh it with tetrahedra",
        )
    face = min(blocked, key=lambda b: b[0])[1]
    raise Refusal(
        f"{body.name} is not one profile along a line or around an axis: a {face.surface.kind} face breaks it",
        where=spot(face_middle(face)),
        remedy="carve it where its profile changes, or clear that face",
        entities=(face,),
    )


def _uneven(s: Sweep) -> bool:
    """Whether any wall has several edges at one of its ends."""
    ends = s.end_edges()
    found = [wall_edges(wall, *ends) for wall in s.walls]
    return any(w is not None and len(w.low) + len(w.high) > 2 for w in found)


def _back(m: Motion) -> Motion:
    """The motion that leads back, for a source that stands at its end."""
    return Motion(m.turning, m.origin, -m.way, m.amount)


def _along_lines(planes: list[FaceUse]) -> list[tuple[Motion, list[FaceUse], list[FaceUse]]]:
    """Parallel plane ends at two heights; the longest sides last, as fewer layers are better."""
    out = []
    seen: list[Floats] = []
    for use in planes:
        n = -use.outward(use.face.surface.frame.origin[None])[0]
        if any(abs(float(n @ s)) > 1.0 - 1e-9 for s in seen):
            continue
        seen.append(n)
        near = [u for u in planes if float(u.outward(u.face.surface.frame.origin[None])[0] @ n) < -1.0 + 1e-9]
        far = [u for u in planes if float(u.outward(u.face.surface.frame.origin[None])[0] @ n) > 1.0 - 1e-9]
        h0, h1 = ([float(u.face.surface.frame.origin @ n) for u in us] for us in (near, far))
        if far and max(h1) > min(h0):
            # Ends at other heights between are steps in the profile; they will be found to be no walls.
            source = [u for u, h in zip(near, h0, strict=True) if h < min(h0) + 1e-6]
            target = [u for u, h in zip(far, h1, strict=True) if h > max(h1) - 1e-6]
            out.append((Motion(False, np.zeros(3), n, max(h1) - min(h0)), source, target))
    return sorted(out, key=lambda o: o[0].amount)


def _around_axes(body: Body, planes: list[FaceUse]) -> list[tuple[Motion, list[FaceUse], list[FaceUse]]]:
    """Two plane ends through the axis of a round face: a sector."""
    out = []
    frames = [f.surface.frame for f in body.faces if isinstance(f.surface, Cylinder | Cone | Torus)]
    for frame in frames:
        ends = [u for u in planes if abs(float(u.face.surface.frame.z @ frame.z)) < 1e-9
                and abs(float(u.face.surface.signed_distance(frame.origin))) < 1e-6]  # fmt: skip
        if len(ends) != 2:
            continue
        middle = [face_middle(u.face) for u in ends]
        radial = [p - frame.origin - float((p - frame.origin) @ frame.z) * frame.z for p in middle]
        for k in (0, 1):
            # The source is the end whose inward normal leads on around the axis.
            inward = -ends[k].outward(middle[k][None])[0]
            if float(np.cross(frame.z, radial[k]) @ inward) > 0.0:
                a, b = radial[k], radial[1 - k]
                angle = float(np.arctan2(np.cross(a, b) @ frame.z, a @ b)) % (2.0 * np.pi)
                out.append((Motion(True, frame.origin, frame.z, angle), [ends[k]], [ends[1 - k]]))
    return out


def _slides(face: Face, m: Motion) -> bool:
    """Whether a motion carries a surface along itself."""
    s = face.surface
    if not m.turning:
        if isinstance(s, Plane):
            return abs(float(s.frame.z @ m.way)) < 1e-9
        return isinstance(s, Cylinder | Extrusion) and abs(float(s.frame.z @ m.way)) > 1.0 - 1e-9
    if isinstance(s, Plane):
        return abs(float(s.frame.z @ m.way)) > 1.0 - 1e-9
    away = s.frame.origin - m.origin
    on_axis = float(np.linalg.norm(away - float(away @ m.way) * m.way)) < 1e-6
    if isinstance(s, Sphere):
        return on_axis
    return isinstance(s, Cylinder | Cone | Torus) and on_axis and abs(float(s.frame.z @ m.way)) > 1.0 - 1e-9


# ---- meshing


@dataclass(slots=True)
class _Hexer:
    """Nodes and quads by vertex, edge and face, shared by all bodies."""

    model: Model
    rules: SizeRules
    sweeps: list[Sweep] = field(default_factory=list)
    parent: dict[Edge, Edge] = field(default_factory=dict)
    even: set[Edge] = field(default_factory=set)
    counts: dict[Edge, int] = field(default_factory=dict)
    points: list[Floats] = field(default_factory=list)
    at_vertex: dict[Vertex, int] = field(default_factory=dict)
    on_edge: dict[Edge, Ints] = field(default_factory=dict)
    on_face: dict[Face, tuple[Ints, Ints]] = field(default_factory=dict)

    # ---- divisions

    def root(self, edge: Edge) -> Edge:
        self.parent.setdefault(edge, edge)
        while self.parent[edge] is not edge:
            edge = self.parent[edge]
        return edge

    def same(self, a: Edge, b: Edge) -> None:
        self.parent[self.root(a)] = self.root(b)

    def assign(self) -> None:
        """One number of divisions for every class of edges that must agree."""
        for sweep in self.sweeps:
            posts: list[Edge] = []
            for wall in sweep.walls:
                found = _edges_of(wall, sweep)
                for low in found.low:
                    self.same(low.edge, _above(low.edge, found, sweep).edge)
                posts += [c.edge for c in found.posts]
            for post in posts[1:]:
                self.same(posts[0], post)
            for use in (*sweep.source, *sweep.target):
                loop = use.face.loops[0]
                if four_sided(use.face):
                    self.same(loop[0].edge, loop[2].edge)
                    self.same(loop[1].edge, loop[3].edge)
                else:
                    self.even |= set(use.face.edges())
        wanted: dict[Edge, int] = defaultdict(int)
        odd_ok: dict[Edge, bool] = defaultdict(lambda: True)
        for body in self.model.bodies:
            for edge in body.edges():
                least = (
                    1
                    if edge.curve.kind == "line"
                    else edge.curve.pieces(edge.t0, edge.t1, 1e9, 2.0 * np.pi / self.rules.around)
                )
                least = max(least, 6) if edge.ring else least
                r = self.root(edge)
                wanted[r] = max(wanted[r], least, round(edge.length / self.rules.size))
                odd_ok[r] = odd_ok[r] and edge not in self.even
        for body in self.model.bodies:
            for edge in body.edges():
                r = self.root(edge)
                self.counts[edge] = wanted[r] if odd_ok[r] else wanted[r] + wanted[r] % 2

    # ---- nodes

    def node(self, p: Floats) -> int:
        self.points.append(np.asarray(p, dtype=float))
        return len(self.points) - 1

    def vertex(self, v: Vertex) -> int:
        if v not in self.at_vertex:
            self.at_vertex[v] = self.node(v.point)
        return self.at_vertex[v]

    def edge(self, edge: Edge) -> tuple[Ints, Floats]:
        if edge not in self.on_edge:
            t = np.linspace(edge.t0, edge.t1, self.counts[edge] + 1)
            p = edge.curve.point(t)
            if edge.ring:
                ids = [self.node(q) for q in p[:-1]]
            else:
                assert edge.start is not None and edge.end is not None
                ids = [self.vertex(edge.start), *(self.node(q) for q in p[1:-1]), self.vertex(edge.end)]
            self.on_edge[edge] = np.array(ids, dtype=np.int64)
        ids_array = self.on_edge[edge]
        return ids_array, np.array([self.points[k] for k in ids_array])

    def chain(self, coedges: list[Coedge], closed: bool) -> tuple[Ints, Floats]:
        """Nodes (n,) and points (n,3) along edges that follow each other; a closed chain's first is not repeated."""
        ids: list[int] = []
        for c in coedges:
            own = self.edge(c.edge)[0]
            own = own if c.forward else own[::-1]
            ids += own.tolist() if not ids else own[1:].tolist()
        if closed and len(ids) > 1 and ids[0] == ids[-1]:
            ids.pop()
        return np.array(ids, dtype=np.int64), np.array([self.points[k] for k in ids])

    def face(self, face: Face) -> tuple[Ints, Ints]:
        """Inner nodes (n,) and quads (m,4) of an end face, made on first asking."""
        if face not in self.on_face:
            make = mapped(face, self.edge) if four_sided(face) else paved(face, self.edge, self.rules.size)
            inner = np.array([self.node(p) for p in make[0]], dtype=np.int64)
            quads = np.where(make[1] < 0, inner[np.clip(-1 - make[1], 0, len(inner) - 1)] if len(inner) else 0, make[1])
            self.on_face[face] = inner, quads
        return self.on_face[face]

    # ---- one body

    def sweep(self, s: Sweep) -> Ints:
        """The hexahedra (m,8) of one body."""
        parts = [self.face(u.face) for u in s.source]
        base = np.concatenate([q for _, q in parts])
        layers = self._layers(s, base)
        column = self._columns(s, parts, layers)
        hexes = []
        for k in range(layers):
            low, high = column[k], column[k + 1]
            hexes.append(np.concatenate([_through(low, base), _through(high, base)], axis=1))
        out = np.concatenate(hexes)
        points = np.array(self.points)
        if hex_volumes(points, out).sum() < 0.0:
            out = out[:, [3, 2, 1, 0, 7, 6, 5, 4]]
        return out

    def _layers(self, s: Sweep, base: Ints) -> int:
        for wall in s.walls:
            posts = _edges_of(wall, s).posts
            if posts:
                return self.counts[posts[0].edge]
        travel = s.motion.length(np.array([self.points[k] for k in np.unique(base)]))
        return max(1, round(travel / self.rules.size))

    def _columns(self, s: Sweep, parts: list[tuple[Ints, Ints]], layers: int) -> list[dict[int, int]]:
        """For each layer 0..n, the node above each source node."""
        column: list[dict[int, int]] = [{} for _ in range(layers + 1)]
        for wall in s.walls:
            self._wall(s, wall, column, layers)
        for inner, quads in parts:
            for k in (*inner.tolist(), *np.unique(quads).tolist()):
                column[0][int(k)] = int(k)
        below = [int(k) for k in np.unique(np.concatenate([q for _, q in parts]))]
        todo = [k for k in below if k not in column[layers]]
        start = np.array([self.points[k] for k in todo]).reshape(-1, 3)
        for k in range(1, layers):
            for node, p in zip(todo, s.motion.at(start, k / layers), strict=True):
                if node not in column[k]:
                    column[k][node] = self.node(p)
        self._target(s, parts, column[layers], todo, s.motion.at(start, 1.0))
        return column

    def _target(
        self, s: Sweep, parts: list[tuple[Ints, Ints]], top: dict[int, int], todo: list[int], moved: Floats
    ) -> None:
        """The target's mesh is the source's, moved; one that is there already must be just that."""
        there = [self.on_face[u.face] for u in s.target if u.face in self.on_face]
        if there:
            ids = np.unique(np.concatenate([q.ravel() for _, q in there]))
            off, hit = (
                cKDTree(np.array([self.points[k] for k in ids])).query(moved) if len(moved) else (np.zeros(0), [])
            )
            if len(there) < len(s.target) or (len(moved) and off.max() > 1e-3 * self.rules.size):
                raise Refusal(
                    f"both ends of {s.body.name} are meshed by their neighbours, and differently",
                    where=spot(face_middle(s.target[0].face)),
                    remedy="carve so that the chain of swept bodies is open",
                )
            top.update({node: int(ids[k]) for node, k in zip(todo, hit, strict=True)})
            return
        for node, p in zip(todo, moved, strict=True):
            top[node] = self.node(p)
        if len(s.target) == 1:
            quads = np.concatenate([_through(top, q) for _, q in parts])
            inner = np.setdiff1d(np.unique(quads), np.concatenate([self.edge(e)[0] for e in s.target[0].face.edges()]))
            self.on_face[s.target[0].face] = inner, quads[:, ::-1]
            return
        for use, (inner, quads) in self._paired(s, parts, top):
            self.on_face[use.face] = inner, quads[:, ::-1]

    def _paired(
        self, s: Sweep, parts: list[tuple[Ints, Ints]], top: dict[int, int]
    ) -> list[tuple[FaceUse, tuple[Ints, Ints]]]:
        """Each target face with the copy of the source part that lies on it."""
        out = []
        for (inner, quads), source in zip(parts, s.source, strict=True):
            at = s.motion.at(face_middle(source.face)[None], 1.0)[0]
            use = min(s.target, key=lambda u: float(np.linalg.norm(face_middle(u.face) - at)))
            out.append((use, (np.array([top[int(k)] for k in inner], dtype=np.int64), _through(top, quads))))
        return out

    def _wall(self, s: Sweep, wall: Face, column: list[dict[int, int]], layers: int) -> None:
        """The grid of a wall: rows along its lower edge, columns along the motion."""
        found = _edges_of(wall, s)
        ids, points = self.chain(found.low, found.around)
        top_ids, top_points = self.chain(found.high, found.around)
        moved = s.motion.at(points, 1.0)
        off, hit = cKDTree(top_points).query(moved)
        if off.max() > 1e-3 * self.rules.size:
            raise Refusal("a wall's two ends do not match", where=spot(points[0]), entities=(wall,))
        grid = np.empty((layers + 1, len(ids)), dtype=np.int64)
        grid[0], grid[layers] = ids, top_ids[hit]
        posts: dict[int, Ints] = {}
        for c in found.posts:
            post, _ = self.edge(c.edge)
            run = post if int(post[0]) in set(ids.tolist()) else post[::-1]
            posts[int(run[0])] = run
        known = self.on_face.get(wall)
        spots = np.array([self.points[k] for k in known[0]]) if known is not None and len(known[0]) else None
        tree = cKDTree(spots) if spots is not None else None
        fresh: list[int] = []
        for k in range(1, layers):
            row = s.motion.at(points, k / layers)
            for j, node in enumerate(ids.tolist()):
                if node in posts:
                    grid[k, j] = posts[node][k]
                elif tree is not None and known is not None:
                    gap, where = tree.query(row[j])
                    if gap > 1e-3 * self.rules.size:
                        raise Refusal(
                            f"a wall of {s.body.name} is meshed otherwise by its neighbour",
                            where=spot(row[j]),
                            entities=(wall,),
                        )
                    grid[k, j] = known[0][int(where)]
                elif node in column[k]:
                    grid[k, j] = column[k][node]
                else:
                    grid[k, j] = self.node(row[j])
                    fresh.append(int(grid[k, j]))
        for k in range(layers + 1):
            column[k].update(zip(ids.tolist(), grid[k].tolist(), strict=True))
        if known is None:
            cols = np.concatenate([grid, grid[:, :1]], axis=1) if found.around else grid
            quads = np.stack([cols[:-1, :-1], cols[:-1, 1:], cols[1:, 1:], cols[1:, :-1]], axis=-1).reshape(-1, 4)
            self.on_face[wall] = np.array(fresh, dtype=np.int64), quads


def _above(edge: Edge, wall: WallEdges, s: Sweep) -> Coedge:
    """The edge of a wall's target end that lies over one of its source end."""
    at = s.motion.at(edge.at(0.5)[None], 1.0)
    return min(wall.high, key=lambda c: float(off_edge(c.edge, at)[0]))


def _through(table: dict[int, int], quads: Ints) -> Ints:
    return np.array([[table[int(k)] for k in q] for q in quads], dtype=np.int64)


def _edges_of(wall: Face, s: Sweep) -> WallEdges:
    found = wall_edges(wall, *s.end_edges())
    if found is None:
        raise Refusal(
            f"a wall of {s.body.name} does not reach from its source to its target",
            where=spot(face_middle(wall)), remedy="carve it there", entities=(wall,),
        )  # fmt: skip
    return found


def _corners_matched(model: Model) -> tuple[Model, list[Sweep]]:
    """The model with its edges cut until both ends of every wall have the same corners, and how its bodies sweep."""
    sweeps = [sweep_of(body) for body in model.bodies]
    for _ in range(2 + len(model.bodies)):  # a cut may go on from body to body
        model, more = matched(model, sweeps, model.tolerance)
        if not more:
            break
        sweeps = [sweep_of(body) for body in model.bodies]
    return model, sweeps


def hexahedral_mesh(model: Model, rules: SizeRules, progress: Progress = SILENT) -> Mesh:
    """Sweep all bodies of a model; bonded faces match node for node.

    Raises Refusal naming the body, the face and the place where one is not a single profile.
    """
    if not np.isfinite(rules.size) or rules.size <= 0.0:
        raise Refusal("the element size must be a positive length")
    whole = model
    model, sweeps = _corners_matched(whole)
    hexer = _Hexer(model, rules, sweeps)
    hexer.assign()
    elements, owner = [], []
    for k, s in enumerate(_in_order(hexer.sweeps)):
        progress.tell(k / len(hexer.sweeps), f"sweeping {s.body.name}")
        made = hexer.sweep(s)
        elements.append(made)
        owner.append(np.full(len(made), model.bodies.index(s.body), dtype=np.int64))
    points, hexes = np.array(hexer.points), np.concatenate(elements)
    faces = model.faces()
    quads = [_facing(f, hexer.on_face[f][1], points) for f in faces]
    mesh = Mesh(
        points, hexes, np.concatenate(owner), np.concatenate(quads),
        np.repeat(np.arange(len(faces)), [len(q) for q in quads]), whole.bodies, whole.faces(),
        Quality.of(points, hexes),
    )  # fmt: skip
    worst = int(mesh.quality.scaled_jacobian.argmin())
    if mesh.quality.scaled_jacobian[worst] <= 0.0:
        raise Refusal("a swept element would be folded", where=spot(points[hexes[worst]].mean(axis=0)),
                      remedy="a smaller element size")  # fmt: skip
    return mesh


def _in_order(sweeps: list[Sweep]) -> list[Sweep]:
    """Bodies whose source is another's target come after it."""
    left, out = list(sweeps), []
    while left:
        ends = {u.face for s in left for u in s.target}
        free = [s for s in left if not any(u.face in ends for u in s.source)] or left[:1]
        out.append(free[0])
        left.remove(free[0])
    return out


def _facing(face: Face, quads: Ints, points: Floats) -> Ints:
    """Quads turned counter-clockwise about the face's normal."""
    v = points[quads]
    cross = np.cross(v[:, 2] - v[:, 0], v[:, 3] - v[:, 1])
    if float((cross * face.normal(v.mean(axis=1))).sum()) < 0.0:
        return quads[:, ::-1]
    return quads


def verdict(body: Body) -> tuple[str, str]:
    """'mapped', 'swept' or 'tetrahedra', and the reason in words."""
    try:
        s = sweep_of(body)
    except Refusal as refusal:
        return "tetrahedra", refusal.what
    way = "around its axis" if s.motion.turning else f"over {s.motion.amount:.4g} mm"
    kind = "mapped" if all(four_sided(u.face) for u in s.source) else "swept"
    return kind, f"one profile {way}, {volume(body):.4g} mm³"


__all__ = ["Motion", "Sweep", "hexahedral_mesh", "sweep_of", "verdict"]
