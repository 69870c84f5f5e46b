"""What the repairs have in common: chosen faces are mended body by body."""

from __future__ import annotations

from collections.abc import Callable

from lithon.brep.topology import Body, Face, Model
from lithon.mend.close import openings_beside
from lithon.operations.operation import Bench, Chosen


def mended(bench: Bench, how: Callable[[Body, list[Face]], Body]) -> tuple[Model, list[Face]]:
    """The model with its chosen faces mended body by body, and those faces."""
    chosen = bench.faces()
    out = bench.model
    for body, own in bench.by_body(chosen):
        out = out.replaced(body, [how(body, own)])
    return out, chosen


def beside_opening(chosen: Chosen, gap: bool) -> bool:
    """Whether the chosen faces are all around an opening of one body, a gap or not."""
    for body in chosen.of("bodies"):
        own = [f for f in chosen.faces if body.use_of(f) is not None]
        if any((o.gap is not None) == gap for o in openings_beside(body, own)):
            return True
    return False
