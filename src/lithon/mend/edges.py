"""Edges of a solid of patches, along the chains where two of them meet: one each, beside facets one for each side."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from itertools import pairwise

import numpy as np

from lithon.arrays import Floats, cross_product, frozen, unit
from lithon.brep.topology import Edge, Vertex
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Curve, Line
from lithon.geometry.meet import meet
from lithon.geometry.splines import BSplineCurve
from lithon.geometry.surfaces import Plane, Surface
from lithon.geometry.tolerance import MISS
from lithon.mend.facet_faces import chord_on, piece_of
from lithon.mend.freeform import curve_along, smoothly_among
from lithon.mend.meetings import FACETS, Chain, Meetings, away
from lithon.mend.seams import tangent_curve
from lithon.progress import pulse

#: So often points are brought onto two surfaces in turn.
_MIDWAY = 12
#: Where triangles beside a border turn by less than this (radians) it runs through what is smooth, as it happens to.
_CREASE = np.radians(12.0)


class Edges(Meetings):
    """Where patches meet, and the edges there."""

    def edges_along(self, chain: Chain) -> list[tuple[Edge, bool]]:
        """The edges along a chain, and whether they run as it does: one, but beside facets one for each side."""
        ends = self.made.get(chain.points[0]), self.made.get(chain.points[-1])
        key = (*chain.points, self.marks(chain.pair), *map(id, ends))
        if key not in self.memory:
            self.memory[key] = self._beside_facets(chain) if FACETS in chain.pair else [self._edge(chain)]
        edges: list[tuple[Edge, bool]] = self.memory[key]
        if FACETS in chain.pair:
            for (edge, _), v in zip(edges, chain.points, strict=False):
                assert edge.start is not None
                self.made.setdefault(v, edge.start)
        return edges

    def _beside_facets(self, chain: Chain) -> list[tuple[Edge, bool]]:
        pulse("looking for edges")
        near = MISS * self.tolerance
        on = self.surfaces[max(chain.pair)]
        line = self.points[chain.points]
        curve: Curve | None = None
        if on is not None:
            at = on.project(line)
            t = np.zeros(len(line))
        else:
            sides = [(min(s), max(s)) for s in pairwise(chain.points)]
            curve = self.known_curve(sides, chain.pair)
            ends = [v.point for k in (0, -1) if (v := self.made.get(chain.points[k])) is not None]
            if curve is None or any(away(curve, end[None]) > 0.3 * near for end in ends):
                curve = self._free_edge(chain, None).curve
                self.memory.setdefault("along", {}).update(dict.fromkeys(sides, (curve, self.marks(chain.pair))))
            t = self._in_order(curve, np.concatenate([ends[:1], line[1:-1], ends[-1:]]) if len(ends) == 2 else line)
            at = curve.point(t)
        if len(line) < 4 and chain.ring:
            raise self.apart(line)
        vertices = [self.made.get(v) or Vertex(frozen(p)) for v, p in zip(chain.points, at, strict=True)]
        if chain.ring and chain.points[0] not in self.made:
            vertices[-1] = vertices[0]
        out = []
        for k, (a, b) in enumerate(pairwise(vertices)):
            if on is not None:
                out.append((chord_on(on, a, b, near), True))
            else:
                assert curve is not None
                piece = piece_of(curve, float(t[k]), float(t[k + 1]), a, b, near)
                self.memory.setdefault("source", {})[id(piece.curve)] = piece.curve, curve
                out.append((piece, True))
        return out

    def _in_order(self, curve: Curve, line: Floats) -> Floats:
        """The parameters of points along a curve that is drawn through them, in their order."""
        t = np.array(curve.parameter(line))
        ring = bool((line[0] == line[-1]).all())
        if curve.period is not None:
            turns = np.diff(t) / curve.period
            t = t[0] + curve.period * np.concatenate([[0.0], np.cumsum(turns - np.round(turns))])
            if ring:
                t[-1] = t[0] + np.copysign(curve.period, t[-1] - t[0] if abs(t[-1] - t[0]) > 1e-9 else t[-2] - t[0])
        elif ring:
            low, high = float(getattr(curve, "low", 0.0)), float(getattr(curve, "high", 0.0))
            t[0], t[-1] = (low, high) if t[1] < t[-2] else (high, low)
        step = np.diff(t)
        if not ((step > 0.0).all() or (step < 0.0).all()):
            # Corners that go to and fro across it: as far along it as along them.
            far = np.linalg.norm(np.diff(line, axis=0), axis=1)
            t = t[0] + (t[-1] - t[0]) * np.concatenate([[0.0], np.cumsum(far)]) / max(float(far.sum()), 1e-300)
        return t

    def _edge(self, chain: Chain) -> tuple[Edge, bool]:
        """The edge along a chain, and whether it runs as the chain does."""
        pulse("looking for edges")
        a, b = (self.surfaces[k] for k in chain.pair)
        if a is None or b is None:
            sides = [(min(s), max(s)) for s in pairwise(chain.points)]
            edge = self._part_of_known(chain, sides) or (self._free_edge(chain, a or b), True)
            along = self.memory.setdefault("along", {})
            along.update(dict.fromkeys(sides, (edge[0].curve, self.marks(chain.pair))))
            return edge
        line = self.points[chain.points]
        middle = 0.5 * (line[1:] + line[:-1])
        curve = self._curve(a, b, line, chain)
        start, end = self.made.get(chain.points[0]), self.made.get(chain.points[-1])
        ends = None if start is None or end is None else np.stack([start.point, end.point])
        if curve is None or (ends is not None and away(curve, ends) > self.near):
            seam = self._seam(a, b, chain, ends)
            if ends is None:
                return Edge(seam, seam.low, seam.high), True
            return Edge(seam, seam.low, seam.high, start, end), True
        if start is None or end is None:
            if curve.period is None:
                raise self.apart(line)
            low = float(getattr(curve, "low", 0.0))
            way = curve.derivative(curve.parameter(line[:1]))[0]
            return Edge(curve, low, low + float(curve.period)), float(way @ (line[1] - line[0])) > 0.0
        t = curve.parameter(np.array([start.point, end.point, middle[len(middle) // 2]]))
        if curve.period is None:
            return (
                (Edge(curve, t[0], t[1], start, end), True)
                if t[0] < t[1]
                else (Edge(curve, t[1], t[0], end, start), False)
            )
        span, inner = np.mod(t[1] - t[0], curve.period), np.mod(t[2] - t[0], curve.period)
        if start is end or span <= 1e-12:
            span = curve.period
        if inner < span and not (start is end and float(curve.derivative(t[:1])[0] @ (line[1] - line[0])) < 0.0):
            return Edge(curve, float(t[0]), float(t[0] + span), start, end), True
        back = curve.period - span if start is not end else curve.period
        return Edge(curve, float(t[1]), float(t[1] + back), end, start), False

    def _part_of_known(self, chain: Chain, sides: Sequence[tuple[int, int]]) -> tuple[Edge, bool] | None:
        """The edge along a chain on the curve that was drawn where it was a part of a longer one, and whether it runs
        as the chain does."""
        curve = self.known_curve(sides, chain.pair)
        start, end = (self.made.get(chain.points[k]) for k in (0, -1))
        if curve is None or start is None or end is None or start is end:
            return None
        inner = self.points[chain.points].mean(axis=0) if len(chain.points) == 2 else self.points[chain.points[1]]
        t = curve.parameter(np.stack([start.point, inner, end.point]))
        if away(curve, np.stack([start.point, end.point])) > 0.3 * self.near:
            return None
        if curve.period is not None:
            way = curve.derivative(t[:1])[0]
            chord = inner - start.point
            if float(way @ chord) < 0.0:
                return Edge(curve, float(t[2]), float(t[2] + np.mod(t[0] - t[2], curve.period)), end, start), False
            return Edge(curve, float(t[0]), float(t[0] + np.mod(t[2] - t[0], curve.period)), start, end), True
        if t[0] < t[2]:
            return Edge(curve, float(t[0]), float(t[2]), start, end), True
        return Edge(curve, float(t[2]), float(t[0]), end, start), False

    def _free_edge(self, chain: Chain, on: Surface | None) -> Edge:
        """The edge beside a free-form face: along the chain, on the simple surface that is beside it too."""
        line = self.points[chain.points]
        start, end = self.made.get(chain.points[0]), self.made.get(chain.points[-1])
        if (start is None) != (end is None):
            raise self.apart(line)
        slack, lay = 0.15 * self.free, None
        if FACETS not in chain.pair and len(line) > 3 and self._turn(chain) < _CREASE:
            # Through what is smooth it runs along sides of triangles: it need not go to and fro with them.
            step = float(np.linalg.norm(np.diff(line, axis=0), axis=1).mean())
            along, off = unit(line[2:] - line[:-2]), line[1:-1] - line[:-2]
            wave = float(np.median(np.linalg.norm(cross_product(along, off), axis=1)))
            if wave > 0.15 * step:
                slack = max(slack, 0.4 * step)
            # Where corners are far apart a curve through them swings off what they lie on.
            if wave > 0.15 * step or self.memory.get("coarse"):
                lay = self._smooth(chain)
        ends = (start.point, end.point) if start is not None and end is not None else None
        curve = curve_along(line, ends, slack, on, MISS * self.tolerance, lay=lay)
        if isinstance(curve, Line):
            assert ends is not None
            return Edge(curve, 0.0, float(np.linalg.norm(ends[1] - ends[0])), start, end)
        return Edge(curve, curve.low, curve.high, start, end)

    def _smooth(self, chain: Chain) -> Callable[[Floats], Floats]:
        """What brings points onto what is smooth on both sides of a chain."""
        rows = np.flatnonzero(np.isin(self.label, chain.pair))
        own, where = np.unique(self.corners[rows], return_inverse=True)
        normals = np.zeros((len(own), 3))
        np.add.at(normals, where.reshape(-1), np.repeat(self.normal[rows], 3, axis=0))
        return smoothly_among(self.points[own], unit(normals), bool(self.memory.get("coarse")))

    def _turn(self, chain: Chain) -> float:
        """How far (radians) the triangles beside a chain turn, in the middle of all."""
        turns = []
        for a, b in zip(chain.points, chain.points[1:], strict=False):
            one, two = (self.normal[self.beside[side]] for side in ((a, b), (b, a)))
            turns.append(float(np.arccos(np.clip(one @ two, -1.0, 1.0))))
        return float(np.median(turns))

    def _seam(self, a: Surface, b: Surface, chain: Chain, ends: Floats | None) -> BSplineCurve:
        """The curve along a chain where its two surfaces cross at so flat an angle that they need not cross, or not
        where their corners are: midway between them, as near to both as an edge has to be."""
        line = self.points[chain.points]
        if len(line) == 2:
            line = np.stack([line[0], line.mean(axis=0), line[1]])

        def midway(p: Floats) -> Floats:
            for _ in range(_MIDWAY):
                p = 0.5 * (a.project(p) + b.project(p))
            return p

        curve = curve_along(
            line, None if ends is None else (ends[0], ends[1]), self.near + self.scatter(chain.pair), None, self.near,
            lay=midway,
        )  # fmt: skip
        assert isinstance(curve, BSplineCurve)
        there = curve.point(np.linspace(curve.low, curve.high, 257))
        if any(float(np.abs(s.signed_distance(there)).max()) > self.near for s in (a, b)):
            raise self.apart(line)
        return curve

    def _curve(self, a: Surface, b: Surface, line: Floats, chain: Chain) -> Curve | None:
        """The curve along which two surfaces meet where the border of their patches runs, which may miss its ends;
        none where they do not."""
        if a.same_as(b, self.near, float(np.linalg.norm(np.ptp(line, axis=0)))):
            raise Refusal("two patches that touch lie on one surface", where=spot(line[len(line) // 2]),
                          remedy="unite them; the face can be divided afterwards")  # fmt: skip
        ends = [v.point for k in (0, -1) if (v := self.made.get(chain.points[k])) is not None]
        if isinstance(a, Plane) and isinstance(b, Plane) and len(ends) == 2 and not chain.ring:
            return Line.through(ends[0], ends[1])
        scatter = self.scatter(chain.pair)
        smooth = tangent_curve(a, b, line, ends, self.near, self.near + scatter)
        if smooth is not None and all(away(smooth, e[None]) <= self.near for e in ends):
            return smooth
        probe = np.concatenate([line, *(e[None] for e in ends)])
        for slack in (1.0, 20.0):
            try:
                found = meet(a, b, slack * self.tolerance, probe)
            except Refusal:
                continue
            fits = [c for c in found if away(c, line) <= 40.0 * slack * self.near + scatter]
            fits = [c for c in fits if all(away(c, e[None]) <= slack * self.near for e in ends)]
            if fits:
                return min(fits, key=lambda c: away(c, line))
        return None
