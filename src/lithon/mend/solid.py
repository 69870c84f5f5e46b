"""A solid of patches: where two patches meet is an edge on both surfaces, where three meet a corner on all of them.

A patch that lies on no simple surface may get a free-form one: the edges around it are drawn along its border first, on
the simple surfaces beside it, and it is fitted through them. Where a patch gets no surface, or one that does not meet
those beside it, it may stay as it is: a face for each of its triangles, whose corners on the border lie on what is
beside it.
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

import numpy as np

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.crossings import self_intersections
from lithon.brep.cleaning import side_pairs
from lithon.brep.tessellation.division import edge_points
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop
from lithon.brep.validate import Flaw, flaws, gap_flaws, outline_flaws
from lithon.errors import Refusal, spot
from lithon.geometry.surfaces import Surface
from lithon.geometry.tolerance import MISS
from lithon.mend.edges import Edges
from lithon.mend.facet_faces import FacetFaces
from lithon.mend.freeform import OffItsRim, through, unfolded
from lithon.mend.giving_way import LARGE, Skin, pieces_of
from lithon.mend.meetings import FACETS, Chain, Failure, Piece
from lithon.mend.pinches import unpinched
from lithon.mend.segments import Patch
from lithon.progress import bring_home, now, pulse, seconds_left
from lithon.threads import each_of


def bordering(n: int, corners: Ints, patches: Sequence[Patch]) -> set[tuple[int, int]]:
    """The pairs of patches that border on each other; `n` points."""
    label = np.full(len(corners), -1, dtype=np.int64)
    for k, patch in enumerate(patches):
        label[patch.rows] = k
    i, j, _ = side_pairs(corners, n)
    rows = np.sort(np.stack([label[i], label[j]], axis=1), axis=1)
    return {(int(a), int(b)) for a, b in np.unique(rows[rows[:, 0] != rows[:, 1]], axis=0)}


@dataclass(frozen=True, slots=True, eq=False)
class Left:
    """What stayed facets: its faces, its area (mm2), where it is, and why."""

    faces: tuple[Face, ...]
    area: float
    place: Floats
    why: str


@dataclass(frozen=True, slots=True, eq=False)
class Solid:
    """A body made of patches; how far (mm) corners stand off its free-form faces; what stayed facets; the resolution
    (mm) at which it is sound."""

    body: Body
    off: float
    left: tuple[Left, ...] = ()
    tolerance: float = 0.0


#: So many times patches that do not fit are left as they are, or cut; after so many, all that a failure is among but
#: the largest.
_ROUNDS, _CUTS, _PATIENT = 80, 400, 8
#: So many faces are fitted before it is looked whether enough failed.
_AT_ONCE = 8
#: For the first that is whole there is so much time (s) for each face to look whether it is sound.
_LOOKING = 0.08
#: It takes so many times as long as the last attempt did, and more (s) for each face, but at least a share of the time
#: there was, until all that is left fits; where there is no more nothing is cut, and before that only what is large.
_SETTLING, _EACH, _RESERVE, _BEFORE = 2.0, 0.03, 0.25, 1.8
#: Parts of what is free-form come so near (share of how far they may stand off) to a face each; those have no more
#: spans a side, and fewer where they are of few triangles, for they can be cut.
_PART_WITHIN, _PART_SPANS = 0.5, 28


class MostlyFacets(Refusal):
    """More of a skin would stay facets than is wanted."""


def solid_of(
    points: Floats, corners: Ints, patches: Sequence[Patch], tolerance: float, name: str = "part", free: float = 0.0,
    mixed: bool = False, most: float = np.inf, lost: dict[bytes, Refusal] | None = None, parted: float | None = None,
    coarse: bool = False,
) -> Solid:  # fmt: skip
    """The solid whose faces are the patches, their edges found anew. `free`: how far (mm) corners may stand off the
    free-form faces of patches that lie on no simple surface; where it is 0 there are none. Raises Refusal, naming
    the place, where two surfaces do not meet along the border of their patches, or no free-form one can be had;
    `mixed`: there patches stay facets, the smallest that help, and it is refused where no other are left, or
    (MostlyFacets) when over `most` (mm2) of the skin are left so. `parted`: before any does, free-form patches that
    fail are cut in parts, simple ones become free-form, and corners may stand so far (mm) off what comes no nearer.
    `lost`: patches through whose borders no free-form face was found, with whatever deviation; added to. `coarse`:
    what is smooth stands high over the sides between corners, which are exact."""
    memory: dict[object, Any] = {"lost": {} if lost is None else lost, "coarse": coarse}
    whole = len(corners)
    points, corners, parent = unpinched(points, corners)
    if len(corners) > whole:
        patches = [
            replace(patch, rows=np.append(patch.rows, whole + np.flatnonzero(np.isin(parent[whole:], patch.rows))))
            for patch in patches
        ]
    points, corners, pieces = pieces_of(points, corners, patches, bool(free), parted and _PART_WITHIN * parted)
    stay: dict[int, str] = {}
    if mixed and not free:
        stay = {k: "it lies on no simple surface" for k, piece in enumerate(pieces) if piece.surface is None}
        if len(stay) == len(pieces):
            raise Refusal("nothing of it lies on a simple surface",
                          remedy="free-form faces, more deviation, or keep the facets")  # fmt: skip
    skin, patience, looking, time_there = Skin(points, corners, pieces, stay), _PATIENT, _LOOKING, seconds_left()
    for _ in range((_CUTS if parted else _ROUNDS) if mixed else 1):
        if (facets := sum(skin.pieces[k].area for k in stay)) > most:
            largest = max(stay, key=lambda k: skin.pieces[k].area)
            share = facets / sum(piece.area for piece in skin.pieces)
            raise MostlyFacets(f"{share:.0%} of its skin would stay facets: {stay[largest]}",
                               where=spot(skin.points[skin.corners[skin.pieces[largest].rows]].mean(axis=(0, 1))),
                               remedy="part the patch there, or keep the facets")  # fmt: skip
        began = now()
        builder = _Builder(skin.points, skin.corners, skin.pieces, tolerance, name, free, stay, memory, mixed, most)
        builder.loosely, builder.parted = max(free, parted or 0.0), parted is not None
        out = builder.run()
        if out is not None:
            home = looking * (len(skin.pieces) - len(stay))
            bring_home(home)
            if not (mixed and builder.unsound(out.body)):
                return out
            bring_home(home)
            looking /= 2.0  # most of it is known the next time
        if not mixed:
            break
        need = _SETTLING * (now() - began) + _EACH * (len(skin.pieces) - len(stay))
        need, has = max(need, _RESERVE * time_there), seconds_left()
        least = 0.0 if np.isinf(has) else np.inf if has < need else LARGE if has < _BEFORE * need else 0.0
        left, changed = (builder.failures, False) if parted is None else skin.bend_to(builder.failures, memory, least)
        if not skin.give_up(left, all_of=patience <= 0) and not changed:
            break
        patience -= bool(left)
    raise builder.failures[0].refusal


_PART = "part the patch there, allow more deviation, or keep the facets"


def _not_sound(flaw: Flaw) -> Refusal:
    return Refusal(f"the solid would not be sound: {flaw.text}", where=spot(flaw.place), remedy=_PART)


class _Builder(Edges):
    def __init__(
        self, points: Floats, corners: Ints, pieces: Sequence[Piece], tolerance: float, name: str, free: float,
        stay: Mapping[int, str], memory: dict[object, Any], mixed: bool, most: float,
    ):  # fmt: skip
        """`most`: no more (mm2) is to stay facets."""
        super().__init__(points, corners, pieces, tolerance, free, stay, memory, mixed)
        self.name, self.off, self.most, self.loosely, self.parted = name, 0.0, most, free, False
        #: Faces of facets, and the patches for which their corners were moved or sides bent.
        self.beside_facet: dict[Face, tuple[int, ...]] = {}
        #: What each edge was made along.
        self.along: dict[Edge, Chain] = {}
        #: Which points are on the border of a patch.
        self.bordering = np.zeros(len(points), dtype=bool)

    def run(self) -> Solid | None:
        """The solid; None where patches fail. What does not touch those that failed is looked at all the same: the
        sooner all is known that gives way, the fewer attempts it takes."""
        borders = self.borders()
        chains = self.chains(borders)
        edges: dict[int, list[tuple[Edge, bool]]] = {}
        for chain in chains:
            if self.unmade.isdisjoint((chain.points[0], chain.points[-1])):
                with self.noting(chain.pair, at=chain.points):
                    made = self.edges_along(chain)
                    if wrong := gap_flaws((edge for edge, _ in made), self.tolerance):
                        raise _not_sound(wrong[0])
                    edges[id(chain)] = made
                    self.along |= dict.fromkeys((edge for edge, _ in made), chain)
        self.bordering[[v for chain in chains for v in chain.points]] = True
        broken = [chain for chain in chains if id(chain) not in edges]
        chains = [chain for chain in chains if id(chain) in edges]
        waiting = {*self.stay, *(k for chain in broken for k in chain.pair)}
        free = [k for k, surface in enumerate(self.surfaces) if surface is None and k not in waiting]
        around: dict[int, list[Edge]] = defaultdict(list)
        for chain in chains:
            for k in chain.pair:
                around[k] += [edge for edge, _ in edges[id(chain)]]
        free.sort(key=lambda k: -self.pieces[k].area)  # where the large ones fail, the small are no matter
        for first in range(0, len(free), _AT_ONCE):
            some = free[first : first + _AT_ONCE]
            for k, fit in zip(some, each_of(lambda k: self._fit(k, around[k]), some), strict=True):
                with self.noting((k,)):
                    if isinstance(fit, Refusal):
                        raise fit
                    self.surfaces[k] = fit[0]
                    self.off = max(self.off, fit[1])
            if sum(self.pieces[j].area for j in {*self.stay, *(f.among[0] for f in self.failures)}) > self.most:
                break
        waiting.update(k for k, surface in enumerate(self.surfaces) if surface is None)
        sides: dict[int, list[Coedge]] = defaultdict(list)
        for chain in chains:
            a, b = chain.points[0], chain.points[1]
            for k in chain.pair:
                forward = borders[(a, b)] == k if (a, b) in borders else borders[(b, a)] != k
                sides[k] += [Coedge(edge, same == forward) for edge, same in edges[id(chain)]]
        self.faces: dict[Face, int] = {}
        uses, loose = list[FaceUse](), list[FaceUse]()
        gone = {v for chain in broken for v in chain.points}
        left = self._left(chains, edges, loose, gone)  # first: it is soon told, and faces beside it may change for it
        waiting.update(k for failure in self.failures for k in failure.among)
        for k in range(len(self.surfaces)):
            pulse("sewing faces")
            if k not in waiting:
                with self.noting((k,)):
                    uses.append(self._face(k, sides[k]))
        body = Body((*uses, *loose), self.name)
        return None if self.failures else Solid(body, self.off, left, self.tolerance)

    def _face(self, k: int, sides: list[Coedge]) -> FaceUse:
        surface = self.surfaces[k]
        assert surface is not None
        # What is the same as before is the same face, and known to be sound.
        key = (self.pieces[k].region, id(surface), frozenset((id(c.edge), c.forward) for c in sides))
        if key not in self.memory:
            face = Face(surface, tuple(_loops(sides, surface)), self._along(surface, self.pieces[k].rows))
            self.memory[key] = face, outline_flaws(face, self.tolerance) if self.parted else []
        face, wrong = self.memory[key]
        self.faces[face] = k
        for flaw in wrong[:1]:
            self._blame(flaw, (k,))
        return FaceUse(face)

    def _blame(self, flaw: Flaw, among: tuple[int, ...]) -> None:
        """Note what is not sound about patches: of an edge it is not known which of its two is to blame."""
        chain = self.along.get(flaw.entity) if isinstance(flaw.entity, Edge) else None
        if chain is not None:
            at = tuple(chain.points)
            among = tuple(dict.fromkeys(k for k in (*chain.pair, *among) if k != FACETS))
        else:
            of = self.corners[np.isin(self.label, among)].ravel()
            border = np.unique(of[self.bordering[of]])
            near = np.linalg.norm(self.points[border] - flaw.place, axis=1)
            at = tuple(border[np.argsort(near)[:_NEAREST]].tolist())
        self.failures.append(Failure(among, _not_sound(flaw), None, at))

    def _left(
        self, chains: list[Chain], edges: dict[int, list[tuple[Edge, bool]]], uses: list[FaceUse], gone: set[int]
    ) -> tuple[Left, ...]:
        """What stays facets; its faces are put to the others. `gone`: corners beside which there are no edges; where
        something failed only what is beside faces is made."""
        if not self.stay:
            return ()
        known = {}
        for chain in chains:
            if FACETS in chain.pair:
                for (edge, _), a, b in zip(edges[id(chain)], chain.points, chain.points[1:], strict=False):
                    known[min(a, b), max(a, b)] = edge, a
        beside: dict[int, list[int]] = defaultdict(list)  # the patches that a corner is moved for
        for chain in chains:
            for v in chain.points if FACETS in chain.pair else ():
                beside[v] += [k for k in chain.pair if k != FACETS]
        facets = FacetFaces(self.points, self.corners, self.made, known, self.memory)
        among_border, among_gone = (np.zeros(len(self.points), dtype=bool) for _ in range(2))
        among_border[list(beside)] = True
        among_gone[list(gone)] = True
        out = []
        for k, why in self.stay.items():
            piece, own = self.pieces[k], list[Face]()
            if not len(piece.rows):
                continue
            rows = piece.rows
            if self.failures:
                rows = rows[among_border[self.corners[rows]].any(axis=1) & ~among_gone[self.corners[rows]].any(axis=1)]
            for row in rows.tolist():
                moved = tuple(dict.fromkeys(j for v in self.corners[row].tolist() for j in beside[v]))
                with self.noting(moved, row, self.corners[row].tolist()):
                    made = facets.uses(row)
                    uses += made
                    own += [use.face for use in made]
                    self.beside_facet |= dict.fromkeys((use.face for use in made), moved)
            self.faces |= dict.fromkeys(own, k)
            middle = self.points[self.corners[piece.rows]].mean(axis=(0, 1))
            out.append(Left(tuple(own), piece.area, middle, why))
        return tuple(sorted(out, key=lambda left: -left.area))

    def unsound(self, body: Body) -> bool:
        """Whether a body is not sound; what it is about is noted."""
        uses = adjacency(body).uses
        wrong = flaws(body, self.tolerance)
        for flaw in wrong:
            about = [flaw.entity] if isinstance(flaw.entity, Face) else []
            if isinstance(flaw.entity, Edge):
                about = [use.face for use, _ in uses.get(flaw.entity, ())]
            elif flaw.kind == "tangled face" and not self.parted:  # what is small beside it may not fit in
                about += _across(flaw.entity, flaw.place, uses)
            near = (self.beside_facet.get(f, (self.faces.get(f, FACETS),)) for f in about)
            self._blame(
                flaw, tuple(dict.fromkeys(k for own in near for k in own if k != FACETS and k not in self.stay))
            )
        if not wrong and self.parted:
            # Parts are small beside how far they may stand off: they may run through each other, or through facets.
            for one, two, spots in self_intersections(body, self.tolerance):
                among = tuple({k for f in (one, two) if (k := self.faces.get(f, FACETS)) not in (FACETS, *self.stay)})
                if among:
                    what = "faces would run through each other"
                    self.failures.append(Failure(among, Refusal(what, where=spot(spots[0]), remedy=_PART)))
        return bool(self.failures)

    def _along(self, surface: Surface, rows: Ints) -> bool:
        a, b, c = (self.points[self.corners[rows, k]] for k in range(3))
        normals = cross_product(b - a, c - a)
        return bool(float((surface.normal((a + b + c) / 3.0) * normals).sum()) > 0.0)

    def _fit(self, k: int, edges: list[Edge]) -> tuple[Surface, float] | Refusal:
        """The free-form surface of a patch, and how far corners stand off it, or why there is none."""
        # Where a border was parted its curves are the same.
        source = self.memory.get("source", {})
        of = [source.get(id(edge.curve), (None, edge.curve))[1] for edge in edges]
        key = (self.pieces[k].region, frozenset(id(curve) for curve in of))
        if key not in self.memory:
            try:
                self.memory[key] = self._fitted(k, edges)
                self.memory["known by", key] = of  # they stay, so that no other curve gets their numbers
            except Refusal as refusal:
                return refusal
        fit: tuple[Surface, float] = self.memory[key]
        return fit

    def _fitted(self, k: int, edges: list[Edge]) -> tuple[Surface, float]:
        own = self.corners[self.label == k]
        sheet = unfolded(self.points, own)
        if sheet is None:
            raise Refusal("a free-form patch closes on itself or bends too far to be laid flat",
                          where=spot(self.points[own[0, 0]]), remedy="part it, or keep the facets")  # fmt: skip
        lost: dict[bytes, Refusal] = self.memory["lost"]
        told = self.points[own].tobytes()
        if told in lost:
            raise lost[told]
        around = max(sum(edge.length for edge in edges), 1e-300)
        counts = [int(np.clip(900.0 * edge.length / around, 24, 300)) for edge in edges]
        rim = [e.curve.point(np.linspace(e.t0, e.t1, n)) for e, n in zip(edges, counts, strict=True)]
        # Curves that are drawn anew beside what changed may be the same as before.
        alike = told, tuple(points.tobytes() for points in rim)
        if alike in self.memory:
            found: tuple[Surface, float] = self.memory[alike]
            return found
        try:
            spans = {"spans": min(_PART_SPANS, int(2.0 + np.sqrt(len(own))))} if self.parted else {}
            self.memory[alike] = found = through(sheet, rim, MISS * self.tolerance, self.free, self.loosely, **spans)
            return found
        except OffItsRim as refusal:
            lost[told] = refusal
            raise


#: So many edges of a face, or corners of a border, are nearest to where it crosses itself: two that meet there, and one
#: that runs across.
_NEAREST = 3


def _across(face: Face, place: tuple[float, float, float], uses: Mapping[Edge, Any]) -> list[Face]:
    """The faces beside one over those of its edges that pass nearest to a place."""
    edges = list(dict.fromkeys(face.edges()))
    edges.sort(key=lambda e: float(np.linalg.norm(edge_points(e)[1] - place, axis=1).min()))
    return [use.face for e in edges[:_NEAREST] for use, _ in uses.get(e, ()) if use.face is not face]


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
