"""Thickness of the solid behind its surface, by rays through the tessellation."""

from __future__ import annotations

from weakref import WeakKeyDictionary

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.sampling import spread_inside
from lithon.brep.tessellate import body_mesh
from lithon.brep.topology import Body
from lithon.brep.trees import tree_of

#: Samples beyond which they are thinned.
_MOST = 150_000
_walls: WeakKeyDictionary[Body, tuple[Floats, Floats, Ints, Ints, Floats]] = WeakKeyDictionary()


def thickness(body: Body) -> tuple[Floats, Floats, Ints, Ints, Floats]:
    """Sample points (n,3) on the surface, the wall behind each (n,), the face use index of the
    sample (n,) and of the wall's far side (n,), and the cosine (n,) between the two outward normals.
    About one sample per 1/60 of the diagonal; cached."""
    hit = _walls.get(body)
    if hit is not None:
        return hit
    points, triangles, owner = body_mesh(body)
    corners = points[triangles]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(cross, axis=1)
    sound = np.flatnonzero(size > 0.0)
    scale = float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    spots, row = spread_inside(corners[sound], scale / 60.0)
    row = sound[row]
    if len(spots) > _MOST:  # one for each face and cell is enough where triangles are many
        cells = np.column_stack([owner[row], np.round(spots / (scale / 250.0)).astype(np.int64)])
        _, first = np.unique(cells, axis=0, return_index=True)
        spots, row = spots[first], row[first]
    inward = -cross[row] / size[row, None]
    which, distance = tree_of(body).first_hits(spots, inward, 1e-7 * scale)
    far = np.where(which >= 0, owner[which], -1)
    facing = np.where(
        which >= 0, (cross[row] * cross[which]).sum(axis=1) / (size[row] * np.maximum(size[which], 1e-300)), 1.0
    )
    made = spots, distance, owner[row], far, facing
    _walls[body] = made
    return made
