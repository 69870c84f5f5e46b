"""The chart of a face, and what stands in for a face that no single chart holds."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.topology import Coedge, Edge, Face, Loop
from lithon.errors import Refusal, spot
from lithon.geometry.charts import Chart
from lithon.geometry.curves import TURN, Circle
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Sphere, Torus
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import Revolution
from lithon.remembered import Remembered

_charts = Remembered[Face, Chart]("brep/charts:charts")
_parts = Remembered[Face, tuple[Face, ...]]("brep/charts:parts")


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
    return _charts.of(face, lambda face: chart_for(face.surface, face.loops, face.along))


def parts_of(face: Face) -> tuple[Face, ...]:
    """The face itself; for all that needs a chart, a whole sphere or torus as two halves with common edges, and a
    torus that only lacks patches as two bands. The parts and their edges live as long as the face does."""
    s = face.surface
    if face.loops and not (isinstance(s, Torus) and s.major > s.minor):
        return (face,)
    return _parts.of(face, _parted)


def _parted(face: Face) -> tuple[Face, ...]:
    s = face.surface
    return _halves(face) if not face.loops else _bands(face, s) if isinstance(s, Torus) else (face,)


def _halves(face: Face) -> tuple[Face, ...]:
    s = face.surface
    if isinstance(s, Sphere):
        ring = Edge(Circle.about(s.frame, s.radius), 0.0, TURN)
        walks = [[(ring, True)], [(ring, False)]]  # north of it, south of it
    elif isinstance(s, Torus) and s.major > s.minor:
        low, high = _latitude(s, 0.0), _latitude(s, np.pi)
        walks = [[(low, True), (high, False)], [(high, True), (low, False)]]
    elif isinstance(s, BSplineSurface | Revolution) and len(s.poles()) == 2:
        pole = s.poles()[0]
        curve = s.ring_between(pole)
        start = float(getattr(curve, "low", 0.0))
        ring = Edge(curve, start, start + float(curve.period or 0.0))
        walks = [[(ring, True)], [(ring, False)]]
    else:
        raise Refusal(f"a {s.kind} face has no boundary", where=spot(s.frame.origin), entities=(face,))
    return tuple(_part(face, walk, ()) for walk in walks)


def _part(face: Face, walk: list[tuple[Edge, bool]], more: tuple[Loop, ...]) -> Face:
    loops = [(Coedge(ring, forward == face.along),) for ring, forward in walk]
    return Face(face.surface, (*loops, *more), face.along, face.label)


def _latitude(s: Torus, phi: float) -> Edge:
    """The ring about the axis at an angle about the spine."""
    height = s.minor * float(np.sin(phi))
    return Edge(Circle.about(s.frame.shifted(height * s.frame.z), s.major + s.minor * float(np.cos(phi))), 0.0, TURN)


def _meridian(s: Torus, theta: float) -> Edge:
    """The ring about the spine at an angle about the axis."""
    out = np.cos(theta) * s.frame.x + np.sin(theta) * s.frame.y
    frame = Frame.of(s.frame.origin + s.major * out, cross_product(out, s.frame.z), out)
    return Edge(Circle.about(frame, s.minor), 0.0, TURN)


#: The least stretch (radians) free of holes in which a torus is cut open.
_FREE = 0.1


def _bands(face: Face, s: Torus) -> tuple[Face, ...]:
    """A torus less some patches: a band without them and the rest, which holds their outlines. The face itself
    where its outlines go around, or bound a patch."""
    mirror = 1.0 if face.along else -1.0
    angles = [np.unwrap(np.stack(s.angles(outline(loop))), axis=1) for loop in face.loops]
    for theta, phi in angles:
        ends = np.abs([theta[-1] - theta[0], phi[-1] - phi[0]])
        area = mirror * float((theta * np.roll(phi, -1) - np.roll(theta, -1) * phi).sum())
        if (ends > np.pi).any() or area > 0.0:
            return (face,)
    free: list[tuple[float, float]] = []
    for k in (0, 1):
        v = np.sort(np.mod(np.concatenate([_filled(a[k]) for a in angles]), TURN))
        gap = np.diff(np.append(v, v[0] + TURN))
        free.append((float(gap.max()), float(v[gap.argmax()])))
    k = int(free[1] >= free[0])
    width, start = free[k]
    if width >= _FREE:
        ring = (_meridian, _latitude)[k]
        low, high = (ring(s, start + share * width) for share in (0.3, 0.7))
        # About the axis the lower ring is walked forward; about the spine the later one is.
        up = k == 1
        band = _part(face, [(low, up), (high, not up)], ())
        rest = _part(face, [(high, up), (low, not up)], face.loops)
        return (band, rest)
    raise Refusal("a torus is too full of holes to be rolled out", where=spot(s.frame.origin), entities=(face,))


def _filled(angles: Floats) -> Floats:
    """An angle's course with steps no longer than a hundredth of a turn."""
    return np.linspace(float(angles.min()), float(angles.max()), 2 + int(100.0 * float(np.ptp(angles)) / TURN))
