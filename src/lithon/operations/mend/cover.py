"""Bodies too poor to repair give way to something simple about them."""

from __future__ import annotations

from dataclasses import replace

from lithon.brep.measures import volume
from lithon.brep.topology import Body, Model
from lithon.mend.hull import block, cylinder, hull, points_of
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import Flag, OneOf, bodies
from lithon.words import many


class Cover(Operation):
    """Put a convex hull, or the smallest block or cylinder, in the place of bodies: one each, or one for all."""

    bodies: Choice = param(bodies(help="what gives way"))
    by: str = param(OneOf(title="by", options=("hull", "block", "cylinder"), default="hull", optional=True))
    together: bool = param(Flag(title="one for all", help="one about all of them", default=False, optional=True))

    unbonded = "cover bodies"

    def do(self, bench: Bench) -> Made:
        make = {"hull": hull, "block": block, "cylinder": cylinder}[self.by]
        chosen = bench.bodies()
        groups = [chosen] if self.together else [[body] for body in chosen]
        made: dict[Body, Body | None] = {}
        for k, group in enumerate(groups):
            bench.progress.tell(k / len(groups), f"a {self.by} about {group[0].name}")
            first = group[0]
            about = replace(make(points_of(group), first.name), path=first.path, colour=first.colour)
            made |= dict.fromkeys(group, None) | {first: about}
        out = [made.get(body, body) for body in bench.model.bodies]
        model = Model(tuple(b for b in out if b is not None), bench.tolerance)
        grown = sum(volume(b) for b in made.values() if b is not None) - sum(map(volume, chosen))
        words = f"{self.by} about {many(len(chosen), 'body')}" + (" together" if self.together else "")
        return Made(model, words, details=[{"volume_added_mm3": grown}])
