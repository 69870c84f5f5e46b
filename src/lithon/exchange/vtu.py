"""Meshes to VTU (VTK's open XML format), with the body and the quality of each element."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from lithon.exchange.step_write import save_atomically
from lithon.mesh.mesh import Mesh


def write_vtu(mesh: Mesh, path: str | Path) -> None:
    """Write atomically. Cell data: body (index), scaled_jacobian, smallest_dihedral_degrees."""
    import meshio  # only here: it takes as long to load as a part to read

    kind = {4: "tetra", 10: "tetra10", 8: "hexahedron", 20: "hexahedron20"}[mesh.elements.shape[1]]
    out = meshio.Mesh(
        mesh.points,
        [(kind, mesh.elements)],
        cell_data={
            "body": [mesh.body.astype(np.int32)],
            "scaled_jacobian": [mesh.quality.scaled_jacobian],
            "smallest_dihedral_degrees": [mesh.quality.smallest_dihedral],
        },
    )
    with tempfile.TemporaryDirectory() as folder:
        whole = Path(folder) / "mesh.vtu"
        meshio.write(whole, out)
        save_atomically(Path(path), whole.read_bytes())
