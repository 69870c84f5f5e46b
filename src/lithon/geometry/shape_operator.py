"""The shape operator of any surface: how its normal turns along it (do Carmo, *Differential Geometry of Curves and
Surfaces*, 1976, 3-2)."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.geometry.surfaces import Surface

#: The step as a share of the smallest radius of curvature; and of how far the points reach, at the most.
_STEP, _REACH = 1e-3, 1e-3
#: Where a step leads so much less far (a share) the surface ends.
_ENDS = 0.9


def shape_operator(surface: Surface, points: Floats) -> Floats:
    """Symmetric matrices (n,3,3), one over mm, at the surface points closest to (n,3): times a tangent t they are by
    how much the normal turns against t. The normal curvature along a unit t is then t.S.t, positive where the surface
    bends towards its normal. By differences of the second order, one-sided where the surface ends."""
    on = surface.project(points)
    n = surface.normal(on)
    side = cross_product(n, np.eye(3)[np.abs(n).argmin(axis=1)])
    side /= np.linalg.norm(side, axis=1, keepdims=True)
    ways = np.stack([side, cross_product(n, side)], axis=1)
    reach = _REACH * max(float(np.linalg.norm(np.ptp(points, axis=0))), 1e-9)
    step = np.minimum(_STEP / np.maximum(surface.bend(on), 1e-12), reach)[:, None]
    turned = np.stack([_turned(surface, on, n, ways[:, k], step) for k in range(2)], axis=1)
    form = -np.einsum("nik,njk->nij", turned, ways)
    form = 0.5 * (form + form.transpose(0, 2, 1))
    return np.asarray(np.einsum("nij,nik,njl->nkl", form, ways, ways))


def _turned(surface: Surface, on: Floats, n: Floats, way: Floats, step: Floats) -> Floats:
    """The derivative (n,3) of the normals n (n,3) along unit tangents (n,3)."""
    far, normal = [], []
    for k in (-2.0, -1.0, 1.0, 2.0):
        at = surface.project(on + k * step * way)
        far.append(((at - on) * way).sum(axis=1) / (k * step[:, 0]))
        normal.append(surface.normal(at))
    a, b, c, d = normal
    forth, back = (-3.0 * n + 4.0 * c - d) / (2.0 * step), (3.0 * n - 4.0 * b + a) / (2.0 * step)
    both = (c - b) / (2.0 * step)
    ends, starts = (np.minimum(far[2], far[3]) < _ENDS)[:, None], (np.minimum(far[0], far[1]) < _ENDS)[:, None]
    return np.where(ends, back, np.where(starts, forth, both))
