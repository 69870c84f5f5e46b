"""The simple surface nearest to a free-form one.

Fits by least squares: plane and sphere in closed form, cylinder and cone through the normals' directions
(their Gauss image is a circle), refined by nothing: what is exact in disguise fits exactly at once.
"""

from __future__ import annotations

import contextlib

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Face
from lithon.geometry.cones import Cone
from lithon.geometry.spheres import Sphere
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.remembered import Remembered

_fits = Remembered[Face, tuple[Surface | None, float]]("brep/analysis/fits:fits")


def simple_fit(face: Face) -> tuple[Surface | None, float]:
    """The simple surface that comes nearest to a free-form face, and its largest deviation (mm); cached."""
    return _fits.of(face, _fitted)


def _fitted(face: Face) -> tuple[Surface | None, float]:
    mesh = face_mesh(face)
    corners = mesh.points[mesh.triangles]
    inner = face.surface.project(corners.mean(axis=1)[:400])
    points = np.concatenate([mesh.points[:400], inner])
    return nearest_simple(points, face.surface.normal(points))


def nearest_simple(points: Floats, normals: Floats) -> tuple[Surface | None, float]:
    """Among plane, cylinder, cone and sphere, the one nearest to points (n,3) with normals (n,3)."""
    best: tuple[Surface | None, float] = (None, np.inf)
    for made in simple_fits(points, normals):
        off = float(np.abs(made.signed_distance(points)).max())
        if off < 0.5 * best[1] or best[0] is None:  # a plane is also a cylinder: the simpler one wins
            best = made, off
    return best


def simple_fits(points: Floats, normals: Floats) -> list[Surface]:
    """A plane, cylinder, cone and sphere near points (n,3) with normals (n,3), as far as there is one."""
    if len(points) < 3:
        return []
    size = float(np.ptp(points, axis=0).max())
    out = []
    for make in (_plane, _cylinder, _cone, _sphere):
        with contextlib.suppress(ValueError, np.linalg.LinAlgError):
            made = make(points, normals, size)
            if made is not None:
                out.append(made)
    return out


def _plane(p: Floats, n: Floats, size: float) -> Surface | None:
    middle = p.mean(axis=0)
    way = np.linalg.svd(p - middle, full_matrices=False)[2][2]
    return Plane.of(middle, way if float(way @ n.mean(axis=0)) > 0.0 else -way)


def circle_through(flat: Floats) -> tuple[Floats, float]:
    """Centre (2,) and radius of the circle nearest to points (n,2) (Kasa's algebraic fit)."""
    rows = np.column_stack([2.0 * flat, np.ones(len(flat))])
    found = np.linalg.lstsq(rows, (flat**2).sum(axis=1), rcond=None)[0]
    return found[:2], float(np.sqrt(max(found[2] + found[:2] @ found[:2], 0.0)))


def _cylinder(p: Floats, n: Floats, size: float) -> Surface | None:
    _, spread, ways = np.linalg.svd(n, full_matrices=False)
    axis = ways[2]
    if spread[1] < 1e-3 * spread[0]:
        return None  # all normals alike
    x = np.linalg.svd(axis[None])[2][1]
    y = cross_product(axis, x)
    centre, radius = circle_through(np.column_stack([p @ x, p @ y]))
    if not 0.0 < radius < 50.0 * size:
        return None
    along = float((p @ axis).mean())
    return Cylinder.of(centre[0] * x + centre[1] * y + along * axis, axis, radius)


def _cone(p: Floats, n: Floats, size: float) -> Surface | None:
    """Normals of a cone make one angle with its axis: n . axis = const; the apex solves (p - apex) . n = 0."""
    middle = n.mean(axis=0)
    _, spread, ways = np.linalg.svd(n - middle, full_matrices=False)
    axis = ways[2]
    if spread[1] < 1e-3 * max(spread[0], 1e-12) or spread[0] < 1e-3 * np.sqrt(len(n)):
        return None
    apex, _, rank, _ = np.linalg.lstsq(n, (p * n).sum(axis=1), rcond=1e-9)
    if rank < 3:
        return None
    if float((p - apex).mean(axis=0) @ axis) < 0.0:
        axis = -axis
    lean = float(np.abs(n @ axis).mean())
    angle = float(np.arcsin(np.clip(lean, 0.0, 1.0)))
    if not 1e-3 < angle < np.pi / 2 - 1e-3 or float(np.linalg.norm(apex - p.mean(axis=0))) > 50.0 * size:
        return None
    reach = float(((p - apex) @ axis).mean())
    return Cone.of(apex + reach * axis, axis, reach * np.tan(angle), angle)


def _sphere(p: Floats, n: Floats, size: float) -> Surface | None:
    rows = np.column_stack([2.0 * p, np.ones(len(p))])
    found, _, rank, _ = np.linalg.lstsq(rows, (p**2).sum(axis=1), rcond=1e-12)
    radius = float(np.sqrt(max(found[3] + found[:3] @ found[:3], 0.0)))
    if rank < 4 or not 0.0 < radius < 50.0 * size:
        return None
    return Sphere.of(found[:3], radius)
