"""Bodies of triangles that lie on each other share what they have in common: their triangles are laid over each other
exactly, and what two of them have there, looking opposite ways, is theirs together."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrange.facets import Laid, bonded_with, laid
from lithon.arrays import Floats, Ints, triangle_areas
from lithon.brep.cleaning import winding_number
from lithon.brep.faceted import faceted, soup_of
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Model
from lithon.brep.validate import check


@dataclass(frozen=True, slots=True)
class Common:
    """What two bodies have in common: its area (mm2), and a place on it."""

    area: float
    place: tuple[float, float, float]

    @staticmethod
    def of(points: Floats, corners: Ints) -> Common:
        """Of triangles (m,3) of points (n,3)."""
        areas = triangle_areas(points, corners)
        x, y, z = points[corners[int(areas.argmax())]].mean(axis=0).tolist()
        return Common(float(areas.sum()), (x, y, z))


def triangles_shared(model: Model, a: Body, b: Body, tolerance: float) -> tuple[Model, list[Common]] | Common | None:
    """The model with two bodies of triangles sharing what they have in common, and each piece of that; where they run
    into each other, where they do; none where they do not lie on each other."""
    bodies = bonded_with(model, [a, b])
    if not all(faceted(body) for body in bodies):
        return None
    out = laid(bodies, tolerance)
    met = out.owned[:, 0] * out.owned[:, 1]
    into = [*np.flatnonzero(met > 0).tolist(), *_inside(out, (a, b), tolerance)]
    if into:
        return Common.of(out.made.points, out.made.corners[into])
    new = (met < 0) & (out.first != out.last)
    if not new.any():
        return None
    sides, faces = out.sides_of(out.first * (int(out.last.max()) + 1) + out.last, out.owned)
    changed = {body: check(body.with_uses(own), model.tolerance) for body, own in zip(bodies, sides, strict=True)}
    meshes = [face_mesh(face) for face, row in faces if new[row]]
    found = [Common.of(mesh.points, mesh.triangles) for mesh in meshes]
    return Model(tuple(changed.get(body, body) for body in model.bodies), model.tolerance), found


def _inside(out: Laid, pair: tuple[Body, Body], tolerance: float) -> list[int]:
    """The largest triangles of patches of the skin of one of the first two bodies alone that lie within the other."""
    found: list[int] = []
    best = out.made.largest(out.made.patches())
    for its, body in enumerate(pair):
        rows = best[(out.owned[best, its] == 0) & (out.owned[best, 1 - its] != 0)]
        soup, spots = soup_of(body), out.made.middles(rows)
        within = winding_number(soup.points, soup.corners, spots) > 0.5
        off = np.linalg.norm(tree_of(body).nearest(spots)[1] - spots, axis=1)
        found += rows[within & (off > 20.0 * tolerance)].tolist()
    return found
