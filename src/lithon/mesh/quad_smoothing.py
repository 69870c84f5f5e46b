"""Smoothing of quads in the plane: the worst corner around each node is made better.

A node goes to the middle of its neighbours where that helps; where a corner stays poor, the best of some places around
it is taken, nearer and nearer (a pattern search on the least sine, which is not smooth).
"""

from __future__ import annotations

import numpy as np
from numba import njit

from lithon.arrays import Floats, Ints, by_label

_SWEEPS = 12
#: Corners whose sine is better than this are left to the middle of the neighbours.
_GOOD = 0.85


@njit(cache=True)
def _least_sine(x: Floats, quad: Ints) -> float:
    """The least sine of a quad's corners; negative where it folds."""
    least = 1.0
    for i in range(4):
        a, o, b = quad[i - 1], quad[i], quad[(i + 1) % 4]
        ux, uy = x[b, 0] - x[o, 0], x[b, 1] - x[o, 1]
        vx, vy = x[a, 0] - x[o, 0], x[a, 1] - x[o, 1]
        size = np.sqrt((ux * ux + uy * uy) * (vx * vx + vy * vy)) + 1e-300
        least = min(least, (ux * vy - uy * vx) / size)
    return least


@njit(cache=True)
def squareness(x: Floats, quads: Ints) -> Floats:
    """The least sine of the corners of each quad (m,4) over points (n,2)."""
    out = np.empty(len(quads))
    for k in range(len(quads)):
        out[k] = _least_sine(x, quads[k])
    return out


@njit(cache=True)
def _worst(x: Floats, quads: Ints, cells: Ints) -> float:
    least = 1.0
    for k in cells:
        least = min(least, _least_sine(x, quads[k]))
    return least


@njit(cache=True)
def _sweeps(x: Floats, quads: Ints, starts: Ints, cells: Ints, n: int, sweeps: int) -> None:
    for _ in range(sweeps):
        for v in range(n):
            own = cells[starts[v] : starts[v + 1]]
            if len(own) == 0:
                continue
            px, py = x[v, 0], x[v, 1]
            # Nodes that share an edge with it count twice, those across once: as each cell names them.
            sx, sy, many, reach = 0.0, 0.0, 0, 0.0
            for k in own:
                for i in range(4):
                    o = quads[k, i]
                    if o != v:
                        sx, sy, many = sx + x[o, 0], sy + x[o, 1], many + 1
                        reach += np.sqrt((x[o, 0] - px) ** 2 + (x[o, 1] - py) ** 2)
            best = _worst(x, quads, own)
            bx, by = px, py
            for share in (1.0, 0.5):
                x[v, 0], x[v, 1] = px + share * (sx / many - px), py + share * (sy / many - py)
                now = _worst(x, quads, own)
                if now > best:
                    best, bx, by = now, x[v, 0], x[v, 1]
                    break
            if best < _GOOD:
                step = 0.2 * reach / many
                for _ in range(4):
                    cx, cy = bx, by
                    for d in range(8):
                        x[v, 0] = cx + step * np.cos(0.25 * np.pi * d)
                        x[v, 1] = cy + step * np.sin(0.25 * np.pi * d)
                        now = _worst(x, quads, own)
                        if now > best + 1e-9:
                            best, bx, by = now, x[v, 0], x[v, 1]
                    step *= 0.5
            x[v, 0], x[v, 1] = bx, by


def smoothed(x: Floats, quads: Ints, n: int) -> Floats:
    """The first n of some points (k,2), the others held, moved so that the quads (m,4) get squarer."""
    order, starts = by_label(quads.ravel(), n)
    out = np.ascontiguousarray(x, dtype=float).copy()
    _sweeps(out, np.ascontiguousarray(quads), starts, order // 4, n, _SWEEPS)
    return out[:n]
