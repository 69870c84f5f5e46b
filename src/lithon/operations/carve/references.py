"""References: named planes, axes and points that stand beside the solid and are asked for by name."""

from __future__ import annotations

from typing import Any

import numpy as np

from lithon.arrays import cross_product
from lithon.brep.topology import Edge, Vertex
from lithon.errors import Refusal
from lithon.geometry.surfaces import Plane
from lithon.operations.carve.carve import across, cut_of
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import About, At, CutAt, Words
from lithon.operations.places import Axis, Cut, Spot, Triple
from lithon.operations.references import Reference


def _three(values: Any) -> Triple:
    x, y, z = (float(c) + 0.0 for c in values)
    return x, y, z


class ReferencePlane(Operation):
    """Draw a plane that others can be asked for: midway, off a face, through points, turned about an edge."""

    plane: Cut = param(CutAt(title="plane", help="such as: z = 3", plane=True))
    called: str = param(Words(title="name", default="plane", optional=True))

    gate = "unchanged"

    @classmethod
    def of(cls, chosen: Chosen) -> ReferencePlane | None:
        cut = cut_of(chosen)
        plane = cut is not None and cut.way in ("midway", "offset", "through")
        return cls(plane=cut) if plane else None

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        made = cls.of(chosen)
        return {"plane": made.plane if made is not None else across(chosen), "called": "plane"}

    def do(self, bench: Bench) -> Made:
        surface = bench.surface("plane")
        assert isinstance(surface, Plane)
        made = Reference(self.called, "plane", _three(surface.frame.origin), _three(surface.frame.z))
        return Made(bench.model, f"reference plane {self.called}", references=bench.state.references.put(made))


class ReferenceAxis(Operation):
    """Draw an axis that others can be asked for: of a round face, along an edge, where two planes meet."""

    axis: Axis = param(About(title="axis", help="such as: z"))
    called: str = param(Words(title="name", default="axis", optional=True))

    gate = "unchanged"

    @classmethod
    def of(cls, chosen: Chosen) -> ReferenceAxis | None:
        axis = axis_of(chosen)
        return None if axis is None else cls(axis=axis)

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {"axis": axis_of(chosen), "called": "axis"}

    def do(self, bench: Bench) -> Made:
        origin, way = bench.given["axis"]
        made = Reference(self.called, "axis", _three(origin), _three(way))
        return Made(bench.model, f"reference axis {self.called}", references=bench.state.references.put(made))


class ReferencePoint(Operation):
    """Mark a point that others can be asked for."""

    at: Spot = param(At(title="at", help="such as: 0 0 5"))
    called: str = param(Words(title="name", default="point", optional=True))

    gate = "unchanged"

    @classmethod
    def of(cls, chosen: Chosen) -> ReferencePoint | None:
        items: list[Vertex | Edge] = [*chosen.vertices, *chosen.edges]
        return cls(at=Spot.on_entity(items[0])) if len(items) == 1 and not chosen.faces else None

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        made = cls.of(chosen)
        return {"at": made.at if made is not None else None, "called": "point"}

    def do(self, bench: Bench) -> Made:
        made = Reference(self.called, "point", _three(bench.given["at"]))
        return Made(bench.model, f"reference point {self.called}", references=bench.state.references.put(made))


class DropReference(Operation):
    """Take a named plane, axis or point away."""

    called: str = param(Words(title="name"))

    gate = "unchanged"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False

    def do(self, bench: Bench) -> Made:
        if all(r.name != self.called for r in bench.state.references):
            raise Refusal(f"there is no reference {self.called!r}", remedy="the names stand in the Ledger")
        return Made(bench.model, f"drop reference {self.called}",
                    references=bench.state.references.without(self.called))  # fmt: skip


def axis_of(chosen: Chosen) -> Axis | None:
    """The axis that what is in hand describes: a straight or round edge, a round face, two planes that meet."""
    if chosen.vertices or (chosen.edges and chosen.faces):
        return None
    if len(chosen.edges) == 1 and chosen.edges[0].curve.kind in ("line", "circle"):
        return Axis.along(chosen.edges[0])
    planes = [f for f in chosen.faces if isinstance(f.surface, Plane)]
    if len(planes) == len(chosen.faces) == 2:
        a, b = (f.surface.frame.z for f in planes)
        return Axis.where(*planes) if float(np.linalg.norm(cross_product(a, b))) > 1e-9 else None
    one = len(chosen.faces) == 1 and chosen.faces[0].surface.kind in ("cylinder", "cone", "torus")
    return Axis.along(chosen.faces[0]) if one else None
