"""The web of triangles under the remeshing: whatever is collapsed, split and swapped, it stays one closed skin."""

import numpy as np
import pytest
import scipy
from dice import seeds

from lithon.mesh.web import around, inner_nodes, kept_row, middles, near, settle, sides, web_of
from lithon.mesh.web_changes import collapse_all, split_all, swap_all


def ball(seed, n=400):
    """A closed skin: the hull of random points on a ball, seen from outside."""
    points = np.random.default_rng(seed).normal(size=(n, 3))
    points *= 10.0 / np.linalg.norm(points, axis=1, keepdims=True)
    tri = scipy.spatial.ConvexHull(points).simplices.astype(np.int64)
    v = points[tri]
    inward = (np.cross(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]) * v[:, 0]).sum(axis=1) < 0.0
    tri[inward] = tri[inward][:, ::-1]
    return points, tri


def web(points, tri, size, kept=(), tiny=(), drape=0):
    """All of it one face, free; draped where `drape` is 0, by itself where it is -1."""
    sides_kept = np.array(kept, dtype=np.int64).reshape(-1, 2)
    w = web_of(points, np.broadcast_to(np.asarray(size, float), len(points)).copy(), np.zeros(len(points), np.int64),
               tri, np.zeros(len(tri), np.int64), sides_kept, np.zeros(len(sides_kept), np.int64),
               np.array([s in tiny for s in kept], dtype=np.bool_), np.array([drape]), np.array([False]))  # fmt: skip
    w.free[: len(points)] = True
    return w


def live(w):
    tri = w.tri[: w.used[1]]
    return tri[tri[:, 0] >= 0]


def whole(w):
    """Every side between two triangles that run along it in opposite ways; every star is what the triangles say."""
    tri = live(w)
    ways = {(int(a), int(b)) for t in tri for a, b in zip(t, np.roll(t, -1), strict=True)}
    assert len(ways) == 3 * len(tri) and {(b, a) for a, b in ways} == ways
    assert len(np.unique(tri)) - len(ways) // 2 + len(tri) == 2  # a ball still (Euler)
    own: list[set[int]] = [set() for _ in range(w.used[0])]
    for t, corners in enumerate(w.tri[: w.used[1]].tolist()):
        for v in corners if corners[0] >= 0 else ():
            own[v].add(t)
    assert own == [set(w.star[v, : w.deg[v]].tolist()) for v in range(w.used[0])]
    assert [len(s) for s in own] == w.deg[: w.used[0]].tolist()


def volume(w):
    v = w.p[live(w)]
    return float(np.einsum("ij,ij->i", v[:, 0], np.cross(v[:, 1], v[:, 2])).sum() / 6.0)


def lengths(w):
    tri = live(w)
    ends = np.unique(np.sort(tri[:, [0, 1, 1, 2, 2, 0]].reshape(-1, 2), axis=1), axis=0)
    return np.linalg.norm(w.p[ends[:, 0]] - w.p[ends[:, 1]], axis=1)


@pytest.mark.parametrize("seed", seeds(9))
def test_short_sides_go_long_ones_are_parted_and_the_skin_stays_closed(seed):
    points, tri = ball(seed)
    size = float(np.random.default_rng(seed).uniform(1.2, 3.5))
    w = web(points, tri, size)
    before, dirty = volume(w), np.zeros(len(w.p), dtype=np.bool_)
    short = (lengths(w) < 0.68 * size).sum()
    gone = collapse_all(w, w.free.copy(), 0.0, dirty)
    whole(w)
    assert gone > 0 and (lengths(w) < 0.68 * size).sum() < short
    assert collapse_all(w, w.free.copy(), 0.0, dirty) == 0  # what is short still would leave worse triangles
    parted = split_all(w, w.free.copy(), dirty)
    whole(w)
    assert parted == w.used[0] - len(points) and dirty.any()
    swap_all(w, w.free.copy(), dirty)
    whole(w)
    inner, start, rows = inner_nodes(w, w.free)
    assert len(inner) == len(np.unique(live(w))) and start[-1] == len(rows)
    goal = middles(w.p, start, rows)
    settle(w.p, inner, start, rows, goal * (10.0 / np.linalg.norm(goal, axis=1, keepdims=True)))
    whole(w)
    assert volume(w) == pytest.approx(before, rel=0.12) and volume(w) < 4.0 / 3.0 * np.pi * 1000.0


@pytest.mark.parametrize("seed", seeds(6))
def test_kept_sides_stay_and_tiny_ones_are_drawn_together(seed):
    """A ring of sides around the ball is kept; two of them are tiny and go, the ring goes on without them."""
    points, tri = ball(seed, 150)
    graph = {}
    for t in tri.tolist():
        for a, b in zip(t, t[1:] + t[:1], strict=True):
            graph.setdefault(a, set()).add(b)
    start = int(points[:, 0].argmax())
    # A shortest way over the ball and back on other nodes is a ring.
    there = way(graph, start, int(points[:, 0].argmin()), set())
    back = way(
        graph, there[-1], start, set(there[1:-1]) | {x for v in there[1:-1] for x in graph[v]} - {start, there[-1]}
    )
    ring = there + back[1:-1]
    kept = [tuple(sorted(s)) for s in zip(ring, ring[1:] + ring[:1], strict=True)]
    tiny = {kept[1], kept[-2]}
    w = web(points, tri, 1e-6, kept, tiny, drape=-1)
    assert len(sides(w, w.free)) == len(tri) * 3 // 2 and all(kept_row(w, a, b) >= 0 for a, b in kept)
    dirty = np.zeros(len(w.p), dtype=np.bool_)
    assert collapse_all(w, w.free.copy(), 0.0, dirty) <= 2
    whole(w)
    left = {v for v in ring if w.many[v]}
    assert all(w.many[v] == 2 for v in left) and int(w.many.sum()) == 2 * len(left)
    gone = len(ring) - len(left)
    assert gone == sum(1 for v in ring if w.deg[v] == 0) <= 2
    swap_all(w, w.free.copy(), dirty)
    whole(w)
    assert int(w.many.sum()) == 2 * len(left)  # no kept side was swapped away
    tri_sides = {tuple(sorted((int(t[k]), int(t[k - 1])))) for t in live(w) for k in range(3)}
    assert all(tuple(sorted((v, int(x)))) in tri_sides for v in left for x in w.kept[v, :2])


def way(graph, start, end, never):
    """The nodes of a shortest way."""
    came, row = {start: start}, [start]
    for v in row:
        for x in sorted(graph[v] - never):
            if x not in came:
                came[x] = v
                row.append(x)
    out = [end]
    while out[-1] != start:
        out.append(came[out[-1]])
    return out[::-1]


def test_neighbours_are_counted_in_rings():
    points, tri = ball(3, 60)
    w = web(points, tri, 1.0)
    one = np.zeros(len(w.p), dtype=np.bool_)
    one[5] = True
    buffer = np.empty(3 * w.star.shape[1], dtype=np.int64)
    first = set(buffer[: around(w, 5, buffer)].tolist())
    assert first == {int(x) for t in tri if 5 in t for x in t} - {5}
    everywhere = np.ones_like(one)
    assert set(np.flatnonzero(near(w, one, 1, everywhere)).tolist()) == first | {5}
    second = {int(x) for t in tri if first & set(t.tolist()) for x in t}
    assert set(np.flatnonzero(near(w, one, 2, everywhere)).tolist()) == second | {5}
    assert set(np.flatnonzero(near(w, one, 2, ~everywhere)).tolist()) == {5}
