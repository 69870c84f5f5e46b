"""A profile carried all the way round its axis, in layers that meet themselves."""

from __future__ import annotations

import numpy as np
from scipy.spatial import cKDTree

from lithon.arrays import Floats, Ints
from lithon.brep.topology import Edge, Face
from lithon.errors import Refusal, spot
from lithon.mesh.hexer import Hexer
from lithon.mesh.hexes import hex_volumes
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
    columns: dict[int, Ints] = dict(on_ring)
    for face in turn.body.faces:
        columns.update(_wall(hexer, turn, face, on_ring, layers))
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
    return out


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
        hexer.on_face[face] = grid.ravel(), quads
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
        gap, where = cKDTree(np.array([hexer.points[k] for k in ids])).query(points)
        if gap.max() < 1e-3 * hexer.rules.size:
            return np.asarray(ids[where])
    raise Refusal(
        f"a face of {turn.body.name} is meshed otherwise by its neighbour", where=spot(points[0]), entities=(face,)
    )
