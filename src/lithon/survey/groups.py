"""Findings that are alike, together: what one card of the Docket is about, and what is cured in one go."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Any

from lithon.brep.topology import Edge, Face
from lithon.survey.card import Finding, Offer

_ORDER = {"stops": 0, "costs": 1, "note": 2}


Key = tuple[str, float, str, bool]


def key_of(f: Finding) -> Key:
    """What findings of one card have in common."""
    return f.kind, round(f.size, 3), f.text, bool(f.keep)


@dataclass(slots=True)
class Group:
    """Findings of one kind and size: one card."""

    findings: list[Finding]

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

    def values(self, offer: Offer) -> dict[str, list[Any]]:
        """What an offer takes, of everything that the card is about; of bodies and edges those of the first."""
        out: dict[str, list[Any]] = {}
        for parameter, source in offer.takes:
            every = source in ("faces", "lines", "beside")
            given = [x for f in (self.findings if every else self.findings[:1]) for x in f.given(source)]
            out[parameter] = list(dict.fromkeys(given))
        return out


def grouped(findings: Sequence[Finding]) -> list[Group]:
    """Like findings together; what should rather be kept stands alone. Worst first."""
    table: dict[Key, list[Finding]] = {}
    for f in findings:
        table.setdefault(key_of(f), []).append(f)
    groups = [Group(v) for v in table.values()]
    return sorted(groups, key=lambda g: (_ORDER[g.first.severity], bool(g.first.keep), g.first.size))
