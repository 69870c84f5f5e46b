"""The border of two patches of a scan, where their surfaces go over into each other, drawn where these touch.

Near there corners lie on both surfaces within what they scatter, and to which patch a triangle went is chance: borders
go to and fro, and narrow patches tear.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import replace

import numpy as np
import scipy

from lithon.arrays import Floats, Ints, cross_product, unit
from lithon.brep.cleaning import side_pairs
from lithon.geometry.curves import Curve
from lithon.geometry.surfaces import Surface
from lithon.geometry.tolerance import MISS
from lithon.mend.links import in_common
from lithon.mend.seams import scatter_of, strayed, touching_curve
from lithon.mend.segments import Patch

#: A triangle of which less (a share of its own width) lies over a border stays where it is.
_OVER = 0.15


def straightened(points: Floats, corners: Ints, patches: Sequence[Patch], tolerance: float) -> list[Patch]:
    """Patches whose triangles are parted where their surfaces touch, as far as they lie on both; `tolerance`: how far
    (mm) surfaces may miss each other."""
    label = np.full(len(corners), -1, dtype=np.int64)
    for k, patch in enumerate(patches):
        label[patch.rows] = k
    was = label.copy()
    v = points[corners]
    middle = v.mean(axis=1)
    area = 0.5 * np.linalg.norm(cross_product(v[:, 1] - v[:, 0], v[:, 2] - v[:, 0]), axis=1)
    i, j, _ = side_pairs(corners, len(points))
    both = np.sort(np.stack([label[i], label[j]], axis=1), axis=1)
    pairs, often = np.unique(both[(both[:, 0] >= 0) & (both[:, 0] != both[:, 1])], axis=0, return_counts=True)
    common = in_common([np.unique(corners[patch.rows]) for patch in patches])
    near = MISS * tolerance
    for a, b in pairs[np.argsort(-often, kind="stable")].tolist():
        one, two = patches[a].surface, patches[b].surface
        if one is None or two is None:
            continue
        far = near + scatter_of([patches[a].off, patches[b].off])
        line = points[common[a, b]]
        curve = touching_curve(one, two, line, near, far)
        if curve is None:
            continue
        rows = np.flatnonzero((label == a) | (label == b))
        away, over = _across(curve, one, middle[rows])
        close = away <= strayed(one, two, far, curve)
        for s in (one, two):
            close &= np.abs(s.signed_distance(v[rows].reshape(-1, 3))).reshape(-1, 3).max(axis=1) <= far
        weight = area[rows] * np.where(label[rows] == a, 1.0, -1.0)
        sense = float(np.sign((over * weight)[close].sum()))
        moved = close & (np.abs(over) > _OVER * np.sqrt(area[rows]))
        label[rows[moved]] = np.where(sense * over[moved] > 0.0, a, b)
    label = _whole(label, was, i, j)
    out = []
    for k, patch in enumerate(patches):
        rows = np.flatnonzero(label == k)
        if not len(rows):
            continue
        out.append(on_surface(points, corners, replace(patch, rows=rows)))
    return out


def united(
    points: Floats, corners: Ints, patches: Sequence[Patch], pairs: Iterable[tuple[int, int]], near: float,
    anyhow: bool = False,
) -> list[Patch]:  # fmt: skip
    """Patches of which some (pairs) border on each other; such as lie on one surface to within `near` (mm) there are
    one, on that of the largest; `anyhow`: such as do along their border, in which they cannot meet then."""
    own = [np.unique(corners[patch.rows]) for patch in patches]
    common = in_common(own) if anyhow else {}
    sets: scipy.cluster.hierarchy.DisjointSet = scipy.cluster.hierarchy.DisjointSet(range(len(patches)))
    for a, b in pairs:
        one, two = patches[a].surface, patches[b].surface
        if one is None or two is None:
            continue
        large, small = sorted((a, b), key=lambda k: -len(patches[k].rows))
        surface = patches[large].surface
        assert surface is not None
        off = float(np.abs(surface.signed_distance(points[own[small]])).max())
        most, over = max(near, patches[large].off), points[own[small]]
        if anyhow:
            most, over = near + max(patches[a].off, patches[b].off), points[common[min(a, b), max(a, b)]]
        if off <= most and one.same_as(two, near, float(np.linalg.norm(np.ptp(over, axis=0)))):
            sets.merge(a, b)
    out = []
    for joined in sets.subsets():
        first = max(joined, key=lambda k: (len(patches[k].rows), -k))
        if len(joined) > 1:
            rows = np.concatenate([patches[k].rows for k in joined])
            out.append(on_surface(points, corners, replace(patches[first], rows=rows)))
        else:
            out.append(patches[first])
    return out


def on_surface(points: Floats, corners: Ints, patch: Patch) -> Patch:
    """A patch with how far its corners stand off its surface."""
    if patch.surface is None:
        return patch
    on = points[np.unique(corners[patch.rows])]
    return replace(patch, off=float(np.abs(patch.surface.signed_distance(on)).max()))


def _across(curve: Curve, surface: Surface, middle: Floats) -> tuple[Floats, Floats]:
    """How far (m,) points are from a curve on a surface, and how far to one side of it along the surface."""
    t = curve.parameter(middle)
    at = curve.point(t)
    side = cross_product(unit(curve.derivative(t)), surface.normal(at))
    return np.linalg.norm(middle - at, axis=1), ((middle - at) * side).sum(axis=1)


def _whole(label: Ints, was: Ints, i: Ints, j: Ints) -> Ints:
    """The new patches (m,) of triangles, of which `i`, `j` lie side by side; what would come to lie apart from the rest
    of its patch stays where it was."""
    m = len(label)
    while True:
        same = label[i] == label[j]
        graph = scipy.sparse.coo_array((np.ones(int(same.sum())), (i[same], j[same])), shape=(m, m))
        part = scipy.sparse.csgraph.connected_components(graph, directed=False)[1]
        moved = np.bincount(part, weights=(label != was).astype(float))
        # Islands that consist of moved triangles alone.
        stray = (moved[part] == np.bincount(part)[part]) & (label != was)
        if not stray.any():
            return label
        label = np.where(stray, was, label)
