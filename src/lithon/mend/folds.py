"""Two planes that meet: what a scan of them lies on as well as on a round surface, where few corners tell it."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, flag
from lithon.geometry.surfaces import Plane

#: So many numbers a fold has: two for the way of either plane, one for its place.
NUMBERS = 6
#: So few corners do not tell a plane, and so many are enough to look at.
_FEWEST, _MOST = 3, 600
#: Shares of the corners on one side of where a fold may be, to begin with; rounds to bring it nearer.
_CUTS, _ROUNDS = (0.1, 0.2, 0.35, 0.5, 0.65, 0.8, 0.9), 8
#: A round surface turns by less (radians) from one chord to the next.
_COARSEST = np.radians(60.0)
#: A plane leans from that of all corners by less (the cosine): one that stands upright along their border is no side.
_UPRIGHT = 0.5


@dataclass(frozen=True, slots=True, eq=False)
class Fold:
    """Two planes, of which one side of their common line counts, and how far (mm, root mean square) the points that it
    was found for stand off; `ridge`: they are seen from within, like those of a roof."""

    planes: tuple[Plane, Plane]
    ridge: bool
    off: float

    def first(self, points: Floats) -> Bools:
        """Which points (n,3) lie nearer to the first plane's side."""
        one, two = (plane.signed_distance(points) for plane in self.planes)
        return np.asarray((one >= two) if self.ridge else (one <= two))

    @property
    def turn(self) -> float:
        """The angle (radians) by which the second plane is turned from the first."""
        return float(np.arccos(np.clip(self.planes[0].frame.z @ self.planes[1].frame.z, -1.0, 1.0)))

    @property
    def sharp(self) -> bool:
        """Whether nobody would divide a round surface so coarsely that it turns like this."""
        return self.turn > _COARSEST

    def smaller(self, points: Floats) -> float:
        """How far (mm) those of points (n,3) that are of the side of fewer reach off the other plane, at the most."""
        first = self.first(points)
        side, other = (first, 1) if first.sum() <= len(first) // 2 else (~first, 0)
        return float(np.abs(self.planes[other].signed_distance(points[side])).max(initial=0.0))


def fold_through(p: Floats) -> Fold | None:
    """The fold nearest to points (n,3); none where they are too few for two planes.

    Where points lie on one side of two planes' line each, a fold is the larger or the smaller of the distances from
    both. It is sought from several places along either way in which the points bend, by least squares in turns.
    """
    if len(p) < 2 * _FEWEST:
        return None
    p = p[np.linspace(0, len(p) - 1, min(len(p), _MOST)).astype(int)]
    middle = p.mean(axis=0)
    ways = np.linalg.svd(p - middle, full_matrices=False)[2]
    u, v, high = ways @ (p - middle).T
    bent = np.linalg.lstsq(np.stack([np.ones(len(p)), u, v, u * u, u * v, v * v], axis=1), high, rcond=None)[0]
    axes = np.linalg.eigh(np.array([[2.0 * bent[3], bent[4]], [bent[4], 2.0 * bent[5]]]))[1]
    best, least, ridge = np.zeros((2, 6)), np.inf, False
    for axis in axes.T:
        across = u * axis[0] + v * axis[1]
        for cut in np.quantile(across, _CUTS):
            planes, roof, off = _settled(p, across > cut, np.ascontiguousarray(ways[2]))
            if off < least:
                best, ridge, least = planes, roof, off
    if not np.isfinite(least):
        return None
    one, two = (Plane.of(plane[:3], plane[3:]) for plane in best)
    return Fold((one, two), ridge, least)


@njit(cache=True)
def _settled(p: Floats, side: Bools, up: Floats) -> tuple[Floats, bool, float]:
    """The fold that points (n,3) lead to which are parted like this: its two planes (2,6), each a point and a normal
    that looks as `up` does, whether it is a ridge, and how far off it the points are; infinite where there is none."""
    best, planes = np.zeros((2, 6)), np.zeros((2, 6))
    ridge, least = False, np.inf
    side, off = side.copy(), np.empty((len(p), 2))
    for _ in range(_ROUNDS):
        many = side.sum()
        if min(many, len(p) - many) < _FEWEST:
            break
        _level(p, side, flag(True), up, planes[0])
        _level(p, side, flag(False), up, planes[1])
        if min((planes[0, 3:] * up).sum(), (planes[1, 3:] * up).sum()) < _UPRIGHT:
            break
        above = below = 0.0
        for k in range(len(p)):
            for j in range(2):
                off[k, j] = ((p[k] - planes[j, :3]) * planes[j, 3:]).sum()
            above += max(off[k, 0], off[k, 1]) ** 2
            below += min(off[k, 0], off[k, 1]) ** 2
        mean = np.sqrt(min(above, below) / len(p))
        if mean >= least:
            break
        best[:], ridge, least = planes, above < below, mean
        for k in range(len(p)):
            side[k] = off[k, 0] >= off[k, 1] if ridge else off[k, 0] <= off[k, 1]
    return best, ridge, least


@njit(cache=True)
def _level(p: Floats, side: Bools, which: bool, up: Floats, out: Floats) -> None:
    """The plane (6,), a point and the normal that looks as `up` does, nearest to the points (n,3) of a side."""
    middle, spread, count = np.zeros(3), np.zeros((3, 3)), 0
    for k in range(len(p)):
        if side[k] == which:
            middle += p[k]
            count += 1
    middle /= count
    for k in range(len(p)):
        if side[k] == which:
            for i in range(3):
                for j in range(3):
                    spread[i, j] += (p[k, i] - middle[i]) * (p[k, j] - middle[j])
    way = np.linalg.eigh(spread)[1][:, 0]
    out[:3] = middle
    out[3:] = way if (way * up).sum() > 0.0 else -way
