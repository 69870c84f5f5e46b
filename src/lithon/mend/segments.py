"""Triangles parted into patches that lie on one surface each: planes, cylinders, cones, spheres, tori.

From seed triangles a surface is fitted to their neighbourhood, then grown over all that lies on it (region growing with
robust fits: Schnabel, Wahl & Klein 2007; Attene, Falcidieno & Spagnuolo 2006). A fit is made better by least squares
over what it has grown to. What lies on nothing simple is a patch of facets.
"""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.cleaning import side_pairs
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import freedoms, placed, refined, spread, torus_about
from lithon.mend.links import along, flood, link_values, lists
from lithon.mend.scans import Scan, parted_scan
from lithon.mend.starts import round_fits
from lithon.progress import pulse

#: Sides over which triangles turn by more than this end a neighbourhood; a patch's triangles lean no further than
#: `_LEAN` from its surface.
_SMOOTH, _LEAN = np.radians(40.0), np.radians(30.0)
_FLAT, _MADE = np.radians(0.3), np.radians(0.02)
#: Of what scatters no such share lies in flats as exact as that.
_EXACTLY_FLAT = 0.2
_HOODS = (8, 20, 60)
#: How many times as far inside its surface a triangle stands as the others at most, to be a chord as they are.
_CHORD = 8.0
#: A triangle of a mesh that gets coarser turns by so many times as much as one beside it, at most.
_COARSER = 2.0
#: Three strips of one cylinder are as wide as each other but for so much.
_EVEN = 1.3
#: So many triangles in one plane are so by no chance, where so much of them (a share) lies elsewhere.
_SEVERAL, _PART = 6, 0.05
#: So many angles by which a piece goes on are followed, those that it has most often.
_ANGLES = 6
#: Two strips lie side by side over a side that is as much of the longest of both.
_ALONG = 0.7
#: Less scatter than this share of a side is none.
_NOISE = 2e-3
#: Where free-form faces may be: a round surface of fewer triangles is no find; triangles that turn by more than this
#: (radians) belong to two faces; a scan's remains of fewer triangles go to what lies beside them.
_FEW, _CREASE, _SPARSE = 16, np.radians(25.0), 60
#: From so many triangles of what was left a round surface is looked for once more.
_AGAIN = 12
#: In scatters: how far corners of a scan may stand off, to begin with.
ROUGH = 8.0
#: Triangles that turn by less (radians) are of a face that bends; so many of them on nothing simple are no accident.
_FINE, _MISSES = np.radians(20.0), 60
#: What lies on surfaces outweighs as many misses, in triangles for each.
_OUTWEIGH = 30
#: The share of the diagonal within which corners lie on what they were made from; of fewer triangles they must lie
#: nearer, and be of so many strips: their ends overdetermine a circle.
_EXACT, _TRULY, _STRIPS = 4e-6, 3e-7, 5


@dataclass(frozen=True, slots=True, eq=False)
class Patch:
    """A surface, none where nothing simple fits, and the triangles (rows) that lie on it."""

    surface: Surface | None
    rows: Ints
    off: float

    @property
    def kind(self) -> str:
        return "facets" if self.surface is None else self.surface.kind


def segmented(
    points: Floats, corners: Ints, tolerance: float, noise: float = 0.0, free: bool = False,
    known: dict[float, tuple[Ints, list[Surface]]] | None = None,
) -> list[Patch]:  # fmt: skip
    """The patches of closed triangles, the largest first; `tolerance`: how far (mm) corners may stand off a surface;
    noise: as `noise_of` tells it. `free`: what lies on no surface but such as hold a handful of triangles is left
    together as patches without one; where they are not left so, no patches where much lies on nothing simple. `known`:
    how a scan of these was parted before, by what was allowed; added to."""
    grower = _Grower(points, corners, tolerance, noise, free)
    grower.known = {} if known is None else known
    return grower.run()


def noise_of(points: Floats, corners: Ints) -> float:
    """How far (mm, root mean square) corners scatter about the surface that they lie on; 0 for triangles that were
    made from exact faces. Told from the corners whose neighbours lie nearest to a plane."""
    grower = _Grower(points, corners, 0.0, 0.0)
    # What scatters little is nearly flat, and only what was made is flat as exactly as files are written.
    flat = grower.parts(_MADE)
    pieces = np.bincount(flat)
    wide = float(grower.area[pieces[flat] >= _SEVERAL].sum())
    if len(pieces) < 0.7 * len(corners) or wide > _EXACTLY_FLAT * float(grower.area.sum()):
        return 0.0  # made triangles lie in strips and flats, most of them or the large ones
    i = np.concatenate([corners[:, [0, 1, 2]].ravel(), corners[:, [1, 2, 0]].ravel()])
    j = np.concatenate([corners[:, [1, 2, 0]].ravel(), corners[:, [0, 1, 2]].ravel()])
    n = len(points)
    ring = scipy.sparse.csr_array((np.ones(len(i)), (i, j)), shape=(n, n))
    ring.data[:] = 1.0
    count = np.asarray(ring.sum(axis=1)).ravel()
    mean = (ring @ points) / np.maximum(count, 1.0)[:, None]
    normal = np.zeros_like(points)
    for k in range(3):
        np.add.at(normal, corners[:, k], grower.normal * grower.area[:, None])
    normal /= np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    off = ((points - mean) * normal).sum(axis=1)
    # What neighbours stand off alike is a bend; of scatter this leaves 1.36 times as much where six are around.
    even = np.abs(off - (ring @ off) / np.maximum(count, 1.0)) / 1.36
    told = np.minimum(np.abs(off) / np.sqrt(1.0 + 1.0 / np.maximum(count, 1.0)), even)
    noise = float(1.4826 * np.quantile(told, 0.4))
    return noise if noise > _NOISE * float(np.median(np.linalg.norm(points[i] - points[j], axis=1))) else 0.0


def patch_on(points: Floats, corners: Ints, rows: Ints) -> Patch:
    """The simplest surface that some triangles lie on; none where their corners stand off all of them by more than a
    fiftieth of their width."""
    p = points[np.unique(corners[rows])]
    wide = float(np.linalg.norm(np.ptp(p, axis=0)))
    grower = _Grower(points, corners, wide / 400.0, 0.0)
    middle = p.mean(axis=0)
    way = np.linalg.svd(p - middle, full_matrices=False)[2][-1]
    mean = (grower.normal[rows] * grower.area[rows, None]).sum(axis=0)
    flat = Plane.of(middle, way if float(way @ mean) > 0.0 else -way)
    off = float(np.abs(flat.signed_distance(p)).max())
    round_one = grower._fit(rows) if off > 1e-9 * wide else None
    best: Surface | None = flat
    if round_one is not None:
        round_off = float(np.abs(round_one.signed_distance(p)).max())
        # A plane is also a large cylinder: the round one must be clearly nearer.
        if round_off < 0.3 * off:
            best, off = round_one, round_off
    return Patch(best if off <= wide / 50.0 else None, rows, off)


def grown(points: Floats, corners: Ints, patch: Patch, tolerance: float) -> Ints:
    """The triangles that hang together with a patch and lie within `tolerance` (mm) of its surface, its own too."""
    if patch.surface is None:
        return patch.rows
    grower = _Grower(points, corners, tolerance, 0.0)
    mask = grower._mask(patch.surface, tolerance, int(patch.rows[0]))
    mask[patch.rows] = True
    return flood(grower.starts, grower.other, mask, int(patch.rows[0]))


class _Grower:
    def __init__(self, points: Floats, corners: Ints, tolerance: float, noise: float, free: bool = False):
        self.points, self.corners, self.tolerance, self.noise = points, corners, tolerance, noise
        self.free = free
        self.scale = float(np.linalg.norm(np.ptp(points, axis=0)))
        a, b, c = (points[corners[:, k]] for k in range(3))
        cross = cross_product(b - a, c - a)
        self.area = 0.5 * np.linalg.norm(cross, axis=1)
        self.normal = cross / np.maximum(2.0 * self.area, 1e-300)[:, None]
        self.middle = (a + b + c) / 3.0
        m = len(corners)
        i, j, _ = side_pairs(corners, len(points))
        sides = np.linalg.norm(points[corners] - points[np.roll(corners, -1, axis=1)], axis=2).max(axis=1)
        turn = np.arccos(np.clip((self.normal[i] * self.normal[j]).sum(axis=1), -1.0, 1.0))
        self.starts, self.other = lists(m, i, j)
        soft = turn < _SMOOTH
        self.soft_starts, self.soft_other = lists(m, i[soft], j[soft])
        self.soft_turn = link_values(m, i[soft], j[soft], turn[soft])
        apart = (corners[i][:, :, None] == corners[j][:, None, :]).any(axis=2).argmin(axis=1)
        shared = points[corners[i, apart - 1]] - points[corners[i, apart - 2]]
        long = np.linalg.norm(shared, axis=1) > _ALONG * np.maximum(sides[i], sides[j])
        #: Links over which the strips of a cylinder or cone lie side by side.
        self.side_by_side = link_values(m, i[soft], j[soft], long[soft]).astype(bool)
        self.turn = i, j, turn
        self.flat = self.parts(_FLAT)
        sums = [np.bincount(self.flat, weights=self.normal[:, k] * self.area) for k in range(3)]
        mean = np.stack(sums, axis=1)
        mean = mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-300)
        lean = np.ones(len(mean))
        np.minimum.at(lean, self.flat, (self.normal * mean[self.flat]).sum(axis=1))
        #: Flat pieces of several triangles that are so as a whole, rather than go on turning a little from one to the
        #: next; two may lie in one plane by chance.
        self.level = (lean > np.cos(_FLAT)) & (np.bincount(self.flat) >= _SEVERAL)
        #: The triangles of each flat piece, one piece after another, and where each begins.
        self.members = np.argsort(self.flat, kind="stable")
        self.firsts = np.searchsorted(self.flat[self.members], np.arange(len(self.level) + 1))
        self.label = np.full(m, -1, dtype=np.int64)
        #: How much each may lean from its surface, the cosine.
        self.least = np.full(m, np.cos(_LEAN))
        self.found: list[Surface | None] = []
        self.known: dict[float, tuple[Ints, list[Surface]]] = {}
        #: Triangles from which no surface is looked for any more.
        self.done = np.zeros(m, dtype=bool)
        self.misses = 0
        #: Flat pieces that no round surface grew from; they are looked at again when it is known what lies beside them.
        self.lost = np.zeros(m, dtype=bool)
        creased = turn < _CREASE
        self.calm_starts, self.calm_other = lists(m, i[creased], j[creased])

    def parts(self, most: float) -> Ints:
        """What hangs together (m,) over sides at which triangles turn by less than an angle (radians)."""
        i, j, turn = self.turn
        flat, m = turn < most, len(self.corners)
        graph = scipy.sparse.coo_array((np.ones(int(flat.sum())), (i[flat], j[flat])), shape=(m, m))
        return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])

    def run(self) -> list[Patch]:
        if self.noise > 0.0:
            self._rough()
            return self._patches()
        size: Floats = np.bincount(self.flat, weights=self.area).astype(float)
        seeds = self._seeds(size)
        later = []
        for seed in seeds.tolist():
            if self.label[seed] >= 0 or self.done[seed]:
                continue
            pulse("looking for surfaces")
            if not self._smooth(seed):
                self._plane(seed)
            elif self.lost[self.flat[seed]] or not self._curved(seed):
                self.lost[self.flat[seed]] = True
                later.append(seed)
                if self.free and not self._wide(seed):
                    self.done[self._hood(seed, _HOODS[1])] = True
                elif not self.free and self._missed(seed):
                    return []
        for seed in later:  # by now it is known what lies beside them
            if self.free and not self._wide(seed):
                continue
            if self.label[seed] < 0 and not self._curved(seed) and not self._about_an_axis(seed):
                self._plane(seed)
        if self.free:
            self._once_more()
        else:
            self._rest()
        self._contest()
        self._chance_flats()
        if self.free:
            self._left_together(1)
        self._join()
        return self._patches()

    def _once_more(self) -> None:
        """Of what hangs together and was left, some triangles that were passed over since those beside them led to
        nothing: a torus is not found from its border."""
        passed = self.label < 0
        for seed in np.flatnonzero(passed).tolist():
            if not passed[seed]:
                continue
            rows = flood(self.calm_starts, self.calm_other, passed, seed)
            passed[rows] = False
            if len(rows) < _FEW:
                continue
            for again in rows[np.linspace(0, len(rows) - 1, _AGAIN).astype(int)].tolist():
                pulse("looking for surfaces")
                if self.label[again] < 0 and self._smooth(again):
                    self._curved(again)

    def _rest(self) -> None:
        """What was left of a flat of which a round surface took a part."""
        for seed in np.flatnonzero(self.label < 0).tolist():
            if self.label[seed] < 0 and not self._curved(seed):
                self._plane(seed)

    def _contest(self) -> None:
        """Triangles of a patch that lie as well on the larger one beside it are its: what was looked at first may have
        been given to a surface that is near there by chance. What is left of a patch that lost some is looked at
        again."""
        count = np.bincount(self.label[self.label >= 0], minlength=len(self.found))
        robbed: dict[int, None] = {}
        flats = np.array([k for k, s in enumerate(self.found) if isinstance(s, Plane)], dtype=np.int64)
        for k in np.argsort(-count, kind="stable").tolist():
            surface = self.found[k]
            own = np.flatnonzero(self.label == k)
            if surface is None or not len(own):
                continue
            smaller = (self.label >= 0) & (count[self.label] < len(own))
            smaller[own] = True
            reached = self._spread(surface, self.tolerance, smaller, int(own[0]))
            may = np.zeros(len(self.corners), dtype=bool)
            may[reached[~self._stray(surface, reached, own)]] = True
            # A flat beside a blend has border corners on it, where it is tangent; it is of the blend as a whole or not.
            for flat in np.unique(self.flat[may & np.isin(self.label, flats)]).tolist():
                piece = self.members[self.firsts[flat] : self.firsts[flat + 1]]
                may[piece] &= bool(may[piece].all()) or not self.level[flat]
            may[own] = True
            mine = flood(self.starts, self.other, may, int(own[0]))
            taken = mine[self.label[mine] != k]
            robbed |= dict.fromkeys(self.label[taken].tolist())
            self.label[taken] = k
        for k in robbed:
            rest = np.flatnonzero(self.label == k)
            self.label[rest] = -1
            self.done[rest] = False
            for seed in rest.tolist():
                if self.label[seed] < 0 and not self._curved(seed):
                    self._plane(seed)

    def _chance_flats(self) -> None:
        """Strips of several round faces that lie in one plane by chance are theirs: small flats of which every triangle
        is a chord of a round patch beside it."""
        count = np.bincount(self.label[self.label >= 0], minlength=len(self.found))
        flats = [k for k, s in enumerate(self.found) if isinstance(s, Plane) and 0 < count[k] <= 2 * _SEVERAL]
        while given := self._given(flats):  # what one flat was given to is beside the next
            flats = [k for k in flats if k not in given]

    def _given(self, flats: list[int]) -> list[int]:
        """Those of some flats that were given to round patches beside them."""
        sags: dict[int, float] = {}
        given = []
        for k in flats:
            fate = dict[int, int]()
            left = np.flatnonzero(self.label == k).tolist()
            while left:
                fresh = {}
                for i in left:
                    beside = self.other[self.starts[i] : self.starts[i + 1]].tolist()
                    for to in dict.fromkeys(fate.get(j, int(self.label[j])) for j in beside):
                        if to >= 0 and to != k and self._chord(i, to, sags):
                            fresh[i] = to
                            break
                if not fresh:
                    break
                fate |= fresh
                left = [i for i in left if i not in fresh]
            if not left:
                self.label[list(fate)] = list(fate.values())
                given.append(k)
        return given

    def _chord(self, i: int, k: int, sags: dict[int, float]) -> bool:
        """Whether a triangle is a chord of a round patch as its own are; how far these stand inside is kept."""
        surface = self.found[k]
        if surface is None or isinstance(surface, Plane):
            return False
        if float(np.abs(surface.signed_distance(self.points[self.corners[i]])).max()) > 2.0 * self.tolerance:
            return False
        if k not in sags:
            own = np.flatnonzero(self.label == k)
            sags[k] = float(np.median(np.abs(surface.signed_distance(self.middle[own]))))
        own = np.flatnonzero(self.label == k)[:1]
        both = np.append(own, i)
        lean = (surface.normal(self.middle[both]) * self.normal[both]).sum(axis=1)
        sag = abs(float(surface.signed_distance(self.middle[[i]])[0]))
        return bool(lean[1] * np.sign(lean[0]) > np.cos(_LEAN) and sag <= _CHORD * sags[k] + self.tolerance)

    def _missed(self, seed: int) -> bool:
        """Whether so many triangles that bend as finely as a round face's do lie on none that the others will not."""
        own = self._piece(seed)
        turns, beside = (
            np.concatenate([values[self.soft_starts[i] : self.soft_starts[i + 1]] for i in own.tolist()])
            for values in (self.soft_turn, self.soft_other)
        )
        _, first = np.unique(self.flat[beside], return_index=True)
        others = [j for j in beside[first].tolist() if self.flat[j] != self.flat[seed]]
        if len(own) > 2 or len(others) < 2 or float(turns.max()) >= _FINE:
            return False
        # A strip among others of its kind is no miss, nor is a flat between fillets.
        lost = 0
        for j in others:
            self.lost[self.flat[j]] |= self.label[j] < 0 and not self.lost[self.flat[j]] and not self._curved(j)
            lost += bool(self.label[j] < 0)
        self.misses += 2 * lost > len(others)
        return self.misses > max(_MISSES, int((self.label >= 0).sum()) // _OUTWEIGH)

    def _patches(self) -> list[Patch]:
        out = []
        for k, surface in enumerate(self.found):
            rows = np.flatnonzero(self.label == k)
            if not len(rows):
                continue
            p = self.points[np.unique(self.corners[rows])]
            off = float(np.abs(surface.signed_distance(p)).max()) if surface is not None else 0.0
            out.append(Patch(surface, rows, off))
        return sorted(out, key=lambda patch: -float(self.area[patch.rows].sum()))

    def _rough(self) -> None:
        """Of a scan hardly two triangles lie in one plane: patches compete for them."""
        pairs = np.stack([np.repeat(np.arange(len(self.corners)), np.diff(self.starts)), self.other], axis=1)
        slack = float(np.clip(self.tolerance / (ROUGH * self.noise), 1.0, 4.0))
        pairs = pairs[pairs[:, 0] < pairs[:, 1]]
        if slack not in self.known:
            self.known[slack] = parted_scan(
                Scan(self.points, self.corners, self.area, self.normal, pairs, self.noise, slack)
            )
        self.label, self.found = self.known[slack][0].copy(), list(self.known[slack][1])
        if self.free:
            self._left_together(_SPARSE)
        self._absorb()

    def _absorb(self) -> None:
        """What lies on no patch goes to the nearest of those beside it, from the borders inwards."""
        for _ in range(200):
            left = np.flatnonzero(self.label < 0)
            if not len(left) or not self.found:
                return
            fresh: dict[int, int] = {}
            for i in left.tolist():
                beside = {int(self.label[j]) for j in self.other[self.starts[i] : self.starts[i + 1]].tolist()} - {-1}
                if beside:
                    p = self.points[self.corners[i]]

                    def off(k: int, p: Floats = p) -> float:
                        s = self.found[k]
                        return float(np.abs(s.signed_distance(p)).max()) if s is not None else np.inf

                    fresh[i] = min(beside, key=off)
            if not fresh:
                return
            self.label[list(fresh)] = list(fresh.values())

    def _seeds(self, size: Floats) -> Ints:
        """One triangle of each flat piece, large pieces first."""
        order = np.lexsort((-self.area, -size[self.flat]))
        _, first = np.unique(self.flat[order], return_index=True)
        return order[np.sort(first)]

    # ---- growing

    def _mask(self, surface: Surface, near: float, seed: int) -> Bools:
        """The free triangles that lie on a surface and look as it does beside the seed."""
        off = np.abs(surface.signed_distance(self.points)) <= near
        on = off[self.corners].all(axis=1) & (self.label < 0)
        rows = np.flatnonzero(on)
        out = np.zeros(len(self.corners), dtype=bool)
        if not len(rows):
            return out
        lean = (surface.normal(self.middle[rows]) * self.normal[rows]).sum(axis=1)
        sense = float(surface.normal(self.middle[seed][None])[0] @ self.normal[seed])
        out[rows] = lean * np.sign(sense) > np.cos(_LEAN)
        return out

    def _grown(self, surface: Surface, near: float, seed: int) -> Ints:
        return self._spread(surface, near, self.label < 0, seed)

    def _spread(self, surface: Surface, near: float, free: Bools, seed: int) -> Ints:
        kind, here = placed(surface)
        return spread(kind, here, self.starts, self.other, free, self.points, self.corners, self.normal, near,
                      self.least, seed)  # fmt: skip

    def _piece(self, seed: int) -> Ints:
        """The triangles of the flat piece that one is of."""
        flat = int(self.flat[seed])
        return self.members[self.firsts[flat] : self.firsts[flat + 1]]

    def _hood(self, seed: int, most: int, over: Bools | None = None) -> Ints:
        """The free triangles that hang together smoothly with a seed, the nearest first; over some links only."""
        over = np.ones(len(self.soft_other), dtype=bool) if over is None else over
        return along(self.soft_starts, self.soft_other, over, self.label < 0, seed, most)

    def _curved(self, seed: int) -> bool:
        """Grow a round surface from a seed, if one holds it and more than its flat piece."""
        own = len(self._piece(seed))
        hoods = [self._hood(seed, max(most, own + most if own < 12 else 0)) for most in _HOODS]
        best: tuple[int, Surface, Ints] | None = None
        # Strips between rings that are parted differently turn by ever other angles.
        strips = [self._hood(seed, most, self.side_by_side) for most in _HOODS[:2]]
        for surface in self._tried([*self._alike(seed, self.side_by_side), *strips, *hoods, *self._alike(seed)]):
            grown = self._grown(surface, 4.0 * self.tolerance, seed)
            if len(grown) < 4:
                continue
            better = refined(surface, self.points[np.unique(self.corners[grown])])
            again = self._even(better, self._grown(better, self.tolerance, seed), seed)
            if len(again) < 4:  # what it grew over was not all its own, and drew it away
                better, again = surface, self._even(surface, self._grown(surface, self.tolerance, seed), seed)
            pieces = self._pieces(better, again) if len(again) else 0
            enough = len(again) >= max(4, 1.5 * own)
            # One strip of a ring lies on a cone as well: what grows furthest is what it is.
            further = enough and (best is None or len(again) > best[0])
            if further and (pieces >= 3 or (pieces == 2 and self._tangent(better, again))):
                best = len(again), better, again
        if best is not None and isinstance(best[1], Cone | Cylinder | Sphere):
            best = self._bent(seed, *best)
        if best is None or (self.free and not self._sure(best[1], best[2])):
            return False
        self._take(best[1], best[2])
        return True

    def _bent(self, seed: int, count: int, surface: Surface, rows: Ints) -> tuple[int, Surface, Ints]:
        """What has grown from a seed; or a torus about the same axis, where that reaches further: a band between two
        rings of one lies on a cone, or a sphere, as well."""
        rims = np.unique(self.corners[rows])
        touching = np.isin(self.corners, rims).any(axis=1) & (self.label < 0)
        touching[rows] = True
        near = flood(self.soft_starts, self.soft_other, touching, seed)
        p = self.points[np.unique(self.corners[near])]
        axis = self._axis(surface, rows)
        made = torus_about(axis, p) if axis is not None and len(near) > len(rows) else None
        if made is None:
            return count, surface, rows
        better = refined(made, p)
        again = self._even(better, self._grown(better, self.tolerance, seed), seed)
        local = better.frame.local(self.points[np.unique(self.corners[again])])
        rings = np.unique(np.round(local[:, 2] / (20.0 * self.tolerance)))
        # A torus passes through any three rings.
        return (len(again), better, again) if len(again) > 1.2 * count and len(rings) > 3 else (count, surface, rows)

    def _axis(self, surface: Surface, rows: Ints) -> Frame | None:
        """The axis of a round surface; of a sphere that of a cone through the same triangles."""
        if not isinstance(surface, Sphere):
            return surface.frame
        cones = [s for s in self._fits(rows) if isinstance(s, Cone | Cylinder)]
        return cones[0].frame if cones else None

    def _about_an_axis(self, seed: int) -> bool:
        """Grow a cylinder about the axis of a surface that was found, where the seed lies on one: two strips alone
        could be a bend as well."""
        own = self.flat == self.flat[seed]
        for j in self.soft_other[self.soft_starts[seed] : self.soft_starts[seed + 1]].tolist():
            own |= (self.flat == self.flat[j]) & (self.label < 0)
        p = self.points[np.unique(self.corners[own])]
        axes = [s.frame for s in self.found if isinstance(s, Cylinder | Cone | Torus)]
        away = [np.hypot(*axis.local(p)[:, :2].T) for axis in axes]
        spread = [float(np.ptp(x)) if x.min() > 4.0 * self.tolerance else np.inf for x in away]
        if min(spread, default=np.inf) > 2.0 * self.tolerance:
            return False
        k = int(np.argmin(spread))
        made = Cylinder(axes[k], float(away[k].mean()))
        again = self._grown(made, self.tolerance, seed)
        if len(again) < 4 or len(np.unique(self.flat[again])) < 2:
            return False
        self._take(refined(made, self.points[np.unique(self.corners[again])]), again)
        return True

    def _tried(self, hoods: Iterable[Ints]) -> Iterable[Surface]:
        """The round surfaces through neighbourhoods, as they are asked for; each neighbourhood once."""
        known = set[bytes]()
        for rows in hoods:
            key = np.sort(rows).tobytes()
            if len(rows) >= 4 and key not in known and len(np.unique(self.flat[rows])) >= 2:
                known.add(key)
                yield from self._fits(rows)

    def _sure(self, surface: Surface, rows: Ints) -> bool:
        """Whether a round surface is one rather than near to a free-form one: of more than a handful of triangles, or
        of strips, whose corners lie on it as exactly as files are written."""
        off = float(np.abs(surface.signed_distance(self.points[np.unique(self.corners[rows])])).max())
        strips = len(np.unique(self.flat[rows])) if isinstance(surface, Cylinder | Cone) else 0
        return (len(rows) >= _FEW and off <= _EXACT * self.scale) or (strips >= _STRIPS and off <= _TRULY * self.scale)

    def _wide(self, seed: int) -> bool:
        """Whether the flat piece of a seed is a plane by itself: of many triangles, or a fiftieth of all."""
        own = self.flat == self.flat[seed]
        return int(own.sum()) >= 12 or float(self.area[own].sum()) > 0.02 * float(self.area.sum())

    def _left_together(self, least: int) -> None:
        """What lies on nothing is a patch without a surface, as far as it goes without a crease, where that is of so
        many triangles at least."""
        for seed in np.flatnonzero(self.label < 0).tolist():
            if self.label[seed] < 0:
                rows = flood(self.calm_starts, self.calm_other, self.label < 0, seed)
                if len(rows) >= least:
                    self._take(None, rows)

    def _even(self, surface: Surface, rows: Ints, seed: int) -> Ints:
        """Of what has grown, the triangles that are chords as the others are: a flat between two fillets also has its
        corners on one cylinder with theirs, but stands far inside it."""
        if not len(rows):
            return rows
        good = rows[~self._stray(surface, rows, rows)]
        # Of a flat that it touches along a border some triangles have all their corners on it.
        for flat in np.unique(self.flat[good]).tolist():
            if self.level[flat]:
                piece = self.members[self.firsts[flat] : self.firsts[flat + 1]]
                missing = piece[(self.label[piece] < 0) & ~np.isin(piece, good)]
                if self.area[missing].sum() > _PART * self.area[piece].sum():
                    good = good[self.flat[good] != flat]
        if seed not in good:
            return good[:0]
        if len(good) == len(rows):
            return rows
        mask = np.zeros(len(self.corners), dtype=bool)
        mask[good] = True
        return flood(self.starts, self.other, mask, seed)

    def _stray(self, surface: Surface, rows: Ints, own: Ints) -> Bools:
        """Which triangles stand further inside a surface than chords do that are as `own`, or as those beside them:
        a mesh gets coarser by and by, a flat is among strips at once."""
        sag = np.abs(surface.signed_distance(self.middle[rows]))
        stray = sag > _CHORD * float(np.median(sag[np.isin(rows, own)])) + self.tolerance
        if not stray.any():
            return stray
        # Towards an apex triangles get smaller, but turn as much.
        turn, times = np.zeros(len(self.corners)), float(np.sqrt(_CHORD))  # a chord stands inside by the square of it
        turn[rows] = self._bow(surface, rows)
        stray &= turn[rows] > times * float(np.median(turn[own]))
        calm = np.zeros(len(self.corners), dtype=bool)
        calm[rows[~stray]] = True
        doubtful = rows[stray].tolist()
        while doubtful:
            beside = [self.other[self.starts[i] : self.starts[i + 1]] for i in doubtful]
            most = [float(turn[j][calm[j]].max(initial=0.0)) for j in beside]
            fresh = [i for i, m in zip(doubtful, most, strict=True) if turn[i] <= _COARSER * m]
            if not fresh:
                break
            calm[fresh] = True
            doubtful = [i for i in doubtful if not calm[i]]
        return np.asarray(~calm[rows])

    def _bow(self, surface: Surface, rows: Ints) -> Floats:
        """How far (the chord of the angle) a surface turns from one corner to another of each of some triangles."""
        n = surface.normal(self.points[self.corners[rows]].reshape(-1, 3)).reshape(-1, 3, 3)
        return np.asarray(np.linalg.norm(n - np.roll(n, -1, axis=1), axis=2).max(axis=1))

    def _alike(self, seed: int, over: Bools | None = None) -> list[Ints]:
        """Neighbourhoods within which triangles turn by the same angle from one to the next, as the strips of a
        cylinder do, for each angle by which the seed's flat piece goes on; over some links only."""
        own = self._piece(seed)
        turns = np.concatenate([self.soft_turn[self.soft_starts[i] : self.soft_starts[i + 1]] for i in own.tolist()])
        out = []
        angles, often = np.unique(np.round(turns[turns > _FLAT], 4), return_counts=True)
        for angle in angles[np.argsort(-often, kind="stable")][:_ANGLES].tolist():
            near = (np.abs(self.soft_turn - angle) < 0.03 * angle) | (self.soft_turn < _FLAT)
            near = near if over is None else near & over
            rows = along(self.soft_starts, self.soft_other, near, self.label < 0, seed, 120)
            out.append(rows)
        return sorted(out, key=lambda rows: -len(rows))[:4]

    def _fit(self, rows: Ints) -> Surface | None:
        """A round surface through the corners of some triangles."""
        fits = self._fits(rows)
        return fits[-1] if fits else None

    def _fits(self, rows: Ints) -> list[Surface]:
        """The round surface through the corners of some triangles comes last; before a sphere cones and cylinders on
        which they lie too: so two rings of corners do."""
        ids = np.unique(self.corners[rows])
        p = self.points[ids]
        n = np.zeros_like(self.points[ids])
        where = np.searchsorted(ids, self.corners[rows])
        for k in range(3):
            np.add.at(n, where[:, k], self.normal[rows])
        n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
        near = 8.0 * self.tolerance
        fits = round_fits(p, n, self.middle[rows], self.normal[rows], near)
        if not fits:
            return []
        # Two rings of corners lie on a cylinder and on a sphere: how the triangles lean tells which it is.
        best = min(fits, key=lambda fit: fit[0] + 0.002 * freedoms(fit[1]))[1]
        ruled = [s for _, s in fits if isinstance(s, Cylinder | Cone)] if isinstance(best, Sphere) else []
        return [*ruled, best]

    def _smooth(self, seed: int) -> bool:
        """Whether the flat piece of a seed goes smoothly on into another that is free."""
        own = self._piece(seed)
        for i in own.tolist():
            for j in self.soft_other[self.soft_starts[i] : self.soft_starts[i + 1]].tolist():
                if self.flat[j] != self.flat[i] and self.label[j] < 0:
                    return True
        return False

    def _pieces(self, surface: Surface, rows: Ints) -> int:
        """How many flat pieces speak for a round surface: as many as there are, but two flats with a third between them
        that is wider, or narrower, are chamfers, which have their corners on a cylinder too."""
        _, first = np.unique(self.flat[rows], return_index=True)
        if len(first) < 3 or not isinstance(surface, Cylinder | Cone):
            return len(first)
        ways = list[Floats]()
        for n in self.normal[rows[first]]:
            if all(float(n @ way) < np.cos(_FLAT) for way in ways):
                ways.append(n)
            if len(ways) > 3:
                return len(first)
        wide = []
        for way in ways:
            own = rows[self.normal[rows] @ way > np.cos(_FLAT)]
            local = surface.frame.local(self.points[np.unique(self.corners[own])])
            x, y = local[:, :2].mean(axis=0)
            angle = np.arctan2(local[:, 1], local[:, 0]) - np.arctan2(y, x)
            wide.append(float(np.ptp((angle + np.pi) % (2.0 * np.pi))))
        if len(ways) < 3:
            return len(ways)
        return len(first) if max(wide) < _EVEN * min(wide) or self._goes_on(surface, rows) else 1

    def _tangent(self, surface: Surface, rows: Ints) -> bool:
        """Whether two strips are a coarse fillet rather than a bend: as wide as each other, and what lies beside them
        goes over into the surface without a crease."""
        area = [float(self.area[rows[self.flat[rows] == k]].sum()) for k in np.unique(self.flat[rows])]
        return max(area) < 1.05 * min(area) and self._goes_on(surface, rows)

    def _goes_on(self, surface: Surface, rows: Ints) -> bool:
        """Whether something beside a round surface goes over into it without a crease."""
        inside = np.zeros(len(self.corners), dtype=bool)
        inside[rows] = True
        for i in rows.tolist():
            for j in self.soft_other[self.soft_starts[i] : self.soft_starts[i + 1]].tolist():
                if not inside[j]:
                    both = np.intersect1d(self.corners[i], self.corners[j])
                    n = surface.normal(self.points[both])
                    beside = self.found[self.label[j]] if self.label[j] >= 0 else None
                    m = self.normal[j][None] if beside is None else beside.normal(self.points[both])
                    turn = np.arccos(np.clip(np.abs((n * m).sum(axis=1)), 0.0, 1.0)).max()
                    if turn < np.radians(1.0):
                        return True
        return False

    def _plane(self, seed: int) -> None:
        own = np.flatnonzero((self.flat == self.flat[seed]) & (self.label < 0))
        p = self.points[np.unique(self.corners[own])]
        middle = p.mean(axis=0)
        way = np.linalg.svd(p - middle, full_matrices=False)[2][-1]
        way = way if float(way @ self.normal[seed]) > 0.0 else -way
        surface = Plane.of(middle, way)
        grown = self._grown(surface, self.tolerance, seed)
        if not len(grown):
            if not self.free:
                self._take(None, own)
            return
        self._take(refined(surface, self.points[np.unique(self.corners[grown])]), grown)

    def _take(self, surface: Surface | None, rows: Ints) -> None:
        self.label[rows] = len(self.found)
        self.found.append(surface)

    def _join(self) -> None:
        """Patches that touch and lie on one surface are one."""
        scale = float(np.linalg.norm(np.ptp(self.points, axis=0)))
        heads = np.repeat(np.arange(len(self.corners)), np.diff(self.starts))
        beside = np.sort(np.stack([self.label[heads], self.label[self.other]], axis=1), axis=1)
        now = list(range(len(self.found)))
        for a, b in np.unique(beside[(beside[:, 0] >= 0) & (beside[:, 0] != beside[:, 1])], axis=0).tolist():
            a, b = now[a], now[b]
            one, two = self.found[a], self.found[b]
            if a != b and one is not None and two is not None and one.same_as(two, 2.0 * self.tolerance, scale):
                now = [a if k == b else k for k in now]
        self.label = np.where(self.label >= 0, np.array([*now, -1])[self.label], -1)
