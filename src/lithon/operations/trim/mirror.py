"""Mirror: a body's image in a plane, beside it or in its place."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.brep.copies import moved
from lithon.brep.topology import Body, Model, new_uid
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import CutAt, Flag, bodies
from lithon.operations.places import Cut


class Mirror(Operation):
    """Make the mirror images of bodies in a plane."""

    on_sheets = True

    bodies: Choice = param(bodies(help="what is mirrored"))
    plane: Cut = param(CutAt(title="plane", help="such as: x = 0", plane=True))
    beside: bool = param(Flag(title="beside it", help="the body itself stays too", default=True))

    def do(self, bench: Bench) -> Made:
        plane = bench.surface("plane")
        n, p = plane.frame.z, plane.frame.origin
        motion = np.eye(4)
        motion[:3, :3] -= 2.0 * np.outer(n, n)
        motion[:3, 3] = 2.0 * float(p @ n) * n
        chosen = bench.bodies()
        taken = {b.name for b in bench.model.bodies}
        out: list[Body] = []
        for body in bench.model.bodies:
            if body not in chosen:
                out.append(body)
                continue
            image = moved(body, motion)
            if self.beside:
                image = replace(image, name=free_name(f"{body.name} mirrored", taken), uid=new_uid())
            out += [body, image] if self.beside else [image]
        what = chosen[0].name if len(chosen) == 1 else f"{len(chosen)} bodies"
        return Made(Model(tuple(out), bench.tolerance), f"mirror {what}")


def free_name(name: str, taken: set[str]) -> str:
    """The name, with a number where it is taken; it is taken then."""
    out, k = name, 1
    while out in taken:
        k += 1
        out = f"{name} {k}"
    taken.add(out)
    return out
