"""Planes through tori and surfaces of revolution, aslant or beside the axis, without marching.

At a place t of the profile (radius rho, height z) the plane n . x = d is met where cos(theta) = q(t), with
q = (d - n_z z) / (n_r rho): two angles where |q| < 1, one where |q| = 1, none beyond. So the section is known as soon
as the stretches of t with |q| <= 1 are, and these are found from roots in one variable, however little the plane leans
against the surface or however nearly it touches it. Each stretch gives one closed curve, or two where it goes all the
way round; stretches part where the plane just touches.
"""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats, unit
from lithon.geometry.crossing import Crossing, guide
from lithon.geometry.curves import TURN
from lithon.geometry.frames import Frame
from lithon.geometry.splines import BSplineCurve
from lithon.geometry.surfaces import Plane
from lithon.geometry.swept import Revolution, profile_range
from lithon.geometry.tori import Torus
from lithon.progress import pulse

#: Samples along a profile in which stretches are sought, and the turn between two points of a guide.
_SAMPLES, _TURN = 768, 0.12
#: A plane that leans less than this towards the axis meets the surface in what is nearly circles: left to others.
_LEAST = 1e-7

Half = Callable[[Floats], tuple[Floats, Floats]]


@dataclass(frozen=True, slots=True)
class _Turned:
    """A surface about an axis: radius and height along its profile, from low to high; `period` where it closes."""

    frame: Frame
    half: Half
    low: float
    high: float
    period: float | None
    knots: Floats


def _turned(surface: Torus | Revolution) -> _Turned:
    if isinstance(surface, Torus):
        big, small = surface.major, surface.minor

        def tube(t: Floats) -> tuple[Floats, Floats]:
            return big + small * np.cos(t), small * np.sin(t)

        if big > small:
            return _Turned(surface.frame, tube, 0.0, TURN, TURN, np.zeros(0))
        end = float(np.arccos(-big / small))
        return _Turned(surface.frame, tube, -end, end, None, np.zeros(0))

    def profile(t: Floats) -> tuple[Floats, Floats]:
        rz = surface._half(t)
        return rz[..., 0], rz[..., 1]

    low, high = profile_range(surface.profile)
    knots = np.unique(surface.profile.knots) if isinstance(surface.profile, BSplineCurve) else np.zeros(0)
    return _Turned(surface.frame, profile, low, high, surface.profile.period and high - low, knots)


def plane_turned(plane: Plane, surface: Torus | Revolution, tolerance: float) -> list[Crossing] | None:
    """The curves that a plane and a turned surface have in common; None where the plane stands across the axis."""
    s = _turned(surface)
    normal = np.array([s.frame.x, s.frame.y, s.frame.z]) @ plane.frame.z
    across = float(np.hypot(normal[0], normal[1]))
    if across < _LEAST:
        return None
    away = float((plane.frame.origin - s.frame.origin) @ plane.frame.z)
    start = float(np.arctan2(normal[1], normal[0]))

    def margin(t: Floats) -> tuple[Floats, Floats]:
        """How far within reach the plane is on its near side and on its far side (mm): both above 0 where it is met."""
        rho, z = s.half(t)
        goal = away - normal[2] * z
        return across * rho - goal, across * rho + goal

    stretches = _stretches(s, margin, tolerance)
    if stretches is None:
        return None

    def angle(t: Floats) -> Floats:
        low, high = margin(t)
        return 2.0 * np.arctan2(np.sqrt(np.maximum(low, 0.0)), np.sqrt(np.maximum(high, 0.0)))

    def place(t: Floats, sign: Floats) -> Floats:
        rho, z = s.half(t)
        theta = start + sign * angle(t)
        return np.asarray(s.frame.world(np.stack([rho * np.cos(theta), rho * np.sin(theta), z], axis=-1)))

    out: list[Crossing] = []
    for a, b, whole in stretches:
        pulse("where a plane cuts a turned surface")
        at = np.array([a, b])
        # On the axis itself they do not go on into each other: there a tip turns them.
        ends = ((np.minimum(*margin(at)) < 1e3 * tolerance) & (s.half(at)[0] > tolerance)).tolist()
        for points, closed in _runs(place, a, b, whole, ends):
            if len(points) > 4 and float(np.ptp(points, axis=0).max()) > 10.0 * tolerance:
                out.append(Crossing(surface, plane, guide(points, closed)))
    return out


def _stretches(
    s: _Turned, margin: Callable[[Floats], tuple[Floats, Floats]], tolerance: float
) -> list[tuple[float, float, bool]] | None:
    """Where both margins are above 0: from, to, and whether it is all of a closed profile. They part where one only
    touches 0, within a tolerance."""
    grid = np.unique(np.concatenate([np.linspace(s.low, s.high, _SAMPLES + 1), s.knots]))
    low, high = margin(grid)
    cuts: list[float] = []
    touches: list[float] = []
    root = scipy.optimize.brentq
    exact = 1e-13 * float(np.abs([low, high]).max(initial=0.0))
    for k, values in enumerate((low, high)):
        values[np.abs(values) < exact] = 0.0  # as at a pole that the plane passes: which way rounding turns is chance

        def one(t: float, k: int = k) -> float:
            return float(margin(np.array([t]))[k][0])

        for i in np.flatnonzero(values[:-1] * values[1:] < 0.0):
            cuts.append(float(root(one, grid[i], grid[i + 1], xtol=1e-15, rtol=1e-14)))
        cuts += grid[1:-1][(values[1:-1] == 0.0) & (values[:-2] * values[2:] < 0.0)].tolist()
        # A dip between two samples may reach 0 and come back; one that all but does is a touch.
        dips = np.flatnonzero((values[1:-1] <= values[:-2]) & (values[1:-1] <= values[2:])) + 1
        for i in dips:
            lower, upper = grid[i - 1], grid[i + 1]
            found = scipy.optimize.minimize_scalar(
                one, bounds=(lower, upper), method="bounded", options={"xatol": 1e-12}
            )
            bottom, least = float(found.x), float(found.fun)
            if values[i] > 0.0 and least < -tolerance:
                cuts += [
                    float(scipy.optimize.brentq(one, lower, bottom)),
                    float(scipy.optimize.brentq(one, bottom, upper)),
                ]
            elif abs(least) <= tolerance and values[i - 1] > 0.0 and values[i + 1] > 0.0:
                touches.append(bottom)
    stops = sorted({*cuts, *touches})
    if not stops and s.period is not None:
        return [(s.low, s.high, True)] if min(float(low.min()), float(high.min())) > 0.0 else []
    if s.period is not None:
        spans = list(zip(stops, [*stops[1:], stops[0] + s.period], strict=True))
    else:
        spans = list(zip([s.low, *stops], [*stops, s.high], strict=True))
    size = s.high - s.low
    out = []
    for a, b in spans:
        if b - a > 1e-12 * size:
            inner = margin(np.array([0.5 * (a + b)]))
            if min(float(inner[0][0]), float(inner[1][0])) > 0.0:
                out.append((a, b, False))
    return out


def _runs(
    place: Callable[[Floats, Floats], Floats], a: float, b: float, whole: bool, ends: list[bool]
) -> list[tuple[Floats, bool]]:
    """Points along each curve over a stretch, and whether it closes. ends: whether its two sides meet there."""
    if whole or not any(ends):  # two curves, side by side

        def side(sign: float) -> Floats:
            return _sampled(lambda u: place(a + (b - a) * u, np.full(len(u), sign)))

        return [(side(sign), whole) for sign in (1.0, -1.0)]

    def around(u: Floats) -> Floats:
        """Once along one side and back along the other, slowly where they meet: there the angle goes as a root."""
        v = np.mod(u, 1.0) if all(ends) else u  # an open one ends on its other side
        share = 0.5 - 0.5 * np.cos(TURN * v) if all(ends) else np.sin(0.5 * np.pi * (2.0 * v - 1.0)) ** 2
        if not ends[0] and ends[1]:
            share = 1.0 - share
        sign = np.where(v <= 0.5, 1.0, -1.0)
        return place(a + (b - a) * share, sign)

    return [(_sampled(around), all(ends))]


def _sampled(run: Callable[[Floats], Floats]) -> Floats:
    """Points along a curve over 0..1, the denser the more it turns."""
    u = np.linspace(0.0, 1.0, 49)
    for _ in range(14):
        p = run(u)
        step = np.diff(p, axis=0)
        long = np.linalg.norm(step, axis=1)
        way = unit(step)
        turn = np.arccos(np.clip((way[1:] * way[:-1]).sum(axis=1), -1.0, 1.0))
        worth = long > 1e-9 * long.sum()
        rough = np.zeros(len(step), dtype=bool)
        sharp = (turn > _TURN) & worth[1:] & worth[:-1]
        rough[:-1] |= sharp
        rough[1:] |= sharp
        uneven = np.flatnonzero((long[1:] > 4.0 * long[:-1]) | (long[:-1] > 4.0 * long[1:]))
        bigger = np.where(long[uneven] > long[uneven + 1], uneven, uneven + 1)
        rough[bigger[worth[bigger]]] = True
        if not rough.any() or len(u) > 4000:
            break
        u = np.sort(np.concatenate([u, 0.5 * (u[:-1] + u[1:])[rough]]))
    p = run(u)
    keep = np.concatenate([[True], np.linalg.norm(np.diff(p, axis=0), axis=1) > 1e-12 * (1.0 + np.abs(p).max())])
    return np.asarray(p[keep])
