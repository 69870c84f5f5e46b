"""Where the triangles of one face pass through the surface of another: from there their curves are followed."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Face
from lithon.geometry.surfaces import Surface
from lithon.remembered import Remembered

#: What is not plane is looked for along sides in steps of this share of the box that both faces are in.
_STEP = 1.0 / 16.0

_sides = Remembered[Face, Ints]("arrange/passages:sides")


def _sides_of(face: Face) -> Ints:
    """The sides (k,2) of a face's triangles, each once."""
    return _sides.of(face, _found_sides)


def _found_sides(face: Face) -> Ints:
    t = face_mesh(face).triangles
    return np.unique(np.sort(np.concatenate([t[:, [0, 1]], t[:, [1, 2]], t[:, [2, 0]]]), axis=1), axis=0)


@dataclass(frozen=True, slots=True)
class Passages:
    """Where sides of a face's triangles pass through a surface (n,3), and how near (mm) they come to it."""

    points: Floats
    gap: float

    @staticmethod
    def of(face: Face, surface: Surface, low: Floats, high: Floats) -> Passages:
        """Within a box. A long side may pass in and out again: rods that cross are drawn by lines from end to end."""
        mesh, sides = face_mesh(face), _sides_of(face)
        p, q = mesh.points[sides[:, 0]], mesh.points[sides[:, 1]]
        if surface.kind == "plane":
            d = surface.signed_distance(mesh.points)
            a, b = d[sides[:, 0]], d[sides[:, 1]]
            return Passages(_between(p, q, a, b), float(np.abs(d).min(initial=np.inf)))
        spare = 0.02 * float(np.linalg.norm(high - low))
        p, q = _within(p, q, low - spare, high + spare)
        if not len(p):
            return Passages(np.zeros((0, 3)), np.inf)
        step = _STEP * float(np.linalg.norm(high - low))
        count = np.maximum(np.ceil(np.linalg.norm(q - p, axis=1) / step), 1.0).astype(np.int64)
        side = np.repeat(np.arange(len(p)), count + 1)
        rank = np.arange(len(side)) - np.repeat(np.cumsum(count + 1) - count - 1, count + 1)
        x = p[side] + (rank / count[side])[:, None] * (q - p)[side]
        d = surface.signed_distance(x)
        gap = float(np.abs(d).min())
        follows = np.flatnonzero(side[:-1] == side[1:])
        found = [_between(x[follows], x[follows + 1], d[follows], d[follows + 1])]
        # Where it comes nearest between three places it may pass between them.
        k = np.flatnonzero((side[:-2] == side[2:]) & (d[:-2] * d[1:-1] > 0.0) & (d[1:-1] * d[2:] > 0.0)) + 1
        near = np.abs(d)
        k = k[(near[k] <= near[k - 1]) & (near[k] <= near[k + 1])]
        if len(k):
            bent = near[k - 1] + near[k + 1] - 2.0 * near[k]
            shift = 0.5 * (near[k - 1] - near[k + 1]) / np.maximum(bent, 1e-300)
            lowest = x[k] + np.clip(shift, -1.0, 1.0)[:, None] * (x[k + 1] - x[k])
            there = surface.signed_distance(lowest)
            gap = min(gap, float(np.abs(there).min()))
            found.append(_between(x[k], lowest, d[k], there))
        return Passages(np.concatenate(found), gap)


def _between(p: Floats, q: Floats, a: Floats, b: Floats) -> Floats:
    """Where (k,3) stretches from p to q (n,3) pass through what is a and b (n,) off them."""
    hit = a * b < 0.0
    share = (a[hit] / (a[hit] - b[hit]))[:, None]
    return np.asarray(p[hit] + share * (q[hit] - p[hit]))


def _within(p: Floats, q: Floats, low: Floats, high: Floats) -> tuple[Floats, Floats]:
    """What of stretches from p to q (n,3) is within a box."""
    way = q - p
    with np.errstate(divide="ignore", invalid="ignore"):
        a, b = (low - p) / way, (high - p) / way
    still = way == 0.0
    beside = (still & ((p < low) | (p > high))).any(axis=1)
    enters = np.where(still, 0.0, np.minimum(a, b)).max(axis=1).clip(0.0, 1.0)
    leaves = np.where(still, 1.0, np.maximum(a, b)).min(axis=1).clip(0.0, 1.0)
    some = (enters < leaves) & ~beside
    p, way = p[some], way[some]
    return p + enters[some, None] * way, p + leaves[some, None] * way
