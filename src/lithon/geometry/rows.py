"""Surfaces as rows of numbers, for compiled code that follows where two of them cross: the simple ones as
`elementary` has them, B-splines and what is swept straight from one with their knots and control points."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats, given
from lithon.geometry.elementary import SPLINE, in_numbers
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Surface
from lithon.geometry.swept import Extrusion


def row_of(surface: Surface, points: Floats) -> Floats | None:
    """The row (m,) of a surface, to be written to, for places near points (n,3); None where there is none for it."""
    if isinstance(surface, BSplineSurface):
        return _spline(surface).copy()
    if isinstance(surface, Extrusion):
        flat = surface.flat()
        return None if flat is None else _extruded(surface, points)
    numbers = in_numbers(surface)
    return None if numbers is None else numbers.copy()


def feet(surface: Surface, points: Floats) -> Floats:
    """The parameters (n,2) nearest to points (n,3) where the row of a surface asks for such; zeros where not."""
    if isinstance(surface, BSplineSurface | Extrusion):
        return given(surface.parameters(np.asarray(points)))
    return np.zeros((len(points), 2))


def _spline(surface: BSplineSurface) -> Floats:
    if "row" not in surface._kept:
        surface._kept["row"] = _row(
            surface.knots_u, surface.knots_v, surface.degree_u, surface.degree_v, surface.closed(), surface._net()
        )
    row: Floats = surface._kept["row"]
    return row


def _extruded(surface: Extrusion, points: Floats) -> Floats | None:
    """As a B-spline that is straight one way, and about as long as the points are far apart: what is longer than needed
    loses digits."""
    curve, z = surface.profile, surface.frame.z
    net = curve._net()  # type: ignore[attr-defined]
    high = surface.frame.local(np.asarray(points).reshape(-1, 3))[:, 2]
    own = surface.frame.local(curve.control)[:, 2]  # type: ignore[attr-defined]
    reach = 2.0 * (float(np.abs(high).max(initial=0.0)) + float(np.abs(own).max())) + float(np.ptp(net[:, :3]))
    sides = []
    for away in (-reach, reach):
        side = net.copy()
        side[:, :3] += away * net[:, 3:] * z
        sides.append(side)
    knots = np.array([-reach, -reach, reach, reach])
    closed = (curve.period is not None, False)
    return _row(curve.knots, knots, curve.degree, 1, closed, np.stack(sides, axis=1))  # type: ignore[attr-defined]


def _row(ku: Floats, kv: Floats, du: int, dv: int, closed: tuple[bool, bool], net: Floats) -> Floats:
    head = [SPLINE, du, dv, *closed, len(ku), len(kv), 0.0, 0.0, *net.shape[:2], 0.0]
    return np.concatenate([np.array(head, dtype=float), ku, kv, net.ravel()])
