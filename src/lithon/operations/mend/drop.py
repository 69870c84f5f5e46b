"""Drop: what does not belong to a solid goes."""

from __future__ import annotations

from lithon.brep.topology import Model
from lithon.mend.drop import dropped
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import bodies, faces


class Drop(Operation):
    """Drop loose sheets and hollows: all that hangs together with the chosen faces."""

    faces: Choice = param(faces(help="a face of each sheet or hollow that goes"))

    gate = "own"

    def do(self, bench: Bench) -> Made:
        chosen = bench.faces()
        out = bench.model
        for body, own in bench.by_body(chosen):
            left = dropped(body, own, bench.tolerance)
            out = out.replaced(body, [left] if left is not None else [])
        return Made(out, f"drop {len(chosen)} face{'s' if len(chosen) > 1 else ''}")


class DropBodies(Operation):
    """Drop whole bodies."""

    bodies: Choice = param(bodies(help="what goes"))

    gate = "own"

    def do(self, bench: Bench) -> Made:
        gone = bench.bodies()
        out = Model(tuple(b for b in bench.model.bodies if b not in gone), bench.tolerance)
        names = sorted(b.name for b in gone)
        return Made(out, f"drop {', '.join(names) if len(names) < 4 else f'{len(names)} bodies'}")
