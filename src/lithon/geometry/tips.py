"""Points at which a surface comes to an end and has no normal: a cone's apex, the pole of a turned or of a free-form
surface."""

from __future__ import annotations

import numpy as np

from lithon.arrays import Floats
from lithon.geometry.poles import mean_normal
from lithon.geometry.rounds import Cone
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Surface
from lithon.geometry.swept import Revolution


def tips(surface: Surface) -> Floats:
    """Its tips (n,3)."""
    if isinstance(surface, Cone):
        return np.array([surface.apex])
    if isinstance(surface, Revolution | BSplineSurface):
        return np.array([pole.point for pole in surface.poles()]).reshape(-1, 3)
    return np.zeros((0, 3))


def common_tips(a: Surface, b: Surface, near: float) -> Floats:
    """The tips (n,3) of either of two surfaces within `near` (mm) of the other. Every curve of both through one of them
    ends there."""
    found = []
    for one, other in ((a, b), (b, a)):
        p = tips(one)
        found.append(p[np.abs(other.signed_distance(p)) <= near] if len(p) else p)
    return np.concatenate(found)


def facing(surface: Surface, at: Floats, near: float) -> Floats:
    """The direction (3,) along which what leaves a point (3,) of a surface is seen in the order in which it lies around
    it: the normal; `near` (mm) a tip its mean around that."""
    if isinstance(surface, Cone) and float(np.linalg.norm(at - surface.apex)) < near:
        return np.asarray(-surface.frame.z)
    if isinstance(surface, Revolution | BSplineSurface):
        for pole in surface.poles():
            if float(np.linalg.norm(at - pole.point)) < near:
                return mean_normal(surface, pole)
    return np.asarray(surface.normal(at[None])[0])
