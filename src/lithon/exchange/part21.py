"""The clear text encoding of exchange structures (ISO 10303-21): text to entity instances.

Statements are split by one regular expression; parameters are parsed when an instance is asked for.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any

from lithon.errors import BadFile

_SCAN = re.compile(r"[^;'/]+|'[^']*'|.", re.S)
_INSTANCE = re.compile(r"\s*#(\d+)\s*=\s*(.*)", re.S)
_TOKEN = re.compile(
    r"""\s*(?:(?P<ref>\#\d+)|(?P<real>[-+]?\d+\.\d*(?:[eE][-+]?\d+)?)|(?P<int>[-+]?\d+)
    |(?P<text>'(?:[^']|'')*')|(?P<enum>\.[A-Za-z_][A-Za-z0-9_]*\.)|(?P<name>[A-Za-z_!][A-Za-z0-9_]*)
    |(?P<open>\()|(?P<close>\))|(?P<comma>,)|(?P<none>\$)|(?P<star>\*)|(?P<binary>"[^"]*")|(?P<bad>\S.{0,19}))""",
    re.X,
)
#: The kinds of a complex instance: words before an opening bracket, at its top level or within.
_KINDS = re.compile(r"(?:^\(|\)|\s)\s*([A-Za-z_][A-Za-z0-9_]*)\s*\(")
_DEEPEST = 40


class Ref(int):
    """The number of another instance."""


class Enum(str):
    """An enumeration value, without its dots."""

    __slots__ = ()


@dataclass(frozen=True, slots=True)
class Typed:
    """A typed parameter such as LENGTH_MEASURE(2.0)."""

    kind: str
    values: list[Any]


@dataclass(slots=True)
class Instance:
    """One entity instance: its kinds with their parameters; several for a complex instance."""

    number: int
    parts: dict[str, list[Any]]

    @property
    def kind(self) -> str:
        return next(iter(self.parts))

    @property
    def values(self) -> list[Any]:
        return next(iter(self.parts.values()))


@dataclass(slots=True)
class Exchange:
    """The data section, parsed lazily."""

    raw: dict[int, str]
    header: list[str] = field(default_factory=list)
    _parsed: dict[int, Instance] = field(default_factory=dict)
    _by_kind: dict[str, list[int]] = field(default_factory=dict)
    _order: dict[int, int] = field(default_factory=dict)

    def get(self, ref: Any, *kinds: str) -> Instance:
        """The instance behind a reference, required to be of one of these kinds."""
        if not isinstance(ref, Ref):
            raise BadFile(f"a reference to {' or '.join(kinds) or 'an entity'} is missing")
        number = int(ref)
        hit = self._parsed.get(number)
        if hit is None:
            text = self.raw.get(number)
            if text is None:
                raise BadFile(
                    f"entity #{number} is referred to but not in the file",
                    remedy="export the file again; it looks cut off",
                )
            hit = Instance(number, _parse(text, number))
            self._parsed[number] = hit
        if kinds and not any(k in hit.parts for k in kinds):
            raise BadFile(f"entity #{number} is a {hit.kind} where {' or '.join(kinds)} was expected")
        return hit

    def get_number(self, number: int) -> Instance:
        return self.get(Ref(number))

    def of_kind(self, *kinds: str) -> Iterator[Instance]:
        """All instances of these kinds, in file order."""
        if not self._by_kind:
            for number, text in self.raw.items():
                for kind in _KINDS.findall(text) if text.startswith("(") else (text[: text.find("(")].strip(),):
                    self._by_kind.setdefault(kind.upper(), []).append(number)
        pattern = re.compile("|".join(kinds))
        found = {n for kind, numbers in self._by_kind.items() if pattern.fullmatch(kind) for n in numbers}
        for number in sorted(found, key=self._place_of):
            try:
                yield self.get(Ref(number))
            except BadFile:
                continue  # what needs it will say so

    def _place_of(self, number: int) -> int:
        if not self._order:
            self._order.update((n, k) for k, n in enumerate(self.raw))
        return self._order[number]


def read_exchange(text: str) -> Exchange:
    """Split a file into instances. Raises BadFile when it is not a part 21 file or is cut off."""
    if not text.strip():
        raise BadFile("the file is empty")
    if "ISO-10303-21" not in text[:2000]:
        raise BadFile("this is not a STEP file: it does not start with ISO-10303-21")
    raw: dict[int, str] = {}
    header: list[str] = []
    ended = False
    for statement in _statements(text):
        got = _INSTANCE.match(statement)
        if got:
            raw[int(got.group(1))] = got.group(2).strip()
        elif "END-ISO-10303-21" in statement:
            ended = True
        else:
            header.append(statement.strip())
    if not raw:
        raise BadFile("the STEP file holds no entities")
    if not ended:
        raise BadFile("the STEP file is cut off: its end mark is missing", remedy="export or copy the file again")
    return Exchange(raw, header)


def _statements(text: str) -> Iterator[str]:
    """The text between semicolons, outside strings, without comments. Linear in the text's length."""
    parts: list[str] = []
    at = 0
    while at < len(text):
        match = _SCAN.match(text, at)
        assert match is not None  # the last alternative takes any character
        token = match.group()
        at = match.end()
        if token == ";":
            yield "".join(parts)
            parts = []
        elif token == "/" and text.startswith("*", at):
            end = text.find("*/", at)
            if end < 0:
                raise BadFile("a comment in the STEP file is not closed")
            at = end + 2
        else:
            parts.append(token)


def _parse(text: str, number: int) -> dict[str, list[Any]]:
    tokens = _tokens(text, number)
    parts: dict[str, list[Any]] = {}
    try:
        if tokens[0][0] == "open":
            at = 1
            while tokens[at][0] != "close":
                name = tokens[at][1].upper()
                parts[name], at = _list(tokens, at + 2, number, 0)
        else:
            parts[tokens[0][1].upper()], _ = _list(tokens, 2, number, 0)
    except IndexError as error:
        raise BadFile(f"entity #{number} is not well formed") from error
    return parts


def _tokens(text: str, number: int) -> list[tuple[str, str]]:
    out = [(match.lastgroup or "", match[match.lastgroup or 0]) for match in _TOKEN.finditer(text)]
    for kind, token in out:
        if kind == "bad":
            raise BadFile(f"entity #{number} holds what STEP does not allow: {token!r}")
    return out


def _list(tokens: list[tuple[str, str]], at: int, number: int, depth: int) -> tuple[list[Any], int]:
    """Values from after an opening bracket to its closing one; returns them and where to go on."""
    if depth > _DEEPEST:
        raise BadFile(f"entity #{number} is nested too deeply")
    out: list[Any] = []
    while True:
        kind, text = tokens[at]
        at += 1
        if kind == "close":
            return out, at
        if kind == "comma":
            continue
        if kind == "open":
            value, at = _list(tokens, at, number, depth + 1)
            out.append(value)
        elif kind == "name":
            value, at = _list(tokens, at + 1, number, depth + 1)
            out.append(Typed(text.upper(), value))
        else:
            out.append(_scalar(kind, text))


def _scalar(kind: str, text: str) -> Any:
    if kind == "ref":
        return Ref(text[1:])
    if kind == "real":
        return float(text)
    if kind == "int":
        return int(text)
    if kind == "text":
        return decode(text[1:-1])
    if kind == "enum":
        return Enum(text[1:-1].upper())
    if kind == "none":
        return None
    return text


_WIDE = re.compile(r"\\X2\\([0-9A-Fa-f]*)\\X0\\|\\X\\([0-9A-Fa-f]{2})|\\S\\(.)|\\X4\\([0-9A-Fa-f]*)\\X0\\")


def decode(text: str) -> str:
    """Undo the string escapes of part 21."""

    def one(match: re.Match[str]) -> str:
        if match.group(1) is not None:
            codes = match.group(1)
            return "".join(chr(int(codes[i : i + 4], 16)) for i in range(0, len(codes) - 3, 4))
        if match.group(2) is not None:
            return chr(int(match.group(2), 16))
        if match.group(4) is not None:
            codes = match.group(4)
            return "".join(chr(min(int(codes[i : i + 8], 16), 0x10FFFF)) for i in range(0, len(codes) - 7, 8))
        return chr(ord(match.group(3)) + 128)

    return _WIDE.sub(one, text).replace("''", "'").replace("\\\\", "\\")


def encode(text: str) -> str:
    """Quote a string for part 21; what is not plain ASCII goes as four-digit codes."""
    out = []
    for ch in text:
        if ch == "'":
            out.append("''")
        elif ch == "\\":
            out.append("\\\\")
        elif 32 <= ord(ch) < 127:
            out.append(ch)
        elif ord(ch) > 0xFFFF:
            out.append(f"\\X4\\{ord(ch):08X}\\X0\\")
        else:
            out.append(f"\\X2\\{ord(ch):04X}\\X0\\")
    return "'" + "".join(out) + "'"
