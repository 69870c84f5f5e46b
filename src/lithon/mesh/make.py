"""One call for a mesh: of the kind asked for, or of hexahedra where all bodies can be swept."""

from __future__ import annotations

from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.mesh.hexahedra import hexahedral_mesh
from lithon.mesh.mesh import Mesh
from lithon.mesh.sizing import SizeRules
from lithon.mesh.tetrahedra import tetrahedral_mesh
from lithon.progress import SILENT, Progress


def mesh_of(model: Model, rules: SizeRules, elements: str = "auto", progress: Progress = SILENT) -> Mesh:
    """elements: 'tet', 'hex' or 'auto', which takes tetrahedra where a body cannot be swept.

    Raises Refusal naming what stands in the way, and where.
    """
    if elements == "hex":
        return hexahedral_mesh(model, rules, progress)
    if elements == "auto":
        try:
            return hexahedral_mesh(model, rules, progress)
        except Refusal:
            pass
    return tetrahedral_mesh(model, rules, progress)
