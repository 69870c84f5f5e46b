"""Relations between fitted surfaces, kept where they hold within the noise: parallel and square directions, directions
along the axes, one axis, equal radii, blends tangent to what they go on into."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np

from lithon.arrays import Floats, Ints, cross_product, unit
from lithon.brep.analysis.fits import circle_through
from lithon.geometry.frames import Frame
from lithon.geometry.rounds import Cone, Torus
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.mend.fitting import slopes_of
from lithon.mend.links import in_common
from lithon.mend.segments import Patch


def related(
    points: Floats, corners: Ints, patches: Sequence[Patch], pairs: set[tuple[int, int]], noise: float
) -> list[Patch]:
    """The patches with their relations made exact. pairs: those that border on each other; noise: how far (mm) a
    surface may move for it."""
    out = list(patches)
    ids = [np.unique(corners[p.rows]) for p in patches]
    own = [points[i] for i in ids]
    ways = _directions(out, own, noise)
    for k, patch in enumerate(out):
        if k in ways and patch.surface is not None:
            along = _along(patch.surface, own[k], ways[k])
            out[k] = replace(patch, surface=_nearer(patch.surface, along, own[k], noise))
    for k, moved in _coaxial(out, own, noise).items():
        out[k] = replace(out[k], surface=moved)
    for k, shared in _in_a_ring(out, ids, points, noise).items():
        out[k] = replace(out[k], surface=shared)
    smooth = _smooth(points, ids, out, pairs)
    # Blends are told by what they go on into: edges first, then the corners between them.
    for kind in (Cylinder, Torus):
        for k, patch in enumerate(out):
            if isinstance(patch.surface, kind):
                others = [s for j in smooth[k] if (s := out[j].surface) is not None]
                upright = _upright(patch.surface, others)
                held = _held(upright, own[k], _ties(upright, others))
                out[k] = replace(patch, surface=_nearer(patch.surface, held, own[k], noise))
        if kind is Cylinder:
            for k, r in _radii(out, noise).items():
                s = out[k].surface
                assert isinstance(s, Cylinder)
                ties = _ties(s, [t for j in smooth[k] if (t := out[j].surface) is not None])
                ties.append((np.array([0.0, 0.0, 0.0, 1.0]), r))
                out[k] = replace(out[k], surface=_nearer(s, _held(s, own[k], ties), own[k], noise))
    beside: dict[int, list[int]] = {k: [] for k in range(len(out))}
    for i, j in pairs:
        beside[i].append(j)
        beside[j].append(i)
    for k, patch in enumerate(out):
        if isinstance(patch.surface, Cone):
            axes = [s.frame for j in beside[k] if isinstance(s := out[j].surface, Cylinder | Torus)]
            flats = [s for j in smooth[k] if isinstance(s := out[j].surface, Plane)]
            out[k] = replace(patch, surface=_cone(patch.surface, own[k], axes, flats, noise))
    return [replace(p, off=float(np.abs(p.surface.signed_distance(q)).max())) if p.surface is not None else p
            for p, q in zip(out, own, strict=True)]  # fmt: skip


#: An equation that a surface's place and numbers are to satisfy: factors of the shift (3,) within its frame and of its
#: numbers, and what they come to.
_Tie = tuple[Floats, float]
#: Surfaces whose normals part by less (radians) along the border of their patches are to be tangent.
_SMOOTH = np.radians(15.0)
#: Angles of chamfers are whole numbers of so many degrees, if nothing speaks against it, and cones of such half angles;
#: 59 is a drill's.
_ROUND, _ANGLES = 15.0, (15.0, 30.0, 45.0, 59.0, 60.0, 75.0)
#: Patches that share less of their borders (a share of what they share with others) touch by chance.
_PASSING = 0.2
#: So many strips lie on one cylinder by no chance; each needs so many corners of its own.
_SEVERAL, _INNER = 4, 3


def _smooth(
    points: Floats, ids: Sequence[Ints], patches: Sequence[Patch], pairs: set[tuple[int, int]]
) -> dict[int, list[int]]:
    """For each patch those that it goes on into without a crease."""
    out: dict[int, list[int]] = {k: [] for k in range(len(patches))}
    common = in_common(ids)
    shared = {pair: common[pair] for pair in pairs}
    most = np.zeros(len(patches))
    for pair, both in shared.items():
        most[list(pair)] = np.maximum(most[list(pair)], len(both))
    for (i, j), both in shared.items():
        a, b = patches[i].surface, patches[j].surface
        if a is None or b is None or len(both) < max(2.0, _PASSING * min(most[i], most[j])):
            continue
        turn = np.abs((a.normal(points[both]) * b.normal(points[both])).sum(axis=1))
        if float(np.median(turn)) > np.cos(_SMOOTH):
            out[i].append(j)
            out[j].append(i)
    return out


def _ties(s: Surface, others: Sequence[Surface]) -> list[_Tie]:
    """What it takes for a cylinder or a torus to be tangent to others."""
    out: list[_Tie] = []
    frame = s.frame
    for other in others:
        way = frame.local(frame.origin + other.frame.z)
        if isinstance(other, Plane):
            away = float(other.signed_distance(frame.origin[None])[0])
            side = -float(np.sign(away))
            if isinstance(s, Cylinder) and abs(float(way[2])) < _SQUARE:
                out.append((np.array([way[0], way[1], 0.0, side]), -away))
            if isinstance(s, Torus) and abs(float(way[2])) > 1.0 - _SQUARE:
                out.append((np.array([0.0, 0.0, np.sign(way[2]), 0.0, side]), -away))
        if isinstance(s, Cylinder) and isinstance(other, Cylinder) and abs(float(way[2])) > 1.0 - _SQUARE:
            foot = frame.local(other.frame.origin)[:2]
            apart = float(np.hypot(*foot))
            if apart > 0.0:
                # Side by side, inside it, or around it.
                far, radius = float(other.radius), float(s.radius)
                side, to = min(((1.0, apart - far), (-1.0, apart - far), (1.0, apart + far)),
                               key=lambda tie: abs(tie[0] * radius - tie[1]))  # fmt: skip
                out.append((np.array([foot[0] / apart, foot[1] / apart, 0.0, side]), to))
        if isinstance(s, Torus) and isinstance(other, Cylinder):
            foot = frame.local(other.frame.origin)
            if abs(float(way[2])) > 1.0 - _SQUARE:  # about one axis
                out += [(np.array([1.0, 0.0, 0.0, 0.0, 0.0]), float(foot[0])),
                        (np.array([0.0, 1.0, 0.0, 0.0, 0.0]), float(foot[1]))]  # fmt: skip
                out.append((np.array([0.0, 0.0, 0.0, 1.0, np.sign(other.radius - s.major)]), float(other.radius)))
            elif abs(float(way[2])) < _SQUARE:  # its tube goes on straight
                across = unit(np.array([way[1], -way[0], 0.0]))
                side = float(np.sign(across @ foot))
                out.append((np.array([0.0, 0.0, 0.0, 0.0, 1.0]), float(other.radius)))
                out.append((np.array([0.0, 0.0, 1.0, 0.0, 0.0]), float(foot[2])))
                out.append((np.array([across[0], across[1], 0.0, side, 0.0]), float(across @ foot)))
    return out


#: Of two directions: how near to square, or to alike, they are to be (cosine).
_SQUARE = 0.02


def _upright(s: Cylinder | Torus, others: Sequence[Surface]) -> Cylinder | Torus:
    """A torus whose axis is along that of what it goes on into, where it nearly is: little of one hardly tells how it
    leans."""
    if isinstance(s, Cylinder):
        return s
    ways = [o.frame.z for o in others if isinstance(o, Plane | Cylinder)]
    best = max(ways, key=lambda way: abs(float(way @ s.frame.z)), default=s.frame.z)
    if abs(float(best @ s.frame.z)) < np.cos(_SMOOTH):
        return s
    way = best * float(np.sign(best @ s.frame.z))
    return replace(s, frame=Frame.of(s.frame.origin, way, s.frame.x))


def _cone(s: Cone, p: Floats, axes: Sequence[Frame], flats: Sequence[Plane], noise: float) -> Surface:
    """A cone about the axis of what is beside it, tangent to flats that it goes on into, or of a round angle, as far as
    its points (n,3) allow: a chamfer around a corner."""
    for axis in axes:
        if abs(float(axis.z @ s.frame.z)) < np.cos(_SMOOTH):
            continue
        local = axis.local(p)
        away, height = np.hypot(local[:, 0], local[:, 1]), local[:, 2]
        middle, mean = float(height.mean()), float(away.mean())
        spread = float(((height - middle) ** 2).sum())
        if spread == 0.0:
            continue
        free = float(np.arctan(float(((height - middle) * away).sum()) / spread))
        for flat in flats:
            tip = -float(flat.signed_distance(axis.origin[None])[0]) / max(float(flat.frame.z @ axis.z), 1e-9, key=abs)
            angle = float(np.copysign(np.arcsin(min(1.0, abs(float(flat.frame.z @ axis.z)))), free))
            made = _cone_about(axis, middle, (middle - tip) * float(np.tan(angle)), angle)
            if made is not None and _nearer(s, made, p, noise) is made:
                return made
        even = min(_ANGLES, key=lambda angle: abs(angle - abs(np.degrees(free))))
        for angle in (float(np.copysign(np.radians(even), free)), free):
            made = _cone_about(axis, middle, mean, angle)
            if made is not None and _nearer(s, made, p, noise) is made:
                return made
    return s


def _cone_about(axis: Frame, height: float, radius: float, angle: float) -> Cone | None:
    """The cone about an axis, of a radius at a height; none where that is no cone."""
    if radius <= 0.0 or not 0.01 < abs(angle) < 0.5 * np.pi - 0.01:
        return None
    return Cone.of(axis.origin + height * axis.z, axis.z, radius, angle, axis.x)


def _held(s: Cylinder | Torus, p: Floats, ties: Sequence[_Tie]) -> Surface:
    """A surface nearest to its points (n,3) that satisfies equations (Benko, Kos, Varady, Andor & Martin, *Constrained
    fitting in reverse engineering*, 2002)."""
    if not ties:
        return s
    numbers = np.array([s.radius] if isinstance(s, Cylinder) else [s.major, s.minor])
    rows, want = np.array([row for row, _ in ties]), np.array([x for _, x in ties])
    if isinstance(s, Cylinder):  # where along its axis it is told from says nothing, and stays
        rows, want = np.vstack([rows, np.eye(rows.shape[1])[2]]), np.append(want, 0.0)
    x = np.concatenate([np.zeros(3), numbers])
    x = x + np.linalg.pinv(rows, rcond=1e-3) @ (want - rows @ x)
    _, strong, ways = np.linalg.svd(rows)
    free = ways[int((strong > 1e-3 * strong[0]).sum()) :].T
    local = s.frame.local(p)
    for _ in range(12):
        if (x[3:] <= 0.0).any():
            return s
        off, slopes = slopes_of(type(s), x[3:], local - x[:3])
        slopes = np.delete(slopes, (3, 4), axis=1) @ free
        move = free @ np.linalg.lstsq(slopes, -off, rcond=1e-6)[0] if free.size else np.zeros(len(x))
        x = x + move
        if float(np.abs(move).max()) < 1e-13 * (1.0 + float(np.abs(x).max())):
            break
    if (x[3:] <= 0.0).any():
        return s
    frame = s.frame.shifted(x[0] * s.frame.x + x[1] * s.frame.y + x[2] * s.frame.z)
    return Cylinder(frame, float(x[3])) if isinstance(s, Cylinder) else Torus(frame, float(x[3]), float(x[4]))


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
            square = []
            for w in known:
                if abs(float(w @ z)) <= slack:
                    z = unit(z - float(w @ z) * w)
                    square.append(w)
            z = _round_turn(z, square, known, slack)
            known.append(z)
        out[k] = z
    return out


def _round_turn(z: Floats, square: Sequence[Floats], known: Sequence[Floats], slack: float) -> Floats:
    """A direction square to one that is known, turned by a round angle from another one that is so too, if it nearly
    is: that of a chamfer."""
    for w in square[:1]:
        for u in known:
            if abs(float(u @ w)) > 1e-9:
                continue
            v = cross_product(w, u)
            turn = float(np.arctan2(float(z @ v), float(z @ u)))
            even = float(np.radians(_ROUND * round(np.degrees(turn) / _ROUND)))
            if abs(turn - even) <= slack:
                return np.asarray(np.cos(even) * u + np.sin(even) * v)
    return z


def _span(p: Floats, z: Floats, plane: bool) -> float:
    """How far points reach in the direction in which a lean would show least."""
    q = p - p.mean(axis=0)
    if not plane:
        return float(np.ptp(q @ z))
    flat = q - np.multiply.outer(q @ z, z)
    values = np.linalg.svd(flat, compute_uv=False)
    return float(values[1] / np.sqrt(len(p)) * 2.0)


def _along(surface: Surface, p: Floats, z: Floats) -> Surface:
    """A surface with another direction, refitted to its points."""
    if isinstance(surface, Plane):
        middle = p.mean(axis=0)
        return Plane.of(middle, z, surface.frame.x)
    assert isinstance(surface, Cylinder)
    frame = Frame.of(surface.frame.origin, z, surface.frame.x)
    q = frame.local(p)
    centre, radius = circle_through(q[:, :2])
    return Cylinder(frame.shifted(centre[0] * frame.x + centre[1] * frame.y), radius)


def _nearer(surface: Surface | None, other: Surface, p: Floats, noise: float) -> Surface:
    """Another surface where it is hardly further from points (n,3) than a surface, or than they scatter; else that."""
    assert surface is not None
    was, now = np.abs(surface.signed_distance(p)), np.abs(other.signed_distance(p))
    free, held = float(np.sqrt((was**2).mean())), float(np.sqrt((now**2).mean()))
    # Of few points a free surface is nearer than they scatter.
    mean = held <= max(1.25 * free + 0.05 * noise, 0.6 * noise)
    return other if mean and float(now.max()) <= max(2.5 * noise, 1.2 * float(was.max())) else surface


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


def _in_a_ring(patches: Sequence[Patch], ids: Sequence[Ints], points: Floats, noise: float) -> dict[int, Cylinder]:
    """Narrow strips that lie on one cylinder about an axis that is known, as well as each in a plane of its own: a
    rim that blades part."""
    own = [points[i] for i in ids]
    axes = [s.frame for k, p in enumerate(patches) if isinstance(s := p.surface, Cylinder) and _arc(s, own[k]) > 2.0]
    flats = [k for k, p in enumerate(patches) if isinstance(p.surface, Plane)]
    often = np.bincount(np.concatenate(ids), minlength=len(points)) if ids else np.zeros(0)
    out: dict[int, Cylinder] = {}
    seen: list[Frame] = []
    for axis in axes:
        if any(abs(float(axis.z @ a.z)) > 1.0 - 1e-9 and np.hypot(*a.local(axis.origin)[:2]) <= noise for a in seen):
            continue
        seen.append(axis)
        rows: list[tuple[float, int]] = []
        for k in flats:
            s = patches[k].surface
            assert s is not None
            # Only corners of its own tell whether it bends: four on the border lie on many a cylinder.
            if k in out or abs(float(s.frame.z @ axis.z)) > _SQUARE or int((often[ids[k]] == 1).sum()) < _INNER:
                continue
            local = axis.local(own[k])
            away = np.hypot(local[:, 0], local[:, 1])
            middle = local[:, :2].mean(axis=0)
            way = axis.local(axis.origin + s.frame.z)[:2]
            if float(np.ptp(away)) <= 4.0 * noise and abs(float(way @ middle)) > 0.99 * np.hypot(*middle):
                rows.append((float(away.mean()), k))
        group: list[tuple[float, int]] = []
        for r, k in [*sorted(rows), (np.inf, -1)]:
            if group and r - group[-1][0] > 0.5 * noise:
                made = Cylinder(axis, float(np.mean([x for x, _ in group])))
                held = [j for _, j in group if _nearer(patches[j].surface, made, own[j], noise) is made]
                if len(held) >= _SEVERAL:
                    out |= dict.fromkeys(held, made)
                group = []
            group.append((r, k))
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
        if group and r - group[len(group) // 2][0] > 4.0 * noise:  # from the middle one
            mean = float(np.median([x for x, _ in group]))
            for digits in range(1, 7):
                if abs(round(mean, digits) - mean) <= 0.3 * noise:
                    mean = round(mean, digits)
                    break
            out |= {j: mean for _, j in group}
            group = []
        group.append((r, k))
    return out
