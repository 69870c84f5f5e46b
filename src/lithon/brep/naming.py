"""Faces with a name: each a new face on the same place, in all bodies that it bounds."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from lithon.brep.rewrite import rewrite
from lithon.brep.topology import Face, Model, new_uid


def named(model: Model, faces: Sequence[Face], name: str) -> tuple[Model, list[Face]]:
    """The model with these faces called so, and what they are now."""
    fresh = {f: replace(f, label=name, uid=new_uid(), before=None, origin=None) for f in dict.fromkeys(faces)}
    out = model
    for body in model.bodies:
        own = {f: (fresh[f], True) for f in fresh if body.use_of(f) is not None}
        if own:
            out = out.replaced(body, [rewrite(body, faces=own)])
    return out, list(fresh.values())
