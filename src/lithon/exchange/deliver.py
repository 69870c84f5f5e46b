"""Triangles of a model to STL, OBJ, PLY and 3MF: its own watertight tessellation, in millimetres."""

from __future__ import annotations

from pathlib import Path

from lithon.brep.faceted import Triangles
from lithon.brep.tessellation.tessellate import body_mesh
from lithon.brep.topology import Model
from lithon.errors import Refusal
from lithon.exchange.obj import obj_text
from lithon.exchange.ply import ply_bytes
from lithon.exchange.step_write import save_atomically
from lithon.exchange.stl import stl_binary, stl_text
from lithon.exchange.threemf import threemf_bytes

_WRITERS = {".stl": stl_binary, ".obj": obj_text, ".ply": ply_bytes, ".3mf": threemf_bytes}
#: The formats of triangles, as suffixes without their dot.
TRIANGLE_KINDS = tuple(suffix[1:] for suffix in _WRITERS)


def triangles_of(model: Model) -> list[Triangles]:
    """The triangles of each body."""
    out = []
    for body in model.bodies:
        points, corners, _ = body_mesh(body)
        out.append(Triangles(points, corners, body.name, body.colour))
    return out


def write_triangles(model: Model, path: str | Path, text: bool = False) -> None:
    """Write atomically, in the format that the suffix names; `text` is for STL. Raises Refusal."""
    path = Path(path)
    writer = _WRITERS.get(path.suffix.lower())
    if writer is None:
        raise Refusal(f"triangles are not written as {path.suffix or 'a file without suffix'}",
                      remedy=f"one of {', '.join(_WRITERS)}")  # fmt: skip
    save_atomically(path, stl_text(triangles_of(model)) if text else writer(triangles_of(model)))
