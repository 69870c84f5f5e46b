"""Meshes to CGNS, the open standard of the CFD General Notation System (SIDS, and its mapping to HDF5): one zone of
unstructured elements; labels of faces are families of boundary conditions, bodies are regions of the zone."""

from __future__ import annotations

import tempfile
from pathlib import Path
from typing import Any

import numpy as np

from lithon.arrays import Ints
from lithon.exchange.step_write import save_atomically
from lithon.mesh.mesh import Mesh

#: What the standard calls elements, by their corners' and edges' nodes.
_TYPES = {("tri", 3): 5, ("tri", 6): 6, ("quad", 4): 7, ("quad", 8): 8, ("tet", 4): 10, ("tet", 10): 11,
          ("hex", 8): 17, ("hex", 20): 18}  # fmt: skip
#: Of a hexahedron of second order the upright edges come before those of the top, here; ours follow VTK.
_HEX20 = np.array([*range(12), 16, 17, 18, 19, 12, 13, 14, 15])
_LONGEST = 32
_VERSION = 4.4


def write_cgns(mesh: Mesh, path: str | Path) -> None:
    """Write atomically: points in mm, elements (of first or second order), then their sides on the model's faces.
    For every name of a face a family, a boundary condition on its sides, and the region of its nodes; for every body a
    region of its elements; for every material and group of bodies a family and a region of its elements."""
    import h5py  # only here: few ask for it

    with tempfile.TemporaryDirectory() as folder:
        whole = Path(folder) / "mesh.cgns"
        with h5py.File(whole, "w", libver=("earliest", "v110")) as file:
            _root(file)
            _fill(_Node(file), mesh)
        save_atomically(Path(path), whole.read_bytes())


def _fill(root: _Node, mesh: Mesh) -> None:
    dim = 2 if mesh.shape.flat else 3
    root.put("CGNSLibraryVersion", "CGNSLibraryVersion_t", np.array([_VERSION], dtype=np.float32))
    base = root.put("Base", "CGNSBase_t", np.array([dim, 3], dtype=np.int32))
    n, m = len(mesh.points), len(mesh.elements)
    zone = base.put("Zone", "Zone_t", np.array([[n], [m], [0]], dtype=np.int64))
    zone.put("ZoneType", "ZoneType_t", "Unstructured")
    grid = zone.put("GridCoordinates", "GridCoordinates_t")
    for k, axis in enumerate("XYZ"):
        grid.put(f"Coordinate{axis}", "DataArray_t", np.ascontiguousarray(mesh.points[:, k]))
    _section(zone, "Elements", mesh.shape.short, mesh.elements, 1)
    sides = np.zeros((0, 0), dtype=np.int64) if mesh.shape.flat else mesh.full_sides()
    if len(sides):
        _section(zone, "Sides", "tri" if sides.shape[1] in (3, 6) else "quad", sides, m + 1)
    first = 1 if mesh.shape.flat else m + 1
    conditions = zone.put("ZoneBC", "ZoneBC_t")
    taken: set[str] = {"Zone"}
    for name in dict.fromkeys(face.label for face in mesh.faces if face.label):
        own = np.flatnonzero(np.array([f.label == name for f in mesh.faces])[mesh.face])
        if not len(own):
            continue
        short = _short(name, taken)
        base.put(short, "Family_t").put("FamilyBC", "FamilyBC_t", "BCTypeUserDefined")
        condition = conditions.put(short, "BC_t", "FamilySpecified")
        condition.put("FamilyName", "FamilyName_t", short)
        condition.put("GridLocation", "GridLocation_t", "EdgeCenter" if dim == 1 else "FaceCenter")
        condition.put("PointList", "IndexArray_t", (own + first)[:, None])
        cells = mesh.elements[own] if mesh.shape.flat else sides[own]
        _region(zone, f"{short} nodes", 0, "Vertex", np.unique(cells) + 1, taken, short)
    for b, body in enumerate(mesh.bodies):
        rows = np.flatnonzero(mesh.body == b) + 1
        _region(zone, body.name or f"body {b + 1}", dim, "CellCenter", rows, taken)
    for name, numbers in mesh.sets.items():
        rows, short = np.flatnonzero(np.isin(mesh.body, numbers)) + 1, _short(name, taken)
        base.put(short, "Family_t")
        _region(zone, f"{short} elements", dim, "CellCenter", rows, taken, short)


def _section(zone: _Node, name: str, short: str, cells: Ints, first: int) -> None:
    kind = _TYPES[(short, cells.shape[1])]
    rows = cells[:, _HEX20] if cells.shape[1] == 20 else cells
    section = zone.put(name, "Elements_t", np.array([kind, 0], dtype=np.int32))
    section.put("ElementRange", "IndexRange_t", np.array([first, first + len(cells) - 1], dtype=np.int64))
    section.put("ElementConnectivity", "DataArray_t", (rows + 1).astype(np.int64).ravel())


def _region(zone: _Node, name: str, dim: int, where: str, rows: Ints, taken: set[str], family: str = "") -> None:
    region = zone.put(_short(name, taken), "ZoneSubRegion_t", np.array([max(dim, 1)], dtype=np.int32))
    region.put("GridLocation", "GridLocation_t", where)
    region.put("PointList", "IndexArray_t", rows.astype(np.int64)[:, None])
    if family:
        region.put("FamilyName", "FamilyName_t", family)


def _short(name: str, taken: set[str]) -> str:
    """A name as the standard allows it, of 32 letters at most and unlike the others."""
    plain = name.replace("/", "-").strip() or "unnamed"
    plain = plain if plain not in (".", "..") else "unnamed"
    short, k = plain.encode("ascii", "replace").decode()[:_LONGEST], 2
    while short in taken:
        tail = f" {k}"
        short, k = plain.encode("ascii", "replace").decode()[: _LONGEST - len(tail)] + tail, k + 1
    taken.add(short)
    return short


class _Node:
    """A node of the standard as a group of HDF5."""

    def __init__(self, group: Any):
        self.group = group

    def put(self, name: str, label: str, data: Any = None) -> _Node:
        """A child with what it holds: nothing, text or numbers; arrays run the other way round than in the standard."""
        group = self.group.create_group(name, track_order=True)
        _mark(group, name, label, "MT" if data is None else _kind(data))
        group.attrs["flags"] = np.array([1], dtype=np.int32)
        if data is not None:
            group.create_dataset(" data", data=_bytes(data) if isinstance(data, str) else data)
        return _Node(group)


def _kind(data: Any) -> str:
    if isinstance(data, str):
        return "C1"
    return {"int32": "I4", "int64": "I8", "float32": "R4", "float64": "R8"}[str(data.dtype)]


def _bytes(text: str) -> Any:
    return np.frombuffer(text.encode("ascii"), dtype=np.int8)


def _mark(group: Any, name: str, label: str, kind: str) -> None:
    for key, text, size in (("name", name, 33), ("label", label, 33), ("type", kind, 3)):
        group.attrs.create(key, np.bytes_(text), dtype=f"S{size}")


def _root(file: Any) -> None:
    _mark(file, "HDF5 MotherNode", "Root Node of HDF5 File", "MT")
    for key, text, size in ((" format", "IEEE_LITTLE_32", 15), (" hdf5version", _library(), 33)):
        file.create_dataset(key, data=np.frombuffer(text.encode("ascii").ljust(size, b"\0"), dtype=np.int8))


def _library() -> str:
    import h5py

    return f"HDF5 Version {h5py.version.hdf5_version}"
