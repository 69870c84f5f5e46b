"""Patches of a scan made fewer and simpler: to each the surface of fewest numbers that holds it, one to those that it
holds together, two planes where these hold better, and none where nothing does."""

from __future__ import annotations

from collections import defaultdict

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.geometry.rounds import Cone, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import freedoms, refined, torus_about
from lithon.mend.folds import NUMBERS, fold_through
from lithon.mend.links import given_away
from lithon.mend.scan_patches import EACH, FEW, MEAN, SMALL, THIN, ScanPatches, rarity, rms, width
from lithon.progress import pulse

#: Round patches of no more triangles may be pieces of one.
PIECES = 60
#: What it costs each triangle of a small patch (in squares of scatters) to be of another.
AS_WELL = 5.0
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
#: Two patches of one surface look the same way where they meet (a cosine).
_GOES_ON = float(np.cos(np.radians(10.0)))


class Simpler(ScanPatches):
    """What makes patches fewer and simpler."""

    def _worse(self, k: int, inner: list[Floats]) -> float:
        """How many times as far as corners scatter those of a patch stand off."""
        return rms(self.surfaces[k], inner[k]) / self._enough(len(inner[k]))

    def _lies(self, inner: list[Floats]) -> bool:
        """Whether most larger patches hold: what lies on nothing does not lie on anything else either."""
        own = np.flatnonzero(self._counts() >= SMALL).tolist()
        return bool(own) and float(np.median([self._worse(k, inner) for k in own])) <= 1.0

    def simplify(self) -> None:
        """To each patch the surface of fewest numbers that holds it about as well as any."""
        inner = self._inner()
        lies = self._lies(inner)
        for k in np.unique(self.label[self.label >= 0]).tolist():
            rows, p = np.flatnonzero(self.label == k), inner[k]
            if self.known(k, p, "simplest"):
                continue
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
                enough = self._enough(len(p))
                if by_chance or min(mine, rms(s, p)) <= enough or mine <= max(1.0 / _SIMPLER, chance) * best:
                    self.surfaces[k] = s
                    break
            self.note(k, p, "fitted", "simplest")

    def unfold(self) -> bool:
        """Round patches that two planes hold better are these: what corners of few lines lie on, as those of a pin's
        side and the chamfer at its end do, may be a cone; whether any were."""
        some, lies = False, self._lies(self._inner())
        for k in np.flatnonzero(lies & (self._counts() > FEW)).tolist():
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
        ids, own = np.unique(self.scan.corners[rows], return_counts=True)
        return int((own == self.uses[ids]).sum()) <= _INSIDE * len(ids)

    def _goes_on(self, one: Ints, two: Ints, turn: float) -> bool:
        """Whether beyond either of two parts of a patch, which turn (radians) from one to the other, it turns as softly
        and over as many sides: they are chords of something longer."""
        side = np.zeros(len(self.label), dtype=np.int64)
        side[one], side[two] = 1, 2
        pairs = self.scan.pairs
        i, j = pairs[side[pairs[:, 0]] != side[pairs[:, 1]]].T
        here, there = side[i], side[j]
        between = here * there > 0
        turns = np.arccos(np.clip((self.scan.normal[i] * self.scan.normal[j]).sum(axis=1), -1.0, 1.0))
        soft = turns <= 1.5 * turn + self.lean[i]
        beyond = [int((soft & ~between & (here + there == k)).sum()) for k in (1, 2)]
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
        small = {k for k in beside if count[k] <= PIECES and not isinstance(self.surfaces[k], Plane)}
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
            joint = refined(surface, every, 8) if rms(surface, smaller) <= 3.0 * near else surface
            if max(rms(joint, p) for p in (one, two)) > near:
                other = self._of_another_kind(a, b, one, two)
                if other is None:
                    continue
                joint = other
            if self._sense(a) * self._alike(a, joint) != self._sense(b) * self._alike(b, joint):
                continue
            keep, gone = larger, a if larger == b else b
            self.surfaces[keep], inner[keep] = joint, every
            self.label[self.label == gone] = keep
            now[now == gone] = keep
        return bool((now != np.arange(len(now))).any())

    def _of_another_kind(self, a: int, b: int, one: Floats, two: Floats) -> Surface | None:
        """The surface that holds two large round patches, of which another kind was taken by pieces: what opens slowly,
        or bends little the other way, lies on cylinders by parts."""
        if min(len(one), len(two)) <= PIECES or any(isinstance(self.surfaces[k], Plane) for k in (a, b)):
            return None
        every = np.concatenate([one, two])
        if self.known(a, every, f"with {b}"):
            return None
        self.note(a, every, f"with {b}")
        rows = [np.flatnonzero(self.label == k) for k in (a, b)]
        both = self.scan.points[np.intersect1d(self.scan.corners[rows[0]], self.scan.corners[rows[1]])]
        lean = np.abs((self.surfaces[a].normal(both) * self.surfaces[b].normal(both)).sum(axis=1))
        if float(np.median(lean)) < _GOES_ON:
            return None  # a crease: strips beside it lie on something through their rims
        least = max(freedoms(self.surfaces[k]) for k in (a, b))
        for start in self._fits(np.sort(np.concatenate(rows)), 2.0 * MEAN):
            if freedoms(start) < least or isinstance(start, Plane):
                continue
            joint = refined(start, every, 8)
            if all(rms(joint, p) <= self._enough(len(p)) for p in (one, two)):
                return joint
        return None

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
        for k in np.flatnonzero((count > 0) & (count <= PIECES)).tolist():
            rows = np.flatnonzero(self.label == k)
            around = np.concatenate([self.other[self.starts[i] : self.starts[i + 1]] for i in rows.tolist()])
            beside = sorted(set(self.label[around].tolist()) - {-1, k})
            if not beside:
                continue
            if self.thin[rows].all() or width(self._points(rows)) < THIN * self.noise:
                some |= self._given(k, rows)
                continue
            costs = np.array([self._cost(j, rows) for j in beside])
            if float(costs.min(axis=0).mean()) < AS_WELL:
                self.label[rows] = np.array(beside)[costs.argmin(axis=0)]
                some = True
        return some

    def _given(self, k: int, rows: Ints) -> bool:
        """Give slivers, of which only the corners tell where they are, each to what is beside it and nearest, from the
        borders inwards; whether any were."""

        def off(i: int, j: int) -> float:
            return float(np.abs(self.surfaces[j].signed_distance(self.scan.points[self.scan.corners[i]])).max())

        return given_away(rows.tolist(), self.label, self.starts, self.other, off, EACH * self.noise, never=k)

    def _alike(self, k: int, joint: Surface) -> float:
        """Whether the surface of a patch looks as another one does there, or the other way."""
        own = self.middle[self.label == k][:40]
        return float(np.sign((self.surfaces[k].normal(own) * joint.normal(own)).sum()))
