"""Bands of triangles on faces between two rings about one axis, which most bores and shafts are."""

from __future__ import annotations

from collections.abc import Iterable

import numpy as np

from lithon.arrays import Floats
from lithon.brep.charts import chart_of
from lithon.brep.tessellation.division import ANGLE, edge_points
from lithon.brep.tessellation.facemesh import FaceMesh
from lithon.brep.topology import Coedge, Face
from lithon.geometry.batch import RollBatch
from lithon.geometry.surfaces import TURN, Cylinder

#: Faces laid out at once: enough to be quick, few enough to be small.
_AT_ONCE = 400
#: From so many places of a ring it is looked how a face turns towards the other.
_LINES = 8


def band(face: Face) -> FaceMesh | None:
    """Between two rings about one axis that are divided alike: layers of quads, halved. None elsewhere."""
    loops = face.loops
    if len(loops) != 2 or any(len(loop) != 1 or not loop[0].edge.ring for loop in loops):
        return None
    chart = chart_of(face)
    if chart.flat_period is None or len(chart.singular):
        return None
    mirror = 1.0 if face.along else -1.0
    keys, points, flats = [], [], []
    for (coedge,) in loops:
        key, point = edge_points(coedge.edge)
        flat = chart.flat(point) * [mirror, 1.0]
        step = np.diff(flat[:, 0], append=flat[:1, 0])
        step -= chart.flat_period * np.round(step / chart.flat_period)
        if np.ptp(flat[:, 1]) > 1e-9 * chart.flat_period or abs(np.sign(step).sum()) < len(step):
            return None
        if step[0] < 0.0:  # both are walked the way in which the first flat coordinate grows
            key, point, flat = key[::-1], point[::-1], flat[::-1]
        keys.append(key)
        points.append(point)
        flats.append(flat)
    n = len(keys[0])
    if len(keys[1]) != n:
        return None
    if flats[0][0, 1] > flats[1][0, 1]:
        keys, points, flats = keys[::-1], points[::-1], flats[::-1]
    gap = flats[1][:, 0] - flats[0][0, 0]
    gap -= chart.flat_period * np.round(gap / chart.flat_period)
    j = int(np.abs(gap).argmin())
    top_keys, top = np.roll(keys[1], -j), np.roll(points[1], -j, axis=0)
    across_all = np.roll(flats[1][:, 0], -j) - flats[0][:, 0]
    across_all -= chart.flat_period * np.round((across_all - gap[j]) / chart.flat_period)
    if np.ptp(across_all) > 1e-6 * chart.flat_period:
        return None  # they are not divided at the same places
    low = flats[0][0]
    rise = np.array([gap[j], flats[1][0, 1] - low[1]])
    # On the top of a bent tube it looks the same way all along, and the way itself turns.
    lines = flats[0][:: max(1, n // _LINES), None] + np.linspace(0.0, 1.0, 65)[:, None] * rise
    across = chart.point(lines.reshape(-1, 2) * [mirror, 1.0]).reshape(*lines.shape[:2], 3)
    steps = np.diff(across, axis=1)
    lengths = np.linalg.norm(steps, axis=2)
    ways = steps / np.maximum(lengths, 1e-300)[..., None]
    normals = face.surface.normal(across.reshape(-1, 3)).reshape(across.shape)
    turn = max(float(_turned(x).max()) for x in (ways, normals))
    length = float(lengths.sum(axis=1).max())
    side = max(float(np.linalg.norm(np.diff(p, axis=0), axis=1).max()) for p in (points[0], top))
    layers = max(1, int(np.ceil(turn / ANGLE - 1e-9)), int(length / (50.0 * side)))
    share = np.arange(1, layers)[:, None] / layers
    inner = flats[0][None] + share[:, None] * rise
    middle = chart.point(inner.reshape(-1, 2) * [mirror, 1.0])
    k = np.arange(n)
    a = (np.arange(layers)[:, None] * n + k).ravel()
    b = (np.arange(layers)[:, None] * n + (k + 1) % n).ravel()
    corners = np.concatenate([np.stack([a, b, b + n], axis=1), np.stack([a, b + n, a + n], axis=1)])
    return FaceMesh(
        np.vstack([points[0], middle, top]), corners, np.concatenate([keys[0], np.full(len(middle), -1), top_keys])
    )


def _turned(ways: Floats) -> Floats:
    """By how much (radians) unit vectors (m,n,3) turn in all, each row."""
    half = 0.5 * np.linalg.norm(np.diff(ways, axis=1), axis=2)
    return np.asarray(2.0 * np.arcsin(np.clip(half, 0.0, 1.0)).sum(axis=1))


def tubes(faces: Iterable[Face]) -> dict[Face, FaceMesh]:
    """As `band`, of many faces together: those that lie on cylinders between two rings divided alike and take one layer
    of triangles. The others are left out."""
    alike: dict[int, list[tuple[Face, tuple[Coedge, Coedge]]]] = {}
    for face in faces:
        loops = face.loops
        if isinstance(face.surface, Cylinder) and len(loops) == 2 and all(len(x) == 1 for x in loops):
            one, two = loops[0][0], loops[1][0]
            if one.edge.ring and two.edge.ring:
                n = len(edge_points(one.edge)[0])
                if n == len(edge_points(two.edge)[0]):
                    alike.setdefault(n, []).append((face, (one, two)))
    out: dict[Face, FaceMesh] = {}
    for n, group in alike.items():
        for start in range(0, len(group), _AT_ONCE):
            out.update(_tubes(n, group[start : start + _AT_ONCE]))
    return out


def _tubes(n: int, group: list[tuple[Face, tuple[Coedge, Coedge]]]) -> dict[Face, FaceMesh]:
    m = len(group)
    surfaces = [face.surface for face, _ in group if isinstance(face.surface, Cylinder)]
    radius = np.array([s.radius for s in surfaces])
    period = (TURN * radius)[:, None]
    divided = [[edge_points(c.edge) for c in pair] for _, pair in group]
    keys = np.array([[key for key, _ in pair] for pair in divided])
    points = np.array([[p for _, p in pair] for pair in divided])
    flat = RollBatch.of(surfaces).flat(np.repeat(np.arange(m), 2 * n), points.reshape(-1, 3)).reshape(m, 2, n, 2)
    u, v = flat[..., 0] * np.array([1.0 if f.along else -1.0 for f, _ in group])[:, None, None], flat[..., 1]
    step = np.roll(u, -1, axis=2) - u
    step -= period[:, None] * np.round(step / period[:, None])
    fine = (np.abs(np.sign(step).sum(axis=2)) == n).all(axis=1) & (np.ptp(v, axis=2) <= 1e-9 * period).all(axis=1)
    back = step[:, :, 0] < 0.0  # both are walked the way in which the first flat coordinate grows
    order = np.where(back[..., None], np.arange(n)[::-1], np.arange(n))
    # The lower one first.
    which = np.argsort(v[:, :, 0], axis=1, kind="stable")
    rows = np.arange(m)[:, None]
    order = order[rows, which]
    pick = (np.arange(m)[:, None, None], which[..., None], order)
    u, keys, points, v = u[pick], keys[pick], points[pick], v[pick]
    # The upper one begins where it is nearest to the lower one's first point.
    gap = u[:, 1] - u[:, 0, :1]
    gap -= period * np.round(gap / period)
    first = np.abs(gap).argmin(axis=1)
    turned = (first[:, None] + np.arange(n)) % n
    u[:, 1], keys[:, 1], points[:, 1] = u[:, 1][rows, turned], keys[:, 1][rows, turned], points[:, 1][rows, turned]
    lag = gap[np.arange(m), first]
    across = u[:, 1] - u[:, 0]
    across -= period * np.round((across - lag[:, None]) / period)
    fine &= np.ptp(across, axis=1) <= 1e-6 * period[:, 0]  # they are divided at the same places
    side = np.linalg.norm(points[:, :, 1] - points[:, :, 0], axis=2).max(axis=1)
    fine &= (np.abs(lag) <= ANGLE * radius) & (np.hypot(lag, v[:, 1, 0] - v[:, 0, 0]) < 50.0 * side)
    forward = np.array([[c.forward for c in pair] for _, pair in group])
    ahead = (forward != back)[rows, which]  # whether the face's loops go the way they are walked here
    k = np.arange(n)
    a, b = k, (k + 1) % n
    corners = np.concatenate([np.stack([a, b, b + n], axis=1), np.stack([a, b + n, a + n], axis=1)])
    corners.flags.writeable = False
    return {
        group[i][0]: FaceMesh(
            points[i].reshape(-1, 3), corners, keys[i].ravel(), tight=bool(ahead[i, 0] and not ahead[i, 1])
        )
        for i in np.flatnonzero(fine).tolist()
    }
