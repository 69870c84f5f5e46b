"""Bodies moved, turned and copied about picked references."""

from __future__ import annotations

from dataclasses import replace

import numpy as np

from lithon.arrays import Floats
from lithon.brep.copies import moved
from lithon.brep.topology import Body, Model, new_uid
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import About, At, Count, Flag, Number, bodies, length
from lithon.operations.places import Axis, Spot, turn
from lithon.operations.trim.mirror import free_name
from lithon.words import many


def _put(bench: Bench, chosen: list[Body], motions: list[Floats], stay: bool, word: str) -> Model:
    """The model with bodies at other places, or with images of them beside."""
    taken = {b.name for b in bench.model.bodies}
    out: list[Body] = []
    for body in bench.model.bodies:
        if body not in chosen:
            out.append(body)
            continue
        images = [moved(body, m) for m in motions]
        if stay:
            out.append(body)
            images = [replace(b, name=free_name(f"{body.name} {word}", taken), uid=new_uid()) for b in images]
        out += images
    return Model(tuple(out), bench.tolerance)


def _what(chosen: list[Body]) -> str:
    return chosen[0].name if len(chosen) == 1 else many(len(chosen), "body")


class Move(Operation):
    """Move bodies along a direction, or from one point to another."""

    on_sheets = True

    bodies: Choice = param(bodies(help="what is moved"))
    by: float | None = param(length("by", "how far along the way", optional=True))
    way: Axis | None = param(About(title="way", help="the direction", optional=True))
    start: Spot | None = param(At(title="from", help="a point, in place of a distance", optional=True))
    end: Spot | None = param(At(title="to", help="where that point goes", optional=True))
    stay: bool = param(Flag(title="leave it", help="the body itself stays too: a copy is moved", default=False,
                            optional=True))  # fmt: skip

    unbonded = "move bodies"
    gate = "own"

    def do(self, bench: Bench) -> Made:
        way, start, end = (bench.given[key] for key in ("way", "start", "end"))
        if start is not None and end is not None:
            shift = end - start
        elif self.by is not None and way is not None:
            shift = self.by * way[1]
        else:
            raise Refusal("how far and where to is not said", remedy="give a distance and a way, or two points")
        motion = np.eye(4)
        motion[:3, 3] = shift
        chosen = bench.bodies()
        made = _put(bench, chosen, [motion], self.stay, "copy")
        return Made(made, f"{'copy' if self.stay else 'move'} {_what(chosen)} by {np.linalg.norm(shift):.6g} mm")

    @classmethod
    def of(cls, chosen: Chosen) -> Move | None:
        return None  # where to is never in hand

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return cls.taken(chosen) is not None and bool(chosen.of("bodies"))

    @classmethod
    def begun(cls, chosen: Chosen) -> dict[str, object]:
        return {**super().begun(chosen), "by": chosen.size, "way": Axis.parse("x")}


class Turn(Operation):
    """Turn bodies about an axis, or place copies around it."""

    on_sheets = True

    bodies: Choice = param(bodies(help="what is turned"))
    about: Axis = param(About(title="about", help="the axis"))
    by: float = param(Number(title="angle", unit="°", factor=np.pi / 180.0, help="counter-clockwise"))
    copies: int = param(Count(title="copies", help="0 turns the body itself; else so many stand around it, each "
                              "turned by the angle more", most=1000, default=0, optional=True))  # fmt: skip

    unbonded = "turn bodies"
    gate = "own"

    def do(self, bench: Bench) -> Made:
        about = bench.given["about"]
        motions = [turn(about[0], about[1], self.by * (k + 1)) for k in range(max(self.copies, 1))]
        chosen = bench.bodies()
        made = _put(bench, chosen, motions, self.copies > 0, "copy")
        words = f"turn {_what(chosen)} by {np.degrees(self.by):.6g}°"
        return Made(made, words + (f", {self.copies} copies" if self.copies else ""))
