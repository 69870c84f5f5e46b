"""How large elements should be, everywhere: the wanted size, made smaller where the solid curves,
where edges are short and where walls are thin, and graded in between.

size(x) = min(wanted, min over sources i of (size_i + growth * |x - x_i|))
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.sampling import spread
from lithon.brep.tessellate import edge_points, face_mesh
from lithon.brep.thickness import thickness
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.curves import Ellipse, Line
from lithon.geometry.facets import Facets
from lithon.geometry.rounds import Cone
from lithon.geometry.splines import curvature
from lithon.geometry.surfaces import Plane
from lithon.mesh.size_tree import SizeTree


@dataclass(frozen=True, slots=True)
class SizeRules:
    """What the engineer sets. Lengths in mm."""

    size: float
    #: How much longer an element may be than its neighbour, less one.
    growth: float = 0.35
    #: Elements around a full circle, at least.
    around: int = 12
    #: Elements through a wall, at least (a fraction is allowed: 0.8 means size = wall / 0.8).
    through: float = 0.8
    #: Nothing is made smaller than this share of the size.
    smallest: float = 0.02


#: Two sides make a wall when their outward normals are this opposed; a blunter corner is none.
_OPPOSED = -0.8


class SizeField:
    """Sizes at points, from sources with a size each; good to a hundredth, upwards."""

    def __init__(self, rules: SizeRules, points: Floats, sizes: Floats):
        self.rules = rules
        keep = sizes < rules.size
        sizes = np.maximum(sizes[keep], rules.smallest * rules.size)
        self._tree = SizeTree.of(points[keep], sizes) if len(sizes) else None

    def at(self, points: Floats) -> Floats:
        """Sizes (n,) at points (n,3)."""
        if self._tree is None:
            return np.full(len(points), float(self.rules.size))
        return self._tree.at(points, self.rules.growth, self.rules.size)


def size_field(bodies: tuple[Body, ...], rules: SizeRules) -> SizeField:
    """The field for bodies meshed together."""
    points: list[Floats] = []
    sizes: list[Floats] = []

    def put(p: Floats, s: Floats | float) -> None:
        points.append(p)
        sizes.append(np.broadcast_to(np.asarray(s, dtype=float), (len(p),)))

    turn = 2.0 * np.pi / rules.around
    for edge in dict.fromkeys(e for body in bodies for e in body.edges()):
        p = edge_points(edge)[1]
        if isinstance(edge.curve, Ellipse):
            put(p, turn * edge.curve.minor**2 / edge.curve.major)
        elif not isinstance(edge.curve, Line) and edge.curve.kind != "polyline":
            t = np.linspace(edge.t0, edge.t1, 41)[1:-1]
            put(edge.curve.point(t), turn / np.maximum(curvature(edge.curve.derivative, t), 1e-300))
        length = edge.length
        if not edge.ring and length < rules.size:
            put(edge.at(0.5)[None], max(length, rules.smallest * rules.size))
    for body in bodies:
        for face in body.faces:
            if not isinstance(face.surface, Plane):
                put(*_curved(face, turn, rules))
        where, wall, _, _, facing = thickness(body)
        thin = (wall < rules.size * rules.through) & (facing < _OPPOSED)
        put(where[thin], wall[thin] / rules.through)
    return SizeField(rules, np.concatenate(points), np.concatenate(sizes))


def _curved(face: Face, turn: float, rules: SizeRules) -> tuple[Floats, Floats]:
    """Points on a curved face and the sizes that its curvature asks for there, where below the size."""
    surface, mesh = face.surface, face_mesh(face)
    if isinstance(surface, Facets):
        return _curved_facets(surface, turn, rules)
    # Towards an apex the curvature grows without end, but there is nothing to resolve.
    least = 0.3 * rules.size if isinstance(surface, Cone) else rules.smallest * rules.size
    corners = mesh.points[mesh.triangles]
    wanted = np.maximum(turn / np.maximum(surface.bend(mesh.points), 1e-300), least)
    finest = float(wanted.min())
    if finest >= rules.size:
        return np.zeros((0, 3)), np.zeros(0)
    spots, _ = spread(corners, finest, most=200)
    spots = surface.project(_thinned(spots, 0.7 * finest))
    sizes = np.maximum(turn / np.maximum(surface.bend(spots), 1e-300), least)
    return spots, np.asarray(sizes)


def _curved_facets(surface: Facets, turn: float, rules: SizeRules) -> tuple[Floats, Floats]:
    """As `_curved`, for triangles: normals are averaged over cells of half an element, so that the noise of
    a scan is no curvature, and compared with those of the cells around."""
    corners = surface.points[surface.triangles]
    spots, row = spread(corners, 0.25 * rules.size, most=40)
    cell = np.round(spots / (0.5 * rules.size)).astype(np.int64)
    _, own = np.unique(cell, axis=0, return_inverse=True)
    own = own.reshape(-1)
    count = np.bincount(own).astype(float)
    place = np.stack([np.bincount(own, weights=spots[:, k]) for k in range(3)], axis=1) / count[:, None]
    normal = np.stack([np.bincount(own, weights=surface.normals[row, k]) for k in range(3)], axis=1)
    normal = normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)
    if len(place) < 2:
        return np.zeros((0, 3)), np.zeros(0)
    away, near = scipy.spatial.cKDTree(place).query(place, k=min(7, len(place)))
    turned = np.linalg.norm(normal[near] - normal[:, None], axis=2)
    rate = np.where(away > 0.2 * rules.size, turned / np.maximum(away, 1e-300), 0.0).max(axis=1)
    wanted = np.maximum(turn / np.maximum(rate, 1e-300), rules.smallest * rules.size)
    fine = wanted < rules.size
    return place[fine], wanted[fine]


def _thinned(points: Floats, spacing: float) -> Floats:
    """One point of each cube of this side that holds any."""
    cell = np.round((points - points.min(axis=0)) / spacing).astype(np.int64)
    span = cell.max(axis=0) + 1
    if float(np.prod(span.astype(float))) > 2.0**62:
        return points
    _, first = np.unique((cell[:, 0] * span[1] + cell[:, 1]) * span[2] + cell[:, 2], return_index=True)
    return points[first]


def divide_edge(edge: Edge, field: SizeField) -> Floats:
    """Parameters (n+1,) from t0 to t1 at which an edge is cut, spaced by the size field."""
    t = np.linspace(edge.t0, edge.t1, 129)
    points = edge.curve.point(t)
    speed = np.linalg.norm(edge.curve.derivative(t), axis=1)
    density = speed / field.at(points)
    steps = 0.5 * (density[1:] + density[:-1]) * np.diff(t)
    total = np.concatenate([[0.0], np.cumsum(steps)])
    least = 1
    if edge.curve.kind == "polyline":
        least = max(1, int(np.ceil(_bow(points) * field.rules.around / (2.0 * np.pi) - 0.5)))
    elif not isinstance(edge.curve, Line):
        least = edge.curve.pieces(edge.t0, edge.t1, 1e9, 2.0 * np.pi / field.rules.around * (1.0 + 1e-9))
    if edge.ring:
        least = max(least, 6)
    n = max(least, int(np.ceil(total[-1] - 0.25)), 1)
    if not edge.ring and edge.start is edge.end:
        n = max(n, 3)
    return np.asarray(np.interp(np.linspace(0.0, total[-1], n + 1), total, t))


def _bow(points: Floats) -> float:
    """How much a polyline of (129,3) points turns in all, the zigzag of its triangles left aside."""
    step = np.diff(points[::8], axis=0)
    step = step[np.linalg.norm(step, axis=1) > 1e-300]
    step = step / np.linalg.norm(step, axis=1, keepdims=True)
    cosine = (step[1:] * step[:-1]).sum(axis=1)
    return float(np.arccos(np.clip(cosine, -1.0, 1.0)).sum())
