"""Cores: what lies about the axis of a turned body whose profile reaches it.

Carried all the way round, a profile would come together in wedges on its axis. So a strip along the axis is parted
from it by a straight line; what the strip turns into, a stack of discs, has a square grid in its middle that a few
rings of quads join to the rim. Only the mesh knows of this: the body keeps its faces.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints, frozen
from lithon.brep.topology import Edge, Face, Vertex, vertex_at
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Line
from lithon.geometry.frames import Frame

#: The core's radius as a share of the least that it must stay within; the corners of its square as a share of its own.
_SHARE, _SQUARE, _BULGE = 0.6, 0.62, 0.35


@dataclass(frozen=True, slots=True, eq=False)
class Cap:
    """Where a core ends: the part of a face between the axis and the core, as its side in the half-plane, and where
    that meets the core's own."""

    face: Face
    side: Edge
    rim: Vertex


@dataclass(frozen=True, slots=True, eq=False)
class Core:
    """The stack of discs between two caps, the lower first, and the line that bounds it in the half-plane."""

    caps: tuple[Cap, Cap]
    inner: Edge


@dataclass(frozen=True, slots=True, eq=False)
class Pole:
    """A point of the axis at a height (mm) where a face meets it, and the face's whole side: `reversed` where the
    axis is the side's end."""

    face: Face
    height: float
    side: Edge
    reversed: bool

    def along(self, share: Floats) -> Floats:
        """Points (n,3) at shares of the side's parameter, from the axis on."""
        t = 1.0 - share if self.reversed else share
        return self.side.curve.point(self.side.t0 + t * (self.side.t1 - self.side.t0))


def pairs(poles: list[Pole], body: str) -> list[tuple[Pole, Pole]]:
    """The ends of each core, from the lowest on the axis."""
    poles = sorted(poles, key=lambda p: p.height)
    if len(poles) % 2:
        raise Refusal(f"the axis of {body} leaves it once more than it enters", where=spot(poles[0].side.at(0.5)))
    return list(zip(poles[::2], poles[1::2], strict=True))


def room(ends: tuple[Pole, Pole], others: list[Edge], axis: Frame) -> float:
    """How far (mm) from the axis nothing but the two ends is met."""
    share = np.linspace(0.0, 1.0, 65)
    local = [axis.local(end.along(share)) for end in ends]
    low, high = (f([line[:, 2].min() if f is min else line[:, 2].max() for line in local]) for f in (min, max))
    reach = [float(np.hypot(line[:, 0], line[:, 1]).max()) for line in local]
    for side in others:
        points = axis.local(side.curve.point(side.t0 + share * (side.t1 - side.t0)))
        beside = (points[:, 2] > low - 1e-9) & (points[:, 2] < high + 1e-9)
        reach += np.hypot(points[beside, 0], points[beside, 1]).tolist()
    return min(reach)


def share_of(free: float) -> float:
    """The radius (mm) of a core with this much room."""
    return _SHARE * free


def cut_at(pole: Pole, radius: float, axis: Frame) -> tuple[Cap, Edge]:
    """A side cut where it is `radius` from the axis: the cap, and the rest of the side."""
    share = np.linspace(0.0, 1.0, 65)
    local = axis.local(pole.along(share))
    away = np.hypot(local[:, 0], local[:, 1])
    after = int(np.argmax(away >= radius))
    low, high = share[after - 1], share[after]
    for _ in range(60):
        middle = 0.5 * (low + high)
        at = axis.local(pole.along(np.array([middle])))[0]
        low, high = (middle, high) if np.hypot(at[0], at[1]) < radius else (low, middle)
    s = pole.side
    t = s.t0 + (1.0 - high if pole.reversed else high) * (s.t1 - s.t0)
    rim = vertex_at(s.curve.point(np.array([t]))[0])
    if pole.reversed:
        return Cap(pole.face, Edge(s.curve, t, s.t1, rim, s.end), rim), Edge(s.curve, s.t0, t, s.start, rim)
    return Cap(pole.face, Edge(s.curve, s.t0, t, s.start, rim), rim), Edge(s.curve, t, s.t1, rim, s.end)


def across(low: Cap, high: Cap) -> Core:
    """The core between two caps."""
    a, b = low.rim, high.rim
    step = b.point - a.point
    length = float(np.linalg.norm(step))
    return Core((low, high), Edge(Line(a.point, frozen(step / length)), 0.0, length, a, b))


def profile_of(cap: Cap, axis: Frame, shares: Floats) -> Floats:
    """Points (n,2) of a cap, radius and height, at shares (n,) of its radius: by bisection, since from the axis to
    the rim the radius only grows."""

    def half(share: Floats) -> Floats:
        p = axis.local(cap.side.curve.point(cap.side.t0 + share * (cap.side.t1 - cap.side.t0)))
        return np.stack([np.hypot(p[:, 0], p[:, 1]), p[:, 2]], axis=1)

    ends = half(np.array([0.0, 1.0]))[:, 0]
    inward = bool(ends[0] < ends[1])
    wanted = shares * ends.max()
    low, high = np.zeros(len(shares)), np.ones(len(shares))
    for _ in range(60):
        middle = 0.5 * (low + high)
        short = (half(middle)[:, 0] < wanted) == inward
        low, high = np.where(short, middle, low), np.where(short, high, middle)
    return half(0.5 * (low + high))


def disc(around: int, rings: int) -> tuple[Floats, Ints]:
    """Inner nodes (n,2) of the unit disc and quads (m,4), counter-clockwise, over a rim of `around` nodes, a multiple
    of four, numbered first from the angle zero on."""
    m = around // 4
    angle = 2.0 * np.pi * np.arange(around) / around
    rim = np.stack([np.cos(angle), np.sin(angle)], axis=1)
    corner = _SQUARE * rim[::m]
    share = np.arange(m) / m
    chords = np.concatenate([(1 - share)[:, None] * corner[k] + share[:, None] * corner[(k + 1) % 4] for k in range(4)])
    border = (1.0 - _BULGE) * chords + _BULGE * _SQUARE * rim
    # The square's corners are nodes 0, m, 2m and 3m of its border.
    u = np.linspace(0.0, 1.0, m + 1)
    south, east = border[: m + 1], border[m : 2 * m + 1]
    north, west = border[2 * m : 3 * m + 1][::-1], np.concatenate([border[3 * m :], border[:1]])[::-1]
    a, b = u[:, None, None], u[None, :, None]
    grid = (
        (1 - b) * south[:, None] + b * north[:, None] + (1 - a) * west[None] + a * east[None]
        - ((1 - a) * (1 - b) * south[0] + a * (1 - b) * south[-1] + (1 - a) * b * north[0] + a * b * north[-1])
    )  # fmt: skip
    layers = [rim + (border - rim) * (k / rings) for k in range(1, rings)]
    ids = around * rings + np.arange((m + 1) ** 2).reshape(m + 1, m + 1)
    walk = np.concatenate([ids[:-1, 0], ids[-1, :-1], ids[:0:-1, -1], ids[0, :0:-1]])
    quads = [np.stack([ids[:-1, :-1], ids[1:, :-1], ids[1:, 1:], ids[:-1, 1:]], axis=-1).reshape(-1, 4)]
    for k in range(rings):
        outer = around * k + np.arange(around)
        inner = walk if k == rings - 1 else around * (k + 1) + np.arange(around)
        quads.append(np.stack([outer, np.roll(outer, -1), np.roll(inner, -1), inner], axis=1))
    return np.concatenate([*layers, grid.reshape(-1, 2)]), np.concatenate(quads)
