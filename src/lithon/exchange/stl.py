"""Triangles to STL, binary or as text: the model's own watertight tessellation, in millimetres."""

from __future__ import annotations

from pathlib import Path

import numpy as np

from lithon.brep.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.exchange.step_write import save_atomically

_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])


def write_stl(model: Model, path: str | Path, text: bool = False) -> None:
    """Write atomically; as text every body is a solid of its own, the binary kind holds them in one."""
    save_atomically(Path(path), _as_text(model) if text else _as_binary(model))


def _triangles(model: Model) -> list[tuple[str, np.ndarray, np.ndarray]]:
    """Name, corners (m,3,3) and unit normals (m,3) of each body."""
    out = []
    for body in model.bodies:
        points, triangles, _ = body_mesh(body)
        corners = points[triangles]
        normal = np.cross(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
        out.append((body.name, corners, normal / np.maximum(np.linalg.norm(normal, axis=1, keepdims=True), 1e-300)))
    return out


def _as_binary(model: Model) -> bytes:
    parts = _triangles(model)
    records = np.zeros(sum(len(c) for _, c, _ in parts), dtype=_RECORD)
    records["corners"] = np.concatenate([c for _, c, _ in parts])
    records["normal"] = np.concatenate([n for _, _, n in parts])
    return b"Lithon".ljust(80) + np.uint32(len(records)).tobytes() + records.tobytes()


def _as_text(model: Model) -> bytes:
    lines = []
    for name, corners, normals in _triangles(model):
        plain = name.encode("ascii", "replace").decode()
        lines.append(f"solid {plain}")
        for c, n in zip(corners, normals, strict=True):
            lines.append(f"facet normal {n[0]:.9g} {n[1]:.9g} {n[2]:.9g}\nouter loop")
            lines += [f"vertex {p[0]:.9g} {p[1]:.9g} {p[2]:.9g}" for p in c]
            lines.append("endloop\nendfacet")
        lines.append(f"endsolid {plain}")
    return ("\n".join(lines) + "\n").encode("ascii")
