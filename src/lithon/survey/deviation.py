"""How far what was read stands off what has become of it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, rows_of, triangle_areas
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Body, Face, Model
from lithon.geometry.facets import Facets
from lithon.geometry.surfaces import Plane
from lithon.progress import SILENT, Progress


@dataclass(frozen=True, slots=True, eq=False)
class Deviation:
    """points (n,3) and triangles (m,3) of what was read; off (n,): how far (mm) each point lies outside of what is
    there now, less than zero inside."""

    points: Floats
    triangles: Ints
    off: Floats

    @property
    def most(self) -> float:
        return float(np.abs(self.off).max(initial=0.0))

    @property
    def mean(self) -> float:
        """Root mean square (mm) over the points."""
        return float(np.sqrt((self.off**2).mean())) if len(self.off) else 0.0

    @property
    def reach(self) -> float:
        """What all but one point in fifty stay below (mm): the end of a scale that a stray island does not spoil."""
        return float(np.quantile(np.abs(self.off), 0.98)) if len(self.off) else 0.0

    def ends(self) -> tuple[str, str, str]:
        """What stands below the two ends and the middle of a scale of it."""
        end = f"{self.reach:.2g}" + (" and more" if self.most > 1.01 * self.reach else "")
        return f"{end} inside", "on it", f"{end} outside"

    def words(self) -> str:
        return f"at most {self.most:.2g} mm off what was read, {self.mean:.2g} mm in the mean"


def deviation(before: Model, after: Model, progress: Progress = SILENT) -> Deviation:
    """Of the corners of the triangles of one model (of exact faces, of their tessellation), the distance to the nearest
    face of the other. Bodies kept for reference are not looked at."""
    own = [body for body in before.bodies if not body.reference]
    points, corners, start = [np.zeros((0, 3))], [np.zeros((0, 3), dtype=np.int64)], 0
    for body in own:
        p, t, _ = body_mesh(body)
        points.append(p)
        corners.append(t + start)
        start += len(p)
    every = np.concatenate(points)
    off = np.full(len(every), np.inf)
    for k, body in enumerate(after.bodies):
        progress.tell(k / len(after.bodies), f"measuring to {body.name}")
        if body.reference:
            continue
        here = _off(body, every)
        nearer = np.abs(here) < np.abs(off)
        off[nearer] = here[nearer]
    if not np.isfinite(off).all():  # nothing is left to measure to
        off = np.zeros(len(every))
    return Deviation(every, np.concatenate(corners), off)


def _off(body: Body, points: Floats) -> Floats:
    """Signed distances (n,) of points to a body: to its triangles, and where those are chords to the surface itself."""
    p, corners, owner = body_mesh(body)
    rows, feet = tree_of(body).nearest(points)
    away = points - feet
    normal = _pseudonormals(p, corners, rows, feet)
    out = np.linalg.norm(away, axis=1) * np.where((away * normal).sum(axis=1) < 0.0, -1.0, 1.0)
    sag, adj = {face: _sag(face) for face in body.faces}, adjacency(body)
    for use, mine in zip(body.uses, rows_of(owner[rows], len(body.uses)), strict=True):
        if not len(mine) or isinstance(use.face.surface, Facets):
            continue
        room = max(sag[face] for face in (use.face, *adj.neighbours(use.face)))
        if not room:  # it and all around it is flat: its triangles are it
            continue
        exact = use.face.surface.signed_distance(points[mine]) * (1.0 if use.forward == use.face.along else -1.0)
        # Beside the face its surface goes on where the body does not, but for the chords of its own triangles and of
        # those beyond its edges.
        beside = np.abs(out[mine] - exact) <= room + 1e-9
        out[mine[beside]] = exact[beside]
    return out


def _pseudonormals(p: Floats, corners: Ints, rows: Ints, feet: Floats) -> Floats:
    """The normals (n,3) that tell which side of triangles points are on whose nearest points these feet on triangles
    `rows` are: a triangle's own, on an edge the sum of two, at a corner weighted by angles.

    J. A. Bærentzen and H. Aanæs, "Signed distance computation using the angle weighted pseudonormal" (2005).
    """
    a, b, c = (p[corners[:, k]] for k in range(3))
    normal = cross_product(b - a, c - a)
    area = np.linalg.norm(normal, axis=1)
    normal /= np.maximum(area, 1e-300)[:, None]
    sides = np.sort(corners[:, [[1, 2], [2, 0], [0, 1]]], axis=2)  # each opposite to its corner
    _, number = np.unique((sides[..., 0] * len(p) + sides[..., 1]).ravel(), return_inverse=True)
    number = number.reshape(-1, 3)
    along, at = np.zeros((int(number.max()) + 1, 3)), np.zeros_like(p)
    for k in range(3):
        np.add.at(along, number[:, k], normal)
        one, two = (p[corners[:, (k + j) % 3]] - p[corners[:, k]] for j in (1, 2))
        angle = np.arctan2(area, (one * two).sum(axis=1))
        np.add.at(at, corners[:, k], angle[:, None] * normal)
    # How much of its triangle's area lies beyond a foot, seen from each corner: none where it is on the side opposite.
    three = p[corners[rows]] - feet[:, None]
    share = np.stack([np.linalg.norm(cross_product(three[:, (k + 1) % 3], three[:, (k + 2) % 3]), axis=1)
                      for k in range(3)], axis=1) / np.maximum(area[rows], 1e-300)[:, None]  # fmt: skip
    zero = share < 1e-7
    out = normal[rows].copy()
    on_side = zero.sum(axis=1) == 1
    out[on_side] = along[number[rows[on_side], np.argmax(zero[on_side], axis=1)]]
    corner = zero.sum(axis=1) >= 2
    out[corner] = at[corners[rows[corner], np.argmax(share[corner], axis=1)]]
    return out


def _sag(face: Face) -> float:
    """How far the triangles of a face stand off its surface (mm)."""
    if isinstance(face.surface, Facets | Plane):
        return 0.0
    mesh = face_mesh(face)
    corners = mesh.points[mesh.triangles]
    if len(corners) > _LARGEST:  # the largest stand off most
        corners = corners[np.argsort(triangle_areas(mesh.points, mesh.triangles))[-_LARGEST:]]
    middle = corners.mean(axis=1)
    return 3.0 * float(np.abs(face.surface.signed_distance(middle)).max(initial=0.0))


#: Of so many triangles of a face it is looked how far they stand off it.
_LARGEST = 500
#: So many points of new faces are looked at.
_SAMPLES = 4000


def shifted(before: Sequence[Body], after: Sequence[Body]) -> float:
    """How far (mm) the faces that are new stand off what was there before, at the most, by points spread over them
    about what is gone: of a hole that was filled its radius, of a fillet that was cleared what its corner juts out."""
    # in the bodies' order, not a set's: the points drawn on them are the same in every run
    old, new = (dict.fromkeys(face for body in bodies for face in body.faces) for bodies in (before, after))
    gone, fresh = [f for f in old if f not in new], [f for f in new if f not in old]
    if not (gone and fresh):
        return 0.0
    meshes = [face_mesh(face) for face in fresh]
    corners = np.concatenate([m.points[m.triangles] for m in meshes])
    there = np.concatenate([face_mesh(face).points for face in gone])
    low, high = there.min(axis=0), there.max(axis=0)
    near = ((corners.min(axis=1) <= high) & (corners.max(axis=1) >= low)).all(axis=1)
    corners = corners[near]
    if not len(corners):
        return 0.0
    area = np.linalg.norm(cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0]), axis=1)
    rng = np.random.default_rng(1)
    inside: Floats = np.zeros((0, 3))
    for many in (_SAMPLES, 8 * _SAMPLES, 64 * _SAMPLES):  # what is gone may be little of a large face
        rows = rng.choice(len(corners), many, p=area / area.sum()) if area.sum() > 0.0 else np.arange(len(corners))
        u, v = rng.random((2, len(rows), 1))
        u, v = np.where(u + v > 1.0, 1.0 - u, u), np.where(u + v > 1.0, 1.0 - v, v)
        a, b, c = (corners[rows, k] for k in range(3))
        points = a + u * (b - a) + v * (c - a)
        inside = points[((points >= low) & (points <= high)).all(axis=1)][:_SAMPLES]
        if len(inside) >= _SAMPLES // 8:
            break
    points = np.concatenate([inside, corners.reshape(-1, 3)])
    far = np.full(len(points), np.inf)
    for body in before:
        far = np.minimum(far, np.linalg.norm(points - tree_of(body).nearest(points)[1], axis=1))
    return float(far.max())
