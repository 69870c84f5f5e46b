"""Clear: faces go, their neighbours extend or trim until they meet again.

The removed faces leave a wound whose rim is a cycle of neighbour faces. A rim on one face just
closes. Otherwise the edges between consecutive neighbours are run on, and which neighbours meet
inside the wound is a triangulation of the rim polygon: each triangle is a corner where three
faces meet, each diagonal a new edge between two faces. All triangulations are tried and ranked, so
"other solutions" is the same search.
"""

from __future__ import annotations

from collections.abc import Collection, Iterator
from dataclasses import dataclass, replace

import numpy as np

from lithon.arrays import Floats
from lithon.brep.adjacency import Adjacency, adjacency
from lithon.brep.charts import chart_of
from lithon.brep.crossings import fresh_cuts
from lithon.brep.loops import flat_loop
from lithon.brep.measures import face_width, volume
from lithon.brep.tessellate import edge_points
from lithon.brep.topology import Body, Coedge, Edge, Face, FaceUse, Loop, Vertex, vertex_at
from lithon.brep.validate import flaws
from lithon.errors import Refusal, spot
from lithon.geometry.curves import Line
from lithon.geometry.meet import cross, meet
from lithon.geometry.surfaces import Surface
from lithon.geometry.tolerance import MISS
from lithon.progress import SILENT, Progress
from lithon.trim.blends import unblended
from lithon.trim.collapse import collapsed
from lithon.trim.running import bounded, extended, reach

_MOST_NEIGHBOURS = 8
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
    wounds = _wounds(adjacency(body), chosen)
    before = volume(body)
    current, wounds = _all_thin(body, wounds, tolerance)
    if len(wounds) > 1:
        current, wounds = _all_plain(current[0], wounds, tolerance)
        current, wounds = _all_blends(current[0], wounds, tolerance)
    for k, wound in enumerate(wounds):
        progress.tell(k / len(wounds), f"closing {k + 1} of {len(wounds)}")
        current = _close(current[0], wound, tolerance)
    return [Cleared(b, volume(b) - before, len(chosen)) for b in current]


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
        cycles = [_entries(cycle) for cycle in _cycles(_rim(adj, wound))]
        for entries in cycles:
            face, first = entries[0].use.face, entries[0].rim[0]
            index = next((i for i, loop in enumerate(face.loops) if any(c is first for c in loop)), -1)
            if len(entries) > 1 or not _may_drop(face, index):
                return []
            out.append((face, index))
    except Refusal:
        return []
    return out


def _wounds(adj: Adjacency, chosen: list[Face]) -> list[list[Face]]:
    """Connected groups of the chosen faces."""
    left = dict.fromkeys(chosen)
    out = []
    while left:
        stack = [next(iter(left))]
        left.pop(stack[0])
        group = []
        while stack:
            face = stack.pop()
            group.append(face)
            for other in adj.neighbours(face):
                if other in left:
                    left.pop(other)
                    stack.append(other)
        out.append(group)
    return out


@dataclass(frozen=True, slots=True, eq=False)
class _Entry:
    """One neighbour of the wound: its use, the rim coedges as its loop walks them, and the vertex at which the walk
    around the wound comes to the next one. A face that only touches the rim, at that vertex, has no coedges."""

    use: FaceUse
    rim: tuple[Coedge, ...]
    after: Vertex | None = None


def _close(body: Body, wound: list[Face], tolerance: float) -> list[Body]:
    adj = adjacency(body)
    gone = set(wound)
    here = np.mean([edge_points(e)[1].mean(axis=0) for f in wound for e in f.edges()], axis=0)
    rim = _rim(adj, wound)
    if not rim:
        raise Refusal("the chosen faces are a whole shell of the body", where=spot(here))
    dropped: dict[Face, set[int]] = {}
    cycles: list[list[_Entry]] = []
    for cycle in _cycles(rim):
        entries = _entries(cycle)
        if len(entries) == 1:
            use = entries[0].use
            index = next((i for i, loop in enumerate(use.face.loops) if any(c is entries[0].rim[0] for c in loop)), -1)
            if not _may_drop(use.face, index):
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
            cycles.append(entries)
    kept = [_without(use, dropped.get(use.face, set())) for use in body.uses if use.face not in gone]
    swapped = {old.face: new.face for old, new in zip((u for u in body.uses if u.face not in gone), kept, strict=True)}
    base = body.with_uses(kept)
    if len(cycles) > 1 or any(len(c) > _PLAIN for c in cycles):
        try:
            return _unblended(body, adj, wound, tolerance, here)
        except Refusal:
            if len(cycles) > 1:
                raise
    if not cycles:
        return _sound([base], body, tolerance, here, wound)
    made: list[Body] = []
    for stay in (True, False):
        around, links = _neighbours(adj, gone, cycles[0], stay)
        entries = [replace(e, use=FaceUse(swapped[e.use.face], e.use.forward)) for e in around]
        made += _regrown(base, entries, links, here, tolerance)
        if all(edge is not None for edge, _ in links) and len(around) == len(cycles[0]):
            break  # no vertex of the rim can be taken in two ways
    return _sound(made, body, tolerance, here, wound)


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
    """What is wrong with a body that was made of another: nothing where it is sound and not cut by itself."""
    found = flaws(made, tolerance)
    if found:
        return found[0].text
    cuts = fresh_cuts(made, before, tolerance)
    if not cuts:
        return ""
    one, two, spots = cuts[0]
    return f"a {one.surface.kind} would pass through a {two.surface.kind} at {spot(spots[0])}"


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


def _rim(adj: Adjacency, wound: list[Face]) -> list[tuple[FaceUse, Coedge]]:
    """Neighbours' coedges along the wound."""
    out = []
    gone = set(wound)
    for edge in dict.fromkeys(edge for face in wound for edge in face.edges()):
        outside = [(u, c) for u, c in adj.uses[edge] if u.face not in gone]
        if outside:
            if len(outside) > 1:
                raise Refusal(
                    "a bonded face borders the wound", where=spot(edge.at(0.5)), remedy="clear before bonding"
                )
            out.append(outside[0])
    return out


def _cycles(rim: list[tuple[FaceUse, Coedge]]) -> list[list[tuple[FaceUse, Coedge]]]:
    """Closed chains of rim coedges, walked as the removed faces walk them (against the neighbours)."""
    out = [[(u, c)] for u, c in rim if c.edge.ring]
    open_rim = [(u, c) for u, c in rim if not c.edge.ring]
    while open_rim:
        chain = [open_rim.pop(0)]
        start = _ends(chain[0])[0]
        while _ends(chain[-1])[1] is not start:
            at = _ends(chain[-1])[1]
            nxt = [e for e in open_rim if _ends(e)[0] is at]
            if len(nxt) != 1:
                place = at.point if at is not None else np.zeros(3)
                raise Refusal("the rim of the wound branches", where=spot(place), remedy="choose fewer faces at once")
            open_rim.remove(nxt[0])
            chain.append(nxt[0])
        out.append(chain)
    return out


def _ends(entry: tuple[FaceUse, Coedge]) -> tuple[Vertex | None, Vertex | None]:
    """Where a coedge of the rim starts and ends, walked around the wound."""
    use, c = entry
    return (c.last, c.first) if use.forward else (c.first, c.last)


def _entries(cycle: list[tuple[FaceUse, Coedge]]) -> list[_Entry]:
    """Runs of one neighbour along the cycle."""
    n = len(cycle)
    starts = [k for k in range(n) if cycle[k][0].face is not cycle[k - 1][0].face]
    if not starts:
        return [_Entry(cycle[0][0], tuple(c for _, c in reversed(cycle)))]
    out = []
    for a, b in zip(starts, [*starts[1:], starts[0] + n], strict=True):
        run = [cycle[k % n][1] for k in range(a, b)]
        out.append(_Entry(cycle[a][0], tuple(run), _ends(cycle[(b - 1) % n])[1]))
    return out


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


# ---- wounds over several neighbours


def _regrown(
    body: Body, entries: list[_Entry], links: list[Link], here: Floats, tolerance: float
) -> Iterator[Body]:
    k = len(entries)
    if k > _MOST_NEIGHBOURS:
        raise Refusal(
            f"the wound has {k} neighbours, more than {_MOST_NEIGHBOURS}", where=spot(here), remedy="clear it in parts"
        )
    if k == 2:
        made = _joined(body, entries, links, tolerance)
        if made is not None:
            yield made
        return
    ranked: list[tuple[float, Body]] = []
    for triangles in _triangulations(k):
        try:
            corners = [_corner([entries[i].use.face.surface for i in t], here, tolerance) for t in triangles]
            reach = max(float(np.linalg.norm(c.point - here)) for c in corners)
            ranked.append((reach, _rebuilt(body, entries, links, triangles, corners, tolerance)))
        except Refusal:
            continue
    for _, made in sorted(ranked, key=lambda entry: entry[0]):
        yield made


#: The edge between two neighbours in turn that ends at the wound, if there is one, and the vertex where it does.
Link = tuple[Edge | None, Vertex]


def _neighbours(
    adj: Adjacency, gone: set[Face], entries: list[_Entry], stay: bool
) -> tuple[list[_Entry], list[Link]]:
    """All neighbours in turn and the links from each to the next. Where more than three faces meet at the rim, either
    the vertex stays and a new edge begins there, or the faces that only touch the rim are neighbours as well."""
    out: list[_Entry] = []
    links: list[Link] = []
    uses = {use.face: use for use in adj.body.uses}
    for k, entry in enumerate(entries):
        last, at, goal = entry, entry.after, entries[(k + 1) % len(entries)].use.face
        assert at is not None
        rim = {c.edge for e in entries for c in e.rim}
        passed: set[Edge] = set()
        if stay and len(adj.at_vertex[at]) > len([e for e in rim if at in (e.start, e.end)]) + 1:
            out.append(entry)
            links.append((None, at))
            continue
        for _ in range(_MOST_NEIGHBOURS):
            out.append(last)
            onward = [
                e for e in adj.at_vertex[at]
                if e not in rim and e not in passed and any(u.face is last.use.face for u, _ in adj.uses[e])
                and not any(u.face in gone for u, _ in adj.uses[e])
            ]  # fmt: skip
            if len(onward) != 1 or len(adj.uses[onward[0]]) != 2:
                raise Refusal(
                    "two neighbours of the wound have no edge to run on", where=spot(at.point),
                    remedy="choose the faces beside it as well",
                )  # fmt: skip
            passed.add(onward[0])
            links.append((onward[0], at))
            across = adj.across(last.use.face, onward[0])
            if across is goal:
                break
            last = _Entry(uses[across], (), at)
        else:
            raise Refusal("too many faces meet at the rim of the wound", where=spot(at.point),
                          remedy="choose the faces beside it as well")  # fmt: skip
    return out, links


Triangle = tuple[int, int, int]
#: Where a numeric intersection starts looking around a wound (mm).
_AROUND = np.concatenate([np.zeros((1, 3)), np.eye(3), -np.eye(3)])


def _triangulations(k: int) -> Iterator[list[Triangle]]:
    """All triangulations of a polygon with corners 0..k-1."""

    def over(i: int, j: int) -> Iterator[list[Triangle]]:
        if j - i < 2:
            yield []
            return
        for m in range(i + 1, j):
            for left in over(i, m):
                for right in over(m, j):
                    yield [*left, (i, m, j), *right]

    yield from over(0, k - 1)


def _corner(surfaces: list[Surface], here: Floats, tolerance: float) -> Vertex:
    """Where three surfaces meet, nearest to the wound."""
    best: Floats | None = None
    for a, b, c in ((0, 1, 2), (1, 2, 0), (0, 2, 1)):
        if surfaces[a].same_as(surfaces[b], tolerance, 1e3):
            continue
        for curve in meet(surfaces[a], surfaces[b], tolerance, here[None] + _AROUND):
            low, high = reach(curve)
            for p in curve.point(cross(curve, surfaces[c], low, high, tolerance)):
                if best is None or np.linalg.norm(p - here) < np.linalg.norm(best - here):
                    best = p
        if best is not None:
            return vertex_at(best)
    raise Refusal("three neighbours do not meet in a point", where=spot(here))


def _between(a: Surface, b: Surface, start: Vertex, end: Vertex, tolerance: float) -> Edge:
    """A new edge between two corners along where two surfaces meet, the short way round."""
    for curve in meet(a, b, tolerance, np.stack([start.point, 0.5 * (start.point + end.point), end.point])):
        t = curve.parameter(np.stack([start.point, end.point]))
        if float(np.linalg.norm(curve.point(t) - [start.point, end.point], axis=1).max()) > 20.0 * tolerance:
            continue
        return bounded(curve, float(t[0]), float(t[1]), start, end)
    raise Refusal("two neighbours do not meet along a curve between the new corners", where=spot(start.point))


def _rebuilt(
    body: Body,
    entries: list[_Entry],
    links: list[Link],
    triangles: list[Triangle],
    corners: list[Vertex],
    tolerance: float,
) -> Body:
    """The body with the wound closed by this triangulation."""
    k = len(entries)
    side_corner: dict[int, Vertex] = {}
    diagonal: dict[tuple[int, int], list[int]] = {}
    for n, t in enumerate(triangles):
        for i, j in ((t[0], t[1]), (t[1], t[2]), (t[0], t[2])):
            if j - i == 1:
                side_corner[i] = corners[n]
            elif i == 0 and j == k - 1:
                side_corner[k - 1] = corners[n]
            else:
                diagonal.setdefault((i, j), []).append(n)
    moves: dict[Edge, list[tuple[Vertex, Vertex]]] = {}
    new: dict[tuple[int, int], Edge] = {}
    for i, (link, vertex) in enumerate(links):
        if link is not None:
            moves.setdefault(link, []).append((vertex, side_corner[i]))
        else:
            a, b = entries[i].use.face, entries[(i + 1) % k].use.face
            new[(i, (i + 1) % k)] = _between(a.surface, b.surface, vertex, side_corner[i], tolerance)
    ran = {edge: extended(edge, m, tolerance) for edge, m in moves.items()}
    for (i, j), (n, m) in diagonal.items():
        a, b = entries[i].use.face, entries[j].use.face
        if a is b:
            raise Refusal("a face would have to meet itself")
        new[(i, j)] = _between(a.surface, b.surface, corners[n], corners[m], tolerance)
    inserts: dict[object, list[Edge]] = {}
    rim: set[Edge] = {c.edge for e in entries for c in e.rim}
    for i, entry in enumerate(entries):
        place = entry.rim[0] if entry.rim else (entry.use.face, entry.after)
        inserts[place] = [edge for pair, edge in new.items() if i in pair]
    return body.with_uses(_reloop(use, rim, ran, inserts) for use in body.uses)


def _reloop(use: FaceUse, rim: set[Edge], ran: dict[Edge, Edge], inserts: dict[object, list[Edge]]) -> FaceUse:
    """A face with rim runs replaced by new edges and links by their run-on versions. inserts: the new edges by the
    first coedge of a run, or by face and vertex where a face only touches the rim."""
    if not any(e in rim or e in ran for e in use.face.edges()):
        return use
    loops: list[Loop] = []
    for loop in use.face.loops:
        out: list[Coedge] = []
        extra: list[Edge] = []
        for c in loop:
            extra += inserts.get((use.face, c.first), [])
            if c.edge in rim:
                extra += inserts.get(c, [])
            else:
                out.append(Coedge(ran[c.edge], c.forward) if c.edge in ran else c)
        loops.append(_threaded(out, extra) if extra else tuple(out))
    return FaceUse(use.face.with_loops(loops), use.forward)


def _threaded(coedges: list[Coedge], extra: list[Edge]) -> Loop:
    """Put new edges where the walk is broken, in the order and direction that join it up."""
    out: list[Coedge] = []
    pool = list(extra)
    for here, nxt in zip(coedges, [*coedges[1:], coedges[0]], strict=True):
        out.append(here)
        while out[-1].last is not nxt.first:
            at = out[-1].last
            hit = next((e for e in pool if at in (e.start, e.end)), None)
            if hit is None:
                raise Refusal("a neighbour's outline does not join up again")
            pool.remove(hit)
            out.append(Coedge(hit, hit.start is at))
    if pool:
        raise Refusal("a neighbour's outline does not join up again")
    return tuple(out)


def _joined(body: Body, entries: list[_Entry], links: list[Link], tolerance: float) -> Body | None:
    """Two neighbours: the edges between them on both sides of the wound become one."""
    (a, va), (b, vb) = links
    if a is None or b is None or a is b or not isinstance(a.curve, Line) or not isinstance(b.curve, Line):
        return None
    if float(np.linalg.norm(a.curve.point(a.curve.parameter(vb.point[None]))[0] - vb.point)) > 20.0 * tolerance:
        return None
    far_a = a.start if a.end is va else a.end
    far_b = b.start if b.end is vb else b.end
    assert far_a is not None and far_b is not None
    t = a.curve.parameter(np.stack([far_a.point, far_b.point]))
    one = bounded(a.curve, float(t[0]), float(t[1]), far_a, far_b)
    rim = {c.edge for e in entries for c in e.rim}
    uses = []
    for use in body.uses:
        if not any(e in rim or e is a or e is b for e in use.face.edges()):
            uses.append(use)
            continue
        loops: list[Loop] = []
        for loop in use.face.loops:
            out = [c for c in loop if c.edge not in rim and c.edge is not a and c.edge is not b]
            touched = len(out) < len(loop)
            loops.append(_threaded(out, [one]) if touched and out else tuple(out))
        uses.append(FaceUse(use.face.with_loops(loops), use.forward))
    return body.with_uses(uses)
