"""How many elements a mesh will have, before it is made.

Elements fill the volume, and more of them crowd along the surface than their size alone would ask
for. So the number is a sum of two integrals of the size field h that the mesh will use: of 1/h^3 over
the solid and of 1/h^2 over its surface, with two factors fitted to meshes of the samples.
"""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.tessellation.trees import inside_lattice
from lithon.brep.topology import Body, Model
from lithon.mesh.sizing import SizeField, SizeRules, size_field

#: Elements per cube and per square of the size: factors fitted to meshes of the collar anchor, the cast anchor, the
#: hinge strap and the sluice wheel. They miss these by 13 % at most, and parts of many small features by 20 %.
_PER_CUBE = 9.58
_PER_SQUARE = 1.0


#: Cells of the coarsest grid over a body, and triangles looked at one by one.
_MOST_CELLS, _MOST_TRIANGLES = 6e4, 40_000


#: How often a triangle of the surface is halved, at most, to follow the sizes on it.
_HALVINGS = 4


@dataclass(frozen=True, slots=True)
class Forecast:
    elements: int
    smallest_mm: float


def forecast(model: Model, size: float, rules: SizeRules | None = None) -> Forecast:
    """The number of tetrahedra at this element size and the smallest size asked for."""
    rules = replace(rules or SizeRules(size), size=float(size))
    field = size_field(model.bodies, rules)
    count, smallest = 0.0, float(size)
    for body in model.bodies:
        smallest = min(smallest, float(field.at(body_mesh(body)[0]).min()))
        count += sum(float((share / h**power).sum()) for _, h, share, power in pieces(body, field))
    return Forecast(int(round(count)), smallest)


#: Points (n,3) over a body, the sizes there (n,), the shares of elements (n,) for a size of one, and the power of the
#: size that divides them.
Piece = tuple[Floats, Floats, Floats, int]


#: The field that was last looked at, and the pieces of each body by it: what is foreseen is priced next.
_last: list[tuple[SizeField, dict[Body, list[Piece]]]] = []


def pieces(body: Body, field: SizeField) -> list[Piece]:
    """The solid in cells, and its surface in triangles, as fine as the sizes ask for; the latest are kept."""
    if not _last or _last[0][0] is not field:
        _last[:] = [(field, {})]
    known = _last[0][1]
    if body not in known:
        known[body] = list(_pieces(body, field))
    return known[body]


def _pieces(body: Body, field: SizeField) -> Iterator[Piece]:
    points, triangles, _ = body_mesh(body)
    for spots, h, volume in _cells(body, field):
        yield spots, h, _PER_CUBE * volume, 3
    for spots, h, area in _triangles(points[triangles], field):
        yield spots, h, _PER_SQUARE * area, 2


def _cells(body: Body, field: SizeField) -> Iterator[tuple[Floats, Floats, Floats]]:
    """Middles of cells (n,3) in the solid, the sizes there and their volumes (n,)."""
    points = body_mesh(body)[0]
    low, high = points.min(axis=0), points.max(axis=0)
    side = field.rules.size
    shape = np.ceil((high - low) / side).astype(int) + 1
    while float(np.prod(shape.astype(float))) > _MOST_CELLS:
        side *= 1.26
        shape = np.ceil((high - low) / side).astype(int) + 1
    start = 0.5 * (low + high) - 0.5 * shape * side
    cells = start + side * (
        np.stack(np.meshgrid(*[np.arange(k) for k in shape], indexing="ij"), -1).reshape(-1, 3)
        + 0.5
        + 1e-4 * np.array([0.7, 0.3, 0.9])
    )
    # Refine also where a cell straddles the surface, two levels, so that thin walls count right.
    for level in range(8):
        wanted = field.at(cells)
        coarse = wanted < 0.7 * side
        if level < 2 and 8 * len(cells) <= 2 * _MOST_CELLS:
            coarse |= True
        if len(cells[coarse]) > 2 * _MOST_CELLS:
            coarse &= False
        held = np.flatnonzero(~coarse)
        held = held[inside_lattice(body, cells[held], side)]
        yield cells[held], wanted[held], np.full(len(held), side**3)
        cells = cells[coarse]
        if not len(cells):
            break
        corner = np.stack(np.meshgrid([-0.25, 0.25], [-0.25, 0.25], [-0.25, 0.25], indexing="ij"), -1)
        cells = (cells[:, None, :] + side * corner.reshape(-1, 3)).reshape(-1, 3)
        side *= 0.5


def _triangles(corners: Floats, field: SizeField) -> Iterator[tuple[Floats, Floats, Floats]]:
    """Middles of triangles (m,3,3), the sizes there and their areas: cut where they are longer than the size in their
    middle; where they are many, points at equal steps of their area."""
    if len(corners) > _MOST_TRIANGLES:
        area = 0.5 * np.linalg.norm(cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        course = np.cumsum(area)
        steps = (np.arange(_MOST_TRIANGLES) + 0.5) / _MOST_TRIANGLES * course[-1]
        pick = corners[np.minimum(np.searchsorted(course, steps), len(corners) - 1)]
        share = np.random.default_rng(1).dirichlet((1.0, 1.0, 1.0), _MOST_TRIANGLES)
        spots = np.einsum("nk,nkc->nc", share, pick)
        yield spots, field.at(spots), np.full(_MOST_TRIANGLES, course[-1] / _MOST_TRIANGLES)
        return
    for level in range(_HALVINGS + 1):
        spots = corners.mean(axis=1)
        size = field.at(spots)
        sides = np.linalg.norm(np.roll(corners, -1, axis=1) - corners, axis=2)
        done = (sides.max(axis=1) < size) | (level == _HALVINGS)
        area = 0.5 * np.linalg.norm(cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
        yield spots[done], size[done], area[done]
        corners, first = corners[~done], sides[~done].argmax(axis=1)
        if not len(corners):
            break
        a, b, c = (corners[np.arange(len(corners)), (first + k) % 3] for k in range(3))  # a to b is the longest
        middle = 0.5 * (a + b)
        corners = np.concatenate([np.stack([a, middle, c], axis=1), np.stack([middle, b, c], axis=1)])


__all__ = ["Forecast", "forecast", "pieces"]
