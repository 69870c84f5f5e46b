"""The mesh as a value: nodes, elements, what lies on which face, and how good it is."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.measures import volume
from lithon.brep.topology import Body, Face
from lithon.mesh.delaunay import FACE
from lithon.mesh.hexes import SIDES, hex_volumes
from lithon.mesh.quality import Quality, tet_volumes
from lithon.mesh.recover import Failure


@dataclass(frozen=True, slots=True, eq=False)
class Mesh:
    """A conformal mesh of tetrahedra or hexahedra. points (n,3); elements (m,4) or (m,8) linear, (m,10)
    or (m,20) quadratic, in VTK's node order; body (m,) index into `bodies`; triangles (k,3) or quads
    (k,4) on the faces, counter-clockwise about each face's normal, face (k,) index into `faces`. Those
    of a shared face stand once."""

    points: Floats
    elements: Ints
    body: Ints
    triangles: Ints
    face: Ints
    bodies: tuple[Body, ...]
    faces: tuple[Face, ...]
    quality: Quality
    failures: tuple[Failure, ...] = field(default=())

    @property
    def corners(self) -> Ints:
        return self.elements[:, : 4 if self.tetrahedral else 8]

    @property
    def tetrahedral(self) -> bool:
        return self.elements.shape[1] in (4, 10)

    @property
    def kind(self) -> str:
        """'tetrahedra' or 'hexahedra'."""
        return "tetrahedra" if self.tetrahedral else "hexahedra"

    def sides(self, rows: Ints) -> Ints:
        """The sides (k,3) or (k,4) of some elements, six or four of each."""
        table = FACE if self.tetrahedral else SIDES
        return np.asarray(self.corners[rows][:, table].reshape(-1, table.shape[1]))

    @property
    def order(self) -> int:
        return 1 if self.elements.shape[1] in (4, 8) else 2

    @property
    def volumes(self) -> Floats:
        """Of the elements (m,)."""
        measure = tet_volumes if self.tetrahedral else hex_volumes
        return measure(self.points, self.elements)

    @property
    def volume_ratio(self) -> float:
        """Volume of the mesh over the exact volume of the bodies."""
        exact = sum(volume(b) for b in self.bodies)
        return float(self.volumes.sum() / exact)

    def face_nodes(self, face: Face) -> Ints:
        """Corner nodes of a face's triangles, sorted."""
        index = next((k for k, f in enumerate(self.faces) if f is face), -1)
        return np.unique(self.triangles[self.face == index])

    def conformal(self) -> bool:
        """Whether every element face is either shared by two elements or a boundary triangle, and
        every boundary triangle of a bonded face has an element on both sides."""
        n = len(self.points)
        # Three corners tell a side from all others, of quads the three smallest numbers.
        keys = _side_keys(self.sides(np.arange(len(self.elements))), n)
        unique, counts = np.unique(keys, return_counts=True)
        bound_keys = _side_keys(self.triangles, n)
        uses = np.zeros(len(self.faces), dtype=np.int64)
        index = {f: k for k, f in enumerate(self.faces)}
        for b in self.bodies:
            for f in b.faces:
                uses[index[f]] += 1
        at = np.clip(np.searchsorted(unique, bound_keys), 0, len(unique) - 1)
        there = unique[at] == bound_keys
        right = counts[at] == uses[self.face]
        once = np.setdiff1d(unique[counts == 1], bound_keys)
        return bool(
            there.all()
            and right.all()
            and not len(once)
            and (counts <= 2).all()
            and len(np.unique(bound_keys)) == len(bound_keys)
        )


def _side_keys(sides: Ints, n: int) -> Ints:
    s = np.sort(sides, axis=1)
    return np.asarray((s[:, 0] * n + s[:, 1]) * n + s[:, 2])
