"""What is told of features: what each costs in elements, and whether it should rather be kept."""

from __future__ import annotations

import math

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.thickness import thickness
from lithon.brep.topology import Body, Face
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.remembered import Remembered
from lithon.survey.card import CLEAR, Finding, share, xyz
from lithon.survey.features import Feature

#: Elements through a wall, at least, by default.

#: A boss is low below this share of an element.
_LOW = 0.5


def feature_card(f: Feature, size: float, body: Body) -> Finding | None:
    place = xyz(f.place)
    if f.kind == "hole" and f.size < size:
        wall = wall_beside(f)
        keep = ""
        if wall is not None and wall < 1.5 * f.size:
            keep = (
                f"It stands {wall:.3g} mm from the outside, {share(wall, size)}: "
                "what runs around it may matter to the stress."
            )
        return Finding(
            "small hole",
            "costs",
            f.size,
            place,
            f.words(),
            f"Its rim asks for elements of {np.pi * f.size / 12.0:.2g} mm.",
            CLEAR,
            body,
            f.faces,
            keep=keep,
        )
    if f.kind == "fillet" and f.size < 0.75 * size:
        return Finding(
            "small fillet",
            "costs",
            f.size,
            place,
            f.words(),
            f"Its arc asks for elements of {np.pi * f.size / 6.0:.2g} mm along {f.depth:.3g} mm.",
            CLEAR,
            body,
            f.faces,
        )
    if f.kind == "chamfer" and f.size < 0.75 * size:
        return Finding(
            "small chamfer",
            "costs",
            f.size,
            place,
            f.words(),
            f"{share(f.size, size)} across, for {f.depth:.3g} mm.",
            CLEAR,
            body,
            f.faces,
        )
    if f.kind == "pocket" and min(f.size, f.depth) < 1.5 * size:
        return Finding(
            "pocket",
            "costs",
            min(f.size, f.depth),
            place,
            f.words(),
            f"{len(f.faces)} faces; its depth is {share(f.depth, size)}.",
            CLEAR,
            body,
            f.faces,
        )
    if f.kind == "boss" and f.depth < _LOW * size:
        return Finding(
            "low boss",
            "costs",
            f.depth,
            place,
            f.words(),
            f"{len(f.faces)} faces; its height is {share(f.depth, size)}.",
            CLEAR,
            body,
            f.faces,
        )
    return None


def wall_beside(hole: Feature) -> float | None:
    """The thinnest wall (mm) between a hole and the nearest other face that it does not open into."""
    least = _walls_behind(hole.body).get(hole.faces[0], np.inf)
    return least if np.isfinite(least) else None


_behind = Remembered[Body, dict[Face, float]]("survey/findings:behind")


def _walls_behind(body: Body) -> dict[Face, float]:
    """The thinnest wall (mm) behind each face, up to another face that looks the other way; infinite without one."""
    return _behind.of(body, _least_walls)


def _least_walls(body: Body) -> dict[Face, float]:
    where, wall, own, far, facing = thickness(body)
    rows = np.flatnonzero((own != far) & (facing < -0.5))
    rows = rows[np.argsort(wall[rows], kind="stable")]
    faces, first = np.unique(own[rows], return_index=True)
    least = dict.fromkeys((use.face for use in body.uses), np.inf)
    for k, row in zip(faces.tolist(), rows[first].tolist(), strict=True):
        own_face, beyond = body.uses[k].face, body.uses[int(far[row])].face
        least[own_face] = _between(own_face.surface, beyond.surface, where[row], float(wall[row]))
    return least


def _between(one: Surface, other: Surface, start: Floats, measured: float) -> float:
    """The distance between two surfaces near a point, by projections back and forth: rays begin and end on chords."""
    if {one.kind, other.kind} & {"facets"} or one.kind == other.kind == "plane":
        return measured
    if isinstance(one, Plane | Cylinder) and isinstance(other, Plane | Cylinder):
        apart = min(_along_one_way(one, other), key=lambda d: abs(d - measured), default=np.inf)
        if np.isfinite(apart):
            return apart if abs(apart - measured) < 0.1 * measured else measured
    p, away = one.project(start[None]), np.inf
    for _ in range(30):
        q = other.project(p)
        p = one.project(q)
        last, away = away, float(np.linalg.norm(p - q))
        if last - away < 1e-9 * away:
            break
    return away if abs(away - measured) < 0.1 * measured else measured


def _along_one_way(one: Plane | Cylinder, other: Plane | Cylinder) -> tuple[float, ...]:
    """The distances (mm) that two cylinders about parallel axes, or one along a plane, can have, outside each other or
    one in the other; none where they do not run one way."""
    if isinstance(one, Plane):
        one, other = other, one
    if isinstance(one, Plane):
        return ()
    lean = abs(float(one.frame.z @ other.frame.z))
    if abs(lean - (0.0 if isinstance(other, Plane) else 1.0)) > 1e-12:
        return ()
    if isinstance(other, Plane):
        away = abs(float(other.signed_distance(one.frame.origin)))
        return (abs(away - one.radius), away + one.radius)
    x, y, _ = other.frame.local(one.frame.origin)
    away = math.hypot(x, y)
    return (
        abs(away - one.radius - other.radius),
        abs(abs(one.radius - other.radius) - away),
        abs(one.radius + away - other.radius),
        abs(other.radius + away - one.radius),
    )
