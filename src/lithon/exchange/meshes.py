"""Meshes in the format that a file's suffix names."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from pathlib import Path

from lithon.errors import LithonError
from lithon.exchange.cgns import write_cgns
from lithon.exchange.vtu import write_vtu, write_xdmf
from lithon.mesh.mesh import Mesh

WRITERS: Mapping[str, Callable[[Mesh, str | Path], None]] = {
    ".vtu": write_vtu, ".xdmf": write_xdmf, ".cgns": write_cgns,
}  # fmt: skip


def write_mesh(mesh: Mesh, path: str | Path) -> None:
    """Write atomically. Raises LithonError where the suffix names no format, OSError where the file cannot be."""
    write = WRITERS.get(Path(path).suffix.lower())
    if write is None:
        raise LithonError(f"{Path(path).name} names no format of meshes", remedy=", ".join(WRITERS))
    write(mesh, path)
