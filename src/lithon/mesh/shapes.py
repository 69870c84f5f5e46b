"""The shapes of elements: corners, edges and sides, as VTK numbers them."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

import numpy as np

from lithon.arrays import Ints
from lithon.mesh.delaunay import FACE
from lithon.mesh.hexes import EDGES, SIDES


@dataclass(frozen=True, slots=True, eq=False)
class Shape:
    """name: many of them; short: in scripts and files; edges (e,2): corner pairs, in the order of the second order's
    mid-nodes; sides (s,k): corners of what neighbours share, triangles, quads, or edges of flat elements; vtk: what
    VTU calls them, of first and second order; right: the corner angle (degrees) of the best one."""

    name: str
    short: str
    corners: int
    edges: Ints
    sides: Ints
    vtk: tuple[str, str]
    right: float

    def __reduce__(self) -> tuple[Any, ...]:
        return shape_of, (self.short,)  # there is one of each in every process

    @property
    def flat(self) -> bool:
        """Whether they lie on sheets and have areas, not volumes."""
        return self.sides.shape[1] == 2

    @property
    def angles(self) -> str:
        """What their angles are between."""
        return "corner" if self.flat else "dihedral"


_TRI = np.array([[0, 1], [1, 2], [2, 0]])
_QUAD = np.array([[0, 1], [1, 2], [2, 3], [3, 0]])
_TET = np.array([[0, 1], [1, 2], [0, 2], [0, 3], [1, 3], [2, 3]])

TET = Shape("tetrahedra", "tet", 4, _TET, FACE, ("tetra", "tetra10"), 72.0)
HEX = Shape("hexahedra", "hex", 8, EDGES, SIDES, ("hexahedron", "hexahedron20"), 90.0)
TRI = Shape("triangles", "tri", 3, _TRI, _TRI, ("triangle", "triangle6"), 60.0)
QUAD = Shape("quads", "quad", 4, _QUAD, _QUAD, ("quad", "quad8"), 90.0)


def shape_of(short: str) -> Shape:
    """The shape of that name. Raises KeyError."""
    return {shape.short: shape for shape in (TET, HEX, TRI, QUAD)}[short]
