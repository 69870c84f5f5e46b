"""Whether points of a surface lie in a face, decided exactly: by the nearest edge where they are near
one, by the outline's polygon elsewhere."""

from __future__ import annotations

import numpy as np
import shapely

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.boxes import edge_boxes
from lithon.brep.charts import parts_of
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.domain import Domain, flat_domain
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Coedge, Edge, Face
from lithon.geometry.batch import CurveBatch
from lithon.remembered import Remembered

#: Distances from points to boxes of edges found in one go.
_MOST = 1_000_000


def clamped(edge: Edge, points: Floats) -> Floats:
    """Parameters (n,) of the points of an edge closest to (n,3)."""
    t = edge.curve.parameter(points)
    period = edge.curve.period
    if period is not None:
        t = edge.t0 + np.mod(t - edge.t0, period)
        if not edge.ring:
            beyond = t > edge.t1
            nearer_start = t - edge.t1 > 0.5 * (period - (edge.t1 - edge.t0))
            t = np.where(beyond, np.where(nearer_start, edge.t0, edge.t1), t)
        return np.asarray(t)
    return np.clip(t, edge.t0, edge.t1)


def off_edge(edge: Edge, points: Floats) -> Floats:
    """Distances (n,) of points (n,3) from an edge."""
    return np.asarray(np.linalg.norm(edge.curve.point(clamped(edge, points)) - points, axis=-1))


#: So far (share of a chord) an edge may run off its chords, in the chart too.
_SAG = 0.5


class Area:
    """The inside of one face, prepared for many questions."""

    def __init__(self, face: Face):
        self.face = face
        self.shapes: list[tuple[shapely.Geometry, Domain]] = []
        for part in parts_of(face):
            domain = flat_domain(part, edge_points)
            shape = domain.polygon()
            shapely.prepare(shape)
            self.shapes.append((shape, domain))
        self.reach = float(np.linalg.norm(np.ptp(face_mesh(face).points, axis=0)))
        self.coedges = [c for loop in face.loops for c in loop]
        self.boxes = edge_boxes([c.edge for c in self.coedges])
        batch = CurveBatch.of([c.edge.curve for c in self.coedges])
        middle = np.array([0.5 * (c.edge.t0 + c.edge.t1) for c in self.coedges])
        self.middles = batch.points(np.arange(len(middle)), middle)

    def _polygon(self, points: Floats) -> Ints:
        out = np.zeros(len(points), dtype=bool)
        for shape, domain in self.shapes:
            chart, mirror = domain.chart, domain.mirror
            flat = chart.flat(points) * np.array([mirror, 1.0])
            period = chart.flat_period
            shifts = (0.0,) if period is None else tuple(k * period for k in (0, 1, -1, 2, -2))
            for s in shifts:
                # On the border too: of a face that goes around, where it was cut open is no border of it.
                out |= shapely.intersects_xy(shape, flat[:, 0] + s, flat[:, 1])
        return np.where(out, 1, -1)

    def _nearby(self, points: Floats) -> list[Coedge]:
        """The coedges one of which is nearest to a point (n,3), as their boxes tell."""
        if len(self.coedges) < 16 or len(points) * len(self.coedges) > _MOST:
            return self.coedges
        beyond = np.maximum(self.boxes[:, 0] - points[:, None], points[:, None] - self.boxes[:, 1])
        least = np.linalg.norm(np.maximum(beyond, 0.0), axis=2)
        most = np.linalg.norm(points[:, None] - self.middles, axis=2).min(axis=1)
        return [self.coedges[k] for k in np.flatnonzero((least <= 1.001 * most[:, None] + 1e-9).any(axis=0))]

    def edges_at(self, point: Floats, tolerance: float) -> list[Edge]:
        """The edges that come this near to a point (3,)."""
        near = ((self.boxes[:, 0] - tolerance <= point) & (point <= self.boxes[:, 1] + tolerance)).all(axis=1)
        found = (self.coedges[k].edge for k in np.flatnonzero(near))
        return [e for e in dict.fromkeys(found) if float(off_edge(e, point[None])[0]) <= tolerance]

    def side(self, points: Floats, tolerance: float) -> Ints:
        """For points (n,3) on the surface: 1 inside, 0 on the boundary within the tolerance, -1 outside."""
        if not len(points):
            return np.zeros(0, dtype=np.int64)
        polygon = answer = self._polygon(points)
        if not self.face.loops:
            return np.ones(len(points), dtype=np.int64)
        best = np.full(len(points), np.inf)
        for c in self._nearby(points):
            t = clamped(c.edge, points)
            at = c.edge.curve.point(t)
            away = points - at
            off = np.linalg.norm(away, axis=1)
            closer = off < best - 1e-12
            best = np.where(closer, off, best)
            span = c.edge.t1 - c.edge.t0
            inner = (t > c.edge.t0 + 1e-9 * span) & (t < c.edge.t1 - 1e-9 * span) | c.edge.ring
            # Only near an edge that is curved in the plane of the polygon can this and the face disagree.
            curved = c.edge.curve.kind != "line" or self.face.surface.kind not in ("plane", "cylinder")
            ask = closer & inner & curved
            answer = np.where(closer, polygon, answer)  # unless this edge, now the nearest, knows better
            if ask.any():
                tangent = c.edge.curve.derivative(t) * (1.0 if c.forward else -1.0)
                left = cross_product(self.face.normal(at), tangent)
                # The polygon is off by the sag of its chords at most: further away it is right.
                chords = np.linalg.norm(np.diff(edge_points(c.edge)[1], axis=0), axis=1)
                near = off < min(0.2 * c.edge.length, _SAG * float(chords.max(initial=0.0)))
                lean = (away * left).sum(axis=1)
                sure = ask & near & (np.abs(lean) > 0.5 * off * np.linalg.norm(left, axis=1))
                answer = np.where(sure, np.where(lean > 0.0, 1, -1), answer)
        return np.where(best <= tolerance, 0, answer)


_areas = Remembered[Face, Area]("brep/area:areas")


def area_of(face: Face) -> Area:
    """The prepared inside of a face; cached."""
    return _areas.of(face, Area)
