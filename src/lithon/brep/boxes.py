"""Boxes of edges, faces and bodies, kept once found, and which of them meet.

Boxes are arrays (n,2,3): the lower corner, then the upper.
"""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.batch import CurveBatch
from lithon.remembered import Remembered

_edges = Remembered[Edge, Floats]("brep/boxes:edges")
_faces = Remembered[Face, Floats]("brep/boxes:faces")

#: Pairs of boxes looked at in one go.
_CHUNK = 4_000_000


def edge_boxes(edges: Sequence[Edge]) -> Floats:
    """Boxes of edges: exact for lines, circles and ellipses, of samples refined once for others."""
    fresh = [e for e in dict.fromkeys(edges) if e not in _edges]
    if fresh:
        _edges.update(zip(fresh, _found(fresh), strict=True))
    return np.array([_edges[e] for e in edges]).reshape(-1, 2, 3)


def _found(edges: list[Edge]) -> Floats:
    batch = CurveBatch.of([e.curve for e in edges])
    t0, t1 = np.array([e.t0 for e in edges]), np.array([e.t1 for e in edges])
    row = np.arange(len(edges))
    ends = np.array([batch.points(row, t0), batch.points(row, t1)])
    low, high = ends.min(axis=0), ends.max(axis=0)
    # Each coordinate of a conic is c + a cos t + b sin t: extreme where t = atan2(b, a) + k pi.
    for turn in (0.0, np.pi):
        t = t0[:, None] + np.mod(np.arctan2(batch.b, batch.a) + turn - t0[:, None], 2.0 * np.pi)
        at = batch.middle + batch.a * np.cos(t) + batch.b * np.sin(t)
        within = (t <= t1[:, None]) & ~(batch.straight | batch.others)[:, None]
        low, high = np.where(within, np.minimum(low, at), low), np.where(within, np.maximum(high, at), high)
    for k in np.flatnonzero(batch.others):
        low[k], high[k] = _sampled(edges[k])
    return np.stack([low, high], axis=1)


def _sampled(edge: Edge) -> tuple[Floats, Floats]:
    t = np.linspace(edge.t0, edge.t1, 257)
    p = edge.curve.point(t)
    low, high = np.clip(p.argmin(axis=0), 1, 255), np.clip(p.argmax(axis=0), 1, 255)
    fine = np.concatenate([np.linspace(t[k - 1], t[k + 1], 65) for k in (*low, *high)])
    p = np.concatenate([p, edge.curve.point(fine)])
    return p.min(axis=0), p.max(axis=0)


def face_boxes(faces: Sequence[Face]) -> Floats:
    """Boxes of faces: of their edges and, of curved ones, triangles, with room for what they bulge over those."""
    fresh = [f for f in dict.fromkeys(faces) if f not in _faces]
    for face in fresh:
        if face.before is not None:
            parts = face_boxes([face.before, *face.plugs()])
            _faces[face] = np.array([parts[:, 0].min(axis=0), parts[:, 1].max(axis=0)])
    fresh = [f for f in fresh if f.before is None]
    own = [list(f.edges()) for f in fresh]
    boxes = edge_boxes([e for edges in own for e in edges])
    stop = np.cumsum([len(edges) for edges in own])
    for face, edges, last in zip(fresh, own, stop.tolist(), strict=True):
        p = boxes[last - len(edges) : last].reshape(-1, 3)
        flat = face.surface.kind == "plane" and len(p)
        if not flat:
            p = np.concatenate([p, face_mesh(face).points])
        low, high = p.min(axis=0), p.max(axis=0)
        bulge = 0.0 if flat else 0.01 * float(np.linalg.norm(high - low))
        _faces[face] = np.array([low - bulge, high + bulge])
    return np.array([_faces[f] for f in faces]).reshape(-1, 2, 3)


def box(body: Body) -> Floats:
    """Box (2,3) of a body: of its edges and, where faces may bulge beyond them, of their triangles."""
    every = edge_boxes(body.edges()).reshape(-1, 3)
    bulging = [face_mesh(f).points for f in body.faces if f.surface.kind not in ("plane", "cylinder")]
    every = np.concatenate([every, *bulging])
    return np.array([every.min(axis=0), every.max(axis=0)])


def meeting(a: Floats, b: Floats, near: float = 0.0) -> Ints:
    """Pairs (k,2) of numbers of boxes, of one row and of another, that are no farther apart than this, by the first."""
    if not len(a) or not len(b):
        return np.zeros((0, 2), dtype=np.int64)
    reach = np.array([b[:, 0].min(axis=0), b[:, 1].max(axis=0)])
    mine = np.flatnonzero((a[:, 0] <= reach[1] + near).all(axis=1) & (a[:, 1] >= reach[0] - near).all(axis=1))
    out = [np.zeros((0, 2), dtype=np.int64)]
    step = max(1, _CHUNK // len(b))
    for first in range(0, len(mine), step):
        rows = mine[first : first + step]
        hit = np.ones((len(rows), len(b)), dtype=bool)
        for k in range(3):
            hit &= a[rows, 0, k][:, None] <= b[:, 1, k] + near
            hit &= b[:, 0, k] <= a[rows, 1, k][:, None] + near
        i, j = np.nonzero(hit)
        out.append(np.stack([rows[i], j], axis=1))
    return np.concatenate(out)
