"""Models between processes as differences: what the other side knows goes as its uid.

Vertices, edges, faces and bodies that were sent once are never sent again, and arrive as the very
objects that the other side already has. The triangles of faces that are new to it go along with them.
"""

from __future__ import annotations

import dataclasses
import io
import pickle
from collections.abc import Callable
from functools import cache
from typing import Any

from lithon.brep.topology import Body, Edge, Face, Vertex
from lithon.brep.travel import luggage, unpack

_KINDS = (Vertex, Edge, Face, Body)
Entity = Vertex | Edge | Face | Body


class Wire:
    """One end of a connection; both ends must see every message, in order per direction."""

    def __init__(self) -> None:
        self.known: dict[int, Entity] = {}

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
        self.known.update({entity.uid: entity for entity in fresh})
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
        values = _values(type(obj))
        return NotImplemented if values is None else (_rebuilt, (type(obj), values(obj)))


class _Unpacker(pickle.Unpickler):
    def __init__(self, file: io.BytesIO, known: dict[int, Entity]):
        super().__init__(file)
        self._known = known

    def persistent_load(self, uid: Any) -> Entity:
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


def _rebuilt(kind: type, values: tuple[Any, ...]) -> Any:
    out = object.__new__(kind)
    for put, value in zip(_setters(kind), values, strict=True):
        put(out, value)
    return out
