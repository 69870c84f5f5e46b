"""Every way in which Lithon says no. Each says what, where and what to try."""

from __future__ import annotations

from typing import Any


class LithonError(Exception):
    """Base of all errors that are meant for the engineer, never shown as a traceback."""

    def __init__(self, what: str, *, where: str = "", remedy: str = "", entities: tuple[Any, ...] = ()):
        super().__init__(what)
        self.what = what
        self.where = where
        self.remedy = remedy
        self.entities = entities

    def __str__(self) -> str:
        parts = [self.what]
        if self.where:
            parts.append(f"at {self.where}")
        text = ", ".join(parts)
        return f"{text}. Try: {self.remedy}" if self.remedy else text

    def __reduce__(self) -> tuple[Any, ...]:
        return _rebuild, (type(self), self.what, self.where, self.remedy, self.entities)


def _rebuild(kind: type[LithonError], what: str, where: str, remedy: str, entities: tuple[Any, ...]) -> LithonError:
    return kind(what, where=where, remedy=remedy, entities=entities)


class BadFile(LithonError):
    """A file cannot be read, or holds nothing that Lithon understands."""


class Refusal(LithonError):
    """An operation cannot give a valid result; the model is unchanged."""


class Unresolved(LithonError):
    """A recorded selection finds nothing, or not enough, on this model."""


class Spent(LithonError):
    """A search has used up its budget without an answer; the model is unchanged. No way out of several that is refused,
    so that a search does not take it for one and go on."""


class Fault(LithonError):
    """Lithon itself has gone wrong: neither the file nor the engineer is to blame. The model is unchanged."""


class Cancelled(LithonError):
    """The engineer stopped a long operation."""

    def __init__(self, what: str = "stopped on request", **more: Any):
        super().__init__(what, **more)


def spot(point: Any) -> str:
    """A place in words: '(12.5, 0, 3) mm'."""
    return "(" + ", ".join(f"{float(c):.4g}" for c in point) + ") mm"
