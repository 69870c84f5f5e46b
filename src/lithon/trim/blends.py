"""Undoing blends: fillets, chamfers and their corners collapse onto the edges and vertices they replaced.

A removed face with two opposite sides on kept faces is a strip: it becomes the edge in which those
two meet. What is left over, and every end of a strip, is a joint: it becomes the vertex in which all
kept faces around it meet. Nothing is searched; the removed faces themselves say what meets what.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import Adjacency
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve
from lithon.geometry.meet import cross, meet
from lithon.trim.running import bounded, extended, reach


@dataclass(slots=True)
class _Strip:
    """A face between two kept faces; ends are the runs of its loop between the long sides."""

    face: Face
    supports: tuple[Face, Face]
    ends: tuple[list[Coedge], ...] = ()


@dataclass(slots=True)
class _Joint:
    """What becomes one vertex: the kept faces around it, its rim vertices and a point of it."""

    kept: dict[Face, None] = field(default_factory=dict)
    vertices: dict[Vertex, None] = field(default_factory=dict)


def unblended(body: Body, adj: Adjacency, wound: Sequence[Face], tolerance: float) -> Body:
    """The body with these blend faces collapsed. Raises Refusal where they are no blends, or where
    the faces beside them do not meet."""
    return _Unblender(body, adj, list(wound), tolerance).run()


class _Unblender:
    def __init__(self, body: Body, adj: Adjacency, wound: list[Face], tolerance: float):
        self.body, self.adj, self.tolerance = body, adj, tolerance
        self.gone = set(wound)
        self.strips: dict[Face, _Strip] = {}
        for face in wound:
            strip = self._strip(face)
            if strip is not None:
                self.strips[face] = strip
        self.parent: dict[object, object] = {}
        self.made: dict[object, Vertex] = {}

    # ---- what is what

    def _runs(self, loop: Loop, face: Face) -> list[tuple[Face, list[Coedge]]]:
        """A loop as runs of one neighbour each."""
        over = [self.adj.across(face, c.edge) for c in loop]
        n = len(loop)
        starts = [k for k in range(n) if over[k] is not over[k - 1]]
        if not starts:
            return [(over[0], list(loop))]
        return [(over[a], [loop[k % n] for k in range(a, b)])
                for a, b in zip(starts, [*starts[1:], starts[0] + n], strict=True)]  # fmt: skip

    def _strip(self, face: Face) -> _Strip | None:
        loops = [self._runs(loop, face) for loop in face.loops]
        if len(loops) == 2 and all(len(runs) == 1 for runs in loops):
            a, b = loops[0][0][0], loops[1][0][0]
            return _Strip(face, (a, b)) if a not in self.gone and b not in self.gone and a is not b else None
        if len(loops) != 1 or len(loops[0]) < 4:
            return None
        runs = loops[0]
        if len(runs) > 4:
            return self._mitred(face, runs)
        pairs = [(0, 2), (1, 3)]
        fit = [p for p in pairs if all(runs[k][0] not in self.gone for k in p) and runs[p[0]][0] is not runs[p[1]][0]]
        if not fit:
            return None

        def worth(pair: tuple[int, int]) -> tuple[int, float]:
            edges = [c.edge for k in pair for c in runs[k][1]]
            return sum(self.adj.turn(e) == "smooth" for e in edges), sum(e.length for e in edges)

        best = max(fit, key=worth)
        ends = tuple(runs[k][1] for k in range(4) if k not in best)
        return _Strip(face, (runs[best[0]][0], runs[best[1]][0]), ends)

    def _mitred(self, face: Face, runs: list[tuple[Face, list[Coedge]]]) -> _Strip | None:
        """A strip that meets several others at an end, as bevels do where three come together."""
        kept = [k for k, (over, _) in enumerate(runs) if over not in self.gone]
        if len(kept) != 2 or runs[kept[0]][0] is runs[kept[1]][0] or kept[1] - kept[0] in (1, len(runs) - 1):
            return None
        low, high = kept
        ends = (
            [c for _, run in runs[low + 1 : high] for c in run],
            [c for _, run in runs[high + 1 :] + runs[:low] for c in run],
        )
        return _Strip(face, (runs[low][0], runs[high][0]), ends)

    # ---- joints

    def _root(self, key: object) -> object:
        self.parent.setdefault(key, key)
        while self.parent[key] is not key:
            key = self.parent[key]
        return key

    def _join(self, a: object, b: object) -> None:
        self.parent[self._root(a)] = self._root(b)

    def _joints(self) -> dict[object, _Joint]:
        """Corner faces and strip ends, grouped where they touch. Ends are keyed by their edges."""
        corners = [f for f in self.gone if f not in self.strips]
        for face in corners:
            self._root(face)
            for edge in face.edges():
                other = self.adj.across(face, edge)
                if other in self.gone and other not in self.strips:
                    self._join(face, other)
        ends: list[tuple[_Strip, list[Coedge]]] = [(s, end) for s in self.strips.values() for end in s.ends]
        for _, end in ends:
            for c in end:
                self._join(c.edge, end[0].edge)
        for strip, end in ends:
            for c in end:
                other = self.adj.across(strip.face, c.edge)
                if other in self.gone and other not in self.strips:
                    self._join(c.edge, other)
        joints: dict[object, _Joint] = {}
        for strip, end in ends:
            joint = joints.setdefault(self._root(end[0].edge), _Joint())
            joint.kept.update(dict.fromkeys(strip.supports))
            for c in end:
                other = self.adj.across(strip.face, c.edge)
                if other not in self.gone:
                    joint.kept[other] = None
                joint.vertices.update({v: None for v in (c.first, c.last) if v is not None})
        for face in corners:
            joint = joints.setdefault(self._root(face), _Joint())
            for edge in face.edges():
                other = self.adj.across(face, edge)
                if other not in self.gone:
                    joint.kept[other] = None
                joint.vertices.update({v: None for v in (edge.start, edge.end) if v is not None})
        return joints

    def _links(self, joint: _Joint) -> dict[Edge, Vertex]:
        """Edges between kept faces that end at the joint."""
        out: dict[Edge, Vertex] = {}
        for vertex in joint.vertices:
            for edge in self.adj.at_vertex[vertex]:
                if all(use.face not in self.gone for use, _ in self.adj.uses[edge]):
                    out[edge] = vertex
        return out

    def _corner(self, joint: _Joint, links: dict[Edge, Vertex]) -> Vertex:
        """The point on all kept faces around a joint, nearest to it."""
        if not joint.vertices:  # its rims are rings: what is chosen is no blend there
            at = next(e for f in (joint.kept or self.gone) for e in f.edges()).at(0.5)
            raise Refusal("what is chosen does not run along the edge of two faces", where=spot(at))
        here = np.mean([v.point for v in joint.vertices], axis=0)
        faces = list(joint.kept)
        for edge in links:
            faces += [use.face for use, _ in self.adj.uses[edge]]
        faces = list(dict.fromkeys(faces))
        curves: list[tuple[Curve, set[Face]]] = [(e.curve, {u.face for u, _ in self.adj.uses[e]}) for e in links]
        for i, f in enumerate(faces) if not links else ():
            for g in faces[i + 1 :]:
                if not f.surface.same_as(g.surface, self.tolerance, 1e3):
                    curves += [(c, {f, g}) for c in self._meet(f, g, here[None])]
        best: Floats | None = None
        for curve, own in curves:
            for face in faces:
                if face in own:
                    continue
                low, high = reach(curve)
                points = curve.point(cross(curve, face.surface, low, high, self.tolerance))
                for p in points:
                    off = max(abs(float(f.surface.signed_distance(p))) for f in faces)
                    if off > 20.0 * self.tolerance:
                        continue
                    if best is None or np.linalg.norm(p - here) < np.linalg.norm(best - here):
                        best = p
        if best is None:
            raise Refusal("the faces around the end of a blend do not meet in a point", where=spot(here))
        return vertex_at(best)

    def _meet(self, f: Face, g: Face, near: Floats) -> list[Curve]:
        spread = max(1e-3, 2.0 * float(np.linalg.norm(np.ptp(near, axis=0))))
        cloud = np.concatenate([near, *(near + spread * d for d in (*np.eye(3), *-np.eye(3)))])
        return meet(f.surface, g.surface, self.tolerance, cloud)

    # ---- the result

    def run(self) -> Body:
        joints = self._joints()
        moves: dict[Edge, list[tuple[Vertex, Vertex]]] = {}
        for key, joint in joints.items():
            links = self._links(joint)
            vertex = self.made[key] = self._corner(joint, links)
            for edge, old in links.items():
                moves.setdefault(edge, []).append((old, vertex))
        ran = {edge: extended(edge, m, self.tolerance) for edge, m in moves.items()}
        new = {face: self._edge(strip) for face, strip in self.strips.items()}
        uses = [self._rebuilt(use, ran, new) for use in self.body.uses if use.face not in self.gone]
        return self.body.with_uses(uses)

    def _edge(self, strip: _Strip) -> Edge | None:
        """The edge that a strip becomes; None where it shrinks to a point."""
        a, b = strip.supports
        cloud = face_mesh(strip.face).points
        here = cloud.mean(axis=0)
        ends = [self.made[self._root(end[0].edge)] for end in strip.ends]
        if ends and ends[0] is ends[1]:
            return None
        best: tuple[float, Curve] | None = None
        for curve in self._meet(a, b, cloud):
            if ends and not all(self._on(curve, v.point) for v in ends):
                continue
            if not ends and curve.period is None:
                continue
            off = float(np.linalg.norm(curve.point(curve.parameter(here[None]))[0] - here))
            off = off if ends else float(np.linalg.norm(curve.point(curve.parameter(cloud)) - cloud, axis=1).mean())
            if best is None or off < best[0]:
                best = (off, curve)
        if best is None:
            raise Refusal("the faces on both sides of a blend do not meet beside it", where=spot(here))
        curve = best[1]
        if not ends:
            low = float(getattr(curve, "low", 0.0))
            return Edge(curve, low, low + float(curve.period or 0.0))
        t = curve.parameter(np.array([v.point for v in ends]))
        return bounded(curve, float(t[0]), float(t[1]), ends[0], ends[1], here)

    def _on(self, curve: Curve, p: Floats) -> bool:
        return float(np.linalg.norm(curve.point(curve.parameter(p[None]))[0] - p)) <= 20.0 * self.tolerance

    def _rebuilt(self, use: FaceUse, ran: dict[Edge, Edge], new: dict[Face, Edge | None]) -> FaceUse:
        """A kept face with the sides of strips replaced by their edges and all else of the rim dropped."""
        face = use.face
        if not any(e in ran or self.adj.across(face, e) in self.gone for e in face.edges()):
            return use
        loops: list[Loop] = []
        for loop in face.loops:
            out: list[Coedge] = []
            placed: set[Face] = set()
            for c in loop:
                over = self.adj.across(face, c.edge)
                if over not in self.gone:
                    out.append(Coedge(ran[c.edge], c.forward) if c.edge in ran else c)
                elif over in self.strips and face in self.strips[over].supports and over not in placed:
                    placed.add(over)
                    edge = new[over]
                    if edge is not None:
                        out.append(self._along(edge, c))
            if not out:
                continue  # the rim of a boss or hole that is gone altogether
            for a, b in zip(out, [*out[1:], out[0]], strict=True):
                if a.last is not b.first:
                    raise Refusal("a face beside the blends does not close again", where=spot(a.edge.at(0.5)))
            loops.append(tuple(out))
        if not loops and face.loops:
            raise Refusal("a face beside the blends would lose its outline", where=spot(next(face.edges()).at(0.5)))
        return FaceUse(face.with_loops(loops), use.forward)

    def _along(self, edge: Edge, c: Coedge) -> Coedge:
        """The new edge walked the way in which the old side was."""
        p = edge_points(c.edge)[1]
        middle = p[len(p) // 2]
        t = edge.curve.parameter(middle[None])
        way = edge.curve.derivative(t)[0]
        old = c.edge.curve.derivative(c.edge.curve.parameter(middle[None]))[0]
        return Coedge(edge, bool(float(way @ old) > 0.0) == c.forward)
