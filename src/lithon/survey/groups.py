"""Findings that are alike, together: what one card of the Docket is about, and what is cured in one go."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from lithon.brep.topology import Edge, Face
from lithon.survey.card import OF_ALL, Finding, Offer
from lithon.words import many, several

#: So much further (ratio) than the nearest place two bodies are brought together over.
_BEYOND = 1.02
_ORDER = {"stops": 0, "costs": 1, "note": 2}
#: What many findings of one cause are called, and what they come to, where that of one does not say it.
_TOGETHER = {"not followed": "small things not followed"}
#: Such findings are about whole bodies, not about something in them.
_WHOLE = ("sliver body",)
_THEN = {
    "short edge": "The elements on them are that small.",
    "narrow face": "They are no wider than that.",
    "thin wall": "Elements shrink there to what fits across.",
}


Key = tuple[str, float, str, bool]


def key_of(f: Finding) -> Key:
    """What findings of one card have in common."""
    if f.by_cause:
        return f.kind, -1.0, "", bool(f.keep)
    return f.kind, round(f.size, 3), f.text, bool(f.keep)


@dataclass(slots=True)
class Group:
    """Findings of one kind and size, or of one cause: one card. `rest`: a part of a card, of whose bodies what would
    cure all was tried before."""

    findings: list[Finding]
    rest: bool = False

    @property
    def first(self) -> Finding:
        return self.findings[0]

    @property
    def key(self) -> Key:
        """Tells a card from the others of its model."""
        return key_of(self.first)

    @property
    def faces(self) -> list[Face]:
        return list(dict.fromkeys(f for x in self.findings for f in x.faces))

    @property
    def edges(self) -> list[Edge]:
        return [e for x in self.findings for e in x.edges]

    @property
    def text(self) -> str:
        """What the card is about, in a line."""
        f, n = self.first, len(self.findings)
        if n == 1 or not f.by_cause:
            return f"{n} × {f.text}" if n > 1 else f.text
        bodies = len(dict.fromkeys(x.body for x in self.findings))
        what = _TOGETHER.get(f.kind, f"{n} {several(f.kind)}")
        return f"{what} in {many(bodies, 'body')}" if bodies > 1 and f.kind not in _WHOLE else what

    @property
    def consequence(self) -> str:
        """What comes of it where nothing is done."""
        f = self.first
        same = len(self.findings) == 1 or not f.by_cause
        return f.consequence if same else _THEN.get(f.kind, f.consequence)

    @property
    def sizes(self) -> tuple[float, float]:
        """The smallest and the largest of what it is about (mm)."""
        sizes = [f.size for f in self.findings]
        return min(sizes), max(sizes)

    def parts(self) -> list[Group]:
        """The card, then, where it is about several things, these by themselves: those of each body, each alone."""
        if len(self.findings) == 1:
            return [self]
        own: dict[int, list[Finding]] = {}
        for f in self.findings:
            own.setdefault(id(f.body), []).append(f)
        by_body = [Group(v, self.rest) for v in own.values()] if self.first.by_cause and len(own) > 1 else []
        return [self, *by_body, *(Group([f], rest=self.first.by_cause) for f in self.findings)]

    def values(self, offer: Offer) -> dict[str, Any]:
        """What an offer takes, of everything that the card is about; of pairs of bodies and of edges those of the
        first, and a little more than how far these are apart."""
        out: dict[str, Any] = {}
        for parameter, source in offer.takes:
            if source == "reach":
                out[parameter] = float(f"{_BEYOND * self.first.size:.3g}")
                continue
            if source == "setback":
                out[parameter] = float(f"{max(f.setback for f in self.findings):.3g}")
                continue
            asked = self.findings if source in OF_ALL else self.findings[:1]
            given = [x for f in asked for x in f.given(source)]
            out[parameter] = list(dict.fromkeys(given))
        return out


def grouped(findings: Sequence[Finding]) -> list[Group]:
    """Like findings together; what should rather be kept stands alone. Worst first."""
    table: dict[Key, list[Finding]] = {}
    for f in findings:
        table.setdefault(key_of(f), []).append(f)
    groups = [Group(v) for v in table.values()]
    return sorted(groups, key=lambda g: (_ORDER[g.first.severity], bool(g.first.keep), g.first.size))
