"""Surfaces brought nearest to points: least squares on a surface's own numbers."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, cross_product, unit
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface


def torus_near(p: Floats, n: Floats) -> Surface | None:
    """A torus about the axis that all normals meet: the linear complex nearest to them (Pottmann & Wallner 2001)."""
    middle = p.mean(axis=0)
    scale = float(np.ptp(p, axis=0).max())
    q = (p - middle) / scale
    rows = np.concatenate([cross_product(q, n), n], axis=1)
    # Minimise |rows x| with the direction part of length one: a generalised eigenproblem.
    m = rows.T @ rows
    inner = m[:3, :3] - m[:3, 3:] @ np.linalg.pinv(m[3:, 3:], rcond=1e-10) @ m[3:, :3]
    axis = np.linalg.eigh(inner)[1][:, 0]
    moment = -np.linalg.pinv(m[3:, 3:], rcond=1e-10) @ m[3:, :3] @ axis
    foot = middle + scale * cross_product(axis, moment)
    frame = Frame.of(foot, axis)
    local = frame.local(p)
    flat = np.column_stack([np.hypot(local[:, 0], local[:, 1]), local[:, 2]])
    rows2 = np.column_stack([2.0 * flat, np.ones(len(flat))])
    found, _, rank, _ = np.linalg.lstsq(rows2, (flat**2).sum(axis=1), rcond=1e-12)
    if rank < 3:
        return None
    minor = float(np.sqrt(max(found[2] + found[:2] @ found[:2], 0.0)))
    major = float(found[0])
    if not 0.0 < minor < 50.0 * scale or major < minor * 1.0001:
        return None
    return Torus(frame.shifted(found[1] * frame.z), major, minor)


def refined(surface: Surface, p: Floats, rounds: int = 12) -> Surface:
    """A surface brought nearest to points (n,3), in the sense of least squares (Gauss-Newton on its own numbers)."""
    best, cost = surface, float((surface.signed_distance(p) ** 2).sum())
    for _ in range(rounds):
        steps = freedoms(best)
        base = best.signed_distance(p)
        jacobian = np.stack([(s(h).signed_distance(p) - base) / h for s, h in steps], axis=1)
        move = np.linalg.lstsq(jacobian, -base, rcond=1e-10)[0]
        made = best
        try:
            for k, x in enumerate(move.tolist()):
                made = freedoms(made)[k][0](x)
        except ValueError:
            break
        fresh = float((made.signed_distance(p) ** 2).sum())
        if not fresh < cost:
            break
        best, gain, cost = made, cost - fresh, fresh
        if gain < 1e-6 * cost or cost < 1e-26 * len(p):
            break
    return best


def freedoms(s: Surface) -> list:  # type: ignore[type-arg]
    """Ways to change a surface by a number, and a small one of each."""
    f = s.frame
    scale = 1e-6 * max(1.0, float(getattr(s, "radius", getattr(s, "major", 1.0))))

    def shifted(way: Floats):  # type: ignore[no-untyped-def]
        return lambda h: _with_frame(s, f.shifted(h * way))

    def tilted(way: Floats):  # type: ignore[no-untyped-def]
        return lambda h: _with_frame(s, Frame.of(f.origin, unit(f.z + h * way), f.x))

    tilts = [(tilted(f.x), 1e-6), (tilted(f.y), 1e-6)]
    across = [(shifted(f.x), scale), (shifted(f.y), scale)]
    up = [(shifted(f.z), scale)]
    if isinstance(s, Plane):
        return [*up, *tilts]
    if isinstance(s, Sphere):
        return [*across, *up, (lambda h: Sphere(f, _above(s.radius + h)), scale)]
    if isinstance(s, Cylinder):
        return [*across, *tilts, (lambda h: Cylinder(f, _above(s.radius + h)), scale)]
    if isinstance(s, Cone):
        return [*across, *tilts, (lambda h: Cone(f, _above(s.radius + h), s.angle), scale),
                (lambda h: Cone(f, s.radius, _above(s.angle + h)), 1e-6)]  # fmt: skip
    assert isinstance(s, Torus)
    return [*across, *up, *tilts, (lambda h: Torus(f, _above(s.major + h), s.minor), scale),
            (lambda h: Torus(f, s.major, _above(s.minor + h)), scale)]  # fmt: skip


def _above(value: float) -> float:
    if not value > 0.0:
        raise ValueError("a radius or angle is above zero")
    return value


def _with_frame(s: Surface, frame: Frame) -> Surface:
    if isinstance(s, Plane):
        return Plane(frame)
    if isinstance(s, Cylinder):
        return Cylinder(frame, s.radius)
    if isinstance(s, Cone):
        return Cone(frame, s.radius, s.angle)
    if isinstance(s, Torus):
        return Torus(frame, s.major, s.minor)
    assert isinstance(s, Sphere)
    return Sphere(frame, s.radius)
