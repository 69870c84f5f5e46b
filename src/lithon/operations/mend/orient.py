"""Turn outwards: faces that are turned round against their neighbours, and bodies that are inside out."""

from __future__ import annotations

from contextlib import suppress

from lithon.brep.topology import Body
from lithon.errors import Refusal
from lithon.mend.orient import oriented
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import some_bodies
from lithon.words import many


class TurnOutwards(Operation):
    """Turn faces so that the skin of each body looks outwards all over; no point moves."""

    bodies: Choice = param(some_bodies())

    unbonded = "turn it outwards"

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return bool(chosen.of("bodies")) and super().fits(chosen) and any(map(_turns, chosen.of("bodies")))

    def do(self, bench: Bench) -> Made:
        out, count = bench.model, 0
        for body in bench.bodies():
            made = None if body.sheet else oriented(body)
            if made is not None:
                count += sum(a.forward != b.forward for a, b in zip(body.uses, made.uses, strict=True))
                out = out.replaced(body, [made])
        if not count:
            raise Refusal("all faces look outwards", remedy="there is nothing to turn")
        return Made(out, f"turn {many(count, 'face')} outwards")


def _turns(body: Body) -> bool:
    with suppress(Refusal):
        return not body.sheet and oriented(body) is not None
    return False
