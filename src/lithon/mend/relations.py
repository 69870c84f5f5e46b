"""Relations between fitted surfaces, kept where they hold within the noise: parallel and square directions, directions
along the axes, equal radii, planes that touch cylinders."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, unit
from lithon.brep.analysis.fits import circle_through
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.segments import Patch


def related(
    points: Floats, corners: Ints, patches: Sequence[Patch], pairs: set[tuple[int, int]], noise: float
) -> list[Patch]:
    """The patches with their relations made exact. pairs: those that border on each other; noise: how far (mm) a
    surface may move for it."""
    out = list(patches)
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    own = [points[np.unique(corners[p.rows])] for p in patches]
    ways = _directions(out, own, noise)
    for k, patch in enumerate(out):
        if k in ways:
            out[k] = replace(patch, surface=_along(patch.surface, own[k], ways[k]))
    for k, moved in _coaxial(out, own, noise).items():
        out[k] = replace(out[k], surface=moved)
    radii = _radii(out, noise)
    for k, r in radii.items():
        s = out[k].surface
        assert isinstance(s, Cylinder)
        out[k] = replace(out[k], surface=_nearer(s, (_of_radius(s, r, own[k]), Cylinder(s.frame, r)), own[k], noise))
    for k in radii:
        s = out[k].surface
        assert s is not None
        out[k] = replace(out[k], surface=_nearer(s, (_touching(k, out, pairs, noise, scale),), own[k], noise))
    return [replace(p, off=float(np.abs(p.surface.signed_distance(q)).max())) if p.surface is not None else p
            for p, q in zip(out, own, strict=True)]  # fmt: skip


def _directions(patches: Sequence[Patch], own: Sequence[Floats], noise: float) -> dict[int, Floats]:
    """The direction of each plane and cylinder: of those that are alike within what their extent lets tell, the one of
    the largest; square to larger ones, and along the axes, where that is within it too."""
    rows = [k for k, p in enumerate(patches) if isinstance(p.surface, Plane | Cylinder)]
    size = {k: float(np.linalg.norm(np.ptp(own[k], axis=0))) for k in rows}
    order = sorted(rows, key=lambda k: -size[k])
    known: list[Floats] = list(np.eye(3))
    out: dict[int, Floats] = {}
    for k in order:
        s = patches[k].surface
        assert s is not None
        z = s.frame.z
        slack = 4.0 * noise / max(_span(own[k], z, isinstance(s, Plane)), 1e-9)
        best = min(known, key=lambda w: float(np.linalg.norm(cross_product(w, z))))
        if float(np.linalg.norm(cross_product(best, z))) <= slack:
            z = best * np.sign(float(best @ z))
        else:
            for w in known:
                if abs(float(w @ z)) <= slack:
                    z = unit(z - float(w @ z) * w)
            known.append(z)
        out[k] = z
    return out


def _span(p: Floats, z: Floats, plane: bool) -> float:
    """How far points reach in the direction in which a lean would show least."""
    q = p - p.mean(axis=0)
    if not plane:
        return float(np.ptp(q @ z))
    flat = q - np.multiply.outer(q @ z, z)
    values = np.linalg.svd(flat, compute_uv=False)
    return float(values[1] / np.sqrt(len(p)) * 2.0)


def _along(surface: Surface | None, p: Floats, z: Floats) -> Surface:
    """A surface with another direction, refitted to its points."""
    assert surface is not None
    if isinstance(surface, Plane):
        middle = p.mean(axis=0)
        return Plane.of(middle, z, surface.frame.x)
    assert isinstance(surface, Cylinder)
    frame = Frame.of(surface.frame.origin, z, surface.frame.x)
    q = frame.local(p)
    centre, radius = circle_through(q[:, :2])
    return Cylinder(frame.shifted(centre[0] * frame.x + centre[1] * frame.y), radius)


def _nearer(surface: Surface, others: Sequence[Surface], p: Floats, noise: float) -> Surface:
    """The first of other surfaces that is no further from points than noise, or than the surface; else the surface."""
    most = max(noise, 1.2 * float(np.abs(surface.signed_distance(p)).max()))
    return next((s for s in others if float(np.abs(s.signed_distance(p)).max()) <= most), surface)


def _of_radius(s: Cylinder, radius: float, p: Floats) -> Cylinder:
    """A cylinder of another radius with its axis moved along itself to where it is nearest to its points."""
    q, centre = s.frame.local(p)[:, :2], np.zeros(2)
    for _ in range(8):
        away = q - centre
        far = np.maximum(np.linalg.norm(away, axis=1), 1e-300)
        # Of a small arc one direction is hardly told: the axis does not run off along it.
        centre = centre + np.linalg.lstsq(-away / far[:, None], radius - far, rcond=1e-6)[0]
    return Cylinder(s.frame.shifted(centre[0] * s.frame.x + centre[1] * s.frame.y), radius)


def _coaxial(patches: Sequence[Patch], own: Sequence[Floats], noise: float) -> dict[int, Cylinder]:
    """Cylinders whose points lie evenly about the axis of one of which there is more, about that axis."""
    round_ones = {k: s for k, p in enumerate(patches) if isinstance(s := p.surface, Cylinder)}
    spans = {k: _arc(s, own[k]) for k, s in round_ones.items()}
    axes: list[Frame] = []
    out: dict[int, Cylinder] = {}
    for k in sorted(spans, key=lambda k: -spans[k]):
        s = round_ones[k]
        best = (0.5 * noise, s)
        for axis in axes:
            if abs(float(axis.z @ s.frame.z)) < 1.0 - 1e-6:
                continue
            away = np.hypot(*axis.local(own[k])[:, :2].T)
            if 0.5 * float(np.ptp(away)) < best[0]:
                foot = axis.shifted(float((s.frame.origin - axis.origin) @ axis.z) * axis.z)
                best = 0.5 * float(np.ptp(away)), Cylinder(foot, float(away.mean()))
        if best[1] is not s:
            out[k] = best[1]
        elif spans[k] > 1.0:
            axes.append(s.frame)
    return out


def _arc(s: Cylinder, p: Floats) -> float:
    """Over how much of a turn (radians) points reach around a cylinder."""
    angle = np.sort(np.arctan2(*s.frame.local(p)[:, [1, 0]].T))
    return 2.0 * np.pi - float(np.diff(np.append(angle, angle[0] + 2.0 * np.pi)).max())


def _radii(patches: Sequence[Patch], noise: float) -> dict[int, float]:
    """Radii of cylinders: equal ones are one, and one that is round within the noise is round."""
    rows = [(float(p.surface.radius), k) for k, p in enumerate(patches) if isinstance(p.surface, Cylinder)]
    out: dict[int, float] = {}
    group: list[tuple[float, int]] = []
    for r, k in [*sorted(rows), (np.inf, -1)]:
        if group and r - group[0][0] > 4.0 * noise:
            mean = float(np.mean([x for x, _ in group]))
            for digits in range(1, 7):
                if abs(round(mean, digits) - mean) <= 2.0 * noise:
                    mean = round(mean, digits)
                    break
            out |= {j: mean for _, j in group}
            group = []
        group.append((r, k))
    return out


def _touching(k: int, patches: Sequence[Patch], pairs: set[tuple[int, int]], noise: float, scale: float) -> Surface:
    """A cylinder moved so that it touches the planes beside it which it nearly touches."""
    s = patches[k].surface
    assert isinstance(s, Cylinder)
    rows, want = [], []
    for pair in pairs:
        if k not in pair:
            continue
        other = patches[pair[0] if pair[1] == k else pair[1]].surface
        if not isinstance(other, Plane) or abs(float(other.frame.z @ s.frame.z)) > 1e-9:
            continue
        away = float(other.signed_distance(s.frame.origin[None])[0])
        if abs(abs(away) - s.radius) <= 20.0 * noise:
            rows.append(other.frame.z)
            want.append(np.copysign(s.radius, away) - away)
    if not rows:
        return s
    move = np.linalg.lstsq(np.array(rows), np.array(want), rcond=1e-6)[0]
    return Cylinder(s.frame.shifted(move), s.radius) if float(np.linalg.norm(move)) <= 40.0 * noise else s
