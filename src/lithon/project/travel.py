"""Triangles that go along with their faces to another process, so that nobody makes them twice."""

from __future__ import annotations

from collections.abc import Collection
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.brep.copies import origin_of
from lithon.brep.tessellation.division import edge_points, known_edges, take_edge
from lithon.brep.tessellation.facemesh import FaceMesh
from lithon.brep.tessellation.tessellate import face_mesh, known_faces, take_face
from lithon.brep.topology import Edge, Face
from lithon.errors import Refusal
from lithon.geometry.facets import Facets


@dataclass(frozen=True, slots=True, eq=False)
class Luggage:
    """Triangles of some faces in few arrays: for each edge and face how many points (and triangles) are its own."""

    edges: tuple[Edge, ...]
    edge_counts: Ints
    edge_keys: Ints
    edge_points: Floats
    faces: tuple[Face, ...]
    counts: Ints
    troubles: tuple[str, ...]
    keys: Ints
    points: Floats
    triangles: Ints


def luggage(faces: Collection[Face]) -> Luggage | None:
    """What is known of the triangles of these faces. Facets are triangles themselves, and what was closed over
    has those of the face that it was, what was copied those of the face it was made from."""
    known = [
        (f, m)
        for f, m in known_faces(faces)
        if f.before is None and origin_of(f) is None and not isinstance(f.surface, Facets)
    ]
    if not known:
        return None
    edges = tuple(dict.fromkeys(e for f, _ in known for e in f.edges()))
    divided = [edge_points(e) for e in edges]
    meshes = [m for _, m in known]
    return Luggage(
        edges,
        np.array([len(k) for k, _ in divided], dtype=np.int64),
        np.concatenate([k for k, _ in divided]) if divided else np.zeros(0, dtype=np.int64),
        np.concatenate([p for _, p in divided]) if divided else np.zeros((0, 3)),
        tuple(f for f, _ in known),
        np.array([(len(m.points), len(m.triangles)) for m in meshes], dtype=np.int64),
        tuple(m.trouble for m in meshes),
        np.concatenate([m.keys for m in meshes]),
        np.concatenate([m.points for m in meshes]),
        np.concatenate([m.triangles for m in meshes]).astype(np.int32),
    )


def unpack(load: Luggage) -> None:
    """Take over what was made elsewhere. The keys of points on edges become those that are used here."""
    ends = np.cumsum(load.edge_counts)[:-1]
    known = known_edges(load.edges)
    here: list[Ints] = []
    parts = np.split(load.edge_points, ends) if load.edges else []
    for edge, points in zip(load.edges, parts, strict=True):
        keys = known.get(edge)
        if keys is None:
            keys = take_edge(edge, points)
        elif len(keys) != len(points):
            return  # divided otherwise: its triangles would not meet those that are here
        here.append(keys)
    there, first = np.unique(load.edge_keys, return_index=True)
    mine = np.concatenate(here)[first] if here else np.zeros(0, dtype=np.int64)
    if len(there):
        row = np.minimum(np.searchsorted(there, load.keys), len(there) - 1)
        keys = np.where(there[row] == load.keys, mine[row], -1)
    else:
        keys = np.full(len(load.keys), -1, dtype=np.int64)
    at, side = np.cumsum(load.counts, axis=0)[:-1].T
    for face, k, p, t, trouble in zip(
        load.faces,
        np.split(keys, at),
        np.split(load.points, at),
        np.split(load.triangles.astype(np.int64), side),
        load.troubles,
        strict=True,
    ):
        take_face(face, FaceMesh(p, t, k, trouble))


def make_ready(faces: Collection[Face]) -> None:
    """Make the triangles of faces that will be drawn; one whose outline is tangled has none."""
    for face in faces:
        try:
            face_mesh(face)
        except Refusal:
            continue
