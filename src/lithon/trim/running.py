"""Edges run on, or back, along their curves to new ends."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Edge, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve


@dataclass(slots=True)
class _Stretch:
    """An edge whose ends may move along its curve."""

    t0: float
    t1: float
    start: Vertex | None
    end: Vertex | None


def extended(edge: Edge, moves: list[tuple[Vertex, Vertex]], tolerance: float) -> Edge:
    """An edge with ends run on, or back, to new vertices."""
    s = _Stretch(edge.t0, edge.t1, edge.start, edge.end)
    for old, new in moves:
        t = float(edge.curve.parameter(new.point[None])[0])
        if float(np.linalg.norm(edge.curve.point(np.array([t]))[0] - new.point)) > 20.0 * tolerance:
            raise Refusal("an edge cannot be run on to where its faces meet", where=spot(new.point))
        period = edge.curve.period
        if s.end is old:
            s.t1 = t if period is None else s.t0 + float(np.mod(t - s.t0, period))
            s.end = new
        else:
            s.t0 = t if period is None else s.t1 - float(np.mod(s.t1 - t, period))
            s.start = new
    if s.t1 - s.t0 <= tolerance:
        raise Refusal("an edge would run backwards", where=spot(edge.at(0.5)))
    return Edge(edge.curve, s.t0, s.t1, s.start, s.end)


def bounded(curve: Curve, t0: float, t1: float, start: Vertex, end: Vertex, through: Floats | None = None) -> Edge:
    """The edge between two parameters of a curve: on a closed one the way that passes nearer to a
    point, or the short way round."""
    if curve.period is None:
        return Edge(curve, t0, t1, start, end) if t0 < t1 else Edge(curve, t1, t0, end, start)
    way = float(np.mod(t1 - t0, curve.period))
    first = Edge(curve, t0, t0 + way, start, end)
    second = Edge(curve, t1, t1 + curve.period - way, end, start)
    if through is not None:
        return min((first, second), key=lambda e: float(np.linalg.norm(e.at(0.5) - through)))
    return first if way <= curve.period / 2.0 else second


def reach(curve: Curve) -> tuple[float, float]:
    """The parameters between which a curve is looked at: all of it, and of a line a kilometre."""
    if curve.kind == "line":
        return -1e6, 1e6
    low = float(getattr(curve, "low", 0.0))
    return low, float(getattr(curve, "high", low + (curve.period or 0.0)))
