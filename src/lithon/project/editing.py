"""What of a recorded step can be changed in its place: questions, numbers and words, each by its path in the data."""

from __future__ import annotations

import copy
import math
from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

from lithon.errors import BadFile
from lithon.project.questions import parse
from lithon.project.steps import Step


@dataclass(frozen=True, slots=True)
class Part:
    """One part of a step that can be changed: where it stands, its name, and the present value as text."""

    path: tuple[str, ...]
    name: str
    text: str


def _number(text: str) -> float:
    value = float(text.replace(",", "."))
    if not math.isfinite(value):
        raise ValueError("not a finite number")
    return value


def _gap(text: str) -> float:
    value = _number(text)
    if value <= 0.0:
        raise ValueError("a gap is above 0")
    return value


def _way(text: str) -> int:
    value = int(text)
    if value < 1:
        raise ValueError("solutions are counted from 1")
    return value - 1


def _place(text: str) -> list[float]:
    values = [_number(word) for word in text.replace(";", " ").split()]
    if len(values) != 3:
        raise ValueError("three numbers are needed")
    return values


def _question(text: str) -> str:
    parse(text)  # raises where it cannot be understood
    return text


def _words(text: str) -> str:
    return text.strip()


#: Path, name, how the text is read and how the value is written.
_PARTS: tuple[tuple[tuple[str, ...], str, Callable[[str], Any], Callable[[Any], str]], ...] = (
    (("select", "question"), "question", _question, str),
    (("plane", "by"), "offset, mm", _number, lambda v: f"{v:.12g}"),
    (("plane", "origin"), "through", _place, lambda v: " ".join(f"{c:.12g}" for c in v)),
    (("plane", "normal"), "normal", _place, lambda v: " ".join(f"{c:.12g}" for c in v)),
    (("gap",), "gap, mm", _gap, lambda v: f"{v:.12g}"),
    (("solution",), "solution", _way, lambda v: str(int(v) + 1)),
    (("reason",), "reason", _words, str),
)


def parts_of_step(step: Step) -> list[Part]:
    """What can be changed in it."""
    out = []
    for path, name, _, write in _PARTS:
        at: Any = step
        for key in path:
            at = at.get(key) if isinstance(at, dict) else None
        if at is not None:
            out.append(Part(path, name, write(at)))
    return out


def with_part(step: Step, path: tuple[str, ...], text: str) -> Step:
    """The step with one part as this text says. Raises BadFile where the text makes no sense there."""
    read = next((r for p, _, r, _ in _PARTS if p == path), None)
    if read is None:
        raise BadFile("that cannot be changed in a step")
    out = copy.deepcopy(step)
    at: Any = out
    for key in path[:-1]:
        at = at[key]
    try:
        at[path[-1]] = read(text)
    except (ValueError, KeyError, TypeError) as error:
        raise BadFile(f"{text!r} does not fit there ({error})") from error
    return out
