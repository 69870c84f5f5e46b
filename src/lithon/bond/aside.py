"""Set aside: bodies leave the model, and what they touched on the others becomes a named face there."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

from lithon.bond.share import touching
from lithon.brep.measures import face_area
from lithon.brep.topology import Body, Face, FaceUse, Model, new_uid
from lithon.errors import Refusal
from lithon.progress import SILENT, Progress


@dataclass(frozen=True, slots=True)
class Label:
    """A named set of faces of a body: where `aside` touched it, over so many mm2."""

    name: str
    body: str
    faces: int
    area: float


def set_aside(
    model: Model, bodies: Sequence[Body], labels: bool = True, progress: Progress = SILENT
) -> tuple[Model, list[Label]]:
    """The model without these bodies. Where one of them lay on a body that stays, its outline is imprinted there and
    the face within is called 'contact' and its name; bodies that run into each other leave no label.

    Raises Refusal where nothing would be left.
    """
    gone = [b.name for b in bodies]
    if len(set(gone)) >= len({b.name for b in model.bodies}):
        raise Refusal("nothing would be left", remedy="leave a body in")
    out, made = model, []
    kept = [b.name for b in model.bodies if b.name not in set(gone)]
    if labels:
        for i, aside in enumerate(gone):
            for k, name in enumerate(kept):
                progress.tell((i + k / len(kept)) / len(gone), f"looking at {aside} on {name}")
                out, label = _labelled(out, name, aside)
                if label is not None:
                    made.append(label)
    return Model(tuple(b for b in out.bodies if b.name in set(kept)), model.tolerance), made


def _labelled(model: Model, name: str, aside: str) -> tuple[Model, Label | None]:
    """With the faces of one body that another lies on imprinted and named."""
    found = {b.name: b for b in model.bodies}
    bonded = touching(model, found[name], found[aside])
    now = {b.name: b for b in bonded.bodies}
    common = set(now[name].faces) & set(now[aside].faces)
    if not common:
        return model, None
    label = f"contact {aside}"
    fresh: dict[Face, Face] = {f: replace(f, label=label, uid=new_uid(), before=None) for f in common}
    uses = [FaceUse(fresh.get(use.face, use.face), use.forward) for use in now[name].uses]
    body = now[name].with_uses(uses)
    named = Model(tuple(body if b.name == name else b for b in bonded.bodies), model.tolerance)
    return named, Label(label, name, len(common), sum(face_area(f) for f in common))
