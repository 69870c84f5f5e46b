"""Triangles of faces and bodies, watertight by construction.

Each edge is divided once; the faces on both sides use those points. Results are cached per edge
and per face, which never change.
"""

from __future__ import annotations

import functools
import itertools
from collections.abc import Callable, Iterable, Iterator
from typing import Any

import numpy as np
import scipy
import shapely

from lithon.arrays import Floats, Ints
from lithon.brep.charts import chart_of, parts_of
from lithon.brep.copies import Copy, copy_of, origin_of
from lithon.brep.tessellation.bands import band, tubes
from lithon.brep.tessellation.division import ANGLE, divide_closer, divide_edges, edge_points, fresh_keys, times_closer
from lithon.brep.tessellation.domain import Domain, flat_domain
from lithon.brep.tessellation.facemesh import FaceMesh, clipped, joined, merged
from lithon.brep.tessellation.opening import legs_shared
from lithon.brep.tessellation.plain import three_sided
from lithon.brep.tessellation.triangulate import Tangled, Triangulation, triangulate
from lithon.brep.topology import Body, Face
from lithon.errors import Refusal, spot
from lithon.geometry.facets import Facets
from lithon.geometry.splines import SplineChart
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.progress import pulse
from lithon.remembered import Remembered
from lithon.threads import each_of

#: A free-form surface of more polynomial pieces than this is not looked at piece by piece.
_PIECES = 4096
#: From so many loops on a plane is worth a thread.
_MANY_LOOPS = 100


_faces = Remembered[Face, FaceMesh]("brep/tessellation/tessellate:faces")


def known_faces(faces: Iterable[Face]) -> list[tuple[Face, FaceMesh]]:
    """Those of the faces whose triangles have been made, with them."""
    return [(face, _faces[face]) for face in faces if face in _faces]


def take_face(face: Face, mesh: FaceMesh) -> None:
    """Take over triangles that were made elsewhere on the very points of the face's edges."""
    _faces.setdefault(face, mesh)


def prepare_meshes(faces: Iterable[Face]) -> None:
    """The triangles of those of many faces that can be laid out together: what a body as a whole needs."""
    wanted = [face for face in _faces.missing(faces) if face.before is None and origin_of(face) is None]
    if len(wanted) >= 4:
        _faces.update(tubes(wanted))
        _faces.update(three_sided(wanted))
    # Planes of many loops one beside the other: most of their time is compiled, and they need no nodes of their own.
    big = [f for f in _faces.missing(wanted) if isinstance(f.surface, Plane) and len(f.loops) >= _MANY_LOOPS]
    _faces.update((f, mesh) for f, mesh in zip(big, each_of(_if_drawn, big), strict=True) if mesh is not None)


def _if_drawn(face: Face) -> FaceMesh | None:
    """The triangles of a face in one part, or nothing where its boundary is tangled."""
    try:
        return _part_mesh(face, closer=False)  # others are drawn at the same time, on the same edges
    except Refusal:
        return None


class CrossesItself(Refusal):
    """The boundary of a face does; `place` (3,) is beside where."""

    def __init__(self, face: Face, place: Floats):
        super().__init__(
            f"the boundary of a {face.surface.kind} face crosses itself", where=spot(place), entities=(face,)
        )
        self.place = place

    def __reduce__(self) -> tuple[Any, ...]:
        return type(self), (*self.entities, self.place)


def face_mesh(face: Face) -> FaceMesh:
    """The triangles of a face. Raises Refusal where its boundary is tangled."""
    hit = _faces.get(face)
    if hit is not None:
        return hit
    origin = origin_of(face)
    if origin is not None:
        _faces[face] = _carried(face, *origin)
        return _faces[face]
    if isinstance(face.surface, Facets):
        _faces[face] = _given(face, face.surface)
        return _faces[face]
    if face.before is not None:
        _faces[face] = joined(face_mesh(face.before), [face_mesh(plug) for plug in face.plugs()])
        return _faces[face]
    pieces = _all_of(lambda: [_part_mesh(part) for part in parts_of(face)])
    base = np.cumsum([0, *(len(p.points) for p in pieces)])
    points, keys, triangles = merged(
        np.concatenate([p.points for p in pieces]),
        np.concatenate([p.keys for p in pieces]),
        np.concatenate([p.triangles + base[k] for k, p in enumerate(pieces)]),
    )
    made = FaceMesh(points, triangles, keys, next((p.trouble for p in pieces if p.trouble), ""))
    _faces[face] = made
    return made


def _all_of(drawn: Callable[[], list[FaceMesh]]) -> list[FaceMesh]:
    """What belongs together, drawn again where an edge was divided closer on the way."""
    while True:
        before = times_closer()
        meshes = drawn()
        if times_closer() == before:
            return meshes


def _carried(face: Face, copy: Copy, source: Face) -> FaceMesh:
    """The triangles of the face that a copied one was made from, where they are in the copy."""
    try:
        there = face_mesh(source)
    except Refusal as refusal:
        raise Refusal(refusal.what, remedy=refusal.remedy, entities=(face,)) from refusal
    keys = np.full(len(there.keys), -1, dtype=np.int64)
    edges = list(dict.fromkeys(source.edges()))
    if edges:
        known = np.concatenate([edge_points(e)[0] for e in edges])
        own = np.concatenate([edge_points(copy.edge(e))[0] for e in edges])
        names, first = np.unique(known, return_index=True)
        row = np.minimum(np.searchsorted(names, there.keys), len(names) - 1)
        keys = np.where(names[row] == there.keys, own[first[row]], -1)
    corners = there.triangles[:, ::-1] if copy.mirror else there.triangles
    return FaceMesh(copy.points(there.points), corners, keys, there.trouble)


def _given(face: Face, facets: Facets) -> FaceMesh:
    """The triangles that a facets face is, its outline in the keys of its edges."""
    keys = np.full(len(facets.points), -1, dtype=np.int64)
    edges = list(dict.fromkeys(face.edges()))
    if edges:
        made = [edge_points(edge) for edge in edges]
        away, row = scipy.spatial.cKDTree(facets.points).query(np.concatenate([p for _, p in made]))
        if float(away.max()) > 1e-9 * float(np.abs(facets.points).max()):
            raise Refusal("the triangles of a face do not reach its edges", entities=(face,))
        keys[row] = np.concatenate([k for k, _ in made])
    return FaceMesh(np.array(facets.points), facets.triangles, keys)


def outline_trouble(face: Face) -> str:
    """What is wrong with the boundary of a face, looked at in its chart, before anything is drawn within; empty where
    nothing is. Raises Refusal where it is tangled."""
    return next((t for part in parts_of(face) if band(part) is None and (t := _outlined(part)[3])), "")


def _outlined(face: Face, closer: bool = True) -> tuple[Triangulation, Domain, shapely.Polygon, str]:
    """The triangles between the edges of a part of a face, in its chart, and what is wrong with its boundary. Where
    only the chords of its edges cross and not their arcs, they are divided closer, if that may be. Raises
    CrossesItself."""
    while True:
        domain = flat_domain(face, edge_points, _cut)
        shape = domain.polygon()
        singular = domain.flat_of(domain.chart.singular)
        try:
            region = triangulate(np.vstack([domain.flat, singular]), domain.segments)
            break
        except Tangled as error:
            ends = domain.surface_points(domain.flat[np.minimum(error.points, len(domain.flat) - 1)])
            if not (closer and len(ends) == 2 and _divided_closer(face, *ends)):
                raise CrossesItself(face, ends[0]) from error
    backward = not shape.exterior.is_ccw or shape.area <= 0.0
    trouble = "a face's outer boundary runs backwards" if backward else ""
    if not trouble and not shape.is_valid:
        trouble = "a face's boundary touches or crosses itself"
    return region, domain, shape, trouble


def _divided_closer(face: Face, a: Floats, b: Floats) -> bool:
    """Whether edges of a face could be divided closer beside a segment a-b (3,) of its outline that another crosses;
    what was drawn on them is forgotten."""
    edges = set(divide_closer(dict.fromkeys(face.edges()), a, b))
    for drawn in list(_faces) if edges else ():
        if not edges.isdisjoint(drawn.edges()):
            del _faces[drawn]
    return bool(edges)


def _part_mesh(face: Face, closer: bool = True) -> FaceMesh:
    pulse()
    whole = band(face)
    if whole is not None:
        return whole
    region, domain, shape, trouble = _outlined(face, closer)
    if not isinstance(face.surface, Plane):
        # Beside a straight edge, which stays whole, long triangles are what there is.
        slim = all(e.curve.kind != "line" for e in face.edges())
        _bend(region, domain, face.surface, slim)
        if _hidden(region, domain, shape):
            _bend(region, domain, face.surface, slim)
    flat = region.plane
    points = domain.surface_points(flat)
    # The nodes of edges stand where the edges have them, to the last digit.
    known = [edge_points(edge) for edge in dict.fromkeys(face.edges())]
    if known:
        names, row = np.unique(np.concatenate([k for k, _ in known]), return_index=True)
        at = np.minimum(np.searchsorted(names, domain.keys), len(names) - 1)
        own = np.flatnonzero(names[at] == domain.keys)
        points[own] = np.concatenate([p for _, p in known])[row[at[own]]]
    keys = np.concatenate([domain.keys, np.full(len(flat) - len(domain.keys), -1)])
    points, keys, triangles = merged(points, keys, region.triangles)
    return FaceMesh(points, triangles, keys, trouble)


def _cut(path: Floats, face: Face) -> tuple[Ints, Floats]:
    """Nodes along the cut that opens a face which goes around, on each leg of its path as many as the surface turns
    along it or the leg within the surface."""
    chart, counts = chart_of(face), []
    for a, b in itertools.pairwise(path):
        points = chart.point(a + np.linspace(0.0, 1.0, 65)[:, None] * (b - a))
        chords = np.diff(points, axis=0)
        chords /= np.maximum(np.linalg.norm(chords, axis=1, keepdims=True), 1e-300)
        both = face.surface.normal(points), chords
        turn = max(float(np.linalg.norm(np.diff(v, axis=0), axis=1).sum()) for v in both)
        counts.append(max(1, int(np.ceil(turn / ANGLE - 1e-9))))
    share = legs_shared(path, np.array(counts))
    return fresh_keys(len(share)), share


def _hidden(region: Triangulation, domain: Domain, shape: shapely.Polygon) -> int:
    """Add points of a free-form surface, one to each of its pieces, where it looks another way than at the nodes
    around: a bump between the edges that no triangle's side has met. Returns how many."""
    chart = domain.chart
    if not isinstance(chart, SplineChart) or not shape.is_valid:
        return 0
    low, high = np.array(shape.bounds).reshape(2, 2)
    lines = []
    for k, knots in enumerate(chart.knots()):
        own = np.sort(knots * (domain.mirror if k == 0 else 1.0))
        own = np.concatenate([[low[k]], own[(own > low[k]) & (own < high[k])], [high[k]]])
        lines.append(0.5 * (own[1:] + own[:-1]))
    if not 4 <= len(lines[0]) * len(lines[1]) <= _PIECES:
        return 0
    flat = np.stack(np.meshgrid(*lines, indexing="ij"), axis=-1).reshape(-1, 2)
    flat = flat[shapely.contains_xy(shape, flat[:, 0], flat[:, 1])]
    if not len(flat):
        return 0
    nodes = region.plane
    near = scipy.spatial.cKDTree(nodes).query(flat, k=min(3, len(nodes)))[1].reshape(len(flat), -1)
    normal = chart.surface.normal(domain.surface_points(nodes))[near]
    turn = np.linalg.norm(normal - chart.surface.normal(domain.surface_points(flat))[:, None], axis=2).min(axis=1)
    seeds = flat[turn > 1.6 * ANGLE]
    start = np.flatnonzero(region.tri[: region.count, 0] >= 0)[:1]
    return region.add(seeds, np.repeat(start, len(seeds)), np.zeros(len(seeds))) if len(seeds) else 0


def _bend(region: Triangulation, domain: Domain, surface: Surface, slim: bool) -> None:
    """Add points until the surface turns by no more than 1.6 steps along any triangle's side, and no
    side that may be cut is longer than fifty such steps (where `slim`)."""
    fixed = len(domain.flat)
    points, normal, bend = np.zeros((0, 3)), np.zeros((0, 3)), np.zeros(0)
    sides, middles = np.zeros(0, dtype=np.int64), np.zeros((0, 3))
    for _ in range(16):
        rows = np.flatnonzero(region.tri[: region.count, 0] >= 0)
        tri, plane = region.tri[rows], region.plane
        # What was there before is known.
        fresh = domain.surface_points(plane[len(points) :])
        points = np.concatenate([points, fresh])
        normal, bend = np.concatenate([normal, surface.normal(fresh)]), np.concatenate([bend, surface.bend(fresh)])
        ends = np.stack([tri, np.roll(tri, -1, axis=1)], axis=-1)  # side k: corners k, k+1
        turn = np.linalg.norm(normal[ends[..., 0]] - normal[ends[..., 1]], axis=-1)
        turn[(bend[ends] > 1e9).any(axis=-1)] = 0.0  # at an apex nothing is gained by cutting
        long = np.linalg.norm(points[ends[..., 0]] - points[ends[..., 1]], axis=-1)
        bent = np.where(bend[ends] > 1e9, 0.0, bend[ends]).max(axis=-1)
        needle = bent / 50.0 * long if slim else np.zeros_like(long)
        forced = np.stack([region.fix[rows, (k + 2) % 3] == 1 for k in range(3)], axis=1)
        worth = np.maximum(turn, np.where(forced, 0.0, needle)) / ANGLE
        if not isinstance(surface, Cylinder):
            # What is straight in the chart may turn within the surface, or all the way round, between two ends that
            # look one way. An arc of a circle turns by eight times its sag over its chord.
            own, which = np.unique(ends.min(axis=-1) << 32 | ends.max(axis=-1), return_inverse=True)
            at = np.minimum(np.searchsorted(sides, own), max(len(sides) - 1, 0))
            new = sides[at] != own if len(sides) else np.ones(len(own), dtype=bool)
            between = np.empty((len(own), 3))
            between[~new] = middles[at[~new]]
            a, b = own[new] >> 32, own[new] & 0xFFFFFFFF
            between[new] = domain.surface_points(0.5 * (plane[a] + plane[b]))
            sides, middles = own, between
            sag = np.linalg.norm(between[which.reshape(long.shape)] - points[ends].mean(axis=2), axis=-1)
            worth = np.maximum(worth, np.where(forced, 0.0, 8.0 * sag / np.maximum(long, 1e-9 * sag.max()) / ANGLE))
        wide = worth.max(axis=1) > 1.6
        if not wide.any():
            return
        side = worth[wide].argmax(axis=1)
        pick = np.arange(len(side))
        a, b = plane[ends[wide][pick, side, 0]], plane[ends[wide][pick, side, 1]]
        middle = 0.5 * (a + b)
        stuck = forced[wide][pick, side]
        middle[stuck] = plane[tri[wide][stuck]].mean(axis=1)
        # Not nearer to others than a third of a step, in the chart's own lengths.
        length = np.linalg.norm(b - a, axis=1)
        step = ANGLE / np.maximum(bent[wide][pick, side] * long[wide][pick, side], 1e-9)
        spare = 0.3 * length * np.minimum(1.0, step)
        before = region.points
        if region.add(middle, rows[wide], spare) == 0 or region.points - fixed > 60000:
            return
        assert region.points > before


def body_mesh(body: Body, within: Floats | None = None) -> tuple[Floats, Ints, Ints]:
    """Points (n,3), triangles (m,3) facing outwards and the index (m,) of each one's face use; only of triangles that
    reach into a box (2,3) where one is given."""
    if within is not None:
        return _body_mesh(body, within)
    return _whole_mesh.of(body, _body_mesh) if copy_of(body) is None else _moved_lately(body)


_BodyMesh = tuple[Floats, Ints, Ints]
_whole_mesh = Remembered[Body, _BodyMesh]("brep/tessellation/tessellate:whole_mesh")


@functools.lru_cache(maxsize=32)
def _moved_lately(body: Body) -> _BodyMesh:
    """Of a copy, the latest few: there may be thousands."""
    copy = copy_of(body)
    assert copy is not None
    points, triangles, owner = body_mesh(copy.body)
    return copy.points(points), np.ascontiguousarray(triangles[:, ::-1]) if copy.mirror else triangles, owner


def _body_mesh(body: Body, within: Floats | None = None) -> _BodyMesh:
    divide_edges(body.edges())
    prepare_meshes(use.face for use in body.uses)
    pieces = [(k, piece) for k, use in enumerate(body.uses) for piece in _pieces_of(use.face)]
    rows, meshes = [k for k, _ in pieces], _all_of(lambda: [face_mesh(piece) for _, piece in pieces])
    if within is not None:
        meshes = [clipped(mesh, within) for mesh in meshes]
    base = np.cumsum([0, *(len(mesh.keys) for mesh in meshes)])
    corners = [
        (mesh.triangles if body.uses[k].forward else mesh.triangles[:, ::-1]) + at
        for k, mesh, at in zip(rows, meshes, base, strict=False)
    ]
    owner = np.repeat(np.array(rows, dtype=np.int64), [len(c) for c in corners])
    points, keys = np.concatenate([m.points for m in meshes]), np.concatenate([m.keys for m in meshes])
    points, _, triangles = merged(points, keys, np.concatenate(corners))
    return points, triangles, owner


def _pieces_of(face: Face) -> Iterator[Face]:
    """The face itself, or what it was before loops of it were closed over, and what closes them."""
    if face.before is None:
        yield face
        return
    yield from _pieces_of(face.before)
    yield from face.plugs()


def leaks(face: Face) -> bool:
    """Whether the triangles of a face end elsewhere than along its edges, or run against them. Where no
    face leaks and every edge is walked as often one way as the other, the body's triangles close."""
    if face.before is not None:
        return any(leaks(part) for part in (face.before, *face.plugs()))
    mesh = face_mesh(face)
    if mesh.tight:
        return False
    a = np.concatenate([mesh.triangles[:, [0, 1]], mesh.triangles[:, [1, 2]], mesh.triangles[:, [2, 0]]])
    rims = []
    order = np.argsort(mesh.keys, kind="stable")
    ordered = mesh.keys[order]
    for coedge in (c for loop in face.loops for c in loop):
        keys, _ = edge_points(coedge.edge)
        row = order[np.minimum(np.searchsorted(ordered, keys), len(order) - 1)]
        if (mesh.keys[row] != keys).any():
            return True
        row = np.append(row, row[0]) if coedge.edge.ring else row
        side = np.stack([row[:-1], row[1:]], axis=1)
        rims.append(side[:, ::-1] if coedge.forward else side)  # as the face beyond would walk it
    return _unpaired(np.concatenate([a, *rims])) > 0


def open_edges(triangles: Ints) -> int:
    """How many triangle sides have no partner that runs the other way: 0 for a watertight, oriented set."""
    return _unpaired(np.concatenate([triangles[:, [0, 1]], triangles[:, [1, 2]], triangles[:, [2, 0]]]))


def _unpaired(a: Ints) -> int:
    """How many of the directed sides (m,2) have no partner that runs the other way."""
    if not len(a):
        return 0
    low, high = np.minimum(a[:, 0], a[:, 1]), np.maximum(a[:, 0], a[:, 1])
    # Both ends and, in the last bit, the way: sides that are one come together.
    key = np.sort(2 * (low * (int(high.max()) + 1) + high) + (a[:, 0] == low))
    starts = np.flatnonzero(np.concatenate([[True], key[1:] >> 1 != key[:-1] >> 1]))
    return int(np.abs(np.add.reduceat(2 * (key & 1) - 1, starts)).sum())
