"""Exact measures: length, area, volume, centroid, inertia, boxes.

Faces are integrated through their boundary: on a surface with flat coordinates (u, v) Green's
theorem turns the integral of f into the loop integral of -F du with F the integral of f over v.
Gauss quadrature makes that exact to rounding on planes and cylinders. No triangles are involved.
"""

from __future__ import annotations

from dataclasses import dataclass
from weakref import WeakKeyDictionary

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Body, Edge, Face, FaceUse
from lithon.geometry.surfaces import Surface

_NODES, _WEIGHTS = np.polynomial.legendre.leggauss(10)
_INNER, _INNER_WEIGHTS = np.polynomial.legendre.leggauss(5)


@dataclass(frozen=True, slots=True)
class MassProperties:
    """Of the solid at unit density: mm3, mm2, mm, and inertia (3,3) about the centroid in mm5."""

    volume: float
    area: float
    centroid: Floats
    inertia: Floats


_moments: WeakKeyDictionary[Face, Floats] = WeakKeyDictionary()
_edge_parts: WeakKeyDictionary[Edge, list[tuple[Surface, Floats]]] = WeakKeyDictionary()


def _integrands(points: Floats, normals: Floats) -> Floats:
    """(n, 14): area, area centroid (3), volume, volume moments x (3), xx yy zz (3), xy yz zx (3)."""
    x, n = points, normals
    flux = (x * n).sum(axis=1) / 3.0
    first = x**2 * n / 2.0
    second = x**3 * n / 3.0
    mixed = np.stack(
        [
            x[:, 0] ** 2 * x[:, 1] * n[:, 0] / 2.0,
            x[:, 1] ** 2 * x[:, 2] * n[:, 1] / 2.0,
            x[:, 2] ** 2 * x[:, 0] * n[:, 2] / 2.0,
        ],
        axis=1,
    )
    ones = np.ones((len(x), 1))
    return np.concatenate([ones, x, flux[:, None], first, second, mixed], axis=1)


def _face_moments(face: Face) -> Floats:
    """The integrals (14,) of `_integrands` over a face, normals as the face's own."""
    hit = _moments.get(face)
    if hit is not None:
        return hit
    total = np.zeros(14)
    for loop in face.loops:
        for coedge in loop:
            along = _edge_moments(coedge.edge, face.surface)
            total += along if coedge.forward else -along
    # Loops run clockwise in the flat where the face is turned round: area keeps its sign by that,
    # what holds the normal once more changes with it.
    if not face.along:
        total[:4] = -total[:4]
    _moments[face] = total
    return total


def _edge_moments(edge: Edge, surface: Surface) -> Floats:
    """One edge's share (14,) of the loop integral on a surface, walked forward."""
    known = _edge_parts.setdefault(edge, [])
    for other, value in known:
        if other is surface:
            return value
    pieces = max(1, edge.curve.pieces(edge.t0, edge.t1, 1e9, 0.5))
    cuts = np.linspace(edge.t0, edge.t1, pieces + 1)
    half = np.diff(cuts)[:, None] / 2.0
    t = ((cuts[:-1, None] + half) + half * _NODES).ravel()
    weight = np.broadcast_to(half * _WEIGHTS, (pieces, len(_NODES))).ravel()
    points = edge.curve.point(t)
    flat = surface.flat(points)
    du = _flat_rate(surface, points, edge.curve.derivative(t))
    span = 0.5 * flat[:, 1]
    height = np.multiply.outer(1.0 + _INNER, span)  # nodes of the inner integral, from height 0 up
    at = surface.point(np.stack([np.broadcast_to(flat[:, 0], height.shape), height], axis=-1)).reshape(-1, 3)
    values = _integrands(at, surface.normal(at)).reshape(len(_INNER), len(t), 14)
    column = np.einsum("k,t,ktf->tf", _INNER_WEIGHTS, span, values)
    value = -((weight * du) @ column)
    known.append((surface, value))
    return value


def _flat_rate(surface: Surface, points: Floats, speed: Floats) -> Floats:
    """How fast the first flat coordinate changes along an edge: the speed along the u direction."""
    if surface.kind == "plane":
        return np.asarray(speed @ surface.frame.x)
    return np.asarray((speed * np.cross(surface.frame.z, surface.normal(points))).sum(axis=1))


def face_area(face: Face) -> float:
    return float(_face_moments(face)[0])


def face_centroid(face: Face) -> Floats:
    m = _face_moments(face)
    return np.asarray(m[1:4] / m[0])


def uses_volume(uses: tuple[FaceUse, ...] | list[FaceUse]) -> float:
    """Volume (mm3) enclosed by face uses; negative for a void."""
    return float(sum(_face_moments(u.face)[4] * (1.0 if u.forward else -1.0) for u in uses))


def mass_properties(body: Body) -> MassProperties:
    m = np.zeros(14)
    for use in body.uses:
        own = _face_moments(use.face)
        m[:4] += own[:4]
        m[4:] += own[4:] * (1.0 if use.forward else -1.0)
    volume = float(m[4])
    c = m[5:8] / volume if volume else np.zeros(3)
    xx, yy, zz = m[8:11] - volume * c**2
    xy, yz, zx = m[11] - volume * c[0] * c[1], m[12] - volume * c[1] * c[2], m[13] - volume * c[2] * c[0]
    inertia = np.array([[yy + zz, -xy, -zx], [-xy, xx + zz, -yz], [-zx, -yz, xx + yy]])
    return MassProperties(volume, float(m[0]), c, inertia)


def volume(body: Body) -> float:
    return mass_properties(body).volume


def edge_box(edge: Edge) -> Floats:
    """Box (2,3), exact for lines, circles and ellipses."""
    ends = edge.curve.point(np.array([edge.t0, edge.t1]))
    if edge.curve.period is None:
        return np.stack([ends.min(axis=0), ends.max(axis=0)])
    # Each coordinate of a conic is c + a cos t + b sin t: extreme where t = atan2(b, a) + k pi.
    d0, d1 = edge.curve.derivative(np.array([0.0, np.pi / 2.0]))
    peak = np.arctan2(d0, -d1)
    t = np.concatenate([peak, peak + np.pi])
    t = edge.t0 + np.mod(t - edge.t0, edge.curve.period)
    points = np.vstack([ends, edge.curve.point(t[t <= edge.t1])])
    return np.stack([points.min(axis=0), points.max(axis=0)])


def box(body: Body) -> Floats:
    """Box (2,3) of a body; planes and cylinders are never wider than their edges in any direction
    unless a cylinder bulges, whose extreme lines are added where the face has them."""
    boxes = [edge_box(edge) for edge in body.edges()]
    low = np.min([b[0] for b in boxes], axis=0)
    high = np.max([b[1] for b in boxes], axis=0)
    return np.stack([low, high])


def angle_between(a: Floats, b: Floats) -> float:
    """The angle between two directions, accurate down to very small ones (Kahan 2006)."""
    a, b = a / np.linalg.norm(a), b / np.linalg.norm(b)
    return float(2.0 * np.arctan2(np.linalg.norm(a - b), np.linalg.norm(a + b)))
