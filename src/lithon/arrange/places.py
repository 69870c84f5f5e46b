"""Vertices found again by their place: what is within a small distance is one."""

from __future__ import annotations

import itertools

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Vertex


class Places:
    """Vertices in cells of space, so that asking for one looks at few."""

    def __init__(self, near: float):
        self.near = near
        self.vertices: list[Vertex] = []
        self._cells: dict[tuple[int, ...], list[Vertex]] = {}
        self._points = np.zeros((64, 3))

    def add(self, vertex: Vertex) -> None:
        n = len(self.vertices)
        if n == len(self._points):
            self._points = np.concatenate([self._points, np.zeros_like(self._points)])
        self._points[n] = vertex.point
        self.vertices.append(vertex)
        self._cells.setdefault(self._cell(vertex.point), []).append(vertex)

    def _cell(self, point: Floats) -> tuple[int, ...]:
        return tuple(np.floor(point / (2.0 * self.near)).astype(np.int64).tolist())

    def find(self, point: Floats) -> Vertex | None:
        """The nearest vertex within reach of a point (3,)."""
        low, high = self._cell(point - self.near), self._cell(point + self.near)
        best, least = None, self.near
        # In the middle of a cell rounding may reach into both that are beside it.
        for cell in itertools.product(*(range(a, b + 1) for a, b in zip(low, high, strict=True))):
            for vertex in self._cells.get(cell, ()):
                gap = float(np.linalg.norm(vertex.point - point))
                if gap <= least:
                    best, least = vertex, gap
        return best

    def within(self, low: Floats, high: Floats) -> tuple[list[Vertex], Floats]:
        """The vertices in a box and their points (n,3)."""
        points = self._points[: len(self.vertices)]
        rows = np.flatnonzero(((points >= low) & (points <= high)).all(axis=1))
        return [self.vertices[k] for k in rows], points[rows]
