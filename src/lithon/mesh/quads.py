"""Quadrilaterals on a face.

Four-sided faces are mapped (transfinite interpolation). Others are covered with triangles of twice
the size, pairs of which are joined where that makes good quads; halving every side then leaves quads
only (three from each triangle left, four from each quad). So each edge needs an even number of
divisions, and its nodes are given: the mesh of a neighbour fits by construction.
"""

from __future__ import annotations

import itertools
from collections.abc import Callable

import numpy as np

from lithon.arrays import Floats, Ints, cross_product
from lithon.brep.tessellation.domain import flat_domain
from lithon.brep.tessellation.triangulate import Tangled, triangulate
from lithon.brep.topology import Coedge, Edge, Face
from lithon.errors import Refusal, spot
from lithon.mesh.face_nodes import refine, smooth
from lithon.mesh.quad_smoothing import smoothed, squareness
from lithon.mesh.sizing import SizeField, SizeRules

#: Node numbers and points along an edge, from its start to its end; a ring's first is not repeated.
Nodes = Callable[[Edge], tuple[Ints, Floats]]

#: Edges that turn less where they meet (degrees) are one side.
_SMOOTH = 10.0


def sides_of(face: Face) -> list[list[Coedge]] | None:
    """The four sides of a face whose one loop has four corners between 45 and 135 degrees and runs on smoothly
    elsewhere; None for others."""
    if len(face.loops) != 1 or len(face.loops[0]) < 4:
        return None
    loop = list(face.loops[0])
    corners = []
    for k, (a, b) in enumerate(zip([loop[-1], *loop[:-1]], loop, strict=True)):
        if a.edge.ring or a.last is not b.first:
            return None
        before, after = _heading(a, 1.0), _heading(b, 0.0)
        at = b.edge.at(0.0 if b.forward else 1.0)
        turn = np.degrees(
            np.arctan2(float(cross_product(before, after) @ face.normal(at[None])[0]), float(before @ after))
        )
        if 45.0 <= turn <= 135.0:
            corners.append(k)
        elif abs(turn) > _SMOOTH:
            return None
    if len(corners) != 4:
        return None
    loop = loop[corners[0] :] + loop[: corners[0]]
    stops = [k - corners[0] for k in corners] + [len(loop)]
    return [loop[a:b] for a, b in itertools.pairwise(stops)]


def four_sided(face: Face) -> bool:
    return sides_of(face) is not None


def opposite(face: Face) -> list[tuple[Coedge, Coedge]] | None:
    """The edges of a four-sided face that lie across from each other; None where its sides are parted unequally."""
    sides = sides_of(face)
    if sides is None or len(sides[0]) != len(sides[2]) or len(sides[1]) != len(sides[3]):
        return None
    return [pair for k in (0, 1) for pair in zip(sides[k], sides[k + 2][::-1], strict=True)]


def _heading(c: Coedge, share: float) -> Floats:
    d = c.edge.direction(share if c.forward else 1.0 - share)
    return d if c.forward else -d


def _chained(side: list[Coedge], nodes: Nodes) -> tuple[Ints, Floats]:
    """Node numbers and points along edges that follow each other."""
    ids: list[Ints] = []
    points: list[Floats] = []
    for c in side:
        own, at = nodes(c.edge)
        own, at = (own, at) if c.forward else (own[::-1], at[::-1])
        ids.append(own[1:] if ids else own)
        points.append(at[1:] if points else at)
    return np.concatenate(ids), np.concatenate(points)


def mapped(face: Face, nodes: Nodes) -> tuple[Floats, Ints]:
    """Inner points (n,3) and quads (m,4): non-negative numbers are the edges' nodes, -1 - k the inner
    point k; counter-clockwise about the face's normal. Opposite edges must have equally many nodes."""
    found = sides_of(face)
    assert found is not None
    sides = [_chained(side, nodes) for side in found]
    (south, s), (east, e) = sides[0], sides[1]
    (north, n), (west, w) = (x[::-1] for x in sides[2]), (x[::-1] for x in sides[3])
    if len(s) != len(n) or len(e) != len(w):
        raise Refusal("opposite sides of a face are divided unequally", where=spot(s[0]), entities=(face,))
    u, v = np.linspace(0.0, 1.0, len(s))[:, None, None], np.linspace(0.0, 1.0, len(e))[None, :, None]
    grid = (
        (1 - v) * s[:, None] + v * n[:, None] + (1 - u) * w[None] + u * e[None]
        - ((1 - u) * (1 - v) * s[0] + u * (1 - v) * s[-1] + (1 - u) * v * n[0] + u * v * n[-1])
    )  # fmt: skip
    ids = np.full((len(s), len(e)), 0, dtype=np.int64)
    inner = np.arange((len(s) - 2) * (len(e) - 2)).reshape(len(s) - 2, len(e) - 2)
    ids[1:-1, 1:-1] = -1 - inner
    ids[:, 0], ids[:, -1], ids[0, :], ids[-1, :] = south, north, west, east
    quads = np.stack([ids[:-1, :-1], ids[1:, :-1], ids[1:, 1:], ids[:-1, 1:]], axis=-1).reshape(-1, 4)
    points = grid[1:-1, 1:-1].reshape(-1, 3)
    return (face.surface.project(points) if len(points) else points), quads


def paved(face: Face, nodes: Nodes, size: float) -> tuple[Floats, Ints]:
    """As `mapped`, for any face all of whose edges have an even number of divisions."""
    middle: dict[tuple[int, int], int] = {}

    def coarse(edge: Edge) -> tuple[Ints, Floats]:
        ids, points = nodes(edge)
        n = len(ids) if edge.ring else len(ids) - 1
        if n % 2:
            raise Refusal("an edge of a face to be paved is divided unevenly", where=spot(edge.at(0.5)))
        for k in range(0, n, 2):
            a, b = int(ids[k]), int(ids[(k + 2) % len(ids)])
            middle[(a, b)] = middle[(b, a)] = int(ids[k + 1])
        return ids[::2], points[::2]

    domain = flat_domain(face, coarse)
    try:
        region = triangulate(domain.flat, domain.segments)
    except Tangled as error:
        raise Refusal("a face cannot be paved at this size", where=spot(face_middle(face)), entities=(face,),
                      remedy="a smaller element size") from error  # fmt: skip
    refine(domain, region, SizeField(SizeRules(2.0 * size), np.zeros((0, 3)), np.zeros(0)))
    smooth(region, len(domain.keys))
    flat, triangles = region.plane, region.triangles
    cells = _joined(flat, triangles)
    points: list[Floats] = []
    number: dict[tuple[object, int, int], int] = {}
    quads: list[list[int]] = []
    fixed = len(domain.keys)

    def name(k: int) -> int:
        return int(domain.keys[k]) if k < fixed else inner(("node", k, k), flat[k])

    def inner(key: tuple[object, int, int], at: Floats) -> int:
        if key not in number:
            number[key] = -1 - len(points)
            points.append(at)
        return int(number[key])

    for cell in cells:
        centre = inner(("cell", cell[0], cell[1] * 10**9 + cell[2]), flat[cell].mean(axis=0))
        halves = []
        for a, b in zip(cell, [*cell[1:], cell[0]], strict=True):
            on_rim = middle.get((name(a), name(b))) if a < fixed and b < fixed else None
            halves.append(
                on_rim if on_rim is not None else inner(("side", min(a, b), max(a, b)), 0.5 * (flat[a] + flat[b]))
            )
        for k in range(len(cell)):
            quads.append([name(cell[k]), halves[k], centre, halves[k - 1]])
    made, spots = np.array(quads, dtype=np.int64), np.array(points).reshape(-1, 2)
    spots = _relaxed(domain.flat_of, spots, made, nodes, face)
    return domain.surface_points(spots), made


def facing(face: Face, quads: Ints, points: Floats | list[Floats]) -> Ints:
    """Quads (m,4) over points turned counter-clockwise about the face's normal, all or none of them."""
    # Of a list of all nodes of a mesh only those that are used are made an array.
    v = points[quads] if isinstance(points, np.ndarray) else np.array([points[k] for k in quads.ravel()])
    v = v.reshape(-1, 4, 3)
    cross = cross_product(v[:, 2] - v[:, 0], v[:, 3] - v[:, 1])
    if float((cross * face.normal(v.mean(axis=1))).sum()) < 0.0:
        return quads[:, ::-1]
    return quads


def face_middle(face: Face) -> Floats:
    return np.asarray(np.mean([e.at(0.5) for e in face.edges()], axis=0))


def _joined(flat: Floats, triangles: Ints) -> list[list[int]]:
    """Pairs of triangles joined into quads, the squarest first; the triangles left as they are."""
    side = {(int(t[i]), int(t[(i + 1) % 3])): k for k, t in enumerate(triangles) for i in range(3)}
    found: list[tuple[int, int, list[int]]] = []
    for (a, b), k in side.items():
        other = side.get((b, a))
        if other is None or other < k:
            continue
        c = next(int(v) for v in triangles[k] if v not in (a, b))
        d = next(int(v) for v in triangles[other] if v not in (a, b))
        found.append((k, other, [a, d, b, c]))
    taken: set[int] = set()
    cells: list[list[int]] = []
    score = squareness(flat, np.array([quad for _, _, quad in found], dtype=np.int64).reshape(-1, 4))
    for row in np.argsort(-score, kind="stable"):
        k, other, quad = found[int(row)]
        if score[row] > 0.45 and k not in taken and other not in taken:
            taken |= {k, other}
            cells.append(quad)
    cells += [t.tolist() for k, t in enumerate(triangles) if k not in taken]
    return cells


def _relaxed(flat_of: Callable[[Floats], Floats], spots: Floats, quads: Ints, nodes: Nodes, face: Face) -> Floats:
    """Inner points moved so that the worst corner around each gets better."""
    rim_ids = np.unique(quads[quads >= 0])
    place: dict[int, list[float]] = {}
    for edge in dict.fromkeys(face.edges()):
        place.update(zip(*(x.tolist() for x in nodes(edge)), strict=True))
    rim = flat_of(np.array([place[int(k)] for k in rim_ids]))
    n = len(spots)
    index = np.where(quads < 0, -1 - quads, n + np.searchsorted(rim_ids, np.maximum(quads, 0)))
    return smoothed(np.vstack([spots, rim]), index, n)


__all__ = ["face_middle", "facing", "four_sided", "mapped", "opposite", "paved", "sides_of"]
