"""What is said of faces, edges and bodies: names, sizes, divisions, groups, materials."""

from __future__ import annotations

from collections.abc import Sequence

from lithon.errors import Refusal
from lithon.operations.choices import Choice, Entity
from lithon.operations.marks import Sort
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import Count, Words, bodies, edges, faces, length
from lithon.words import many


class NameFaces(Operation):
    """Give faces a name, under which they arrive in the mesh as a set."""

    on_sheets = True

    faces: Choice = param(faces())
    label: str = param(Words(title="name", help="such as: load"))

    def do(self, bench: Bench) -> Made:
        from lithon.brep.naming import named

        out, fresh = named(bench.model, bench.faces(), self.label)
        marks = bench.state.marks.carried(bench.model, out).put("name", fresh, self.label)
        return Made(out, f"name {len(fresh)} face{'s' if len(fresh) > 1 else ''} {self.label}", marks=marks)


class _Said(Operation):
    on_sheets = True
    gate = "unchanged"

    def _put(self, bench: Bench, sort: Sort, things: Sequence[Entity], value: float, words: str) -> Made:
        largest = bench.state.settings.size
        if sort == "size" and value > largest:
            raise Refusal(f"elements are {largest:g} mm everywhere else: a size of its own is smaller",
                          remedy=f"{largest:g} mm or less, or larger elements first")  # fmt: skip
        ignored = bench.state.settings.ignore
        if sort == "size" and ignored is not None and value <= ignored:
            raise Refusal(f"features below {ignored:g} mm are ignored, which is not below elements of {value:g} mm",
                          remedy=f"more than {ignored:g} mm, or a smaller ignore size first")  # fmt: skip
        return Made(bench.model, words, marks=bench.state.marks.put(sort, things, value))


class SizeOnFaces(_Said):
    """Set the element size on faces."""

    faces: Choice = param(faces())
    size: float = param(length("size", "of elements there", above=0.0))

    def do(self, bench: Bench) -> Made:
        found = bench.faces()
        return self._put(bench, "size", found, self.size, f"{self.size:g} mm on {many(len(found), 'face')}")


class SizeOnEdges(_Said):
    """Set the element size along edges."""

    edges: Choice = param(edges())
    size: float = param(length("size", "of elements there", above=0.0))

    def do(self, bench: Bench) -> Made:
        found = bench.edges()
        return self._put(bench, "size", found, self.size, f"{self.size:g} mm on {many(len(found), 'edge')}")


class SizeInBodies(_Said):
    """Set the element size in bodies."""

    bodies: Choice = param(bodies())
    size: float = param(length("size", "of elements there", above=0.0))

    def do(self, bench: Bench) -> Made:
        found = bench.bodies()
        return self._put(bench, "size", found, self.size, f"{self.size:g} mm in {many(len(found), 'body')}")


class Divide(_Said):
    """Set how many elements there are along edges."""

    edges: Choice = param(edges())
    count: int = param(Count(title="elements", help="along each edge", least=1))

    def do(self, bench: Bench) -> Made:
        found = bench.edges()
        if any(e.ring for e in found) and self.count < 3:
            raise Refusal("a closed edge needs three elements at least", remedy="3 or more")
        return self._put(bench, "divisions", found, self.count, f"{self.count} elements on {many(len(found), 'edge')}")


class Group(_Said):
    """Put bodies in a group: meshes are joined within it, and have the same nodes twice where it meets others."""

    bodies: Choice = param(bodies())
    called: str = param(Words(title="name", default="group", optional=True))

    def do(self, bench: Bench) -> Made:
        found = bench.bodies()
        marks = bench.state.marks.put("group", found, self.called)
        return Made(bench.model, f"group {self.called} of {many(len(found), 'body')}", marks=marks)


class SetMaterial(_Said):
    """Say what bodies are made of, by name: their elements arrive in the mesh as a set of that name."""

    bodies: Choice = param(bodies())
    called: str = param(Words(title="name", help="such as: grey iron"))

    def do(self, bench: Bench) -> Made:
        found = bench.bodies()
        marks = bench.state.marks.put("material", found, self.called)
        return Made(bench.model, f"material {self.called} in {many(len(found), 'body')}", marks=marks)
