"""Symmetry of a model: which mirrors and turns take it onto itself.

A motion that does so keeps the centroid and takes marks (vertices, middles of edges and centroids of faces, each with a
number that no motion changes) onto like marks. Two marks that do not lie in one line with the centroid fix it but for
a mirror in their plane, so that all of them are found by trying the images those two may have.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, cross_product, frozen, unit
from lithon.brep.copies import copy_of, root_of
from lithon.brep.measures import face_area, face_centroid, mass_properties
from lithon.brep.topology import Body, Edge, Model
from lithon.geometry.curves import Ellipse, Line

#: How far marks may be off (shares of the model's reach), and how many pairs of images are tried.
_NEAR, _MOST = 1e-5, 4000


@dataclass(frozen=True, slots=True, eq=False)
class Symmetry:
    """Through `centre` (3,): normals (k,3) of mirrors; the axis (3,) about which the model comes onto itself `count`
    times in a turn, the most there are; `round`: at any angle."""

    centre: Floats
    mirrors: Floats
    axis: Floats
    count: int
    round: bool = False

    def parts(self) -> int:
        """How many like parts mirrors at right angles make: 1, 2, 4 or 8."""
        if self.round:
            return 4
        best = 1
        for n in self.mirrors:
            across = self.mirrors[np.abs(self.mirrors @ n) < 1e-6]
            more = 1 if not len(across) else 2
            if more == 2 and any(np.abs(across @ m).min() < 1e-6 for m in across):
                more = 4
            best = max(best, 2 * more)
        return best


def symmetry(model: Model) -> Symmetry:
    """The mirrors and turns of a model; none for one without a volume."""
    mass = [mass_properties(body) for body in model.bodies]
    volume = sum(m.volume for m in mass)
    if not volume > 0.0:
        return Symmetry(np.zeros(3), np.zeros((0, 3)), np.zeros(3), 1)
    centre = frozen(sum(m.volume * m.centroid for m in mass) / volume)
    points, numbers = _marks(model)
    points = points - centre
    far = np.linalg.norm(points, axis=1)
    reach = float(far.max()) + 1e-300
    pair = _fixing(points, numbers, far, reach)
    if pair is None:
        way = points[int(far.argmax())]
        return Symmetry(centre, np.zeros((0, 3)), unit(way) if far.max() > _NEAR * reach else np.eye(3)[2], 1, True)
    tree = scipy.spatial.cKDTree(np.column_stack([points, numbers]))
    motions = [m for m in _candidates(points, numbers, far, reach, *pair) if _fits(tree, points, numbers, m, reach)]
    mirrors, axes = [], []
    for m in motions:
        proper = np.linalg.det(m) > 0.0
        if not proper and abs(float(np.trace(m)) - 1.0) < 1e-6:
            mirrors.append(unit(np.linalg.eigh(0.5 * (m + m.T))[1][:, 0]))
        elif proper and float(np.trace(m)) < 3.0 - 1e-9:
            axes.append(_axis_of(m))
    counts = [1 + sum(abs(float(a @ b)) > 1.0 - 1e-9 for b in axes) for a in axes]
    best = int(np.argmax(counts)) if counts else -1
    return Symmetry(
        centre, np.array(mirrors).reshape(-1, 3), axes[best] if counts else np.zeros(3), counts[best] if counts else 1
    )


#: Kinds of marks, each with points (n,3) and lengths (n,).
_Kinds = dict[str, tuple[Floats, Floats]]


def _marks(model: Model) -> tuple[Floats, Floats]:
    """Marked points (n,3) and what no motion changes of each, as a length (n,)."""
    known = {root: _marks_of(root) for root in dict.fromkeys(root_of(body) for body in model.bodies)}
    size = max((float(x.max()) for kinds in known.values() for _, x in kinds.values()), default=0.0)
    order = {kind: k for k, kind in enumerate(sorted({kind for kinds in known.values() for kind in kinds}))}
    points, numbers = [np.zeros((0, 3))], [np.zeros(0)]
    for body in model.bodies:
        copy = copy_of(body)
        for kind, (at, x) in known[root_of(body)].items():
            points.append(at if copy is None else copy.points(at))
            numbers.append(4.0 * size * order[kind] + x)  # kinds lie further apart than anything within one
    return np.concatenate(points), np.concatenate(numbers)


def _marks_of(body: Body) -> _Kinds:
    found = {"vertex": [(v.point, 0.0) for v in body.vertices()]}
    for edge in body.edges():
        found.setdefault(f"edge {edge.curve.kind} {edge.ring}", []).append((_middle(edge), edge.length))
    for face in body.faces:
        found.setdefault(f"face {face.surface.kind}", []).append((face_centroid(face), face_area(face) ** 0.5))
    return {kind: (np.array([p for p, _ in m]), np.array([x for _, x in m])) for kind, m in found.items() if m}


def _middle(edge: Edge) -> Floats:
    """A point that goes with an edge whichever way its parameter runs."""
    if isinstance(edge.curve, Ellipse):
        return edge.curve.frame.origin if edge.ring else edge.at(0.5)
    if isinstance(edge.curve, Line):
        return edge.at(0.5)
    t = np.linspace(edge.t0, edge.t1, 129)
    speed = np.linalg.norm(edge.curve.derivative(t), axis=1)
    speed[[0, -1]] *= 0.5
    return np.asarray(speed @ edge.curve.point(t) / speed.sum())


def _like(numbers: Floats, far: Floats, reach: float, k: int) -> Ints:
    """The marks that a motion may take mark k onto."""
    near = 10.0 * _NEAR * reach
    return np.flatnonzero((np.abs(numbers - numbers[k]) < near) & (np.abs(far - far[k]) < near))


def _fixing(points: Floats, numbers: Floats, far: Floats, reach: float) -> tuple[int, int] | None:
    """Two marks that have few like them and lie in no line with the centre."""
    off = np.flatnonzero(far > 0.05 * reach)
    cell = np.round(np.column_stack([numbers, far])[off] / (40.0 * _NEAR * reach)).astype(np.int64)
    _, back, count = np.unique(cell, axis=0, return_inverse=True, return_counts=True)
    few = off[np.argsort(count[back.reshape(-1)], kind="stable")]
    for i in few[:20].tolist():
        aside = np.linalg.norm(cross_product(points[few], points[i]), axis=1) / far[i]
        others = few[aside > 0.05 * reach]
        if len(others):
            return i, int(others[0])
    return None


def _candidates(points: Floats, numbers: Floats, far: Floats, reach: float, i: int, j: int) -> list[Floats]:
    """Orthogonal matrices (3,3), proper and not, that take marks i and j onto others like them."""
    apart = float(np.linalg.norm(points[i] - points[j]))
    own = _frame(points[i], points[j])
    first, second = _like(numbers, far, reach, i), _like(numbers, far, reach, j)
    if len(first) * len(second) > _MOST**2:
        return []  # so many like marks tell nothing in any time
    gaps = scipy.spatial.distance.cdist(points[first], points[second])
    rows = np.argwhere(np.abs(gaps - apart) < 20.0 * _NEAR * reach)[:_MOST]
    images = np.stack([first[rows[:, 0]], second[rows[:, 1]]], axis=1).tolist()
    out = []
    for a, b in images:
        there = _frame(points[a], points[b])
        out += [there.T @ own, there.T @ np.diag([1.0, 1.0, -1.0]) @ own]
    return out


def _frame(p: Floats, q: Floats) -> Floats:
    """Right-handed axes as rows (3,3): along p, towards q, across."""
    x = unit(p)
    z = unit(cross_product(p, q))
    return np.array([x, cross_product(z, x), z])


def _fits(tree: scipy.spatial.cKDTree, points: Floats, numbers: Floats, motion: Floats, reach: float) -> bool:
    """Whether a motion takes every mark onto a like one."""
    most = 10.0 * _NEAR * reach
    moved = np.column_stack([points @ motion.T, numbers])
    few = moved[:: max(1, len(moved) // 16)]  # mostly enough to tell that it does not
    return all(bool((tree.query(some, distance_upper_bound=most)[0] <= most).all()) for some in (few, moved))


def _axis_of(turn: Floats) -> Floats:
    """The axis of a rotation (3,3), its first large component positive."""
    values, vectors = np.linalg.eigh(0.5 * (turn + turn.T))
    axis = vectors[:, int(values.argmax())]
    return unit(axis * np.sign(axis[int(np.abs(axis).argmax())]))
