"""Cylinders and cones about axes that cross, with one sphere inscribed in both: they part into plane conics (Monge).

A point of a cone of half angle a, about an axis through the sphere's centre, is as far from the circle where they touch
as its power towards the sphere says: power = l^2 with l = (z + r sin a) / cos a, z the height over the centre. So two
such surfaces have in common what lies in the planes l = l' and l = -l'.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.geometry.cones import Cone
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.tolerance import ANGULAR


@dataclass(frozen=True, slots=True)
class _Drawn:
    """A linear form (gradient (3,), value at the sphere's centre) of which the square is a point's power."""

    gradient: Floats
    value: float


def planes_between(a: Surface, b: Surface, tolerance: float) -> list[Plane] | None:
    """The two planes that hold all that two surfaces of one inscribed sphere have in common; None of any others."""
    if not isinstance(a, Cylinder | Cone) or not isinstance(b, Cylinder | Cone):
        return None
    normal = cross_product(a.frame.z, b.frame.z)
    size = float(np.linalg.norm(normal))
    if size < ANGULAR:
        return None
    normal = normal / size
    between = b.frame.origin - a.frame.origin
    if abs(float(between @ normal)) > tolerance:
        return None
    along = np.linalg.solve(np.stack([a.frame.z, -b.frame.z, normal], axis=1), between)
    centre = a.frame.origin + along[0] * a.frame.z
    radii = [-float(s.signed_distance(centre[None])[0]) for s in (a, b)]
    if min(radii) <= tolerance or abs(radii[0] - radii[1]) > tolerance:
        return None
    one, two = _drawn(a, radii[0]), _drawn(b, radii[1])
    out = []
    for sign in (1.0, -1.0):
        gradient, value = one.gradient - sign * two.gradient, one.value - sign * two.value
        steep = float(np.linalg.norm(gradient))
        out.append(Plane.of(centre - value / steep**2 * gradient, gradient))
    return out


def _drawn(surface: Cylinder | Cone, radius: float) -> _Drawn:
    angle = surface.angle if isinstance(surface, Cone) else 0.0
    return _Drawn(surface.frame.z / np.cos(angle), radius * float(np.tan(angle)))
