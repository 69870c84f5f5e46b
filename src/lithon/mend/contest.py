"""Patches of exact triangles against each other: what was found first may hold what is of another, or a part of one."""

from __future__ import annotations

from collections import defaultdict

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, rows_of
from lithon.geometry.crossing import onto_both, touch
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import circle_through, freedoms, refined
from lithon.mend.growing import BEYOND, CHORD, LEAN, SEVERAL, SURPLUS, TRULY, Growth, cone_about
from lithon.mend.links import flood

#: So many triangles further in those at the end of a face that is one chord wide are its.
_FURTHER = 3
#: So few of them lie on something round by chance.
_CRUMBS = 6
#: Of so few triangles it may be told too badly where a surface is.
_PIECE = 30
#: The share of the diagonal by which corners stand off for how they are written; what is so much nearer to another
#: surface is on that; in so many turns.
_ROUNDING, _NEARER, _TURNS = 1e-7, 0.2, 4
#: A border that stands off by less than this share of what another does is clearly nearer.
_CLEARLY = 0.7
#: Surfaces that lean less (a sine) to each other may touch near by; in scatters: how far each corner of a scan may
#: stand off both.
_LITTLE, _EACH = 0.7, 4.0
#: Nearer to a place (a share of a side) a corner is there.
_HERE = 0.3


class Contest(Growth):
    """What puts patches right that were grown one after another."""

    def contest(self) -> None:
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
            reached = self.spread_over(surface, self.tolerance, smaller, int(own[0]))
            may = np.zeros(len(self.corners), dtype=bool)
            may[reached[~self.stray(surface, reached, own)]] = True
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
                if self.label[seed] < 0 and not self.curved(seed):
                    self.plane(seed)

    def chance_flats(self) -> None:
        """Strips of several round faces that lie in one plane by chance are theirs: small flats of which every triangle
        is a chord of a round patch beside it."""
        count = np.bincount(self.label[self.label >= 0], minlength=len(self.found))
        flats = [k for k, s in enumerate(self.found) if isinstance(s, Plane) and 0 < count[k] <= 2 * SEVERAL]
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
        off = float(np.abs(surface.signed_distance(self.points[self.corners[i]])).max())
        if off > 2.0 * self.tolerance or self.across(surface, self.piece(i)).any():
            return False
        if k not in sags:
            own = np.flatnonzero(self.label == k)
            sags[k] = float(np.median(np.abs(surface.signed_distance(self.middle[own]))))
        own = np.flatnonzero(self.label == k)[:1]
        both = np.append(own, i)
        lean = (surface.normal(self.middle[both]) * self.normal[both]).sum(axis=1)
        if lean[1] * np.sign(lean[0]) < 0.0 and self._within(i, k):
            return True  # a needle turned over, as sides that are chords of an arc make some
        sag = abs(float(surface.signed_distance(self.middle[[i]])[0]))
        return bool(lean[1] * np.sign(lean[0]) > np.cos(LEAN) and sag <= CHORD * sags[k] + self.tolerance)

    def _within(self, i: int, k: int) -> bool:
        """Whether nothing but a patch is around the flat of a triangle."""
        flat = np.flatnonzero(self.label == self.label[i]).tolist()
        beside = {int(self.label[j]) for t in flat for j in self.other[self.starts[t] : self.starts[t + 1]].tolist()}
        return beside <= {k, int(self.label[i])}

    def to_the_nearer(self) -> None:
        """Triangles beside another patch that lie on its surface and stand off their own, if within what is allowed,
        are its: where two go on into each other a triangle or two beyond the border are near to both."""
        least = _ROUNDING * self.scale
        heads = np.repeat(np.arange(len(self.corners)), np.diff(self.starts))
        offs: dict[tuple[int, int], float] = {}
        for _ in range(_TURNS):
            a, b = self.label[heads], self.label[self.other]
            border = np.flatnonzero((a != b) & (a >= 0) & (b >= 0))
            asked = np.unique(np.concatenate([np.stack([heads[border], x[border]], axis=1) for x in (a, b)]), axis=0)
            fresh = [(i, k) for i, k in asked.tolist() if (i, k) not in offs]
            of = np.array(fresh, dtype=np.int64).reshape(-1, 2)
            for k, rows in enumerate(rows_of(of[:, 1], len(self.found))):
                surface = self.found[k]
                p = self.points[self.corners[of[rows, 0]]].reshape(-1, 3)
                off = np.full(len(rows), np.inf)
                if surface is not None:
                    off = np.abs(surface.signed_distance(p)).reshape(-1, 3).max(axis=1)
                offs.update(zip(map(tuple, of[rows].tolist()), off.tolist(), strict=True))
            moved = 0
            for i, k, to in np.stack([heads[border], a[border], b[border]], axis=1).tolist():
                if self.label[i] == k and offs[i, k] > least and offs[i, to] < _NEARER * offs[i, k]:
                    self.label[i] = to
                    moved += 1
            if not moved:
                return

    def about_their_axes(self) -> None:
        """Small round patches whose corners lie much nearer to a cone about the axis of a larger one are of that."""
        count = np.bincount(self.label[self.label >= 0], minlength=len(self.found))
        frames = [s.frame for s, n in zip(self.found, count.tolist(), strict=True)
                  if n > _PIECE and isinstance(s, Cylinder | Cone | Torus)]  # fmt: skip
        origins, ways = (np.array(x).reshape(-1, 3) for x in ([f.origin for f in frames], [f.z for f in frames]))
        for k in np.flatnonzero((count > 0) & (count <= _PIECE)).tolist():
            surface = self.found[k]
            if surface is None or isinstance(surface, Plane):
                continue
            p = self.points[np.unique(self.corners[self.label == k])]
            off = float(np.abs(surface.signed_distance(p)).max())
            if off > _ROUNDING * self.scale:
                self.found[k] = cone_about(origins, ways, p, _NEARER * off) or surface

    def where_they_touch(self) -> None:
        """Triangles whose corners lie on two surfaces beside each other where these touch, as where bores of one radius
        cross, go to the one for which the patches border nearer to where both are."""
        heads = np.repeat(np.arange(len(self.corners)), np.diff(self.starts))
        near = _EACH * self.noise or self.tolerance
        for _ in range(_TURNS):
            a, b = self.label[heads], self.label[self.other]
            border = np.flatnonzero((a != b) & (a >= 0) & (b >= 0))
            options = np.unique(np.stack([heads[border], a[border], b[border]], axis=1), axis=0)
            on_both = np.zeros(len(options), dtype=bool)
            pair = options[:, 1] * len(self.found) + options[:, 2]
            for rows in (np.flatnonzero(pair == one) for one in np.unique(pair).tolist()):
                one, two = (self.found[k] for k in options[rows[0], 1:].tolist())
                if one is None or two is None or isinstance(one, Plane) or isinstance(two, Plane):
                    continue
                middle = self.middle[options[rows, 0]]
                lean = np.linalg.norm(cross_product(one.normal(middle), two.normal(middle)), axis=1)
                if float(lean.max()) < _LITTLE:
                    continue  # they touch all along
                p = self.points[self.corners[options[rows, 0]]].reshape(-1, 3)
                off = np.maximum(np.abs(one.signed_distance(p)), np.abs(two.signed_distance(p)))
                on_both[rows] = (off.reshape(-1, 3).max(axis=1) <= near) & (lean < _LITTLE)
            groups = defaultdict[tuple[int, int], list[int]](list)
            spots: dict[int, Floats] = {}
            for i, k, to in options[on_both].tolist():
                if self.label[i] == k and (spot := self._touch_at(i, k, to, near)) is not None:
                    groups[k, to].append(i)
                    spots[i] = spot
            moved = 0
            for (k, to), every in groups.items():
                left = np.zeros(len(self.label), dtype=bool)
                left[every] = True
                for i in every:
                    if not left[i]:
                        continue
                    rows = flood(self.starts, self.other, left & (self.label == k), i)
                    left[rows] = False
                    if self._beside(rows, to, spots[i]) < _CLEARLY * self._beside(rows, k, spots[i]):
                        self.label[rows] = to
                        moved += 1
            if not moved:
                return

    def _touch_at(self, i: int, k: int, to: int, near: float) -> Floats | None:
        """The place (3,) at which two surfaces touch by a triangle; none where they do not."""
        one, two = self.found[k], self.found[to]
        assert one is not None and two is not None
        p = self.points[self.corners[i]]
        reach = 2.0 * float(np.linalg.norm(p - p.mean(axis=0), axis=1).max())
        spot = touch(one, two, self.middle[i], reach)
        return None if spot is None or abs(float(two.signed_distance(spot[None])[0])) > near else spot

    def _beside(self, rows: Ints, label: int, spot: Floats) -> float:
        """How far (mm) the middles of some triangles' sides to other patches would stand off both, were they of one, by
        a place (3,) at which two touch."""
        off, own = 0.0, set(rows.tolist())
        for i in rows.tolist():
            for j in self.other[self.starts[i] : self.starts[i + 1]].tolist():
                one, two = self.found[label], self.found[self.label[j]] if self.label[j] >= 0 else None
                if j in own or self.label[j] == label or one is None or two is None:
                    continue
                ends = self.points[np.intersect1d(self.corners[i], self.corners[j])]
                if self.noise:  # where they touch it cannot be told from there where their curves are
                    here = np.linalg.norm(ends - spot, axis=1) < _HERE * np.linalg.norm(ends[0] - ends[1])
                    ends = np.where(here[:, None], spot, onto_both(one, two, ends)[0])
                middle = ends.mean(axis=0)[None]
                off = max(off, *(abs(float(s.signed_distance(middle)[0])) for s in (one, two)))
        return off

    def with_crumbs(self) -> None:
        """A round face that is one chord wide has its corners on two lines, as a flat has, but at its ends, where those
        of what is beside it stand between: it is that flat and the single triangles there, or such alone."""
        count = np.bincount(self.label[self.label >= 0], minlength=len(self.found))
        flat = np.array([isinstance(s, Plane) for s in self.found], dtype=bool)
        if not len(flat):
            return
        loose = (self.label >= 0) & np.where(flat, count == 1, count <= _CRUMBS)[self.label]
        links = self._soft_links()
        ends = links[loose[links[:, 0]] & ~loose[links[:, 1]]]
        ends = ends[(self.label[ends[:, 1]] >= 0) & flat[self.label[ends[:, 1]]]]
        whole = np.unique(self.label[ends[:, 1]])
        for k in whole[np.argsort(-count[whole], kind="stable")].tolist():
            here = ends[(self.label[ends[:, 1]] == k) & loose[ends[:, 0]]]
            if not len(here):  # it went with another
                continue
            own = np.flatnonzero(self.label == k)
            near, surface = np.unique(here[:, 0]), None
            for _ in range(_FURTHER):  # further in, but what lies beyond them may be of another
                surface = self._one_round(np.append(own, near)) or surface
                near = np.union1d(near, links[np.isin(links[:, 0], near) & loose[links[:, 1]], 1])
            if surface is None:
                continue
            may = loose | np.isin(self.label, whole)
            rows = self.spread_over(surface, self.tolerance, may, int(own[0]))
            part = np.bincount(self.label[rows], minlength=len(self.found))
            rows = rows[loose[rows] | (part == np.bincount(self.label[may], minlength=len(part)))[self.label[rows]]]
            # A strip of what bends both ways is no wide flat.
            wide = not isinstance(surface, Cylinder | Cone) and len(own) >= SEVERAL
            if np.isin(own, rows).all() and not (wide and len(rows) - len(own) < BEYOND * len(own)):
                self.take(refined(surface, self.points[np.unique(self.corners[rows])]), rows)
                loose[rows] = False
        for seed in np.flatnonzero(loose).tolist():
            if loose[seed]:
                own = flood(self.soft_starts, self.soft_other, loose, seed)
                loose[own] = False
                parts = len(np.unique(self.label[own]))
                if parts > 1 and len(own) >= 4 and (surface := self._one_round(own)) is not None:
                    self.take(surface, own)

    def _soft_links(self) -> Ints:
        """Pairs (k,2) of triangles side by side over which it goes on without a crease, each both ways."""
        return np.stack([np.repeat(np.arange(len(self.corners)), np.diff(self.soft_starts)), self.soft_other], axis=1)

    def _one_round(self, rows: Ints) -> Surface | None:
        """The round surface that holds some triangles by no chance."""
        p = self.points[np.unique(self.corners[rows])]
        # Of two lines of corners those that stand between tell whether they are of one cylinder.
        level = Plane.of(p.mean(axis=0), np.linalg.svd(p - p.mean(axis=0), full_matrices=False)[2][-1])
        between = int((np.abs(level.signed_distance(p)) > 10.0 * self.tolerance).sum())
        starts = [s for _, s in sorted(self.rounds(rows, 8.0 * self.tolerance), key=lambda fit: freedoms(fit[1]))]
        for start in [*starts, *_bar_along(p)]:
            surface = self.ruled(refined(start, p), rows)
            lean = (surface.normal(self.middle[rows]) * self.normal[rows]).sum(axis=1)
            even = float((lean * np.sign(lean[0])).min()) > np.cos(LEAN)
            near = float(np.abs(surface.signed_distance(p)).max()) <= TRULY * self.scale
            more = SURPLUS if isinstance(surface, Torus) else 2
            if even and near and between >= 2 and len(p) - freedoms(surface) >= more:
                return surface
        return None

    def _both_held(self, a: int, b: int, now: Ints) -> bool:
        """Whether the surface of the larger of two patches of one round kind, made better, holds both; it is theirs
        then: of a few triangles an axis is told badly."""
        one, two = self.found[a], self.found[b]
        assert one is not None and two is not None
        if one.kind != two.kind or isinstance(one, Plane):
            return False
        rows = [np.flatnonzero(now[self.label] == k) for k in (a, b)]
        if not 0 < min(map(len, rows)) <= _PIECE:
            return False
        larger = one if len(rows[0]) >= len(rows[1]) else two
        p = self.points[np.unique(self.corners[np.concatenate(rows)])]
        joint = refined(larger, p)
        lean = [(joint.normal(self.middle[r]) * self.normal[r]).sum(axis=1) for r in rows]
        sense = np.sign(lean[0][0])
        if float(np.abs(joint.signed_distance(p)).max()) > self.tolerance or min(
            float((x * sense).min()) for x in lean
        ) < np.cos(LEAN):
            return False
        self.found[a] = joint
        return True

    def join(self) -> None:
        """Patches that touch and lie on one surface are one."""
        scale = float(np.linalg.norm(np.ptp(self.points, axis=0)))
        heads = np.repeat(np.arange(len(self.corners)), np.diff(self.starts))
        beside = np.sort(np.stack([self.label[heads], self.label[self.other]], axis=1), axis=1)
        now = list(range(len(self.found)))
        for a, b in np.unique(beside[(beside[:, 0] >= 0) & (beside[:, 0] != beside[:, 1])], axis=0).tolist():
            a, b = now[a], now[b]
            one, two = self.found[a], self.found[b]
            if a == b or one is None or two is None:
                continue
            if one.same_as(two, 2.0 * self.tolerance, scale) or self._both_held(a, b, np.array([*now, -1])):
                now = [a if k == b else k for k in now]
        self.label = np.where(self.label >= 0, np.array([*now, -1])[self.label], -1)


def _bar_along(p: Floats) -> list[Surface]:
    """The cylinder along the way in which points (n,3) reach furthest; none where they stand in one plane with it."""
    middle = p.mean(axis=0)
    ways = np.linalg.svd(p - middle, full_matrices=False)[2]
    flat = (p - middle) @ ways[1:].T
    found = circle_through(flat)
    return [] if found is None else [Cylinder(Frame.of(middle + found[0] @ ways[1:], ways[0]), found[1])]
