"""Plane faces with three straight sides, of which a body made of facets has thousands: one triangle each."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.tessellation.division import divide_edges, edge_points
from lithon.brep.tessellation.facemesh import FaceMesh
from lithon.brep.topology import Coedge, Face
from lithon.geometry.curves import Line
from lithon.geometry.surfaces import Plane

_CORNERS = np.array([[0, 1, 2]])
_CORNERS.flags.writeable = False


def three_sided(faces: Iterable[Face]) -> dict[Face, FaceMesh]:
    """The triangles of those of many faces that are one. What is no sound triangle is left out."""
    plain = [face for face in faces if _plain(face)]
    if not plain:
        return {}
    divide_edges(edge for face in plain for edge in face.edges())
    keys, points, whole = [], [], []
    for face in plain:
        corners = [_first(c) for c in face.loops[0]]
        if all(len(edge_points(c.edge)[0]) == 2 for c in face.loops[0]):
            whole.append(face)
            keys.append([k for k, _ in corners])
            points.append([p for _, p in corners])
    if not whole:
        return {}
    p, key = np.array(points), np.array(keys)
    normal = np.array([f.surface.frame.z if f.along else -f.surface.frame.z for f in whole])
    cross = cross_product(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0])
    long = np.linalg.norm(p - np.roll(p, -1, axis=1), axis=2).max(axis=1)
    sound = (cross * normal).sum(axis=1) > 1e-9 * long**2
    return {
        whole[i]: FaceMesh(p[i], _CORNERS, key[i], tight=_joined(whole[i].loops[0]))
        for i in np.flatnonzero(sound).tolist()
    }


def _plain(face: Face) -> bool:
    loops = face.loops
    return (
        isinstance(face.surface, Plane)
        and len(loops) == 1
        and len(loops[0]) == 3
        and all(isinstance(c.edge.curve, Line) and not c.edge.ring for c in loops[0])
    )


def _first(coedge: Coedge) -> tuple[int, Floats]:
    key, point = edge_points(coedge.edge)
    k = 0 if coedge.forward else -1
    return int(key[k]), np.asarray(point[k])


def _joined(loop: tuple[Coedge, ...]) -> bool:
    return all(a.last is b.first for a, b in zip(loop, (*loop[1:], loop[0]), strict=True))
