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
#: Sample points, distances, face uses on both sides, cosines.
Field = tuple[Floats, Floats, Ints, Ints, Floats]
_walls: WeakKeyDictionary[Body, Field] = WeakKeyDictionary()


def thickness(body: Body) -> Field:
    """Sample points (n,3) on the surface, the wall behind each (n,), the face use index of the
    sample (n,) and of the wall's far side (n,), and the cosine (n,) between the two outward normals.
    About one sample per 1/60 of the diagonal; cached."""
    if body not in _walls:
        _walls[body] = _across(body, -1.0, np.inf)
    return _walls[body]


def clearance(body: Body, most: float) -> Field:
    """The same, looking out of the solid for its own surface no further away than `most`."""
    return _across(body, 1.0, most)


def _across(body: Body, way: float, most: float) -> Field:
    points, triangles, owner = body_mesh(body)
    corners = points[triangles]
    cross = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    size = np.linalg.norm(cross, axis=1)
    sound = np.flatnonzero(size > 0.0)
    scale = float(np.linalg.norm(points.max(axis=0) - points.min(axis=0)))
    spots, row = spread_inside(corners[sound], scale / 60.0)
    row = sound[row]
    if len(spots) > _MOST:  # one for each face and cell is enough where triangles are many
        cells = np.round((spots - spots.min(axis=0)) / (scale / 250.0)).astype(np.int64)
        # At most 251 cells each way, and one more number for the face.
        _, first = np.unique(cells @ np.array([1, 256, 65536]) + (owner[row] << 24), return_index=True)
        spots, row = spots[first], row[first]
    which, distance = tree_of(body).first_hits(spots, way * cross[row] / size[row, None], 1e-7 * scale, most)
    far = np.where(which >= 0, owner[which], -1)
    facing = np.where(
        which >= 0, (cross[row] * cross[which]).sum(axis=1) / (size[row] * np.maximum(size[which], 1e-300)), 1.0
    )
    return spots, distance, owner[row], far, facing
