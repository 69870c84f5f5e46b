"""What cures a card, tried in the order in which it is offered; and all cards cured, the worst first."""

from __future__ import annotations

import time
from collections import Counter
from collections.abc import Callable, Collection, Iterator, Sequence
from contextlib import suppress
from dataclasses import dataclass, field, replace
from typing import Any

from lithon.brep.analysis.adjacency import adjacency
from lithon.brep.measures import volume
from lithon.brep.shells import closed
from lithon.brep.topology import Model
from lithon.errors import Refusal, Spent
from lithon.operations.marks import held
from lithon.operations.operation import Operation
from lithon.operations.running import Outcome, run
from lithon.operations.state import State
from lithon.progress import SILENT, Progress
from lithon.survey.between import runs_into
from lithon.survey.card import Finding
from lithon.survey.deviation import shifted
from lithon.survey.findings import findings, passed_over
from lithon.survey.groups import Group, Key, grouped

#: How far, as a share of an element, a cure may move anything unseen.
SAFE = 0.5
#: What cures of such cards, which are no features that anyone wants gone, may change of the volume in all when they are
#: taken unseen, as a share: a mesh in chords is as far off.
KEPT = 0.003
_NO_FEATURES = ("narrow face", "short edge", "small angle", "kink", "needless split", "knife edge", "cut")
#: Less (mm) is rounding.
_NOTHING = 1e-9
#: How long (s) one cure may be looked for where many are.
_PATIENCE = 5.0
#: So many times all is looked through again: what is cured can leave something else to cure.
_PASSES = 8


@dataclass(slots=True)
class Cured:
    """What came of curing: the state at the end; the volume (mm3) at the start; what was taken, each with its card; of
    each kind of card how many were taken, refused, and left because nobody may decide that unseen; and why."""

    state: State
    volume: float
    #: How much of the volume (mm3) the mesh gives up at most by what was draped over.
    given_up: float = 0.0
    taken: list[tuple[Group, Outcome, float]] = field(default_factory=list)
    tally: dict[str, Counter[str]] = field(default_factory=dict)
    reasons: list[tuple[Finding, str]] = field(default_factory=list)

    #: What was done to whole bodies, by the kind of card and their names.
    whole: set[tuple[str, str]] = field(default_factory=set)

    def note(self, group: Group, what: str) -> None:
        self.tally.setdefault(group.first.kind, Counter())[what] += len(group.findings)


def _of_whole(group: Group) -> set[tuple[str, str]]:
    """The kind of a card that offers something for whole bodies, with the name of each."""
    offer = group.first.offer
    if offer is None or all(source != "bodies" for _, source in offer.takes):
        return set()
    return {(group.first.kind, f.body.name) for f in group.findings}


def _volume(model: Model) -> float:
    """The volume (mm3) of all solids that are closed and can be measured."""
    out = 0.0
    for body in model.bodies:
        with suppress(Refusal):
            out += volume(body) if not body.sheet and closed(body) else 0.0
    return out


def _mends(out: Outcome) -> bool:
    """Whether a step mends a skin: what it encloses then is no change of the part."""
    from lithon.operations.table import rows

    return out.operation is not None and rows()[out.operation.name].station == "Mend"


def _spends(group: Group, out: Outcome) -> bool:
    """Whether what a cure changes of the volume counts: the volume of a feature is meant to go."""
    if out.operation is not None and out.operation.shapes:
        return True
    return group.first.kind in _NO_FEATURES and not _mends(out)


def ways(group: Group, unseen: bool = False) -> Iterator[Operation]:
    """The operations that a card offers, the first choice first; `unseen`: those that nobody needs to decide on."""
    from lithon.operations.table import rows  # some operations of the table are made of these

    for offer in group.first.offers:
        if (unseen and offer.by_hand) or (group.rest and any(source == "bodies" for _, source in offer.takes)):
            continue
        yield rows()[offer.operation].operation(**group.values(offer))


def moved(before: Model, out: Outcome) -> float:
    """How far (mm) a cure has moved anything: as it tells itself, else measured. What mends a skin and tells nothing
    has only filled, dropped or joined."""
    said = [float(d["moved_mm"]) for d in out.details if "moved_mm" in d]
    if said or _mends(out) or out.model is before:
        return max(said, default=0.0)
    stayed = set(before.bodies) & set(out.model.bodies)
    return shifted([b for b in before.bodies if b not in stayed], [b for b in out.model.bodies if b not in stayed])


@dataclass(frozen=True, slots=True)
class Tried:
    """What curing a card gave, by how much (mm) it moves anything; or why nothing: `over`, where a cure holds but moves
    more than the limit."""

    outcome: Outcome | None = None
    moved: float = 0.0
    why: str = ""
    over: bool = False


def _run(state: State, group: Group, operation: Operation, progress: Progress) -> Outcome:
    """What an operation that a card offers gives. Raises Refusal where it cures nothing, Spent, Cancelled."""
    with progress.within(_PATIENCE):
        out = run(state, operation, progress)
    if out.model is state.model and group.first.kind in ("narrow face", "kink"):
        rules = out.state.rules()
        if not all(passed_over([f], f.body, rules)[0] for f in group.findings):
            raise Refusal("the mesh would still follow it: it joins others at its ends only")
    return out


def given_up(out: Outcome) -> float:
    """How much volume (mm3) the mesh gives up at most where a step lets it go over edges."""
    return sum(float(d.get("given_up_mm3", 0.0)) for d in out.details)


def cure(
    state: State, group: Group, limit: float, was: float, spent: float = 0.0, progress: Progress = SILENT
) -> Tried:
    """What the first cure of a card gives that is not refused, moves nothing by more than a limit (mm) and leaves of a
    volume (mm3) what is to be kept of it; `spent`: what the mesh has given up of it before. Raises Cancelled."""
    why, over = "", False
    for operation in ways(group, unseen=True):
        try:
            out = _run(state, group, operation, progress)
        except (Refusal, Spent) as refusal:
            why = why or refusal.what
            continue
        far = moved(state.model, out)
        same = out.model is state.model or not _spends(group, out)
        change = 0.0 if same else abs(_volume(out.model) - was)
        over_edges = given_up(out)
        if far > limit:
            why, over = f"it would move by {far:.2g} mm", True
        elif change > KEPT * was and change > abs(_volume(state.model) - was):
            why, over = f"the volume would change by {100.0 * change / was:.2g} % in all", True
        elif was > 0.0 < over_edges and spent + over_edges > KEPT * was:
            why, over = f"the mesh could give up {100.0 * (spent + over_edges) / was:.2g} % of the volume", True
        elif out.model is not state.model and (pair := runs_into(state.model, out.model)) is not None:
            why, over = f"{pair[0].name} would run into {pair[1].name}", True
        else:
            return Tried(out, far)
    return Tried(why=why or group.first.advice or "no operation cures this by itself", over=over)


def cured(
    state: State, limit: float, progress: Progress = SILENT, only: Sequence[str] = (),
    taken: Callable[[Outcome], object] = lambda out: None,
) -> Cured:  # fmt: skip
    """Every cure taken that moves nothing by more than a limit (mm), the worst card first, until none is left: of all
    cards but those that speak for keeping what they are about; or of those only whose first offer is one of `only`.
    `taken` is told each step. Raises Cancelled."""
    out, refused = Cured(state, _volume(state.model)), dict[tuple[Any, ...], Tried]()
    for _ in range(_PASSES):
        if not _pass(out, limit, progress, only, refused, taken):
            break
    progress.tell(0.95, "looking at what is left")
    for group in _groups(out.state, only):
        f = group.first
        fate = refused.get(_key(f))
        out.note(group, "left" if fate is None or fate.over or f.keep else "refused")
        why = f.keep or (fate.why if fate is not None else f.advice or "it gives up a little of the shape")
        out.reasons += [(x, why) for x in group.findings]
    return out


@dataclass(frozen=True, slots=True)
class Way:
    """What has come of trying what a card offers: which of its offers holds (its number) and how far (mm) it moves
    anything; else none and why."""

    number: int | None
    why: str = ""
    moved: float = 0.0

    @property
    def words(self) -> str:
        """How far it moves anything."""
        return f"The cure moves {self.moved:.2g} mm." if self.moved > _NOTHING else "The cure moves nothing."


def tried(state: State, known: Collection[Key], seconds: float, progress: Progress = SILENT) -> dict[Key, Way]:
    """For cards that are not known yet, which of their offers holds on the whole card, as many as there is time for
    (s); those about few faces first. Raises Cancelled."""
    groups = [g for g in _groups(state, ()) if g.key not in known and g.first.offers]
    groups.sort(key=lambda g: len(g.faces) + len(g.edges))
    out: dict[Key, Way] = {}
    end = time.monotonic() + seconds
    for group in groups:
        why = ""
        for number, operation in enumerate(ways(group)):
            try:
                taken = _run(state, group, operation, progress)
                out[group.key] = Way(number, moved=moved(state.model, taken))
                break
            except (Refusal, Spent) as refusal:
                why = why or refusal.what
        else:
            out[group.key] = Way(None, why)
        if time.monotonic() > end:
            break
    return out


def in_short(out: Cured) -> list[dict[str, Any]]:
    """What was taken, a line for each kind of card and cure: how many findings, the furthest that anything moved."""
    lines: dict[tuple[str, str], dict[str, Any]] = {}
    for d in told(out):
        line = lines.setdefault((d["kind"], d["cure"]), {"kind": d["kind"], "cure": d["cure"], "findings": 0})
        line["findings"] += 1
        if d["moved_mm"] > _NOTHING:
            line["moved_mm"] = max(d["moved_mm"], line.get("moved_mm", 0.0))
    return sorted(lines.values(), key=lambda line: -line["findings"])


def told(out: Cured) -> list[dict[str, Any]]:
    """What was taken, a line for each finding."""
    return [
        {"kind": f.kind, "body": f.body.name, "place_mm": list(f.place), "cure": outcome.operation.name
         if outcome.operation is not None else "", "moved_mm": far}
        for group, outcome, far in out.taken for f in group.findings
    ]  # fmt: skip


def _pass(
    out: Cured, limit: float, progress: Progress, only: Sequence[str], refused: dict[tuple[Any, ...], Tried],
    taken: Callable[[Outcome], object],
) -> bool:  # fmt: skip
    """Go once through all cards; whether any was cured."""
    groups = _groups(out.state, only)
    any_taken = False
    for k, group in enumerate(groups):
        f = group.first
        progress.tell(0.9 * k / len(groups), f"{f.kind} in {f.body.name}")
        if f.keep or all(o.by_hand for o in f.offers) or _key(f) in refused:
            continue
        done: set[Finding] = set()
        if (whole := _of_whole(group)) and whole <= out.whole:
            group = Group(group.findings, rest=True)  # done to whole bodies once more it does no more to them
            if not any(True for _ in ways(group, unseen=True)):
                continue
        for then in group.parts():
            if then is not group and (before := refused.get(_key(f))) is not None and before.over and not f.by_cause:
                break  # what is alike is treated alike
            if done.issuperset(then.findings):
                continue
            part = _now(out.state, then)
            if part is None:
                continue
            fate = cure(out.state, part, limit, out.volume, out.given_up, progress)
            if fate.outcome is None:
                refused.setdefault(_key(part.first), fate)
                continue
            if not _spends(part, fate.outcome):
                out.volume += _volume(fate.outcome.model) - _volume(out.state.model)
            out.given_up += given_up(fate.outcome)
            out.state = fate.outcome.state
            out.taken.append((part, fate.outcome, fate.moved))
            out.note(part, "taken")
            out.whole |= _of_whole(part)
            done.update(then.findings)
            taken(fate.outcome)
            any_taken = True
            if then is group:
                refused.pop(_key(f), None)
                break
    return any_taken


def _groups(state: State, only: Sequence[str]) -> list[Group]:
    """The cards of a state, but for those about what is held."""
    kept = held(state.marks)
    found = findings(state.model, state.settings.size, rules=state.rules())
    open_ones = [f for f in found if not (f.faces and kept.issuperset(f.faces))]
    if only:
        open_ones = [f for f in open_ones if f.offer is not None and f.offer.operation in only and f.faces]
    # What is done to a whole body before what is done to faces of it: those may not be there any more.
    return sorted(grouped(open_ones), key=lambda g: (g.first.severity != "stops", not _of_whole(g)))


def _now(state: State, group: Group) -> Group | None:
    """A card as it is in a state, its bodies those that its faces and edges are of now; none where something that it is
    about is gone: what became of it is looked at again."""
    bodies = set(state.model.bodies)
    out: list[Finding] = []
    for f in group.findings:
        if f.other is not None and f.other not in bodies:
            return None
        if f.body in bodies:
            out.append(f)
            continue
        heirs = [b for b in state.model.bodies if all(b.use_of(face) is not None for face in f.faces)
                 and all(edge in adjacency(b).uses for edge in f.edges)]  # fmt: skip
        if not heirs or not (f.faces or f.edges):
            return None
        out.append(replace(f, body=heirs[0]))
    return Group(out, group.rest)


def _key(card: Finding) -> tuple[Any, ...]:
    return card.kind, card.body.name, *(round(x, 6) for x in card.place)
