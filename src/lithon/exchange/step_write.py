"""A model to STEP (AP242). Seams are made on the way out; bodies in contact share their edges."""

from __future__ import annotations

import os
import tempfile
from collections.abc import Iterator
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.brep.charts import chart_of
from lithon.brep.copies import copy_of, moved, root_of
from lithon.brep.faceted import as_planes
from lithon.brep.shells import closed, shells
from lithon.brep.tessellation.division import edge_points
from lithon.brep.topology import Body, Coedge, Edge, Face, Loop, Model, Vertex, vertex_at
from lithon.errors import Refusal
from lithon.exchange.part21 import encode
from lithon.exchange.step_tree import Part, Structure, tree_of
from lithon.geometry.charts import Chart
from lithon.geometry.crossing import Crossing
from lithon.geometry.curves import Circle, Curve, Ellipse, Line
from lithon.geometry.frames import Frame
from lithon.geometry.offset import Offset
from lithon.geometry.rounds import Cone, Sphere, Torus
from lithon.geometry.splines import BSplineCurve, BSplineSurface
from lithon.geometry.surfaces import Cylinder, Plane, Surface
from lithon.geometry.swept import Extrusion, Revolution


def write_step(model: Model, path: str | Path, name: str = "") -> None:
    """Write atomically: the file is whole or not there."""
    save_atomically(Path(path), step_text(model, name or Path(path).stem).encode("ascii"))


def save_atomically(path: Path, data: bytes) -> None:
    """Write beside the target and rename; a full disk or a kill leaves the old file as it was."""
    path = Path(path)
    path.parent.mkdir(parents=True, exist_ok=True)
    handle, temporary = tempfile.mkstemp(dir=path.parent, prefix=f".{path.name}.")
    try:
        with os.fdopen(handle, "wb") as out:
            out.write(data)
            out.flush()
            os.fsync(out.fileno())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except BaseException:
        if os.path.exists(temporary):
            os.unlink(temporary)
        raise


def step_text(model: Model, name: str = "part") -> str:
    return _Writer(replace(model, bodies=tuple(_without_facets(model))), name).text()


def _without_facets(model: Model) -> Iterator[Body]:
    """The bodies with a plane for each triangle: the standard's faces have no facets. Copies stay copies."""
    known = {root: as_planes(root) for root in dict.fromkeys(root_of(body) for body in model.bodies)}
    for body in model.bodies:
        copy, plain = copy_of(body), known[root_of(body)]
        if copy is None:
            yield plain
        elif plain is copy.body:
            yield body
        else:
            yield replace(moved(plain, copy.motion), name=body.name, path=body.path, colour=body.colour)


def _real(x: float) -> str:
    text = repr(float(x))
    mantissa, _, power = text.partition("e")
    if "." not in mantissa:
        mantissa += "."
    return f"{mantissa}E{int(power):+03d}" if power else mantissa


def _knot_lists(knots: Floats) -> tuple[str, str]:
    values, counts = np.unique(knots, return_counts=True)
    return ",".join(str(int(c)) for c in counts), ",".join(_real(v) for v in values)


def _written(edge: Edge, tolerance: float) -> Curve:
    """The curve of an edge as STEP can hold it: a numeric crossing becomes a fitted spline."""
    return edge.curve.fitted(edge.t0, edge.t1, 0.2 * tolerance) if isinstance(edge.curve, Crossing) else edge.curve


def _anywhere(surface: Surface) -> Floats:
    return np.asarray(surface.frame.origin + surface.frame.x + surface.frame.z)


class _Writer:
    def __init__(self, model: Model, name: str):
        self.model = model
        self.name = name
        self.lines: list[str] = []
        self.points: dict[int, str] = {}
        self.made_edges: dict[Edge, str] = {}
        self.made_vertices: dict[Vertex, str] = {}
        self.ring_vertices: dict[Edge, Vertex] = {}

    def add(self, text: str) -> str:
        self.lines.append(text)
        return f"#{len(self.lines)}"

    def text(self) -> str:
        root = tree_of(self.model, self.name)
        for face in dict.fromkeys(face for body in root.bodies() for face in body.faces):
            self._choose_ring_vertices(face)
        self._structure(root)
        body = "\n".join(f"#{i + 1}={line};" for i, line in enumerate(self.lines))
        return (
            "ISO-10303-21;\nHEADER;\n"
            f"FILE_DESCRIPTION(({encode('solid geometry')}),'2;1');\n"
            f"FILE_NAME({encode(self.name)},'',(''),(''),'Lithon','Lithon','');\n"
            "FILE_SCHEMA(('AP242_MANAGED_MODEL_BASED_3D_ENGINEERING_MIM_LF { 1 0 10303 442 1 1 4 }'));\n"
            f"ENDSEC;\nDATA;\n{body}\nENDSEC;\nEND-ISO-10303-21;\n"
        )

    # ---- geometry

    def _point(self, p: Floats) -> str:
        return self.add(f"CARTESIAN_POINT('',({','.join(_real(c) for c in p)}))")

    def _direction(self, d: Floats) -> str:
        return self.add(f"DIRECTION('',({','.join(_real(c) for c in d)}))")

    def _frame(self, frame: Frame) -> str:
        parts = self._point(frame.origin), self._direction(frame.z), self._direction(frame.x)
        return self.add(f"AXIS2_PLACEMENT_3D('',{','.join(parts)})")

    def _curve(self, curve: Curve) -> str:
        if isinstance(curve, Line):
            vector = self.add(f"VECTOR('',{self._direction(curve.direction)},1.)")
            return self.add(f"LINE('',{self._point(curve.origin)},{vector})")
        if isinstance(curve, Circle):
            return self.add(f"CIRCLE('',{self._frame(curve.frame)},{_real(curve.radius)})")
        if isinstance(curve, Ellipse):
            return self.add(f"ELLIPSE('',{self._frame(curve.frame)},{_real(curve.major)},{_real(curve.minor)})")
        if isinstance(curve, BSplineCurve):
            return self._spline_curve(curve)
        raise Refusal(f"a {curve.kind} cannot be written to STEP yet")

    def _spline_curve(self, curve: BSplineCurve) -> str:
        poles = ",".join(self._point(p) for p in curve.control)
        counts, knots = _knot_lists(curve.knots)
        closed = ".T." if curve.period is not None else ".F."
        if curve.weights is None:
            return self.add(
                f"B_SPLINE_CURVE_WITH_KNOTS('',{curve.degree},({poles}),.UNSPECIFIED.,{closed},.F.,"
                f"({counts}),({knots}),.UNSPECIFIED.)"
            )
        weights = ",".join(_real(w) for w in curve.weights)
        return self.add(
            f"(BOUNDED_CURVE()B_SPLINE_CURVE({curve.degree},({poles}),.UNSPECIFIED.,{closed},.F.)"
            f"B_SPLINE_CURVE_WITH_KNOTS(({counts}),({knots}),.UNSPECIFIED.)CURVE()GEOMETRIC_REPRESENTATION_ITEM()"
            f"RATIONAL_B_SPLINE_CURVE(({weights}))REPRESENTATION_ITEM(''))"
        )

    def _surface(self, surface: Surface) -> str:
        if isinstance(surface, Plane):
            return self.add(f"PLANE('',{self._frame(surface.frame)})")
        if isinstance(surface, Cylinder):
            return self.add(f"CYLINDRICAL_SURFACE('',{self._frame(surface.frame)},{_real(surface.radius)})")
        if isinstance(surface, Cone):
            numbers = f"{_real(surface.radius)},{_real(surface.angle)}"
            return self.add(f"CONICAL_SURFACE('',{self._frame(surface.frame)},{numbers})")
        if isinstance(surface, Sphere):
            return self.add(f"SPHERICAL_SURFACE('',{self._frame(surface.frame)},{_real(surface.radius)})")
        if isinstance(surface, Torus):
            whole = surface.major > surface.minor
            kind, more = ("TOROIDAL_SURFACE", "") if whole else ("DEGENERATE_TOROIDAL_SURFACE", ",.T.")
            numbers = f"{_real(surface.major)},{_real(surface.minor)}{more}"
            return self.add(f"{kind}('',{self._frame(surface.frame)},{numbers})")
        if isinstance(surface, Extrusion):
            vector = self.add(f"VECTOR('',{self._direction(surface.frame.z)},1.)")
            return self.add(f"SURFACE_OF_LINEAR_EXTRUSION('',{self._curve(surface.profile)},{vector})")
        if isinstance(surface, Revolution):
            place = f"{self._point(surface.frame.origin)},{self._direction(-surface.frame.z)}"  # see the reader
            axis = self.add(f"AXIS1_PLACEMENT('',{place})")
            return self.add(f"SURFACE_OF_REVOLUTION('',{self._curve(surface.profile)},{axis})")
        if isinstance(surface, BSplineSurface):
            return self._spline_surface(surface)
        if isinstance(surface, Offset):
            return self.add(f"OFFSET_SURFACE('',{self._surface(surface.basis)},{_real(surface.distance)},.F.)")
        raise Refusal(f"a {surface.kind} cannot be written to STEP yet")

    def _spline_surface(self, s: BSplineSurface) -> str:
        net = ",".join("(" + ",".join(self._point(p) for p in row) + ")" for row in s.control)
        (mu, ku), (mv, kv) = _knot_lists(s.knots_u), _knot_lists(s.knots_v)
        closed = ",".join(".T." if c else ".F." for c in s.closed())
        knots = f"({mu}),({mv}),({ku}),({kv}),.UNSPECIFIED."
        if s.weights is None:
            return self.add(
                f"B_SPLINE_SURFACE_WITH_KNOTS('',{s.degree_u},{s.degree_v},({net}),.UNSPECIFIED.,{closed},.F.,{knots})"
            )
        weights = ",".join("(" + ",".join(_real(w) for w in row) + ")" for row in s.weights)
        return self.add(
            f"(BOUNDED_SURFACE()B_SPLINE_SURFACE({s.degree_u},{s.degree_v},({net}),.UNSPECIFIED.,{closed},.F.)"
            f"B_SPLINE_SURFACE_WITH_KNOTS({knots})GEOMETRIC_REPRESENTATION_ITEM()"
            f"RATIONAL_B_SPLINE_SURFACE(({weights}))REPRESENTATION_ITEM('')SURFACE())"
        )

    # ---- seams

    def _choose_ring_vertices(self, face: Face) -> None:
        """Give the rings of a face that goes around vertices on one generator, so that a seam fits."""
        if not isinstance(face.surface, Cylinder | Cone):
            return
        loops = _around(face)
        if len(loops) != 2:
            return
        anchors = [p for loop in loops if (p := self._anchor(loop)) is not None]
        start = anchors[0] if anchors else loops[0][0].edge.at(0.0)
        chart = chart_of(face)
        u = chart.flat(start[None])[0, 0]
        for loop in loops:
            edge = loop[0].edge
            if edge.ring and edge not in self.ring_vertices:
                self.ring_vertices[edge] = vertex_at(_at_flat(chart, edge, float(u)))

    def _anchor(self, loop: Loop) -> Floats | None:
        edge = loop[0].edge
        if edge.ring:
            hit = self.ring_vertices.get(edge)
            return hit.point if hit else None
        first = loop[0].first
        return first.point if first else None

    def _ends(self, edge: Edge) -> tuple[Vertex, Vertex]:
        if edge.ring:
            vertex = self.ring_vertices.setdefault(edge, vertex_at(edge.at(0.0)))
            return vertex, vertex
        assert edge.start is not None and edge.end is not None
        return edge.start, edge.end

    def _seam(self, face: Face) -> tuple[Vertex, Vertex, int, int] | None:
        """Vertices of both loops around on one generator, and the coedges that start there."""
        if not isinstance(face.surface, Cylinder | Cone):
            return None
        around = _around(face)
        if len(around) != 2:
            return None
        found = []
        chart = chart_of(face)
        for loop in around:
            starts = [self._ends(c.edge)[0 if c.forward else 1] for c in loop]
            found.append((starts, chart.flat(np.array([v.point for v in starts]))[:, 0]))
        period = chart.flat_period or 1.0
        gap = np.abs(found[0][1][:, None] - found[1][1][None, :])
        gap = np.minimum(gap, period - gap)
        i, j = np.unravel_index(int(gap.argmin()), gap.shape)
        if gap[i, j] > 1e-7 * period:
            return None
        return found[0][0][i], found[1][0][j], int(i), int(j)

    # ---- topology

    def _vertex(self, vertex: Vertex) -> str:
        if vertex not in self.made_vertices:
            self.made_vertices[vertex] = self.add(f"VERTEX_POINT('',{self._point(vertex.point)})")
        return self.made_vertices[vertex]

    def _edge(self, edge: Edge) -> str:
        if edge not in self.made_edges:
            start, end = (self._vertex(v) for v in self._ends(edge))
            self.made_edges[edge] = self.add(
                f"EDGE_CURVE('',{start},{end},{self._curve(_written(edge, self.model.tolerance))},.T.)"
            )
        return self.made_edges[edge]

    def _oriented(self, edge: str, forward: bool) -> str:
        return self.add(f"ORIENTED_EDGE('',*,*,{edge},{'.T.' if forward else '.F.'})")

    def _walk(self, loop: Loop) -> list[str]:
        return [self._oriented(self._edge(c.edge), c.forward) for c in loop]

    def _face(self, face: Face, forward: bool) -> str:
        loops: list[list[str]] = []
        seam = self._seam(face)
        around = _around(face) if seam is not None else []
        if seam is not None:
            a, b, i, j = seam
            line = Line.through(a.point, b.point)
            edge = self.add(f"EDGE_CURVE('',{self._vertex(a)},{self._vertex(b)},{self._curve(line)},.T.)")
            first, second = (loop[k:] + loop[:k] for loop, k in ((around[0], i), (around[1], j)))
            loops.append(
                [*self._walk(first), self._oriented(edge, True), *self._walk(second), self._oriented(edge, False)]
            )
        loops += [self._walk(loop) for loop in face.loops if not any(loop is other for other in around)]
        if seam is None and len(loops) > 1:
            k = _outer_index(face)
            loops.insert(0, loops.pop(k))
        bounds = []
        for index, walk in enumerate(loops):
            # A body that uses the face backwards gets its own copy, turned round.
            oriented = self.add(f"EDGE_LOOP('',({','.join(walk)}))")
            kind = "FACE_OUTER_BOUND" if index == 0 else "FACE_BOUND"
            bounds.append(self.add(f"{kind}('',{oriented},{'.T.' if forward else '.F.'})"))
        bounds += [self.add(f"FACE_BOUND('',{loop},.T.)") for loop in self._points_of(face)]
        sense = ".T." if face.along == forward else ".F."
        surface = self._surface(face.surface)
        return self.add(f"ADVANCED_FACE({encode(face.label)},({','.join(bounds)}),{surface},{sense})")

    def _points_of(self, face: Face) -> list[str]:
        """Vertex loops: at an apex inside a face, and on a surface without any boundary."""
        points = chart_of(face).singular if face.loops else face.surface.project(_anywhere(face.surface)[None])
        return [self.add(f"VERTEX_LOOP('',{self._vertex(vertex_at(p))})") for p in points]

    def _solid(self, body: Body, name: str) -> str:
        outer, *voids = shells(body)
        made = [",".join(self._face(use.face, use.forward) for use in shell) for shell in (outer, *voids)]
        if not closed(body):
            shell = self.add(f"OPEN_SHELL('',({','.join(made)}))")
            return self.add(f"SHELL_BASED_SURFACE_MODEL({encode(name)},({shell}))")
        parts = [self.add(f"CLOSED_SHELL('',({faces}))") for faces in made]
        if not voids:
            return self.add(f"MANIFOLD_SOLID_BREP({encode(name)},{parts[0]})")
        inner = ",".join(self.add(f"ORIENTED_CLOSED_SHELL('',*,{p},.T.)") for p in parts[1:])
        return self.add(f"BREP_WITH_VOIDS({encode(name)},{parts[0]},({inner}))")

    def _structure(self, root: Part) -> None:
        solids: dict[Body, str] = {}
        self._solids(root, solids)
        mm = self.add("(LENGTH_UNIT()NAMED_UNIT(*)SI_UNIT(.MILLI.,.METRE.))")
        rad = self.add("(NAMED_UNIT(*)PLANE_ANGLE_UNIT()SI_UNIT($,.RADIAN.))")
        sr = self.add("(NAMED_UNIT(*)SI_UNIT($,.STERADIAN.)SOLID_ANGLE_UNIT())")
        slack = self.add(
            "UNCERTAINTY_MEASURE_WITH_UNIT(LENGTH_MEASURE("
            f"{_real(self.model.tolerance)}),{mm},'distance_accuracy_value','')"
        )
        where = self.add(
            "(GEOMETRIC_REPRESENTATION_CONTEXT(3)"
            f"GLOBAL_UNCERTAINTY_ASSIGNED_CONTEXT(({slack}))GLOBAL_UNIT_ASSIGNED_CONTEXT(({mm},{rad},{sr}))"
            "REPRESENTATION_CONTEXT('',''))"
        )
        Structure(self.add, self._frame, where).write(root, solids)
        self._colours(solids, where)

    def _solids(self, part: Part, made: dict[Body, str]) -> None:
        """The solids of a part and of what it holds, each once."""
        for body, name in part.solids:
            if body not in made:
                made[body] = self._solid(body, name)
        for child, _, _ in part.children:
            self._solids(child, made)

    def _colours(self, solids: dict[Body, str], where: str) -> None:
        styled = []
        for body, solid in solids.items():
            if body.colour is None:
                continue
            item = self.add(f"COLOUR_RGB('',{','.join(_real(c) for c in body.colour)})")
            for kind in ("FILL_AREA_STYLE_COLOUR('',{})", "FILL_AREA_STYLE('',({}))", "SURFACE_STYLE_FILL_AREA({})",
                         "SURFACE_SIDE_STYLE('',({}))", "SURFACE_STYLE_USAGE(.BOTH.,{})",
                         "PRESENTATION_STYLE_ASSIGNMENT(({}))"):  # fmt: skip
                item = self.add(kind.format(item))
            styled.append(self.add(f"STYLED_ITEM('',({item}),{solid})"))
        if styled:
            self.add(f"MECHANICAL_DESIGN_GEOMETRIC_PRESENTATION_REPRESENTATION('',({','.join(styled)}),{where})")


def _around(face: Face) -> list[Loop]:
    """The loops of a face that go all the way around its period."""
    if not face.loops:
        return []
    chart = chart_of(face)
    period = chart.flat_period
    if period is None:
        return []
    out = []
    for loop in face.loops:
        points = np.concatenate([_walked(c) for c in loop])
        u = chart.flat(points)[:, 0]
        step = np.diff(np.append(u, u[0]))
        step -= period * np.round(step / period)
        if abs(float(step.sum())) > 0.5 * period:
            out.append(loop)
    return out


def _walked(coedge: Coedge) -> Floats:
    points = edge_points(coedge.edge)[1]
    return points if coedge.forward else points[::-1]


def _outer_index(face: Face) -> int:
    """Which loop is the outer one: that of the largest flat box."""
    chart = chart_of(face)
    if chart.flat_period is not None:
        return 0
    sizes: list[Any] = []
    for loop in face.loops:
        flat = chart.flat(np.concatenate([_walked(c) for c in loop]))
        sizes.append(float(np.prod(flat.max(axis=0) - flat.min(axis=0))))
    return int(np.argmax(sizes))


def _at_flat(chart: Chart, edge: Edge, u: float) -> Floats:
    """The point of a ring edge at a first flat coordinate, by bisection between samples."""
    period = float(chart.flat_period or 0.0)

    def gap(t: Floats) -> Floats:
        d = chart.flat(edge.curve.point(t))[:, 0] - u
        return np.asarray(d - period * np.round(d / period))

    t = np.linspace(edge.t0, edge.t1, 65)
    g = gap(t)
    exact = np.flatnonzero(np.abs(g[:-1]) < 1e-12 * period)
    if exact.size:
        return np.asarray(edge.curve.point(t[exact[:1]])[0])
    k = int(np.flatnonzero((g[:-1] * g[1:] < 0.0) & (np.abs(g[1:] - g[:-1]) < 0.5 * period))[0])
    low, high = t[k], t[k + 1]
    sign = np.sign(g[k])
    for _ in range(80):
        middle = 0.5 * (low + high)
        low, high = (middle, high) if np.sign(gap(np.array([middle]))[0]) == sign else (low, middle)
    return np.asarray(edge.curve.point(np.array([0.5 * (low + high)]))[0])


__all__ = ["save_atomically", "step_text", "write_step"]
