"""The patches of a scan: what is held of them, how far corners scatter, and the search for one from a seed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, rows_of, unit
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Plane, Surface
from lithon.mend.fitting import freedoms, placed, refined, rings_around, spread
from lithon.mend.links import Marks, along, corners_of, leanings, lists, straightest
from lithon.mend.starts import scattered_fits
from lithon.mend.strains import LOOKED_AT, senses, strains

#: In scatters: how far the corners of a patch may stand off in the mean, and how far each.
MEAN, EACH = 1.5, 4.5
#: Neighbourhoods from which a surface is looked for, in triangles.
HOODS = 12, 24, 80, 240
#: So many numbers are enough for any simple surface.
_MOST_NUMBERS = 14
#: In the midst of faces corners scatter by such shares of what they do elsewhere, at the least and at the most.
_ELSEWHERE = 0.75, 2.8
#: Corners of one ring stand within so many scatters of it.
_RING = 4.0
#: From so many neighbourhoods it is told how far corners scatter.
_SAMPLES = 120
#: Fewer triangles are no small patch either.
FEW = 4
#: Of fewer triangles a patch is small; such as turn by more (radians) from one to the next are flats then.
SMALL, _BEND = 24, np.radians(37.0)
#: What turns by more (radians) is a crease between two flats, where there are only two.
_CREASE = np.radians(22.0)
#: What leans by more (radians) for its scatter alone does so anyhow; what is less high (in scatters) is thin.
_ANYHOW, THIN = np.radians(45.0), 4.0
#: Where the corners that are of a patch alone reach less far across it (a share) the others count as well.
_NARROW = 0.7
#: What stands off by as many scatters holds a patch; what so rarely stands off further does so by no chance.
_HELD, _RARELY = 1.15, 1e-3


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


def rarity(surface: Surface) -> float:
    """The order in which surfaces are tried: of fewest numbers first, but short cylinders and cones lie on spheres as
    well."""
    return 6.5 if isinstance(surface, Sphere) else float(freedoms(surface))


def rms(surface: Surface, points: Floats) -> float:
    """How far (mm, root mean square) points (n,3) stand off a surface."""
    return float(np.sqrt((surface.signed_distance(points) ** 2).mean()))


def width(points: Floats) -> float:
    """How far (mm, root mean square) points (n,3) reach across the way in which they reach furthest."""
    off = points - points.mean(axis=0)
    return float(np.sqrt(max(np.linalg.eigvalsh(off.T @ off / len(points))[1], 0.0)))


class ScanPatches:
    """The patch (m,) of each triangle of a scan, -1 where it is of none, and the surface of each patch."""

    def __init__(self, scan: Scan):
        self.scan = scan
        m = len(scan.corners)
        self.starts, self.other = lists(m, *scan.pairs.T)
        self.marks, self.at_corners = Marks(m), Marks(max(m, len(scan.points)))
        self.weighted = scan.normal * scan.area[:, None]
        #: The triangles (m,k) beside each, -1 where there are fewer.
        degree = np.diff(self.starts)
        self.around = np.full((m, int(degree.max(initial=0))), -1)
        row = np.repeat(np.arange(m), degree)
        self.around[row, np.arange(len(row)) - self.starts[row]] = self.other
        self.middle = scan.points[scan.corners].mean(axis=1)
        #: How many triangles stand on each corner.
        self.uses = np.bincount(scan.corners.ravel(), minlength=len(scan.points))
        side = np.linalg.norm(scan.points[scan.corners] - np.roll(scan.points[scan.corners], -1, axis=1), axis=2)
        self.label = np.full(m, -1, dtype=np.int64)
        self.every = np.arange(m)
        self.lean = np.full(m, np.radians(20.0))
        self.even = self._even()
        self.noise = scan.noise
        self.noise = scan.slack * self._noise()
        #: How far (radians) the normal of each triangle scatters.
        height = 2.0 * scan.area / np.maximum(side.max(axis=1), 1e-300)
        self.lean = 1.2 * self.noise / np.maximum(height, 1e-300) + np.radians(2.0)
        self.even = self._even()
        #: Slivers: those that are hardly higher than corners scatter, and those whose normal says nothing at all.
        self.thin, self.anyhow = height < THIN * self.noise, self.lean > _ANYHOW
        self.least = np.cos(np.minimum(3.0 * self.lean, np.radians(75.0)))
        self.surfaces: list[Surface] = []
        #: For what surfaces were the nearest, or the simplest, and which.
        self._settled: dict[tuple[str, int], tuple[Surface, bytes]] = {}
        #: In scatters: how far corners of a patch may stand off in the mean for it to be found.
        self.found_within = 1.2 * MEAN

    def known(self, k: int, points: Floats, how: str) -> bool:
        """Whether the surface of a patch is what came of it before for these points: it is `fitted`, or `simplest`, or
        `whole`, for the patch could not be parted better."""
        was = self._settled.get((how, k))
        return was is not None and was[0] is self.surfaces[k] and was[1] == points.tobytes()

    def note(self, k: int, points: Floats, *how: str) -> None:
        """Note that the surface of a patch is the nearest, or the simplest, for these points."""
        for one in how:
            self._settled[one, k] = self.surfaces[k], points.tobytes()

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
            rows = self._hood(seed, HOODS[1])
            if len(rows) < HOODS[1]:
                continue
            p = self._points(rows)
            fits = self._fits(rows, np.inf)
            if fits:
                told.append(min(
                    float(np.sqrt((s.signed_distance(p) ** 2).sum() / max(1, len(p) - freedoms(s)))) for s in fits
                ))  # fmt: skip
        # What stands off further is of several faces.
        told = [x for x in told if x <= _ELSEWHERE[1] * self.noise]
        return max(float(np.quantile(told, 0.4)), _ELSEWHERE[0] * self.noise) if told else self.noise

    def _counts(self) -> Ints:
        """How many triangles each patch has."""
        return np.bincount(self.label[self.label >= 0], minlength=len(self.surfaces))

    def _hood(self, seed: int, most: int) -> Ints:
        """The free triangles nearest to a seed by steps over sides, none past a crease."""
        return along(self.starts, self.other, self.even, self.label, seed, most)

    def _parts(self, good: Bools) -> Ints:
        """What hangs together (m,) of some triangles; -1 for the others."""
        i, j = self.scan.pairs.T
        both = good[i] & good[j]
        m = len(good)
        graph = scipy.sparse.coo_array((np.ones(int(both.sum())), (i[both], j[both])), shape=(m, m))
        return np.where(good, scipy.sparse.csgraph.connected_components(graph, directed=False)[1], -1)

    def _points(self, rows: Ints) -> Floats:
        marks = self.at_corners
        return self.scan.points[corners_of(self.scan.corners, rows, marks.seen, marks.queue, marks.walk())]

    def _inner(self, asked: Bools | None = None) -> list[Floats]:
        """Of each patch, or of some (k,), the corners that are of it alone, where these are many: on its border others
        share them."""
        corners, points, n = self.scan.corners, self.scan.points, len(self.surfaces)
        least, most = np.full(len(points), n), np.full(len(points), -1)
        np.minimum.at(least, corners.ravel(), np.repeat(self.label, 3))
        np.maximum.at(most, corners.ravel(), np.repeat(self.label, 3))
        alone = np.where((least == most) & (least >= 0), least, n)
        out = []
        for k, (ids, rows) in enumerate(zip(rows_of(alone, n), rows_of(self.label, n), strict=True)):
            if asked is not None and not asked[k]:
                out.append(points[:0])
                continue
            own = points[ids]
            if len(own) > 20:
                every = points[corners[rows]].reshape(-1, 3)
                # Of a strip two triangles wide the inner corners are a line, which lies on much; what is only a few
                # wide reaches far beyond them, and they tell badly what it is.
                own = own if width(own) > _NARROW * width(every) else every[:0]
            out.append(own if len(own) > 20 else points[np.unique(corners[rows])])
        return out

    def _off(self, surface: Surface, rows: Ints) -> float:
        """How far the corners of triangles stand off a surface in the mean (root mean square), in scatters."""
        return rms(surface, self._points(rows)) / self.noise

    def _enough(self, n: int) -> float:
        """Within what (mm) a surface holds so many corners, as far as so many tell."""
        return _HELD * self.noise * (1.0 + 1.0 / float(np.sqrt(n)))

    def _by_chance(self, n: int, numbers: int) -> float:
        """Within what (mm, root mean square) so many corners stand off the surface of so many numbers that they are of
        and that was brought nearest to them, but for one in a thousand."""
        most = scipy.special.chdtri(max(1, n - numbers), _RARELY)  # the sum of their squares, in scatters
        return _HELD * self.noise * float(np.sqrt(most / n))

    def _fits(self, rows: Ints, most: float) -> list[Surface]:
        """The surfaces that hold triangles, the simplest first."""
        marks = self.at_corners
        ids, normals = leanings(self.scan.corners, rows, self.weighted, marks.seen, marks.queue, marks.walk())
        return sorted(
            scattered_fits(self.scan.points[ids], unit(normals), most * self.noise, len(rows) >= 24), key=rarity
        )

    def _grown(self, surface: Surface, seed: int) -> Ints:
        """The free triangles that hang together with a seed on a surface."""
        scan, (kind, here) = self.scan, placed(surface)
        return spread(kind, here, self.starts, self.other, self.label, scan.points, scan.corners, scan.normal,
                      EACH * self.noise, self.least, seed, self.marks.seen, self.marks.queue,
                      self.marks.walk())  # fmt: skip

    def _bends(self, rows: Ints) -> float:
        """By how much (radians) triangles side by side turn at the most, beyond what scatter turns them."""
        least = straightest(np.sort(rows), self.starts, self.other, self.scan.normal)
        return float(np.arccos(least) - self.lean[rows].mean())

    def _two_flats(self, rows: Ints) -> bool:
        """Whether triangles are two flats side by side: a crease parts them, and both lie in planes. Where each is a
        strip, what is round holds their three lines of corners as well."""
        rows = np.sort(rows[~self.thin[rows]])
        many = np.diff(self.starts)[rows]
        i = np.repeat(np.arange(len(rows)), many)
        j = self.other[np.repeat(self.starts[rows] - np.append(0, np.cumsum(many)[:-1]), many) + np.arange(len(i))]
        at = np.minimum(np.searchsorted(rows, j), len(rows) - 1)
        normal = self.scan.normal
        calm = (rows[at] == j) & ((normal[rows[i]] * normal[j]).sum(axis=1) > np.cos(_CREASE))
        graph = scipy.sparse.coo_array((np.ones(int(calm.sum())), (i[calm], at[calm])), shape=(len(rows), len(rows)))
        count, part = scipy.sparse.csgraph.connected_components(graph, directed=False)
        if count != 2:
            return False
        for k in range(2):
            p = self._points(rows[part == k])
            off = np.linalg.svd(p - p.mean(axis=0), compute_uv=False)[-1] / np.sqrt(len(p))
            if off > self._enough(len(p)):
                return False
        return True

    def _found(self, seed: int, hoods: tuple[int, ...], fewest: int) -> bool:
        """Grow a patch from a seed, the largest that surfaces through its neighbourhoods lead to; whether there is
        one."""
        best: tuple[float, Surface, Ints] | None = None
        for most in hoods:
            rows = self._hood(seed, most)
            if len(rows) < min(fewest, most):
                continue
            for surface in self._fits(rows, MEAN):
                rows = self._grown(surface, seed)
                if len(rows) < fewest:
                    continue
                better = refined(surface, self._points(rows), 4)
                rows = self._grown(better, seed)
                if len(rows) < fewest or self._off(better, rows) > self.found_within:
                    continue
                if (
                    isinstance(better, Torus)
                    and 0 < len(rings_around(better, self._points(rows), _RING * self.noise)) < 4
                ):
                    continue  # through any three rings there is one
                if (
                    not isinstance(better, Plane)
                    and (bends := self._bends(rows)) > _CREASE
                    and ((len(rows) < SMALL and bends > _BEND) or self._two_flats(rows))
                ):
                    continue
                # A plane is also a large cylinder: the simpler one wins where they hold about as much.
                score = float(self.scan.area[rows].sum()) * (1.0 - 0.03 * rarity(better))
                if best is None or score > best[0]:
                    best = score, better, rows
        if best is None:
            return False
        self.label[best[2]] = len(self.surfaces)
        self.surfaces.append(best[1])
        return True

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

    def _costs(self, options: Ints) -> Floats:
        """What speaks against each of some options (k,2), a triangle and a patch."""
        if not len(options):
            return np.zeros(0)
        used = np.unique(options[:, 1])
        number = np.full(len(self.surfaces), -1)
        number[used] = np.arange(len(used))
        return self._strains(options[:, 0], number[options[:, 1]], used, self.every, np.append(number, -1)[self.label])

    def _cost(self, k: int, rows: Ints) -> Floats:
        """What speaks against triangles being of a patch, in squares of scatters."""
        own = np.flatnonzero(self.label == k)[:LOOKED_AT]
        return self._strains(rows, np.zeros(len(rows), dtype=np.int64), np.array([k]), own, np.zeros_like(own))

    def _strains(self, rows: Ints, patch: Ints, which: Ints, told: Ints, label: Ints) -> Floats:
        """What speaks against triangles (n,) being of patches (n,), in squares of scatters: of those `which` there are
        by their place, as in `label` (k,) of triangles `told` (k,), which show to which side a patch looks."""
        scan = self.scan
        here = np.zeros((len(which), _MOST_NUMBERS))
        kinds = np.empty(len(which), dtype=np.int64)
        for q, k in enumerate(which.tolist()):
            kinds[q], own = placed(self.surfaces[k])
            here[q, : len(own)] = own
        sense = senses(kinds, here, told, label, scan.corners, scan.points, scan.normal)
        return strains(rows, patch, kinds, here, sense, scan.corners, scan.points, scan.normal, self.lean, self.noise,
                       EACH)  # fmt: skip

    def _sense(self, k: int) -> float:
        """Whether the triangles of a patch look as its surface does, or the other way."""
        own = np.flatnonzero(self.label == k)[:40]
        if not len(own):
            return 1.0
        return float(np.sign((self.surfaces[k].normal(self.middle[own]) * self.scan.normal[own]).sum()))
