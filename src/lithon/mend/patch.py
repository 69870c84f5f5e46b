"""A clean patch between chosen edges: what hangs between them goes, one surface through all of them takes its place.

The surface is a plane or one that the body has already where that passes through the edges; otherwise a tensor-product
B-spline over the plane nearest to the edges, the one of least thin-plate energy among those through the edges and,
where that is asked for, with the tangent planes and the curvatures of the faces beside them (Greiner, *Variational
design and fairing of spline surfaces*, 1994; Hahn, *Geometric continuous patch complexes*, 1989). Its knots are halved
until the edges lie on it.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product, frozen, gauss, unit
from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.analysis.openings import open_edges
from lithon.brep.gate import worse
from lithon.brep.loops import group, walks
from lithon.brep.measures import face_area
from lithon.brep.shells import grouped
from lithon.brep.tessellation.tessellate import face_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop
from lithon.errors import Refusal, spot
from lithon.geometry.shape_operator import shape_operator
from lithon.geometry.splines import BSplineSurface
from lithon.geometry.surfaces import Plane, Surface
from lithon.geometry.tolerance import MISS, SMOOTH
from lithon.progress import pulse

DEGREE = 5
#: Spans a side, each tried where the one before does not come near enough.
_SPANS = (4, 8, 16, 28)
#: How far a patch reaches beyond its edges, as a share of its sides.
_MARGIN = 0.05
#: How steep (cosine to the plane's normal) a tangent plane may stand to be written as a height.
_STEEP = 0.15
#: What bending costs, and tangent planes and curvatures that are not met, beside edges that it does not pass through.
_BEND, _LEAN, _CURVED = 1e-7, 1e-3, 1e-4


@dataclass(frozen=True, slots=True, eq=False)
class Patch:
    """A body with a patch. off: how far (mm) its edges stand off it; kink: the largest angle (radians) at which it
    meets those to which it is to be smooth; jump: by how much (one over mm) its curvature across the edges differs at
    most from that of those whose curvature it is to go on in; gone: the faces that went."""

    body: Body
    face: Face
    off: float
    kink: float
    jump: float
    gone: tuple[Face, ...]


def patched(
    body: Body, edges: Sequence[Edge], tolerance: float, tangent: Sequence[Edge] = (), curved: Sequence[Edge] = (),
    instead: Sequence[Face] = (),
) -> Patch:  # fmt: skip
    """The body with one face between edges that close a loop; what hangs between them alone goes, as do `instead`.
    `tangent`: the edges along which it has the tangent planes of the faces beside it; `curved`: those along which it
    has their curvature too.

    Raises Refusal where the edges do not close, where all that is between them is the body itself, or where no surface
    of this kind passes through them.
    """
    stays, gone = _parted(body, edges, set(instead))
    loops = _loops(stays, edges)
    rim = _Rim.of(stays, loops, {*tangent, *curved}, set(curved))
    found: list[str] = []
    for surface in _surfaces(stays, rim, tolerance):
        pulse()
        for along in (True, False):
            try:
                made = group(loops, surface, along)
            except (Refusal, ValueError):
                continue
            if len(made) != 1:
                continue
            face = Face(surface, made[0], along)
            if face_mesh(face).trouble:
                continue
            out = stays.with_uses([*stays.uses, FaceUse(face)])
            flaws = worse(out, [body], tolerance)
            if not flaws:
                return Patch(out, face, rim.off(surface), rim.kink(surface), rim.jump(surface), tuple(gone))
            found.append(flaws[0].text)
    raise Refusal("a patch between these edges would not be sound" + (f": {found[0]}" if found else ""),
                  where=spot(rim.points.mean(axis=0)), entities=tuple(edges),
                  remedy="choose the faces that it replaces as well, or patch a part of it")  # fmt: skip


def around(body: Body, edges: Sequence[Edge]) -> bool:
    """Whether edges are all around something that a patch could replace: they close, each with the body on one side."""
    try:
        stays, gone = _parted(body, edges, set())
        return bool(_loops(stays, edges)) and (bool(gone) or bool(set(edges) & open_edges(body).keys()))
    except Refusal:
        return False


def _parted(body: Body, edges: Sequence[Edge], instead: set[Face]) -> tuple[Body, list[Face]]:
    """What stays of a body, and the faces that only hang between the edges."""
    adj, chosen = adjacency(body), set(edges)
    left = [use for use in body.uses if use.face not in instead]
    parts = grouped(left, lambda use: [e for e in use.face.edges() if e not in chosen])
    sizes = [sum(face_area(u.face) for u in part) for part in parts]
    main = int(np.argmax(sizes)) if parts else -1
    keeps = []
    for k, part in enumerate(parts):
        own = [e for use in part for e in use.face.edges() if e in chosen]
        free = any(sum(u.face not in instead for u, _ in adj.uses[e]) == 1 for e in own)
        if k == main or not own or free:
            keeps.append(part)
    kept = {use.face for part in keeps for use in part}
    for edge in edges:
        beside = [u.face for u, _ in adj.uses[edge] if u.face in kept]
        if len(beside) != 1:
            raise Refusal(
                "an edge has the body on both of its sides" if beside else "nothing is left beside an edge",
                where=spot(edge.at(0.5)), entities=(edge,),
                remedy="choose the faces that the patch replaces, or all edges around them",
            )  # fmt: skip
    return body.with_uses(u for u in body.uses if u.face in kept), [f for f in body.faces if f not in kept]


def _loops(stays: Body, edges: Sequence[Edge]) -> list[Loop]:
    """The edges in loops, as a face that closes them walks them."""
    adj = adjacency(stays)
    coedges = [Coedge(e, c.forward != u.forward) for e in dict.fromkeys(edges) for u, c in adj.uses[e]]
    loops = walks(coedges)
    left = set(edges) - {c.edge for loop in loops for c in loop}
    if left:
        ends = [v for e in left for v in (e.start, e.end) if v is not None]
        lone = next((v for v in ends if sum(v is w for w in ends) == 1), ends[0])
        raise Refusal("the edges do not close a loop", where=spot(lone.point), entities=tuple(left),
                      remedy="choose all edges around the patch; sew or score where one goes on beyond it")  # fmt: skip
    return loops


@dataclass(frozen=True, slots=True, eq=False)
class _Rim:
    """Samples of the edges: points (n,3), the unit normals (n,3) of the faces beside them and how these turn there
    (n,3,3), how much (n,) the patch is to be tangent to them, and to go on in their curvature: not, or the more the
    farther from the edge's ends; and the unit ways (n,3) along the edges."""

    points: Floats
    normals: Floats
    shapes: Floats
    lean: Floats
    curved: Floats
    along: Floats

    @staticmethod
    def of(stays: Body, loops: list[Loop], tangent: set[Edge], curved: set[Edge]) -> _Rim:
        points, normals, shapes, weights, along = [], [], [], [], []
        adj = adjacency(stays)
        for c in (c for loop in loops for c in loop):
            t = (np.arange(48) + 0.5) / 48
            t = np.concatenate([[0.0], t, [1.0]])
            where = c.edge.t0 + t * (c.edge.t1 - c.edge.t0)
            at = np.asarray(c.edge.curve.point(where))
            ((use, _),) = adj.uses[c.edge]
            points.append(at)
            normals.append(use.face.surface.normal(at))
            asked = c.edge in curved
            shapes.append(shape_operator(use.face.surface, at) if asked else np.zeros((len(at), 3, 3)))
            weights.append(np.outer([c.edge in tangent, asked], 4.0 * t * (1.0 - t)))
            along.append(unit(c.edge.curve.derivative(where)))
        lean, curve = np.concatenate(weights, axis=1)
        at, n, turns, way = (np.concatenate(x) for x in (points, normals, shapes, along))
        return _Rim(at, n, turns, lean, curve, way)

    def off(self, surface: Surface) -> float:
        return float(np.abs(surface.signed_distance(self.points)).max())

    def kink(self, surface: Surface) -> float:
        """The largest angle (radians) between the surface and the faces to which it is to be tangent."""
        on = self.lean > 0.1
        cos = np.abs((surface.normal(self.points[on]) * self.normals[on]).sum(axis=1))
        return float(np.arccos(np.clip(cos, -1.0, 1.0)).max(initial=0.0))

    def jump(self, surface: Surface) -> float:
        """By how much (one over mm) the curvature across the edges is another than beyond those whose curvature the
        surface is to go on in."""
        on = self.curved > 0.1
        if not on.any():
            return 0.0
        n = self.normals[on]
        way = unit(cross_product(n, self.along[on]))
        same = np.sign((surface.normal(self.points[on]) * n).sum(axis=1))
        here, beyond = (
            np.einsum("ni,nij,nj->n", way, s, way) for s in (shape_operator(surface, self.points[on]), self.shapes[on])
        )
        return float(np.abs(same * here - beyond).max())

    def smooth(self, surface: Surface) -> bool:
        """Whether a surface is as smooth at the edges as it is to be."""
        reach = float(np.linalg.norm(np.ptp(self.points, axis=0)))
        return self.kink(surface) < SMOOTH and self.jump(surface) * reach < SMOOTH


def _surfaces(stays: Body, rim: _Rim, tolerance: float) -> Iterator[Surface]:
    middle = rim.points.mean(axis=0)
    _, size, ways = np.linalg.svd(rim.points - middle, full_matrices=False)
    plain = Plane.of(middle, ways[2], ways[0])  # wherever it stands, the patch is the same
    known: list[Surface] = [plain] if size[1] > 1e-9 * size[0] else []
    known += [s for s in dict.fromkeys(f.surface for f in stays.faces) if s.kind != "plane"]
    for surface in known:
        if rim.off(surface) < MISS * tolerance and rim.smooth(surface):
            yield surface
    yield fitted(rim.points, plain, MISS * tolerance, rim.normals, rim.lean, rim.shapes, rim.curved)


def fitted(
    points: Floats, plane: Plane, near: float, normals: Floats, weight: Floats, shapes: Floats | None = None,
    curved: Floats | None = None,
) -> BSplineSurface:  # fmt: skip
    """The B-spline surface of least bending through points (n,3), a height over a plane; with tangent planes of these
    normals (n,3) where their weights (n,) are above zero, and with the curvatures that shape operators (n,3,3) along
    these normals tell where the weights of `curved` (n,) are.

    Raises Refusal where the points do not lie on it within `near` (mm).
    """
    frame = plane.frame
    local = frame.local(points)
    low, high = local[:, :2].min(axis=0), local[:, :2].max(axis=0)
    low, high = low - _MARGIN * (high - low), high + _MARGIN * (high - low)
    span = high - low
    scale = float(span.max())
    uv, z = (local[:, :2] - low) / span, local[:, 2] / scale
    lean = np.flatnonzero(weight > 0.0)
    n = normals[lean] @ np.stack([frame.x, frame.y, frame.z], axis=1)
    steep = np.flatnonzero(np.abs(n[:, 2]) < _STEEP)
    if len(steep):
        raise Refusal("a face beside the patch stands too steep for it to be tangent",
                      where=spot(points[lean[steep[0]]]), remedy="let it meet that one at an angle")  # fmt: skip
    lie = -n[:, :2] / n[:, 2:]
    wanted = [_Wanted(_LEAN * weight[lean], uv[lean], order, lie[:, k] * span[k] / scale)
              for k, order in enumerate(((1, 0), (0, 1)))]  # fmt: skip
    if curved is not None and shapes is not None and (bent := curved[lean] > 0.0).any():
        second = _second(lie[bent], n[bent], shapes[lean[bent]], np.stack([frame.x, frame.y, frame.z]))
        wanted += [_Wanted(_CURVED * curved[lean[bent]], uv[lean[bent]], (2 - i - j, i + j),
                           second[:, i, j] * span[i] * span[j] / scale)
                   for i, j in ((0, 0), (0, 1), (1, 1))]  # fmt: skip
    off = np.inf
    for spans in _SPANS:
        pulse(f"fitting a patch, {spans} spans a side")
        heights, made = _heights(spans, uv, z, wanted, span / scale)
        off = float(np.abs(made - z).max()) * scale
        if off <= 0.3 * near:
            break
    if off > near:
        raise Refusal(f"no smooth patch comes nearer to its edges than {off:.2g} mm", where=spot(points.mean(axis=0)),
                      remedy="patch it in parts, parted where its edges have corners")  # fmt: skip
    knots = uniform_knots(spans)
    at = np.array([knots[k + 1 : k + 1 + DEGREE].mean() for k in range(spans + DEGREE)])  # Greville: straight in u, v
    x, y = np.meshgrid(low[0] + at * span[0], low[1] + at * span[1], indexing="ij")
    control = frame.world(np.stack([x, y, heights * scale], axis=-1).reshape(-1, 3)).reshape(*x.shape, 3)
    return BSplineSurface(frozen(knots), frozen(knots), DEGREE, DEGREE, frozen(control))


def _second(lie: Floats, n: Floats, shapes: Floats, axes: Floats) -> Floats:
    """The second derivatives (k,2,2) over a plane of these axes (rows) of a height with these slopes (k,2), where the
    shape operator along the unit normals n (k,3), both in the world's directions but n in the plane's, is given."""
    tangents = np.concatenate([np.broadcast_to(np.eye(2), (len(lie), 2, 2)), lie[:, :, None]], axis=2) @ axes
    return np.einsum("kai,kij,kbj->kab", tangents, shapes, tangents) / n[:, 2, None, None]


@dataclass(frozen=True, slots=True, eq=False)
class _Wanted:
    """A derivative (its order in u and v) that heights should have at uv (k,2), and how much (k,) it counts."""

    weight: Floats
    uv: Floats
    order: tuple[int, int]
    value: Floats


def uniform_knots(spans: int) -> Floats:
    """From 0 to 1, the ends as often as the degree asks."""
    ends = np.zeros(DEGREE), np.ones(DEGREE)
    return np.concatenate([ends[0], np.linspace(0.0, 1.0, spans + 1), ends[1]])


def spline_values(knots: Floats, t: Floats, order: int = 0) -> Floats:
    """Values (len(t), n) of all basis functions' derivatives of an order."""
    from scipy.interpolate import BSpline  # it takes a second to load, and few need it

    n = len(knots) - DEGREE - 1
    return np.asarray(BSpline(knots, np.eye(n), DEGREE)(np.clip(t, 0.0, 1.0), nu=order))


def _heights(spans: int, uv: Floats, z: Floats, also: Sequence[_Wanted], sides: Floats) -> tuple[Floats, Floats]:
    """Control heights (n,n) of a surface through heights (m,) at uv (m,2) and with derivatives as wanted, and the
    heights (m,) that it has."""
    knots = uniform_knots(spans)
    n = spans + DEGREE

    def rows(u: Floats, v: Floats, du: int, dv: int) -> Floats:
        return np.einsum("ki,kj->kij", spline_values(knots, u, du), spline_values(knots, v, dv)).reshape(len(u), n * n)

    through = rows(uv[:, 0], uv[:, 1], 0, 0)
    blocks, right = [through], [z]
    for one in also:
        blocks.append(one.weight[:, None] * rows(one.uv[:, 0], one.uv[:, 1], *one.order))
        right.append(one.weight * one.value)
    nodes, share = gauss(3)
    t = (np.arange(spans)[:, None] + 0.5 + 0.5 * nodes).ravel() / spans
    u, v = (a.ravel() for a in np.meshgrid(t, t, indexing="ij"))
    each = np.sqrt(np.outer(np.tile(share, spans), np.tile(share, spans)).ravel() / (4.0 * spans * spans))[:, None]
    a, b = sides
    for order, times in (((2, 0), a**-2), ((1, 1), np.sqrt(2.0) / (a * b)), ((0, 2), b**-2)):
        blocks.append(_BEND * times * each * rows(u, v, *order))
        right.append(np.zeros(len(u)))
    matrix, wanted = np.concatenate(blocks), np.concatenate(right)
    (r,) = scipy.linalg.qr(np.column_stack([matrix, wanted]), mode="r", overwrite_a=True, check_finite=False)
    size = n * n
    solved = scipy.linalg.solve_triangular(r[:size, :size], r[:size, size])
    return solved.reshape(n, n), through @ solved
