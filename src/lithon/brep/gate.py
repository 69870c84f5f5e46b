"""The gate: no operation leaves a body worse than it found it, flaw by flaw.

A flaw of the result counts as known only where one of the same kind stood at the same place before; a second one of a
kind that was there already is new. That new faces pass through the rest of the body is a flaw like any other.
"""

from __future__ import annotations

from collections.abc import Iterable, Sequence

import numpy as np

from lithon.arrays import Floats
from lithon.brep.analysis.crossings import fresh_cuts
from lithon.brep.area import off_edge
from lithon.brep.topology import Body, Edge, Face
from lithon.brep.validate import Flaw, flaws, touching_edges
from lithon.errors import Refusal, spot
from lithon.geometry.tolerance import MISS


def worse(
    made: Body, before: Sequence[Body], tolerance: float, loose: float | None = None, through: bool = True
) -> list[Flaw]:
    """The flaws of a body that those it was made of had not, worst kinds not first but in the order found.

    `loose`: the tolerance (mm) for the result, where the operation may move points by more than the model's own.
    `through`: whether it is asked if new faces pass through others.
    """
    found = flaws(made, loose if loose is not None else tolerance)
    if found:
        known = [flaw for body in before for flaw in flaws(body, tolerance)]
        near = 100.0 * (loose or tolerance)
        found = [flaw for flaw in found if not any(_same(flaw, old, near) for old in known)]
    if found or not through:
        return found
    was = before[0] if len(before) == 1 else Body(tuple(use for body in before for use in body.uses))
    touching = [
        Flaw(
            "touches itself", f"it would touch itself further, at {spot(place)}",
            (float(place[0]), float(place[1]), float(place[2])), edge,
        )
        for edge, place in _running_along(made, was, tolerance)
    ]  # fmt: skip
    return touching + [
        Flaw(
            "passes through", f"a {one.surface.kind} would pass through a {two.surface.kind} at {spot(spots[0])}",
            (float(spots[0][0]), float(spots[0][1]), float(spots[0][2])), one,
        )
        for one, two, spots in fresh_cuts(made, was, tolerance)
    ]  # fmt: skip


def _running_along(made: Body, was: Body, tolerance: float) -> list[tuple[Edge, Floats]]:
    """New edges that run along others where a body touches itself or did, or that go on from there; and where: it would
    touch itself, too, and not know it."""
    touching = {*touching_edges(made), *touching_edges(was)}
    if not touching:
        return []
    old, edges, out = set(was.edges()), made.edges(), []
    ends = {v for e in touching for v in (e.start, e.end) if v is not None}
    there = [e for e in edges if e in touching or not ends.isdisjoint({e.start, e.end})]
    for fresh in (e for e in edges if e not in old):
        for edge in there:
            short, long = sorted((fresh, edge), key=lambda e: e.length)
            middle = short.at(0.5)
            if fresh is not edge and float(off_edge(long, middle[None])[0]) <= MISS * tolerance:
                out.append((fresh, middle))
                break
    return out


def _same(flaw: Flaw, old: Flaw, near: float) -> bool:
    """Whether a flaw is one that was there before: the same kind, of the same thing, or where that was."""
    if flaw.kind != old.kind:
        return False
    if flaw.entity is old.entity or isinstance(flaw.entity, Body):
        return True
    place = np.array(flaw.place)[None]
    if float(np.linalg.norm(place[0] - np.array(old.place))) <= near:
        return True
    # What was one edge may have been cut into several.
    return (
        isinstance(flaw.entity, Edge) and isinstance(old.entity, Edge) and float(off_edge(old.entity, place)[0]) <= near
    )


def kinds(found: Iterable[Flaw]) -> str:
    """The kinds of flaws in words, each once."""
    return ", ".join(sorted({flaw.kind for flaw in found}))


def refuse_worse(made: Body, before: Sequence[Body], tolerance: float, through: bool = True) -> Body:
    """The body, or a Refusal that names the first flaw which was not there before."""
    found = worse(made, before, tolerance, through=through)
    if not found:
        return made
    first = found[0]
    more = f" (and {len(found) - 1} more)" if len(found) > 1 else ""
    where = (first.entity,) if isinstance(first.entity, Face | Edge) else ()
    raise Refusal(f"the result would not be sound: {first.text}{more}", where=spot(first.place), entities=where)
