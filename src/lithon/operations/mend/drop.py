"""Drop: what does not belong to a solid goes."""

from __future__ import annotations

from lithon.brep.measures import uses_volume
from lithon.brep.shells import connected
from lithon.brep.topology import Face, Model
from lithon.mend.drop import dropped
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import bodies, faces


class Drop(Operation):
    """Drop loose sheets and hollows: all that hangs together with the chosen faces."""

    faces: Choice = param(faces(help="a face of each sheet or hollow that goes"))

    gate = "own"

    @classmethod
    def of(cls, chosen: Chosen) -> Drop | None:
        loose = chosen.faces and all(_loose(chosen.model, f) for f in chosen.faces)
        return super().of(chosen) if loose else None

    def do(self, bench: Bench) -> Made:
        chosen = bench.faces()
        out = bench.model
        for body, own in bench.by_body(chosen):
            left = dropped(body, own, bench.tolerance)
            out = out.replaced(body, [left] if left is not None else [])
        return Made(out, f"drop {len(chosen)} face{'s' if len(chosen) > 1 else ''}")


def _loose(model: Model, face: Face) -> bool:
    """Whether a face hangs together with less than the whole skin of its body."""
    for body in model.owners(face):
        parts = connected(body.uses)
        if len(parts) < 2 or face in {use.face for use in max(parts, key=lambda s: abs(uses_volume(s)))}:
            return False
    return True


class DropBodies(Operation):
    """Drop whole bodies."""

    on_sheets = True

    bodies: Choice = param(bodies(help="what goes"))

    gate = "own"

    def do(self, bench: Bench) -> Made:
        gone = bench.bodies()
        out = Model(tuple(b for b in bench.model.bodies if b not in gone), bench.tolerance)
        names = sorted(b.name for b in gone)
        return Made(out, f"drop {', '.join(names) if len(names) < 4 else f'{len(names)} bodies'}")
