"""Bodies that are the same to the last digits, only elsewhere: what a file may say once, and is kept once."""

from __future__ import annotations

import contextlib
from collections import defaultdict
from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import scipy

from lithon.arrays import Floats
from lithon.brep.analysis.twins import motion_between
from lithon.brep.copies import copy_of, moved, root_of
from lithon.brep.measures import face_centroid
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Edge, Model
from lithon.errors import Refusal
from lithon.geometry.batch import CurveBatch
from lithon.geometry.curves import Ellipse

#: Copies differ (mm) from what they are made from by no more than this, or this share of the model's tolerance.
_NEAR, _SHARE = 1e-7, 0.01


def folded(model: Model) -> Model:
    """The model with bodies that are the same but for their place stored once. What shares edges with others stays."""
    users: dict[Edge, set[Body]] = defaultdict(set)
    alike: dict[tuple[object, ...], list[Body]] = defaultdict(list)
    for body in model.bodies:
        if copy_of(body) is None:
            kinds = sorted(f.surface.kind for f in body.faces)
            labels = sorted(f.label for f in body.faces)
            alike[len(body.edges()), len(body.vertices()), *kinds, *labels].append(body)
    few = [bodies for bodies in alike.values() if len(bodies) > 1]
    if not few:
        return model
    for body in model.bodies:
        if copy_of(body) is None:
            for edge in body.edges():
                users[edge].add(body)
    near = max(_NEAR, _SHARE * model.tolerance)
    stands: dict[Body, Body] = {}
    for bodies in few:
        left = [b for b in bodies if all(len(users[e]) == 1 for e in b.edges())]
        while len(left) > 1:
            first, *others = left
            places = _places(first, others, near)
            for body, motion in places.items():
                named = {"name": body.name, "path": body.path, "colour": body.colour}
                stands[body] = replace(moved(first, motion), **named)  # type: ignore[arg-type]
            left = [b for b in others if b not in places]
    return Model(tuple(stands.get(body, body) for body in model.bodies), model.tolerance)


def _places(first: Body, others: Sequence[Body], near: float) -> dict[Body, Floats]:
    """Those of some bodies that are the first one elsewhere, and the motion (4,4) there."""
    out = {}
    for body in others:
        with contextlib.suppress(Refusal):  # one of them cannot even be drawn
            if (motion := same_at(first, body, near)) is not None:
                out[body] = motion
    return out


def same_at(a: Body, b: Body, near: float = _NEAR) -> Floats | None:
    """The motion (4,4) that takes body a onto body b to within a distance (mm) everywhere, or None."""
    rough = motion_between(a, b)
    if rough is None or root_of(a) is root_of(b):
        return rough
    here, there = _marks(a), _marks(b)
    _, pair = scipy.spatial.cKDTree(there).query(here @ rough[:3, :3].T + rough[:3, 3])
    if len(set(pair.tolist())) < len(pair):
        return None
    motion = _fitted(here, there[pair], rough)
    if float(np.linalg.norm(here @ motion[:3, :3].T + motion[:3, 3] - there[pair], axis=1).max(initial=0.0)) > near:
        return None
    theirs = list(dict.fromkeys(b.faces))
    places = np.array([face_centroid(f) for f in theirs])
    for face in dict.fromkeys(a.faces):
        points = face_mesh(face).points @ motion[:3, :3].T + motion[:3, 3]
        away = np.linalg.norm(places - motion[:3, :3] @ face_centroid(face) - motion[:3, 3], axis=1)
        like = (theirs[k] for k in np.argsort(away).tolist())
        like = (f for f in like if f.surface.kind == face.surface.kind and len(f.loops) == len(face.loops))
        if not any(float(np.abs(f.surface.signed_distance(points)).max()) <= near for f in like):
            return None
    return motion


def _marks(body: Body) -> Floats:
    """Points (n,3) that move with a body: its vertices, and three on each edge."""
    edges = [edge for edge in body.edges() if not edge.ring]
    points = [v.point for v in body.vertices()]
    points += [edge.curve.frame.origin for edge in body.edges() if isinstance(edge.curve, Ellipse) and edge.ring]
    every = np.array(points).reshape(-1, 3)
    if edges:
        t = np.array([(e.t0, e.t1) for e in edges]) @ [[0.75, 0.5, 0.25], [0.25, 0.5, 0.75]]
        row = np.repeat(np.arange(len(edges)), 3)
        every = np.concatenate([every, CurveBatch.of([e.curve for e in edges]).points(row, t.ravel())])
    return np.unique(np.round(every, 9), axis=0)


def _fitted(here: Floats, there: Floats, rough: Floats) -> Floats:
    """The rotation and shift (4,4) nearest to taking points (n,3) onto others, as free of rounding as they are; the
    rough one where points do not say."""
    if len(here) < 3:
        return rough
    a, b = here - here.mean(axis=0), there - there.mean(axis=0)
    u, size, v = np.linalg.svd(b.T @ a)
    if size[1] < 1e-9 * size[0]:
        return rough
    flip = np.diag([1.0, 1.0, np.sign(np.linalg.det(u @ v))])
    out = np.eye(4)
    out[:3, :3] = u @ flip @ v
    out[:3, 3] = there.mean(axis=0) - out[:3, :3] @ here.mean(axis=0)
    return out
