"""What hangs together: neighbours in one list, and walks along them."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numba import njit

from lithon.arrays import Bools, Floats, Ints, by_label

#: Turns that differ by no more than this share are alike.
_ALIKE = 0.03


class Marks:
    """Room for walks over m things: `seen` (m,), where what a walk has been at bears its number, and a queue (m,). To
    make both takes longer than most walks do."""

    def __init__(self, m: int) -> None:
        self.seen, self.queue = np.zeros(m, dtype=np.int64), np.empty(m, dtype=np.int64)
        self._walks = 0

    def walk(self) -> int:
        """The number of another walk."""
        self._walks += 1
        return self._walks


@njit(cache=True)
def corners_of(corners: Ints, rows: Ints, seen: Ints, queue: Ints, walk: int) -> Ints:
    """The corners (k,) of some triangles (n,), each once, in the order in which they are met."""
    n = 0
    for row in rows:
        for c in range(3):
            p = corners[row, c]
            if seen[p] != walk:
                seen[p] = walk
                queue[n] = p
                n += 1
    return queue[:n].copy()


@njit(cache=True)
def leanings(corners: Ints, rows: Ints, weighted: Floats, seen: Ints, queue: Ints, walk: int) -> tuple[Ints, Floats]:
    """As `corners_of`, and at each corner the sum (k,3) of the normals of these triangles, as `weighted` (m,3) gives
    them for all."""
    ids = corners_of(corners, rows, seen, queue, walk)
    out = np.zeros((len(ids), 3))
    for k in range(len(ids)):  # the queue says from now on where each is
        queue[ids[k]] = k
    for row in rows:
        for c in range(3):
            k = queue[corners[row, c]]
            for axis in range(3):
                out[k, axis] += weighted[row, axis]
    return ids, out


def lists(m: int, i: Ints, j: Ints) -> tuple[Ints, Ints]:
    """Neighbours of each of m things, as starts (m+1,) into one list."""
    order, starts = by_label(np.concatenate([i, j]), m)
    return starts, np.concatenate([j, i])[order]


@njit(cache=True)
def flood(starts: Ints, other: Ints, mask: Bools, seed: int) -> Ints:
    """All that hangs together with a seed within a mask."""
    if not mask[seed]:
        return np.empty(0, np.int64)
    seen = np.zeros(len(mask), np.bool_)
    queue = np.empty(len(mask), np.int64)
    queue[0] = seed
    seen[seed] = True
    head, tail = 0, 1
    while head < tail:
        i = queue[head]
        head += 1
        for k in range(starts[i], starts[i + 1]):
            j = other[k]
            if mask[j] and not seen[j]:
                seen[j] = True
                queue[tail] = j
                tail += 1
    return queue[:tail].copy()


#: Turns of no links.
_STRAIGHT: Floats = np.zeros(0)


def along(starts: Ints, other: Ints, way: Bools, label: Ints, seed: int, most: int) -> Ints:
    """The nearest `most` to a seed by steps over links that may be gone, of those of nothing yet (label below 0)."""
    return alike(starts, other, _STRAIGHT, way, label, seed, most, 0.0, 0.0)


@njit(cache=True)
def alike(
    starts: Ints, other: Ints, turn: Floats, way: Bools, label: Ints, seed: int, most: int, angle: float, flat: float
) -> Ints:
    """As `along`, over such of the links as turn by about an angle (radians), or by less than `flat`; over all of them
    where no turns are given."""
    seen = np.zeros(len(label), np.bool_)
    queue = np.empty(most + 64, np.int64)
    queue[0] = seed
    seen[seed] = True
    head, tail = 0, 1
    while head < tail and tail < most:
        i = queue[head]
        head += 1
        for k in range(starts[i], starts[i + 1]):
            j = other[k]
            near = len(turn) == 0 or turn[k] < flat or abs(turn[k] - angle) < _ALIKE * angle
            if near and way[k] and label[j] < 0 and not seen[j] and tail < most:
                seen[j] = True
                queue[tail] = j
                tail += 1
    return queue[:tail].copy()


@njit(cache=True)
def straightest(rows: Ints, starts: Ints, other: Ints, normal: Floats) -> float:
    """The least cosine between the normals (m,3) of two of some triangles side by side, of numbers in order."""
    least = 1.0
    for i in rows:
        for k in range(starts[i], starts[i + 1]):
            j = other[k]
            at = np.searchsorted(rows, j)
            if at < len(rows) and rows[at] == j:
                turn = normal[i, 0] * normal[j, 0] + normal[i, 1] * normal[j, 1] + normal[i, 2] * normal[j, 2]
                least = min(least, turn)
    return max(least, -1.0)


def in_common(ids: Sequence[Ints]) -> dict[tuple[int, int], Ints]:
    """What sets of numbers, each once in a set, have in common two by two (a < b), in order; of those that do."""
    number = np.concatenate([*ids, np.zeros(0, dtype=np.int64)])
    owner = np.repeat(np.arange(len(ids)), [len(own) for own in ids])
    order = np.lexsort((owner, number))
    number, owner = number[order], owner[order]
    rows = np.arange(len(number))
    found = []
    step = 1
    while len(rows := rows[rows + step < len(number)]):
        rows = rows[number[rows] == number[rows + step]]
        found.append(np.stack([owner[rows], owner[rows + step], number[rows]], axis=1))
        step += 1
    every = np.concatenate([np.zeros((0, 3), dtype=np.int64), *found])
    every = every[np.lexsort(every.T[::-1])]
    cuts = np.flatnonzero((np.diff(every[:, :2], axis=0) != 0).any(axis=1)) + 1
    return {(int(one[0, 0]), int(one[0, 1])): one[:, 2] for one in np.split(every, cuts) if len(one)}


def link_values(m: int, i: Ints, j: Ints, values: Floats) -> Floats:
    """A value of each link, in the order of `lists`."""
    order = np.argsort(np.concatenate([i, j]), kind="stable")
    return np.concatenate([values, values])[order]


def given_away(
    rows: Sequence[int], label: Ints, starts: Ints, other: Ints, off: Callable[[int, int], float],
    most: float = np.inf, never: int = -1,
) -> bool:  # fmt: skip
    """Give each of some things the label of what is beside it that is nearest (`off`: of a thing and a label) and no
    further than `most`, from the borders inwards; none is given that of `never`. Whether any were."""
    left, some = list(rows), False
    while left:
        fresh: dict[int, int] = {}
        for i in left:
            beside = set(label[other[starts[i] : starts[i + 1]]].tolist()) - {-1, never}
            away = {k: off(i, k) for k in sorted(beside)}
            if away and min(away.values()) <= most:
                fresh[i] = min(away, key=away.__getitem__)
        if not fresh:
            break
        label[list(fresh)] = list(fresh.values())
        left = [i for i in left if i not in fresh]
        some = True
    return some
