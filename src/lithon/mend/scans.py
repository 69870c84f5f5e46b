"""Patches of triangles that scatter about what they were taken from, as those of a scan do.

Surfaces are grown from seeds as far as corners stand off them by what the scatter allows. Then patches compete: every
triangle goes to that of the surfaces of the patches beside it which its corners and its normal speak for, all surfaces
are fitted anew to what they have, and so on until little changes (Cohen-Steiner, Alliez & Desbrun 2004, with quadrics
as Yan, Wang, Liu & Yang 2012). Of surfaces that hold a patch as well the one of fewest numbers is taken, and patches
that lie on one surface are one.
"""

from __future__ import annotations

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints
from lithon.geometry.surfaces import Plane, Surface
from lithon.mend.fitting import refined
from lithon.mend.scan_patches import EACH, FEW, HOODS, MEAN, SMALL, Scan, rms
from lithon.mend.scan_simpler import AS_WELL, PIECES, Simpler
from lithon.progress import pulse

#: Fewer triangles are no patch.
_FEWEST = 8
#: Where what is larger was found it is looked for in smaller neighbourhoods.
_SMALL_HOODS = 4, 8, 16
#: Neighbourhoods within faces of few triangles more.
_NARROW_HOODS = (5,)
#: What is left of a scan that lies on surfaces, at most (a share of its area).
_MOSTLY_HELD = 0.2
#: The number of the patch of what is not there.
_NOBODY = -2
#: So many seeds may bring nothing, and ten more for each surface that is found.
_MISSES = 150
#: Rounds of the competition; what a neighbour of another patch costs, in squares of scatters.
_ROUNDS, _BORDER = 8, 1.0
#: Where triangles of a small patch speak against it by more, in the mean, it may be another; where this share of them
#: lies in a plane.
_BADLY, _FLAT = 2.5, 0.6
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
        united = out.unite()
        while united and out.unite():
            pass  # what became larger is told better, and holds more
        if not (united | out.rejoin() | out.dissolve()):
            break
    out.compete()
    out.doubt()
    return out.label, out.surfaces


def _cheapest(options: Ints, cost: Floats) -> Ints:
    """Of options (k,2), a triangle and a patch, the row of the cheapest for each triangle."""
    order = np.lexsort((cost, options[:, 0]))
    return order[np.unique(options[order, 0], return_index=True)[1]]


class _Parted(Simpler):
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
                if not self._found(seed, _SMALL_HOODS, FEW):
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
                good = self._cost(k, rows) < AS_WELL
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
            crumbs = np.flatnonzero(self._counts() < FEW)
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
        for turn in range(_ROUNDS):
            pulse("looking for surfaces")
            before = self.label.copy()
            changed = self._assign()
            self._whole()
            moved = self.label != before
            touched = np.isin(np.arange(len(self.surfaces)), np.concatenate([before[moved], self.label[moved]]))
            self._refit(touched if turn else None)
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

    def _refit(self, asked: Bools | None = None) -> None:
        """Surfaces brought nearer to what they hold: all, or those of some patches (k,)."""
        good = self._counts() >= 3
        good &= True if asked is None else asked
        inner = self._inner(good)
        for k in np.flatnonzero(good).tolist():
            if not self.known(k, inner[k], "fitted"):
                self.surfaces[k] = refined(self.surfaces[k], inner[k], 4)
                self.note(k, inner[k], "fitted")

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
            if self.known(k, inner[k], "whole"):
                continue
            of = self.label[np.concatenate([j[self.label[i] == k], i[self.label[j] == k]])]
            few = self._counts() <= max(PIECES, count[k])
            star = np.unique(np.append(of[(of >= 0) & few[np.maximum(of, 0)]], k))
            within = _BETTER * rms(self.surfaces[k], inner[k]) / self.noise
            if self._parted_anew(k, star, max(within, _WELL)):
                some = True
            else:
                self.note(k, inner[k], "whole")
        return some

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
                if len(self.surfaces) - known > many + _MORE:
                    break  # too many already
                # Where nothing was found so often there is nothing to be found.
                if missed > _RETRIES + (len(rows) // SMALL if len(self.surfaces) > known else 0):
                    break
                if not self._found(seed, HOODS, _FEWEST):
                    missed += 1
                    tried.update(self._hood(seed, _FEWEST).tolist())
        made = len(self.surfaces) - known
        if made <= many + _MORE:
            self._absorb()
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
