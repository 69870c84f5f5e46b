"""The records of IGES files (ANSI US PRO/IPO-100-1996, version 5.3): fixed lines of 80 columns, their sections, and
parameters as values."""

from __future__ import annotations

import re
from dataclasses import dataclass, field

from lithon.errors import BadFile

#: Millimetres in the unit flags of the global section.
UNIT_FLAGS = {
    1: 25.4, 2: 1.0, 4: 304.8, 5: 1609344.0, 6: 1000.0, 7: 1e6, 8: 0.0254, 9: 1e-3, 10: 10.0, 11: 2.54e-5,
}  # fmt: skip
_UNIT_NAMES = {"IN": 25.4, "INCH": 25.4, "MM": 1.0, "FT": 304.8, "M": 1000.0, "KM": 1e6, "UM": 1e-3, "CM": 10.0}
_NUMBER = re.compile(r"[-+]?(\d+\.?\d*|\.\d+)([eEdD][-+]?\d+)?$")

Value = float | str | None


@dataclass(slots=True)
class Record:
    """One entity: its directory line number, type and form, parameters, and what its directory entry points at."""

    number: int
    kind: int
    form: int
    matrix: int
    colour: int
    label: str
    blank: bool
    dependent: bool
    values: list[Value] = field(default_factory=list)

    def integer(self, k: int) -> int:
        value = self.values[k]
        if not isinstance(value, float) or value != int(value):
            raise BadFile(f"entity {self.number} holds no whole number where one belongs")
        return int(value)

    def real(self, k: int) -> float:
        value = self.values[k] if k < len(self.values) else None
        if value is None:
            return 0.0  # an empty field is its default
        if not isinstance(value, float) or not abs(value) < 1e12:
            raise BadFile(f"entity {self.number} holds a number that makes no sense")
        return value

    def reals(self, k: int, n: int) -> list[float]:
        if n < 0 or k + n > len(self.values):
            raise BadFile(f"entity {self.number} is cut short")
        return [self.real(i) for i in range(k, k + n)]


@dataclass(slots=True)
class Records:
    """All entities by directory line number, the unit in mm, and what went wrong on the way."""

    entities: dict[int, Record]
    scale: float
    notes: list[str]

    def get(self, number: int, *kinds: int) -> Record:
        record = self.entities.get(number)
        if record is None or (kinds and record.kind not in kinds):
            raise BadFile(
                f"entity {number} is missing" if record is None else f"entity {number} is of type {record.kind}"
            )
        return record


def looks_like_iges(head: bytes) -> bool:
    """Whether a file begins with a start section: lines of 80 columns that are marked S or G and counted."""
    line = head.split(b"\n", 1)[0].rstrip(b"\r")
    return len(line) == 80 and line[72:73] in (b"S", b"G") and line[73:].strip().isdigit()


def read_records(text: str) -> Records:
    """Raises BadFile where the sections are not there."""
    sections: dict[str, list[str]] = {k: [] for k in "SGDPT"}
    for line in text.splitlines():
        if len(line) < 73:
            continue
        if line[72] in sections:
            sections[line[72]].append(line)
    if not sections["D"] or not sections["P"]:
        if any(len(line) >= 73 and line[72] in "BC" for line in text.splitlines()[:3]):
            raise BadFile("the IGES file is in its compressed or binary form", remedy="write it as plain text")
        raise BadFile("the IGES file has no entities")
    ahead, end, scale, notes = _global("".join(line[:72] for line in sections["G"]))
    entities = _directory(sections["D"])
    _parameters(entities, sections["P"], ahead, end)
    return Records(entities, scale, notes)


def _global(text: str) -> tuple[str, str, float, list[str]]:
    """Both delimiters, millimetres in the file's unit, and notes."""
    ahead, end, at = ",", ";", 0
    if text.startswith("1H"):
        ahead, at = text[2], 4
    else:
        at = 1
    if text[at : at + 2] == "1H":
        end, at = text[at + 2], at + 4
    else:
        at += 1
    values: list[Value] = [ahead, end, *_values(text[at:], ahead, end)]
    flag = values[13] if len(values) > 13 else None
    name = values[14] if len(values) > 14 else None
    model = values[12] if len(values) > 12 and isinstance(values[12], float) else 1.0
    scale = UNIT_FLAGS.get(int(flag)) if isinstance(flag, float) else 25.4  # inch, where nothing is said
    if scale is None and isinstance(name, str):
        scale = _UNIT_NAMES.get(name.strip().upper())
    notes = []
    if scale is None:
        scale = 1.0
        notes.append(f"the unit {name!r} is not known: millimetres are taken")
    if model != 1.0 and isinstance(model, float) and model > 0.0:
        notes.append(f"the file is drawn at a scale of {model:g}: the part is read in its true size")
        scale /= model
    return ahead, end, scale, notes


def _directory(lines: list[str]) -> dict[int, Record]:
    out: dict[int, Record] = {}
    for k in range(0, len(lines) - 1, 2):
        one, two = lines[k].ljust(80), lines[k + 1].ljust(80)

        def whole(line: str, n: int) -> int:
            text = line[8 * n : 8 * n + 8].strip()
            return int(text) if re.fullmatch(r"[-+]?\d+", text) else 0

        status = one[64:72].replace(" ", "0")
        out[k + 1] = Record(
            k + 1,
            abs(whole(one, 0)),
            whole(two, 4),
            whole(one, 6),
            whole(two, 2),
            two[56:64].strip(),
            status[:2] == "01",
            status[2:4] in ("01", "03"),
        )
    return out


def _parameters(entities: dict[int, Record], lines: list[str], ahead: str, end: str) -> None:
    """Fill in the values; what belongs to an entity says so in columns 65 to 72."""
    texts: dict[int, list[str]] = {}
    for line in lines:
        back = line[64:72].strip()
        if back.isdigit():
            texts.setdefault(int(back), []).append(line[:64])
    for number, parts in texts.items():
        record = entities.get(number)
        if record is not None:
            record.values = _values("".join(parts), ahead, end)[1:]  # the first one repeats the type


def _values(text: str, ahead: str, end: str) -> list[Value]:
    """The values of one record, in one pass over the text."""
    out: list[Value] = []
    at, n = 0, len(text)
    while at < n:
        while at < n and text[at] == " ":
            at += 1
        counted = at
        while counted < n and text[counted].isdigit():
            counted += 1
        if counted > at and counted < n and text[counted] == "H" and counted - at < 7:
            length = int(text[at:counted])
            out.append(text[counted + 1 : counted + 1 + length])
            at = counted + 1 + length
            stop = _next(text, at, ahead, end)
        else:
            stop = _next(text, at, ahead, end)
            word = text[at:stop].strip()
            if not word:
                out.append(None)
            elif _NUMBER.match(word):
                out.append(float(word.replace("D", "E").replace("d", "e")))
            else:
                out.append(word)
        if stop >= n or text[stop] == end:
            break
        at = stop + 1
    return out


def _next(text: str, at: int, ahead: str, end: str) -> int:
    """Where the next delimiter stands."""
    one, two = text.find(ahead, at), text.find(end, at)
    found = [k for k in (one, two) if k >= 0]
    return min(found) if found else len(text)
