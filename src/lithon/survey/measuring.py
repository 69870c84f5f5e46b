"""Measuring between picked things: distances, angles, radii, areas, volumes and walls, on the true geometry."""

from __future__ import annotations

import contextlib
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product
from lithon.brep.area import area_of, clamped
from lithon.brep.measures import angle_between, face_area, volume
from lithon.brep.shells import closed
from lithon.brep.tessellation.division import edge_points
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import tree_of
from lithon.brep.topology import Edge, Face, Model
from lithon.errors import Refusal
from lithon.geometry.curves import Ellipse
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.surfaces import Cylinder, Plane

Item = Face | Edge | Floats
_PARALLEL = 1e-9
#: How often points go back and forth between two things.
_TURNS = 400
#: What is nearer (mm) touches.
_TOUCH = 1e-9


@dataclass(frozen=True, slots=True)
class Measure:
    """What was measured, the value and its unit: mm, mm², mm³ or °."""

    what: str
    value: float
    unit: str

    def words(self, digits: int) -> str:
        return f"{self.what} {self.value:.{digits}g} {self.unit}".replace(" °", "°")


def of_face(face: Face) -> list[Measure]:
    s = face.surface
    out = []
    if isinstance(s, Cylinder | Sphere):
        out.append(Measure("radius", float(s.radius), "mm"))
    elif isinstance(s, Torus):
        out += [Measure("radius", float(s.major), "mm"), Measure("radius of its section", float(s.minor), "mm")]
    elif isinstance(s, Cone):
        out.append(Measure("half angle", float(np.degrees(s.angle)), "°"))
    return [*out, Measure("area", face_area(face), "mm²")]


def of_edge(edge: Edge) -> list[Measure]:
    out = [Measure("length", float(edge.length), "mm")]
    if isinstance(edge.curve, Ellipse) and edge.curve.kind == "circle":
        out.append(Measure("radius", float(edge.curve.major), "mm"))
        if not edge.ring:
            out.append(Measure("opening", float(np.degrees(edge.t1 - edge.t0)), "°"))
    return out


def of_body(model: Model, face: Face) -> list[Measure]:
    """The volume of the body that a face bounds, where it is closed."""
    owners = model.owners(face)
    return [Measure("volume of its body", volume(owners[0]), "mm³")] if len(owners) == 1 and closed(owners[0]) else []


def wall(model: Model, face: Face, at: Floats) -> list[Measure]:
    """How thick the solid is behind a point (3,) of a face, straight in."""
    owners = model.owners(face)
    if len(owners) != 1:
        return []
    (body,) = owners
    at = face.surface.project(at[None])[0]
    inward = -body.outward(face, at[None])
    points, triangles, owner = body_mesh(body)
    step = 1e-7 * float(np.linalg.norm(np.ptp(points, axis=0)))
    seen = 0.0
    for _ in range(8):  # the chords of the face itself may stand in the way: they are entered, not left
        which, away = tree_of(body).first_hits(at[None], inward, seen + step)
        if which[0] < 0:
            return []
        seen = float(away[0])
        a, b, c = points[triangles[int(which[0])]]
        if float(cross_product(b - a, c - a) @ inward[0]) > 0.0:
            break
    else:
        return []
    # The far side as triangles have it leads to the true surface: Newton along the ray.
    far = body.uses[int(owner[int(which[0])])].face.surface
    t = seen
    for _ in range(20):
        p = at + t * inward[0]
        lean = float(far.normal(p[None])[0] @ inward[0])
        if abs(lean) < 1e-6:
            break
        t -= float(far.signed_distance(p[None])[0]) / lean
    return [Measure("wall behind it", t if abs(t - seen) < 0.1 * seen else seen, "mm")]


def between(a: Item, b: Item) -> list[Measure]:
    """Angle and distance of two picked things."""
    out = [*_apart(a, b), *_angle(a, b)]
    with contextlib.suppress(Refusal):
        nearest = distance(a, b)[0]
        if not any(m.unit == "mm" and abs(m.value - nearest) < 1e-9 * (1.0 + nearest) for m in out):
            out.append(Measure("distance", nearest, "mm"))
    return out


def _way(item: Item) -> Floats | None:
    """The direction that a plane faces, a line runs or an axis lies."""
    if isinstance(item, Face):
        return item.surface.frame.z if isinstance(item.surface, Plane | Cylinder | Cone | Torus) else None
    if isinstance(item, Edge):
        return item.direction(0.5) if item.curve.kind == "line" else None
    return None


def _angle(a: Item, b: Item) -> list[Measure]:
    one, two = _way(a), _way(b)
    if one is None or two is None:
        return []
    flat = [isinstance(x, Face) and isinstance(x.surface, Plane) for x in (a, b)]
    angle = angle_between(one, two)
    angle = min(angle, np.pi - angle)
    if flat[0] != flat[1]:  # a line against a plane: from the plane itself, not from its normal
        angle = np.pi / 2.0 - angle
    return [] if angle < _PARALLEL else [Measure("angle", float(np.degrees(angle)), "°")]


def _apart(a: Item, b: Item) -> list[Measure]:
    """How far apart two parallel planes or two parallel axes lie."""
    planes = [x.surface for x in (a, b) if isinstance(x, Face) and isinstance(x.surface, Plane)]
    if len(planes) == 2 and float(np.linalg.norm(cross_product(planes[0].frame.z, planes[1].frame.z))) <= _PARALLEL:
        gap = abs(float(planes[0].signed_distance(planes[1].frame.origin)))
        return [Measure("parallel, apart by", gap, "mm")]
    axes = [x.surface.frame for x in (a, b) if isinstance(x, Face) and isinstance(x.surface, Cylinder | Cone | Torus)]
    if len(axes) < 2 or float(np.linalg.norm(cross_product(axes[0].z, axes[1].z))) > _PARALLEL:
        return []
    away = axes[0].local(axes[1].origin)
    return [Measure("axes apart by", float(np.hypot(away[0], away[1])), "mm")]


def distance(a: Item, b: Item) -> tuple[float, Floats, Floats]:
    """The shortest distance (mm) between two things and the points (3,) where it is found.

    From the nearest pairs of sample points, back and forth onto the true shapes.
    """
    one, two = _cloud(a), _cloud(b)
    away, row = scipy.spatial.cKDTree(two).query(one)
    best: tuple[float, Floats, Floats] | None = None
    for k in np.argsort(away)[:: max(1, len(away) // 400)][:6]:
        found = _back_and_forth(a, b, one[k], two[int(row[k])])
        if best is None or found[0] < best[0]:
            best = found
        if best[0] < _TOUCH:
            break
    assert best is not None
    return best


def _back_and_forth(a: Item, b: Item, p: Floats, q: Floats) -> tuple[float, Floats, Floats]:
    """Distance and points (3,), from p onto b and back onto a until it comes no nearer. Along what is nearly
    parallel these steps are short: each is tried several times as far, twice that where it was nearer."""
    last, reach = np.inf, 1.0
    for _ in range(_TURNS):
        q = _onto(b, p)
        there = _onto(a, q)
        step, p = there - p, there
        now = float(np.linalg.norm(p - q))
        if last - now <= 1e-14 * (1.0 + now) or now < _TOUCH:
            break
        far = _onto(a, p + reach * step)
        beyond = _onto(b, far)
        nearer = float(np.linalg.norm(far - beyond))
        if nearer < now:
            p, q, now, reach = far, beyond, nearer, 2.0 * reach
        else:
            reach = max(1.0, 0.25 * reach)
        last = now
    return now, p, q


def _cloud(item: Item) -> Floats:
    if isinstance(item, Face):
        mesh = face_mesh(item)
        return np.concatenate([mesh.points, mesh.points[mesh.triangles].mean(axis=1)])
    if isinstance(item, Edge):
        return edge_points(item)[1]
    return np.asarray(item, dtype=float).reshape(1, 3)


def _onto(item: Item, p: Floats) -> Floats:
    """The nearest point of a thing."""
    if isinstance(item, Face):
        on = item.surface.project(p[None])
        if int(area_of(item).side(on, 1e-9)[0]) >= 0:
            return np.asarray(on[0])
        rim = [_onto(edge, p) for edge in dict.fromkeys(item.edges())]
        return min(rim, key=lambda q: float(np.linalg.norm(q - p)))
    if isinstance(item, Edge):
        t = clamped(item, p[None])
        return np.asarray(item.curve.point(t)[0])
    return np.asarray(item, dtype=float).reshape(3)


def measures(model: Model, faces: Sequence[Face], edges: Sequence[Edge], points: Sequence[Floats]) -> list[Measure]:
    """What is worth knowing of a few picked things together."""
    items: list[Item] = [*faces, *edges, *(np.asarray(p, dtype=float) for p in points)]
    return between(items[0], items[1]) if len(items) == 2 else []
