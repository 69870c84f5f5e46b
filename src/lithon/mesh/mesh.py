"""The mesh as a value: nodes, elements, what lies on which face, and how good it is."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field, replace

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.measures import area, volume
from lithon.brep.topology import Body, Edge, Face
from lithon.mesh.hexes import hex_volumes
from lithon.mesh.quality import Quality, flat_areas, tet_volumes
from lithon.mesh.recover import Failure
from lithon.mesh.shapes import TET, Shape


@dataclass(frozen=True, slots=True, eq=False)
class Mesh:
    """A conformal mesh of tetrahedra or hexahedra, or of triangles or quads on sheets. points (n,3); elements (m,c) of
    the corners of their shape, of second order with a node for each of its edges, in VTK's node order; body (m,) index
    into `bodies`; triangles (k,3) or quads (k,4) on the faces, counter-clockwise about each face's normal, face (k,)
    index into `faces`. Those of a shared face stand once. Flat elements are those on the faces."""

    points: Floats
    elements: Ints
    body: Ints
    triangles: Ints
    face: Ints
    bodies: tuple[Body, ...]
    faces: tuple[Face, ...]
    quality: Quality
    failures: tuple[Failure, ...] = field(default=())
    shape: Shape = TET
    #: How often the bodies stand in it: a sector's mesh repeated all around.
    times: int = 1
    #: Where groups of bodies have nodes of their own: for each node the one whose place it shares.
    same: Ints | None = None
    #: Bodies (their numbers) meshed from a lattice since their own skins could not be held, and how far (mm) their
    #: creases stand out of that at the most.
    rounded: Mapping[int, float] = field(default_factory=dict)
    #: Of these the ones in which slots are filled, no wider than so (mm).
    filled: Mapping[int, float] = field(default_factory=dict)
    #: Bodies whose elements would be poor in fewer places from a lattice, and how far (mm) their creases
    #: would stand out of that: it was tried.
    better: Mapping[int, float] = field(default_factory=dict)
    #: What bodies are called together, such as a material: the numbers of the bodies by the set's name.
    sets: Mapping[str, tuple[int, ...]] = field(default_factory=dict)
    #: What it does not follow since it is smaller than what is ignored, draped or passed over: how many narrow faces,
    #: short edges, edges draped over, and tips of faces that were closed; none of it is told of a lattice.
    ignored: Mapping[str, int] = field(default_factory=dict)

    @property
    def corners(self) -> Ints:
        return self.elements[:, : self.shape.corners]

    @property
    def kind(self) -> str:
        """'tetrahedra', 'hexahedra', 'triangles' or 'quads'."""
        return self.shape.name

    def sides(self, rows: Ints) -> Ints:
        """The sides (k,c) of some elements, all of each one after the other."""
        table = self.shape.sides
        return np.asarray(self.corners[rows][:, table].reshape(-1, table.shape[1]))

    def skin(self, rows: Ints) -> Ints:
        """The triangles or quads (k,c) around some elements, turned outwards; flat elements themselves."""
        if self.shape.flat:
            return self.corners[rows]
        sides = self.sides(rows)
        _, index, count = np.unique(np.sort(sides, axis=1), axis=0, return_index=True, return_counts=True)
        skin = sides[index[count == 1]]
        return skin[:, ::-1] if self.shape is TET else skin

    @property
    def order(self) -> int:
        return 1 if self.elements.shape[1] == self.shape.corners else 2

    @property
    def volumes(self) -> Floats:
        """Of the elements (m,), mm3; areas of flat ones, mm2."""
        if self.shape.flat:
            return flat_areas(self.points, self.corners)
        measure = tet_volumes if self.shape is TET else hex_volumes
        return measure(self.points, self.elements)

    @property
    def volume_ratio(self) -> float:
        """Volume of the mesh over the exact volume of the bodies; of flat elements area over area."""
        exact = self.times * sum((area if self.shape.flat else volume)(b) for b in self.bodies)
        return float(self.volumes.sum() / exact)

    def body_nodes(self, body: Body) -> Ints:
        """Corner nodes of a body's elements, sorted."""
        index = next((k for k, b in enumerate(self.bodies) if b is body), -1)
        return np.unique(self.corners[self.body == index])

    def face_nodes(self, face: Face) -> Ints:
        """Corner nodes of a face's triangles, sorted."""
        index = next((k for k, f in enumerate(self.faces) if f is face), -1)
        return np.unique(self.triangles[self.face == index])

    def full_sides(self) -> Ints:
        """The triangles or quads on faces, with the middle nodes of their edges where the elements have them."""
        corners = self.triangles
        if self.order == 1:
            return corners
        ends = np.sort(self.corners[:, self.shape.edges], axis=2).reshape(-1, 2)
        middles = self.elements[:, self.shape.corners :].ravel()
        n = len(self.points)
        keys, first = np.unique(ends[:, 0] * n + ends[:, 1], return_index=True)
        asked = np.sort(np.stack([corners, np.roll(corners, -1, axis=1)], axis=2), axis=2)
        found = middles[first[np.searchsorted(keys, asked[..., 0] * n + asked[..., 1])]]
        return np.concatenate([corners, found], axis=1)

    def conformal(self) -> bool:
        """Whether every element face is either shared by two elements or a boundary triangle, and
        every boundary triangle of a bonded face has an element on both sides.

        Of flat elements: whether those of each face, and all together, are joined up as the faces themselves are, by
        Euler's characteristic; a side that did not match would leave a slit, which it counts."""
        if self.same is not None:
            triangles, face = self.same[self.triangles], self.face
            _, first = np.unique(np.sort(triangles, axis=1), axis=0, return_index=True)
            return replace(self, elements=self.same[self.elements], triangles=triangles[first], face=face[first],
                           same=None).conformal()  # fmt: skip
        if self.shape.flat:
            return self._joined_up()
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

    def _joined_up(self) -> bool:
        for k, face in enumerate(self.faces):
            own = self.corners[self.face == k]
            if not len(own) or _euler(own, self.shape) != (2 - len(face.loops) if face.loops else _whole(face)):
                return False
        edges = dict.fromkeys(e for f in self.faces for e in f.edges())
        open_edges = [e for e in edges if not e.ring]
        corners = dict.fromkeys(v for e in open_edges for v in (e.start, e.end))
        # A ring has as many nodes as sides; a face without its boundary one open cell for each of its own.
        inner = sum((2 - len(f.loops) if f.loops else _whole(f)) - _rim(f) for f in self.faces)
        return _euler(self.corners, self.shape) == len(corners) - len(open_edges) + inner


def _whole(face: Face) -> int:
    """Euler's characteristic of a face without boundary."""
    return 0 if face.surface.kind == "torus" else 2


def _rim(face: Face) -> int:
    """Euler's characteristic of a face's boundary: nothing, but where loops touch."""
    edges: dict[Edge, None] = dict.fromkeys(e for e in face.edges() if not e.ring)
    return len(dict.fromkeys(v for e in edges for v in (e.start, e.end))) - len(edges)


def _euler(cells: Ints, shape: Shape) -> int:
    """Nodes less sides plus cells of a flat mesh."""
    sides = np.unique(np.sort(cells[:, shape.sides].reshape(-1, 2), axis=1), axis=0)
    return len(np.unique(cells)) - len(sides) + len(cells)


def _side_keys(sides: Ints, n: int) -> Ints:
    s = np.sort(sides, axis=1)
    return np.asarray((s[:, 0] * n + s[:, 1]) * n + s[:, 2])
