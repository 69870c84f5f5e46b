"""Patches of triangles that scatter about what they were taken from, as those of a scan do.

Surfaces are grown from seeds as far as corners stand off them by what the scatter allows. Then patches compete: every
triangle goes to that of the surfaces of the patches beside it which its corners and its normal speak for, all surfaces
are fitted anew to what they have, and so on until little changes (Cohen-Steiner, Alliez & Desbrun 2004, with quadrics
as Yan, Wang, Liu & Yang 2012). Of surfaces that hold a patch as well the one of fewest numbers is taken, and patches
that lie on one surface are one.
"""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, rows_of, unit
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import freedoms, placed, refined, spread, torus_about
from lithon.mend.links import along, lists
from lithon.mend.starts import scattered_fits
from lithon.mend.strains import senses, strains
from lithon.progress import pulse

#: In scatters: how far the corners of a patch may stand off in the mean, and how far each.
_MEAN, _EACH = 1.5, 4.5
#: Neighbourhoods from which a surface is looked for, in triangles; less is none.
_HOODS, _FEWEST = (12, 24, 80, 240), 8
#: The same where what is larger was found.
_SMALL_HOODS, _FEW = (4, 8, 16), 4
#: A handful of triangles that turn by more (radians) from one to the next are flats.
_BEND = np.radians(37.0)
#: What is left of a scan that lies on surfaces, at most (a share of its area).
_MOSTLY_HELD = 0.2
#: Round patches of no more triangles may be pieces of one.
_PIECES = 60
#: So many seeds may bring nothing, and ten more for each surface that is found.
_MISSES = 150
#: The number of the patch of what is not there; so many numbers are enough for any simple surface.
_NOBODY, _MOST_NUMBERS = -2, 14
#: From so many neighbourhoods it is told how far corners scatter.
_SAMPLES = 120
#: Rounds of the competition; what a neighbour of another patch costs, in squares of scatters.
_ROUNDS, _BORDER = 8, 1.0
#: A patch of fewer triangles is small; what it costs each (in squares of scatters) to be of another patch.
_SMALL, _AS_WELL = 24, 5.0
#: Where triangles of a small patch speak against it by more, in the mean, it may be another; where this share of them
#: lies in a plane.
_BADLY, _FLAT = 2.5, 0.6
#: A surface of more numbers must hold a patch as much better (in the middle of all corners).
_SIMPLER = 0.85
#: In scatters: a patch whose corners stand off further in the mean lies on no surface.
_DOUBT = 3.0
#: Patches that hold by so much worse than scatter lets them are parted anew, by such as hold better by a share, or
#: within so many scatters; so many seeds may bring nothing; so many patches more there may be, and what one costs (in
#: squares of scatters); what holds a larger share of one is one of the faces over which it reached.
_WORSE, _BETTER, _WELL, _RETRIES, _MORE, _PATCH, _PART = 1.0, 0.9, 1.05, 30, 4, 25.0, 0.1
#: Where the corners that are of a patch alone reach less far across it (a share) the others count as well.
_NARROW = 0.7
#: What stands off by as many scatters holds a patch.
_HELD = 1.15


@dataclass(frozen=True, slots=True, eq=False)
class Scan:
    """points (n,3), triangles (m,3) with their areas (m,) and normals (m,3); pairs (k,2) of triangles that share a
    side; their scatter (mm), and how many times as far as they do in the midst of faces they may stand off."""

    points: Floats
    corners: Ints
    area: Floats
    normal: Floats
    pairs: Ints
    noise: float
    slack: float = 1.0


def parted_scan(scan: Scan) -> tuple[Ints, list[Surface]]:
    """The patch (m,) of each triangle, -1 where it is of none, and the surface of each patch."""
    out = _Parted(scan)
    out.seek()
    if not out.surfaces:
        return out.label, []
    out.settle()
    if out.seek_small():
        out.settle()
        if out.flatten() and out.seek_small():
            out.settle()
    for _ in range(2):
        out.compete()
        if out.reconsider():
            out.compete()
        out.simplify()
        if not (out.unite() | out.rejoin() | out.dissolve()):
            break
    out.compete()
    out.doubt()
    return out.label, out.surfaces


def _rarity(surface: Surface) -> float:
    """The order in which surfaces are tried: of fewest numbers first, but short cylinders and cones lie on spheres as
    well."""
    return 6.5 if isinstance(surface, Sphere) else float(freedoms(surface))


def _rms(surface: Surface, points: Floats) -> float:
    """How far (mm, root mean square) points (n,3) stand off a surface."""
    return float(np.sqrt((surface.signed_distance(points) ** 2).mean()))


def _width(points: Floats) -> float:
    """How far (mm, root mean square) points (n,3) reach across the way in which they reach furthest."""
    off = points - points.mean(axis=0)
    return float(np.sqrt(max(np.linalg.eigvalsh(off.T @ off / len(points))[1], 0.0)))


def _cheapest(options: Ints, cost: Floats) -> Ints:
    """Of options (k,2), a triangle and a patch, the row of the cheapest for each triangle."""
    order = np.lexsort((cost, options[:, 0]))
    return order[np.unique(options[order, 0], return_index=True)[1]]


class _Parted:
    def __init__(self, scan: Scan):
        self.scan = scan
        m = len(scan.corners)
        self.starts, self.other = lists(m, *scan.pairs.T)
        #: The triangles (m,k) beside each, -1 where there are fewer.
        degree = np.diff(self.starts)
        self.around = np.full((m, int(degree.max(initial=0))), -1)
        row = np.repeat(np.arange(m), degree)
        self.around[row, np.arange(len(row)) - self.starts[row]] = self.other
        self.middle = scan.points[scan.corners].mean(axis=1)
        side = np.linalg.norm(scan.points[scan.corners] - np.roll(scan.points[scan.corners], -1, axis=1), axis=2)
        self.label = np.full(m, -1, dtype=np.int64)
        self.lean = np.full(m, np.radians(20.0))
        self.even = self._even()
        self.noise = scan.noise
        self.noise = scan.slack * self._noise()
        #: How far (radians) the normal of each triangle scatters.
        height = 2.0 * scan.area / np.maximum(side.max(axis=1), 1e-300)
        self.lean = 1.2 * self.noise / np.maximum(height, 1e-300) + np.radians(2.0)
        self.even = self._even()
        self.least = np.cos(np.minimum(3.0 * self.lean, np.radians(75.0)))
        self.surfaces: list[Surface] = []
        #: In scatters: how far corners of a patch may stand off in the mean for it to be found.
        self.found_within = 1.2 * _MEAN

    def _even(self) -> Bools:
        """Which links from triangles to those beside them do not pass a crease, as far as scatter lets it be told."""
        normal = self.scan.normal
        here = np.repeat(np.arange(len(self.label)), np.diff(self.starts))
        most = np.minimum(np.radians(40.0) + self.lean, np.pi / 2.0)
        return np.asarray((normal[here] * normal[self.other]).sum(axis=1) > np.cos(most)[here])

    def _noise(self) -> float:
        """How far corners scatter (mm): about what holds their neighbourhoods best, in such as hang together well."""
        told = []
        for seed in np.random.default_rng(7).permutation(len(self.label))[:_SAMPLES].tolist():
            rows = self._hood(seed, _HOODS[1])
            if len(rows) < _HOODS[1]:
                continue
            p = self._points(rows)
            fits = self._fits(rows, np.inf)
            if fits:
                told.append(min(
                    float(np.sqrt((s.signed_distance(p) ** 2).sum() / max(1, len(p) - freedoms(s)))) for s in fits
                ))  # fmt: skip
        # What stands off further is of several faces.
        told = [x for x in told if x <= 3.0 * self.noise]
        return max(float(np.quantile(told, 0.4)), self.noise) if told else self.noise

    # ---- surfaces found

    def seek(self) -> None:
        """Patches grown from seeds until what is left is little or leads to nothing."""
        order = np.random.default_rng(5).permutation(len(self.label))
        tried = np.zeros(len(self.label), dtype=np.bool_)
        missed = 0
        for seed in order.tolist():
            if self.label[seed] >= 0 or tried[seed]:
                continue
            pulse("looking for surfaces")
            if missed > _MISSES + 10 * len(self.surfaces):
                break
            if not self._found(seed, _HOODS, _FEWEST, np.pi):
                missed += 1
                tried[self._hood(seed, _FEWEST)] = True

    def _found(self, seed: int, hoods: tuple[int, ...], fewest: int, turn: float) -> bool:
        """Grow a patch from a seed, the largest that surfaces through its neighbourhoods lead to, a round one only
        where no two triangles side by side turn by more (radians); whether there is one."""
        best: tuple[float, Surface, Ints] | None = None
        for most in hoods:
            rows = self._hood(seed, most)
            if len(rows) < fewest:
                continue
            for surface in self._fits(rows, _MEAN):
                rows = self._grown(surface, seed)
                if len(rows) < fewest:
                    continue
                better = refined(surface, self._points(rows), 4)
                rows = self._grown(better, seed)
                if len(rows) < fewest or self._off(better, rows) > self.found_within:
                    continue
                if turn < np.pi and not isinstance(better, Plane) and self._bends(rows) > turn:
                    continue
                # A plane is also a large cylinder: the simpler one wins where they hold about as much.
                score = float(self.scan.area[rows].sum()) * (1.0 - 0.03 * _rarity(better))
                if best is None or score > best[0]:
                    best = score, better, rows
        if best is None:
            return False
        self.label[best[2]] = len(self.surfaces)
        self.surfaces.append(best[1])
        return True

    def seek_small(self) -> bool:
        """Patches of few triangles, as chamfers are, where what was left lies on nothing beside it; whether there are
        any."""
        left = self.label < 0
        if float(self.scan.area[left].sum()) > _MOSTLY_HELD * float(self.scan.area.sum()):
            return False  # what bends freely lies on something everywhere, a few triangles each
        before = len(self.surfaces)
        for seed in np.flatnonzero(left)[np.argsort(-self.scan.area[left], kind="stable")].tolist():
            if self.label[seed] < 0:
                pulse("looking for surfaces")
                if not self._found(seed, _SMALL_HOODS, _FEW, _BEND):
                    self._flat(seed)
        return len(self.surfaces) > before

    def flatten(self) -> bool:
        """Small round patches that hold badly and lie mostly in a plane give the rest back, with the crumbs beside
        them: a small plane and what is round beside it, taken for one; whether there are any."""
        some = False
        for k in np.flatnonzero(self._counts() >= _FEWEST).tolist():
            rows = np.flatnonzero(self.label == k)
            if len(rows) >= _SMALL or isinstance(self.surfaces[k], Plane):
                continue
            if float(self._cost(k, rows).mean()) < _BADLY:
                continue
            was = self.surfaces[k]
            best: tuple[Surface, Bools] | None = None
            for seed in rows.tolist():
                around = np.intersect1d(self.other[self.starts[seed] : self.starts[seed + 1]], rows)
                start = Plane.of(self.middle[seed], self.scan.normal[seed])
                self.surfaces[k] = refined(start, self._points(np.append(around, seed)), 4)
                good = self._cost(k, rows) < _AS_WELL
                if best is None or good.sum() > best[1].sum():
                    best = self.surfaces[k], good
            assert best is not None
            if not _FLAT * len(rows) <= best[1].sum() <= len(rows) - 2:
                self.surfaces[k] = was
                continue
            self.surfaces[k] = refined(best[0], self._points(rows[best[1]]), 4)
            rest = rows[~best[1]]
            self.label[rest] = -1
            beside = np.concatenate([self.other[self.starts[i] : self.starts[i + 1]] for i in rest.tolist()])
            crumbs = np.flatnonzero(self._counts() < _FEW)
            self.label[np.isin(self.label, np.intersect1d(self.label[beside], crumbs))] = -1
            some = True
        return some

    def _counts(self) -> Ints:
        """How many triangles each patch has."""
        return np.bincount(self.label[self.label >= 0], minlength=len(self.surfaces))

    def _bends(self, rows: Ints) -> float:
        """By how much (radians) triangles side by side turn at the most."""
        inside = set(rows.tolist())
        normal, least = self.scan.normal, 1.0
        for i in rows.tolist():
            beside = [j for j in self.other[self.starts[i] : self.starts[i + 1]].tolist() if j in inside]
            least = min(least, float((normal[beside] @ normal[i]).min(initial=1.0)))
        return float(np.arccos(max(-1.0, least)))

    def _flat(self, seed: int) -> None:
        """Make a patch in the plane of a triangle, of what beside it lies in it too."""
        a, b, c = self.scan.points[self.scan.corners[seed]]
        plane: Surface = Plane.of((a + b + c) / 3.0, self.scan.normal[seed])
        rows = self._grown(plane, seed)
        if len(rows) > 1:
            better = refined(plane, self._points(rows), 4)
            again = self._grown(better, seed)
            plane, rows = (better, again) if seed in again else (plane, rows)
        if len(rows):
            self.label[rows] = len(self.surfaces)
            self.surfaces.append(plane)

    def _hood(self, seed: int, most: int) -> Ints:
        """The free triangles nearest to a seed by steps over sides, none past a crease."""
        return along(self.starts, self.other, self.even, self.label < 0, seed, most)

    def _points(self, rows: Ints) -> Floats:
        return self.scan.points[np.unique(self.scan.corners[rows])]

    def _off(self, surface: Surface, rows: Ints) -> float:
        """How far the corners of triangles stand off a surface in the mean (root mean square), in scatters."""
        return _rms(surface, self._points(rows)) / self.noise

    def _fits(self, rows: Ints, most: float) -> list[Surface]:
        """The surfaces that hold triangles, the simplest first."""
        ids, where = np.unique(self.scan.corners[rows], return_inverse=True)
        p = self.scan.points[ids]
        normals = np.zeros_like(p)
        weighted = self.scan.normal[rows] * self.scan.area[rows, None]
        np.add.at(normals, where.reshape(-1), np.repeat(weighted, 3, axis=0))
        normals = unit(normals)
        return sorted(scattered_fits(p, normals, most * self.noise, len(rows) >= 24), key=_rarity)

    def _grown(self, surface: Surface, seed: int) -> Ints:
        """The free triangles that hang together with a seed on a surface."""
        scan, (kind, here) = self.scan, placed(surface)
        return np.sort(spread(kind, here, self.starts, self.other, self.label < 0, scan.points, scan.corners,
                              scan.normal, _EACH * self.noise, self.least, seed))  # fmt: skip

    def _parts(self, good: Bools) -> Ints:
        """What hangs together (m,) of some triangles; -1 for the others."""
        i, j = self.scan.pairs.T
        both = good[i] & good[j]
        m = len(good)
        graph = scipy.sparse.coo_array((np.ones(int(both.sum())), (i[both], j[both])), shape=(m, m))
        return np.where(good, scipy.sparse.csgraph.connected_components(graph, directed=False)[1], -1)

    # ---- patches against each other

    def compete(self) -> None:
        """What is of no patch and too little to be one goes to one beside it once patches have settled."""
        self.settle()
        self._absorb()
        self._refit()

    def settle(self) -> None:
        """Triangles to the patches that they speak for, surfaces to what they hold, in turns."""
        for _ in range(_ROUNDS):
            pulse("looking for surfaces")
            changed = self._assign()
            self._whole()
            self._refit()
            if changed < max(3, len(self.label) // 2000):
                break

    def _assign(self) -> int:
        """Every triangle at a border to the best of the patches beside it; how many changed."""
        around = np.where(self.around >= 0, self.label[self.around], _NOBODY)
        at = np.flatnonzero(((around != self.label[:, None]) & (around != _NOBODY)).any(axis=1))
        around = around[at]
        options = np.concatenate([self.label[at, None], around], axis=1)
        given = options >= 0
        for k in range(1, options.shape[1]):
            given[:, k] &= (options[:, k, None] != options[:, :k]).all(axis=1)
        cost = np.full(options.shape, np.inf)
        row, _ = np.nonzero(given)
        cost[given] = self._costs(np.stack([at[row], options[given]], axis=1))
        # What stands around a triangle and is of the same patch speaks for it.
        cost += _BORDER * ((around != _NOBODY)[:, None] & (around[:, None] != options[:, :, None])).sum(axis=2)
        best = cost.argmin(axis=1)[:, None]
        # What no surface holds stays with none.
        good = np.take_along_axis(cost, best, axis=1)[:, 0] < 2.0 * _EACH**2
        rows, to = at[good], np.take_along_axis(options, best, axis=1)[good, 0]
        changed = int((self.label[rows] != to).sum())
        self.label[rows] = to
        return changed

    def _costs(self, options: Ints) -> Floats:
        """What speaks against each of some options (k,2), a triangle and a patch."""
        if not len(options):
            return np.zeros(0)
        used = np.unique(options[:, 1])
        number = np.full(len(self.surfaces), -1)
        number[used] = np.arange(len(used))
        return self._strains(options[:, 0], number[options[:, 1]], used, np.append(number, -1)[self.label])

    def _cost(self, k: int, rows: Ints) -> Floats:
        """What speaks against triangles being of a patch, in squares of scatters."""
        return self._strains(rows, np.zeros(len(rows), dtype=np.int64), np.array([k]), np.where(self.label == k, 0, -1))

    def _strains(self, rows: Ints, patch: Ints, which: Ints, label: Ints) -> Floats:
        """What speaks against triangles (n,) being of patches (n,), in squares of scatters: of those `which` there are
        by their place, as in `label` (m,)."""
        scan = self.scan
        here = np.zeros((len(which), _MOST_NUMBERS))
        kinds = np.empty(len(which), dtype=np.int64)
        for q, k in enumerate(which.tolist()):
            kinds[q], own = placed(self.surfaces[k])
            here[q, : len(own)] = own
        sense = senses(kinds, here, label, scan.corners, scan.points, scan.normal)
        return strains(rows, patch, kinds, here, sense, scan.corners, scan.points, scan.normal, self.lean, self.noise,
                       _EACH)  # fmt: skip

    def _sense(self, k: int) -> float:
        """Whether the triangles of a patch look as its surface does, or the other way."""
        own = np.flatnonzero(self.label == k)[:40]
        if not len(own):
            return 1.0
        return float(np.sign((self.surfaces[k].normal(self.middle[own]) * self.scan.normal[own]).sum()))

    def _whole(self) -> None:
        """Of each patch what hangs together with most of it; the rest is of none."""
        i, j = self.scan.pairs.T
        same = (self.label[i] == self.label[j]) & (self.label[i] >= 0)
        m = len(self.label)
        graph = scipy.sparse.coo_array((np.ones(int(same.sum())), (i[same], j[same])), shape=(m, m))
        part = scipy.sparse.csgraph.connected_components(graph, directed=False)[1]
        area = np.bincount(part, weights=self.scan.area)
        largest = np.zeros(len(self.surfaces))
        np.maximum.at(largest, self.label[self.label >= 0], area[part][self.label >= 0])
        loose = (self.label >= 0) & (area[part] < largest[np.maximum(self.label, 0)])
        self.label[loose] = -1

    def _refit(self) -> None:
        count = self._counts()
        inner = self._inner()
        for k in np.flatnonzero(count >= 3).tolist():
            self.surfaces[k] = refined(self.surfaces[k], inner[k], 4)

    def _inner(self) -> list[Floats]:
        """Of each patch the corners that are of it alone, where these are many: on its border others share them."""
        corners, points, n = self.scan.corners, self.scan.points, len(self.surfaces)
        least, most = np.full(len(points), n), np.full(len(points), -1)
        np.minimum.at(least, corners.ravel(), np.repeat(self.label, 3))
        np.maximum.at(most, corners.ravel(), np.repeat(self.label, 3))
        alone = np.where((least == most) & (least >= 0), least, n)
        out = []
        for ids, rows in zip(rows_of(alone, n), rows_of(self.label, n), strict=True):
            own = points[ids]
            if len(own) > 20:
                every = points[corners[rows]].reshape(-1, 3)
                # Of a strip two triangles wide the inner corners are a line, which lies on much; what is only a few
                # wide reaches far beyond them, and they tell badly what it is.
                own = own if _width(own) > _NARROW * _width(every) else every[:0]
            out.append(own if len(own) > 20 else points[np.unique(corners[rows])])
        return out

    def _absorb(self) -> None:
        """What is of no patch, and too little to be one, goes to the best beside it, from the borders inwards."""
        while True:
            free = self.label < 0
            part = self._parts(free)
            size = np.bincount(part[free], minlength=1)
            small = free & (size[np.maximum(part, 0)] < 3 * _FEWEST)
            i, j = self.scan.pairs.T
            heads, tails = np.concatenate([i, j]), np.concatenate([j, i])
            reach = small[heads] & (self.label[tails] >= 0)
            options = np.unique(np.stack([heads[reach], self.label[tails[reach]]], axis=1), axis=0)
            if not len(options):
                return
            best = _cheapest(options, self._costs(options))
            self.label[options[best, 0]] = options[best, 1]

    def reconsider(self) -> bool:
        """Patches that hold worse than corners scatter, as do such as reach over two faces and leave strips of both to
        others, and the smaller ones beside them are parted anew by surfaces that hold well; whether any were, for less
        speaks against what came of it."""
        count, inner = self._counts(), self._inner()
        own = np.flatnonzero(count >= _SMALL)
        off = np.array([_rms(self.surfaces[k], inner[k]) / self._enough(len(inner[k])) for k in own.tolist()])
        if not len(own) or float(np.median(off)) > 1.0:
            return False  # what lies on nothing does not lie on anything else either
        i, j = self.scan.pairs.T
        some = False
        for k in own[np.argsort(-off)][np.sort(-off) < -_WORSE].tolist():
            of = self.label[np.concatenate([j[self.label[i] == k], i[self.label[j] == k]])]
            few = self._counts() <= max(_PIECES, count[k])
            star = np.unique(np.append(of[(of >= 0) & few[np.maximum(of, 0)]], k))
            within = _BETTER * _rms(self.surfaces[k], inner[k]) / self.noise
            some |= self._parted_anew(k, star, max(within, _WELL))
        return some

    def _parted_anew(self, k: int, star: Ints, within: float) -> bool:
        """Part the triangles of a patch and of some around it anew, by surfaces that hold within so many scatters;
        whether less speaks against what came of it, and the patch reached over two faces."""
        pulse("looking for surfaces")
        own, rows, many = np.flatnonzero(self.label == k), np.flatnonzero(np.isin(self.label, star)), len(star)
        before, known = self.label[rows], len(self.surfaces)
        was = self._against(rows) + _PATCH * many
        self.label[rows] = -1
        for self.found_within in (within, 1.2 * _MEAN):
            missed, tried = 0, set[int]()
            for seed in np.random.default_rng(3).permutation(rows).tolist():
                if self.label[seed] >= 0 or seed in tried:
                    continue
                if missed > _RETRIES + len(rows) // _SMALL:
                    break
                if not self._found(seed, _HOODS, _FEWEST, np.pi):
                    missed += 1
                    tried.update(self._hood(seed, _FEWEST).tolist())
        self._absorb()
        made = len(self.surfaces) - known
        # Flats hold a round face as well, if they are many.
        of_it = np.bincount(self.label[own] + 1)[1:]
        over = int((of_it > _PART * len(own)).sum()) <= 2
        if over and made <= many + _MORE and self._against(rows) + _PATCH * made < was:
            return True
        self.label[rows] = before
        del self.surfaces[known:]
        return False

    def _against(self, rows: Ints) -> float:
        """What speaks against some triangles being of the patches that they are of, in squares of scatters."""
        label = self.label[rows]
        held = sum(float(self._cost(k, rows[label == k]).sum()) for k in np.unique(label[label >= 0]).tolist())
        return held + 2.0 * _EACH**2 * float((label < 0).sum())

    # ---- fewer and simpler

    def simplify(self) -> None:
        """To each patch the surface of fewest numbers that holds it about as well as any."""
        inner = self._inner()
        for k in np.unique(self.label[self.label >= 0]).tolist():
            rows = np.flatnonzero(self.label == k)
            p = inner[k]
            others = [refined(s, p, 8) for s in self._fits(rows, 10.0)]
            every = sorted([self.surfaces[k], *others], key=_rarity)
            off = [1.4826 * float(np.median(np.abs(s.signed_distance(p)))) for s in every]
            # Of few corners a surface of many numbers is near to all, whatever they are.
            free = [max(1, len(p) - freedoms(s)) for s in every]
            best = min(o * float(np.sqrt(len(p) / n)) for o, n in zip(off, free, strict=True))
            chance = float(np.sqrt(1.0 + 12.0 / len(p)))
            for s, mine in zip(every, off, strict=True):
                if mine <= max(1.0 / _SIMPLER, chance) * best or mine <= self._enough(len(p)):
                    self.surfaces[k] = s
                    break

    def _enough(self, n: int) -> float:
        """Within what (mm) a surface holds so many corners, as far as so many tell."""
        return _HELD * self.noise * (1.0 + 1.0 / float(np.sqrt(n)))

    def rejoin(self) -> bool:
        """Small round patches side by side that were taken for pieces of others, as those of a torus are between the
        cylinders that go over into it, are one where one surface holds them; whether any were."""
        i, j = self.scan.pairs.T
        beside: dict[int, set[int]] = defaultdict(set)
        for a, b in np.unique(np.stack([self.label[i], self.label[j]], axis=1), axis=0).tolist():
            if a != b and min(a, b) >= 0:
                beside[a].add(b)
                beside[b].add(a)
        count = self._counts()
        small = {k for k in beside if count[k] <= _PIECES and not isinstance(self.surfaces[k], Plane)}
        some = False
        for k in sorted(small, key=lambda k: (-count[k], k)):
            star = [k, *sorted(beside[k] & small)]
            if k not in small or len(star) < 2:
                continue
            surface, held = self._one_round(star, set().union(*(beside[m] for m in star)))
            if surface is None:
                continue
            self.label[np.isin(self.label, held)] = k
            self.surfaces[k] = surface
            small -= set(held)
            some = True
        return some

    def _one_round(self, star: list[int], around: set[int]) -> tuple[Surface | None, list[int]]:
        """The surface that holds the first of some patches and most of the others, and those; a torus may be about an
        axis of what is around."""
        pulse("looking for surfaces")
        rows = np.flatnonzero(np.isin(self.label, star))
        points = [self._points(np.flatnonzero(self.label == k)) for k in star]
        p = self._points(rows)
        axes = [s.frame for k in sorted(around) if isinstance(s := self.surfaces[k], Cylinder | Cone | Torus)]
        pairs = [np.concatenate([points[0], q]) for q in points[1:]]
        tori = [torus for axis in axes for q in [p, *pairs] if (torus := torus_about(axis, q)) is not None]
        best: tuple[Surface | None, list[int]] = None, []
        for start in [*(refined(s, p, 8) for s in self._fits(rows, 2.0 * _MEAN)), *tori]:
            near = [q for q in points if _rms(start, q) <= 4.0 * self.noise]
            joint = refined(start, np.concatenate(near), 8) if near else start
            held = [k for k, q in zip(star, points, strict=True) if _rms(joint, q) <= self._enough(len(q))]
            if star[0] not in held or len(held) <= max(1, len(best[1])):
                continue
            if len({self._sense(k) * self._alike(k, joint) for k in held}) == 1:
                best = refined(joint, self._points(np.flatnonzero(np.isin(self.label, held))), 8), held
        return best

    def unite(self) -> bool:
        """Patches side by side that one surface holds as well are one; whether any were."""
        i, j = self.scan.pairs.T
        both = np.stack([self.label[i], self.label[j]], axis=1)
        both = np.unique(np.sort(both[(both >= 0).all(axis=1) & (both[:, 0] != both[:, 1])], axis=1), axis=0)
        now, inner = np.arange(len(self.surfaces)), self._inner()
        for a, b in both.tolist():
            a, b = int(now[a]), int(now[b])
            if a == b:
                continue
            one, two = inner[a], inner[b]
            larger, smaller = (a, two) if len(one) >= len(two) else (b, one)
            surface = self.surfaces[larger]
            every = np.concatenate([one, two])
            if isinstance(surface, Plane) and not isinstance(self.surfaces[a if larger == b else b], Plane):
                continue  # the other bends for a reason
            near = _MEAN * self.noise
            joint = surface
            if _rms(surface, smaller) <= 3.0 * near:
                joint = refined(surface, every, 8)
            parts = [_rms(joint, p) for p in (one, two)]
            if max(parts) > near or self._sense(a) * self._alike(a, joint) != self._sense(b) * self._alike(b, joint):
                continue
            keep, gone = larger, a if larger == b else b
            self.surfaces[keep], inner[keep] = joint, every
            self.label[self.label == gone] = keep
            now[now == gone] = keep
        return bool((now != np.arange(len(now))).any())

    def doubt(self) -> None:
        """What stands off its surface by far more than corners scatter lies on none."""
        # Scatter may be twice as far in some places as in most, not where nothing lies on anything.
        far = _DOUBT * min(self.noise, 2.0 * self.scan.noise * self.scan.slack)
        count = self._counts()
        for k, p in enumerate(self._inner()):
            if count[k] >= _SMALL and 1.4826 * float(np.median(np.abs(self.surfaces[k].signed_distance(p)))) > far:
                self.label[self.label == k] = -1

        # A handful amid what lies on nothing does so by chance.
        i, j = self.scan.pairs.T
        heads, tails = self.label[np.concatenate([i, j])], self.label[np.concatenate([j, i])]
        border = (heads >= 0) & (heads != tails)
        n = len(self.surfaces)
        all_around = np.bincount(heads[border], minlength=n)
        free = np.bincount(heads[border & (tails < 0)], minlength=n)
        self.label[np.isin(self.label, np.flatnonzero((count < _SMALL) & (2 * free > all_around)))] = -1

    def dissolve(self) -> bool:
        """Small patches whose triangles lie about as well on those beside them, as between two that go on into each
        other, are theirs; whether any were."""
        count = self._counts()
        some = False
        for k in np.flatnonzero((count > 0) & (count <= _PIECES)).tolist():
            rows = np.flatnonzero(self.label == k)
            around = np.concatenate([self.other[self.starts[i] : self.starts[i + 1]] for i in rows.tolist()])
            beside = sorted(set(self.label[around].tolist()) - {-1, k})
            if not beside:
                continue
            costs = np.array([self._cost(j, rows) for j in beside])
            if float(costs.min(axis=0).mean()) < _AS_WELL:
                self.label[rows] = np.array(beside)[costs.argmin(axis=0)]
                some = True
        return some

    def _alike(self, k: int, joint: Surface) -> float:
        """Whether the surface of a patch looks as another one does there, or the other way."""
        own = self.middle[self.label == k][:40]
        return float(np.sign((self.surfaces[k].normal(own) * joint.normal(own)).sum()))
