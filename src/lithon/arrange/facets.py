"""Bodies of triangles laid over each other exactly, with what they share and what cuts them, and made anew from it."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrange.pressing import Pressed
from lithon.arrays import Floats, Ints
from lithon.brep.arrangement import Overlaid, overlaid, same_way
from lithon.brep.faceted import regrouped
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Face, FaceUse, Model

#: What lies on each other may stand off so many tolerances.
_NEAR = 20.0


def bonded_with(model: Model, bodies: Sequence[Body]) -> list[Body]:
    """Some bodies, and all that share faces with them, or with such as do."""
    out, new = list(bodies), list(bodies)
    while new:
        faces = set(new.pop().faces)
        more = [body for body in model.bodies if body not in out and not faces.isdisjoint(body.faces)]
        out += more
        new += more
    return out


@dataclass(frozen=True, slots=True, eq=False)
class Laid:
    """The triangles of some bodies, those of a shared face once, cut along where they meet each other and a sheet.
    `owned` (k,b): of which bodies each is skin, 1 where it looks out of them, -1 into them, else 0. The first and the
    last face (k,) that lie there, the sheet after all others."""

    made: Overlaid
    owned: Ints
    first: Ints
    last: Ints

    def sides_of(self, label: Ints, owned: Ints) -> tuple[list[list[FaceUse]], list[tuple[Face, int]]]:
        """The sides of bodies (k,b) that are made of those triangles, by body, and each face with a row of its own.
        Triangles of one face have one label (k,)."""
        wanted = np.flatnonzero(owned.any(axis=1))
        # What belongs to other bodies is another face, even of one label.
        names, label = np.unique(np.column_stack([label, owned])[wanted], axis=0, return_inverse=True)
        row = np.empty(len(names), dtype=np.int64)
        row[label[::-1]] = wanted[::-1]
        used, corners = np.unique(self.made.corners[wanted], return_inverse=True)
        uses, labels = regrouped(self.made.points[used], corners.reshape(-1, 3), label)
        sides: list[list[FaceUse]] = [[] for _ in range(owned.shape[1])]
        for use, k in zip(uses, labels, strict=True):
            for at, sense in enumerate(owned[row[k]].tolist()):
                if sense:
                    sides[at].append(FaceUse(use.face, sense > 0))
        return sides, [(use.face, int(row[k])) for use, k in zip(uses, labels, strict=True)]


def laid(bodies: Sequence[Body], tolerance: float = 0.0, sheet: Floats | None = None) -> Laid:
    """Bodies of triangles laid over each other, and over a triangle (3,3) where that is given; corners within a
    tolerance (mm) of each other become one."""
    senses: dict[Face, list[int]] = defaultdict(lambda: [0] * len(bodies))
    for k, body in enumerate(bodies):
        for use in body.uses:
            senses[use.face][k] += 1 if use.forward else -1
    points, corners, count, base = [], [], [], 0
    for one in senses:
        mesh = face_mesh(one)
        points.append(mesh.points)
        corners.append(mesh.triangles + base)
        count.append(len(mesh.triangles))
        base += len(mesh.points)
    owners = np.array(list(senses.values()))
    # A face that is shared already is looked at by itself.
    shared = np.count_nonzero(owners, axis=1) > 1
    tag = np.where(shared, len(bodies) + np.arange(len(owners)), np.abs(owners).argmax(axis=1))
    if sheet is not None:
        points.append(sheet)
        corners.append(base + np.array([[0, 1, 2]]))
        count.append(1)
        owners, tag = np.vstack([owners, np.zeros_like(owners[:1])]), np.append(tag, -1)
    face = np.repeat(np.arange(len(owners)), count)
    p, t = np.concatenate(points), np.concatenate(corners)
    if tolerance > 0.0:
        p, t, face = _pressed(p, t, face, owners, _NEAR * tolerance)
    made = overlaid(p, t, tag[face])
    owned, first = owners[face[made.origin]].copy(), face[made.origin]
    last = first.copy()
    for row, others in made.over.items():
        for other in others:
            sense = 1 if same_way(p, t, int(made.origin[row]), other) else -1
            owned[row] += sense * owners[face[other]]
        first[row], last[row] = min(first[row], *face[others]), max(last[row], *face[others])
    return Laid(made, owned, first, last)


def _pressed(points: Floats, corners: Ints, face: Ints, owners: Ints, near: float) -> tuple[Floats, Ints, Ints]:
    """Triangles (m,3), each of a face (m,), with corners that nearly coincide made one, and plane faces of different
    bodies that nearly lie on each other laid over each other."""
    unique, one = np.unique(_drawn_onto(points, near), axis=0, return_inverse=True)
    rows = one.reshape(-1)[corners]
    whole = (rows[:, 0] != rows[:, 1]) & (rows[:, 1] != rows[:, 2]) & (rows[:, 2] != rows[:, 0])
    out = Pressed(unique, rows[whole], face[whole], near)
    out.press(owners)
    return out.points, out.corners, out.face


def _drawn_onto(points: Floats, tolerance: float) -> Floats:
    """Points (n,3), each where the first of those stands that it is as good as one with."""
    pairs = scipy.spatial.cKDTree(points).query_pairs(tolerance, output_type="ndarray")
    graph = scipy.sparse.coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(points),) * 2)
    _, one = scipy.sparse.csgraph.connected_components(graph, directed=False)
    _, first = np.unique(one, return_index=True)
    return np.asarray(points[first[one]])
