"""Faces or edges of a picture by number, those of copies made only when somebody asks for one."""

from __future__ import annotations

import itertools
from collections.abc import Iterable, Sequence
from typing import Any, Generic, TypeVar

import numpy as np

from lithon.arrays import Bools
from lithon.brep.copies import Copy, Handle, handle
from lithon.brep.topology import Edge, Face

T = TypeVar("T", Face, Edge)


class Rows(Generic[T]):
    """What lies in a picture, in a row."""

    def __init__(self) -> None:
        self._of: list[tuple[Copy | None, T]] = []
        self._number: dict[Handle, int] = {}

    def add(self, copy: Copy | None, sources: Sequence[T]) -> Bools:
        """Put entities of a body (or of a copy of it) at the end; which (n,) were not there already."""
        keys = [handle(x) for x in sources] if copy is None else [(copy.uid, x) for x in sources]
        new = np.array([key not in self._number for key in keys], dtype=bool)
        if new.all():
            self._number.update(zip(keys, itertools.count(len(self._of))))
            self._of += [(copy, x) for x in sources]
            return new
        for key, x, fresh in zip(keys, sources, new.tolist(), strict=True):
            if fresh:
                self._number[key] = len(self._of)
                self._of.append((copy, x))
        return new

    def __len__(self) -> int:
        return len(self._of)

    def __getitem__(self, k: int) -> T:
        copy, source = self._of[k]
        return source if copy is None else copy.like(source)

    def number(self, entity: object) -> int | None:
        """Where an entity lies, None where it does not."""
        return self._number.get(handle(entity)) if isinstance(entity, Face | Edge) else None

    def numbers(self, entities: Iterable[Any]) -> list[int]:
        """Where those of some entities, or of some handles, lie that are here."""
        found = (self._number.get(x) if isinstance(x, tuple) else self.number(x) for x in entities)
        return [k for k in found if k is not None]
