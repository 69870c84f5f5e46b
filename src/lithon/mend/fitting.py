"""Surfaces brought nearest to points: least squares on a surface's own numbers."""

from __future__ import annotations

from typing import Any

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
    """A surface brought nearest to points (n,3), in the sense of least squares (Gauss-Newton on its own numbers; the
    distances and their slopes as in Shakarji, *Least-squares fitting algorithms of the NIST algorithm testing system*,
    1998)."""
    kind: Any = type(surface)
    frame, numbers = surface.frame, _numbers(surface)
    off, slopes = slopes_of(kind, numbers, frame.local(p))
    cost, moved = float(off @ off), False
    for _ in range(rounds):
        move: Floats = np.asarray(np.linalg.lstsq(slopes, -off, rcond=1e-10)[0], dtype=np.float64)
        made, radii = _moved(kind, frame, move), numbers + move[5:][: len(numbers)]
        if (radii <= 0.0).any():
            break
        off, slopes = slopes_of(kind, radii, made.local(p))
        fresh = float(off @ off)
        if not fresh < cost:
            break
        frame, numbers, moved, gain, cost = made, radii, True, cost - fresh, fresh
        if gain < 1e-6 * cost or cost < 1e-26 * len(p):
            break
    return kind(frame, *numbers.tolist()) if moved else surface


#: How many numbers say where and how large a surface is.
_FREE = {Plane: 3, Sphere: 4, Cylinder: 5, Cone: 6, Torus: 7}


def freedoms(surface: Surface) -> int:
    """How many numbers say where a simple surface is, and how large."""
    return _FREE[type(surface)]


def _numbers(s: Surface) -> Floats:
    """The radii and angle of a simple surface, in the order in which it is made of them."""
    if isinstance(s, Cone):
        return np.array([s.radius, s.angle])
    if isinstance(s, Torus):
        return np.array([s.major, s.minor])
    return np.array([s.radius]) if isinstance(s, Cylinder | Sphere) else np.zeros(0)


def slopes_of(kind: type[Surface], numbers: Floats, local: Floats) -> tuple[Floats, Floats]:
    """Signed distances (n,) of points in a surface's frame (n,3), and how they change (n,5+k) with a shift along the
    frame's axes, a tilt of its z towards x and y, and the surface's numbers. What changes nothing stays 0."""
    x, y, z = local.T
    out = np.zeros((len(local), 5 + len(numbers)))
    if kind is Sphere:
        far = np.maximum(np.linalg.norm(local, axis=1), 1e-300)
        out[:, :3] = -local / far[:, None]
        out[:, 5] = -1.0
        return far - numbers[0], out
    if kind is Plane:
        out[:, 2], out[:, 3], out[:, 4] = -1.0, x, y
        return z, out
    rho = np.maximum(np.hypot(x, y), 1e-300)
    if kind is Torus:
        across = rho - numbers[0]
        far = np.maximum(np.hypot(across, z), 1e-300)
        flat, up = across / far, z / far
        off = far - numbers[1]
        out[:, 5], out[:, 6] = -flat, -1.0
    elif kind is Cone:
        cos, sin = np.cos(numbers[1]), np.sin(numbers[1])
        flat, up = np.full(len(local), cos), np.full(len(local), -sin)
        off = (rho - numbers[0]) * cos - z * sin
        out[:, 5], out[:, 6] = -cos, -(rho - numbers[0]) * sin - z * cos
    else:
        flat, up = np.ones(len(local)), np.zeros(len(local))
        off = rho - numbers[0]
        out[:, 5] = -1.0
    nx, ny = flat * x / rho, flat * y / rho
    out[:, 0], out[:, 1] = -nx, -ny
    if kind is Torus:
        out[:, 2] = -up
    out[:, 3], out[:, 4] = up * x - nx * z, up * y - ny * z
    return off, out


def _moved(kind: type[Surface], frame: Frame, move: Floats) -> Frame:
    """A frame shifted along its axes and tilted."""
    x, y, z, a, b = move[:5].tolist()
    origin = frame.origin + x * frame.x + y * frame.y + z * frame.z
    if kind is Sphere:
        return frame.shifted(origin - frame.origin)
    return Frame.of(origin, unit(frame.z + a * frame.x + b * frame.y), frame.x)
