"""What the repairs have in common: chosen faces are mended body by body."""

from __future__ import annotations

from collections.abc import Callable

from lithon.brep.topology import Body, Face, Model
from lithon.operations.operation import Bench


def mended(bench: Bench, how: Callable[[Body, list[Face]], Body]) -> tuple[Model, list[Face]]:
    """The model with its chosen faces mended body by body, and those faces."""
    chosen = bench.faces()
    out = bench.model
    for body, own in bench.by_body(chosen):
        out = out.replaced(body, [how(body, own)])
    return out, chosen
