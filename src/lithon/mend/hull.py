"""Bodies covered by something simpler: their convex hull, the smallest block or cylinder about them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
import scipy

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Vertex
from lithon.errors import Refusal
from lithon.geometry.curves import Line
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.samples.build import Round, prism, rectangle


def points_of(bodies: Sequence[Body]) -> Floats:
    """Points (n,3) of the triangles of bodies."""
    return np.concatenate([body_mesh(body)[0] for body in bodies])


def hull(points: Floats, name: str = "hull") -> Body:
    """The convex hull of points (n,3) as a solid of plane faces (Barber, Dobkin & Huhdanpaa 1996). Raises Refusal where
    they lie in a plane."""
    try:
        made = scipy.spatial.ConvexHull(points)
    except (scipy.spatial.QhullError, ValueError) as error:
        raise Refusal("the points lie in a plane: they have no hull with a volume") from error
    scale = float(np.linalg.norm(np.ptp(points, axis=0)))
    groups = _coplanar(made, 1e-7 * scale)
    vertices: dict[int, Vertex] = {}
    edges: dict[tuple[int, int], Edge] = {}

    def side(a: int, b: int) -> Coedge:
        low, high = min(a, b), max(a, b)
        if (low, high) not in edges:
            p, q = (vertices.setdefault(k, Vertex(frozen(points[k]))) for k in (low, high))
            edges[low, high] = Edge(Line.through(p.point, q.point), 0.0, float(np.linalg.norm(q.point - p.point)), p, q)
        return Coedge(edges[low, high], a == low)

    uses = []
    for normal, ring in groups:
        loop = tuple(side(a, b) for a, b in zip(ring, [*ring[1:], ring[0]], strict=True))
        uses.append(FaceUse(Face(Plane.of(points[ring[0]], normal), (loop,))))
    return Body(tuple(uses), name)


def _coplanar(made: scipy.spatial.ConvexHull, near: float) -> list[tuple[Floats, list[int]]]:
    """The facets of a hull: outward normal and corners in order, triangles in one plane taken together."""
    m = len(made.simplices)
    planes = made.equations
    links = [(i, j) for i in range(m) for j in made.neighbors[i].tolist() if i < j and _flat(made, i, j, near)]
    rows = np.array(links, dtype=np.int64).reshape(-1, 2)
    graph = scipy.sparse.coo_array((np.ones(len(rows)), (rows[:, 0], rows[:, 1])), shape=(m, m))
    count, group = scipy.sparse.csgraph.connected_components(graph, directed=False)
    out = []
    for k in range(count):
        own = np.flatnonzero(group == k)
        normal = planes[own[0], :3]
        directed = set()
        for t in own:
            a, b, c = made.simplices[t].tolist()
            p = made.points
            if float(cross_product(p[b] - p[a], p[c] - p[a]) @ normal) < 0.0:
                b, c = c, b
            directed |= {(a, b), (b, c), (c, a)}
        onward = {a: b for a, b in directed if (b, a) not in directed}
        start = next(iter(onward))
        ring = [start]
        while onward[ring[-1]] != start:
            ring.append(onward[ring[-1]])
        out.append((normal, ring))
    return out


def _flat(made: scipy.spatial.ConvexHull, i: int, j: int, near: float) -> bool:
    other = made.points[made.simplices[j]]
    return bool(np.abs(other @ made.equations[i, :3] + made.equations[i, 3]).max() <= near)


def block(points: Floats, name: str = "block") -> Body:
    """The smallest block about points (n,3) that lies along a face of their hull (O'Rourke 1985 shows it nearly the
    smallest of all)."""
    made = _hull_of(points)
    corners = points[made.vertices]
    best: tuple[float, Frame, Floats] | None = None
    for normal in _directions(made):
        frame = Frame.of(np.zeros(3), normal)
        local = frame.local(corners)
        angle = _least_rectangle(local[:, :2])
        x = np.cos(angle) * frame.x + np.sin(angle) * frame.y
        turned = Frame.of(np.zeros(3), normal, x)
        q = turned.local(corners)
        extent = np.ptp(q, axis=0)
        if best is None or float(extent.prod()) < best[0] * (1.0 - 1e-9):
            best = float(extent.prod()), turned, q
    assert best is not None
    _, frame, q = best
    low, extent = q.min(axis=0), np.ptp(q, axis=0)
    at = Frame.of(frame.world(low[None])[0], frame.z, frame.x)
    return prism(rectangle(0.0, 0.0, float(extent[0]), float(extent[1])), float(extent[2]), at, name)


def cylinder(points: Floats, name: str = "cylinder") -> Body:
    """The smallest cylinder about points (n,3) along one of their principal directions or across a face of their
    hull."""
    made = _hull_of(points)
    corners = points[made.vertices]
    ways = [*np.linalg.eigh(np.cov(points.T))[1].T, *_directions(made)[:200]]
    best: tuple[float, Frame, float, float] | None = None
    for way in ways:
        frame = Frame.of(np.zeros(3), way)
        q = frame.local(corners)
        centre, radius = least_circle(q[:, :2])
        height = float(np.ptp(q[:, 2]))
        size = np.pi * radius**2 * height
        if best is None or size < best[0] * (1.0 - 1e-9):
            foot = frame.world(np.array([[*centre, q[:, 2].min()]]))[0]
            best = float(size), Frame.of(foot, way), radius, height
    assert best is not None
    return prism(Round((0.0, 0.0), best[2]), best[3], best[1], name)


def _hull_of(points: Floats) -> scipy.spatial.ConvexHull:
    try:
        return scipy.spatial.ConvexHull(points)
    except (scipy.spatial.QhullError, ValueError) as error:
        raise Refusal("the points lie in a plane: nothing with a volume fits about them") from error


def _directions(made: scipy.spatial.ConvexHull) -> list[Floats]:
    """The directions of a hull's facets, each once, those of large facets first."""
    p = made.points[made.simplices]
    area = np.linalg.norm(cross_product(p[:, 1] - p[:, 0], p[:, 2] - p[:, 0]), axis=1)
    out: list[Floats] = []
    for k in np.argsort(-area)[:600]:
        n = unit(made.equations[k, :3])
        if all(abs(float(n @ m)) < 1.0 - 1e-9 for m in out):
            out.append(n)
    return out


def _least_rectangle(p: Floats) -> float:
    """The angle (radians) of the smallest rectangle about points (n,2): it lies along a side of their
    hull (Freeman & Shapira 1975)."""
    ring = p[scipy.spatial.ConvexHull(p).vertices]
    side = np.roll(ring, -1, axis=0) - ring
    angles = np.arctan2(side[:, 1], side[:, 0])
    c, s = np.cos(angles), np.sin(angles)
    x = np.multiply.outer(c, ring[:, 0]) + np.multiply.outer(s, ring[:, 1])
    y = np.multiply.outer(-s, ring[:, 0]) + np.multiply.outer(c, ring[:, 1])
    area = np.ptp(x, axis=1) * np.ptp(y, axis=1)
    return float(angles[int(area.argmin())])


def least_circle(p: Floats) -> tuple[Floats, float]:
    """The smallest circle about points (n,2): centre (2,) and radius (Welzl 1991, as moves to the front)."""
    points = p[scipy.spatial.ConvexHull(p).vertices] if len(p) > 3 else p
    order = np.random.default_rng(3).permutation(len(points))
    points = points[order]
    centre, radius = points[0], 0.0
    slack = 1e-12 * float(np.ptp(points, axis=0).max())

    def out(i: int) -> bool:
        return float(np.linalg.norm(points[i] - centre)) > radius + slack

    for i in range(1, len(points)):
        if not out(i):
            continue
        centre, radius = points[i], 0.0
        for j in range(i):
            if not out(j):
                continue
            centre = 0.5 * (points[i] + points[j])
            radius = 0.5 * float(np.linalg.norm(points[i] - points[j]))
            for k in range(j):
                if out(k):
                    centre = _through(points[i], points[j], points[k])
                    radius = float(np.linalg.norm(points[i] - centre))
    return np.asarray(centre), radius


def _through(a: Floats, b: Floats, c: Floats) -> Floats:
    m = 2.0 * np.array([b - a, c - a])
    return np.asarray(np.linalg.solve(m, np.array([b @ b - a @ a, c @ c - a @ a])))
