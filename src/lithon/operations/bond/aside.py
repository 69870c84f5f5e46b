"""Set aside: bodies leave the model, and what they touched becomes a named face."""

from __future__ import annotations

from lithon.bond.aside import set_aside
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Made, Operation, param
from lithon.operations.parameters import Flag, bodies


class SetAside(Operation):
    """Take bodies out of the model; what they touched on the others becomes a named face."""

    bodies: Choice = param(bodies(help="what leaves"))
    labels: bool = param(Flag(title="name contacts", help="name what they touched", optional=True, default=True))

    def do(self, bench: Bench) -> Made:
        gone = bench.bodies()
        if len(gone) == len(bench.model.bodies):
            raise Refusal("nothing would be left", remedy="leave a body in")
        out, labels = set_aside(bench.model, gone, self.labels, bench.progress)
        details = [{"label": x.name, "body": x.body, "faces": x.faces, "area_mm2": x.area} for x in labels]
        who = gone[0].name if len(gone) == 1 else f"{len(gone)} bodies"
        named = f", {len(labels)} contact{'s' if len(labels) > 1 else ''} named" if labels else ""
        return Made(out, f"set {who} aside{named}", details=details)
