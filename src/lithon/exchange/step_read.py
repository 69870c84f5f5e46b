"""STEP solids (AP203, AP214, AP242) to a model. Seams are dropped on the way in."""

from __future__ import annotations

from collections import defaultdict
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Model, Vertex
from lithon.errors import BadFile
from lithon.exchange.part21 import Exchange, Instance, Ref, Typed, read_exchange
from lithon.exchange.step_geometry import GeometryReader
from lithon.geometry.curves import Curve
from lithon.geometry.surfaces import Surface

_PREFIX = {"MILLI": 1.0, "CENTI": 10.0, "DECI": 100.0, "KILO": 1e6, "MICRO": 1e-3, "NANO": 1e-6, None: 1000.0}


@dataclass(slots=True)
class Arrival:
    """What came out of a file: the model and what could not be taken, in words."""

    model: Model
    notes: list[str] = field(default_factory=list)


def read_step(path: str | Path) -> Arrival:
    """Read a file. Raises BadFile with one clear message when nothing usable is in it."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
    return parse_step(data.decode("utf-8", errors="replace"), path.stem)


def parse_step(text: str, name: str = "part") -> Arrival:
    exchange = read_exchange(text)
    try:
        return _Reader(exchange, name).run()
    except (IndexError, TypeError, ValueError, AttributeError) as error:
        raise BadFile(f"the STEP file is not well formed ({error})") from error


@dataclass(slots=True)
class _ProtoEdge:
    """An edge while seams are being dropped. Ends are vertex numbers."""

    curve: Curve
    t0: float
    t1: float
    start: int | None
    end: int | None


_ProtoLoop = list[tuple[int, bool]]


class _Reader(GeometryReader):
    def __init__(self, exchange: Exchange, name: str):
        super().__init__(exchange)
        self.name = name
        self.surfaces: dict[int, Surface] = {}
        self.points: dict[int, Floats] = {}
        self.edges: dict[int, _ProtoEdge] = {}
        self.loops: dict[int, list[_ProtoLoop]] = {}
        self.along: dict[int, tuple[bool, str]] = {}
        self.seam_ends: set[int] = set()

    def run(self) -> Arrival:
        solids: list[tuple[str, list[tuple[int, bool]]]] = []
        for instance, scale, radians in self._solids():
            self.scale, self.radians = scale, radians
            shells = self._shells(instance)
            uses = [(face, forward) for shell, forward in shells for face in self._shell_faces(shell)]
            kept = [(face, forward) for face, forward in uses if self._face(face)]
            if kept:
                solids.append((self._solid_name(instance, len(solids)), kept))
        if not solids:
            why = f" ({'; '.join(self.notes[:3])})" if self.notes else ""
            raise BadFile(f"the STEP file holds no solid that Lithon can read{why}")
        if next(self.x.of_kind("MAPPED_ITEM", "CONTEXT_DEPENDENT_SHAPE_REPRESENTATION"), None) is not None:
            self.notes.append("assembly placements are not applied: every part stands where it was modelled")
        self._merge_at_seams()
        return Arrival(self._freeze(solids), self.notes)

    # ---- which solids, and their units

    def _solids(self) -> list[tuple[Instance, float, float]]:
        """Each solid with millimetres in its length unit and radians in its angle unit."""
        out: list[tuple[Instance, float, float]] = []
        seen: set[int] = set()
        kinds = ("MANIFOLD_SOLID_BREP", "BREP_WITH_VOIDS", "SHELL_BASED_SURFACE_MODEL")
        shapes = ("ADVANCED_BREP_SHAPE_REPRESENTATION", "SHAPE_REPRESENTATION", "MANIFOLD_SURFACE_SHAPE_REPRESENTATION")
        for shape in self.x.of_kind(*shapes):
            for item in shape.values[1]:
                instance = self.x.get(item)
                if instance.kind in kinds and instance.number not in seen:
                    seen.add(instance.number)
                    out.append((instance, self._unit(shape.values[2]), self._angle(shape.values[2])))
        for instance in self.x.of_kind(*kinds):
            if instance.number not in seen:
                out.append((instance, 1.0, 1.0))
                self.notes.append(f"the solid #{instance.number} stands in no representation: millimetres assumed")
        return out

    def _unit(self, context: Any) -> float:
        """Millimetres in one length unit of a representation context."""
        parts = self.x.get(context).parts
        for ref in parts.get("GLOBAL_UNIT_ASSIGNED_CONTEXT", [[]])[0]:
            unit = self.x.get(ref)
            if "LENGTH_UNIT" in unit.parts:
                return self._length_unit(unit, 0)
        self.notes.append("the file names no length unit: millimetres assumed")
        return 1.0

    def _angle(self, context: Any) -> float:
        """Radians in one plane angle unit of a representation context."""
        parts = self.x.get(context).parts
        for ref in parts.get("GLOBAL_UNIT_ASSIGNED_CONTEXT", [[]])[0]:
            unit = self.x.get(ref)
            if "PLANE_ANGLE_UNIT" in unit.parts and "CONVERSION_BASED_UNIT" in unit.parts:
                measure = self.x.get(unit.parts["CONVERSION_BASED_UNIT"][1])
                value = measure.values[0]
                factor = float(value.values[0] if isinstance(value, Typed) else value)
                if not np.isfinite(factor) or factor <= 0.0:
                    raise BadFile(f"the angle unit #{unit.number} makes no sense")
                return factor
        return 1.0

    def _length_unit(self, unit: Instance, depth: int) -> float:
        if "SI_UNIT" in unit.parts:
            return _PREFIX[unit.parts["SI_UNIT"][0]]
        measure = self.x.get(unit.parts["CONVERSION_BASED_UNIT"][1])
        value = measure.values[0]
        factor = float(value.values[0] if isinstance(value, Typed) else value)
        if depth > 4 or not np.isfinite(factor) or factor <= 0.0:
            raise BadFile(f"the length unit #{unit.number} makes no sense")
        return factor * self._length_unit(self.x.get(measure.values[1]), depth + 1)

    def _solid_name(self, instance: Instance, index: int) -> str:
        if isinstance(instance.values[0], str) and instance.values[0].strip():
            return instance.values[0].strip()
        product = next(self.x.of_kind("PRODUCT"), None)
        base = str(product.values[1] or product.values[0] or self.name) if product else self.name
        return base if index == 0 else f"{base} {index + 1}"

    # ---- shells and faces

    def _shells(self, instance: Instance) -> list[tuple[Instance, bool]]:
        if instance.kind == "SHELL_BASED_SURFACE_MODEL":
            return [(self.x.get(s), True) for s in instance.values[1]]
        shells = [(self.x.get(instance.values[1], "CLOSED_SHELL", "ORIENTED_CLOSED_SHELL"), True)]
        for ref in instance.values[2] if instance.kind == "BREP_WITH_VOIDS" else ():
            shells.append((self.x.get(ref, "CLOSED_SHELL", "ORIENTED_CLOSED_SHELL"), True))
        out = []
        for shell, forward in shells:
            if shell.kind == "ORIENTED_CLOSED_SHELL":
                forward = shell.values[3] == "T"
                shell = self.x.get(shell.values[2], "CLOSED_SHELL")
            out.append((shell, forward))
        return out

    def _shell_faces(self, shell: Instance) -> list[int]:
        return [int(ref) for ref in shell.values[1]]

    def _face(self, number: int) -> bool:
        """Read a face into loops; False, with a note, where it holds what is not read yet."""
        if number in self.loops:
            return True
        face = self.x.get(Ref(number), "ADVANCED_FACE", "FACE_SURFACE")
        surface = self._surface(face.values[2])
        if surface is None:
            kind = self.x.get(face.values[2]).kind.lower().replace("_", " ")
            self.notes.append(f"face #{number} left out: a {kind} is not read yet")
            return False
        loops: list[_ProtoLoop] = []
        for ref in face.values[1]:
            bound = self.x.get(ref, "FACE_BOUND", "FACE_OUTER_BOUND")
            ring = self.x.get(bound.values[1], "EDGE_LOOP", "VERTEX_LOOP")
            if ring.kind == "VERTEX_LOOP":
                continue  # a pole or apex: the surface knows of it
            loop = self._loop(ring, bound.values[2] == "T")
            if loop is None:
                self.notes.append(f"face #{number} left out: one of its edges is on a curve that is not read yet")
                return False
            loops += self._without_seams(loop) if surface.kind != "plane" else [loop]
        loops = self._without_common(loops)
        self.surfaces[number] = surface
        self.loops[number] = loops
        self.along[number] = (face.values[3] == "T", str(face.values[0] or ""))
        return True

    def _loop(self, loop: Instance, forward: bool) -> _ProtoLoop | None:
        out: _ProtoLoop = []
        for ref in loop.values[1]:
            oriented = self.x.get(ref, "ORIENTED_EDGE")
            number = int(oriented.values[3])
            turned = self._edge(number)
            if turned is None:
                return None
            if self.edges[number].t1 <= self.edges[number].t0:
                continue  # a pole written as an edge of no length
            out.append((number, (oriented.values[4] == "T") != turned))
        return out if forward else [(n, not f) for n, f in reversed(out)]

    def _edge(self, number: int) -> bool | None:
        """Read an edge curve; whether it was turned to run with its curve, None if not readable."""
        edge = self.x.get(Ref(number), "EDGE_CURVE")
        turned = edge.values[4] != "T"
        if number in self.edges:
            return turned
        curve = self._curve(edge.values[3])
        if curve is None:
            return None
        start, end = (self._vertex(ref) for ref in edge.values[1:3])
        if turned:
            start, end = end, start
        ends = curve.parameter(np.stack([self.points[start], self.points[end]]))
        t0, t1 = float(ends[0]), float(ends[1])
        if curve.period is not None:
            span = (t1 - t0) % curve.period
            t1 = t0 + (curve.period if start == end or span < 1e-12 * curve.period else span)
        elif start == end and curve.kind != "line":
            t1 = t0  # a curve that goes nowhere
        elif t1 <= t0:
            raise BadFile(f"edge #{number} is a straight edge of no length, or runs backwards")
        self.edges[number] = _ProtoEdge(curve, t0, t1, start, end)
        return turned

    def _vertex(self, ref: Any) -> int:
        vertex = self.x.get(ref, "VERTEX_POINT")
        number = vertex.number
        if number not in self.points:
            self.points[number] = self._point(vertex.values[1])
        return number

    # ---- seams

    def _without_seams(self, loop: _ProtoLoop) -> list[_ProtoLoop]:
        """Split a loop at every edge that it walks both ways."""
        for i, (number, forward) in enumerate(loop):
            for j in range(i + 1, len(loop)):
                if loop[j] == (number, not forward):
                    edge = self.edges[number]
                    self.seam_ends |= {v for v in (edge.start, edge.end) if v is not None}
                    halves = [loop[i + 1 : j], loop[j + 1 :] + loop[:i]]
                    return [part for half in halves if half for part in self._without_seams(half)]
        return [loop]

    def _without_common(self, loops: list[_ProtoLoop]) -> list[_ProtoLoop]:
        """Join two loops of a face along an edge that one walks forward and the other back."""
        for i, one in enumerate(loops):
            for j in range(i + 1, len(loops)):
                for a, (number, forward) in enumerate(one):
                    if (number, not forward) in loops[j]:
                        b = loops[j].index((number, not forward))
                        edge = self.edges[number]
                        self.seam_ends |= {v for v in (edge.start, edge.end) if v is not None}
                        joined = one[a + 1 :] + one[:a] + loops[j][b + 1 :] + loops[j][:b]
                        rest = [loop for k, loop in enumerate(loops) if k not in (i, j)]
                        return self._without_common(rest + ([joined] if joined else []))
        return loops

    def _merge_at_seams(self) -> None:
        """Where only a seam held two edges of one curve apart, they become one edge or a ring."""
        used = {n for loops in self.loops.values() for loop in loops for n, _ in loop}
        at: dict[int, list[int]] = defaultdict(list)
        for number in used:
            for v in (self.edges[number].start, self.edges[number].end):
                if v is not None:
                    at[v].append(number)
        for vertex in self.seam_ends:
            ends = at.get(vertex, [])
            if len(ends) != 2:
                continue
            a, b = ends
            if a != b:
                if self.edges[a].end != vertex:
                    a, b = b, a
                first, second = self.edges[a], self.edges[b]
                if first.end != vertex or second.start != vertex or not _same_curve(first.curve, second.curve):
                    continue
                joined = _ProtoEdge(first.curve, first.t0, first.t1 + second.t1 - second.t0, first.start, second.end)
                self.edges[a] = joined
                for v in (second.end,):
                    if v is not None:
                        at[v] = [a if n == b else n for n in at[v]]
                for loops in self.loops.values():
                    for loop in loops:
                        loop[:] = [entry for entry in loop if entry[0] != b]
        for number in {n for loops in self.loops.values() for loop in loops for n, _ in loop}:
            edge = self.edges[number]
            if edge.start is not None and edge.start == edge.end and edge.curve.period is not None:
                ends = at[edge.start]
                if all(n == number for n in ends):  # nothing else meets a ring's vertex
                    self.edges[number] = _ProtoEdge(edge.curve, edge.t0, edge.t0 + edge.curve.period, None, None)

    # ---- values

    def _freeze(self, solids: list[tuple[str, list[tuple[int, bool]]]]) -> Model:
        vertices = {n: Vertex(p) for n, p in self.points.items()}

        def vertex(n: int | None) -> Vertex | None:
            return None if n is None else vertices[n]

        edges = {n: Edge(e.curve, e.t0, e.t1, vertex(e.start), vertex(e.end)) for n, e in self.edges.items()}
        faces: dict[int, Face] = {}
        for number, loops in self.loops.items():
            made: tuple[Loop, ...] = tuple(tuple(Coedge(edges[n], f) for n, f in loop) for loop in loops)
            along, label = self.along[number]
            faces[number] = Face(self.surfaces[number], made, along, label)
        bodies, names = [], set()
        for name, uses in solids:
            unique, k = name, 2
            while unique in names:
                unique, k = f"{name} {k}", k + 1
            names.add(unique)
            bodies.append(Body(tuple(FaceUse(faces[n], forward) for n, forward in uses), unique))
        return reshared(Model.of(bodies))


def _same_curve(a: Curve, b: Curve) -> bool:
    if a is b:
        return True
    t = np.linspace(0.0, 5.0, 4)
    if a.kind != b.kind or a.kind not in ("line", "circle", "ellipse"):
        return False
    scale = float(np.abs(b.point(t)).max()) + 1.0
    same = np.abs(a.point(a.parameter(b.point(t))) - b.point(t)).max() < 1e-9 * scale
    way = a.derivative(a.parameter(b.point(t)))[0] @ b.derivative(t)[0] > 0.0
    return bool(same and way)


def reshared(model: Model) -> Model:
    """Faces of two bodies on the very same edges and surface become one shared face.

    STEP's solids cannot share a face, but they can share its edges; that is how a bonded contact is
    written, and this is how it is found again.
    """
    first: dict[frozenset[Edge], tuple[Face, Body, bool]] = {}
    bodies: list[Body] = []
    for body in model.bodies:
        uses = list(body.uses)
        for i, use in enumerate(uses):
            key = frozenset(use.face.edges())
            if len(key) == 0:
                continue
            hit = first.get(key)
            if hit is None:
                first[key] = (use.face, body, use.forward)
                continue
            other = hit[0]
            if hit[1] is body or not other.surface.same_as(use.face.surface, 10.0 * model.tolerance, 1.0):
                continue
            at = next(iter(key)).at(0.3)[None]
            if float(use.outward(at)[0] @ FaceUse(other, hit[2]).outward(at)[0]) < 0.0:
                uses[i] = FaceUse(other, not hit[2])
        changed = any(a is not b for a, b in zip(uses, body.uses, strict=True))
        bodies.append(body.with_uses(uses) if changed else body)
    return Model(tuple(bodies), model.tolerance)
