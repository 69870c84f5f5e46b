"""The one door for files: what a file is, is told by its content first and its name second."""

from __future__ import annotations

import re
from collections.abc import Callable
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from lithon.brep.analysis.same import folded
from lithon.brep.faceted import Triangles, bodies_of
from lithon.brep.topology import Model
from lithon.errors import BadFile
from lithon.exchange.iges_read import parse_iges
from lithon.exchange.iges_records import looks_like_iges
from lithon.exchange.obj import read_obj
from lithon.exchange.placement import Placement
from lithon.exchange.ply import read_ply
from lithon.exchange.step_read import Arrival, parse_step
from lithon.exchange.stl import read_stl
from lithon.exchange.threemf import read_3mf
from lithon.exchange.units import UNITS

#: Suffixes that are read, for file dialogs and the desktop.
SUFFIXES = (".step", ".stp", ".p21", ".igs", ".iges", ".stl", ".obj", ".ply", ".3mf")
_AS_DRAWN = Placement()
_SAID = re.compile(
    rb"\bunits?\b\s*[:=]?\s*(mm|cm|m|in|inch|inches|foot|feet|ft|microns?|mill?imet\w+|centimet\w+|met(?:er|re)s?)\b",
    re.I,
)
_WORDS = {"in": "inch", "inches": "inch", "feet": "foot", "ft": "foot", "microns": "micron"}


@dataclass(slots=True)
class UnitChoice:
    """The unit of a file that does not say it: which was taken, why, and the box (3,) in mm in each."""

    unit: str
    why: str
    boxes: dict[str, tuple[float, float, float]] = field(default_factory=dict)


def read_model(path: str | Path, unit: str | None = None, placement: Placement = _AS_DRAWN) -> Arrival:
    """Read a file of any kind. Raises BadFile with one clear message when nothing usable is in it."""
    path = Path(path)
    try:
        data = path.read_bytes()
    except OSError as error:
        raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
    return parse_model(data, path.name, unit, placement)


def parse_model(data: bytes, name: str, unit: str | None = None, placement: Placement = _AS_DRAWN) -> Arrival:
    """Read the bytes of a file that has this name; `unit` is one of UNITS, for files that name none, `placement`
    is how triangles are put in place.

    Raises BadFile.
    """
    if unit is not None and unit not in UNITS:
        raise BadFile(f"{unit!r} is no unit that Lithon knows", remedy=f"one of {', '.join(UNITS)}")
    if not data.strip():
        raise BadFile("the file is empty")
    kind = kind_of(data, name)
    stem = Path(name).stem
    if kind == "step":
        return parse_step(data.decode("utf-8", errors="replace"), stem)
    if kind == "iges":
        return parse_iges(data.decode("latin-1"), stem)
    if kind == "3mf":
        parts, notes = read_3mf(data, stem)
        return _arrived(placement.checked().applied(parts), notes, None)
    readers: dict[str, Callable[[bytes, str], tuple[list[Triangles], list[str]]]] = {
        "stl": read_stl, "obj": read_obj, "ply": read_ply,
    }  # fmt: skip
    parts, notes = readers[kind](data, stem)
    choice = choose_unit(parts, data[:4096], unit)
    scale = UNITS[choice.unit]
    if scale != 1.0:
        parts = [Triangles(scale * p.points, p.corners, p.name, p.colour) for p in parts]
    return _arrived(placement.checked().applied(parts), notes, choice)


def _arrived(parts: list[Triangles], notes: list[str], choice: UnitChoice | None) -> Arrival:
    every = np.concatenate([p.points for p in parts])
    if float(np.ptp(every, axis=0).max()) < 1e-6:
        raise BadFile("the part in the file is smaller than a nanometre", remedy="another unit")
    bodies, more = bodies_of(parts)
    if not bodies:
        raise BadFile("the file holds no triangle with an area")
    return Arrival(folded(Model.of(bodies)), [*notes, *more], choice)


def kind_of(data: bytes, name: str) -> str:
    """What a file is: step, iges, stl, obj, ply or 3mf. Raises BadFile."""
    head = data[:2000].lstrip(b"\xef\xbb\xbf \t\r\n")
    if b"ISO-10303-21" in head:
        return "step"
    if head.startswith(b"PK\x03\x04"):
        return "3mf"
    if head.startswith(b"ply"):
        return "ply"
    if looks_like_iges(data[:100]):
        return "iges"
    suffix = Path(name).suffix.lower()
    said = {".stl": "stl", ".obj": "obj", ".ply": "ply", ".3mf": "3mf"}.get(suffix)
    if said in ("stl", "obj"):
        return said
    if head[:5].lower() == b"solid" or (
        len(data) >= 134 and len(data) == 84 + 50 * int.from_bytes(data[80:84], "little")
    ):
        return "stl"
    if re.search(rb"^\s*v\s+\S+\s+\S+\s+\S+", head, re.M):
        return "obj"
    if suffix in (".step", ".stp", ".p21"):
        return "step"  # its reader says what is missing
    if suffix in (".igs", ".iges"):
        return "iges"
    raise BadFile(
        f"{name} is none of the files that Lithon reads", remedy="STEP, IGES, or triangles as STL, OBJ, PLY or 3MF"
    )


def choose_unit(parts: list[Triangles], head: bytes, unit: str | None) -> UnitChoice:
    """The unit: as asked for, as a comment in the file says, or the first in which the size is that of a part."""
    every = np.concatenate([p.points for p in parts])
    size = every.max(axis=0) - every.min(axis=0)
    boxes = {u: (float(f * size[0]), float(f * size[1]), float(f * size[2])) for u, f in UNITS.items()}
    if unit is not None:
        return UnitChoice(unit, "as you chose", boxes)
    said = _SAID.search(head) or re.search(rb"\b(millimet\w+|centimet\w+|inches)\b", head, re.I)
    if said:
        word = said.group(1).decode().lower()
        word = _WORDS.get(word, word)
        word = {"mil": "mm", "cen": "cm", "met": "m"}.get(word[:3], word)
        if word in UNITS:
            return UnitChoice(word, "the file says so in a comment", boxes)
    longest = float(size.max())
    for guess, why in (
        ("mm", "the usual unit, and the size is that of a part"),
        ("m", "in millimetres it would be a speck"),
    ):
        if 1.0 <= UNITS[guess] * longest <= 50_000.0:
            return UnitChoice(guess, why, boxes)
    return UnitChoice("mm", "the usual unit; the size is unusual in every one", boxes)
