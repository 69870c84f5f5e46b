"""Two bodies made one, or one made less by the other."""

from __future__ import annotations

from typing import ClassVar, Self

from lithon.arrange.boolean import Operation as Way
from lithon.arrange.boolean import combine
from lithon.brep.measures import volume
from lithon.brep.rewrite import apart
from lithon.brep.topology import Model, rough_box
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import one_body, solution
from lithon.words import many

#: A piece of less than this share of what it is cut from, where it is cut from something that overlaps, is a crumb.
_CRUMB = 1e-4


def near(chosen: Chosen) -> bool:
    """Whether two bodies are in hand whose boxes meet, and neither is bonded."""
    pair = chosen.of("bodies")
    if len(pair) != 2 or any(len(chosen.model.owners(f)) > 1 for b in pair for f in b.made_faces()):
        return False
    a, b = (rough_box([body]) for body in pair)
    return bool(((a[0] <= b[1] + chosen.model.tolerance) & (b[0] <= a[1] + chosen.model.tolerance)).all())


class _Combine(Operation):
    body: Choice = param(one_body("body", "what is left afterwards"))
    tool: Choice = param(one_body("tool", "the other one, which goes"))

    unbonded = "combine"

    @classmethod
    def of(cls, chosen: Chosen) -> Self | None:
        return super().of(chosen) if near(chosen) else None

    way: ClassVar[Way]

    def do(self, bench: Bench) -> Made:
        kept, tool = bench.body("body"), bench.body("tool")
        if kept is tool:
            raise Refusal("two bodies are needed, and one is meant twice", remedy="choose another one")
        bench.progress.tell(0.1, f"{self.way} of {kept.name} and {tool.name}")
        made = combine(kept, tool, self.way, bench.tolerance)
        if self.way == "union" and len(made) > 1:
            raise Refusal(
                f"{kept.name} and {tool.name} share no face: they would not become one body",
                remedy="move one of them until they touch, or bridge two of their faces", entities=(kept, tool),
            )  # fmt: skip
        out = bench.model.replaced(kept, made)
        left = Model(tuple(b for b in out.bodies if b is not tool), out.tolerance)
        if not left.bodies or not made:
            raise Refusal("nothing would be left", remedy="move one of them, or drop one instead")
        return Made(left, f"{self.way} {kept.name}, {tool.name}")


class Unite(_Combine):
    """Make one body of two."""

    way = "union"


class Subtract(_Combine):
    """Take from one body what another fills."""

    way = "subtract"


class Intersect(_Combine):
    """Leave of one body what another fills as well."""

    way = "intersect"


class Part(Operation):
    """Part two bodies that overlap: one gives up what both fill, by default the larger."""

    first: Choice = param(one_body("first", "a body"))
    second: Choice = param(one_body("second", "one that overlaps it"))
    solution: int = param(solution())

    unbonded = "part"

    @classmethod
    def of(cls, chosen: Chosen) -> Part | None:
        return super().of(chosen) if near(chosen) else None

    def do(self, bench: Bench) -> Made:
        one, two = bench.body("first"), bench.body("second")
        if one is two:
            raise Refusal("two bodies are needed, and one is meant twice", remedy="choose another one")
        pair = sorted((one, two), key=volume, reverse=True)
        giver, keeper = pair if self.solution % 2 == 0 else pair[::-1]
        bench.progress.tell(0.1, f"what {giver.name} shares with {keeper.name}")
        # They only touch there: what they share is for a bond to find, all of it or nothing.
        made = [apart(piece, keeper) for piece in combine(giver, keeper, "subtract", bench.tolerance)]
        if not made:
            raise Refusal(f"nothing would be left of {giver.name}", remedy="drop it instead, or let the other give way")
        gone = volume(giver) - sum(map(volume, made))
        if gone <= 1e-9 * volume(giver):
            raise Refusal("the two bodies do not overlap", remedy="bond them: they may touch")
        # What it leaves of a far larger body beside the cut, less than the cut itself, is nobody's piece.
        crumbs = [b for b in made if volume(b) < min(_CRUMB * volume(giver), gone)]
        after = bench.model.replaced(giver, [b for b in made if b not in crumbs])
        words = f"part {giver.name} from {keeper.name}: {gone + sum(map(volume, crumbs)):.4g} mm³ given up"
        words += f", {many(len(crumbs), 'crumb')} with it" if crumbs else ""
        return Made(after, words, solutions=2)
