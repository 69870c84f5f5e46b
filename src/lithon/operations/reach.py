"""Faces from one of them up to a fence: a seed, and faces or edges that are not gone beyond. Seeds and fences are told
by points on them, so that what was asked once is understood on the model as it is later."""

from __future__ import annotations

from collections.abc import Collection, Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.area import area_of, off_edge
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Edge, Face, Model

Triple = tuple[float, float, float]


@dataclass(frozen=True, slots=True)
class Reach:
    """seed: a point on the face to begin with; kind: of the fence; fence: a point on each part of it."""

    seed: Triple
    kind: Literal["faces", "edges"]
    fence: tuple[Triple, ...]

    def faces(self, model: Model) -> tuple[Face, ...]:
        """The faces within the fence, the seed's among them; none where there is nothing."""
        if not model.bodies:
            return ()
        body, seed = _nearest_face(model, self.seed)
        if self.kind == "faces":
            return reached(body, seed, {_nearest_face(model, p)[1] for p in self.fence})
        every = list(dict.fromkeys(e for b in model.bodies for e in b.edges()))
        return reached(body, seed, {_nearest_edge(every, p) for p in self.fence})

    def text(self) -> str:
        points = [f"({', '.join(f'{x:.9g}' for x in p)})" for p in (self.seed, *self.fence)]
        return f"from {points[0]} up to {self.kind} {' '.join(points[1:])}"


def reached(body: Body, seed: Face, fence: Collection[Face | Edge]) -> tuple[Face, ...]:
    """Faces of a body that hang together with one, over edges that are no fence and without faces that are."""
    adj, out, stack = adjacency(body), dict.fromkeys([seed]), [seed]
    while stack:
        face = stack.pop()
        for edge in dict.fromkeys(face.edges()):
            if edge in fence:
                continue
            for use, _ in adj.uses[edge]:
                if use.face not in fence and use.face not in out:
                    out[use.face] = None
                    stack.append(use.face)
    return tuple(out)


def fenced(model: Model, faces: Sequence[Face], edges: Sequence[Edge]) -> Reach | None:
    """What is in hand as a seed, its first face, and a fence: the edges, or the other faces. Nothing where these do not
    keep anything out."""
    if not faces or not (edges or len(faces) > 1):
        return None
    body = model.owners(faces[0])[0]
    fence: Sequence[Face | Edge] = edges or faces[1:]
    found = reached(body, faces[0], set(fence))
    spare = len(body.uses) - (0 if edges else len(set(faces[1:])))
    if len(found) in (1, spare):
        return None
    points = [_inner(f) if isinstance(f, Face) else _triple(f.at(0.5)) for f in fence]
    return Reach(_inner(faces[0]), "edges" if edges else "faces", tuple(points))


def _inner(face: Face) -> Triple:
    """A point within a face, not on its outline."""
    mesh = face_mesh(face)
    corners = mesh.points[mesh.triangles]
    size = np.linalg.norm(cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    middles = face.surface.project(corners[np.argsort(-size)[:20]].mean(axis=1))
    inside = np.flatnonzero(area_of(face).side(middles, 1e-6) > 0)
    return _triple(middles[int(inside[0]) if len(inside) else 0])


def _triple(p: Floats) -> Triple:
    return float(p[0]), float(p[1]), float(p[2])


def _nearest_face(model: Model, point: Triple) -> tuple[Body, Face]:
    p, best, found = np.array(point)[None], np.inf, None
    for body in model.bodies:
        row, at = tree_of(body).nearest(p)
        away = float(np.linalg.norm(at[0] - p[0]))
        if away < best:
            best, found = away, (body, body.uses[int(body_mesh(body)[2][row[0]])].face)
    assert found is not None
    return found


def _nearest_edge(edges: Sequence[Edge], point: Triple) -> Edge:
    p = np.array(point)[None]
    return min(edges, key=lambda e: float(off_edge(e, p)[0]))
