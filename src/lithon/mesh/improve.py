"""Better tetrahedra: smoothing, swaps, collapses and inserted nodes, worst elements first.

Everything is local: an element below the goal is offered, in turn, a better place for its nodes,
the removal of an edge (best new triangulation of its ring by Klincsek's dynamic programme, Shewchuk
2002), the exchange of a face for an edge, the collapse of an edge, and a new node in its
neighbourhood. A change is made only where the worst element of the neighbourhood gets better
(Freitag & Ollivier-Gooch 1997; Klingner & Shewchuk 2007).
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, whole
from lithon.mesh.delaunay import FACE
from lithon.mesh.outer import collapse_on_skin, new_node, swap_side
from lithon.mesh.recover import triple_keys
from lithon.mesh.slide import FIXED, FREE, ON_LINE, ON_PLANE, away, onto
from lithon.mesh.stars import (
    MOST,
    commit,
    fan_of,
    opposite,
    outward,
    q_of,
    quality,
    ring_of,
    star_of,
    star_quality,
    triangulated,
)
from lithon.progress import Progress
from lithon.threads import shared_out

_GAIN = 1e-4  # what a change must add to the worst sine around it

_WAYS = np.array(
    [[1, 0, 0], [-1, 0, 0], [0, 1, 0], [0, -1, 0], [0, 0, 1], [0, 0, -1],
     [1, 1, 1], [-1, 1, 1], [1, -1, 1], [1, 1, -1], [-1, -1, 1], [-1, 1, -1], [1, -1, -1], [-1, -1, -1]],
    dtype=np.float64,
)  # fmt: skip
_WAYS /= np.linalg.norm(_WAYS, axis=1)[:, None]


@njit(cache=True)
def _lean(x: Floats, tet: Ints, wall: Ints, star: Ints, n: int, v: int, kind: int, place: Floats) -> float:
    """How well the surface triangles around a node face along the surface's normal: the cosine of
    the worst where most face outwards, minus that of the best where most face inwards (a bore)."""
    low, high = 2.0, -2.0
    rx, ry, rz = away(kind, place, x[v])
    for k in range(n):
        t = star[k]
        for i in range(4):
            if wall[t, i] < 0 or tet[t, i] == v:
                continue
            nx, ny, nz = outward(x, tet, t, i)
            cosine = nx * rx + ny * ry + nz * rz
            low, high = min(low, cosine), max(high, cosine)
    return low if low + high > 0.0 else -high


@njit(cache=True)
def _smooth(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    kind: Ints,
    places: Floats,
    t0: int,
    v: int,
    star: Ints,
    seen: Ints,
    state: Ints,
) -> bool:
    """Move one node to where the worst element around it is best; pattern search with shrinking steps.
    A node on a face moves only as long as the surface around it does not fold."""
    state[3] += 1
    n = star_of(tet, nbr, t0, v, star, seen, state[3])
    if n < 0:
        return False
    best = star_quality(x, tet, star, n, -2.0)
    first = best
    on_face = ON_PLANE <= kind[v] < ON_LINE
    least = min(0.8, _lean(x, tet, wall, star, n, v, kind[v], places[v])) if on_face else 0.0
    start = x[v].copy()
    here = x[v].copy()
    keep = x[v].copy()
    goal = np.zeros(3)
    reach = 0.0
    for k in range(n):
        for j in range(4):
            c = tet[star[k], j]
            if c != v:
                for axis in range(3):
                    goal[axis] += x[c, axis]
                reach += np.sqrt((x[c, 0] - here[0]) ** 2 + (x[c, 1] - here[1]) ** 2 + (x[c, 2] - here[2]) ** 2)
    goal /= 3.0 * n
    reach /= 3.0 * n
    for share in (1.0, 0.5):
        for axis in range(3):
            x[v, axis] = here[axis] + share * (goal[axis] - here[axis])
        onto(kind[v], places[v], x[v])
        q = star_quality(x, tet, star, n, best)
        if q > best and (not on_face or _lean(x, tet, wall, star, n, v, kind[v], places[v]) >= least):
            best = q
            keep[:] = x[v]
    step = 0.3 * reach
    spin = (v * 7919 + state[3] * 104729) % 1000 / 1000.0 * 6.283185307
    co, si = np.cos(spin), np.sin(spin)
    for _ in range(5):
        here[:] = keep
        gained = False
        for w in range(14):
            wx = _WAYS[w, 0] * co - _WAYS[w, 1] * si
            wy = _WAYS[w, 0] * si + _WAYS[w, 1] * co
            x[v, 0] = here[0] + step * wx
            x[v, 1] = here[1] + step * wy
            x[v, 2] = here[2] + step * _WAYS[w, 2]
            onto(kind[v], places[v], x[v])
            q = star_quality(x, tet, star, n, best)
            if q > best and (not on_face or _lean(x, tet, wall, star, n, v, kind[v], places[v]) >= least):
                best = q
                keep[:] = x[v]
                gained = True
        if not gained:
            step *= 0.45
    # A gain that small, on an element that nothing can mend, is not worth what the others around lose.
    if first > 0.0 and best < first + _GAIN:
        x[v, :] = start
        return False
    x[v, :] = keep
    return best > first


@njit(cache=True)
def _remove_edge(
    x: Floats, tet: Ints, nbr: Ints, wall: Ints, lab: Ints, free: Ints, state: Ints, t0: int, a: int, b: int, new: Ints
) -> bool:
    """Replace the elements around an edge by the best ones without it, if that is better."""
    ring = np.empty(12, dtype=np.int64)
    tets = np.empty(12, dtype=np.int64)
    n = ring_of(tet, nbr, wall, t0, a, b, ring, tets)
    if n < 3 or n > 9:
        return False
    worst = 2.0
    for k in range(n):
        worst = min(worst, q_of(x, tet, tets[k]))
    m = triangulated(x, ring, n, a, b, worst + _GAIN, new)
    if m == 0:
        return False
    return bool(commit(tet, nbr, wall, lab, free, state, tets, n, new, m, lab[t0]))


@njit(cache=True)
def _remove_face(
    x: Floats, tet: Ints, nbr: Ints, wall: Ints, lab: Ints, free: Ints, state: Ints, t: int, i: int, new: Ints
) -> bool:
    """Replace two elements by three around the edge between their far corners, if that is better."""
    u = nbr[t, i]
    if u < 0 or wall[t, i] >= 0:
        return False
    f0, f1, f2 = tet[t, FACE[i, 0]], tet[t, FACE[i, 1]], tet[t, FACE[i, 2]]
    d = tet[t, i]
    e = -1
    for j in range(4):
        c = tet[u, j]
        if c != f0 and c != f1 and c != f2:
            e = c
    worst = min(q_of(x, tet, t), q_of(x, tet, u)) + _GAIN
    if quality(x, e, d, f0, f1) <= worst or quality(x, e, d, f1, f2) <= worst or quality(x, e, d, f2, f0) <= worst:
        return False
    tri = (f0, f1, f2)
    for k in range(3):
        new[k, 0], new[k, 1], new[k, 2], new[k, 3] = e, d, tri[k], tri[(k + 1) % 3]
    old = np.array([t, u])
    return bool(commit(tet, nbr, wall, lab, free, state, old, whole(2), new, whole(3), lab[t]))


@njit(cache=True)
def _collapse(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    t0: int,
    v: int,
    w: int,
    star: Ints,
    seen: Ints,
    new: Ints,
) -> bool:
    """Move free node v into its neighbour w, if the elements that remain are better than before."""
    state[3] += 1
    n = star_of(tet, nbr, t0, v, star, seen, state[3])
    if n < 0:
        return False
    worst = star_quality(x, tet, star, n, -2.0) + 1e-3
    m = whole(0)
    for k in range(n):
        t = star[k]
        holds = False
        for j in range(4):
            holds = holds or tet[t, j] == w
        if holds:
            continue
        for j in range(4):
            new[m, j] = w if tet[t, j] == v else tet[t, j]
        if quality(x, new[m, 0], new[m, 1], new[m, 2], new[m, 3]) <= worst:
            return False
        m += 1
    return bool(commit(tet, nbr, wall, lab, free, state, star, n, new, m, lab[t0]))


@njit(cache=True)
def _peel(x: Floats, tet: Ints, nbr: Ints, wall: Ints, free: Ints, state: Ints, t: int) -> bool:
    """Drop a flat element that lies with two sides on one outer face: the surface takes the other
    diagonal."""
    count, face = 0, -1
    for i in range(4):
        if wall[t, i] >= 0:
            if nbr[t, i] >= 0 or (count > 0 and wall[t, i] != face):
                return False
            face = wall[t, i]
            count += 1
    if count != 2:
        return False
    # Only where the two new sides face the way the two old ones did: else the surface would fold.
    for i in range(4):
        for j in range(4):
            if wall[t, i] >= 0 and wall[t, j] < 0:
                ax, ay, az = outward(x, tet, t, i)
                bx, by, bz = outward(x, tet, t, j)
                if ax * bx + ay * by + az * bz > -0.8:
                    return False
    for i in range(4):
        u = nbr[t, i]
        if u >= 0:
            for j in range(4):
                if nbr[u, j] == t:
                    nbr[u, j] = -1
                    wall[u, j] = face
    tet[t, 0] = -1
    free[state[1]] = t
    state[1] += 1
    state[2] += 1
    return True


#: In so many ways a new node is tried: in each ring and beside the element, then on each side of the skin and
#: on each triangle of it.
_CAVITIES = 17
_ENDS = np.array([[0, 1], [0, 2], [0, 3], [1, 2], [1, 3], [2, 3]])


@njit(cache=True)
def _cavity(tet: Ints, nbr: Ints, wall: Ints, t: int, way: int, ring: Ints, cavity: Ints) -> tuple[int, int]:
    """The elements that give way to a new node in one of the ways, how many, and the face on which it is to stand; less
    than 0 inside."""
    side = way - 13
    if way == 6 or (side >= 0 and wall[t, side] >= 0 and nbr[t, side] < 0):
        cavity[0] = t
        n = whole(1)
        for i in range(4):
            if nbr[t, i] >= 0 and wall[t, i] < 0:
                cavity[n] = nbr[t, i]
                n += 1
        return n, wall[t, side] if side >= 0 else -1
    if side >= 0:
        return whole(0), -1
    a, b = tet[t, _ENDS[way % 7, 0]], tet[t, _ENDS[way % 7, 1]]
    if way < 6:
        n = ring_of(tet, nbr, wall, t, a, b, ring, cavity)
        return (n if n >= 3 else 0), -1
    n = fan_of(tet, nbr, wall, t, a, b, ring, cavity)
    return n, wall[cavity[0], opposite(tet, cavity[0], ring[1])] if n > 0 else -1


@njit(cache=True)
def _pass(
    x: Floats,
    tet: Ints,
    nbr: Ints,
    wall: Ints,
    lab: Ints,
    free: Ints,
    state: Ints,
    seen: Ints,
    kind: Ints,
    places: Floats,
    held: Ints,
    planes: Floats,
    q: Floats,
    goal: float,
    grow: float,
    stuck: Floats,
    least: float,
) -> int:
    """Offer every change to every element below the goal, worst first, and further nodes to those below `grow`; how
    many were made. `q` (m,) is how good each is before. Leaves in state[5]
    how many lay below it before, and in state[6] how many below what is wanted in the end, `least`. An element
    that nothing helped is not looked at again as long as it and those beside it are what they were: `stuck` tells."""
    before = state[2]
    moved = 0
    order = np.flatnonzero(q < goal)
    order = order[np.argsort(q[order])]
    state[5], state[6] = (q < goal).sum(), (q < least).sum()
    star = np.empty(MOST, dtype=np.int64)
    new = np.full((2 * MOST, 8), -1, dtype=np.int64)
    cavity = np.empty(MOST, dtype=np.int64)
    ring = np.empty(12, dtype=np.int64)
    for row in order:
        t = int(row)
        if tet[t, 0] < 0 or state[0] + 200 > len(tet):
            continue
        if q_of(x, tet, t) >= goal or _with_neighbours(x, tet, nbr, t) == stuck[t]:
            continue
        if q_of(x, tet, t) < 0.17 and _peel(x, tet, nbr, wall, free, state, t):
            continue
        done = False
        corners = tet[t].copy()
        for i in range(4):
            for j in range(i + 1, 4):
                if not done:
                    done = _remove_edge(x, tet, nbr, wall, lab, free, state, t, corners[i], corners[j], new)
        for i in range(4):
            if not done:
                done = _remove_face(x, tet, nbr, wall, lab, free, state, t, i, new)
        if done:
            continue
        for j in range(4):
            v = tet[t, j]
            if (
                q_of(x, tet, t) < goal
                and kind[v] != FIXED
                and _smooth(x, tet, nbr, wall, kind, places, t, v, star, seen, state)
            ):
                moved += 1
        if q_of(x, tet, t) >= goal:
            continue
        for i in range(4):
            for j in range(4):
                if not done and i != j and kind[corners[i]] == FREE:
                    done = _collapse(x, tet, nbr, wall, lab, free, state, t, corners[i], corners[j], star, seen, new)
        for i in range(4):
            for j in range(i + 1, 4):
                if not done:
                    done = swap_side(x, tet, nbr, wall, lab, free, state, held, t, corners[i], corners[j], new)
        for i in range(4):
            for j in range(4):
                if not done and i != j and (kind[corners[i]] == ON_PLANE or kind[corners[i]] == ON_LINE):
                    v, w = corners[i], corners[j]
                    done = collapse_on_skin(x, tet, nbr, wall, lab, free, state, t, v, w, kind[v], star, seen, new)
        if done or q_of(x, tet, t) >= grow:
            continue
        for way in range(_CAVITIES):
            if not done:
                n, face = _cavity(tet, nbr, wall, t, way, ring, cavity)
                if n > 0 and (face < 0 or np.isfinite(planes[face, 0])):
                    plane = planes[max(face, 0)]
                    done = new_node(
                        x, tet, nbr, wall, lab, free, state, held, kind, places, plane, face, cavity, n, _WAYS, new
                    )  # fmt: skip
        if not done:
            stuck[t] = _with_neighbours(x, tet, nbr, t)
    return state[2] - before + moved


def _qualities(x: Floats, tet: Ints) -> Floats:
    """How good each element (m,) is, those that are gone far better than any."""
    (q,) = shared_out(lambda rows: (_each_quality(x, tet[rows]),), len(tet))
    return np.asarray(q)


@njit(cache=True, nogil=True)
def _each_quality(x: Floats, tet: Ints) -> Floats:
    q = np.empty(len(tet))
    for t in range(len(tet)):
        q[t] = q_of(x, tet, t) if tet[t, 0] >= 0 else 9.0
    return q


@njit(cache=True)
def _with_neighbours(x: Floats, tet: Ints, nbr: Ints, t: int) -> float:
    """A number that tells an element and those beside it from what they were before a change."""
    out = q_of(x, tet, t)
    for i in range(4):
        if nbr[t, i] >= 0:
            out += (i + 2.0) * q_of(x, tet, nbr[t, i])
    return out


#: Where so large a share of elements is still flat it is the body that is, and no change helps.
_HOPELESS = 0.75
#: Where more elements than this share can be bettered they are those of a foil.
_FOIL = 0.3
#: So many passes look at more than what lies below the goal.
_EASY = 5


@dataclass(slots=True)
class Cells:
    """Elements being improved: points (n,3), tets (m,4), their neighbours, walls and labels (m,..).

    held: sides on edges of the model, lower node times 2^32 plus the higher, sorted. planes (faces,8): places of the
    faces that are planes, not a number for others.
    """

    points: Floats
    tet: Ints
    nbr: Ints
    wall: Ints
    lab: Ints
    kind: Ints
    places: Floats
    held: Ints
    planes: Floats

    def skin(self) -> tuple[Ints, Ints]:
        """The rows (k,) of elements and which of their sides (k,) are walls, those between two elements once. Where the
        skin was folded onto itself on the way, two sides over the same corners have nothing between them: they are
        none."""
        t, i = np.nonzero((self.wall >= 0) & ((self.nbr < 0) | (self.nbr > np.arange(len(self.tet))[:, None])))
        key = triple_keys(self.tet[t[:, None], FACE[i]], len(self.points))
        _, first, times = np.unique(key, return_inverse=True, return_counts=True)
        alone = times[first] == 1
        return t[alone], i[alone]


def improve(cells: Cells, progress: Progress, goal_degrees: float = 16.0, passes: int = 14) -> Cells:
    """A better mesh of the same regions. Stops when nothing lies below the goal or nothing helps."""
    n, m = len(cells.points), len(cells.tet)
    more = n // 4 + 2000
    room = m // 2 + 8 * more
    x = np.concatenate([cells.points, np.zeros((more, 3))])
    kind = np.concatenate([cells.kind, np.full(more, FREE, dtype=np.int64)])
    places = np.concatenate([cells.places, np.zeros((more, 8))])
    block = np.full((room, 4), -1, dtype=np.int64)
    tet, nbr, wall = (np.concatenate([a, block]) for a in (cells.tet, cells.nbr, cells.wall))
    lab = np.concatenate([cells.lab, np.full(room, -1, dtype=np.int64)])
    free = np.zeros(m + room, dtype=np.int64)
    seen = np.zeros(m + room, dtype=np.int64)
    state = np.array([m, 0, 0, 0, n, 0, 0], dtype=np.int64)
    stuck = np.full(m + room, np.nan)
    held, planes = cells.held, cells.planes
    goal = float(np.sin(np.radians(goal_degrees)))
    easy = float(np.sin(np.radians(28.0)))
    below = 0
    for turn in range(passes):
        progress.tell(0.75 + 0.22 * turn / passes, "improving elements")
        level = easy if turn < _EASY else goal
        q = _qualities(x, tet[: state[0]])
        # A node more costs the most. Where the body is as flat as its elements, only what is not good enough gets one.
        thin = (q < easy).sum() > _FOIL * len(q)
        grow = 0.0 if turn < 2 else min(level, goal) if thin else level
        made = _pass(x, tet, nbr, wall, lab, free, state, seen, kind, places, held, planes, q, level, grow, stuck, goal)
        # Around what nothing can mend, one element is only bettered at the expense of others: then it is enough.
        if turn >= _EASY and (made == 0 or (turn > _EASY and state[5] > below > 0)):
            break
        below = int(state[5])
        if turn >= 1 and state[6] > _HOPELESS * state[0]:
            break
    live = tet[: state[0], 0] >= 0
    row = np.cumsum(live) - 1
    links = nbr[: state[0]][live]
    links = np.where(links >= 0, row[links], -1)
    top = int(state[4])
    return Cells(
        x[:top],
        tet[: state[0]][live],
        links,
        wall[: state[0]][live],
        lab[: state[0]][live],
        kind[:top],
        places[:top],
        held,
        planes,
    )
