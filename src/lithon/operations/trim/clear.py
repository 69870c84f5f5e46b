"""Clear: faces go, their neighbours extend or trim until they meet again."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.topology import Body, Edge, Face, Model
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Flag, Things, faces, solution
from lithon.survey.features import features
from lithon.survey.measuring import distance
from lithon.trim.clear import clear, trimmed, wounds
from lithon.trim.rounding import rounded
from lithon.words import many


class Clear(Operation):
    """Remove faces and let their neighbours close up."""

    faces: Choice = param(faces(help="what goes, such as: fillets where radius <= 2 mm"))
    solution: int = param(solution())
    but: Choice = param(Things(title="but", help="what of it stays", of="faces", optional=True))
    partly: bool = param(Flag(title="what can go", help="where not all can", default=False, optional=True))
    reference: bool = param(Flag(title="keep for reference", help="what goes, as a sheet that is not meshed",
                                 default=False, optional=True))  # fmt: skip

    unbonded = "clear"
    budget = 20.0
    gate = "own"
    on_sheets = True

    def do(self, bench: Bench) -> Made:
        stay = set(bench.faces("but"))
        chosen = [f for f in bench.faces() if f not in stay]
        if not chosen:
            raise Refusal("all that was chosen stays", remedy="leave less of it in")
        out, solutions, left = bench.model, 1, []
        for body, own in bench.by_body(chosen):
            going = own
            try:
                ways = self._ways(body, own, bench)
            except Refusal:
                if not self.partly:
                    raise
                ways, going = _what_can(body, own, bench)
                left += [f for f in own if f not in set(going)]
            solutions = max(solutions, len(ways))
            made = [ways[min(self.solution, len(ways) - 1)]]
            out = out.replaced(body, made + ([_kept(body, going)] if self.reference else []))
        gone = [f for f in chosen if f not in set(left)]
        asked = self.faces.question.split(" where")[0]
        words = f"clear {asked or in_words(bench.model, gone)}" + (" on twins" if self.faces.twins else "")
        if left:
            words += f", {many(len(left), 'face')} left"
        return Made(out, words, solutions, [{"left": len(left)}] if left else ())

    @staticmethod
    def _ways(body: Body, own: Sequence[Face], bench: Bench) -> list[Body]:
        if body.sheet:
            return [trimmed(body, own, bench.tolerance, bench.progress)]
        try:
            return [way.body for way in clear(body, own, bench.tolerance, bench.progress)]
        except Refusal:
            ends = flat_ends(body, own)
            if ends:  # those of a round go with it
                return [way.body for way in clear(body, [*own, *ends], bench.tolerance, bench.progress)]
            made = _part_of_chains(body, own, bench)
            if made is None:
                raise
            return [made]

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        all_of = any(set(b.made_faces()) <= set(chosen.faces) and b.uses for b in chosen.of("bodies"))
        return super().fits(chosen) and not all_of

    @classmethod
    def taken(cls, chosen: Chosen) -> dict[str, Any] | None:
        values = super().taken(chosen)
        return None if values is None else {key: value for key, value in values.items() if key == "faces"}


def flat_ends(body: Body, own: Sequence[Face]) -> list[Face]:
    """The flat ends of rounds among some faces: planes of three sides, one of them an arc across the round."""
    adj, chosen = adjacency(body), set(own)
    rounds = [f for f in own if f.surface.kind in ("cylinder", "torus")]
    return [g for f in rounds for g in adj.neighbours(f) if g not in chosen and g.surface.kind == "plane"
            and len(g.loops) == 1 and len(g.loops[0]) == 3
            and any(c.edge.curve.kind == "circle" and adj.across(g, c.edge) is f for c in g.loops[0])]  # fmt: skip


def _part_of_chains(body: Body, own: Sequence[Face], bench: Bench) -> Body | None:
    """The body where only parts of chains of fillets go: the chains are cleared, and what stays of them is rounded
    again up to flat ends. None where something else is among what goes."""
    gone = set(own)
    chains = [f for f in features(body) if f.kind == "fillet" and not gone.isdisjoint(f.faces)]
    whole = [x for chain in chains for x in chain.faces]
    if not gone <= set(whole) or set(whole) == gone:
        return None
    bare = clear(body, whole, bench.tolerance, bench.progress)[0].body
    old = set(body.edges())
    fresh = [e for e in bare.edges() if e not in old and abs(adjacency(bare).angle(e)) > 1e-3]
    for chain in chains:
        over: dict[Face, list[Edge]] = {}
        for edge in fresh:
            at = edge.at(0.5)
            near = min(chain.faces, key=lambda f: distance(f, at)[0])
            if distance(near, at)[0] < 2.0 * chain.size:
                over.setdefault(near, []).append(edge)
        stay = [e for face, edges in over.items() if face not in gone for e in edges]
        if stay:
            bare = rounded(bare, stay, chain.size, bench.tolerance)
    return bare


def _what_can(body: Body, own: Sequence[Face], bench: Bench) -> tuple[list[Body], list[Face]]:
    """The body without what of some faces can go, wound by wound, and those faces. Raises Refusal where none can."""
    groups = wounds(body, own)
    good, why = [], None
    for k, group in enumerate(groups):
        bench.progress.tell(k / len(groups), f"trying {k + 1} of {len(groups)}")
        try:
            Clear._ways(body, group, bench)
            good.append(group)
        except Refusal as refusal:
            why = refusal
    while good:
        going = [f for group in good for f in group]
        try:
            return Clear._ways(body, going, bench), going
        except Refusal as refusal:  # one by one they can, not together
            why = refusal
            good = good[:-1]
    raise why or Refusal("none of these faces can go", remedy="choose others", entities=tuple(own))


def _kept(body: Body, gone: Sequence[Face]) -> Body:
    uses = tuple(use for use in body.uses if use.face in set(gone))
    return Body(uses, f"{body.name} cleared", body.path, body.colour, sheet=True, reference=True)


def in_words(model: Model, faces: Sequence[Face]) -> str:
    """'4 fillets' where the faces are whole features of one kind, else '4 faces'."""
    chosen = set(faces)
    owners = dict.fromkeys(b for b in model.bodies for f in faces if b.use_of(f) is not None)
    whole = [f for b in owners for f in features(b) if set(f.faces) <= chosen]
    outer = [f for f in whole if not any(f is not g and set(f.faces) < set(g.faces) for g in whole)]
    kinds: set[str] = {f.kind for f in outer}
    if len(kinds) == 1 and {x for f in outer for x in f.faces} == chosen:
        n, kind = len(outer), kinds.pop()
    else:
        n, kind = len(faces), "face"
    return many(n, kind)
