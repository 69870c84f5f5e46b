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
    aside = set(bodies)
    gone = [k for k, b in enumerate(model.bodies) if b in aside]
    kept = [k for k in range(len(model.bodies)) if k not in set(gone)]
    if not kept:
        raise Refusal("nothing would be left", remedy="leave a body in")
    out, made = model, []
    # Bodies change while labels are put on, their places in the model do not; names may be double.
    for i, there in enumerate(gone if labels else ()):
        for k, here in enumerate(kept):
            name = model.bodies[there].name
            progress.tell((i + k / len(kept)) / len(gone), f"looking at {name} on {model.bodies[here].name}")
            out, label = _labelled(out, here, there)
            if label is not None:
                made.append(label)
    return Model(tuple(out.bodies[k] for k in kept), model.tolerance), made


def _labelled(model: Model, here: int, there: int) -> tuple[Model, Label | None]:
    """With the faces of one body that another lies on imprinted and named; both by their places in the model."""
    body, other = model.bodies[here], model.bodies[there]
    bonded = touching(model, body, other)
    one, two = bonded.bodies[here], bonded.bodies[there]
    common = set(one.faces) & set(two.faces)
    if not common:
        return model, None
    label = f"contact {other.name}"
    fresh: dict[Face, Face] = {f: replace(f, label=label, uid=new_uid(), before=None) for f in common}
    uses = [FaceUse(fresh.get(use.face, use.face), use.forward) for use in one.uses]
    named = one.with_uses(uses)
    after = Model(tuple(named if k == here else b for k, b in enumerate(bonded.bodies)), model.tolerance)
    return after, Label(label, body.name, len(common), sum(face_area(f) for f in common))
