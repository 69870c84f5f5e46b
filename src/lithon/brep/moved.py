"""A body at another place: moved, turned or mirrored."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, frozen
from lithon.brep.tessellate import carry_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Vertex, new_uid
from lithon.errors import Refusal


def moved(body: Body, motion: Floats) -> Body:
    """The body under a rigid motion (4,4), a mirror included. What is drawn of it moves along.

    Raises Refusal where the matrix stretches or shears.
    """
    turn = motion[:3, :3]
    if not np.isfinite(motion).all() or np.abs(turn.T @ turn - np.eye(3)).max() > 1e-6:
        raise Refusal("a body can only be moved, turned or mirrored, not stretched")
    mirror = bool(np.linalg.det(turn) < 0.0)
    vertices = {v: Vertex(frozen(turn @ v.point + motion[:3, 3])) for v in body.vertices()}
    edges: dict[Edge, Edge] = {}
    for e in body.edges():
        start = None if e.start is None else vertices[e.start]
        edges[e] = Edge(e.curve.moved(motion), e.t0, e.t1, start, None if e.end is None else vertices[e.end])
    faces: dict[Face, Face] = {}
    for face in dict.fromkeys(body.faces):
        loops = [tuple(Coedge(edges[c.edge], c.forward) for c in loop) for loop in face.loops]
        if mirror:  # what was on the left is on the right now
            loops = [tuple(c.reversed() for c in reversed(loop)) for loop in loops]
        faces[face] = Face(face.surface.moved(motion), tuple(loops), face.along, face.label)
    carry_mesh(edges, vertices, faces, motion)
    return replace(body, uses=tuple(FaceUse(faces[u.face], u.forward) for u in body.uses), uid=new_uid())
