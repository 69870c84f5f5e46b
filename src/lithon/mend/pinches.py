"""Where solids of triangles touch themselves or each other along sides: four triangles or more at one."""

from __future__ import annotations

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, cross_product


def unpinched(points: Floats, corners: Ints) -> tuple[Floats, Ints, Ints]:
    """Points and triangles (m,3), looking out of a solid, of which no more than two have any side in common: where more
    of them (n,3) had, each is beside the one with which solid lies between, those at such a side are divided there,
    and corners are parted. And of which triangle (row) each is a part. All as it is where there are no such sides, or
    where as many do not walk along one each way."""
    n, m = len(points), len(corners)
    ends = np.concatenate([corners[:, [k, (k + 1) % 3]] for k in range(3)])
    key = ends.min(axis=1) * n + ends.max(axis=1)
    order = np.argsort(key, kind="stable")
    starts = np.flatnonzero(np.r_[True, np.diff(key[order]) > 0])
    count = np.diff(np.r_[starts, len(order)])
    parts: dict[int, list[list[int]]] = {}
    more, pinched = list[Floats](), set[int]()
    for first, many in zip(starts[count > 2].tolist(), count[count > 2].tolist(), strict=True):
        own = order[first : first + many] % m
        a, b = divmod(int(key[order[first]]), n)
        pairs = _with_solid_between(points, corners[own], own, (a, b))
        pinched.update((a, b) if pairs else ())
        for k, row in enumerate(pairs):
            if k % 2 == 0:
                more.append(0.5 * (points[a] + points[b]))
            _divide(parts.setdefault(row, [corners[row].tolist()]), (a, b), n + len(more) - 1)
    if not pinched:
        return points, corners, np.arange(m)
    corners = np.concatenate([corners, np.array([t for own in parts.values() for t in own[1:]])])
    corners[list(parts)] = [own[0] for own in parts.values()]
    parent = np.concatenate([np.arange(m), [row for row, own in parts.items() for _ in own[1:]]]).astype(np.int64)
    touched = np.zeros(n, dtype=bool)
    touched[list(pinched)] = True
    near = np.flatnonzero((touched[np.minimum(corners, n - 1)] & (corners < n)).any(axis=1))
    for v in pinched:
        for fan in _fans(v, corners, near)[1:]:
            own = corners[fan]
            own[own == v] = n + len(more)
            corners[fan] = own
            more.append(points[v])
    return np.concatenate([points, np.reshape(more, (-1, 3))]), corners, parent


def _divide(triangles: list[list[int]], side: tuple[int, int], middle: int) -> None:
    """Divide the one of some triangles that has a side, at a new point (its number) there."""
    k = next(k for k, t in enumerate(triangles) if set(side) <= set(t))
    one, two = side
    whole = triangles[k]
    triangles[k] = [middle if v == one else v for v in whole]
    triangles.append([middle if v == two else v for v in whole])


def _with_solid_between(points: Floats, triangles: Ints, rows: Ints, side: tuple[int, int]) -> list[int]:
    """Triangles (k,3) at a side, by their rows, two and two, one after the other around it: where one walks along it
    the solid lies behind, as one turns about it."""
    a, b = side
    way = points[b] - points[a]
    apex = points[triangles[(triangles != a) & (triangles != b)]] - points[a]
    across = apex - np.outer(apex @ way / max(float(way @ way), 1e-300), way)
    x = across[0]
    y = cross_product(way / max(float(np.linalg.norm(way)), 1e-300), x)
    angle = np.arctan2(across @ y, across @ x)
    along = ((triangles == a) & (np.roll(triangles, -1, axis=1) == b)).any(axis=1)
    turned = np.argsort(angle, kind="stable")
    if not (along[turned] != np.roll(along[turned], 1)).all():
        return []
    first = int(np.flatnonzero(~along[turned])[0])
    return rows[np.roll(turned, -first)].tolist()


def _fans(v: int, corners: Ints, near: Ints) -> list[Ints]:
    """The triangles (rows, all among those near) around a corner that hang together over sides there."""
    rows = near[(corners[near] == v).any(axis=1)]
    own = corners[rows]
    others = own[own != v].reshape(-1, 2)
    end = np.unique(others, return_inverse=True)[1].reshape(-1, 2) + len(rows)
    k = np.repeat(np.arange(len(rows)), 2)
    size = int(end.max()) + 1
    graph = scipy.sparse.coo_array((np.ones(len(k)), (k, end.ravel())), shape=(size, size))
    label = scipy.sparse.csgraph.connected_components(graph, directed=False)[1][: len(rows)]
    return [rows[label == one] for one in np.unique(label)]
