"""A surface that is triangles: what a scan or a triangle file knows of a face."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, frozen
from lithon.geometry.boxtree import BoxTree
from lithon.geometry.charts import NOWHERE, Chart, Outlines
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane, Surface

#: Cosine to the mean normal that every triangle of a patch must reach to be seen from one side.
LEAN = 0.15


@dataclass(frozen=True, slots=True, eq=False)
class Facets:
    """points (n,3), triangles (m,3) counter-clockwise about the normal."""

    points: Floats
    triangles: Ints
    kind: str = field(default="facets", init=False)
    _kept: dict[str, Any] = field(default_factory=dict, repr=False)

    def __reduce__(self) -> tuple[Any, ...]:
        return Facets, (self.points, self.triangles)  # the tree is made again where it is needed

    @property
    def frame(self) -> Frame:
        """In the middle, along the mean normal."""
        if "frame" not in self._kept:
            a, b, c = (self.points[self.triangles[:, k]] for k in range(3))
            mean = cross_product(b - a, c - a).sum(axis=0)
            self._kept["frame"] = Frame.of(self.points.mean(axis=0), mean if np.linalg.norm(mean) > 0.0 else (0, 0, 1))
        out: Frame = self._kept["frame"]
        return out

    @property
    def normals(self) -> Floats:
        """Unit normals (m,3) of the triangles."""
        if "normals" not in self._kept:
            a, b, c = (self.points[self.triangles[:, k]] for k in range(3))
            n = cross_product(b - a, c - a)
            self._kept["normals"] = n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300)
        out: Floats = self._kept["normals"]
        return out

    @property
    def tree(self) -> BoxTree:
        if "tree" not in self._kept:
            self._kept["tree"] = BoxTree.of(self.points, self.triangles)
        out: BoxTree = self._kept["tree"]
        return out

    def _nearest(self, points: Floats) -> tuple[Ints, Floats]:
        return self.tree.nearest(np.asarray(points, dtype=float).reshape(-1, 3))

    def chart(self, outlines: Outlines) -> Chart:
        lean = self.normals @ self.frame.z
        if float(lean.min()) < LEAN:
            raise ValueError("its triangles turn too far for one view of them")
        return FacetsChart(self, Plane(self.frame))

    def normal(self, points: Floats) -> Floats:
        return self.normals[self._nearest(points)[0]].reshape(np.shape(points))

    def project(self, points: Floats) -> Floats:
        return self._nearest(points)[1].reshape(np.shape(points))

    def signed_distance(self, points: Floats) -> Floats:
        p = np.asarray(points, dtype=float).reshape(-1, 3)
        row, at = self._nearest(p)
        away = p - at
        side = (away * self.normals[row]).sum(axis=1)
        return np.asarray(np.where(side < 0.0, -1.0, 1.0) * np.linalg.norm(away, axis=1)).reshape(np.shape(points)[:-1])

    def bend(self, points: Floats) -> Floats:
        """The largest turn per length between a triangle and its neighbours."""
        if "bend" not in self._kept:
            sides = np.concatenate([self.triangles[:, [k, (k + 1) % 3]] for k in range(3)])
            owner = np.tile(np.arange(len(self.triangles)), 3)
            key = np.sort(sides, axis=1)
            order = np.lexsort(key.T)
            same = (key[order[1:]] == key[order[:-1]]).all(axis=1)
            a, b = owner[order[:-1]][same], owner[order[1:]][same]
            middle = self.points[self.triangles].mean(axis=1)
            turn = np.linalg.norm(self.normals[a] - self.normals[b], axis=1)
            rate = turn / np.maximum(np.linalg.norm(middle[a] - middle[b], axis=1), 1e-300)
            bend = np.zeros(len(self.triangles))
            np.maximum.at(bend, a, rate)
            np.maximum.at(bend, b, rate)
            self._kept["bend"] = bend
        out: Floats = self._kept["bend"][self._nearest(points)[0]]
        return out

    def moved(self, motion: Floats) -> Facets:
        turn = motion[:3, :3]
        triangles = self.triangles if np.linalg.det(turn) > 0.0 else self.triangles[:, ::-1]
        return Facets(frozen(self.points @ turn.T + motion[:3, 3]), np.ascontiguousarray(triangles))

    def offset(self, distance: float) -> Facets:
        raise ValueError("triangles have no exact offset")

    def same_as(self, other: Surface, tolerance: float, reach: float) -> bool:
        if self is other:
            return True
        return isinstance(other, Facets) and bool(
            np.abs(other.signed_distance(self.points)).max() <= tolerance
            and np.abs(self.signed_distance(other.points)).max() <= tolerance
        )


@dataclass(frozen=True, slots=True, eq=False)
class FacetsChart:
    """Triangles as seen along their mean normal: flat coordinates are those of the plane across it."""

    surface: Facets
    plane: Plane
    flat_period: None = None
    _kept: dict[str, Any] = field(default_factory=dict, repr=False)

    @property
    def singular(self) -> Floats:
        return NOWHERE

    def flat(self, points: Floats) -> Floats:
        return self.plane.flat(points)

    def _seen(self) -> tuple[Floats, BoxTree]:
        """Flat corners (m,3,2) of the triangles, and a tree over them."""
        if "seen" not in self._kept:
            flat = self.plane.flat(self.surface.points)
            tree = BoxTree.of(np.column_stack([flat, np.zeros(len(flat))]), self.surface.triangles)
            self._kept["seen"] = flat[self.surface.triangles], tree
        out: tuple[Floats, BoxTree] = self._kept["seen"]
        return out

    def _within(self, flat: Floats) -> tuple[Ints, Floats]:
        """The triangle (n,) under each flat point and the weights (n,3) of its corners."""
        corners, tree = self._seen()
        flat = np.asarray(flat, dtype=float).reshape(-1, 2)
        row, at = tree.nearest(np.column_stack([flat, np.zeros(len(flat))]))
        a, b, c = (corners[row, k] for k in range(3))
        e, f, p = b - a, c - a, at[:, :2] - a
        det = e[:, 0] * f[:, 1] - e[:, 1] * f[:, 0]
        safe = np.where(np.abs(det) > 1e-300, det, 1.0)
        v = np.clip((p[:, 0] * f[:, 1] - p[:, 1] * f[:, 0]) / safe, 0.0, 1.0)
        w = np.clip((e[:, 0] * p[:, 1] - e[:, 1] * p[:, 0]) / safe, 0.0, 1.0)
        return row, np.stack([1.0 - v - w, v, w], axis=1)

    def point(self, flat: Floats) -> Floats:
        row, weights = self._within(flat)
        corners = self.surface.points[self.surface.triangles[row]]
        return np.einsum("nk,nkc->nc", weights, corners).reshape(*np.shape(flat)[:-1], 3)

    def tangents(self, flat: Floats) -> Floats:
        """Plane steps lifted onto the triangle."""
        row, _ = self._within(flat)
        n, z = self.surface.normals[row], self.plane.frame.z
        lift = (n @ z)[:, None]
        lift = np.where(np.abs(lift) > 1e-12, lift, 1e-12)
        x, y = self.plane.frame.x, self.plane.frame.y
        return np.stack([x - (n @ x)[:, None] / lift * z, y - (n @ y)[:, None] / lift * z], axis=1)
