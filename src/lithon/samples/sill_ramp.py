"""The sill ramp: a block with a smooth ramp between a landing and an apron, its ramp exported as two surfaces that
overlap each other and tear off from the walls."""

from __future__ import annotations

import itertools
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats, cross_product, frozen
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Model, Vertex
from lithon.geometry.curves import Line
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Plane


@dataclass(frozen=True, slots=True)
class Ramp:
    """Lengths along x, mm; the ramp falls from `high` to `low` level at both ends, as a cubic does. overlap: from where
    to where both surfaces are; lift: how far the upper one stands off there; tear: how far they are off the walls."""

    width: float = 60.0
    landing: float = 30.0
    length: float = 100.0
    apron: float = 30.0
    high: float = 40.0
    low: float = 20.0
    overlap: tuple[float, float] = (48.0, 56.0)
    lift: float = 0.4
    tear: float = 0.3

    @property
    def volume(self) -> float:
        flat = self.landing * self.high + 0.5 * self.length * (self.high + self.low) + self.apron * self.low
        return self.width * flat

    def height(self, x: Floats) -> Floats:
        s = np.asarray(x) / self.length
        return self.high - (self.high - self.low) * (3.0 * s**2 - 2.0 * s**3)


RAMP = Ramp()
_CUBIC = frozen([0.0] * 4 + [1.0] * 4)
_LINEAR = frozen([0.0, 0.0, 1.0, 1.0])


def _cubic(x: Floats, z: Floats) -> Floats:
    """Control points (4,2) of the cubic through four points at thirds of its way."""
    s = np.array([0.0, 1.0, 2.0, 3.0]) / 3.0
    bernstein = np.stack([(1 - s) ** 3, 3 * s * (1 - s) ** 2, 3 * s**2 * (1 - s), s**3], axis=1)
    return np.asarray(np.linalg.solve(bernstein, np.stack([x, z], axis=1)))


def _strip(low: float, high: float, lift: tuple[float, float], sides: tuple[tuple[float, float], ...]) -> Floats:
    """Control points (4,2,3) of a piece of the ramp from x to x: how far its ends are lifted, and where its sides are
    (y) at either end."""
    x = np.linspace(low, high, 4)
    share = np.arange(4) / 3.0
    net = _cubic(x, RAMP.height(x) + lift[0] + (lift[1] - lift[0]) * share**2)
    out = np.empty((4, 2, 3))
    for k in range(2):
        out[:, k, 0], out[:, k, 2] = net[:, 0], net[:, 1]
        out[:, k, 1] = sides[0][k] + share * (sides[1][k] - sides[0][k])
    return out


def line_between(a: Vertex, b: Vertex) -> Edge:
    """The edge from one vertex straight to another."""
    way = b.point - a.point
    size = float(np.linalg.norm(way))
    return Edge(Line(a.point, frozen(way / size)), 0.0, size, a, b)


def _curve(net: Floats, a: Vertex, b: Vertex) -> Edge:
    return Edge(BSplineCurve(_CUBIC, 3, frozen(net)), 0.0, 1.0, a, b)


def _vertex(*point: float) -> Vertex:
    return Vertex(frozen(np.array(point)))


def sill_ramp(torn: bool = True) -> Model:
    """As it was exported; or, not torn, as it was drawn."""
    r = RAMP
    end = r.length + r.apron
    outline = [(-r.landing, 0.0), (end, 0.0), (end, r.low), (r.length, r.low), (0.0, r.high), (-r.landing, r.high)]
    rows = [[_vertex(x, y, z) for x, z in outline] for y in (0.0, r.width)]
    sides: list[list[Edge]] = []
    for y, row in zip((0.0, r.width), rows, strict=True):
        own = [line_between(a, b) for a, b in itertools.pairwise([*row, row[0]])]
        net = _strip(r.length, 0.0, (0.0, 0.0), ((y, y), (y, y)))[:, 0]
        own[3] = _curve(net, row[3], row[4])
        sides.append(own)
    across = [line_between(a, b) for a, b in zip(*rows, strict=True)]
    n = len(outline)
    faces = [
        Face(Plane.of(rows[0][0].point, (0.0, -1.0, 0.0)), (tuple(Coedge(e, True) for e in sides[0]),)),
        Face(Plane.of(rows[1][0].point, (0.0, 1.0, 0.0)), (tuple(Coedge(e, False) for e in reversed(sides[1])),)),
    ]
    for k in range(n):
        if k == 3:
            continue
        a, b = rows[0][k].point, rows[0][(k + 1) % n].point
        loop = (Coedge(sides[0][k], False), Coedge(across[k], True), Coedge(sides[1][k], True),
                Coedge(across[(k + 1) % n], False))  # fmt: skip
        out = cross_product(b - a, (0.0, 1.0, 0.0))
        faces.append(Face(Plane.of(a, -out / np.linalg.norm(out)), (loop,)))
    if torn:
        ends, tear = (0.0, r.width), (r.tear, r.width - r.tear)
        faces.append(_piece(_strip(0.0, r.overlap[1], (0.0, r.lift), (ends, tear)), across[4], True))
        faces.append(_piece(_strip(r.overlap[0], r.length, (0.0, 0.0), (tear, ends)), across[3], False))
    else:
        faces.append(_ramp(sides, across))
    return Model.of([Body(tuple(FaceUse(f) for f in faces), "sill ramp")])


def _ramp(sides: list[list[Edge]], across: list[Edge]) -> Face:
    net = _strip(0.0, RAMP.length, (0.0, 0.0), ((0.0, RAMP.width),) * 2)
    loop = (Coedge(sides[0][3], False), Coedge(across[3], True), Coedge(sides[1][3], True), Coedge(across[4], False))
    return Face(BSplineSurface(_CUBIC, _LINEAR, 3, 1, frozen(net)), (loop,))


def _piece(net: Floats, held: Edge, start: bool) -> Face:
    """A surface that hangs on one edge across the ramp, at its start or at its end."""
    loose = [_vertex(*net[-1 if start else 0, k]) for k in range(2)]
    assert held.start is not None and held.end is not None
    near, far = [held.start, held.end], loose
    first, last = (near, far) if start else (far, near)
    walls = [_curve(net[:, k], first[k], last[k]) for k in range(2)]
    free = line_between(loose[0], loose[1])
    low, high = (held, free) if start else (free, held)
    loop = (Coedge(walls[0], True), Coedge(high, True), Coedge(walls[1], False), Coedge(low, False))
    return Face(BSplineSurface(_CUBIC, _LINEAR, 3, 1, frozen(net)), (loop,))
