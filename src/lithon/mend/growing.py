"""Growing a surface from a seed triangle: fitted to neighbourhoods, spread over all that lies on it, and made better by
least squares over that.
"""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np
import scipy

from lithon.arrays import Bools, Floats, Ints, by_label, cross_product
from lithon.brep.cleaning import side_pairs
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import freedoms, placed, refined, rings_around, spread, torus_about, tubes
from lithon.mend.links import Marks, alike, along, flood, link_values, lists
from lithon.mend.starts import round_fits

#: Sides over which triangles turn by more than this end a neighbourhood; a patch's triangles lean no further than
#: `LEAN` from its surface; such as turn by less are of one flat.
_SMOOTH, LEAN, FLAT = np.radians(40.0), np.radians(30.0), np.radians(0.3)
HOODS = (8, 20, 60)
#: How many times as far inside its surface a triangle stands as the others at most, to be a chord as they are.
CHORD = 8.0
#: A triangle of a mesh that gets coarser turns by so many times as much as one beside it, at most.
_COARSER = 2.0
#: Three strips of one cylinder are as wide as each other but for so much.
_EVEN = 1.3
#: So many corners more than a torus of few triangles has numbers.
SURPLUS = 3
#: Two strips, or their chords, are as wide as each other but for so much.
_ALIKE = 1.05
#: So many triangles in one plane are so by no chance, where so much of them (a share) lies elsewhere, or no more than
#: such a share as many lie on what holds them besides.
SEVERAL, _PART, BEYOND = 6, 0.05, 0.5
#: So many angles by which a piece goes on are followed, those that it has most often.
_ANGLES = 6
#: Corners as near to each other (of the tolerance) around the tube of a torus stand on one ring.
_RINGS = 20.0
#: Two strips lie side by side over a side that is as much of the longest of both.
_ALONG = 0.7
#: Where free-form faces may be: a round surface of fewer triangles is no find; triangles that turn by more than this
#: (radians) belong to two faces.
FEW, _CREASE = 16, np.radians(25.0)
#: From so many triangles around it a torus about a known axis is told.
_AROUND = 16
#: So many corners tell a cone about one; it leans as much from the axis and from what is square to it (the logarithm of
#: a slope), and is of so many flats.
_CORNERS, _STEEP, _FLATS = 5, 3.0, 3
#: The share of the diagonal within which corners lie on what they were made from; of fewer triangles they must lie
#: nearer, and be of so many strips: their ends overdetermine a circle.
EXACT, TRULY, _STRIPS = 4e-6, 3e-7, 5


def rounds_of(points: Floats, corners: Ints, normals: Floats, near: float) -> list[tuple[float, Surface]]:
    """The round surfaces that the corners of triangles (m,3) of points (n,3) with these normals (m,3) lie on within
    `near` (mm), one of each kind, each with how far (radians) the triangles lean from it in the mean."""
    ids, where = np.unique(corners, return_inverse=True)
    where = where.reshape(-1, 3)
    n = np.zeros((len(ids), 3))
    for k in range(3):
        np.add.at(n, where[:, k], normals)
    n /= np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
    a, b, c = (points[corners[:, k]] for k in range(3))
    return round_fits(points[ids], n, (a + b + c) / 3.0, normals, near)


def likeliest(fits: list[tuple[float, Surface]]) -> list[Surface]:
    """Of `rounds_of` the round surface that triangles lie on comes last; before a sphere cones and cylinders on which
    they lie too: so two rings of corners do."""
    if not fits:
        return []
    # Two rings of corners lie on a cylinder and on a sphere: how the triangles lean tells which it is.
    best = min(fits, key=lambda fit: fit[0] + 0.002 * freedoms(fit[1]))[1]
    ruled = [s for _, s in fits if isinstance(s, Cylinder | Cone)] if isinstance(best, Sphere) else []
    return [*ruled, best]


class Growth:
    """Triangles (m,3) of points (n,3), which of them belong to which surface that was found, and how another is grown.
    `tolerance`: how far (mm) corners stand off; `noise`: how far they scatter; `free`: whether what lies on nothing
    simple may be free-form."""

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
        self.marks = Marks(m)
        soft = turn < _SMOOTH
        self.soft_starts, self.soft_other = lists(m, i[soft], j[soft])
        self.every = np.ones(len(self.soft_other), dtype=bool)
        self.soft_turn = link_values(m, i[soft], j[soft], turn[soft])
        apart = (corners[i][:, :, None] == corners[j][:, None, :]).any(axis=2).argmin(axis=1)
        shared = points[corners[i, apart - 1]] - points[corners[i, apart - 2]]
        long = np.linalg.norm(shared, axis=1) > _ALONG * np.maximum(sides[i], sides[j])
        #: Links over which the strips of a cylinder or cone lie side by side.
        self.side_by_side = link_values(m, i[soft], j[soft], long[soft]).astype(bool)
        self.turn = i, j, turn
        self.flat = self.parts(FLAT)
        sums = [np.bincount(self.flat, weights=self.normal[:, k] * self.area) for k in range(3)]
        mean = np.stack(sums, axis=1)
        mean = mean / np.maximum(np.linalg.norm(mean, axis=1, keepdims=True), 1e-300)
        lean = np.ones(len(mean))
        np.minimum.at(lean, self.flat, (self.normal * mean[self.flat]).sum(axis=1))
        #: Flat pieces of several triangles that are so as a whole, rather than go on turning a little from one to the
        #: next; two may lie in one plane by chance.
        self.level = (lean > np.cos(FLAT)) & (np.bincount(self.flat) >= SEVERAL)
        #: The triangles of each flat piece, one piece after another, and where each begins.
        self.members, self.firsts = by_label(self.flat, len(self.level))
        self.label = np.full(m, -1, dtype=np.int64)
        #: How much each may lean from its surface, the cosine.
        self.least = np.full(m, np.cos(LEAN))
        self.found: list[Surface | None] = []
        self.known: dict[float, tuple[Ints, list[Surface]]] = {}
        #: Triangles from which no surface is looked for any more.
        self.done = np.zeros(m, dtype=bool)
        self.misses = 0
        #: The axes of what was found, of so many surfaces.
        self._lines: tuple[int, Floats, Floats] = -1, np.zeros((0, 3)), np.zeros((0, 3))
        #: Flat pieces that no round surface grew from; they are looked at again when it is known what lies beside them.
        self.lost = np.zeros(m, dtype=bool)
        creased = turn < _CREASE
        self.calm_starts, self.calm_other = lists(m, i[creased], j[creased])

    def parts(self, most: float, more: Floats | None = None) -> Ints:
        """What hangs together (m,) over sides at which triangles turn by less than an angle (radians), and `more` (m,)
        of each of the two."""
        i, j, turn = self.turn
        flat, m = turn < (most if more is None else most + more[i] + more[j]), len(self.corners)
        graph = scipy.sparse.coo_array((np.ones(int(flat.sum())), (i[flat], j[flat])), shape=(m, m))
        return np.asarray(scipy.sparse.csgraph.connected_components(graph, directed=False)[1])

    def on(self, surface: Surface, near: float, seed: int) -> Bools:
        """The free triangles that lie on a surface and look as it does beside the seed."""
        off = np.abs(surface.signed_distance(self.points)) <= near
        on = off[self.corners].all(axis=1) & (self.label < 0)
        rows = np.flatnonzero(on)
        out = np.zeros(len(self.corners), dtype=bool)
        if not len(rows):
            return out
        lean = (surface.normal(self.middle[rows]) * self.normal[rows]).sum(axis=1)
        sense = float(surface.normal(self.middle[seed][None])[0] @ self.normal[seed])
        out[rows] = lean * np.sign(sense) > np.cos(LEAN)
        return out

    def _grown(self, surface: Surface, near: float, seed: int) -> Ints:
        return self._spread(surface, near, self.label, seed)

    def spread_over(self, surface: Surface, near: float, free: Bools, seed: int) -> Ints:
        return self._spread(surface, near, np.where(free, -1, 0), seed)

    def _spread(self, surface: Surface, near: float, label: Ints, seed: int) -> Ints:
        kind, here = placed(surface)
        return spread(kind, here, self.starts, self.other, label, self.points, self.corners, self.normal, near,
                      self.least, seed, self.marks.seen, self.marks.queue, self.marks.walk())  # fmt: skip

    def piece(self, seed: int) -> Ints:
        """The triangles of the flat piece that one is of."""
        flat = int(self.flat[seed])
        return self.members[self.firsts[flat] : self.firsts[flat + 1]]

    def hood(self, seed: int, most: int, over: Bools | None = None) -> Ints:
        """The free triangles that hang together smoothly with a seed, the nearest first; over some links only."""
        over = self.every if over is None else over
        return along(self.soft_starts, self.soft_other, over, self.label, seed, most)

    def curved(self, seed: int) -> bool:
        """Grow a round surface from a seed, if one holds it and more than its flat piece."""
        own = len(self.piece(seed))
        hoods = [self.hood(seed, max(most, own + most if own < 12 else 0)) for most in HOODS]
        best: tuple[int, Surface, Ints] | None = None
        # Strips between rings that are parted differently turn by ever other angles.
        strips = [self.hood(seed, most, self.side_by_side) for most in HOODS[:2]]
        for surface in self._tried([*self._alike(seed, self.side_by_side), *strips, *hoods, *self._alike(seed)]):
            grown = self._grown(surface, 4.0 * self.tolerance, seed)
            if len(grown) < 4:
                continue
            better = refined(surface, self.points[np.unique(self.corners[grown])])
            again = self._even(better, self._grown(better, self.tolerance, seed), seed)
            if len(again) < 4:  # what it grew over was not all its own, and drew it away
                better, again = surface, self._even(surface, self._grown(surface, self.tolerance, seed), seed)
            pieces = self._pieces(better, again) if len(again) and not self._by_chance(better, again) else 0
            enough = len(again) >= max(4, 1.5 * own)
            # One strip of a ring lies on a cone as well: what grows furthest is what it is.
            further = enough and (best is None or len(again) > best[0])
            several = pieces >= 3 and (not isinstance(better, Torus) or self._told(better, again))
            if further and (several or (pieces == 2 and self._tangent(better, again))):
                best = len(again), better, again
        if best is not None:
            best = best[0], self.ruled(best[1], best[2]), best[2]
        if best is not None and isinstance(best[1], Cone | Cylinder | Sphere):
            best = self._bent(seed, *best)
        if best is None or (self.free and not self._sure(best[1], best[2])):
            return False
        self.take(best[1], best[2])
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
        further = len(again) > 1.2 * count and self._overdetermined(better, again)
        return (len(again), better, again) if further else (count, surface, rows)

    def _told(self, torus: Torus, rows: Ints) -> bool:
        """Whether some triangles tell a torus that grew over them, rather than one that passes through them as through
        any: of few their corners lie on it as exactly as files are written, and are more than tell it; three rings
        stand evenly around its tube, and what is beside them goes over into it."""
        p = self.points[np.unique(self.corners[rows])]
        if len(rows) < FEW:
            off = float(np.abs(torus.signed_distance(p)).max())
            if off > TRULY * self.scale or len(p) < freedoms(torus) + SURPLUS:
                return False
        rings = rings_around(torus, p, _RINGS * self.tolerance)
        steps = np.diff(rings)
        return len(rings) != 3 or (float(steps.max()) <= _ALIKE * float(steps.min()) and self._goes_on(torus, rows))

    def _overdetermined(self, torus: Surface, rows: Ints) -> bool:
        """Whether the corners of some triangles stand on more rings of a torus than the three that any passes through,
        or on none."""
        p = self.points[np.unique(self.corners[rows])]
        return isinstance(torus, Torus) and not 0 < len(rings_around(torus, p, _RINGS * self.tolerance)) <= 3

    def _axis(self, surface: Surface, rows: Ints) -> Frame | None:
        """The axis of a round surface; of a sphere that of a cone through the same triangles."""
        if not isinstance(surface, Sphere):
            return surface.frame
        cones = [s for s in self._fits(rows) if isinstance(s, Cone | Cylinder)]
        return cones[0].frame if cones else None

    def about_an_axis(self, seed: int) -> bool:
        """Grow a cylinder or a torus about the axis of a surface that was found, where the seed lies on one: two strips
        alone could be a bend as well, and a coarse torus is told badly by how its triangles lean."""
        origins, ways = self._axes()
        if not len(origins):
            return False
        beside = self.soft_other[self.soft_starts[seed] : self.soft_starts[seed + 1]].tolist()
        around = np.concatenate([self.piece(j) for j in beside] or [self.piece(seed)[:0]])
        own = np.union1d(self.piece(seed), around[self.label[around] < 0])
        p = self.points[np.unique(self.corners[own])]
        away, _ = _about(origins, ways, p)
        spread = np.where(away.min(axis=1) > 4.0 * self.tolerance, np.ptp(away, axis=1), np.inf)
        if spread.min() > 2.0 * self.tolerance:
            return self._cone_about(seed, origins, ways, p) or self.tube(seed)
        k = int(np.argmin(spread))
        made = Cylinder(Frame.of(origins[k], ways[k]), float(away[k].mean()))
        again = self._grown(made, self.tolerance, seed)
        if len(again) < 4 or len(np.unique(self.flat[again])) < 2:
            return False
        self.take(refined(made, self.points[np.unique(self.corners[again])]), again)
        return True

    def _cone_about(self, seed: int, origins: Floats, ways: Floats, p: Floats) -> bool:
        """Grow a cone about one of some axes from a seed, where the corners (n,3) about it lie on one: each corner of a
        chamfered nut has too little of a cone to tell it."""
        made = cone_about(origins, ways, p, 2.0 * self.tolerance)
        if made is None:
            return False
        again = self._even(made, self._grown(made, self.tolerance, seed), seed)
        if len(again) < _FLATS + 1 or len(np.unique(self.flat[again])) < _FLATS:
            return False
        self.take(made, again)
        return True

    def _axes(self) -> tuple[Floats, Floats]:
        """A point (k,3) on each axis of what was found, and its way (k,3); each line once."""
        if self._lines[0] != len(self.found):
            frames = [s.frame for s in self.found if isinstance(s, Cylinder | Cone | Torus)]
            ways = np.array([f.z for f in frames]).reshape(-1, 3)
            ways *= np.sign(ways[np.arange(len(ways)), np.abs(ways).argmax(axis=1)])[:, None]
            origins = np.array([f.origin for f in frames]).reshape(-1, 3)
            origins -= (origins * ways).sum(axis=1)[:, None] * ways
            told = np.concatenate([np.round(ways, 5), np.round(origins / (1e-5 * self.scale))], axis=1)
            first = np.sort(np.unique(told, axis=0, return_index=True)[1])
            self._lines = len(self.found), origins[first], ways[first]
        return self._lines[1:]

    def tube(self, seed: int) -> bool:
        """Grow a torus about one of the axes of what was found from a seed: three of the corners around it say which,
        the others whether."""
        origins, ways = self._axes()
        rows = self.hood(seed, _AROUND)
        if not len(origins) or len(rows) < _AROUND:
            return False
        own = self.corners[seed]
        p = self.points[np.concatenate([own, np.setdiff1d(self.corners[rows], own)])]
        away, along = _about(origins, ways, p)
        for k, r, z, tube in tubes(away, np.ascontiguousarray(along), 2.0 * self.tolerance).tolist():
            made = Torus(Frame.of(origins[int(k)] + z * ways[int(k)], ways[int(k)]), r, tube)
            again = self._grown(made, 4.0 * self.tolerance, seed)
            if len(again) < FEW:
                continue
            better = refined(made, self.points[np.unique(self.corners[again])])
            again = self._even(better, self._grown(better, self.tolerance, seed), seed)
            if len(again) >= FEW and self._overdetermined(better, again):
                self.take(better, again)
                return True
        return False

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
        return (len(rows) >= FEW and off <= EXACT * self.scale) or (strips >= _STRIPS and off <= TRULY * self.scale)

    def _even(self, surface: Surface, rows: Ints, seed: int) -> Ints:
        """Of what has grown, the triangles that are chords as the others are: a flat between two fillets also has its
        corners on one cylinder with theirs, but stands far inside it."""
        if not len(rows):
            return rows
        good = rows[~self.stray(surface, rows, rows)]
        # Of a flat that it touches along a border some triangles have all their corners on it.
        for flat in np.unique(self.flat[good]).tolist():
            if self.level[flat]:
                piece = self.members[self.firsts[flat] : self.firsts[flat + 1]]
                missing = piece[(self.label[piece] < 0) & ~np.isin(piece, good)]
                beyond = int((self.flat[good] != flat).sum())
                if self.area[missing].sum() > _PART * self.area[piece].sum() or beyond < BEYOND * len(piece):
                    good = good[self.flat[good] != flat]
        if seed not in good:
            return good[:0]
        if len(good) == len(rows):
            return rows
        mask = np.zeros(len(self.corners), dtype=bool)
        mask[good] = True
        return flood(self.starts, self.other, mask, seed)

    def stray(self, surface: Surface, rows: Ints, own: Ints) -> Bools:
        """Which triangles stand further inside a surface than chords do that are as `own`, or as those beside them:
        a mesh gets coarser by and by, a flat is among strips at once."""
        sag = np.abs(surface.signed_distance(self.middle[rows]))
        known = np.isin(rows, own)
        if not known.any():  # nothing to hold them against
            return known
        ends = self.across(surface, rows)
        stray = (sag > CHORD * float(np.median(sag[known])) + self.tolerance) & ~ends
        if not stray.any():
            return ends
        # Towards an apex triangles get smaller, but turn as much.
        turn, times = np.zeros(len(self.corners)), float(np.sqrt(CHORD))  # a chord stands inside by the square of it
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
        return np.asarray(~calm[rows]) | ends

    def ruled(self, surface: Surface, rows: Ints) -> Surface:
        """A surface; instead of a sphere or torus the cone or cylinder on which its triangles lie too: two rings."""
        if isinstance(surface, Sphere | Torus):
            p = self.points[np.unique(self.corners[rows])]
            for other in self._fits(rows):
                if isinstance(other, Cone | Cylinder):
                    better = refined(other, p)
                    if float(np.abs(better.signed_distance(p)).max()) <= self.tolerance:
                        return better
        return surface

    def _by_chance(self, surface: Surface, rows: Ints) -> bool:
        """Whether a handful of triangles lie on a sphere that turns over some of them by far more than over others: a
        strip and one beside each of its ends do so where they are mirrored."""
        if not isinstance(surface, Sphere) or len(rows) >= FEW:
            return False
        turn = self._bow(surface, rows)
        return bool(turn.max() > CHORD * turn.min())

    def across(self, surface: Surface, rows: Ints) -> Bools:
        """Which triangles are of a flat across the axis of a torus: the end of what it rounds, with its rim on it."""
        if not isinstance(surface, Torus) or not len(rows):
            return np.zeros(len(rows), dtype=bool)
        flat = surface.frame.local(self.points[self.corners[rows]].reshape(-1, 3)).reshape(-1, 3, 3)[..., :2]
        nxt = np.roll(flat, -1, axis=1)
        turns = flat[..., 0] * nxt[..., 1] - flat[..., 1] * nxt[..., 0]
        slack = self.tolerance * np.linalg.norm(nxt - flat, axis=2).max(axis=1)
        around = np.abs(np.sign(np.where(np.abs(turns) > slack[:, None], turns, 0.0)).sum(axis=1)) >= 2.0
        hit = around & (np.linalg.norm(flat, axis=2).min(axis=1) > 4.0 * self.tolerance)
        return np.isin(self.flat[rows], self.flat[rows[hit]])

    def _bow(self, surface: Surface, rows: Ints) -> Floats:
        """How far (the chord of the angle) a surface turns from one corner to another of each of some triangles."""
        n = surface.normal(self.points[self.corners[rows]].reshape(-1, 3)).reshape(-1, 3, 3)
        return np.asarray(np.linalg.norm(n - np.roll(n, -1, axis=1), axis=2).max(axis=1))

    def _alike(self, seed: int, over: Bools | None = None) -> list[Ints]:
        """Neighbourhoods within which triangles turn by the same angle from one to the next, as the strips of a
        cylinder do, for each angle by which the seed's flat piece goes on; over some links only."""
        own = self.piece(seed)
        turns = np.concatenate([self.soft_turn[self.soft_starts[i] : self.soft_starts[i + 1]] for i in own.tolist()])
        out = list[Ints]()
        over = self.every if over is None else over
        angles, often = np.unique(np.round(turns[turns > FLAT], 4), return_counts=True)
        for angle in angles[np.argsort(-often, kind="stable")][:_ANGLES].tolist():
            out.append(
                alike(self.soft_starts, self.soft_other, self.soft_turn, over, self.label, seed, 120, angle, FLAT)
            )
        return sorted(out, key=lambda rows: -len(rows))[:4]

    def _fits(self, rows: Ints) -> list[Surface]:
        """The round surface through the corners of some triangles comes last; before a sphere cones and cylinders on
        which they lie too: so two rings of corners do."""
        return likeliest(self.rounds(rows, 8.0 * self.tolerance))

    def rounds(self, rows: Ints, near: float) -> list[tuple[float, Surface]]:
        """As of `rounds_of`, of some triangles."""
        return rounds_of(self.points, self.corners[rows], self.normal[rows], near)

    def smooth(self, seed: int) -> bool:
        """Whether the flat piece of a seed goes smoothly on into another that is free."""
        own = self.piece(seed)
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
            if all(float(n @ way) < np.cos(FLAT) for way in ways):
                ways.append(n)
            if len(ways) > 3:
                return len(first)
        wide = []
        for way in ways:
            own = rows[self.normal[rows] @ way > np.cos(FLAT)]
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
        return max(area) < _ALIKE * min(area) and self._goes_on(surface, rows)

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

    def plane(self, seed: int) -> None:
        own = np.flatnonzero((self.flat == self.flat[seed]) & (self.label < 0))
        p = self.points[np.unique(self.corners[own])]
        middle = p.mean(axis=0)
        way = np.linalg.svd(p - middle, full_matrices=False)[2][-1]
        way = way if float(way @ self.normal[seed]) > 0.0 else -way
        surface = Plane.of(middle, way)
        grown = self._grown(surface, self.tolerance, seed)
        if not len(grown):
            if not self.free:
                self.take(None, own)
            return
        self.take(refined(surface, self.points[np.unique(self.corners[grown])]), grown)

    def take(self, surface: Surface | None, rows: Ints) -> None:
        self.label[rows] = len(self.found)
        self.found.append(surface)


def _about(origins: Floats, ways: Floats, p: Floats) -> tuple[Floats, Floats]:
    """How far (k,n) points (n,3) are from axes, and how far (k,n) along them."""
    d = p[None] - origins[:, None]
    along = np.einsum("knj,kj->kn", d, ways)
    return np.linalg.norm(d - along[..., None] * ways[:, None], axis=2), along


def cone_about(origins: Floats, ways: Floats, p: Floats, near: float) -> Cone | None:
    """The cone about one of some axes (k,3) whose distances from points (n,3) are within `near` (mm): these go evenly
    with how far they are along it. None where there is none."""
    if len(p) < _CORNERS or not len(origins):
        return None
    away, along = _about(origins, ways, p)
    z, r = (x - x.mean(axis=1, keepdims=True) for x in (along, away))
    steep = (z * r).sum(axis=1) / np.maximum((z * z).sum(axis=1), 1e-300)
    off = np.abs(r - steep[:, None] * z).max(axis=1)
    off[(np.abs(np.log(np.maximum(np.abs(steep), 1e-9))) > _STEEP) | (np.ptp(z, axis=1) < 4.0 * near)] = np.inf
    k = int(np.argmin(off))
    if off[k] > near:
        return None
    foot = origins[k] + float(along[k].mean()) * ways[k]
    return Cone.of(foot, ways[k], float(away[k].mean()), float(np.arctan(steep[k])))
