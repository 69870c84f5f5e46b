"""A solid of patches: where two patches meet is an edge on both surfaces, where three meet a corner on all of them.

A patch that lies on no simple surface may get a free-form one: the edges around it are drawn along its border first, on
the simple surfaces beside it, and it is fitted through them.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, frozen, unit
from lithon.brep.cleaning import side_pairs
from lithon.brep.faceted import connected_sets
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import onto_all
from lithon.geometry.curves import Curve, Line
from lithon.geometry.meet import meet
from lithon.geometry.surfaces import Plane, Surface
from lithon.geometry.tolerance import MISS
from lithon.mend.freeform import curve_along, through, unfolded
from lithon.mend.segments import Patch
from lithon.progress import pulse


@dataclass(slots=True)
class _Chain:
    """Corners of the mesh along which two patches meet, in order; a ring where the first is the last."""

    pair: tuple[int, int]
    points: list[int]

    @property
    def ring(self) -> bool:
        return self.points[0] == self.points[-1]


def bordering(n: int, corners: Ints, patches: Sequence[Patch]) -> set[tuple[int, int]]:
    """The pairs of patches that border on each other; `n` points."""
    label = np.full(len(corners), -1, dtype=np.int64)
    for k, patch in enumerate(patches):
        label[patch.rows] = k
    i, j, _ = side_pairs(corners, n)
    rows = np.sort(np.stack([label[i], label[j]], axis=1), axis=1)
    return {(int(a), int(b)) for a, b in np.unique(rows[rows[:, 0] != rows[:, 1]], axis=0)}


def solid_of(
    points: Floats, corners: Ints, patches: Sequence[Patch], tolerance: float, name: str = "part", free: float = 0.0
) -> tuple[Body, float]:
    """The solid whose faces are the patches, their edges found anew, and how far (mm) corners stand off its free-form
    faces. `free`: how far (mm) they may, on patches that lie on no simple surface; where it is 0 there are none. Raises
    Refusal, naming the place, where two surfaces do not meet along the border of their patches, or no free-form one
    can be had."""
    builder = _Builder(points, corners, patches, tolerance, name, free)
    return builder.run(), builder.off


#: Where triangles beside a border turn by less than this (radians) it runs through what is smooth, as it happens to.
_CREASE = np.radians(12.0)


class _Builder:
    def __init__(
        self, points: Floats, corners: Ints, patches: Sequence[Patch], tolerance: float, name: str, free: float
    ):
        self.points, self.corners, self.tolerance, self.name = points, corners, tolerance, name
        self.free = free
        #: None for a free-form one that is not fitted yet.
        self.surfaces: list[Surface | None] = []
        self.label = np.full(len(corners), -1, dtype=np.int64)
        for patch in patches:
            for rows in self._pieces(patch.rows):
                if patch.surface is None and not free:
                    here = points[corners[rows[0]]].mean(axis=0)
                    raise Refusal("a patch lies on no simple surface", where=spot(here),
                                  remedy="allow more deviation, or keep the facets")  # fmt: skip
                self.label[rows] = len(self.surfaces)
                self.surfaces.append(patch.surface)
        self.near = 20.0 * tolerance
        self.off = 0.0
        a, b, c = (points[corners[:, k]] for k in range(3))
        self.normal = unit(cross_product(b - a, c - a))
        self.beside = {side: t for t, (i, j, k) in enumerate(corners.tolist()) for side in ((i, j), (j, k), (k, i))}
        self.made: dict[int, Vertex] = {}

    def _pieces(self, rows: Ints) -> list[Ints]:
        """The triangles of a patch that hang together."""
        group = connected_sets(len(self.points), self.corners[rows])
        return [rows[group == k] for k in range(int(group.max()) + 1)]

    def run(self) -> Body:
        borders = self._borders()
        chains = self._chains(borders)
        edges = {id(chain): self._edge(chain) for chain in chains}
        for k in range(len(self.surfaces)):
            if self.surfaces[k] is None:
                self.surfaces[k] = self._fitted(k, [edges[id(c)][0] for c in chains if k in c.pair])
        sides: dict[int, list[Coedge]] = defaultdict(list)
        for chain in chains:
            edge, same = edges[id(chain)]
            a, b = chain.points[0], chain.points[1]
            for k in chain.pair:
                forward = borders[(a, b)] == k if (a, b) in borders else borders[(b, a)] != k
                sides[k].append(Coedge(edge, same == forward))
        uses = []
        for k, surface in enumerate(self.surfaces):
            pulse("sewing faces")
            assert surface is not None
            rows = np.flatnonzero(self.label == k)
            loops = _loops(sides[k], surface)
            uses.append(FaceUse(Face(surface, tuple(loops), self._along(surface, rows))))
        return Body(tuple(uses), self.name)

    def _along(self, surface: Surface, rows: Ints) -> bool:
        a, b, c = (self.points[self.corners[rows, k]] for k in range(3))
        normals = cross_product(b - a, c - a)
        return bool(float((surface.normal((a + b + c) / 3.0) * normals).sum()) > 0.0)

    def _borders(self) -> dict[tuple[int, int], int]:
        """Directed sides between patches, and the patch whose triangle walks each."""
        out: dict[tuple[int, int], int] = {}
        for (a, b), t in self.beside.items():
            other = self.beside.get((b, a))
            if other is None:
                raise Refusal("the triangles are open", where=spot(self.points[a]), remedy="clean the triangles first")
            if self.label[other] != self.label[t]:
                out[a, b] = int(self.label[t])
        return out

    def _chains(self, borders: dict[tuple[int, int], int]) -> list[_Chain]:
        pairs: dict[tuple[int, int], tuple[int, int]] = {}
        at: dict[int, list[tuple[int, int]]] = defaultdict(list)
        for (a, b), k in borders.items():
            if a < b:
                pairs[a, b] = (min(k, borders[b, a]), max(k, borders[b, a]))
                at[a].append((a, b))
                at[b].append((a, b))
        ends = {v for v, own in at.items() if len(own) != 2 or pairs[own[0]] != pairs[own[1]]}
        left = dict.fromkeys(pairs)
        out = []

        def walk(start: int, side: tuple[int, int]) -> _Chain:
            pair, line = pairs[side], [start]
            while True:
                left.pop(side, None)
                nxt = side[1] if side[0] == line[-1] else side[0]
                line.append(nxt)
                if nxt in ends or nxt == line[0]:
                    return _Chain(pair, line)
                side = next(s for s in at[nxt] if s != side)

        for v in sorted(ends):
            for side in at[v]:
                if side in left:
                    out.append(walk(v, side))
        while left:
            side = next(iter(left))
            out.append(walk(side[0], side))
        for chain in out:
            if chain.points[0] in ends:
                for v in (chain.points[0], chain.points[-1]):
                    self._corner(v, at[v], pairs)
        return out

    def _corner(self, v: int, sides: Sequence[tuple[int, int]], pairs: dict[tuple[int, int], tuple[int, int]]) -> None:
        if v in self.made:
            return
        every = [self.surfaces[k] for k in sorted({k for side in sides for k in pairs[side]})]
        known = [surface for surface in every if surface is not None]
        there, off = onto_all(known, self.points[v][None]) if known else (self.points[v][None], np.zeros(1))
        far = float(np.linalg.norm(there[0] - self.points[v]))
        if off[0] > self.near or far > 50.0 * self.near + (2.0 * self.free if len(known) < len(every) else 0.0):
            there = self.points[v][None]
            if max(abs(float(surface.signed_distance(there)[0])) for surface in known) > self.near:
                raise Refusal("the surfaces around a corner do not meet in a point", where=spot(self.points[v]),
                              remedy="allow more deviation, or keep the facets")  # fmt: skip
        self.made[v] = Vertex(frozen(there[0]))

    def _edge(self, chain: _Chain) -> tuple[Edge, bool]:
        """The edge along a chain, and whether it runs as the chain does."""
        pulse("looking for edges")
        a, b = (self.surfaces[k] for k in chain.pair)
        if a is None or b is None:
            return self._free_edge(chain, a or b), True
        line = self.points[chain.points]
        middle = 0.5 * (line[1:] + line[:-1])
        curve = self._curve(a, b, line, chain)
        start, end = self.made.get(chain.points[0]), self.made.get(chain.points[-1])
        if start is None or end is None:
            if curve.period is None:
                raise self._apart(line)
            low = float(getattr(curve, "low", 0.0))
            way = curve.derivative(curve.parameter(line[:1]))[0]
            return Edge(curve, low, low + float(curve.period)), float(way @ (line[1] - line[0])) > 0.0
        t = curve.parameter(np.array([start.point, end.point, middle[len(middle) // 2]]))
        if curve.period is None:
            return (
                (Edge(curve, t[0], t[1], start, end), True)
                if t[0] < t[1]
                else (Edge(curve, t[1], t[0], end, start), False)
            )
        span, inner = np.mod(t[1] - t[0], curve.period), np.mod(t[2] - t[0], curve.period)
        if start is end or span <= 1e-12:
            span = curve.period
        if inner < span and not (start is end and float(curve.derivative(t[:1])[0] @ (line[1] - line[0])) < 0.0):
            return Edge(curve, float(t[0]), float(t[0] + span), start, end), True
        back = curve.period - span if start is not end else curve.period
        return Edge(curve, float(t[1]), float(t[1] + back), end, start), False

    def _free_edge(self, chain: _Chain, on: Surface | None) -> Edge:
        """The edge beside a free-form face: along the chain, on the simple surface that is beside it too."""
        line = self.points[chain.points]
        start, end = self.made.get(chain.points[0]), self.made.get(chain.points[-1])
        if (start is None) != (end is None):
            raise self._apart(line)
        slack = 0.15 * self.free
        if on is not None and self._turn(chain) < _CREASE and len(line) > 3:
            # Through what is smooth it runs along sides of triangles: it need not go to and fro with them.
            step = float(np.linalg.norm(np.diff(line, axis=0), axis=1).mean())
            along, off = unit(line[2:] - line[:-2]), line[1:-1] - line[:-2]
            wave = float(np.median(np.linalg.norm(cross_product(along, off), axis=1)))
            slack = max(slack, 0.4 * step) if wave > 0.15 * step else slack
        ends = (start.point, end.point) if start is not None and end is not None else None
        curve = curve_along(line, ends, slack, on, MISS * self.tolerance)
        if isinstance(curve, Line):
            assert ends is not None
            return Edge(curve, 0.0, float(np.linalg.norm(ends[1] - ends[0])), start, end)
        return Edge(curve, curve.low, curve.high, start, end)

    def _turn(self, chain: _Chain) -> float:
        """How far (radians) the triangles beside a chain turn, in the middle of all."""
        turns = []
        for a, b in zip(chain.points, chain.points[1:], strict=False):
            one, two = (self.normal[self.beside[side]] for side in ((a, b), (b, a)))
            turns.append(float(np.arccos(np.clip(one @ two, -1.0, 1.0))))
        return float(np.median(turns))

    def _fitted(self, k: int, edges: list[Edge]) -> Surface:
        own = self.corners[self.label == k]
        sheet = unfolded(self.points, own)
        if sheet is None:
            raise Refusal("a free-form patch closes on itself or bends too far to be laid flat",
                          where=spot(self.points[own[0, 0]]), remedy="part it, or keep the facets")  # fmt: skip
        around = max(sum(edge.length for edge in edges), 1e-300)
        counts = [int(np.clip(900.0 * edge.length / around, 24, 300)) for edge in edges]
        rim = np.concatenate(
            [np.array([e.at(t) for t in np.linspace(0.0, 1.0, n)]) for e, n in zip(edges, counts, strict=True)]
        )
        surface, off = through(sheet, rim, MISS * self.tolerance, self.free)
        self.off = max(self.off, off)
        return surface

    def _curve(self, a: Surface, b: Surface, line: Floats, chain: _Chain) -> Curve:
        if a.same_as(b, self.near, float(np.linalg.norm(np.ptp(line, axis=0)))):
            raise Refusal("two patches that touch lie on one surface", where=spot(line[len(line) // 2]),
                          remedy="unite them; the face can be divided afterwards")  # fmt: skip
        ends = [v.point for k in (0, -1) if (v := self.made.get(chain.points[k])) is not None]
        if isinstance(a, Plane) and isinstance(b, Plane) and len(ends) == 2 and not chain.ring:
            return Line.through(ends[0], ends[1])
        probe = np.concatenate([line, *(e[None] for e in ends)])
        for slack in (1.0, 20.0):
            try:
                found = meet(a, b, slack * self.tolerance, probe)
            except Refusal:
                continue
            fits = [c for c in found if _away(c, line) <= 40.0 * slack * self.near]
            fits = [c for c in fits if all(_away(c, e[None]) <= slack * self.near for e in ends)]
            if fits:
                return min(fits, key=lambda c: _away(c, line))
        raise self._apart(line)

    def _apart(self, line: Floats) -> Refusal:
        return Refusal("two patches do not meet along their border", where=spot(line[len(line) // 2]),
                       remedy="allow more deviation, or keep the facets")  # fmt: skip


def _away(curve: Curve, points: Floats) -> float:
    return float(np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1).max())


def _loops(sides: list[Coedge], surface: Surface) -> list[Loop]:
    out: list[Loop] = [(c,) for c in sides if c.edge.ring]
    left = [c for c in sides if not c.edge.ring]
    while left:
        walk = [left.pop()]
        while walk[-1].last is not walk[0].first:
            nxt = [c for c in left if c.first is walk[-1].last]
            if not nxt:
                at = walk[-1].last
                raise Refusal("the border of a patch does not close",
                              where=spot(at.point if at is not None else surface.frame.origin))  # fmt: skip
            left.remove(nxt[0])
            walk.append(nxt[0])
        out.append(tuple(walk))
    return out
