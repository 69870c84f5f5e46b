"""Plane faces of triangles that lie on each other but for rounding, laid over each other in their common plane: both
get the same nodes and the same triangles where both are, and what is beyond their outlines is parted with them."""

from __future__ import annotations

import itertools
from collections import defaultdict
from collections.abc import Iterator, Sequence

import numpy as np
import shapely

from lithon.arrays import Floats, Ints, cross_product, unit
from lithon.brep.boxes import meeting
from lithon.brep.tessellation.triangulate import Tangled, triangulate
from lithon.geometry.frames import Frame

_Side = tuple[int, int]
#: Planes look opposite ways where the cosine between them is below this.
_OPPOSED = -0.999


class Pressed:
    """Triangles (m,3) of points (n,3), the face (m,) that each is of, as planes of them are pressed onto each other."""

    def __init__(self, points: Floats, corners: Ints, face: Ints, near: float):
        self.points, self.corners, self.face, self.near = points, corners, face, near

    def press(self, owners: Ints) -> None:
        """Lay all pairs of plane faces over each other that are sides of different bodies, as `owners` (f,b) has it,
        no further than `near` (mm) from each other."""
        for one, two in self._pairs(owners):
            self._lay(one, two)

    def _pairs(self, owners: Ints) -> list[_Side]:
        planes = [self._frame(k) for k in range(len(owners))]
        flat = np.array([k for k, frame in enumerate(planes) if frame is not None], dtype=np.int64)
        boxes = np.zeros((len(flat), 2, 3))
        for row, k in enumerate(flat.tolist()):
            p = self._points_of(k)
            boxes[row] = p.min(axis=0), p.max(axis=0)
        out = []
        for i, j in meeting(boxes, boxes, 2.0 * self.near).tolist():
            one, two = int(flat[i]), int(flat[j])
            a, b = planes[one], planes[two]
            if one >= two or a is None or b is None or (owners[one] * owners[two]).any():
                continue
            turn = float(a.z @ b.z) * float(owners[one].sum() * owners[two].sum())
            if turn < _OPPOSED and float(np.abs(a.local(self._points_of(two))[:, 2]).max()) <= self.near:
                out.append((one, two))
        return out

    def _points_of(self, face: int) -> Floats:
        return np.asarray(self.points[np.unique(self.corners[self.face == face])])

    def _frame(self, face: int) -> Frame | None:
        """A frame in the plane of a face; none where it is none."""
        rows = self.corners[self.face == face]
        if not len(rows):
            return None
        a, b, c = (self.points[rows[:, k]] for k in range(3))
        normal = cross_product(b - a, c - a).sum(axis=0)
        if not float(np.linalg.norm(normal)) > 0.0:
            return None
        p = self.points[np.unique(rows)]
        frame = Frame.of(p.mean(axis=0), unit(normal))
        return frame if float(np.abs(frame.local(p)[:, 2]).max()) <= self.near else None

    def _lay(self, one: int, two: int) -> None:
        frame = self._frame(one)
        if frame is None:
            return
        kinds = [self._area(one, frame), self._area(two, frame)]
        if not shapely.intersection(*kinds).area > self.near * shapely.union_all(kinds).length:
            return
        # The second is drawn onto the first.
        moved = np.setdiff1d(self.corners[self.face == two], self.corners[self.face == one])
        self.points = self.points.copy()
        self.points[moved] = frame.world(frame.local(self.points[moved]) * np.array([1.0, 1.0, 0.0]))
        rims = [_rim(self.corners[self.face == k]) for k in (one, two)]
        web = _Web(self.points, frame, [side for rim in rims for side in rim], self.near)
        made: list[tuple[int, int, int]] = []
        of: list[int] = []
        beyond = self._frame(two)
        turned = beyond is not None and float(beyond.z @ frame.z) < 0.0
        for tri, place in web.pieces():
            if shapely.contains_xy(kinds[0], *place):
                made += tri
                of += [one] * len(tri)
            if shapely.contains_xy(kinds[1], *place):
                made += [(c, b, a) for a, b, c in tri] if turned else tri
                of += [two] * len(tri)
        rest = (self.face != one) & (self.face != two)
        self.points = web.points
        self.corners = np.concatenate([self.corners[rest], np.array(made, dtype=np.int64).reshape(-1, 3)])
        self.face = np.concatenate([self.face[rest], np.array(of, dtype=np.int64)])
        self._part(web.chains)

    def _area(self, face: int, frame: Frame) -> shapely.Geometry:
        flat = frame.local(self.points)[:, :2]
        return shapely.union_all(shapely.polygons(flat[self.corners[self.face == face]]))

    def _part(self, chains: dict[_Side, list[int]]) -> None:
        """Part the triangles beyond sides that have got nodes between their ends."""
        split = {key: inner for key, inner in chains.items() if inner}
        touched = np.zeros(len(self.points), dtype=bool)
        touched[[v for key in split for v in key]] = True
        rows = np.flatnonzero(touched[self.corners].sum(axis=1) >= 2).tolist()
        gone, more, of = np.zeros(len(self.corners), dtype=bool), list[tuple[int, int, int]](), list[int]()
        for row in rows:
            done, stack = list[tuple[int, int, int]](), [tuple(self.corners[row].tolist())]
            while stack:
                a, b, c = stack.pop()
                for u, v, w in ((a, b, c), (b, c, a), (c, a, b)):
                    inner = split.get((min(u, v), max(u, v)))
                    if inner and w not in inner:
                        line = [u, *(inner if u < v else inner[::-1]), v]
                        stack += [(p, q, w) for p, q in itertools.pairwise(line)]
                        break
                else:
                    done.append((a, b, c))
            if len(done) > 1:
                gone[row] = True
                more += done
                of += [int(self.face[row])] * len(done)
        if more:
            self.corners = np.concatenate([self.corners[~gone], np.array(more, dtype=np.int64)])
            self.face = np.concatenate([self.face[~gone], np.array(of, dtype=np.int64)])


def _rim(corners: Ints) -> list[_Side]:
    """The sides that only one of some triangles (m,3) has."""
    sides = np.sort(np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)]), axis=1)
    unique, count = np.unique(sides, axis=0, return_counts=True)
    return [(int(a), int(b)) for a, b in unique[count == 1].tolist()]


class _Web:
    """Sides in a plane, parted at nodes that lie on them and where they cross. `chains`: the nodes between the ends of
    each side, from the lower number on; `points` (n,3): with those where sides cross, at the end."""

    def __init__(self, points: Floats, frame: Frame, sides: Sequence[_Side], near: float):
        self.frame, self.near = frame, near
        self.points = points
        self.sides = list(dict.fromkeys(sides))
        self.chains: dict[_Side, list[int]] = {side: [] for side in self.sides}
        self._crossings()
        self._on_sides()

    def _flat(self) -> Floats:
        return np.asarray(self.frame.local(self.points)[:, :2])

    def _crossings(self) -> None:
        """Nodes where sides cross away from nodes."""
        flat = self._flat()
        lines = shapely.linestrings(flat[np.array(self.sides)])
        new: list[Floats] = []
        i, j = shapely.STRtree(lines).query(lines, predicate="crosses")
        known = shapely.STRtree(shapely.points(flat[np.unique(self.sides)]))
        for a, b in zip(i.tolist(), j.tolist(), strict=True):
            if a >= b or set(self.sides[a]) & set(self.sides[b]):
                continue
            (p, q), (r, s) = flat[list(self.sides[a])], flat[list(self.sides[b])]
            d, e = q - p, s - r
            turn = float(d[0] * e[1] - d[1] * e[0])
            if turn == 0.0:
                continue
            at = p + d * float((r - p)[0] * e[1] - (r - p)[1] * e[0]) / turn
            far = known.query(shapely.Point(at), predicate="dwithin", distance=self.near)
            if not len(far) and not any(float(np.abs(at - other).max()) <= self.near for other in new):
                new.append(at)
        if new:
            at = np.column_stack([np.array(new), np.zeros(len(new))])
            self.fresh = range(len(self.points), len(self.points) + len(new))
            self.points = np.concatenate([self.points, self.frame.world(at)])
        else:
            self.fresh = range(0)

    def _on_sides(self) -> None:
        flat = self._flat()
        nodes = np.array([*np.unique(self.sides).tolist(), *self.fresh])
        lines = shapely.linestrings(flat[np.array(self.sides)])
        row, at = shapely.STRtree(lines).query(shapely.points(flat[nodes]), predicate="dwithin", distance=self.near)
        found: dict[_Side, list[tuple[float, int]]] = defaultdict(list)
        for n, k in zip(nodes[row].tolist(), at.tolist(), strict=True):
            a, b = self.sides[k]
            way = flat[b] - flat[a]
            length = float(np.linalg.norm(way))
            along = float((flat[n] - flat[a]) @ way) / max(length, 1e-300)
            if n not in (a, b) and self.near < along < length - self.near:
                found[a, b].append((along, n))
        for (a, b), inner in found.items():
            line = [n for _, n in sorted(inner)]
            self.chains[min(a, b), max(a, b)] = line if a < b else line[::-1]

    def pieces(self) -> Iterator[tuple[list[tuple[int, int, int]], tuple[float, float]]]:
        """The triangles of each piece of the plane between the sides, turned about the frame's z, and a place in it."""
        flat = self._flat()
        short = {(min(u, v), max(u, v)) for (a, b), inner in self.chains.items()
                 for u, v in itertools.pairwise([a, *inner, b])}  # fmt: skip
        of = {tuple(flat[v].tolist()): v for pair in short for v in pair}
        lines = shapely.linestrings([flat[list(pair)] for pair in sorted(short)])
        for polygon in shapely.get_parts(shapely.polygonize(lines)).tolist():
            rings = [[of[p] for p in ring.coords[:-1]] for ring in (polygon.exterior, *polygon.interiors)]
            ids = [v for ring in rings for v in ring]
            base = np.cumsum([0, *map(len, rings)])
            ends = [(base[r] + k, base[r] + (k + 1) % len(ring)) for r, ring in enumerate(rings)
                    for k in range(len(ring))]  # fmt: skip
            unique, to = np.unique(ids, return_inverse=True)
            try:
                region = triangulate(flat[unique], to[np.array(ends)])
            except Tangled:
                continue
            place = polygon.representative_point()
            yield [(int(a), int(b), int(c)) for a, b, c in unique[region.triangles]], (place.x, place.y)
