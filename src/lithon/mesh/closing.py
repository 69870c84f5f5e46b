"""Which faces a mesh may draw together at their tips."""

from __future__ import annotations

from collections import defaultdict
from collections.abc import Collection, Iterable
from functools import cached_property

from lithon.brep.topology import Body, Edge, Face
from lithon.mesh.sizing import SizeRules


class Closing:
    """Of faces whether their tips may be drawn together below the ignore size: of such as nothing was said of, nor of
    what is around them, and that bear no other name than that."""

    def __init__(self, bodies: Iterable[Body], rules: SizeRules, avoid: Collection[Face] = ()):
        self.rules, self.limit = rules, rules.ignore or 0.0
        self._stay = {*rules.kept, *avoid} | {x for x in rules.followed if isinstance(x, Face)}
        self._asked = {e for e, _ in rules.divisions} | {x for x in rules.followed if isinstance(x, Edge)}
        self._bodies = tuple(bodies)
        self._known: dict[Face, bool] = {}

    @cached_property
    def around(self) -> dict[Edge, list[Face]]:
        """The faces of all bodies at each edge, those of each body."""
        out: dict[Edge, list[Face]] = defaultdict(list)
        for body in self._bodies:
            for use in body.uses:
                for edge in dict.fromkeys(use.face.edges()):
                    out[edge].append(use.face)
        return out

    def may(self, face: Face) -> bool:
        """Whether the tips of a face may be closed."""
        if face not in self._known:
            self._known[face] = bool(self.limit) and self._may(face)
        return self._known[face]

    def _may(self, face: Face) -> bool:
        if face in self._stay or not self._asked.isdisjoint(face.edges()):
            return False
        beside = [f for edge in face.edges() for f in self.around[edge]]
        return all(f.label == face.label and f not in self.rules.kept for f in beside)
