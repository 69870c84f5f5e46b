"""Meshes to VTU (VTK's open XML format) and XDMF: the elements with their body and quality, and the sides on the
model's faces, so that loads and supports can be put where they belong."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.exchange.step_write import save_atomically
from lithon.mesh.mesh import Mesh


def write_vtu(mesh: Mesh, path: str | Path) -> None:
    """Write atomically. Cells: the elements, then their sides on faces. Cell data: body (index; -1 on sides), face
    (index in the model; -1 within), scaled_jacobian and smallest_dihedral_degrees (not a number on sides), for
    every label of faces an array of its name, 1 on its sides, and for every body of several one of 'body' and its
    name, 1 on its elements, and so for materials and groups of bodies ('material grey iron'). Of flat elements:
    face is theirs, and the angle is smallest_corner_degrees."""
    _write(mesh, Path(path), "vtu")


def write_xdmf(mesh: Mesh, path: str | Path) -> None:
    """As `write_vtu`, to one XDMF file that holds its numbers itself."""
    _write(mesh, Path(path), "xdmf", data_format="XML")


def _write(mesh: Mesh, path: Path, kind: str, **how: str) -> None:
    import meshio  # only here: it takes as long to load as a part to read

    within = mesh.shape.vtk[mesh.order - 1]
    sides = mesh.elements[:0] if mesh.shape.flat else mesh.full_sides()  # flat elements are those on faces
    on = {3: "triangle", 6: "triangle6", 4: "quad", 8: "quad8"}[sides.shape[1]]
    own = mesh.face.astype(np.int32) if mesh.shape.flat else np.full(len(mesh.elements), -1, dtype=np.int32)
    m, k = len(mesh.elements), len(sides)
    none: Floats = np.full(k, np.nan)
    data: dict[str, list[Any]] = {
        "body": [mesh.body.astype(np.int32), np.full(k, -1, dtype=np.int32)],
        "face": [own, mesh.face.astype(np.int32)[:k]],
        "scaled_jacobian": [mesh.quality.scaled_jacobian, none],
        f"smallest_{mesh.shape.angles}_degrees": [mesh.quality.smallest_angle, none],
    }
    for name in dict.fromkeys(face.label for face in mesh.faces if face.label and face.label not in data):
        named = np.array([face.label == name for face in mesh.faces], dtype=np.int32)
        data[name] = [named[mesh.face] if mesh.shape.flat else np.zeros(m, dtype=np.int32), named[mesh.face][:k]]
    for b, body in enumerate(mesh.bodies if len(mesh.bodies) > 1 else ()):
        data[f"body {body.name}"] = [(mesh.body == b).astype(np.int32), np.zeros(k, dtype=np.int32)]
    for name, numbers in mesh.sets.items():
        data[name] = [np.isin(mesh.body, numbers).astype(np.int32), np.zeros(k, dtype=np.int32)]
    blocks = [(within, mesh.elements), (on, sides)]
    if not k:
        blocks, data = blocks[:1], {name: values[:1] for name, values in data.items()}
    out = meshio.Mesh(mesh.points, blocks, cell_data=data)
    with tempfile.TemporaryDirectory() as folder:
        whole = Path(folder) / f"mesh.{kind}"
        meshio.write(whole, out, **how)
        save_atomically(path, whole.read_bytes())
