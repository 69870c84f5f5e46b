"""Patches of triangles that scatter about what they were taken from, as those of a scan do.

Surfaces are grown from seeds as far as corners stand off them by what the scatter allows. Then patches compete: every
triangle goes to that of the surfaces of the patches beside it which its corners and its normal speak for, all surfaces
are fitted anew to what they have, and so on until little changes (Cohen-Steiner, Alliez & Desbrun 2004, with quadrics
as Yan, Wang, Liu & Yang 2012). Of surfaces that hold a patch as well the one of fewest numbers is taken, and patches
that lie on one surface are one.
"""

from __future__ import annotations

from collections import defaultdict

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints
from lithon.geometry.rounds import Cone, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import freedoms, refined, torus_about
from lithon.mend.folds import NUMBERS, fold_through
from lithon.mend.scan_patches import EACH, HOODS, MEAN, SMALL, THIN, Scan, ScanPatches, rarity, rms, width
from lithon.progress import pulse

#: Fewer triangles are no patch.
_FEWEST = 8
#: The same where what is larger was found.
_SMALL_HOODS, _FEW = (4, 8, 16), 4
#: Neighbourhoods within faces of few triangles more.
_NARROW_HOODS = (5,)
#: What is left of a scan that lies on surfaces, at most (a share of its area).
_MOSTLY_HELD = 0.2
#: Round patches of no more triangles may be pieces of one.
_PIECES = 60
#: The number of the patch of what is not there.
_NOBODY = -2
#: So many seeds may bring nothing, and ten more for each surface that is found.
_MISSES = 150
#: Rounds of the competition; what a neighbour of another patch costs, in squares of scatters.
_ROUNDS, _BORDER = 8, 1.0
#: What it costs each triangle of a small patch (in squares of scatters) to be of another.
_AS_WELL = 5.0
#: Where triangles of a small patch speak against it by more, in the mean, it may be another; where this share of them
#: lies in a plane.
_BADLY, _FLAT = 2.5, 0.6
#: A surface of more numbers must hold a patch as much better (in the middle of all corners); fewer corners tell none
#: that hardly bends (radians, from one triangle to the next).
_SIMPLER, _TELLING, _HARDLY = 0.85, 9, np.radians(18.0)
#: Of so few corners it is chance, not the middle of all, that is asked.
_FEW_CORNERS = 60
#: Two planes hold a patch better than a round surface by no chance where the logarithm of the likelihoods' ratio is as
#: large (Schwarz 1978), and where, in scatters, the smaller one reaches as far off the other.
_SURELY, _TURNS_OFF = 3.0, 3.0
#: What has no larger share of its corners inside is narrow.
_INSIDE = 0.2
#: In scatters: a patch whose corners stand off further in the mean lies on no surface.
_DOUBT = 3.0
#: Patches that hold by so much worse than scatter lets them are parted anew, by such as hold better by a share, or
#: within so many scatters; so many seeds may bring nothing; so many patches more there may be, and what one costs (in
#: squares of scatters); what holds a larger share of one is one of the faces over which it reached.
_WORSE, _BETTER, _WELL, _RETRIES, _MORE, _PATCH, _PART = 1.0, 0.9, 1.05, 30, 4, 25.0, 0.1


def parted_scan(scan: Scan) -> tuple[Ints, list[Surface]]:
    """The patch (m,) of each triangle, -1 where it is of none, and the surface of each patch."""
    out = _Parted(scan)
    out.seek()
    if not out.surfaces:
        return out.label, []
    out.settle()
    if out.unfold():
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
        if out.unfold():
            out.settle()
        if not (out.unite() | out.rejoin() | out.dissolve()):
            break
    out.compete()
    out.doubt()
    return out.label, out.surfaces


def _cheapest(options: Ints, cost: Floats) -> Ints:
    """Of options (k,2), a triangle and a patch, the row of the cheapest for each triangle."""
    order = np.lexsort((cost, options[:, 0]))
    return order[np.unique(options[order, 0], return_index=True)[1]]


class _Parted(ScanPatches):
    # ---- surfaces found

    def seek(self) -> None:
        """Patches grown from seeds until what is left is little or leads to nothing."""
        order = np.random.default_rng(5).permutation(len(self.label))
        # A face of few triangles between others is not told by what lies about it.
        for hoods in (HOODS, _NARROW_HOODS):
            if hoods is _NARROW_HOODS and not self._lies(self._inner()):
                break  # what bends freely is flat near everywhere
            tried = np.zeros(len(self.label), dtype=np.bool_)
            missed = 0
            for seed in order.tolist():
                if self.label[seed] >= 0 or tried[seed]:
                    continue
                pulse("looking for surfaces")
                if missed > _MISSES + 10 * len(self.surfaces):
                    break
                if not self._found(seed, hoods, _FEWEST):
                    missed += 1
                    tried[self._hood(seed, min(hoods[0], _FEWEST))] = True

    def seek_small(self) -> bool:
        """Patches of few triangles, as chamfers are, where what was left lies on nothing beside it; whether there are
        any."""
        left = self.label < 0
        if float(self.scan.area[left].sum()) > _MOSTLY_HELD * float(self.scan.area.sum()):
            return False  # what bends freely lies on something everywhere, a few triangles each
        before = len(self.surfaces)
        for seed in np.flatnonzero(left)[np.argsort(-self.scan.area[left], kind="stable")].tolist():
            if self.label[seed] < 0 and not self.anyhow[seed]:
                pulse("looking for surfaces")
                if not self._found(seed, _SMALL_HOODS, _FEW):
                    self._flat(seed)
        return len(self.surfaces) > before

    def flatten(self) -> bool:
        """Small round patches that hold badly and lie mostly in a plane give the rest back, with the crumbs beside
        them: a small plane and what is round beside it, taken for one; whether there are any."""
        some = False
        for k in np.flatnonzero(self._counts() >= _FEWEST).tolist():
            rows = np.flatnonzero(self.label == k)
            if len(rows) >= SMALL or isinstance(self.surfaces[k], Plane):
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
        good = np.take_along_axis(cost, best, axis=1)[:, 0] < 2.0 * EACH**2
        rows, to = at[good], np.take_along_axis(options, best, axis=1)[good, 0]
        changed = int((self.label[rows] != to).sum())
        self.label[rows] = to
        return changed

    def _whole(self) -> None:
        """Of each patch what hangs together with most of it; of the rest what is not small is a patch as well."""
        i, j = self.scan.pairs.T
        same = (self.label[i] == self.label[j]) & (self.label[i] >= 0)
        m = len(self.label)
        graph = scipy.sparse.coo_array((np.ones(int(same.sum())), (i[same], j[same])), shape=(m, m))
        part = scipy.sparse.csgraph.connected_components(graph, directed=False)[1]
        area = np.bincount(part, weights=self.scan.area)
        largest = np.zeros(len(self.surfaces))
        np.maximum.at(largest, self.label[self.label >= 0], area[part][self.label >= 0])
        loose = (self.label >= 0) & (area[part] < largest[np.maximum(self.label, 0)])
        size = np.bincount(part[loose], minlength=1)
        for which in np.flatnonzero(size >= SMALL).tolist():
            rows = np.flatnonzero(loose & (part == which))
            self.surfaces.append(self.surfaces[self.label[rows[0]]])
            self.label[rows] = len(self.surfaces) - 1
            loose[rows] = False
        self.label[loose] = -1

    def _refit(self) -> None:
        count = self._counts()
        inner = self._inner()
        for k in np.flatnonzero(count >= 3).tolist():
            self.surfaces[k] = refined(self.surfaces[k], inner[k], 4)

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
        if not self._lies(inner):
            return False
        own = np.flatnonzero(count >= SMALL)
        off = np.array([self._worse(k, inner) for k in own.tolist()])
        i, j = self.scan.pairs.T
        some = False
        for k in own[np.argsort(-off)][np.sort(-off) < -_WORSE].tolist():
            of = self.label[np.concatenate([j[self.label[i] == k], i[self.label[j] == k]])]
            few = self._counts() <= max(_PIECES, count[k])
            star = np.unique(np.append(of[(of >= 0) & few[np.maximum(of, 0)]], k))
            within = _BETTER * rms(self.surfaces[k], inner[k]) / self.noise
            some |= self._parted_anew(k, star, max(within, _WELL))
        return some

    def _worse(self, k: int, inner: list[Floats]) -> float:
        """How many times as far as corners scatter those of a patch stand off."""
        return rms(self.surfaces[k], inner[k]) / self._enough(len(inner[k]))

    def _lies(self, inner: list[Floats]) -> bool:
        """Whether most larger patches hold: what lies on nothing does not lie on anything else either."""
        own = np.flatnonzero(self._counts() >= SMALL).tolist()
        return bool(own) and float(np.median([self._worse(k, inner) for k in own])) <= 1.0

    def _parted_anew(self, k: int, star: Ints, within: float) -> bool:
        """Part the triangles of a patch and of some around it anew, by surfaces that hold within so many scatters;
        whether less speaks against what came of it, and the patch reached over two faces."""
        pulse("looking for surfaces")
        own, rows, many = np.flatnonzero(self.label == k), np.flatnonzero(np.isin(self.label, star)), len(star)
        before, known = self.label.copy(), len(self.surfaces)
        was = self._against(rows) + _PATCH * many
        self.label[rows] = -1
        for self.found_within in (within, 1.2 * MEAN):
            missed, tried = 0, set[int]()
            for seed in np.random.default_rng(3).permutation(rows).tolist():
                if self.label[seed] >= 0 or seed in tried:
                    continue
                if missed > _RETRIES + len(rows) // SMALL:
                    break
                if not self._found(seed, HOODS, _FEWEST):
                    missed += 1
                    tried.update(self._hood(seed, _FEWEST).tolist())
        self._absorb()
        made = len(self.surfaces) - known
        # Flats hold a round face as well, if they are many.
        of_it = np.bincount(self.label[own] + 1)[1:]
        over = int((of_it > _PART * len(own)).sum()) <= 2
        if over and made <= many + _MORE and self._against(rows) + _PATCH * made < was:
            return True
        self.label = before  # what was left beside these may have been given away, too
        del self.surfaces[known:]
        return False

    def _against(self, rows: Ints) -> float:
        """What speaks against some triangles being of the patches that they are of, in squares of scatters."""
        label = self.label[rows]
        held = sum(float(self._cost(k, rows[label == k]).sum()) for k in np.unique(label[label >= 0]).tolist())
        return held + 2.0 * EACH**2 * float((label < 0).sum())

    # ---- fewer and simpler

    def simplify(self) -> None:
        """To each patch the surface of fewest numbers that holds it about as well as any."""
        inner = self._inner()
        lies = self._lies(inner)
        for k in np.unique(self.label[self.label >= 0]).tolist():
            rows = np.flatnonzero(self.label == k)
            p = inner[k]
            others = [refined(s, p, 8) for s in self._fits(rows, 10.0)]
            every = sorted([self.surfaces[k], *others], key=rarity)
            # Of hardly more corners than it has numbers something round holds whatever hardly bends.
            few = lies and len(p) < _FEW_CORNERS
            if few and len(p) < _TELLING and self._bends(rows) < _HARDLY and isinstance(every[0], Plane):
                every = every[:1]
            off = [1.4826 * float(np.median(np.abs(s.signed_distance(p)))) for s in every]
            # Of few corners a surface of many numbers is near to all, whatever they are.
            free = [max(1, len(p) - freedoms(s)) for s in every]
            best = min(o * float(np.sqrt(len(p) / n)) for o, n in zip(off, free, strict=True))
            chance = float(np.sqrt(1.0 + 12.0 / len(p)))
            for s, mine in zip(every, off, strict=True):
                by_chance = few and rms(s, p) <= self._by_chance(len(p), freedoms(s))
                if by_chance or mine <= max(max(1.0 / _SIMPLER, chance) * best, self._enough(len(p))):
                    self.surfaces[k] = s
                    break

    def unfold(self) -> bool:
        """Round patches that two planes hold better are these: what corners of few lines lie on, as those of a pin's
        side and the chamfer at its end do, may be a cone; whether any were."""
        some, lies = False, self._lies(self._inner())
        for k in np.flatnonzero(lies & (self._counts() > _FEW)).tolist():
            if isinstance(self.surfaces[k], Plane):
                continue
            pulse("looking for surfaces")
            rows = np.flatnonzero(self.label == k)
            p = self._points(rows)
            fold = fold_through(p)
            if fold is None or fold.off > self._enough(len(p)) or fold.smaller(p) < _TURNS_OFF * self.noise:
                continue
            gain = len(p) * np.log(rms(self.surfaces[k], p) / max(fold.off, 0.1 * self.noise))
            gain -= 0.5 * (NUMBERS - freedoms(self.surfaces[k])) * np.log(len(p))
            first = fold.first(self.middle[rows])
            # Two lines of corners lie on many cones.
            least = -_SURELY if fold.sharp or self._narrow(rows) else _SURELY
            if gain < least or first.all() or not first.any():
                continue
            if not fold.sharp and self._goes_on(rows[first], rows[~first], fold.turn):
                continue
            for plane, own in zip(fold.planes, (rows[first], rows[~first]), strict=True):
                part = self._parts(np.isin(np.arange(len(self.label)), own))[own]  # of either there may be several
                for which in np.unique(part).tolist():
                    self.label[own[part == which]] = len(self.surfaces)
                    self.surfaces.append(plane)
            some = True
        return some

    def _narrow(self, rows: Ints) -> bool:
        """Whether some triangles have hardly a corner that is theirs alone."""
        corners = self.scan.corners
        own = np.bincount(corners[rows].ravel(), minlength=len(self.scan.points))
        every = np.bincount(corners.ravel(), minlength=len(self.scan.points))
        return int(((own == every) & (own > 0)).sum()) <= _INSIDE * int((own > 0).sum())

    def _goes_on(self, one: Ints, two: Ints, turn: float) -> bool:
        """Whether beyond either of two parts of a patch, which turn (radians) from one to the other, it turns as softly
        and over as many sides: they are chords of something longer."""
        side = np.zeros(len(self.label), dtype=np.int64)
        side[one], side[two] = 1, 2
        i, j = self.scan.pairs.T
        here, there = side[i], side[j]
        between = (here != there) & (here * there > 0)
        turns = np.arccos(np.clip((self.scan.normal[i] * self.scan.normal[j]).sum(axis=1), -1.0, 1.0))
        soft = turns <= 1.5 * turn + self.lean[i]
        beyond = [int((soft & (here + there == k) & (here * there == 0)).sum()) for k in (1, 2)]
        return 2 * min(beyond) > int(between.sum())

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
        for start in [*(refined(s, p, 8) for s in self._fits(rows, 2.0 * MEAN)), *tori]:
            near = [q for q in points if rms(start, q) <= 4.0 * self.noise]
            joint = refined(start, np.concatenate(near), 8) if near else start
            held = [k for k, q in zip(star, points, strict=True) if rms(joint, q) <= self._enough(len(q))]
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
            near = MEAN * self.noise
            joint = surface
            if rms(surface, smaller) <= 3.0 * near:
                joint = refined(surface, every, 8)
            parts = [rms(joint, p) for p in (one, two)]
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
            if count[k] >= SMALL and 1.4826 * float(np.median(np.abs(self.surfaces[k].signed_distance(p)))) > far:
                self.label[self.label == k] = -1

        # A handful amid what lies on nothing does so by chance.
        i, j = self.scan.pairs.T
        heads, tails = self.label[np.concatenate([i, j])], self.label[np.concatenate([j, i])]
        border = (heads >= 0) & (heads != tails)
        n = len(self.surfaces)
        all_around = np.bincount(heads[border], minlength=n)
        free = np.bincount(heads[border & (tails < 0)], minlength=n)
        self.label[np.isin(self.label, np.flatnonzero((count < SMALL) & (2 * free > all_around)))] = -1

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
            if self.thin[rows].all() or width(self._points(rows)) < THIN * self.noise:
                some |= self._given(k, rows)
                continue
            costs = np.array([self._cost(j, rows) for j in beside])
            if float(costs.min(axis=0).mean()) < _AS_WELL:
                self.label[rows] = np.array(beside)[costs.argmin(axis=0)]
                some = True
        return some

    def _given(self, k: int, rows: Ints) -> bool:
        """Give slivers, of which only the corners tell where they are, each to what is beside it and nearest, from the
        borders inwards; whether any were."""
        some, left = False, rows.tolist()
        while left:
            fresh: dict[int, int] = {}
            for i in left:
                p = self.scan.points[self.scan.corners[i]]
                beside = set(self.label[self.other[self.starts[i] : self.starts[i + 1]]].tolist()) - {-1, k}
                off = {j: float(np.abs(self.surfaces[j].signed_distance(p)).max()) for j in beside}
                if off and min(off.values()) < EACH * self.noise:
                    fresh[i] = min(off, key=off.__getitem__)
            if not fresh:
                break
            self.label[list(fresh)] = list(fresh.values())
            left = [i for i in left if i not in fresh]
            some = True
        return some

    def _alike(self, k: int, joint: Surface) -> float:
        """Whether the surface of a patch looks as another one does there, or the other way."""
        own = self.middle[self.label == k][:40]
        return float(np.sign((self.surfaces[k].normal(own) * joint.normal(own)).sum()))
