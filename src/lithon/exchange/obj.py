"""OBJ in and out: points, polygons and groups. The format knows no unit."""

from __future__ import annotations

import re
from collections.abc import Sequence

import numpy as np

from lithon.brep.faceted import Triangles
from lithon.errors import BadFile
from lithon.exchange.polygons import cut_up

_POINT = re.compile(r"^[ \t]*v[ \t]+(\S+)[ \t]+(\S+)[ \t]+(\S+)", re.M)
_LINE = re.compile(r"^[ \t]*(v|f|o|g)[ \t]+([^\r\n]*)", re.M)


def read_obj(data: bytes, name: str) -> tuple[list[Triangles], list[str]]:
    """Parts (objects and groups) and notes. Raises BadFile."""
    text = data.decode("utf-8", errors="replace").replace("\\\r\n", " ").replace("\\\n", " ")
    try:
        points = np.array(_POINT.findall(text), dtype=np.float64).reshape(-1, 3)
    except ValueError as error:
        raise BadFile(f"the OBJ file holds a coordinate that is no number ({error})") from error
    groups: dict[str, list[list[int]]] = {}
    current, title, seen, wrong = groups.setdefault(name, []), name, 0, 0
    owner = ""
    for match in _LINE.finditer(text):
        kind, rest = match.groups()
        if kind == "v":
            seen += 1
        elif kind == "f":
            try:
                raw = [int(word.partition("/")[0]) for word in rest.split("#")[0].split()]
            except ValueError:
                wrong += 1
                continue
            corners = [k - 1 if k > 0 else seen + k for k in raw]
            if all(0 <= k < len(points) for k in corners) and 0 not in raw:
                current.append(corners)
            else:
                wrong += 1
        else:
            if kind == "o":
                owner = rest.strip()
            title = rest.strip() if kind == "g" else owner
            current = groups.setdefault(title or owner or name, [])
    notes = [f"{wrong} faces that name no points of the file left out"] if wrong else []
    bad = np.asarray(~(np.isfinite(points) & (np.abs(points) < 1e12)).all(axis=1))
    parts = []
    for title, polygons in groups.items():
        if bad.any():
            kept = [p for p in polygons if not bad[p].any()]
            if len(kept) < len(polygons):
                notes.append(f"{len(polygons) - len(kept)} faces with coordinates that make no sense left out")
            polygons = kept
        if polygons:
            triangles = cut_up(points, polygons, notes)
            used, local = np.unique(triangles, return_inverse=True)
            if len(triangles):
                parts.append(Triangles(points[used], local.reshape(-1, 3), title))
    if not parts:
        raise BadFile("the OBJ file holds no faces", remedy="export the solid, not only its points or lines")
    return parts, notes


def obj_text(parts: Sequence[Triangles]) -> bytes:
    lines, base = ["# Lithon, millimetres"], 1
    for part in parts:
        lines.append(f"o {part.name}")
        lines += [f"v {x!r} {y!r} {z!r}" for x, y, z in part.points.tolist()]
        lines += [f"f {a} {b} {c}" for a, b, c in (part.corners + base).tolist()]
        base += len(part.points)
    return ("\n".join(lines) + "\n").encode("utf-8")
