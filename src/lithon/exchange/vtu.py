"""Meshes to VTU (VTK's open XML format): the elements with their body and quality, and the sides on the model's faces,
so that loads and supports can be put where they belong."""

from __future__ import annotations

import tempfile
from pathlib import Path

import numpy as np

from lithon.arrays import Floats, Ints
from lithon.exchange.step_write import save_atomically
from lithon.mesh.mesh import Mesh

#: Corners of an element's edges, in the order of its middle nodes.
_EDGES = {
    10: [[0, 1], [1, 2], [2, 0], [0, 3], [1, 3], [2, 3]],
    20: [[0, 1], [1, 2], [2, 3], [3, 0], [4, 5], [5, 6], [6, 7], [7, 4], [0, 4], [1, 5], [2, 6], [3, 7]],
}


def write_vtu(mesh: Mesh, path: str | Path) -> None:
    """Write atomically. Cells: the elements, then their sides on faces. Cell data: body (index; -1 on sides), face
    (index in the model; -1 within), scaled_jacobian and smallest_dihedral_degrees (not a number on sides), and for
    every label of faces an array of its name, 1 on its sides."""
    import meshio  # only here: it takes as long to load as a part to read

    within = {4: "tetra", 10: "tetra10", 8: "hexahedron", 20: "hexahedron20"}[mesh.elements.shape[1]]
    sides = _with_middles(mesh)
    on = {3: "triangle", 6: "triangle6", 4: "quad", 8: "quad8"}[sides.shape[1]]
    m, k = len(mesh.elements), len(sides)
    none: Floats = np.full(k, np.nan)
    data = {
        "body": [mesh.body.astype(np.int32), np.full(k, -1, dtype=np.int32)],
        "face": [np.full(m, -1, dtype=np.int32), mesh.face.astype(np.int32)],
        "scaled_jacobian": [mesh.quality.scaled_jacobian, none],
        "smallest_dihedral_degrees": [mesh.quality.smallest_dihedral, none],
    }
    for name in dict.fromkeys(face.label for face in mesh.faces if face.label and face.label not in data):
        named = np.array([face.label == name for face in mesh.faces], dtype=np.int32)
        data[name] = [np.zeros(m, dtype=np.int32), named[mesh.face]]
    out = meshio.Mesh(mesh.points, [(within, mesh.elements), (on, sides)], cell_data=data)
    with tempfile.TemporaryDirectory() as folder:
        whole = Path(folder) / "mesh.vtu"
        meshio.write(whole, out)
        save_atomically(Path(path), whole.read_bytes())


def _with_middles(mesh: Mesh) -> Ints:
    """The sides on faces, with the middle nodes of their edges where the elements have them."""
    corners = mesh.triangles
    if mesh.order == 1:
        return corners
    ends = np.sort(mesh.elements[:, _EDGES[mesh.elements.shape[1]]], axis=2).reshape(-1, 2)
    middles = mesh.elements[:, mesh.corners.shape[1] :].ravel()
    n = len(mesh.points)
    keys, first = np.unique(ends[:, 0] * n + ends[:, 1], return_index=True)
    asked = np.sort(np.stack([corners, np.roll(corners, -1, axis=1)], axis=2), axis=2)
    found = middles[first[np.searchsorted(keys, asked[..., 0] * n + asked[..., 1])]]
    return np.concatenate([corners, found], axis=1)
