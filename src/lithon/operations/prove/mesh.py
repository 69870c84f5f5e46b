"""Mesh: a conformal mesh of all bodies. How it was made is recorded; the mesh itself is made when it is wanted."""

from __future__ import annotations

from dataclasses import replace
from typing import Any, cast

import numpy as np

from lithon.brep.topology import Body, Model
from lithon.mesh.groups import parted
from lithon.mesh.make import mesh_of
from lithon.mesh.mesh import Mesh
from lithon.mesh.second_order import quadratic
from lithon.mesh.sector import repeated
from lithon.operations.marks import Marks, Sort
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Flag, OneOf, length
from lithon.operations.state import Elements
from lithon.words import many


class MakeMesh(Operation):
    """Mesh all bodies: tetrahedra, hexahedra by sweeping, or hexahedra where that goes."""

    on_sheets = True

    elements: str = param(OneOf(title="elements", options=("tet", "hex", "auto", "tri", "quad"), default="tet"))
    order: str = param(OneOf(title="order", options=("1", "2"), default="1", optional=True))
    around: bool = param(Flag(title="all around", help="a sector's mesh repeated to the whole", default=False,
                              optional=True))  # fmt: skip

    approximate: bool = param(Flag(title="approximate", default=False, optional=True,
                                   help="what fails is closed over by triangles"))  # fmt: skip
    lattice: bool = param(Flag(title="from a lattice", default=False, optional=True,
                               help="poor bodies, where that gives better elements"))  # fmt: skip
    most: float | None = param(length("cut off", "what a lattice may cut off of creases at the most", optional=True))

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, Any]:
        return {**super().begun(chosen), "elements": usual(chosen.model)}

    gate = "unchanged"
    replayed = False
    at_once = True
    budget = 3600.0

    def do(self, bench: Bench) -> Made:
        rules = bench.state.rules()
        most = np.inf if self.most is None else self.most
        lattice = most if self.lattice else 0.0
        mesh = mesh_of(bench.model, rules, self.elements, bench.progress, self.approximate, lattice)
        only_skin = mesh.shape.flat and self.elements not in ("tri", "quad")
        if self.order == "2" and not only_skin:
            mesh = quadratic(mesh)[0]
        if self.around:
            mesh = repeated(mesh, bench.model)
        groups = {b: str(w) for b, w in bench.state.marks.all("group").items() if isinstance(b, Body)}
        if groups:
            mesh = parted(mesh, groups)
        mesh = replace(mesh, sets=_sets(bench.state.marks, mesh))
        words = f"mesh, {len(mesh.elements)} {mesh.kind}"
        if mesh.failures:
            words += _shortfall(bench.model, mesh, only_skin)
        if mesh.rounded:
            words += f", {from_lattice(mesh)}"
        return replace(self.noted(bench), mesh=mesh, words=words)

    def noted(self, bench: Bench) -> Made:
        """As if it had been made: how it is made is known afterwards."""
        settings: Any = replace(
            bench.state.settings, elements=cast(Elements, self.elements), order=int(self.order)
        )  # fmt: skip
        return Made(bench.model, f"mesh of {_WORDS[self.elements]}", settings=settings)

    def subject(self) -> str:
        return f"{_WORDS[self.elements]}{', second order' if self.order == '2' else ''}"


def _sets(marks: Marks, mesh: Mesh) -> dict[str, tuple[int, ...]]:
    """The sets of bodies that arrive by name: materials, and groups."""
    out: dict[str, list[int]] = {}
    sorts: tuple[Sort, ...] = ("material", "group")
    for sort in sorts:
        for k, body in enumerate(mesh.bodies):
            word = marks.get(sort, body)
            if word:
                out.setdefault(f"{sort} {word}", []).append(k)
    return {name: tuple(numbers) for name, numbers in out.items()}


def _shortfall(model: Model, mesh: Mesh, only_skin: bool) -> str:
    """What a mesh with failures is not."""
    failed = many(len(mesh.failures), "place")
    if only_skin and not all(b.sheet for b in model.bodies):
        return f", no volume: {failed} failed"
    missing = len([b for b in model.bodies if not b.reference]) - len(mesh.bodies)
    return f", {many(missing, 'body')} not meshed" if missing else f", {failed} left out and closed over"


#: What creases are cut off by, as a share of the mesh's diagonal, below which they are all there.
_KEPT = 1e-6


def from_lattice(mesh: Mesh) -> str:
    """Which bodies are meshed from a lattice, and what that means."""
    names = [mesh.bodies[k].name for k in mesh.rounded]
    what = names[0] if len(names) == 1 else many(len(names), "body")
    off = max(mesh.rounded.values())
    slots = f", slots up to {max(mesh.filled.values()):.2g} mm wide are filled" if mesh.filled else ""
    if off < _KEPT * float(np.linalg.norm(np.ptp(mesh.points, axis=0))):
        return f"{what} from a lattice, creases and all{slots}"
    return f"{what} from a lattice: creases are cut off by up to {off:.2g} mm{slots}"


def usual(model: Model) -> Elements:
    """The elements that are asked for where nothing else is said: on sheets quads where they go."""
    return "auto" if all(b.sheet for b in model.bodies if not b.reference) else "tet"


_WORDS = {
    "tet": "tetrahedra", "hex": "hexahedra", "auto": "hexahedra, or what goes", "tri": "triangles", "quad": "quads",
}  # fmt: skip
