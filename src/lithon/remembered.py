"""What is worked out once of a value and found again for as long as that value lives: one helper for all of it.

Bodies, faces and edges are immutable and compared by identity, so that what is known of one holds for ever. Each memory
has a name, by which all of them can be counted and emptied.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable
from typing import Any, Protocol, TypeVar
from weakref import WeakKeyDictionary, ref

K = TypeVar("K")
K_co = TypeVar("K_co", covariant=True)
V = TypeVar("V")


class Carrier(Protocol[K_co]):
    """What says where a copy stands, and of what."""

    @property
    def body(self) -> K_co: ...


C = TypeVar("C", bound=Carrier[Any])


class Remembered(WeakKeyDictionary[K, V]):
    """What is known of values of one sort. Holds none of them alive."""

    def __init__(self, what: str):
        super().__init__()
        if what in _all:
            raise ValueError(f"two memories for {what}")
        _all[what] = self  # type: ignore[assignment]
        self.what = what

    def of(self, value: K, find: Callable[[K], V]) -> V:
        """What is known of a value; found now where it was not."""
        if value not in self:
            self[value] = find(value)
        return self[value]

    def missing(self, values: Iterable[K]) -> list[K]:
        """Those of many values of which nothing is known."""
        data = self.data  # type: ignore[attr-defined]
        return [value for value in values if ref(value) not in data]

    def unlike(self, values: Iterable[K], known: V) -> list[K]:
        """Those of many values of which something else than this is known, or nothing."""
        data = self.data  # type: ignore[attr-defined]
        return [value for value in values if data.get(ref(value)) != known]

    def over(self, value: K, copied: Callable[[K], C | None], find: Callable[[K], V], carry: Callable[[C, V], V]) -> V:
        """What is known of a value that may be a copy of another: found of that one, and carried over. `copied` gives
        the copy, whose `body` is what it is a copy of."""
        if value not in self:
            copy = copied(value)
            self[value] = find(value) if copy is None else carry(copy, self.over(copy.body, copied, find, carry))
        return self[value]


_all: dict[str, Remembered[object, object]] = {}


def counted() -> dict[str, int]:
    """Of how many living values something is known, by memory."""
    return {what: len(memory) for what, memory in _all.items()}


def forget() -> None:
    """Empty every memory; all is found anew when it is next asked for."""
    for memory in _all.values():
        memory.clear()
