"""Models between processes as differences: what the other side knows goes as its uid.

Vertices, edges, faces and bodies that were sent once are never sent again, and arrive as the very
objects that the other side already has. The triangles of faces that are new to it go along with them.
"""

from __future__ import annotations

import dataclasses
import io
import itertools
import pickle
from collections.abc import Callable
from dataclasses import dataclass
from functools import cache
from typing import Any

import numpy as np

from lithon.arrays import Floats
from lithon.brep.copies import Copy, arrived, number_of, origin_of
from lithon.brep.topology import Body, Coedge, Edge, Face, Vertex, use_of
from lithon.project.travel import luggage, unpack

_PARTS = (Vertex, Edge, Face)
_KINDS = (*_PARTS, Body)
_FEW = 64  # numbers
Entity = Vertex | Edge | Face | Body


@dataclass(frozen=True, slots=True)
class Parcel:
    """A message as it came, what was new in it, and whether it can be read by somebody who knows nothing yet."""

    data: bytes
    fresh: dict[int, Entity]
    whole: bool


class Wire:
    """One end of a connection; both ends must see every message, in order per direction."""

    def __init__(self) -> None:
        self.known: dict[int, Entity] = {}
        #: The last message that was unpacked.
        self.last = Parcel(b"", {}, False)

    def pack(self, message: Any) -> bytes:
        fresh: dict[int, Entity] = {}
        out = io.BytesIO()
        # Three pickles with one memory: the later ones point at what the first has said.
        packer = _Packer(out, self.known, fresh)
        packer.dump(message)
        packer.dump(tuple(fresh.values()))
        packer.dump(luggage([e for e in fresh.values() if isinstance(e, Face)]))
        self.known.update(fresh)
        return out.getvalue()

    def unpack(self, data: bytes) -> Any:
        unpacker = _Unpacker(io.BytesIO(data), self.known)
        message, fresh, load = unpacker.load(), unpacker.load(), unpacker.load()
        self.last = Parcel(data, {entity.uid: entity for entity in fresh}, not unpacker.asked)
        self.known.update(self.last.fresh)
        if load is not None:
            unpack(load)
        return message


class _Packer(pickle.Pickler):
    def __init__(self, file: io.BytesIO, known: dict[int, Entity], fresh: dict[int, Entity]):
        super().__init__(file, protocol=5)
        self._known, self._fresh = known, fresh

    def persistent_id(self, obj: Any) -> int | None:
        if isinstance(obj, _KINDS):
            if obj.uid in self._known:
                return obj.uid
            self._fresh[obj.uid] = obj
        return None

    def reducer_override(self, obj: Any) -> Any:
        if type(obj) is np.ndarray:
            # Points and directions, by the ten thousand: numpy's own way takes several calls for each.
            if obj.size <= _FEW and obj.dtype == np.float64 and not obj.flags.writeable:
                return _frozen, (obj.tobytes(), obj.shape)
            return NotImplemented
        kind: type = type(obj)
        if kind is Copy:
            return arrived, (obj.body, obj.motion, obj.uid)
        if isinstance(obj, _PARTS) and (origin := origin_of(obj)) is not None:
            return _nth, (origin[0], number_of(*origin))
        if kind is Body and isinstance(obj.uses, Copy):
            return _placed, (obj.uses, *_told(obj))
        if kind is Body:
            return _body, (tuple([u.face for u in obj.uses]), bytes([u.forward for u in obj.uses]),
                           *_told(obj))  # fmt: skip
        if kind is Face:
            run = [c for loop in obj.loops for c in loop]
            walks = tuple([c.edge for c in run]), bytes([c.forward for c in run]), tuple([len(x) for x in obj.loops])
            return _face, (obj.surface, walks, obj.along, obj.label, obj.uid, obj.before)
        values = _values(kind)
        return NotImplemented if values is None else (_rebuilt, (kind, values(obj)))


class _Unpacker(pickle.Unpickler):
    def __init__(self, file: io.BytesIO, known: dict[int, Entity]):
        super().__init__(file)
        self._known = known
        self.asked = 0

    def persistent_load(self, uid: Any) -> Entity:
        self.asked += 1
        return self._known[uid]


# Frozen values with slots are what models are made of; by themselves they ask for the names of their fields at
# every turn, which takes ten times as long as all else.


def _names(kind: type) -> tuple[str, ...] | None:
    plain = dataclasses.is_dataclass(kind) and hasattr(kind, "__slots__") and "__reduce__" not in kind.__dict__
    return tuple(f.name for f in dataclasses.fields(kind)) if plain else None


@cache
def _values(kind: type) -> Callable[[Any], tuple[Any, ...]] | None:
    names = _names(kind)
    if names is None:
        return None
    return lambda obj: tuple([getattr(obj, name) for name in names])


@cache
def _setters(kind: type) -> list[Callable[[Any, Any], None]]:
    return [getattr(kind, name).__set__ for name in _names(kind) or ()]


def _nth(copy: Copy, number: int) -> Vertex | Edge | Face:
    return copy.nth(number)


def _told(body: Body) -> tuple[Any, ...]:
    """What is said of a body besides its faces, in the order of its fields."""
    return body.name, body.path, body.colour, body.uid, body.sheet, body.thickness, body.reference


def _placed(uses: Copy, *told: Any) -> Body:
    return Body(uses, *told)


# A face with a thousand holes and a body of a thousand faces are mostly what the other side knows: their coedges and
# uses go as rows of edges and faces, each with a bit for its sense.


def _body(faces: tuple[Face, ...], forward: bytes, *told: Any) -> Body:
    uses = tuple([use_of(face, bool(way)) for face, way in zip(faces, forward, strict=True)])
    return Body(uses, *told)


def _face(
    surface: Any, walks: tuple[tuple[Edge, ...], bytes, tuple[int, ...]], along: bool, label: str, uid: int,
    before: Face | None,
) -> Face:  # fmt: skip
    edges, forward, lengths = walks
    run = iter([Coedge(edge, bool(way)) for edge, way in zip(edges, forward, strict=True)])
    return Face(surface, tuple([tuple(itertools.islice(run, n)) for n in lengths]), along, label, uid, before)


def _frozen(data: bytes, shape: tuple[int, ...]) -> Floats:
    return np.frombuffer(data).reshape(shape)  # of bytes: nobody can write to it


def _rebuilt(kind: type, values: tuple[Any, ...]) -> Any:
    out: Any = object.__new__(kind)
    for put, value in zip(_setters(kind), values, strict=True):
        put(out, value)
    return out
