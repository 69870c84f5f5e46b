"""Parts of an IGES file that are defined once and stand at several places: subfigures (type 308) and their singular
instances (type 408), and names given as a property (type 406, form 15)."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from lithon.arrays import Floats
from lithon.errors import BadFile
from lithon.exchange.iges_geometry import IgesGeometry
from lithon.exchange.iges_records import Record, Records

_DEEPEST = 16


@dataclass(frozen=True, slots=True)
class Place:
    """Where a definition stands: the motion (4,4) in mm, and the names of what it hangs in, outermost first."""

    motion: Floats
    path: tuple[str, ...]


@dataclass(slots=True)
class Instances:
    """`home` is the definition of each entity that belongs to one, `places` where each definition stands."""

    home: dict[int, int]
    places: dict[int, list[Place]]


def instances(x: Records, geometry: IgesGeometry, notes: list[str]) -> Instances:
    """All placements in a file, nested ones multiplied out. What is not placed rigidly is noted and left out."""
    out = Instances({}, {})
    inside: set[int] = set()
    for record in x.entities.values():
        if record.kind == 308:
            try:
                for number in _members(record):
                    out.home[number] = record.number
                    inside.add(number)
            except BadFile as error:
                notes.append(f"the definition {record.number} is left out: {error.what}")
    for record in list(x.entities.values()):
        if record.kind == 408 and record.number not in inside and not record.blank:
            for number, place in _placed(x, geometry, record, Place(np.eye(4), ()), notes, 0):
                out.places.setdefault(number, []).append(place)
    return out


def _members(definition: Record) -> list[int]:
    return [definition.integer(3 + k) for k in range(definition.integer(2))]


def _placed(
    x: Records, geometry: IgesGeometry, record: Record, above: Place, notes: list[str], depth: int
) -> Iterator[tuple[int, Place]]:
    try:
        if depth > _DEEPEST:
            raise BadFile("it is defined by itself")
        definition = x.get(record.integer(0), 308)
        scale = record.real(4) if len(record.values) > 4 and record.values[4] is not None else 1.0
        if abs(scale - 1.0) > 1e-9:
            raise BadFile(f"it is scaled by {scale:g}")
        own = np.eye(4)
        own[:3, 3] = x.scale * np.array(record.reals(1, 3))
        name = definition.values[1] if isinstance(definition.values[1], str) else ""
        here = Place(above.motion @ geometry.motion(record.matrix) @ own, (*above.path, name))
        yield definition.number, here
        members = _members(definition)
    except BadFile as error:
        notes.append(f"the instance {record.number} is left out: {error.what}")
        return
    for number in members:
        inner = x.entities.get(number)
        if inner is not None and inner.kind == 408:
            yield from _placed(x, geometry, inner, here, notes, depth + 1)


def name_of(x: Records, record: Record, own: int) -> str:
    """The name that a property gives an entity which has `own` parameters by its type, or nothing."""
    try:
        ties = record.integer(own)
        many = record.integer(own + 1 + ties)
        for k in range(many):
            said = x.get(record.integer(own + 2 + ties + k), 406)
            if said.form == 15 and isinstance(said.values[1], str):
                return said.values[1].strip()
    except (BadFile, IndexError):
        pass
    return ""
