"""A profile carried all the way round its axis, in layers that meet themselves."""

from __future__ import annotations

import itertools

import numpy as np
import scipy

from lithon.arrays import Floats, Ints
from lithon.brep.topology import Edge, Face, Vertex
from lithon.errors import Refusal, spot
from lithon.mesh.cores import Cap, Core, disc, profile_of
from lithon.mesh.hexer import Hexer
from lithon.mesh.hexes import hex_volumes
from lithon.mesh.quads import facing
from lithon.mesh.turns import Turn


def carried_around(hexer: Hexer, turn: Turn) -> Ints:
    """The hexahedra (m,8) of one body. Raises Refusal where a neighbour has meshed a shared face otherwise."""
    layers = hexer.counts[turn.around]
    on_ring: dict[int, Ints] = {}
    for ring in turn.rings:
        run = hexer.edge(ring)[0]
        if float(ring.curve.frame.z @ turn.frame.z) < 0.0:  # type: ignore[attr-defined]
            run = np.roll(run[::-1], 1)
        hexer.at_vertex[hexer.known.corners[ring]] = int(run[0])
        on_ring[int(run[0])] = run
    for core in turn.cores:
        for cap in core.caps:
            run = _around(hexer, turn, cap.rim, layers)
            on_ring[int(run[0])] = run
    columns: dict[int, Ints] = dict(on_ring)
    for face in turn.body.faces:
        columns.update(_wall(hexer, turn, face, on_ring, layers))
    for core in turn.cores:
        inside, points = _between(hexer, core.inner)
        rows = [hexer.nodes(turn.at(points, k / layers)) for k in range(layers)] if inside is None else []
        if rows:
            hexer.on_edge[core.inner] = np.array(
                [hexer.vertex(core.caps[0].rim), *rows[0].tolist(), hexer.vertex(core.caps[1].rim)], dtype=np.int64
            )
            columns.update({int(k): column for k, column in zip(rows[0], np.array(rows).T, strict=True)})
    quads = hexer.face(turn.profile)[1]
    names, base = np.unique(quads, return_inverse=True)
    base = base.reshape(quads.shape)
    inner = np.array([k for k in names.tolist() if k not in columns], dtype=np.int64)
    start = np.array([hexer.points[k] for k in inner]).reshape(-1, 3)
    free = np.array([inner, *(hexer.nodes(turn.at(start, k / layers)) for k in range(1, layers))]).reshape(layers, -1)
    columns.update({int(k): column for k, column in zip(inner, free.T, strict=True)})
    table = np.stack([columns[k] for k in names.tolist()], axis=1)
    out = np.concatenate(
        [np.concatenate([table[k][base], table[(k + 1) % layers][base]], axis=1) for k in range(layers)]
    )
    if hex_volumes(np.array(hexer.points), out).sum() < 0.0:
        out = out[:, [3, 2, 1, 0, 7, 6, 5, 4]]
    return np.concatenate([out, *(_stacked(hexer, turn, core, columns, layers) for core in turn.cores)])


def _around(hexer: Hexer, turn: Turn, vertex: Vertex, layers: int) -> Ints:
    """The nodes (layers,) that a corner of the profile passes, the corner's own first."""
    if vertex not in hexer.rims:
        point = vertex.point[None]
        hexer.rims[vertex] = np.array(
            [hexer.vertex(vertex), *(int(hexer.nodes(turn.at(point, k / layers))[0]) for k in range(1, layers))],
            dtype=np.int64,
        )
    return hexer.rims[vertex]


def _stacked(hexer: Hexer, turn: Turn, core: Core, columns: dict[int, Ints], layers: int) -> Ints:
    """The hexahedra (m,8) of a core: discs from cap to cap whose shape goes over from one cap's to the other's."""
    run = hexer.on_edge[core.inner].tolist()
    rims = turn.frame.local(np.array([hexer.points[k] for k in run]))
    flat, quads = disc(layers, _rings(hexer, core, layers, float(np.hypot(rims[:, 0], rims[:, 1]).max())))
    away, angle = np.hypot(flat[:, 0], flat[:, 1]), np.arctan2(flat[:, 1], flat[:, 0])
    heights = []
    for cap in core.caps:
        profile = profile_of(cap, turn.frame, np.append(away, 1.0))[:, 1]
        heights.append(profile[:-1] - profile[-1])
    stack = []
    for j, node in enumerate(run):
        share = j / (len(run) - 1)
        radius = away * float(np.hypot(rims[j, 0], rims[j, 1]))
        height = rims[j, 2] + (1.0 - share) * heights[0] + share * heights[1]
        points = turn.frame.world(np.stack([radius * np.cos(angle), radius * np.sin(angle), height], axis=1))
        end = core.caps[0] if j == 0 else core.caps[1] if j == len(run) - 1 else None
        stack.append(np.concatenate([columns[node], _disc(hexer, end, points, columns[node], quads)]))
    return np.concatenate(
        [np.concatenate([low[quads], high[quads]], axis=1) for low, high in itertools.pairwise(stack)]
    )


def _rings(hexer: Hexer, core: Core, layers: int, radius: float) -> int:
    """How many rings of quads a core has: as its neighbour has made them, or by the element size."""
    there = {len(hexer.discs[cap]) for cap in core.caps if cap in hexer.discs}
    if len(there) > 1:
        raise Refusal("the cores on both sides are divided differently", where=spot(core.inner.at(0.5)),
                      remedy="another element size", entities=tuple(cap.face for cap in core.caps))  # fmt: skip
    if there:
        return 1 + (there.pop() - (layers // 4 + 1) ** 2) // layers
    return max(1, round(0.35 * radius / hexer.rules.size))


def _disc(hexer: Hexer, cap: Cap | None, points: Floats, rim: Ints, quads: Ints) -> Ints:
    """Nodes at points (n,3) within a disc; those of a cap belong to its face, and may be its neighbour's."""
    if cap is None:
        return hexer.nodes(points)
    if cap not in hexer.discs:
        hexer.discs[cap] = hexer.nodes(points)
        every = np.concatenate([rim, hexer.discs[cap]])
        inner, around = hexer.on_face[cap.face]
        own = facing(cap.face, every[quads], hexer.points)
        hexer.on_face[cap.face] = np.concatenate([inner, every]), np.concatenate([around, own])
    return hexer.discs[cap]


def _wall(hexer: Hexer, turn: Turn, face: Face, on_ring: dict[int, Ints], layers: int) -> dict[int, Ints]:
    """The nodes of a face of the body above each inner node of its side; the face is meshed if it is not yet."""
    side = hexer.known.sides[face]
    there = hexer.on_face.get(face)
    inside, points = _between(hexer, side)
    rows: list[Ints] = [] if inside is None else [inside]
    for k in range(len(rows), layers):
        row = turn.at(points, k / layers)
        rows.append(hexer.nodes(row) if there is None else _found(hexer, there[0], row, turn, face))
    grid = np.array(rows).reshape(layers, -1)
    ids = grid[0].tolist()
    if side not in hexer.on_edge:
        ends = [] if side.ring else [hexer.vertex(v) for v in (side.start, side.end) if v is not None]
        hexer.on_edge[side] = np.array([*ends[:1], *ids, *ends[1:]], dtype=np.int64)
    columns = {int(k): column for k, column in zip(ids, grid.T, strict=True)}
    if there is None:
        run = [columns[k] if k in columns else on_ring[k] for k in hexer.on_edge[side].tolist()]
        across = np.stack([*run, run[0]] if side.ring else run, axis=1)
        low, high = across, np.roll(across, -1, axis=0)
        quads = np.stack([low[:, :-1], low[:, 1:], high[:, 1:], high[:, :-1]], axis=-1).reshape(-1, 4)
        hexer.on_face[face] = grid.ravel(), facing(face, quads, hexer.points)
    return columns


def _between(hexer: Hexer, side: Edge) -> tuple[Ints | None, Floats]:
    """The nodes of a side without its ends, where they have names, and their points (n,3)."""
    if side in hexer.on_edge:
        ids = hexer.on_edge[side] if side.ring else hexer.on_edge[side][1:-1]
        return ids, np.array([hexer.points[k] for k in ids]).reshape(-1, 3)
    t = np.linspace(side.t0, side.t1, hexer.counts[side] + 1)
    return None, side.curve.point(t[:-1] if side.ring else t[1:-1]).reshape(-1, 3)


def _found(hexer: Hexer, ids: Ints, points: Floats, turn: Turn, face: Face) -> Ints:
    """Those of the nodes that lie at some points."""
    if not len(points):
        return np.zeros(0, dtype=np.int64)
    if len(ids):
        gap, where = scipy.spatial.cKDTree(np.array([hexer.points[k] for k in ids])).query(points)
        if gap.max() < 1e-3 * hexer.rules.size:
            return np.asarray(ids[where])
    raise Refusal(
        f"a face of {turn.body.name} is meshed otherwise by its neighbour", where=spot(points[0]), entities=(face,)
    )
