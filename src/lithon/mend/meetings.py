"""Where patches meet: the chains of sides between two of them, and a corner where more do, on the surfaces of all."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from itertools import combinations
from typing import Any

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, frozen, unit
from lithon.brep.topology import Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.crossing import onto_all, touches
from lithon.geometry.curves import Curve
from lithon.geometry.surfaces import Plane, Surface
from lithon.geometry.tolerance import MISS
from lithon.mend.seams import between, scatter_of, strayed, touching_curve

#: How many times as far as a corner stands off surfaces the point on all of them is, where they cross.
_SKEW = 10.0
#: A border that turns by more (radians), and by so many times as much as at the corners beside, is bent there.
_SHARP, _ALONE = np.radians(40.0), 2.5
#: The number of what stays facets.
FACETS = -1


@dataclass(frozen=True, slots=True, eq=False)
class Piece:
    """Triangles (rows) that hang together on one surface, their area (mm2), and how far (mm) corners stand off it. What
    is found where it meets others is kept under its `mark`, which all have that are cut from one; what is found of it
    alone under its `region`."""

    surface: Surface | None
    rows: Ints
    area: float
    off: float = 0.0
    mark: object = field(default_factory=object)
    region: object = field(default_factory=object)
    #: How often its border was moved for a triangle that hinders it, or that it hinders.
    moved: int = 0


@dataclass(frozen=True, slots=True, eq=False)
class Failure:
    """Why patches (numbers) do not become faces; the triangle (row) that hinders them, and the corners of the mesh
    where they meet in vain."""

    among: tuple[int, ...]
    refusal: Refusal
    row: int | None = None
    at: tuple[int, ...] = ()


@dataclass(slots=True)
class Chain:
    """Corners of the mesh along which two patches meet, in order; a ring where the first is the last."""

    pair: tuple[int, int]
    points: list[int]

    @property
    def ring(self) -> bool:
        return self.points[0] == self.points[-1]


def away(curve: Curve, points: Floats) -> float:
    return float(np.linalg.norm(curve.point(curve.parameter(points)) - points, axis=1).max())


class Meetings:
    """Patches (pieces) of triangles, those in `stay` but facets, and where they meet: `surfaces` of them, the vertices
    `made` of corners, `failures` of what does not meet where it is `mixed` and more may become facets. `memory` keeps
    what was found when others of them met."""

    def __init__(
        self, points: Floats, corners: Ints, pieces: Sequence[Piece], tolerance: float, free: float,
        stay: Mapping[int, str], memory: dict[object, Any], mixed: bool,
    ):  # fmt: skip
        self.points, self.corners, self.tolerance = points, corners, tolerance
        self.pieces, self.free, self.stay, self.memory, self.mixed = pieces, free, stay, memory, mixed
        #: None for a free-form one that is not fitted yet, and for what stays facets.
        self.surfaces: list[Surface | None] = []
        self.failures: list[Failure] = []
        self.label = np.full(len(corners), FACETS, dtype=np.int64)
        for k, piece in enumerate(pieces):
            self.surfaces.append(None if k in stay else piece.surface)
            if k in stay:
                continue
            if piece.surface is None and not free:
                here = points[corners[piece.rows[0]]].mean(axis=0)
                raise Refusal("a patch lies on no simple surface", where=spot(here),
                              remedy="allow more deviation, or keep the facets")  # fmt: skip
            self.label[piece.rows] = k
        self.near = MISS * tolerance
        a, b, c = (points[corners[:, k]] for k in range(3))
        self.normal = unit(cross_product(b - a, c - a))
        if "beside" not in memory:
            memory["beside"] = {
                side: t for t, (i, j, k) in enumerate(corners.tolist()) for side in ((i, j), (j, k), (k, i))
            }
        #: The triangle that walks each directed side.
        self.beside: dict[tuple[int, int], int] = memory["beside"]
        self.made: dict[int, Vertex] = {}
        #: Corners where patches meet for which there is no vertex.
        self.unmade: set[int] = set()

    def marks(self, among: Sequence[int]) -> frozenset[object]:
        """What patches are known by from one attempt to the next."""
        return frozenset(FACETS if k == FACETS else self.pieces[k].mark for k in among)

    def known_curve(self, sides: Sequence[tuple[int, int]], pair: Sequence[int]) -> Curve | None:
        """The curve that was drawn along all of some sides (the smaller corner first) between two patches, before one
        of them was cut."""
        along: dict[tuple[int, int], tuple[Curve, frozenset[object]]] = self.memory.get("along", {})
        found = {along.get(side) for side in sides}
        one = found.pop() if len(found) == 1 else None
        marks = self.marks(pair)
        # Where one of the two stays facets now, the other ends where it did.
        known = one is not None and (one[1] == marks or (FACETS in pair and marks - {FACETS} <= one[1]))
        return one[0] if one is not None and known else None

    @contextmanager
    def noting(self, among: tuple[int, ...], row: int | None = None, at: Sequence[int] = ()) -> Iterator[None]:
        """Where something cannot be made of patches it is noted, and the others go on; where none may fail it is
        refused at once. `at`: the corners that it is made at."""
        try:
            yield
        except Refusal as refusal:
            if not self.mixed:
                raise
            self.failures.append(Failure(among, refusal, row, tuple(at)))

    def borders(self) -> dict[tuple[int, int], int]:
        """Directed sides between patches, and the patch whose triangle walks each."""
        if "sides" not in self.memory:
            for a, b in self.beside:
                if (b, a) not in self.beside:
                    raise Refusal("the triangles are open", where=spot(self.points[a]),
                                  remedy="clean the triangles first")  # fmt: skip
            over = np.array([self.beside[b, a] for a, b in self.beside])
            self.memory["sides"] = np.array(list(self.beside)), np.array(list(self.beside.values())), over
        sides, own, other = self.memory["sides"]
        rows = np.flatnonzero(self.label[own] != self.label[other])
        ends = map(tuple, sides[rows].tolist())
        return dict(zip(ends, self.label[own[rows]].tolist(), strict=True))

    def chains(self, borders: dict[tuple[int, int], int]) -> list[Chain]:
        """Borders of two patches as far as they go on; corners where they end are made."""
        pairs: dict[tuple[int, int], tuple[int, int]] = {}
        at: dict[int, list[tuple[int, int]]] = defaultdict(list)
        for (a, b), k in borders.items():
            if a < b:
                pairs[a, b] = (min(k, borders[b, a]), max(k, borders[b, a]))
                at[a].append((a, b))
                at[b].append((a, b))
        ends = {v for v, own in at.items() if len(own) != 2 or pairs[own[0]] != pairs[own[1]]}
        ends |= self._bends(pairs, at, ends)
        along = self.memory.get("along", {})
        for v, own in at.items():  # what stays facets beside a face does so from one of its curves to the next
            if v not in ends and FACETS in pairs[own[0]] and len({along.get(side) for side in own} - {None}) > 1:
                ends.add(v)
        out = self._walked(pairs, at, ends)
        touched = self._touched(out)
        if touched.keys() - ends:
            ends |= touched.keys()
            out = self._walked(pairs, at, ends)
        around = dict[int, tuple[int, ...]]()
        for chain in out:
            if chain.points[0] in ends:
                for v in (chain.points[0], chain.points[-1]):
                    around[v] = tuple(sorted({k for side in at[v] for k in pairs[side]} - {FACETS}))
                    with self.noting(around[v], at=(v,)):
                        ways = defaultdict[tuple[int, int], list[tuple[int, int]]](list)
                        for side in at[v]:
                            ways[pairs[side]].append(side)
                        curves = {c for pair, own in ways.items() if (c := self.known_curve(own, pair)) is not None}
                        here = touched.get(v, self.points[v])
                        self._corner(v, around[v], here, curves.pop() if len(curves) == 1 else None)
        out = self._without_steps(out, around)
        self.unmade = {v for v in around if v not in self.made}
        return out

    @staticmethod
    def _walked(
        pairs: Mapping[tuple[int, int], tuple[int, int]], at: Mapping[int, list[tuple[int, int]]], ends: set[int]
    ) -> list[Chain]:
        """Borders as far as they go on to one of some ends."""
        left = dict.fromkeys(pairs)
        out = []

        def walk(start: int, side: tuple[int, int]) -> Chain:
            pair, line = pairs[side], [start]
            while True:
                left.pop(side, None)
                nxt = side[1] if side[0] == line[-1] else side[0]
                line.append(nxt)
                if nxt in ends or nxt == line[0]:
                    return Chain(pair, line)
                side = next(s for s in at[nxt] if s != side)

        for v in sorted(ends):
            for side in at[v]:
                if side in left:
                    out.append(walk(v, side))
        while left:
            side = next(iter(left))
            out.append(walk(side[0], side))
        return out

    def _touched(self, chains: Sequence[Chain]) -> dict[int, Floats]:
        """Corners nearest to the places (3,) on borders at which the two surfaces touch: there their curves cross, as
        those of bores of one radius do, and a border goes on along another one."""
        out: dict[int, Floats] = {}
        for chain in chains:
            a, b = (None if k == FACETS else self.surfaces[k] for k in chain.pair)
            if a is None or b is None or isinstance(a, Plane) or isinstance(b, Plane):
                continue
            key = (tuple(chain.points), self.marks(chain.pair))
            if key not in self.memory:
                line = chain.points[:-1] if chain.ring else chain.points
                run = self.points[chain.points + chain.points[1:3] if chain.ring else chain.points]
                near = self.near + self.scatter(chain.pair)
                spots = [spot for spot, gap in touches(a, b, run, turning=True) if gap <= near]
                far = [np.linalg.norm(self.points[line] - spot, axis=1) for spot in spots]
                self.memory[key] = {line[int(np.argmin(d))]: spot for spot, d in zip(spots, far, strict=True)}
            out |= self.memory[key]
        return out

    def _bends(
        self, pairs: Mapping[tuple[int, int], tuple[int, int]], at: Mapping[int, list[tuple[int, int]]], ends: set[int]
    ) -> set[int]:
        """Corners at which the border of a free-form patch turns sharply, and only there: it is no smooth curve."""
        turn: dict[int, float] = {}
        beside: dict[int, tuple[int, int]] = {}
        for v, own in at.items():
            if v not in ends and any(k != FACETS and self.surfaces[k] is None for k in pairs[own[0]]):
                a, b = (side[0] if side[1] == v else side[1] for side in own)
                before, after = self.points[v] - self.points[a], self.points[b] - self.points[v]
                turn[v] = float(np.arccos(np.clip(unit(before) @ unit(after), -1.0, 1.0)))
                beside[v] = a, b
        return {
            v for v, angle in turn.items()
            if angle > _SHARP and angle > _ALONE * max(turn.get(w, 0.0) for w in beside[v])
        }  # fmt: skip

    def _without_steps(self, chains: list[Chain], around: Mapping[int, tuple[int, ...]]) -> list[Chain]:
        """Where four surfaces meet in a point, their patches in a scan do in two, with a short border between two of
        them, which is no edge: both corners are that point."""
        if not any(self.scatter(chain.pair) for chain in chains):
            return chains
        one: dict[int, int] = {}  # corners that are another one
        met = dict(around)  # and what meets in all of those that are one

        def root(v: int) -> int:
            while v in one:
                v = one[v]
            return v

        out = []
        for chain in chains:
            a, b = chain.points[0], chain.points[-1]
            if a == b or a not in around or not self._step(chain, around):
                out.append(chain)
                continue
            every = tuple(sorted({*met[root(a)], *met[root(b)]}))
            key = (a, b, root(a), root(b), self.marks(every))
            if key not in self.memory:
                known = [s for k in every if (s := self.surfaces[k]) is not None]
                here = self.points[[a, b]].mean(axis=0)[None]
                there = self._on_all(known, here, self._strayed(chain), False, self.scatter(every), True)
                self.memory[key] = None if there is None else Vertex(frozen(there[0]))
            vertex: Vertex | None = self.memory[key]
            if vertex is None:
                out.append(chain)
                continue
            a, b = root(a), root(b)
            if a != b:
                one[b] = a
            self.made[a], met[a] = vertex, every
        for v in one:
            self.made[v] = self.made[root(v)]
        return out

    def _strayed(self, chain: Chain) -> float:
        """How far (mm) the border of two patches may stray from where their surfaces meet."""
        a, b = (self.surfaces[k] for k in chain.pair)
        assert a is not None and b is not None
        return strayed(a, b, self.near + self.scatter(chain.pair))

    def _step(self, chain: Chain, around: Mapping[int, tuple[int, ...]]) -> bool:
        """Whether a chain is no longer than borders stray, between patches that all have surfaces."""
        ends = {*around[chain.points[0]], *around[chain.points[-1]]}
        if FACETS in chain.pair or any(self.surfaces[k] is None for k in ends) or len(ends) < 4:
            return False
        long = float(np.linalg.norm(np.diff(self.points[chain.points], axis=0), axis=1).sum())
        return long <= self._strayed(chain)

    def _corner(self, v: int, around: tuple[int, ...], at: Floats, on: Curve | None) -> None:
        """The vertex where patches meet, near a place (3,); on a curve that was drawn before."""
        if v in self.made:
            return
        key = (v, self.marks(around))
        if key in self.memory:
            self.made[v] = self.memory[key]
            return
        every = [self.surfaces[k] for k in around]
        known = [surface for surface in every if surface is not None]
        here, scatter = at[None], self.scatter(around)
        there = None
        if on is not None:
            there = on.point(on.parameter(here))
            if any(abs(float(s.signed_distance(there)[0])) > self.near for s in known):
                there = None
        if there is None:
            there = self._on_all(known, here, 50.0 * self.near + scatter, len(known) < len(every), scatter)
        if there is None:
            raise Refusal("the surfaces around a corner do not meet in a point", where=spot(self.points[v]),
                          remedy="allow more deviation, or keep the facets")  # fmt: skip
        self.made[v] = self.memory[key] = Vertex(frozen(there[0]))

    def _on_all(
        self, known: Sequence[Surface], here: Floats, most: float, free: bool, scatter: float, touching: bool = False
    ) -> Floats | None:
        """The point (1,3) on all of some surfaces near one that is on them but for its scatter; `most`: how far (mm) it
        may be; `free`: beside free-form faces, which are made to meet it; `touching`: where two of them touch all along
        a curve it must be on that. None where there is none."""

        def off(p: Floats) -> float:
            return max((abs(float(s.signed_distance(p)[0])) for s in known), default=0.0)

        if not known:
            return here
        curves = [
            curve for a, b in combinations(known, 2)
            if (curve := touching_curve(a, b, here, self.near, self.near + scatter)) is not None
        ]  # fmt: skip
        if curves:
            # Where surfaces touch all along a curve, what tells a corner is that curve.
            there = between(known, here, 0.01 * self.near, 100.0 * most, curves)
            apart = max(away(curve, there) for curve in curves)
            if max(off(there), apart) <= self.near and float(np.linalg.norm(there - here)) <= 10.0 * most:
                return there
            if touching:
                return None
        there, missed = onto_all(known, here)
        far = float(np.linalg.norm(there - here))
        near = off(here)
        most += 2.0 * self.free if free else 0.0
        # Where surfaces are tangent the point that lies on all may be far along them.
        if missed[0] <= self.near and far <= min(most, _SKEW * near + self.tolerance):
            return np.asarray(there)
        if near <= self.near:
            return here
        there = between(known, here, 0.05 * self.near, most)
        return there if off(there) <= self.near and float(np.linalg.norm(there - here)) <= most else None

    def scatter(self, among: Sequence[int]) -> float:
        """How far (mm) corners where patches meet may stand off where their surfaces do."""
        return scatter_of([self.pieces[k].off for k in among if k != FACETS])

    def apart(self, line: Floats) -> Refusal:
        return Refusal("two patches do not meet along their border", where=spot(line[len(line) // 2]),
                       remedy="allow more deviation, or keep the facets")  # fmt: skip
