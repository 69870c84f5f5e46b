"""The rim that faces leave when they go: its edges, in closed walks, by the neighbours along them."""

from __future__ import annotations

import numpy as np

from lithon.brep.analysis.adjacency import Adjacency
from lithon.brep.topology import Coedge, Face, FaceUse, Vertex
from lithon.errors import Refusal, spot
from lithon.trim.regrow import Neighbour


def wounds_of(adj: Adjacency, chosen: list[Face]) -> list[list[Face]]:
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


def rim_of(adj: Adjacency, wound: list[Face]) -> list[tuple[FaceUse, Coedge]]:
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


def cycles(rim: list[tuple[FaceUse, Coedge]]) -> list[list[tuple[FaceUse, Coedge]]]:
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


def entries_of(cycle: list[tuple[FaceUse, Coedge]]) -> list[Neighbour]:
    """Runs of one neighbour along the cycle."""
    n = len(cycle)
    starts = [k for k in range(n) if cycle[k][0].face is not cycle[k - 1][0].face]
    if not starts:
        return [Neighbour(cycle[0][0], tuple(c for _, c in reversed(cycle)))]
    out = []
    for a, b in zip(starts, [*starts[1:], starts[0] + n], strict=True):
        run = [cycle[k % n][1] for k in range(a, b)]
        out.append(Neighbour(cycle[a][0], tuple(run), _ends(cycle[(b - 1) % n])[1]))
    return out
