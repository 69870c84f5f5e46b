"""One call for a mesh: of the kind asked for, or of hexahedra where all bodies can be swept."""

from __future__ import annotations

from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.mesh.hexahedra import hexahedral_mesh
from lithon.mesh.mesh import Mesh
from lithon.mesh.partly import what_can
from lithon.mesh.sheets import quad_mesh, triangle_mesh
from lithon.mesh.sizing import SizeRules
from lithon.progress import SILENT, Progress


def mesh_of(
    model: Model, rules: SizeRules, elements: str = "auto", progress: Progress = SILENT, approximate: bool = False,
    lattice: float = 0.0,
) -> Mesh:  # fmt: skip
    """elements: 'tet', 'hex' or 'auto', which takes tetrahedra where a body cannot be swept; 'tri' and 'quad' cover the
    faces, of sheets or of the skins of solids. 'auto' takes quads or triangles where all bodies are sheets.

    Where tetrahedra fail in some bodies, the mesh is that of the others, and its `failures` say where and why; where
    they fail in all, it is triangles on the faces that do not. `approximate`: what fails is left out and closed over;
    `lattice`: bodies whose elements would be poor are meshed from one where that is better and cuts off no more than
    this of their creases (mm).
    Raises Refusal naming what stands in the way, and where.
    """
    if any(body.reference for body in model.bodies):
        model = Model(tuple(body for body in model.bodies if not body.reference), model.tolerance)
    sheets = [body for body in model.bodies if body.sheet]
    if elements == "auto" and len(sheets) == len(model.bodies):
        try:
            return quad_mesh(model, rules, progress)
        except Refusal:
            return triangle_mesh(model, rules, progress)
    if elements in ("tri", "quad"):
        return (triangle_mesh if elements == "tri" else quad_mesh)(model, rules, progress)
    if sheets:
        raise Refusal(
            f"{sheets[0].name} is a sheet: it carries triangles or quads",
            remedy="triangles or quads" if len(sheets) == len(model.bodies) else "drop the sheets or the solids first",
            entities=sheets[0].faces,
        )
    if elements == "hex":
        return hexahedral_mesh(model, rules, progress)
    if elements == "auto":
        try:
            return hexahedral_mesh(model, rules, progress)
        except Refusal:
            pass
    return what_can(model, rules, progress, approximate, lattice)
