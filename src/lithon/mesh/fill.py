"""Nodes inside the solids: a body-centred lattice where the size is even, circumcentres elsewhere."""

from __future__ import annotations

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, cross_product
from lithon.mesh.delaunay import Tetrahedra
from lithon.mesh.sizing import SizeField
from lithon.progress import Progress

#: Side of the lattice's cube per element size: its edges are then 0.95 and 1.10 sizes long.
_CELL = 1.10
_REGULAR = np.sqrt(3.0 / 8.0)  # circumradius of a regular tetrahedron of side one


def fill(
    space: Tetrahedra, surface_points: Floats, surface_triangles: Ints, sizes: SizeField, progress: Progress
) -> None:
    """Insert nodes into all labelled regions until no tetrahedron is too large."""
    centres = surface_points[surface_triangles].mean(axis=1)
    shell = scipy.spatial.cKDTree(np.vstack([surface_points, centres]))
    low, high = surface_points.min(axis=0), surface_points.max(axis=0)
    h = sizes.rules.size
    count = np.ceil((high - low) / (_CELL * h)).astype(int) + 1
    start = 0.5 * (low + high) - 0.5 * count * _CELL * h
    cells = np.stack(np.meshgrid(*[np.arange(k) for k in count], indexing="ij"), axis=-1).reshape(-1, 3)
    for level in range(9):
        progress.tell(0.3 + 0.03 * min(level, 5), "placing inner nodes")
        _lattice(space, shell, start, cells, h, sizes)
        finer = cells[_smallest_in(start, cells, h, sizes) < h * 2.0**-0.5]
        if not len(finer):
            break
        corner = np.stack(np.meshgrid([0, 1], [0, 1], [0, 1], indexing="ij"), axis=-1).reshape(-1, 3)
        cells = (2 * finer[:, None, :] + corner).reshape(-1, 3)
        h *= 0.5
    judged = np.zeros((0, 4), dtype=np.int64)
    for turn in range(12):
        progress.tell(0.5 + 0.02 * turn, "refining")
        live = space.live
        live = live[space.lab[live] >= 0]
        old = live[live < len(judged)]
        fresh = np.concatenate([old[(space.tet[old] != judged[old]).any(axis=1)], live[len(old) :]])
        judged = space.tet.copy()
        if _split_large(space, fresh, sizes) == 0:
            break


def _smallest_in(start: Floats, cells: Ints, h: float, sizes: SizeField) -> Floats:
    """A bound from below on the size within each cubic cell: the field changes at most by its growth."""
    middle = start + (cells + 0.5) * (_CELL * h)
    return sizes.least_about(middle, float(np.sqrt(0.75)) * _CELL * h)


def _lattice(
    space: Tetrahedra, shell: scipy.spatial.cKDTree, start: Floats, cells: Ints, h: float, sizes: SizeField
) -> None:
    """Body-centred cubic points of these cells where the wanted size is nearest to h."""
    cell = _CELL * h
    points = np.concatenate([start + cells * cell, start + (cells + 0.5) * cell])
    # A trace of disorder keeps the many cospherical ties away from the exact arithmetic.
    points += np.random.default_rng(11).uniform(-1e-3, 1e-3, points.shape) * h
    size = sizes.at(points)
    top = h >= sizes.rules.size * 0.999
    own = (size > h * 2.0**-0.5) & ((size <= h * 2.0**0.5) | top)
    points, size = points[own], size[own]
    if not len(points):
        return
    away, _ = shell.query(points, distance_upper_bound=2.0 * h)
    keep = away > 0.72 * size
    space.add(points[keep], inner=True, clear=0.72 * size[keep])


def circumspheres(corners: Floats) -> tuple[Floats, Floats]:
    """Centres (n,3) and radii (n,) of tetrahedra (n,4,3); flat ones give huge radii."""
    a = corners[:, 0]
    e = corners[:, 1:] - a[:, None]
    square = (e**2).sum(axis=2)
    bc, ca, ab = cross_product(e[:, 1], e[:, 2]), cross_product(e[:, 2], e[:, 0]), cross_product(e[:, 0], e[:, 1])
    six = (e[:, 0] * bc).sum(axis=1)
    safe = np.where(np.abs(six) > 1e-300, six, 1e-300)
    centre = (square[:, :1] * bc + square[:, 1:2] * ca + square[:, 2:] * ab) / (2.0 * safe[:, None])
    return a + centre, np.asarray(np.linalg.norm(centre, axis=1))


def _split_large(space: Tetrahedra, live: Ints, sizes: SizeField) -> int:
    """Nodes in the middle of the spheres of those tetrahedra of some that are too large; how many."""
    world = space.world()
    corners = world[space.tet[live]]
    centre, radius = circumspheres(corners)
    size = sizes.at(corners.mean(axis=1))
    large = radius > 1.35 * _REGULAR * size
    goal, spare = centre[large], 0.75 * size[large]
    reach = 2.5 * size[large]
    near = radius[large] < reach
    goal, spare = goal[near], spare[near]
    if not len(goal):
        return 0
    low, high = world[8:].min(axis=0), world[8:].max(axis=0)
    inside = ((goal > low) & (goal < high)).all(axis=1)
    return int(space.add(goal[inside], inner=True, clear=spare[inside]).sum())
