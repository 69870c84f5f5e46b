"""Which solids a STEP file holds, in which units, under which names and colours, and where they stand.

Representations are the nodes of a graph: a plain relationship says that two are one and the same, a
relationship with a transformation or a mapped item places one inside another (ISO 10303-43, -44).
"""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Iterator
from contextlib import suppress
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.errors import BadFile
from lithon.exchange.part21 import Exchange, Instance, Ref, Typed

SOLIDS = ("MANIFOLD_SOLID_BREP", "FACETED_BREP", "BREP_WITH_VOIDS")
SHEETS = ("SHELL_BASED_SURFACE_MODEL", "FACE_BASED_SURFACE_MODEL")
TRIANGLES = ("TESSELLATED_SOLID", "TESSELLATED_SHELL", "TRIANGULATED_FACE", "COMPLEX_TRIANGULATED_FACE",
             "TRIANGULATED_SURFACE_SET", "COMPLEX_TRIANGULATED_SURFACE_SET")  # fmt: skip
_PREFIX = {
    "MILLI": 1.0, "CENTI": 10.0, "DECI": 100.0, "DECA": 1e4, "HECTO": 1e5, "KILO": 1e6, "MEGA": 1e9,
    "MICRO": 1e-3, "NANO": 1e-6, None: 1000.0,
}  # fmt: skip
_DEEPEST = 60
_MOST = 50_000


@dataclass(frozen=True, slots=True, eq=False)
class Placed:
    """A shape of the file at one place: units in mm and radians, motion (4,4) in mm, path of part names."""

    shape: Instance
    scale: float
    radians: float
    motion: Floats
    path: tuple[str, ...]


@dataclass(slots=True)
class _Node:
    """What stands for one representation, or several that are one and the same."""

    shapes: list[tuple[Instance, Instance]] = field(default_factory=list)
    children: list[tuple[int, Floats, str]] = field(default_factory=list)
    name: str = ""


class Assembly:
    """The placed shapes of a file."""

    def __init__(self, exchange: Exchange):
        self.x = exchange
        self.notes: list[str] = []
        self._same: dict[int, int] = {}
        self._units: dict[int, tuple[float, float]] = {}

    # ---- the graph

    def placed(self) -> Iterator[Placed]:
        """Every solid, sheet model and set of triangles, as often as it is placed."""
        nodes = self._nodes()
        inner = {child for node in nodes.values() for child, _, _ in node.children}
        seen: set[int] = set()
        count = 0
        for start in nodes:
            if start in inner:
                continue
            stack: list[tuple[int, Floats, tuple[str, ...], tuple[int, ...]]] = [(start, np.eye(4), (), ())]
            while stack:
                at, motion, path, above = stack.pop()
                if at in above or len(above) > _DEEPEST:
                    self.notes.append("an assembly that holds itself is cut short")
                    continue
                node = nodes[at]
                for shape, representation in node.shapes:
                    seen.add(shape.number)
                    count += 1
                    if count > _MOST:
                        raise BadFile(f"the STEP file places more than {_MOST} parts")
                    yield Placed(shape, *self.units(representation), motion, path)
                for child, place, name in reversed(node.children):
                    stack.append((child, motion @ place, (*path, name or nodes[child].name), (*above, at)))
        own = {shape.number: representation for node in nodes.values() for shape, representation in node.shapes}
        for shape in self.x.of_kind(*SOLIDS, *SHEETS):
            if shape.number in seen or shape.kind not in (*SOLIDS, *SHEETS):
                continue
            if shape.number in own:
                self.notes.append(
                    f"the solid #{shape.number} is placed only by an assembly that holds itself: "
                    "it stands where it was modelled"
                )
                yield Placed(shape, *self.units(own[shape.number]), np.eye(4), ())
            else:
                self.notes.append(f"the solid #{shape.number} stands in no representation: millimetres assumed")
                yield Placed(shape, 1.0, 1.0, np.eye(4), ())

    def _root(self, number: int) -> int:
        while self._same.get(number, number) != number:
            self._same[number] = self._same.get(self._same[number], self._same[number])
            number = self._same[number]
        return number

    def _nodes(self) -> dict[int, _Node]:
        kinds = (*SOLIDS, *SHEETS, *TRIANGLES)
        shapes = [
            r for r in self.x.of_kind(r"\w*REPRESENTATION") if len(r.values) > 2 and isinstance(r.values[1], list)
        ]
        known = {r.number for r in shapes}
        placements = []
        for relation in self.x.of_kind("REPRESENTATION_RELATIONSHIP", "SHAPE_REPRESENTATION_RELATIONSHIP"):
            ends = relation.parts.get("REPRESENTATION_RELATIONSHIP") or relation.values
            if len(ends) < 4 or not {int(e) for e in ends[2:4] if isinstance(e, Ref)} <= known:
                continue
            one, two = int(ends[2]), int(ends[3])
            with_motion = relation.parts.get("REPRESENTATION_RELATIONSHIP_WITH_TRANSFORMATION")
            if with_motion:
                placements.append((relation.number, one, two, with_motion[0]))
            else:
                self._same[self._root(two)] = self._root(one)
        nodes: dict[int, _Node] = defaultdict(_Node)
        names = self._names()
        for r in shapes:
            node = nodes[self._root(r.number)]
            node.name = node.name or names.get(r.number, "")
            for item in r.values[1]:
                try:
                    instance = self.x.get(item)
                    if instance.kind in kinds:
                        if all(instance.number != s.number for s, _ in node.shapes):
                            node.shapes.append((instance, r))
                    elif "MAPPED_ITEM" in instance.parts:
                        self._mapped(instance, r, node)
                except (BadFile, IndexError, TypeError, ValueError) as error:
                    self.notes.append(f"an item of the representation #{r.number} is left out: {error}")
        parents = self._parents()
        for number, one, two, operator in placements:
            child, parent = (one, two) if parents.get(number, (one, two)) != (two, one) else (two, one)
            try:
                motion = self._between(operator, child, parent, child == one)
            except (BadFile, IndexError, TypeError, ValueError) as error:
                self.notes.append(f"the placement #{number} is left out: {error}")
                continue
            nodes[self._root(parent)].children.append((self._root(child), motion, names.get(-number, "")))
        return dict(nodes)

    def _mapped(self, item: Instance, owner: Instance, node: _Node) -> None:
        values = item.parts["MAPPED_ITEM"]
        if len(values) < 3:  # complex instance: the name stands in another part
            source, target = values[-2:]
        else:
            source, target = values[1:3]
        the_map = self.x.get(source)
        values = the_map.parts.get("REPRESENTATION_MAP") or the_map.values
        inner = self.x.get(values[1])
        scale, inner_scale = self.units(owner)[0], self.units(inner)[0]
        motion = self._place(target, scale) @ np.linalg.inv(self._place(values[0], inner_scale))
        node.children.append((self._root(inner.number), motion, ""))

    def _between(self, operator: Any, child: int, parent: int, straight: bool) -> Floats:
        """The motion that takes a child into its parent."""
        transform = self.x.get(operator)
        low, high = self.units(self.x.get(Ref(child)))[0], self.units(self.x.get(Ref(parent)))[0]
        if "ITEM_DEFINED_TRANSFORMATION" in transform.parts:
            first, second = transform.values[2:4]
            if not straight:
                first, second = second, first
            return self._place(second, high) @ np.linalg.inv(self._place(first, low))
        motion = self._place(operator, high)
        return motion if straight else np.asarray(np.linalg.inv(motion))

    def _place(self, ref: Any, scale: float) -> Floats:
        """The matrix (4,4) of a placement or a transformation operator, lengths in mm."""
        place = self.x.get(ref)
        out = np.eye(4)
        if "CARTESIAN_TRANSFORMATION_OPERATOR_3D" in place.parts or "CARTESIAN_TRANSFORMATION_OPERATOR" in place.parts:
            flat = [v for part in place.parts.values() for v in part]
            refs = [v for v in flat if isinstance(v, Ref) or v is None]
            kinds = [self.x.get(v).kind if v is not None else None for v in refs]
            origin = next(v for v, k in zip(refs, kinds, strict=True) if k == "CARTESIAN_POINT")
            axes = [self._vector(v) if k == "DIRECTION" else None
                    for v, k in zip(refs, kinds, strict=True) if k != "CARTESIAN_POINT"]  # fmt: skip
            stretch = next((float(v) for v in flat if isinstance(v, float)), 1.0)
            x, y, z = ([*axes, None, None, None])[:3]
            z = np.array([0.0, 0.0, 1.0]) if z is None else z
            x = (np.array([1.0, 0.0, 0.0]) if x is None else x) - 0.0
            x = x - (x @ z) * z
            x /= np.linalg.norm(x)
            across = cross_product(z, x)
            if y is not None and float(across @ y) < 0.0:
                across = -across  # a mirror
            if abs(stretch - 1.0) > 1e-9:
                raise BadFile(f"the placement #{place.number} scales by {stretch:g}: a part is only moved or mirrored")
            out[:3, :3] = np.stack([x, across, z], axis=1)
            out[:3, 3] = scale * self._triple(origin)
            return out
        if place.kind != "AXIS2_PLACEMENT_3D":
            raise BadFile(f"#{place.number} is no placement")
        z = self._vector(place.values[2]) if place.values[2] is not None else np.array([0.0, 0.0, 1.0])
        hint = self._vector(place.values[3]) if len(place.values) > 3 and place.values[3] is not None else None
        if hint is None or np.linalg.norm(cross_product(z, hint)) < 1e-9:
            hint = np.eye(3)[int(np.argmin(np.abs(z)))] if abs(z[0]) > 0.9 else np.array([1.0, 0.0, 0.0])
        x = hint - (hint @ z) * z
        x /= np.linalg.norm(x)
        out[:3, :3] = np.stack([x, cross_product(z, x), z], axis=1)
        out[:3, 3] = scale * self._triple(place.values[1])
        return out

    def _triple(self, ref: Any) -> Floats:
        point = self.x.get(ref, "CARTESIAN_POINT", "DIRECTION")
        out = np.array([float(v) for v in point.values[1]])
        if out.shape != (3,) or not np.isfinite(out).all() or np.abs(out).max() > 1e12:
            raise BadFile(f"entity #{point.number} holds coordinates that make no sense")
        return out

    def _vector(self, ref: Any) -> Floats:
        out = self._triple(ref)
        size = float(np.linalg.norm(out))
        if size == 0.0:
            raise BadFile(f"the direction #{int(ref)} has no length")
        return np.asarray(out / size)

    # ---- names and parents

    def _definitions(self) -> dict[int, int]:
        """Product definition, or usage of one, to representation."""
        out = {}
        for link in self.x.of_kind("SHAPE_DEFINITION_REPRESENTATION"):
            try:
                shape = self.x.get(link.values[0])
                out[int(shape.values[2])] = int(link.values[1])
            except (BadFile, IndexError, TypeError, ValueError):
                continue
        return out

    def _names(self) -> dict[int, str]:
        """Part names by representation, and by the negative number of a placing relationship."""
        out: dict[int, str] = {}
        for definition, representation in self._definitions().items():
            name = self._product(Ref(definition))
            if name:
                out[representation] = name
        for number, usage in self._usages():
            name = self._product(usage.values[4])
            own = str(usage.values[1] or "").strip() or str(usage.values[0] or "").strip()
            out[-number] = name or own
        return out

    def _product(self, definition: Any) -> str:
        try:
            formation = self.x.get(self.x.get(definition).values[2])
            product = self.x.get(formation.values[2])
            return str(product.values[1] or product.values[0] or "").strip()
        except (BadFile, IndexError, TypeError, ValueError):
            return ""

    def _usages(self) -> Iterator[tuple[int, Instance]]:
        """Placing relationships with the usage of a part that they belong to."""
        for link in self.x.of_kind("CONTEXT_DEPENDENT_SHAPE_REPRESENTATION"):
            try:
                usage = self.x.get(self.x.get(link.values[1]).values[2])
                if usage.kind == "NEXT_ASSEMBLY_USAGE_OCCURRENCE":
                    yield int(link.values[0]), usage
            except (BadFile, IndexError, TypeError, ValueError):
                continue

    def _parents(self) -> dict[int, tuple[int, int]]:
        """(child, parent) representations of placing relationships, as their products say it."""
        shown = self._definitions()
        out = {}
        for number, usage in self._usages():
            child, parent = shown.get(int(usage.values[4])), shown.get(int(usage.values[3]))
            if child is not None and parent is not None:
                out[number] = (self._root(child), self._root(parent))
        # Both ends are given as the relationship's own ones.
        ends: dict[int, tuple[int, int]] = {}
        for number, (child, parent) in out.items():
            relation = self.x.get(Ref(number))
            values = relation.parts.get("REPRESENTATION_RELATIONSHIP") or relation.values
            one, two = int(values[2]), int(values[3])
            if self._root(one) == parent and self._root(two) == child:
                ends[number] = (two, one)
            else:
                ends[number] = (one, two)
        return ends

    # ---- units

    def units(self, representation: Instance) -> tuple[float, float]:
        """Millimetres in the length unit and radians in the angle unit of a representation."""
        context = representation.values[2]
        key = int(context) if isinstance(context, Ref) else -1
        if key not in self._units:
            self._units[key] = self._unit(context), self._angle(context)
        return self._units[key]

    def _assigned(self, context: Any) -> Iterator[Instance]:
        parts = self.x.get(context).parts if isinstance(context, Ref) else {}
        for ref in (parts.get("GLOBAL_UNIT_ASSIGNED_CONTEXT") or [[]])[0]:
            yield self.x.get(ref)

    def _unit(self, context: Any) -> float:
        for unit in self._assigned(context):
            if "LENGTH_UNIT" in unit.parts:
                return self._length_unit(unit, 0)
        self.notes.append("the file names no length unit: millimetres assumed")
        return 1.0

    def _angle(self, context: Any) -> float:
        for unit in self._assigned(context):
            if "PLANE_ANGLE_UNIT" in unit.parts and "CONVERSION_BASED_UNIT" in unit.parts:
                return self._factor(self.x.get(unit.parts["CONVERSION_BASED_UNIT"][1]), "angle", unit.number)
        return 1.0

    def _factor(self, measure: Instance, kind: str, number: int) -> float:
        values = measure.values if measure.values else measure.parts.get("MEASURE_WITH_UNIT", [0.0])
        value = values[0]
        factor = float(value.values[0] if isinstance(value, Typed) else value)
        if not np.isfinite(factor) or factor <= 0.0:
            raise BadFile(f"the {kind} unit #{number} makes no sense")
        return factor

    def accuracy(self) -> float:
        """How exactly (mm) the file says that its places are known, the least where several do; 0 where none does."""
        out = 0.0
        for measure in self.x.of_kind("UNCERTAINTY_MEASURE_WITH_UNIT"):
            with suppress(BadFile, KeyError, IndexError, TypeError, ValueError):
                unit = self.x.get(measure.values[1])
                if "LENGTH_UNIT" in unit.parts:
                    told = self._factor(measure, "accuracy", measure.number) * self._length_unit(unit, 0)
                    out = max(out, told)
        return out

    def _length_unit(self, unit: Instance, depth: int) -> float:
        if "SI_UNIT" in unit.parts:
            return _PREFIX[unit.parts["SI_UNIT"][0]]
        measure = self.x.get(unit.parts["CONVERSION_BASED_UNIT"][1])
        if depth > 4:
            raise BadFile(f"the length unit #{unit.number} makes no sense")
        values = measure.values if measure.values else measure.parts["MEASURE_WITH_UNIT"]
        return self._factor(measure, "length", unit.number) * self._length_unit(self.x.get(values[1]), depth + 1)

    # ---- colours

    def colours(self) -> dict[int, tuple[float, float, float]]:
        """Colours of styled solids and faces, by their numbers."""
        out = {}
        for styled in self.x.of_kind("STYLED_ITEM", "OVER_RIDING_STYLED_ITEM"):
            values = styled.parts.get("STYLED_ITEM") or styled.values
            try:
                rgb = self._rgb(values[-2], 0)
                if rgb is not None:
                    out[int(values[-1])] = rgb
            except (BadFile, IndexError, TypeError, ValueError):
                continue
        return out

    def _rgb(self, value: Any, depth: int) -> tuple[float, float, float] | None:
        if depth > 10:
            return None
        for ref in value if isinstance(value, list) else [value]:
            if isinstance(ref, list | Typed):
                found = self._rgb(ref.values if isinstance(ref, Typed) else ref, depth + 1)
            elif isinstance(ref, Ref):
                instance = self.x.get(ref)
                if instance.kind == "COLOUR_RGB":
                    r, g, b = (min(max(float(c), 0.0), 1.0) for c in instance.values[1:4])
                    return r, g, b
                found = self._rgb([v for part in instance.parts.values() for v in part], depth + 1)
            else:
                continue
            if found is not None:
                return found
        return None
