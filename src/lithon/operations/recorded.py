"""Operations as they stand in recipes and project files. Version 2; what version 1 wrote is brought to it."""

from __future__ import annotations

import shlex
from collections.abc import Callable, Mapping
from typing import Any

from lithon.errors import BadFile, LithonError
from lithon.operations.operation import Bench, Made, Operation
from lithon.operations.table import TABLE, rows

VERSION = 2

Step = dict[str, Any]


class Unreadable(Operation):
    """A recorded step that cannot be understood. It stays as it was written, and is refused when it is run."""

    gate = "unchanged"
    name = "unreadable"

    def __init__(self, data: Any, why: str) -> None:
        object.__setattr__(self, "data", data)
        object.__setattr__(self, "why", why)

    def as_json(self) -> Step:
        written: Step = self.__dict__["data"]
        return written

    def do(self, bench: Bench) -> Made:
        raise BadFile(str(self.__dict__["why"]))


def read(data: Any, version: int = VERSION) -> Operation:
    """An operation of its plain data. Raises BadFile where it is not well formed."""
    if not isinstance(data, dict):
        raise BadFile("a recorded step is not an object")
    step = migrated(data, version)
    row = rows().get(str(step.get("do")))
    if row is None:
        raise BadFile(f"a recorded step wants to do {step.get('do')!r}, which Lithon does not know")
    try:
        return row.operation.from_json(step)
    except LithonError as error:
        raise BadFile(f"a recorded step '{row.name}' is not well formed ({error.what})") from error


def read_kept(data: Any, version: int = VERSION) -> Operation:
    """As `read`; what cannot be understood is kept as it is, to be told when it is run."""
    try:
        return read(data, version)
    except BadFile as error:
        return Unreadable(data, error.what)


def from_text(text: str) -> Operation:
    """An operation as it is typed: its name, and name=value for what it asks for. Raises BadFile."""
    try:
        words = shlex.split(text)
    except ValueError as error:
        raise BadFile(f"{text!r} is not well formed ({error})") from error
    if not words or words[0] not in rows():
        raise BadFile(f"{words[0] if words else ''!r} is no operation", remedy=", ".join(rows()))
    return rows()[words[0]].operation.from_text(words[1:])


def schema() -> dict[str, Any]:
    """JSON schema of a recipe."""
    return {
        "$schema": "https://json-schema.org/draft/2020-12/schema",
        "title": "Lithon recipe",
        "type": "object",
        "properties": {
            "lithon recipe": {"const": VERSION},
            "units": {"const": "mm"},
            "size": {"type": "number", "exclusiveMinimum": 0},
            "steps": {"type": "array", "items": {"anyOf": [row.operation.schema() for row in TABLE]}},
        },
        "required": ["lithon recipe", "steps"],
    }


# ---- what older versions wrote


def migrated(step: Mapping[str, Any], version: int) -> Step:
    """A step as the present version writes it. Raises BadFile for versions that are not known."""
    out = dict(step)
    if version not in (*_MIGRATIONS, VERSION):
        raise BadFile(f"this was written by another Lithon (version {version!r}; {VERSION} is read here)")
    while version < VERSION:
        out = _MIGRATIONS[version](out)
        version += 1
    return out


def _from_1(step: Step) -> Step:
    """Version 1 had one word for cutting and another in the window, one operation for three, and selections apart."""
    verb = step.get("do")
    out = {key: value for key, value in step.items() if key != "select"}
    if "select" in step:
        out["faces"] = step["select"]
    if isinstance(out.get("bodies"), list) and verb != "part":
        out["bodies"] = {"bodies": out["bodies"]}
    if verb == "split":
        out["do"] = "carve"
        out["cut"] = out.pop("plane", None)
    elif verb == "combine":
        ways = {"union": "unite", "subtract": "subtract", "intersect": "intersect"}
        if out.get("operation") not in ways:
            raise BadFile(f"bodies cannot be combined by {out.get('operation')!r}")
        out["do"] = ways[out.pop("operation")]
        out["body"], out["tool"] = ({"bodies": [out.get(key)]} for key in ("body", "tool"))
    elif verb == "part":
        pair = out.pop("bodies", None)
        if not isinstance(pair, list) or len(pair) != 2:
            raise BadFile("to part bodies takes two")
        out["first"], out["second"] = {"bodies": [pair[0]]}, {"bodies": [pair[1]]}
    elif verb == "aside":
        out["do"] = "set-aside"
    elif verb == "drop" and "bodies" in out:
        out["do"] = "drop-bodies"
    return out


_MIGRATIONS: dict[int, Callable[[Step], Step]] = {1: _from_1}
