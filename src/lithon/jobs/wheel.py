"""A wheel of 23: one sector to hexahedra, repeated to the whole."""

from __future__ import annotations

import numpy as np
import scipy

import lithon.do as do
from lithon.jobs.job import Bench, Job
from lithon.mesh.hexahedra import verdict
from lithon.mesh.sector import sector_of
from lithon.samples import WHEEL, sluice_wheel


def _prepared(b: Bench) -> None:
    w = WHEEL
    b.take(do.element_size(3.0))
    b.check("as it comes", b.volume, w.volume)
    b.take(do.clear("fillets where radius < 2 mm"))
    whole = b.volume
    b.take(do.carve(f"radius {w.hub} about z"))
    b.take(do.sector())
    b.check("the sector, 23 times", w.blades * b.volume, whole)
    for height in (w.thickness, w.thickness + w.height):
        b.take(do.carve(f"z = {height}"))
    b.take(do.bond())
    b.check("bodies", len(b.model.bodies), 6)
    for body in b.model.bodies:
        b.check("mapped or swept", float(verdict(body)[0] in ("mapped", "swept")), 1.0)


def _one_mesh(b: Bench) -> None:
    b.take(do.mesh("hex"))
    sector, mesh = sector_of(b.model), b.mesh
    assert sector is not None and mesh is not None
    b.check("parts of the turn", sector.count, WHEEL.blades)
    b.check("sector joined up", float(mesh.conformal()), 1.0)
    sides = [np.unique(np.concatenate([mesh.face_nodes(f) for f in side])) for side in sector.sides]
    off, hit = scipy.spatial.cKDTree(mesh.points[sides[1]]).query(sector.turned(mesh.points[sides[0]]))
    b.check("nodes of the two cuts", len(sides[0]), len(sides[1]))
    b.check("each has an image", len(set(hit.tolist())), len(sides[1]))
    b.check("images of each other", float(off.max()), 0.0)
    one = len(mesh.elements)
    b.take(do.mesh("hex", around=True))
    assert b.mesh is not None
    b.check("23 times the elements", len(b.mesh.elements), WHEEL.blades * one)
    b.check("whole joined up", float(b.mesh.conformal()), 1.0)
    b.check("volume of the mesh", b.mesh.volume_ratio, 1.0, 1e-3)
    b.check("no node twice", len(scipy.spatial.cKDTree(b.mesh.points).query_pairs(1e-6)), 0)


def _in_groups(b: Bench) -> None:
    bodies = [x for x in b.model.bodies if max(float(np.hypot(*v.point[:2])) for v in x.vertices()) < WHEEL.hub + 1e-6]
    b.check("of the hub", len(bodies), 3)
    b.take(do.group(bodies, "hub"))
    b.take(do.mesh("hex", around=True))
    mesh = b.mesh
    assert mesh is not None and mesh.same is not None
    double = np.flatnonzero(mesh.same != np.arange(len(mesh.points)))
    radius = np.hypot(*mesh.points[double, :2].T)
    b.check("doubled only between hub and blades", float(np.abs(radius - WHEEL.hub).max()), 0.0)
    b.check("and all round there", float(len(double) > WHEEL.blades), 1.0)
    b.check("matching", float(mesh.conformal()), 1.0)


def _whole(b: Bench) -> None:
    _prepared(b)
    _one_mesh(b)
    _in_groups(b)


JOBS: tuple[Job, ...] = (
    Job("J04", "a wheel of 23", sluice_wheel, (("", _whole),)),
)  # fmt: skip
