"""Bodies of triangles that share faces in one lattice: each element is of one of them, and the sides between elements
of two lie on the faces that these share, as nearly as elements allow.

The lattice is cut along the skin of all together (`stuffing`). Then, as that does to a skin (Labelle & Shewchuk,
*Isosurface stuffing*, 2007), nodes near to a shared face move onto it, nearest first, and sides that still go through
one get a node there; whatever would leave an element flat is left out, and elements there go to where their middle is.
"""

from __future__ import annotations

import functools
from collections import Counter
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Bools, Floats, Ints
from lithon.brep.tessellation.tessellate import body_mesh, face_mesh
from lithon.brep.tessellation.trees import inside, tree_of
from lithon.brep.topology import Body, Edge, Face
from lithon.geometry.boxtree import BoxTree
from lithon.mesh.parting import Elements
from lithon.mesh.recover import tet_faces, triple_keys
from lithon.progress import pulse

#: Nodes no further from a shared face than this share of a cube's side move there; those nearer by far are on it.
_TO_FACE, _ON = 0.3, 1e-6
#: So often sides are parted: what parts one can bring about another.
_ROUNDS = 2
#: Nearer to an end of a side than this share of it no node is put.
_END = 0.08


@dataclass(frozen=True, slots=True, eq=False)
class Skins:
    """The skins of bodies that share faces, or of one: all faces, each once; the skin of all together as a body, and
    the number of the body and of the face behind each of its uses; what is shared, as a tree over its triangles with
    the number of the face of each; and the edges on the outer skin where shared faces end."""

    bodies: tuple[Body, ...]
    faces: tuple[Face, ...]
    outer: Body
    body_of: Ints
    face_of: Ints
    between: BoxTree | None
    between_of: Ints
    seams: frozenset[Edge]


@functools.lru_cache(maxsize=2)
def skins_of(bodies: tuple[Body, ...]) -> Skins:
    """The latest are kept, for lattices that are tried one after another."""
    faces = tuple(dict.fromkeys(face for body in bodies for face in body.faces))
    number = {face: k for k, face in enumerate(faces)}
    times = Counter(face for body in bodies for face in set(body.faces))
    shared = [face for face in faces if times[face] > 1]
    uses = [(k, use) for k, body in enumerate(bodies) for use in body.uses if times[use.face] == 1]
    outer = bodies[0] if len(bodies) == 1 else Body(tuple(use for _, use in uses), bodies[0].name)
    meshes = [face_mesh(face) for face in shared]
    starts = np.cumsum([0, *(len(m.points) for m in meshes)])
    tree, of = None, np.zeros(0, dtype=np.int64)
    if shared:
        triangles = np.concatenate([m.triangles + start for m, start in zip(meshes, starts, strict=False)])
        tree = BoxTree.of(np.concatenate([m.points for m in meshes]), triangles)
        of = np.repeat([number[face] for face in shared], [len(m.triangles) for m in meshes])
    own = set(outer.edges())
    seams = frozenset(e for face in shared for e in face.edges() if e in own)
    return Skins(bodies, faces, outer, np.array([k for k, _ in uses], dtype=np.int64),
                 np.array([number[use.face] for _, use in uses], dtype=np.int64), tree, of, seams)  # fmt: skip


def told_apart(points: Floats, tets: Ints, skins: Skins, step: float, least: float) -> tuple[Floats, Ints, Ints]:
    """Tetrahedra (m,4) of points (n,3) from cubes of a side (mm) on the outer skin, with the faces between bodies; and
    the number (m,) of the body that each is of. None is worse than `least` that was not before."""
    if skins.between is None:
        return points, tets, np.zeros(len(tets), dtype=np.int64)
    away = np.linalg.norm(skins.between.nearest(points)[1] - points, axis=1)
    near = away < 2.5 * step
    if near.any():
        work = _Between(points, tets, near, away, skins, step, least)
        work.to_faces()
        for _ in range(_ROUNDS):
            if not work.part():
                break
        points, tets = work.made
    return points, tets, body_of(skins, points[tets].mean(axis=1))


def body_of(skins: Skins, points: Floats) -> Ints:
    """The number of the body (n,) in which each of some points (n,3) lies; what chords leave outside of all is of the
    one whose skin is nearest."""
    out = np.full(len(points), -1)
    for k, body in enumerate(skins.bodies):
        left = np.flatnonzero(out < 0)
        out[left[inside(body, points[left])]] = k
    left = np.flatnonzero(out < 0)
    out[left] = nearest_body(skins, points[left])
    return np.asarray(out)


def nearest_body(skins: Skins, points: Floats) -> Ints:
    """The number of the body (n,) of which the part of the outer skin is that is nearest to each of some points."""
    row, _ = tree_of(skins.outer).nearest(points)
    return np.asarray(skins.body_of[body_mesh(skins.outer)[2][row]])


class _Between(Elements):
    """The tetrahedra near to shared faces, as they are moved and parted."""

    def __init__(
        self, points: Floats, tets: Ints, near: Bools, away: Floats, skins: Skins, step: float, least: float
    ):  # fmt: skip
        super().__init__(points, tets, near, least)
        assert skins.between is not None
        self.tree, self.step, self.away = skins.between, step, away
        sides = tet_faces(tets)
        _, first, times = np.unique(triple_keys(sides, len(points)), return_index=True, return_counts=True)
        #: Nodes on the outer skin stay there.
        self.outer = np.zeros(len(self.x), dtype=np.bool_)
        self.outer[sides[first[times == 1]]] = True
        #: The body in which each node near by lies; -1 on a shared face.
        self.body = np.full(len(self.x), -1)
        rows = np.flatnonzero(near & (away > _ON * step))
        inner = ~self.outer[rows]
        self.body[rows[inner]] = body_of(skins, points[rows[inner]])
        self.body[rows[~inner]] = nearest_body(skins, points[rows[~inner]])

    def to_faces(self) -> None:
        """Nodes that are near to a shared face move there, the nearest first."""
        n = len(self.away)
        rows = np.flatnonzero((self.body[:n] >= 0) & ~self.outer[:n] & (self.away < _TO_FACE * self.step))
        rows = rows[np.argsort(self.away[rows], kind="stable")]
        for node, to in zip(rows.tolist(), self.tree.nearest(self.x[rows])[1], strict=True):
            if self.move(node, to):
                self.body[node] = -1

    def part(self) -> int:
        """Sides from one body to another get a node on the face between these; how many did."""
        pulse("telling bodies apart")
        tets = self.around()
        sides = np.unique(
            np.sort(tets[:, [[0, 1], [0, 2], [0, 3], [1, 2], [1, 3], [2, 3]]].reshape(-1, 2), axis=1), axis=0
        )
        a, b = sides.T
        # What goes along the outer skin goes over a seam, which is followed there.
        apart = (self.body[a] >= 0) & (self.body[b] >= 0) & (self.body[a] != self.body[b])
        sides = sides[apart & ~(self.outer[a] & self.outer[b])]
        if not len(sides):
            return 0
        start, way = self.x[sides[:, 0]], self.x[sides[:, 1]] - self.x[sides[:, 0]]
        row, share = self.tree.first_hits(start, way, 0.0, 1.0)
        done = 0
        order = np.argsort(np.abs(share - 0.5), kind="stable")
        for k in order[row[order] >= 0].tolist():
            one, other = sides[k].tolist()
            if self.body[one] < 0 or self.body[other] < 0:
                continue  # one of its ends has moved
            spot = start[k] + share[k] * way[k]
            node = self.parted((one, other), spot) if min(share[k], 1.0 - share[k]) > _END else None
            if node is None:
                ends = (one, other) if share[k] < 0.5 else (other, one)
                node = next((v for v in ends if not self.outer[v] and self.move(v, spot)), None)
            if node is not None:
                self.body[node] = -1
                done += 1
        return done


def off(skins: Skins, points: Floats, triangles: Ints) -> float:
    """How far (mm) shared faces are from the triangles (m,3) between bodies that stand for them, and these from those,
    at the most."""
    if skins.between is None:
        return 0.0
    if not len(triangles):
        return float("inf")
    true = np.concatenate([face_mesh(skins.faces[k]).points for k in np.unique(skins.between_of)])
    made = np.linalg.norm(BoxTree.of(points, triangles).nearest(true)[1] - true, axis=1)
    nodes = points[np.unique(triangles)]
    back = np.linalg.norm(skins.between.nearest(nodes)[1] - nodes, axis=1)
    return float(max(made.max(), back.max()))
