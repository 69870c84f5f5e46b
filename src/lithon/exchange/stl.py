"""STL, binary and as text, in and out. The format knows no unit."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from lithon.arrays import Floats, cross_product
from lithon.brep.faceted import Triangles
from lithon.errors import BadFile

_RECORD = np.dtype([("normal", "<f4", 3), ("corners", "<f4", (3, 3)), ("attribute", "<u2")])
_VERTEX = re.compile(rb"vertex\s+(\S+)\s+(\S+)\s+(\S+)", re.I)
_SOLID = re.compile(rb"^[ \t]*(end)?solid\b[ \t]*([^\r\n]*)", re.I | re.M)


def read_stl(data: bytes, name: str) -> tuple[list[Triangles], list[str]]:
    """Parts and notes. Raises BadFile."""
    if len(data) >= 84 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little"):
        return _binary(data, name)
    if data[:512].lstrip()[:5].lower() == b"solid" and re.search(rb"\bfacet\b|\bendsolid\b", data, re.I):
        return _text(data, name)
    if len(data) >= 134:
        return _binary(data, name)
    raise BadFile("the STL file is cut off: it holds not one triangle", remedy="export or copy the file again")


def _binary(data: bytes, name: str) -> tuple[list[Triangles], list[str]]:
    said, there = int.from_bytes(data[80:84], "little"), (len(data) - 84) // 50
    notes = []
    if said != there:
        notes.append(f"the file says it holds {said} triangles, but there are {there}: those were read")
    records = np.frombuffer(data, dtype=_RECORD, count=there, offset=84)
    if there == 0:
        raise BadFile("the STL file holds no triangle")
    with np.errstate(invalid="ignore"):  # bytes that are no numbers are told below
        corners = records["corners"].astype(np.float64)
    return [_soup(corners, name, notes)], notes


def _text(data: bytes, name: str) -> tuple[list[Triangles], list[str]]:
    notes: list[str] = []
    starts = [(m.start(), m.group(2).strip()) for m in _SOLID.finditer(data) if m.group(1) is None]
    parts = []
    for k, (at, title) in enumerate(starts):
        end = starts[k + 1][0] if k + 1 < len(starts) else len(data)
        found = _VERTEX.findall(data, at, end)
        if len(found) % 3:
            notes.append("the file is cut off within a triangle: the triangles before it were read")
            found = found[: len(found) - len(found) % 3]
        if not found:
            continue
        try:
            corners = np.array(found, dtype="S").astype(np.float64).reshape(-1, 3, 3)
        except ValueError as error:
            raise BadFile(f"the STL file holds a coordinate that is no number ({error})") from error
        parts.append(_soup(corners, title.decode("utf-8", "replace") or name, notes))
    if not parts:
        raise BadFile("the STL file holds no triangle")
    return parts, notes


def _soup(corners: Floats, name: str, notes: list[str]) -> Triangles:
    sound = np.asarray((np.isfinite(corners) & (np.abs(corners) < 1e12)).all(axis=(1, 2)))
    if 2 * int(sound.sum()) < len(sound):
        raise BadFile(
            f"{int((~sound).sum())} of {len(sound)} triangles have coordinates that make no sense: this is no STL "
            "file, or it was spoiled on its way",
            remedy="export or copy the file again",
        )
    if not sound.all():
        notes.append(f"{int((~sound).sum())} triangles with coordinates that make no sense left out")
        corners = corners[sound]
    if not len(corners):
        raise BadFile("the STL file holds no triangle with coordinates that make sense")
    return Triangles(corners.reshape(-1, 3), np.arange(3 * len(corners)).reshape(-1, 3), name)


def stl_binary(parts: Sequence[Triangles]) -> bytes:
    """All parts in one set of triangles."""
    corners = [p.points[p.corners] for p in parts]
    records = np.zeros(sum(len(c) for c in corners), dtype=_RECORD)
    records["corners"] = np.concatenate(corners)
    records["normal"] = np.concatenate([_normals(c) for c in corners])
    return b"Lithon".ljust(80) + np.uint32(len(records)).tobytes() + records.tobytes()


def stl_text(parts: Sequence[Triangles]) -> bytes:
    """Every part as a solid of its own."""
    lines = []
    for part in parts:
        corners = part.points[part.corners]
        plain = part.name.encode("ascii", "replace").decode()
        lines.append(f"solid {plain}")
        for c, n in zip(corners, _normals(corners), strict=True):
            lines.append(f"facet normal {n[0]:.9g} {n[1]:.9g} {n[2]:.9g}\nouter loop")
            lines += [f"vertex {p[0]:.9g} {p[1]:.9g} {p[2]:.9g}" for p in c]
            lines.append("endloop\nendfacet")
        lines.append(f"endsolid {plain}")
    return ("\n".join(lines) + "\n").encode("ascii")


def _normals(corners: Floats) -> Floats:
    n = cross_product(corners[:, 1] - corners[:, 0], corners[:, 2] - corners[:, 0])
    return np.asarray(n / np.maximum(np.linalg.norm(n, axis=1, keepdims=True), 1e-300))
