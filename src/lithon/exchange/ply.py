"""PLY in and out, as text and binary of either byte order. The format knows no unit."""

from __future__ import annotations

import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

import numpy as np

from lithon.brep.faceted import Triangles
from lithon.errors import BadFile
from lithon.exchange.polygons import cut_up

_TYPES = {
    "char": "i1", "int8": "i1", "uchar": "u1", "uint8": "u1", "short": "i2", "int16": "i2", "ushort": "u2",
    "uint16": "u2", "int": "i4", "int32": "i4", "uint": "u4", "uint32": "u4", "float": "f4", "float32": "f4",
    "double": "f8", "float64": "f8",
}  # fmt: skip
_MOST = 1 << 31


@dataclass(slots=True)
class _Element:
    """Properties: (name, type) or (name, type, type of the length) for a list."""

    name: str
    count: int
    properties: list[tuple[str, ...]] = field(default_factory=list)


def read_ply(data: bytes, name: str) -> tuple[list[Triangles], list[str]]:
    """One part and notes. Raises BadFile."""
    stop = data.find(b"end_header")
    if stop < 0:
        raise BadFile("the PLY file is cut off within its header")
    body = data.find(b"\n", stop) + 1
    if body == 0:
        raise BadFile("the PLY file ends with its header")
    order, elements = _header(data[:stop].decode("ascii", "replace"))
    if sum(e.count for e in elements) > len(data):
        raise BadFile("the PLY file says it holds more than its size allows", remedy="export or copy it again")
    try:
        tables = _as_text(data[body:], elements) if order is None else _as_binary(data[body:], elements, order)
    except (ValueError, IndexError) as error:
        raise BadFile(f"the PLY file is cut off or not well formed ({error})") from error
    points, polygons = tables.get("vertex"), tables.get("face")
    if points is None or not len(points) or not polygons:
        raise BadFile("the PLY file holds no faces")
    notes: list[str] = []
    sound = (np.isfinite(points) & (np.abs(points) < 1e12)).all(axis=1)
    kept = [p for p in polygons if all(0 <= k < len(points) and sound[k] for k in p)]
    if len(kept) < len(polygons):
        notes.append(f"{len(polygons) - len(kept)} faces without sensible points left out")
    corners = cut_up(np.asarray(points, dtype=np.float64), kept, notes)
    if not len(corners):
        raise BadFile("the PLY file holds no faces with sensible points")
    used, local = np.unique(corners, return_inverse=True)
    return [Triangles(np.asarray(points[used], dtype=np.float64), local.reshape(-1, 3), name)], notes


def _header(text: str) -> tuple[str | None, list[_Element]]:
    """The byte order (None for text) and the elements."""
    order: str | None = None
    elements: list[_Element] = []
    known = False
    for line in text.splitlines():
        words = line.split()
        try:
            if words[:1] == ["format"]:
                order = {"ascii": None, "binary_little_endian": "<", "binary_big_endian": ">"}[words[1]]
                known = True
            elif words[:1] == ["element"]:
                elements.append(_Element(words[1], int(words[2])))
                if not 0 <= elements[-1].count < _MOST:
                    raise ValueError(words[2])
            elif words[:1] == ["property"]:
                if words[1] == "list":
                    elements[-1].properties.append((words[4], _TYPES[words[3]], _TYPES[words[2]]))
                else:
                    elements[-1].properties.append((words[2], _TYPES[words[1]]))
        except (KeyError, IndexError, ValueError) as error:
            raise BadFile(f"the PLY header holds a line that makes no sense: {line.strip()[:60]!r}") from error
    if not known:
        raise BadFile("the PLY header names no format")
    return order, elements


def _is_corners(name: str) -> bool:
    return name in ("vertex_indices", "vertex_index")


def _xyz(element: _Element) -> list[int]:
    names = [p[0] for p in element.properties]
    if any(c not in names for c in "xyz"):
        raise BadFile("the PLY file's points have no x, y and z")
    return [names.index(c) for c in "xyz"]


def _as_text(data: bytes, elements: list[_Element]) -> dict[str, Any]:
    lines = data.decode("ascii", "replace").split("\n")
    out: dict[str, Any] = {}
    at = 0
    for element in elements:
        rows = lines[at : at + element.count]
        at += element.count
        if len(rows) < element.count or (rows and not rows[-1].strip()):
            raise ValueError(f"fewer rows of {element.name} than it says")
        if element.name == "vertex":
            out["vertex"] = np.array([row.split() for row in rows], dtype=np.float64)[:, _xyz(element)]
        elif element.name == "face":
            polygons = []
            for row in rows:
                words, k = row.split(), 0
                for prop in element.properties:
                    n = int(words[k]) if len(prop) == 3 else 0
                    if len(prop) == 3 and _is_corners(prop[0]):
                        if len(words) < k + 1 + n or n < 0:
                            raise ValueError("a face shorter than it says")
                        polygons.append([int(w) for w in words[k + 1 : k + 1 + n]])
                    k += 1 + n
            out["face"] = polygons
    return out


def _as_binary(data: bytes, elements: list[_Element], order: str) -> dict[str, Any]:
    out: dict[str, Any] = {}
    at = 0
    for element in elements:
        if all(len(p) == 2 for p in element.properties):
            kind = np.dtype([(f"p{k}", order + p[1]) for k, p in enumerate(element.properties)])
            table = np.frombuffer(data, dtype=kind, count=element.count, offset=at)
            at += kind.itemsize * element.count
            if element.name == "vertex":
                out["vertex"] = np.stack([table[f"p{k}"].astype(np.float64) for k in _xyz(element)], axis=1)
            continue
        rows, at = _lists(data, at, element, order)
        if element.name == "face":
            out["face"] = rows
    return out


def _lists(data: bytes, at: int, element: _Element, order: str) -> tuple[list[list[int]], int]:
    """The corner lists of an element with lists; first the usual case of all faces being triangles."""
    parts: list[tuple[str, Any]] = []
    for k, p in enumerate(element.properties):
        parts += [(f"p{k}", order + p[1])] if len(p) == 2 else [(f"n{k}", order + p[2]), (f"p{k}", order + p[1], 3)]  # type: ignore[list-item]
    kind = np.dtype(parts)
    if element.count and len(data) - at >= kind.itemsize * element.count:
        table = np.frombuffer(data, dtype=kind, count=element.count, offset=at)
        if all((table[f"n{k}"] == 3).all() for k, p in enumerate(element.properties) if len(p) == 3):
            which = next((k for k, p in enumerate(element.properties) if _is_corners(p[0])), None)
            return ([] if which is None else table[f"p{which}"].tolist()), at + kind.itemsize * element.count
    rows: list[list[int]] = []
    for _ in range(element.count):
        for p in element.properties:
            n = 1
            if len(p) == 3:
                size = np.dtype(order + p[2])
                n = int(np.frombuffer(data, dtype=size, count=1, offset=at)[0])
                at += size.itemsize
                if n < 0:
                    raise ValueError("a list of negative length")
            kind = np.dtype(order + p[1])
            values = np.frombuffer(data, dtype=kind, count=n, offset=at) if n else np.zeros(0)
            at += kind.itemsize * n
            if len(p) == 3 and _is_corners(p[0]):
                rows.append(values.astype(np.int64).tolist())
    return rows, at


def ply_bytes(parts: Sequence[Triangles]) -> bytes:
    """All parts in one binary set of triangles, coordinates in double precision."""
    points = np.concatenate([p.points for p in parts]).astype("<f8")
    base = np.cumsum([0, *(len(p.points) for p in parts)])
    corners = np.concatenate([p.corners + base[k] for k, p in enumerate(parts)])
    faces = np.zeros(len(corners), dtype=[("n", "u1"), ("corners", "<i4", 3)])
    faces["n"], faces["corners"] = 3, corners
    out = io.BytesIO()
    out.write(
        f"ply\nformat binary_little_endian 1.0\ncomment Lithon, millimetres\nelement vertex {len(points)}\n"
        "property double x\nproperty double y\nproperty double z\n"
        f"element face {len(faces)}\nproperty list uchar int vertex_indices\nend_header\n".encode()
    )
    out.write(points.tobytes())
    out.write(faces.tobytes())
    return out.getvalue()
