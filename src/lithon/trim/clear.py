"""Clear: faces go, their neighbours extend or trim until they meet again; those beside a step become one.

The removed faces leave a wound whose rim is a cycle of neighbour faces. A rim on one face just
closes. Otherwise the edges between consecutive neighbours are run on, and which neighbours meet
inside the wound is a triangulation of the rim polygon: each triangle is a corner where three
faces meet, each diagonal a new edge between two faces. All triangulations are tried and ranked, so
"other solutions" is the same search.
"""

from __future__ import annotations

from collections.abc import Collection
from contextlib import suppress
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.adjacency import Adjacency, adjacency
from lithon.brep.charts import chart_of
from lithon.brep.collapse import collapsed
from lithon.brep.gate import worse
from lithon.brep.loops import flat_loop
from lithon.brep.measures import face_width, volume
from lithon.brep.tessellation.division import edge_points
from lithon.brep.topology import Body, Face, FaceUse, backwards
from lithon.errors import Refusal, spot
from lithon.geometry.tolerance import MISS
from lithon.progress import SILENT, Progress
from lithon.trim.blends import unblended
from lithon.trim.level import levelled, step_of
from lithon.trim.regrow import Corners, Neighbour, neighbours, regrown
from lithon.trim.rims import cycles, entries_of, rim_of, wounds_of

#: A rim with more neighbours than this is first taken for blends, which need no search.
_PLAIN = 4


@dataclass(frozen=True, slots=True, eq=False)
class Cleared:
    """One way to close: the body, how its volume changed (mm3), what was removed."""

    body: Body
    volume_change: float
    removed: int


def clear(body: Body, faces: Collection[Face], tolerance: float, progress: Progress = SILENT) -> list[Cleared]:
    """All sound ways to close after removing these faces, the nearest first.

    With several wounds each is closed its nearest way; with one, all its ways are returned.
    Raises Refusal, naming the place, where a wound cannot close.
    """
    chosen = [f for f in body.faces if f in set(faces)]
    if not chosen:
        raise Refusal("none of the chosen faces belongs to this body")
    if len(chosen) == len(body.uses):
        raise Refusal("all faces of the body are chosen: nothing would remain", remedy="leave some faces out")
    wounds = wounds_of(adjacency(body), chosen)
    before = volume(body)
    current, wounds = _all_thin(body, wounds, tolerance)
    if len(wounds) > 1:
        current, wounds = _all_plain(current[0], wounds, tolerance)
        current, wounds = _all_blends(current[0], wounds, tolerance)
    for k, wound in enumerate(wounds):
        progress.tell(k / len(wounds), f"closing {k + 1} of {len(wounds)}")
        current = _close(current[0], wound, tolerance)
    return [Cleared(b, volume(b) - before, len(chosen)) for b in current]


def wounds(body: Body, faces: Collection[Face]) -> list[list[Face]]:
    """Faces of a body by the wound that they would leave."""
    return wounds_of(adjacency(body), [f for f in body.faces if f in set(faces)])


def trimmed(sheet: Body, faces: Collection[Face], tolerance: float, progress: Progress = SILENT) -> Body:
    """A sheet without some of its faces: what reaches its free edges just goes, over the rest the neighbours close.

    Raises Refusal where nothing would be left or a wound cannot close.
    """
    adj = adjacency(sheet)
    gone = {f for group in wounds(sheet, faces) for f in group if any(
        len(adj.uses[e]) == 1 for g in group for e in g.edges())}  # fmt: skip
    out = sheet.with_uses(use for use in sheet.uses if use.face not in gone) if gone else sheet
    if not out.uses:
        raise Refusal("nothing of the sheet would be left", remedy="drop it instead")
    rest = [f for f in faces if f not in gone]
    return clear(out, rest, tolerance, progress)[0].body if rest else out


def _all_thin(body: Body, wounds: list[list[Face]], tolerance: float) -> tuple[list[Body], list[list[Face]]]:
    """The body with all those wounds closed whose faces are no wider than what counts as one place."""
    thin = [wound for wound in wounds if all(face_width(face) <= 0.5 * MISS * tolerance for face in wound)]
    if not thin:
        return [body], wounds
    try:
        made = collapsed(body, [face for wound in thin for face in wound], 0.8 * MISS * tolerance)
    except Refusal:
        return [body], wounds
    if _wrong(made, body, tolerance):
        return [body], wounds
    return [made], [wound for wound in wounds if all(wound is not t for t in thin)]


def _all_plain(body: Body, wounds: list[list[Face]], tolerance: float) -> tuple[list[Body], list[list[Face]]]:
    """The body with all those wounds closed that leave no more than inner loops behind, and the other wounds.
    Nothing is chosen there, so one pass and one look at the whole do for all of them."""
    adj = adjacency(body)
    plain: list[list[Face]] = []
    others: list[list[Face]] = []
    dropped: dict[Face, set[int]] = {}
    for wound in wounds:
        loops = _droppable(adj, wound)
        (plain if loops else others).append(wound)
        for face, index in loops:
            dropped.setdefault(face, set()).add(index)
    gone = {face for wound in plain for face in wound}
    made = body.with_uses(_without(use, dropped.get(use.face, set())) for use in body.uses if use.face not in gone)
    if not plain or _wrong(made, body, tolerance):
        return [body], wounds  # one after the other tells which is to blame
    return [made], others


def _all_blends(body: Body, wounds: list[list[Face]], tolerance: float) -> tuple[list[Body], list[list[Face]]]:
    """The body with all fillets among the wounds undone, and the other wounds: nothing is chosen there either."""
    adj = adjacency(body)
    blends = [wound for wound in wounds if all(_runs_on_smoothly(adj, face) for face in wound)]
    if len(blends) < 2:
        return [body], wounds
    try:
        made = unblended(body, adj, [face for wound in blends for face in wound], tolerance)
    except Refusal:
        return [body], wounds
    if _wrong(made, body, tolerance):
        return [body], wounds
    gone = {id(wound) for wound in blends}
    return [made], [wound for wound in wounds if id(wound) not in gone]


def _runs_on_smoothly(adj: Adjacency, face: Face) -> bool:
    """Whether a curved face goes over into others at two of its edges or more, as fillets do."""
    return face.surface.kind != "plane" and sum(adj.turn(e) == "smooth" for e in dict.fromkeys(face.edges())) >= 2


def _droppable(adj: Adjacency, wound: list[Face]) -> list[tuple[Face, int]]:
    """The loops, by face and number, that go with a wound when its whole rim is made of inner loops; else none."""
    out = []
    try:
        around = [entries_of(cycle) for cycle in cycles(rim_of(adj, wound))]
        for entries in around:
            face, first = entries[0].use.face, entries[0].rim[0]
            index = next((i for i, loop in enumerate(face.loops) if any(c is first for c in loop)), -1)
            if len(entries) > 1 or not _may_drop(face, index):
                return []
            out.append((face, index))
    except Refusal:
        return []
    return out


def _close(body: Body, wound: list[Face], tolerance: float) -> list[Body]:
    adj = adjacency(body)
    gone = set(wound)
    here = np.mean([edge_points(e)[1].mean(axis=0) for f in wound for e in f.edges()], axis=0)
    rim = rim_of(adj, wound)
    step = step_of(adj, wound[0]) if len(wound) == 1 else None
    if step is not None:
        with suppress(Refusal):
            return _sound(list(levelled(body, step, tolerance)), body, tolerance, here, wound)
    if not rim:
        raise Refusal("the chosen faces are a whole shell of the body", where=spot(here))
    dropped: dict[Face, set[int]] = {}
    around_cycles: list[list[Neighbour]] = []
    for cycle in cycles(rim):
        entries = entries_of(cycle)
        if len(entries) == 1:
            use = entries[0].use
            index = next((i for i, loop in enumerate(use.face.loops) if any(c is entries[0].rim[0] for c in loop)), -1)
            if not _may_drop(use.face, index):
                through = _run_through(body, adj, wound, tolerance)
                if through is not None:
                    return _sound([through], body, tolerance, here, wound)
                if len(rim) > len(entries[0].rim):
                    return _unblended(body, adj, wound, tolerance, here)
                raise Refusal(
                    f"the {use.face.surface.kind} face around the wound would lose its outer boundary",
                    where=spot(edge_points(entries[0].rim[0].edge)[1][0]),
                    remedy="choose that face as well",
                    entities=(use.face,),
                )
            dropped.setdefault(use.face, set()).add(index)
        else:
            around_cycles.append(entries)
    kept = [_without(use, dropped.get(use.face, set())) for use in body.uses if use.face not in gone]
    swapped = {old.face: new.face for old, new in zip((u for u in body.uses if u.face not in gone), kept, strict=True)}
    base = body.with_uses(kept)
    # A rim around a pocket is beside one loop of a face and beside several walls.
    if around_cycles and (len(around_cycles) > 1 or dropped or len(around_cycles[0]) > _PLAIN):
        try:
            return _unblended(body, adj, wound, tolerance, here)
        except Refusal:
            if len(around_cycles) > 1:
                raise
    if not around_cycles:
        return _sound([base], body, tolerance, here, wound)
    corners = Corners(here, tolerance)
    refusal: Refusal | None = None
    for stay in (True, False):
        try:
            around, links = neighbours(adj, gone, around_cycles[0], stay)
            entries = [replace(e, use=FaceUse(swapped[e.use.face], e.use.forward)) for e in around]
            corners.learn(entries, links)
            return _sound(list(regrown(base, entries, links, corners)), body, tolerance, here, wound)
        except Refusal as error:
            refusal = refusal or error
        if all(edge is not None for edge, _ in links):
            break  # no vertex of the rim can be taken in another way
    assert refusal is not None
    raise refusal


def _run_through(body: Body, adj: Adjacency, wound: list[Face], tolerance: float) -> Body | None:
    """The body with faces on one surface joined over a wound between whole loops of theirs, as over a groove around a
    bore; none where the wound is no such band."""
    try:
        around = [entries_of(cycle) for cycle in cycles(rim_of(adj, wound))]
    except Refusal:
        return None
    if len(around) < 2 or any(len(entries) > 1 for entries in around):
        return None
    lost: dict[FaceUse, set[int]] = {}
    for entries in around:
        use = entries[0].use
        index = next((i for i, loop in enumerate(use.face.loops) if any(c is entries[0].rim[0] for c in loop)), -1)
        if index < 0 or len(use.face.loops[index]) != len(entries[0].rim):
            return None
        lost.setdefault(use, set()).add(index)
    first, *others = lost
    loops = [x for i, x in enumerate(first.face.loops) if i not in lost[first]]
    for use in others:
        face = use.face
        if face.surface.kind == "plane" or not first.face.surface.same_as(face.surface, 20.0 * tolerance, 1e3):
            return None
        at = next(face.edges()).at(0.5)[None]
        if float(first.outward(at)[0] @ use.outward(at)[0]) <= 0.0 or face.label != first.face.label:
            return None
        same = float(first.face.normal(at)[0] @ face.normal(at)[0]) > 0.0
        own = [x for i, x in enumerate(face.loops) if i not in lost[use]]
        loops += own if same else [backwards(x) for x in own]
    joined = FaceUse(first.face.with_loops(loops), first.forward)
    gone = set(wound)
    kept = (joined if use is first else use for use in body.uses if use.face not in gone and use not in others)
    return body.with_uses(kept)


def _unblended(body: Body, adj: Adjacency, wound: list[Face], tolerance: float, here: Floats) -> list[Body]:
    try:
        return _sound([unblended(body, adj, wound, tolerance)], body, tolerance, here, wound)
    except Refusal as refusal:
        raise Refusal(
            refusal.what,
            where=refusal.where or spot(here),
            remedy="choose the faces beside it as well, or clear its parts one after the other",
            entities=tuple(wound),
        ) from refusal


def _wrong(made: Body, before: Body, tolerance: float) -> str:
    """What is wrong with a body that was made of another and not with that one."""
    found = worse(made, [before], tolerance)
    return found[0].text if found else ""


def _sound(candidates: list[Body], before: Body, tolerance: float, here: Floats, wound: list[Face]) -> list[Body]:
    good, why = [], ""
    for body in candidates:
        wrong = _wrong(body, before, tolerance)
        if wrong:
            why = why or wrong
        else:
            good.append(body)
    if not good:
        reason = f" ({why})" if why else ""
        raise Refusal(
            f"the neighbours do not meet again over the wound{reason}",
            where=spot(here),
            remedy="choose the faces beside it as well, or leave it",
            entities=tuple(wound),
        )
    return good


def _may_drop(face: Face, index: int) -> bool:
    """Whether a face still has its outline without this loop."""
    flat, advance = flat_loop(face.loops[index], chart_of(face), face.along)
    if advance:
        return False
    x, y = flat[:, 0], flat[:, 1]
    return float((x * np.roll(y, -1) - np.roll(x, -1) * y).sum()) < 0.0


def _without(use: FaceUse, loops: set[int]) -> FaceUse:
    if not loops:
        return use
    return FaceUse(use.face.without_loops(loops), use.forward)
