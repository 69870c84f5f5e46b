"""The chart of a face, and what stands in for a face that no single chart holds."""

from __future__ import annotations

from collections.abc import Iterable
from weakref import WeakKeyDictionary

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Coedge, Edge, Face, Loop
from lithon.errors import Refusal, spot
from lithon.geometry.charts import Chart
from lithon.geometry.curves import TURN, Circle
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface

_charts: WeakKeyDictionary[Face, Chart] = WeakKeyDictionary()
_parts: WeakKeyDictionary[Face, tuple[Face, ...]] = WeakKeyDictionary()


def outline(loop: Loop) -> Floats:
    """A closed polyline (n,3) along a loop, close enough to tell sides and turns."""
    runs = []
    for c in loop:
        n = 2 if c.edge.curve.kind == "line" else 33
        t = np.linspace(c.edge.t0, c.edge.t1, n)
        runs.append(c.edge.curve.point(t if c.forward else t[::-1])[:-1])
    return np.concatenate(runs)


def chart_for(surface: Surface, loops: Iterable[Loop], along: bool) -> Chart:
    """The chart for loops on a surface. Raises Refusal where none holds them."""
    if isinstance(surface, Plane | Cylinder):
        return surface
    lines = [outline(loop) for loop in loops]
    try:
        return surface.chart(lines if along else [p[::-1] for p in lines])
    except ValueError as error:
        place = spot(lines[0][0]) if lines else spot(surface.frame.origin)
        raise Refusal(f"a {surface.kind} face cannot be rolled out: {error}", where=place) from error


def chart_of(face: Face) -> Chart:
    """The chart of a face; cached."""
    made = _charts.get(face)
    if made is None:
        made = chart_for(face.surface, face.loops, face.along)
        _charts[face] = made
    return made


def parts_of(face: Face) -> tuple[Face, ...]:
    """The face itself; a whole sphere or torus as two halves with common edges, for all that needs a
    chart. The halves and their edges live as long as the face does."""
    if face.loops:
        return (face,)
    made = _parts.get(face)
    if made is None:
        made = _halves(face)
        _parts[face] = made
    return made


def _halves(face: Face) -> tuple[Face, ...]:
    s = face.surface
    if isinstance(s, Sphere):
        rings = [Edge(Circle.about(s.frame, s.radius), 0.0, TURN)]
        walks: list[list[tuple[int, bool]]] = [[(0, True)], [(0, False)]]  # north of it, south of it
    elif isinstance(s, Torus) and s.major > s.minor:
        inner, outer = s.major - s.minor, s.major + s.minor
        frame = Frame(s.frame.origin, s.frame.x, s.frame.y, s.frame.z)
        rings = [Edge(Circle.about(frame, r), 0.0, TURN) for r in (outer, inner)]
        walks = [[(0, True), (1, False)], [(1, True), (0, False)]]
    else:
        raise Refusal(f"a {s.kind} face has no boundary", where=spot(s.frame.origin), entities=(face,))
    halves = []
    for walk in walks:
        loops = [(Coedge(rings[k], forward == face.along),) for k, forward in walk]
        halves.append(Face(s, tuple(loops), face.along, face.label))
    return tuple(halves)
