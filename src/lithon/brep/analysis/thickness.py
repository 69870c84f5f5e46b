"""Thickness of the solid behind its surface, and clearance before it, by rays through the tessellation and by inscribed
balls: a wall that is not straight across is as thick as the ball that fits in.

After an edit only what changed is looked at again: the samples of faces that are still there keep what they met, unless
that is gone or something new stands nearer.
"""

from __future__ import annotations

import functools
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Bools, Floats, Ints, cross_product
from lithon.brep.copies import Copy, copy_of, origin_of, root_of
from lithon.brep.tessellation.sampling import spread_inside
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import tree_of, triangle_normals
from lithon.brep.topology import Body, Face, rough_box
from lithon.geometry.balls import inscribed
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.surfaces import Plane
from lithon.remembered import Remembered

#: Samples beyond which they are thinned.
_MOST = 150_000
#: What a ray leaves behind it (shares of the diagonal): where it comes from.
_LEAST = 1e-7
#: Balls are at most this share of the diagonal wide, and told only where they are this much narrower than the ray is
#: long: below that the chords of curved faces speak.
_WIDEST, _SLIM = 1.0 / 12.0, 0.97
#: Within a far side a ball touches it straight on (cosine), but for the chords.
_STRAIGHT = 0.98
#: A body that keeps this share of another's faces is looked at as a change of that one.
_ALIKE = 0.7
#: And whose diagonal is the same but for this share.
_GROWN = 1e-3
#: Sample points, distances, face uses on both sides, cosines.
Field = tuple[Floats, Floats, Ints, Ints, Floats]


@dataclass(frozen=True, slots=True, eq=False)
class _Rays:
    """Rays sent off from `spots` (n,3) along `ways` (n,3), the outward normals there times a sense of 1 or -1: how
    far they went (n,), from which face use (n,) to which (n,), -1 where nowhere, and the cosine (n,) between the
    normals. Balls there: their diameter (n,), infinite where a ray does as well, where they touch (n,3) which face
    use (n,), the cosine (n,), whether that is on its rim (n,), and whether they are `sure` (n,): nothing stands between
    their middle and that place."""

    spots: Floats
    ways: Floats
    own: Ints
    distance: Floats
    far: Ints
    facing: Floats
    wide: Floats
    touch: Floats
    held: Ints
    lean: Floats
    rim: Bools
    sure: Bools

    @staticmethod
    def ready(spots: Floats, ways: Floats, own: Ints) -> _Rays:
        """Those that have met nothing yet."""
        n = len(spots)
        apart = np.full(n, np.inf)
        return _Rays(spots, ways, own, apart, np.full(n, -1), np.ones(n), apart.copy(), np.zeros((n, 3)),
                     np.full(n, -1), np.ones(n), np.zeros(n, dtype=bool), np.zeros(n, dtype=bool))  # fmt: skip

    @staticmethod
    def joined(a: _Rays, b: _Rays) -> _Rays:
        return _Rays(*(np.concatenate([getattr(a, name), getattr(b, name)]) for name in _Rays.__slots__))

    def taken(self, stays: Ints, to: Ints) -> _Rays:
        """Some of them, where face uses have other numbers: `to` (m,), -1 for one that is gone with what met it."""
        lost, slack = ((use[stays] >= 0) & (to[use[stays]] < 0) for use in (self.far, self.held))
        slack |= ~self.sure[stays]
        return _Rays(
            self.spots[stays],
            self.ways[stays],
            to[self.own[stays]],
            np.where(lost, np.inf, self.distance[stays]),
            np.where(lost | (self.far[stays] < 0), -1, to[self.far[stays]]),
            np.where(lost, 1.0, self.facing[stays]),
            np.where(slack, np.inf, self.wide[stays]),
            self.touch[stays],
            np.where(slack | (self.held[stays] < 0), -1, to[self.held[stays]]),
            np.where(slack, 1.0, self.lean[stays]),
            self.rim[stays] & ~slack,
            self.sure[stays] & ~slack & ~lost,
        )

    def moved(self, copy: Copy) -> _Rays:
        """As they are in a copy of the body."""
        return replace(self, spots=copy.points(self.spots), ways=copy.ways(self.ways), touch=copy.points(self.touch))

    def meet(self, rows: Ints, skin: _Skin, sense: float, least: float, most: float) -> None:
        """Let some of the rays (rows (k,)) meet a skin, where it is nearer than what they have met."""
        which, there = skin.tree.first_hits(self.spots[rows], self.ways[rows], least, most)
        nearer = (which >= 0) & (there < self.distance[rows])
        rows, which = rows[nearer], which[nearer]
        self.distance[rows], self.far[rows] = there[nearer], skin.owner[which]
        self.facing[rows] = sense * (self.ways[rows] * skin.normals[which]).sum(axis=1)

    def swell(self, rows: Ints, skin: _Skin, sense: float, most: float) -> None:
        """Let balls grow at some places (rows (k,)) until they touch a skin, no wider than `most` or a ray is long."""
        room = np.minimum(self.distance[rows], most)
        start = 0.5 * np.minimum(room, self.wide[rows])
        radius, which, at = inscribed(skin.tree, skin.normals, self.spots[rows], self.ways[rows], sense, start)
        less = (which >= 0) & (2.0 * radius < _SLIM * room)
        rows, which = rows[less], which[less]
        self.wide[rows], self.touch[rows], self.held[rows] = 2.0 * radius[less], at[less], skin.owner[which]
        self.lean[rows] = sense * (self.ways[rows] * skin.normals[which]).sum(axis=1)
        middle = self.spots[rows] + 0.5 * self.wide[rows, None] * self.ways[rows]
        straight = -sense * ((self.touch[rows] - middle) * skin.normals[which]).sum(axis=1) / (0.5 * self.wide[rows])
        self.rim[rows] = straight < np.where(skin.plane[which], 1.0 - 1e-9, _STRAIGHT)
        self.sure[rows] = False

    def settle(self, skins: Sequence[_Skin], new: _Skin | None = None) -> None:
        """Forget balls that are wider than the ray is long, those that touch a rim, where there is no far side to be
        meshed against, and those between whose middle and the place that they touch something stands: of those that
        are sure only a new skin can."""
        out = (self.wide > _SLIM * self.distance) | self.rim
        for k, skin in enumerate((*skins, *([new] if new is not None else []))):
            rows = np.flatnonzero((~self.sure | (k == len(skins))) & ~out & (self.held >= 0))
            if len(rows):
                middle = self.spots[rows] + 0.5 * self.wide[rows, None] * self.ways[rows]
                way = self.touch[rows] - middle
                long = np.linalg.norm(way, axis=1)
                there = skin.tree.first_hits(middle, way / long[:, None], 0.0, float(long.max()))[1]
                out[rows[there < 0.999 * long]] = True
        self.sure[:] = True
        blocked = out & (self.held >= 0)
        self.sure[blocked] = False  # what stands there may go
        self.wide[out], self.held[out], self.lean[out] = np.inf, -1, 1.0

    @property
    def field(self) -> Field:
        ball = self.held >= 0
        return (
            self.spots,
            np.where(ball, self.wide, self.distance),
            self.own,
            np.where(ball, self.held, self.far),
            np.where(ball, self.lean, self.facing),
        )


@dataclass(frozen=True, slots=True, eq=False)
class _Skin:
    """Triangles (m,3) of points (n,3) with their outward normals (m,3), face uses (m,), whether these are planes (m,),
    and tree."""

    points: Floats
    triangles: Ints
    owner: Ints
    normals: Floats
    plane: Bools
    tree: BoxTree


#: By body: what was found for each sense and reach; and bodies that were looked at whole, for others to start from.
_known = Remembered[Body, dict[tuple[float, float], Field]]("brep/analysis/thickness:known")
_whole = Remembered[Body, dict[tuple[float, float], _Rays]]("brep/analysis/thickness:whole")


def thickness(body: Body) -> Field:
    """Sample points (n,3) on the surface, the wall behind each (n,), the face use index of the
    sample (n,) and of the wall's far side (n,), and the cosine (n,) between the two outward normals.
    About one sample per 1/60 of the diagonal; cached."""
    return _across(body, -1.0, np.inf)


def thin_walls(body: Body, most: float) -> Field:
    """The same, where only walls no thicker than `most` (mm) matter, to be found in less time than all are: thicker
    ones may be told to be of no end."""
    root = root_of(body)
    key = (-1.0, np.inf)
    if key in _known.get(root, {}) or _much_like(root, key) is not None:
        return thickness(body)
    return _across(body, -1.0, most / _SLIM)


def clearance(body: Body, most: float) -> Field:
    """The same, looking out of the solid for its own surface no further away than `most`."""
    return _across(body, 1.0, most)


def _across(body: Body, sense: float, most: float) -> Field:
    copy = copy_of(body)
    if copy is not None:
        spots, distance, own, far, facing = _across(copy.body, sense, most)
        return copy.points(spots), distance, own, far, facing
    key = (sense, most)
    known = _known.setdefault(body, {})
    if key not in known:
        like = _much_like(body, key)
        for memory in (known, _whole.get(body, {})):  # of each way only the latest reach, beside all there is
            for old in [k for k in memory if k[0] == sense and np.isfinite(k[1])]:
                del memory[old]
        if like is None:
            rays = _whole.setdefault(body, {})[key] = _all(body, sense, most)
        else:
            rays = _changed(*like, body, sense, most)
        known[key] = rays.field
    return known[key]


def _much_like(body: Body, key: tuple[float, float]) -> tuple[Body, _Rays] | None:
    """The body looked at whole that this one has most faces in common with, if they are many, or a copy of one; with
    its rays."""
    own = {f.before or f for f in body.faces} | set(body.faces)
    copies = Counter(origin[0] for f in own if (origin := origin_of(f)) is not None)
    share = {other: len(own.intersection(other.faces)) for other, rays in _whole.items() if key in rays}
    share |= {Body(copy): count for copy, count in copies.items() if key in _whole.get(copy.body, {})}
    best = max(share, key=share.__getitem__, default=None)
    if best is None or share[best] < _ALIKE * max(len(body.uses), len(best.uses)):
        return None
    if abs(_reach(best) - _reach(body)) > _GROWN * _reach(body):
        return None  # how far and how densely is looked goes by the size of the whole
    copy, rays = copy_of(best), _whole[root_of(best)][key]
    return best, rays if copy is None else rays.moved(copy)


def _reach(body: Body) -> float:
    return float(np.linalg.norm(np.ptp(rough_box([body]), axis=0)))


@functools.lru_cache(maxsize=4)
def _skin(body: Body) -> tuple[_Skin, float]:
    """A body's triangles, and its diagonal (mm); of the latest few, looked at from both sides."""
    points, triangles, owner = body_mesh(body)
    scale = float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    plane = np.array([isinstance(use.face.surface, Plane) for use in root_of(body).uses])[owner]
    return _Skin(points, triangles, owner, triangle_normals(points, triangles), plane, tree_of(body)), scale


def _all(body: Body, sense: float, most: float) -> _Rays:
    skin, scale = _skin(body)
    rays = _sent_off(skin, sense, scale)
    every = np.arange(len(rays.own))
    rays.meet(every, skin, sense, _LEAST * scale, most)
    rays.swell(every, skin, sense, min(most, _WIDEST * scale))
    rays.settle([skin])
    return rays


def _sent_off(skin: _Skin, sense: float, scale: float) -> _Rays:
    """Rays from all over a skin."""
    spots, row = _samples(skin, scale)
    return _Rays.ready(spots, sense * skin.normals[row], skin.owner[row])


@functools.lru_cache(maxsize=4)
def _samples(skin: _Skin, scale: float) -> tuple[Floats, Ints]:
    """Points (n,3) all over a skin and the triangle (n,) of each, of such as have an area."""
    corners = skin.points[skin.triangles]
    cross = cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    sound = np.flatnonzero((cross**2).sum(axis=1) > 0.0)
    spots, row = spread_inside(corners[sound], scale / 60.0)
    row = sound[row]
    if len(spots) > _MOST:  # one for each face and cell is enough where triangles are many
        cells = np.round((spots - spots.min(axis=0)) / (scale / 250.0)).astype(np.int64)
        # At most 251 cells each way, and one more number for the face.
        _, first = np.unique(cells @ np.array([1, 256, 65536]) + (skin.owner[row] << 24), return_index=True)
        spots, row = spots[first], row[first]
    return spots, row


def _changed(root: Body, was: _Rays, body: Body, sense: float, most: float) -> _Rays:
    """As `_all`, from what is known of a body of which most faces are still there."""
    old, scale = _skin(root)
    place = {(use.face, use.forward): k for k, use in enumerate(root.uses)}
    to = np.full(len(root.uses), -1)
    parts: list[tuple[Face, bool, int]] = []  # what is new: a face, its sense, its use
    for k, use in enumerate(body.uses):
        before = use.face.before
        if (use.face, use.forward) in place:
            to[place[use.face, use.forward]] = k
        elif before is not None and (before, use.forward) in place:
            to[place[before, use.forward]] = k  # as it was, and the plugs of what was closed
            parts += [(plug, use.forward, k) for plug in use.face.plugs()]
        else:
            parts.append((use.face, use.forward, k))
    gone = to < 0
    left = _Skin(old.points, old.triangles, to[old.owner], old.normals, old.plane, old.tree.without(gone[old.owner]))
    stays = np.flatnonzero(~gone[was.own])
    rays = was.taken(stays, to)
    again = np.flatnonzero(~rays.sure)
    fresh = _of_parts(parts) if parts else None
    if fresh is not None:
        extra = _sent_off(fresh, sense, scale)
        again = np.concatenate([again, len(stays) + np.arange(len(extra.own))])
        rays = _Rays.joined(rays, extra)
    every, widest = np.arange(len(rays.own)), min(most, _WIDEST * scale)
    if len(again):
        rays.meet(again, left, sense, _LEAST * scale, most)
    if fresh is not None:
        rays.meet(every, fresh, sense, _LEAST * scale, most)
    if len(again):
        rays.swell(again, left, sense, widest)
    if fresh is not None:
        rays.swell(every, fresh, sense, widest)
    rays.settle([left], fresh)
    return rays


def _of_parts(parts: list[tuple[Face, bool, int]]) -> _Skin:
    points, triangles, owner, plane, base = [], [], [], [], 0
    for face, forward, use in parts:
        mesh = face_mesh(face)
        points.append(mesh.points)
        triangles.append((mesh.triangles if forward else mesh.triangles[:, ::-1]) + base)
        owner.append(np.full(len(mesh.triangles), use))
        plane.append(np.full(len(mesh.triangles), isinstance(face.surface, Plane)))
        base += len(mesh.points)
    p, t = np.concatenate(points), np.concatenate(triangles)
    return _Skin(p, t, np.concatenate(owner), triangle_normals(p, t), np.concatenate(plane), BoxTree.of(p, t))
