"""The gate vane: a wedge with a free-form back that runs to a point, as a careless export leaves it: its foot a spline
that passes through itself, its rear wall cut to a needle and a tiny face, an edge nicked."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Floats, cross_product, frozen
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, new_uid, vertex_at
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane
from lithon.samples.sill_ramp import line_between
from lithon.samples.wounds import Wound, edge_nicked, wall_cut

_CUBIC = frozen([0.0] * 4 + [1.0] * 4)
_LINEAR = frozen([0.0, 0.0, 1.0, 1.0])


@dataclass(frozen=True, slots=True)
class Vane:
    """mm: the tip at the origin, the rear at x = length, as wide there as `width`; the back's height along x is a cubic
    of these Bernstein ordinates. needle: how wide the needle in the rear wall is; nick: how long the short edge is."""

    length: float = 120.0
    width: float = 80.0
    heights: tuple[float, float, float, float] = (10.0, 26.0, 30.0, 24.0)
    needle: float = 0.04
    nick: float = 0.05

    @property
    def volume(self) -> float:
        """The integral of width times height, both polynomials of the share along x."""
        h = self.heights
        # x B_k,3 integrates to (k + 1) / 20.
        return self.length * self.width * sum((k + 1) * h[k] for k in range(4)) / 20.0


VANE = Vane()


def gate_vane(spoiled: bool = True) -> Model:
    """As it was exported; or, not spoiled, as it was drawn."""
    return Model.of([_vane()]) if not spoiled else Model.of([spoiled_vane()[0]])


def _vane() -> Body:
    v = VANE
    half = 0.5 * v.width
    low = [vertex_at((0.0, 0.0, 0.0)), vertex_at((v.length, -half, 0.0)), vertex_at((v.length, half, 0.0))]
    x = np.linspace(0.0, v.length, 4)
    net = np.empty((4, 2, 3))
    for k, side in enumerate((-half, half)):
        net[:, k] = np.stack([x, side * x / v.length, np.array(v.heights)], axis=1)
    high = [vertex_at(net[0, 0]), vertex_at(net[3, 0]), vertex_at(net[3, 1])]
    foot = [line_between(low[k], low[(k + 1) % 3]) for k in range(3)]
    up = [line_between(a, b) for a, b in zip(low, high, strict=True)]
    ridge = [
        Edge(BSplineCurve(_CUBIC, 3, frozen(net[:, 0])), 0.0, 1.0, high[0], high[1]),
        line_between(high[1], high[2]),
        Edge(BSplineCurve(_CUBIC, 3, frozen(net[::-1, 1])), 0.0, 1.0, high[2], high[0]),
    ]
    faces = [
        Face(Plane.of((0.0, 0.0, 0.0), (0.0, 0.0, -1.0)), (tuple(Coedge(e, False) for e in reversed(foot)),)),
        Face(BSplineSurface(_CUBIC, _LINEAR, 3, 1, frozen(net)), (tuple(Coedge(e, True) for e in ridge),)),
    ]
    for k in range(3):
        nxt = (k + 1) % 3
        loop = (Coedge(foot[k], True), Coedge(up[nxt], True), Coedge(ridge[k], False), Coedge(up[k], False))
        out = cross_product(low[nxt].point - low[k].point, (0.0, 0.0, 1.0))
        faces.append(Face(Plane.of(low[k].point, out / np.linalg.norm(out)), (loop,)))
    return Body(tuple(FaceUse(f) for f in faces), "gate vane")


def spoiled_vane() -> tuple[Body, list[Wound]]:
    """The vane with its wounds, and these."""
    body, wounds = _vane(), []
    rear = body.faces[3]
    sides = [c.edge for c in rear.loops[0]]
    first = 0.62
    body, more = wall_cut(body, rear, sides[0], sides[2], (first, first + VANE.needle / VANE.width))
    wounds += more
    foot = _foot(body)
    nicked = next(e for e in foot.edges() if abs(e.direction(0.5)[0]) > 0.5)
    body, more = edge_nicked(body, nicked, VANE.nick)
    wounds += more
    body = _folded(body, _foot(body))
    place = (0.62 * VANE.length, 0.0, 0.0)
    return body, [*wounds, Wound("skin passes through itself", place, 0.2 * VANE.length, None)]


def _foot(body: Body) -> Face:
    return next(f for f in body.faces if f.surface.kind == "plane" and abs(float(f.surface.frame.z[2])) > 0.999)


def _folded(body: Body, face: Face) -> Body:
    """A plane face on a bicubic spline that is that plane but for a loop in its midst, where it crosses itself."""
    n = 16
    inner = np.linspace(0.0, 1.0, n - 2)
    knots = frozen(np.concatenate([[0.0] * 3, inner, [1.0] * 3]))
    at = np.array([knots[k + 1 : k + 4].mean() for k in range(n)])
    x, y = np.meshgrid(-0.1 * VANE.length + at * 1.2 * VANE.length, (at - 0.5) * 1.2 * VANE.width, indexing="ij")
    net = np.stack([x, y, np.zeros_like(x)], axis=-1)
    k, rows = 10, slice(6, 10)
    net[k - 1, rows, 0], net[k + 1, rows, 0] = x[k + 1, rows] + 6.0, x[k - 1, rows] - 6.0
    net[k, rows, 2] = 14.0
    surface = BSplineSurface(knots, knots, 3, 3, frozen(_turned(net)))
    new = replace(face, surface=surface, along=True, uid=new_uid())
    uses = [FaceUse(new, u.forward) if u.face is face else u for u in body.uses]
    return body.with_uses(uses)


def _turned(net: Floats) -> Floats:
    """Looking down rather than up."""
    return np.ascontiguousarray(net[:, ::-1])
