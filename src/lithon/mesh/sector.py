"""A sector's mesh repeated all around: its two cut faces are meshed alike, and its copies share the nodes between."""

from __future__ import annotations

import re
from dataclasses import dataclass, replace

import numpy as np
import scipy

from lithon.arrays import Floats, Ints
from lithon.brep.topology import Edge, Face, Model
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Line
from lithon.geometry.meet import meet
from lithon.geometry.surfaces import Plane
from lithon.mesh.mesh import Mesh

_NAME = re.compile(r"sector 1/(\d+) side ([12])")


@dataclass(frozen=True, slots=True, eq=False)
class Sector:
    """One of `count` like parts about an axis. sides: the faces of the two cuts; turn (4,4) takes the first onto the
    second."""

    count: int
    origin: Floats
    axis: Floats
    turn: Floats
    sides: tuple[tuple[Face, ...], tuple[Face, ...]]

    def turned(self, points: Floats) -> Floats:
        return np.asarray(points @ self.turn[:3, :3].T + self.turn[:3, 3])


def sector_of(model: Model) -> Sector | None:
    """The sector that a model is, told by the names of its cut faces; None where it is none."""
    sides: dict[str, list[Face]] = {"1": [], "2": []}
    counts: set[int] = set()
    for face in model.faces():
        said = _NAME.fullmatch(face.label)
        if said and isinstance(face.surface, Plane):
            sides[said[2]].append(face)
            counts.add(int(said[1]))
    if len(counts) != 1 or not all(sides.values()):
        return None
    (count,) = counts
    one, two = (group[0].surface for group in sides.values())
    lines = meet(one, two, model.tolerance)
    if not lines or not isinstance(lines[0], Line):
        return None
    origin, axis = np.asarray(lines[0].origin), np.asarray(lines[0].direction)
    middle = np.mean([e.at(0.5) for f in sides["1"] for e in f.edges()], axis=0)
    best: tuple[float, Floats] | None = None
    for sense in (1.0, -1.0):
        turn = np.eye(4)
        way = sense * 2.0 * np.pi / count * axis
        turn[:3, :3] = scipy.spatial.transform.Rotation.from_rotvec(way).as_matrix()
        turn[:3, 3] = origin - turn[:3, :3] @ origin
        off = abs(float(two.signed_distance((turn[:3, :3] @ middle + turn[:3, 3])[None])[0]))
        if best is None or off < best[0]:
            best = off, turn
    assert best is not None
    return Sector(count, origin, axis, best[1], (tuple(sides["1"]), tuple(sides["2"])))


def image_edges(model: Model) -> list[tuple[Edge, Edge]]:
    """The edges of a sector's first cut with their images in the second."""
    sector = sector_of(model)
    if sector is None:
        return []
    first, second = (list(dict.fromkeys(e for f in side for e in f.edges())) for side in sector.sides)
    spots = np.array([e.at(0.5) for e in second])
    near = 1e-6 * (1.0 + float(np.abs(spots).max()))
    out = []
    for edge in first:
        off = np.linalg.norm(spots - sector.turned(edge.at(0.5)[None]), axis=1)
        k = int(off.argmin())
        if off[k] < near:
            out.append((edge, second[k]))
    return out


def repeated(mesh: Mesh, model: Model) -> Mesh:
    """The mesh of a sector all around, its copies sharing nodes. Raises Refusal where the model is no sector or its cut
    faces are not meshed alike."""
    sector = sector_of(model)
    if sector is None:
        raise Refusal("the model is no sector: no two cut faces are named as its sides", remedy="cut a sector first")
    first, second = (_nodes(mesh, side) for side in sector.sides)
    size = float(np.linalg.norm(np.ptp(mesh.points, axis=0)))
    tree = scipy.spatial.cKDTree(mesh.points[second])
    images = sector.turned(mesh.points[first])
    off, hit = tree.query(images)
    if len(first) != len(second) or float(off.max(initial=0.0)) > 1e-6 * size or len(np.unique(hit)) != len(hit):
        worst = images[int(off.argmax())] if len(off) else sector.origin
        raise Refusal("the two cut faces are not meshed alike", where=spot(worst), remedy="take hexahedra")
    points = mesh.points.copy()
    points[second[hit]] = images  # to the last digit
    own = np.ones(len(points), dtype=bool)
    own[second] = False
    arm = points - sector.origin
    still = np.linalg.norm(arm - np.outer(arm @ sector.axis, sector.axis), axis=1) < 1e-9 * size
    own[still & np.isin(np.arange(len(points)), first)] = True
    n = int(own.sum())
    number = np.cumsum(own) - 1
    # Of each copy: its own nodes, and for those of the second side the next copy's of the first.
    ids = np.empty((sector.count, len(points)), dtype=np.int64)
    rows: list[Floats] = []
    here = points
    for k in range(sector.count):
        ids[k] = number + k * n
        rows.append(here[own])
        here = sector.turned(here)
    for k in range(sector.count):
        ids[k, second[hit]] = ids[(k + 1) % sector.count, first]
    ids[:, still] = ids[0, still]
    cut = np.isin(mesh.face, [k for k, f in enumerate(mesh.faces) if f in {*sector.sides[0], *sector.sides[1]}])
    used, elements = np.unique(
        np.concatenate([ids[k][mesh.elements] for k in range(sector.count)]), return_inverse=True
    )
    compact: Ints = np.full(sector.count * n, -1, dtype=np.int64)
    compact[used] = np.arange(len(used))
    sides = np.concatenate([compact[ids[k][mesh.triangles[~cut]]] for k in range(sector.count)])
    times = sector.count
    quality = replace(mesh.quality, **{
        name: np.tile(getattr(mesh.quality, name), times)
        for name in ("scaled_jacobian", "smallest_angle", "largest_angle", "edge_ratio")
    })  # fmt: skip
    return replace(
        mesh, points=np.concatenate(rows)[used], elements=elements.reshape(-1, mesh.elements.shape[1]),
        body=np.tile(mesh.body, times), triangles=sides, face=np.tile(mesh.face[~cut], times), quality=quality,
        times=times,
    )  # fmt: skip


def _nodes(mesh: Mesh, faces: tuple[Face, ...]) -> Ints:
    index = [k for k, f in enumerate(mesh.faces) if f in set(faces)]
    return np.unique(mesh.full_sides()[np.isin(mesh.face, index)])
