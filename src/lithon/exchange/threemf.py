"""3MF in and out (3MF Core Specification 1.3): meshes, components and build items, with their unit."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from typing import Any
from xml.etree.ElementTree import Element, ParseError
from xml.sax.saxutils import quoteattr

import numpy as np
from defusedxml import DefusedXmlException
from defusedxml.ElementTree import fromstring

from lithon.arrays import Floats, Ints
from lithon.brep.faceted import Triangles
from lithon.errors import BadFile

_CORE = "{http://schemas.microsoft.com/3dmanufacturing/core/2015/02}"
_UNITS = {"micron": 1e-3, "millimeter": 1.0, "centimeter": 10.0, "inch": 25.4, "foot": 304.8, "meter": 1000.0}
_MOST_BYTES = 1 << 30
_MOST_RATIO = 400
_MOST_PARTS = 20_000
_DEEPEST = 30


@dataclass(slots=True)
class _Object:
    name: str
    mesh: tuple[Floats, Ints] | None = None
    components: list[tuple[str, Floats]] = field(default_factory=list)


def read_3mf(data: bytes, name: str) -> tuple[list[Triangles], list[str]]:
    """Parts in millimetres and notes. Raises BadFile."""
    root = _document(data)
    notes: list[str] = []
    scale = _UNITS.get(root.get("unit", "millimeter"))
    if scale is None:
        raise BadFile(f"the 3MF file names an unknown unit {root.get('unit')!r}")
    try:
        objects = _objects(root, notes)
        items = [(i.get("objectid", ""), _matrix(i.get("transform"))) for i in root.iter(f"{_CORE}item")]
    except (ValueError, TypeError) as error:
        raise BadFile(f"the 3MF file is not well formed ({error})") from error
    parts: list[Triangles] = []
    for number, place in items or [(k, np.eye(4)) for k in objects]:
        for title, points, corners in _placed(number, place, objects, 0, notes):
            if len(parts) >= _MOST_PARTS:
                raise BadFile(f"the 3MF file builds more than {_MOST_PARTS} parts")
            parts.append(Triangles(scale * points, corners, title or name))
    if not parts:
        raise BadFile("the 3MF file builds nothing")
    return parts, notes


def _document(data: bytes) -> Element:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            models = [i for i in archive.infolist() if i.filename.lower().endswith(".model")]
            main = next((i for i in models if i.filename.lstrip("/").lower() == "3d/3dmodel.model"), None)
            main = main or next(iter(models), None)
            if main is None:
                raise BadFile("the 3MF archive holds no model")
            if main.file_size > min(_MOST_BYTES, max(1 << 22, _MOST_RATIO * len(data))):
                raise BadFile("the 3MF archive unpacks to more than Lithon takes")
            with archive.open(main) as stream:
                text = stream.read(main.file_size + 1)
            if len(text) > main.file_size:
                raise BadFile("the 3MF archive unpacks to more than it says")
        root: Element = fromstring(text, forbid_dtd=True)
        return root
    except (zipfile.BadZipFile, EOFError, NotImplementedError, RuntimeError, OSError) as error:
        raise BadFile(f"the 3MF file is not a whole archive ({error})") from error
    except (ParseError, DefusedXmlException, ValueError) as error:
        raise BadFile(f"the 3MF model is not well formed ({error})") from error
    except Exception as error:
        if type(error).__module__ == "zlib":
            raise BadFile(f"the 3MF archive is damaged ({error})") from error
        raise


def _objects(root: Element, notes: list[str]) -> dict[str, _Object]:
    out: dict[str, _Object] = {}
    for element in root.iter(f"{_CORE}object"):
        made = _Object(element.get("name", ""))
        mesh = element.find(f"{_CORE}mesh")
        if mesh is not None:
            made.mesh = _mesh(mesh, notes)
        for part in element.iter(f"{_CORE}component"):
            made.components.append((part.get("objectid", ""), _matrix(part.get("transform"))))
        out[element.get("id", "")] = made
    return out


def _mesh(mesh: Element, notes: list[str]) -> tuple[Floats, Ints]:
    points = np.array(
        [(v.get("x"), v.get("y"), v.get("z")) for v in mesh.iter(f"{_CORE}vertex")], dtype=np.float64
    ).reshape(-1, 3)
    corners = np.array(
        [(t.get("v1"), t.get("v2"), t.get("v3")) for t in mesh.iter(f"{_CORE}triangle")], dtype=np.float64
    ).reshape(-1, 3)
    sound = np.asarray((np.isfinite(corners) & (corners >= 0) & (corners < len(points))).all(axis=1))
    rows = np.where(sound[:, None], corners, 0).astype(np.int64)
    if len(points):
        good = np.asarray((np.isfinite(points) & (np.abs(points) < 1e12)).all(axis=1))
        sound &= good[rows].all(axis=1)
    if not sound.all():
        notes.append(f"{int((~sound).sum())} triangles without sensible points left out")
    return points, rows[sound]


def _matrix(text: str | None) -> Floats:
    """The matrix (4,4) of twelve numbers, row vectors in the file."""
    out = np.eye(4)
    if text:
        numbers = np.array(text.split(), dtype=np.float64)
        if numbers.shape != (12,) or not np.isfinite(numbers).all():
            raise ValueError(f"a transform of {len(numbers)} numbers")
        out[:3, :4] = numbers.reshape(4, 3).T
    return out


def _placed(
    number: str, place: Floats, objects: dict[str, _Object], depth: int, notes: list[str]
) -> Iterator[tuple[str, Floats, Ints]]:
    made = objects.get(number)
    if made is None:
        notes.append(f"an object {number!r} is built but not in the file")
        return
    if depth > _DEEPEST:
        raise BadFile("the 3MF file's components hold each other")
    if made.mesh is not None and len(made.mesh[1]):
        points, corners = made.mesh
        if np.linalg.det(place[:3, :3]) < 0.0:
            corners = corners[:, ::-1]
        yield made.name, points @ place[:3, :3].T + place[:3, 3], corners
    for inner, at in made.components:
        for title, points, corners in _placed(inner, place @ at, objects, depth + 1, notes):
            yield title or made.name, points, corners


def threemf_bytes(parts: Sequence[Triangles]) -> bytes:
    """A package in millimetres, an object and a build item for each part."""
    lines = [
        '<?xml version="1.0" encoding="UTF-8"?>',
        f'<model unit="millimeter" xml:lang="en-GB" xmlns="{_CORE[1:-1]}"><resources>',
    ]
    for k, part in enumerate(parts, 1):
        lines.append(f'<object id="{k}" type="model" name={quoteattr(part.name)}><mesh><vertices>')
        lines += [f'<vertex x="{x!r}" y="{y!r}" z="{z!r}"/>' for x, y, z in part.points.tolist()]
        lines.append("</vertices><triangles>")
        lines += [f'<triangle v1="{a}" v2="{b}" v3="{c}"/>' for a, b, c in part.corners.tolist()]
        lines.append("</triangles></mesh></object>")
    lines.append("</resources><build>")
    lines += [f'<item objectid="{k}"/>' for k in range(1, len(parts) + 1)]
    lines.append("</build></model>")
    files: dict[str, Any] = {
        "[Content_Types].xml": '<?xml version="1.0" encoding="UTF-8"?><Types xmlns="http://schemas.openxmlformats.org/'
        'package/2006/content-types"><Default Extension="rels" ContentType="application/vnd.openxmlformats-package.'
        'relationships+xml"/><Default Extension="model" ContentType="application/vnd.ms-package.3dmanufacturing-'
        '3dmodel+xml"/></Types>',
        "_rels/.rels": '<?xml version="1.0" encoding="UTF-8"?><Relationships xmlns="http://schemas.openxmlformats.org/'
        'package/2006/relationships"><Relationship Target="/3D/3dmodel.model" Id="rel0" Type="http://schemas.microsoft.'
        'com/3dmanufacturing/2013/01/3dmodel"/></Relationships>',
        "3D/3dmodel.model": "\n".join(lines),
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for path, text in files.items():
            archive.writestr(path, text)
    return out.getvalue()
