"""Nodes inside the solids: a body-centred lattice where the size is even, circumcentres elsewhere."""

from __future__ import annotations

from collections.abc import Iterable, Iterator

import numpy as np
import scipy
from numba import njit

from lithon.arrays import Floats, Ints
from lithon.mesh.delaunay import Tetrahedra
from lithon.mesh.sizing import SizeField
from lithon.progress import Progress

#: Side of the lattice's cube per element size: its edges are then 0.95 and 1.10 sizes long.
_CELL = 1.10
#: How large the sphere through a tetrahedron's corners may be per element size: of a regular one of side one it is
#: the root of three eighths.
_LARGE = 1.35 * float(np.sqrt(3.0 / 8.0))


def inner_lattice(surface_points: Floats, surface_triangles: Ints, sizes: SizeField) -> Iterator[tuple[Floats, Floats]]:
    """Body-centred cubic points (n,3) in the box of a surface, each level of sizes by itself, and how far (n,) each
    keeps from others: inside and outside, but not too near to the surface."""
    centres = surface_points[surface_triangles].mean(axis=1)
    shell = scipy.spatial.cKDTree(np.vstack([surface_points, centres]))
    low, high = surface_points.min(axis=0), surface_points.max(axis=0)
    h = sizes.rules.size
    count = np.ceil((high - low) / (_CELL * h)).astype(int) + 1
    start = 0.5 * (low + high) - 0.5 * count * _CELL * h
    cells = np.stack(np.meshgrid(*[np.arange(k) for k in count], indexing="ij"), axis=-1).reshape(-1, 3)
    for _ in range(9):
        yield _lattice(shell, start, cells, h, sizes)
        finer = cells[_smallest_in(start, cells, h, sizes) < h * 2.0**-0.5]
        if not len(finer):
            return
        corner = np.stack(np.meshgrid([0, 1], [0, 1], [0, 1], indexing="ij"), axis=-1).reshape(-1, 3)
        cells = (2 * finer[:, None, :] + corner).reshape(-1, 3)
        h *= 0.5


def fill(space: Tetrahedra, lattice: Iterable[tuple[Floats, Floats]], sizes: SizeField, progress: Progress) -> None:
    """Insert nodes into all labelled regions, those of a lattice as `inner_lattice` makes it and then more, until no
    tetrahedron is too large."""
    for level, (points, spare) in enumerate(lattice):
        progress.tell(0.3 + 0.03 * min(level, 5), "placing inner nodes")
        if level == 0:  # of the whole box most points are outside
            inside = space.labels(points) >= 0
            points, spare = points[inside], spare[inside]
        space.add(points, inner=True, clear=spare)
    judged, near = np.full((0, 4), -1, dtype=np.int64), np.zeros(0)
    for turn in range(12):
        progress.tell(0.5 + 0.02 * turn, "refining")
        judged = np.concatenate([judged, np.full((len(space.tet) - len(judged), 4), -1, dtype=np.int64)])
        fresh = _fresh(space.tet[: space.state[0]], space.lab, judged)
        world = space.world()
        near = np.concatenate([near, sizes.at(world[len(near) :])])
        if _split_large(space, _perhaps_large(world, space.tet, fresh, near, sizes.steepest, _LARGE), sizes) == 0:
            break


def _smallest_in(start: Floats, cells: Ints, h: float, sizes: SizeField) -> Floats:
    """A bound from below on the size within each cubic cell: the field changes at most by its growth."""
    middle = start + (cells + 0.5) * (_CELL * h)
    return sizes.least_about(middle, float(np.sqrt(0.75)) * _CELL * h)


def _lattice(
    shell: scipy.spatial.cKDTree, start: Floats, cells: Ints, h: float, sizes: SizeField
) -> tuple[Floats, Floats]:
    """Body-centred cubic points of these cells where the wanted size is nearest to h, and what each keeps clear."""
    cell = _CELL * h
    points = np.concatenate([start + cells * cell, start + (cells + 0.5) * cell])
    # A trace of disorder keeps the many cospherical ties away from the exact arithmetic.
    points += np.random.default_rng(11).uniform(-1e-3, 1e-3, points.shape) * h
    top = h >= sizes.rules.size * 0.999
    size = sizes.at(points)
    own = (size > h * 2.0**-0.5) & ((size <= h * 2.0**0.5) | top)
    points, size = points[own], size[own]
    away, _ = shell.query(points, distance_upper_bound=2.0 * h, workers=-1)
    keep = away > 0.72 * size
    return points[keep], 0.72 * size[keep]


@njit(cache=True)
def _fresh(tet: Ints, lab: Ints, judged: Ints) -> Ints:
    """The rows of labelled tetrahedra (m,4) that are not as when they were judged, which they are from now on."""
    out = np.empty(len(tet), dtype=np.int64)
    n = 0
    for t in range(len(tet)):
        if tet[t, 0] < 0 or lab[t] < 0:
            continue
        same = True
        for k in range(4):
            if tet[t, k] != judged[t, k]:
                judged[t, k], same = tet[t, k], False
        if not same:
            out[n] = t
            n += 1
    return out[:n]


@njit(cache=True)
def _perhaps_large(x: Floats, tets: Ints, rows: Ints, sizes: Floats, growth: float, most: float) -> Ints:
    """Those rows (k,) of tetrahedra whose spheres may be larger than `most` times what is wanted in their middles: the
    field there is no finer than at any corner by more than its growth."""
    radius = circumspheres(x, tets[rows])[1]
    out = np.empty(len(rows), dtype=np.int64)
    n = 0
    for k in range(len(rows)):
        t = rows[k]
        finest = 0.0
        for j in range(4):
            away = 0.0
            for axis in range(3):
                middle = 0.0
                for i in range(4):
                    middle += 0.25 * x[tets[t, i], axis]
                away += (middle - x[tets[t, j], axis]) ** 2
            finest = max(finest, 0.98 * sizes[tets[t, j]] - growth * np.sqrt(away))
        if radius[k] > most * finest:
            out[n] = t
            n += 1
    return out[:n]


@njit(cache=True)
def circumspheres(x: Floats, tets: Ints) -> tuple[Floats, Floats]:
    """Centres (m,3) and radii (m,) of tetrahedra (m,4) of points (n,3); flat ones give huge radii."""
    m = len(tets)
    centre, radius = np.empty((m, 3)), np.empty(m)
    for t in range(m):
        a, b, c, d = tets[t, 0], tets[t, 1], tets[t, 2], tets[t, 3]
        ux, uy, uz = x[b, 0] - x[a, 0], x[b, 1] - x[a, 1], x[b, 2] - x[a, 2]
        vx, vy, vz = x[c, 0] - x[a, 0], x[c, 1] - x[a, 1], x[c, 2] - x[a, 2]
        wx, wy, wz = x[d, 0] - x[a, 0], x[d, 1] - x[a, 1], x[d, 2] - x[a, 2]
        u, v, w = ux * ux + uy * uy + uz * uz, vx * vx + vy * vy + vz * vz, wx * wx + wy * wy + wz * wz
        px, py, pz = vy * wz - vz * wy, vz * wx - vx * wz, vx * wy - vy * wx
        six = ux * px + uy * py + uz * pz
        half = 0.5 / (six if abs(six) > 1e-300 else 1e-300)
        ox = half * (u * px + v * (wy * uz - wz * uy) + w * (uy * vz - uz * vy))
        oy = half * (u * py + v * (wz * ux - wx * uz) + w * (uz * vx - ux * vz))
        oz = half * (u * pz + v * (wx * uy - wy * ux) + w * (ux * vy - uy * vx))
        centre[t, 0], centre[t, 1], centre[t, 2] = x[a, 0] + ox, x[a, 1] + oy, x[a, 2] + oz
        radius[t] = np.sqrt(ox * ox + oy * oy + oz * oz)
    return centre, radius


def _split_large(space: Tetrahedra, live: Ints, sizes: SizeField) -> int:
    """Nodes in the middle of the spheres of those tetrahedra of some that are too large; how many."""
    world = space.world()
    tets = space.tet[live]
    centre, radius = circumspheres(world, tets)
    size = sizes.at(world[tets].mean(axis=1))
    large = radius > _LARGE * size
    goal, spare = centre[large], 0.75 * size[large]
    reach = 2.5 * size[large]
    near = radius[large] < reach
    goal, spare = goal[near], spare[near]
    if not len(goal):
        return 0
    low, high = world[8:].min(axis=0), world[8:].max(axis=0)
    inside = ((goal > low) & (goal < high)).all(axis=1)
    return int(space.add(goal[inside], inner=True, clear=spare[inside]).sum())
