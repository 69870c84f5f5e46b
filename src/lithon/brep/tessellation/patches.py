"""What a change adds to and takes from the surfaces that stay: for ghosts and before-and-after."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely

from lithon.arrays import Floats, Ints
from lithon.brep.charts import chart_of
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.domain import flat_domain
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.tessellation.triangulate import Tangled, triangulate
from lithon.brep.topology import Face, Loop, Model
from lithon.errors import Refusal


@dataclass(frozen=True, slots=True, eq=False)
class Change:
    """Triangles of new surface (points (n,3), corners (m,3)) and the faces that are gone for good."""

    points: Floats
    triangles: Ints
    gone: tuple[Face, ...]


def flat_shape(face: Face, mirror: float | None = None) -> tuple[shapely.Geometry, float]:
    """A face as a plane polygon in its flat domain, and the mirroring used."""
    domain = flat_domain(face, edge_points)
    shape: shapely.Geometry = domain.polygon()
    if mirror is not None and mirror != domain.mirror:
        shape = shapely.transform(shape, lambda c: c * np.array([-1.0, 1.0]))
    return shape, domain.mirror


def change(before: Model, after: Model) -> Change:
    """The new surface of a step: whole new faces, and what faces that stay have gained."""
    old, new = before.faces_but_of(after), after.faces_but_of(before)
    old_set, new_set = set(old), set(new)
    changed = [face for face in old if face not in new_set]
    points: list[Floats] = []
    triangles: list[Ints] = []
    total = 0

    def put(p: Floats, t: Ints) -> None:
        nonlocal total
        points.append(p)
        triangles.append(t + total)
        total += len(p)

    continued: set[Face] = set()
    for face in new:
        if face in old_set:
            continue
        if face.before in old_set:
            continued.add(face.before)
            for plug in face.plugs():
                mesh = face_mesh(plug)
                put(mesh.points, mesh.triangles)
            continue
        origins = [f for f in changed if _same_place(f, face, before.tolerance)]
        if not origins:
            mesh = face_mesh(face)
            put(mesh.points, mesh.triangles)
            continue
        continued.update(origins)
        for p, t in _gained(face, origins):
            put(p, t)
    gone = tuple(f for f in changed if f not in continued)
    if not points:
        return Change(np.zeros((0, 3)), np.zeros((0, 3), dtype=np.int64), gone)
    return Change(np.concatenate(points), np.concatenate(triangles), gone)


def _same_place(a: Face, b: Face, tolerance: float) -> bool:
    """Whether two faces lie on one surface; what came from another process is compared by value."""
    return a.surface is b.surface or a.surface.same_as(b.surface, tolerance, 1.0)


def _bare(face: Face, others: list[Face]) -> Face:
    """A plane face closed over the holes that it has in common with all others: they change nothing between them."""
    loops = [_walk(loop) for loop in face.loops]
    common = set(loops).intersection(*({_walk(loop) for loop in other.loops} for other in others))
    if not common:
        return face
    sizes = [float(np.ptp(np.concatenate([edge_points(c.edge)[1] for c in loop]), axis=0).max()) for loop in face.loops]
    outer = int(np.argmax(sizes))
    left = tuple(loop for k, loop in enumerate(face.loops) if k == outer or loops[k] not in common)
    return Face(face.surface, left, face.along)


def _walk(loop: Loop) -> frozenset[tuple[int, bool]]:
    return frozenset((c.edge.uid, c.forward) for c in loop)


def _gained(face: Face, origins: list[Face]) -> list[tuple[Floats, Ints]]:
    if face.surface.kind != "plane":
        return []  # a curved face that only lost some of its length or got a new end
    try:
        shape, mirror = flat_shape(_bare(face, origins))
        for origin in origins:
            like = Face(face.surface, _bare(origin, [face]).loops, face.along)
            shape = shapely.difference(shape, flat_shape(like, mirror)[0], grid_size=1e-6)
    except (Refusal, shapely.errors.GEOSException):
        return []
    out = []
    for part in shapely.get_parts(shape):
        if part.geom_type != "Polygon" or part.area < 1e-5:
            continue
        rings = [np.asarray(r.coords)[:-1] for r in (part.exterior, *part.interiors)]
        segments, base = [], 0
        for ring in rings:
            k = np.arange(len(ring))
            segments.append(np.stack([base + k, base + (k + 1) % len(ring)], axis=1))
            base += len(ring)
        try:
            region = triangulate(np.concatenate(rings), np.concatenate(segments))
        except Tangled:
            continue
        out.append((chart_of(face).point(region.plane * np.array([mirror, 1.0])), region.triangles))
    return out
