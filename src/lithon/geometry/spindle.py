"""Surfaces of revolution whose profile crosses the axis: spindles.

Such a surface passes through itself: each stretch of the profile between two crossings sweeps a skin of its own, which
ends at the axis in poles (of a circle: the outer one has the shape of an apple, the inner one that of a lemon). A face
lies on one of them. On that the closest point is well defined and the chart has a pole where it should.
"""

from __future__ import annotations

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.geometry.curves import Circle
from lithon.geometry.frames import Frame
from lithon.geometry.rational import rational
from lithon.geometry.surfaces import Surface
from lithon.geometry.swept import Revolution, profile_range
from lithon.geometry.tori import Torus


def spindle(torus: Torus) -> Revolution:
    """The whole self-crossing surface that a circle about an axis which it crosses makes; its normal is that of
    ISO 10303-42: along u x v, u the angle about the axis and v that about the spine."""
    f = torus.frame
    tube = Circle.about(Frame.of(f.origin + torus.major * f.x, -f.y, f.x), torus.minor)
    return Revolution.of(tube, f.origin, -f.z)


def skins(surface: Surface) -> list[Revolution]:
    """The skins of a surface of revolution whose profile crosses its axis; none where it does not, or is no conic or
    spline in a plane that holds the axis."""
    if not isinstance(surface, Revolution):
        return []
    if "skins" not in surface._kept:
        surface._kept["skins"] = _skins(surface)
    made: list[Revolution] = surface._kept["skins"]
    return made


def _skins(surface: Revolution) -> list[Revolution]:
    profile, frame = surface.profile, surface.frame
    low, high = profile_range(profile)
    grid = np.linspace(low, high, 513)
    local = frame.local(profile.point(grid))
    away = np.hypot(local[:, 0], local[:, 1])
    far = int(away.argmax())
    size = float(np.ptp(local, axis=0).max()) + float(away[far])
    if away[far] < 1e-12 * size:
        return []
    way = local[far, :2] / away[far]
    if np.abs(local[:, :2] @ np.array([-way[1], way[0]])).max() > 1e-9 * size:
        return []

    def signed(t: float) -> float:
        return float(frame.local(profile.point(np.array([t])))[0, :2] @ way)

    values = local[:, :2] @ way
    values[np.abs(values) < 1e-12 * size] = 0.0
    cuts = []
    for k in np.flatnonzero(values[:-1] * values[1:] < 0.0):
        cuts.append(float(scipy.optimize.brentq(signed, grid[k], grid[k + 1], xtol=1e-15, rtol=1e-15)))
    # What is on the axis just at a sample, and goes through it there.
    inner = np.flatnonzero((values[1:-1] == 0.0) & (values[:-2] * values[2:] < 0.0)) + 1
    cuts = sorted([*cuts, *grid[inner].tolist()])
    if not cuts:
        return []
    if profile.period is not None:
        spans = list(zip(cuts, [*cuts[1:], cuts[0] + float(profile.period)], strict=True))
    else:
        spans = list(zip([low, *cuts], [*cuts, high], strict=True))
    try:
        return [Revolution(rational(profile, a, b), frame) for a, b in spans if b - a > 1e-9 * (high - low)]
    except ValueError:
        return []


def skin_at(torus: Torus, point: Floats) -> tuple[Revolution, bool]:
    """The skin of a self-crossing torus on which a point (3,) lies, and whether its normal looks the same way: away
    from the circle along which the tube runs."""
    made = narrowed(torus, point[None])
    assert isinstance(made, Revolution)
    return made, float((made.normal(point[None]) * torus.normal(point[None])).sum()) > 0.0


def narrowed(surface: Surface, points: Floats) -> Surface:
    """The skin of a self-crossing surface on which points (n,3) lie; the surface itself where it does not cross itself
    or no skin of it is nearer than the others."""
    if isinstance(surface, Torus) and surface.minor > abs(surface.major):
        surface = spindle(surface)
    parts = skins(surface)
    if len(parts) < 2 or not len(points):
        return surface
    off = [float(np.abs(part.signed_distance(points)).max()) for part in parts]
    return parts[int(np.argmin(off))]
