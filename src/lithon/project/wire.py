"""Models between processes as differences: what the other side knows goes as its uid.

Vertices, edges, faces and bodies that were sent once are never sent again, and arrive as the very
objects that the other side already has, with all their cached triangles.
"""

from __future__ import annotations

import io
import pickle
from typing import Any

from lithon.brep.topology import Body, Edge, Face, Vertex

_KINDS = (Vertex, Edge, Face, Body)
Entity = Vertex | Edge | Face | Body


class Wire:
    """One end of a connection; both ends must see every message, in order per direction."""

    def __init__(self) -> None:
        self.known: dict[int, Entity] = {}

    def pack(self, message: Any) -> bytes:
        fresh: dict[int, Entity] = {}
        _Packer(io.BytesIO(), self.known, fresh).dump(message)
        out = io.BytesIO()
        _Packer(out, self.known, {}).dump((message, tuple(fresh.values())))
        self.known.update(fresh)
        return out.getvalue()

    def unpack(self, data: bytes) -> Any:
        message, fresh = _Unpacker(io.BytesIO(data), self.known).load()
        self.known.update({entity.uid: entity for entity in fresh})
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


class _Unpacker(pickle.Unpickler):
    def __init__(self, file: io.BytesIO, known: dict[int, Entity]):
        super().__init__(file)
        self._known = known

    def persistent_load(self, uid: Any) -> Entity:
        return self._known[uid]
