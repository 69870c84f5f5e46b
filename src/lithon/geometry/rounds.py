"""Cone, sphere and torus with their charts, under one name."""

from lithon.geometry.cones import Cone, ConeBand, ConeTip, PolarCone
from lithon.geometry.spheres import PolarSphere, Sphere, Stereographic
from lithon.geometry.tori import Torus, TorusChart

__all__ = [
    "Cone", "ConeBand", "ConeTip", "PolarCone", "PolarSphere", "Sphere", "Stereographic", "Torus", "TorusChart",
]  # fmt: skip
