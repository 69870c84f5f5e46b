"""Part all: every body divided by every other. Crumbs: bodies far smaller than the rest, absorbed by others."""

from __future__ import annotations

import itertools
from dataclasses import replace

import numpy as np

from lithon.arrange.boolean import combine
from lithon.bond.share import touching
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Body, Model, new_uid, rough_box
from lithon.errors import Refusal
from lithon.operations.choices import Choice
from lithon.operations.operation import Bench, Chosen, Made, Operation, param
from lithon.operations.parameters import Number, OneOf, some_bodies
from lithon.operations.trim.mirror import free_name
from lithon.words import many

#: What overlaps by less than this share of the smaller body only touches.
_NOTHING = 1e-9


def near(a: Body, b: Body, tolerance: float) -> bool:
    """Whether the boxes of two bodies meet."""
    one, two = rough_box([a]), rough_box([b])
    return bool(((one[0] <= two[1] + tolerance) & (two[0] <= one[1] + tolerance)).all())


def overlapping(a: Body, b: Body) -> bool:
    """Whether the boxes of two bodies have a volume in common."""
    one, two = rough_box([a]), rough_box([b])
    return bool((np.minimum(one[1], two[1]) - np.maximum(one[0], two[0]) > 0.0).all())


class PartAll(Operation):
    """Divide every body by every other: what two of them fill becomes a body of its own."""

    bodies: Choice = param(some_bodies())

    unbonded = "part"
    budget = 300.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        found = chosen.of("bodies")
        meet = any(overlapping(a, b) for a, b in itertools.combinations(found[:20], 2))
        return meet and super().fits(chosen)

    def do(self, bench: Bench) -> Made:
        chosen = bench.bodies()
        if len(chosen) < 2:
            raise Refusal("two bodies at least are needed to part", remedy="choose more")
        taken = {b.name for b in bench.model.bodies}
        cells: list[Body] = []
        common = 0
        for n, body in enumerate(chosen):
            rest = [body]
            out: list[Body] = []
            for cell in cells:
                bench.progress.tell(n / len(chosen), f"parting {body.name} and {cell.name}")
                kept = [cell]
                for piece in list(rest):
                    if not near(cell, piece, bench.tolerance):
                        continue
                    both = combine(cell, piece, "intersect", bench.tolerance)
                    both = [b for b in both if volume(b) > _NOTHING * min(volume(cell), volume(piece))]
                    if not both:
                        continue
                    rest.remove(piece)
                    rest += combine(piece, cell, "subtract", bench.tolerance)
                    kept = [p for k in kept for p in combine(k, piece, "subtract", bench.tolerance)]
                    name = free_name(f"{cell.name} in {body.name}", taken)
                    kept += [replace(b, name=name, uid=new_uid()) for b in both]
                    common += len(both)
                out += kept
            cells = out + rest
        if not common:
            raise Refusal("no two of the bodies overlap", remedy="bond them: they may touch")
        others = [b for b in bench.model.bodies if b not in chosen]
        words = f"part all: {many(len(chosen), 'body')} into {len(cells)}"
        return Made(Model((*others, *cells), bench.tolerance), words)


def widest_gap(volumes: np.ndarray) -> float | None:
    """The volume (mm3) in the middle, on a log scale, of the widest gap between sorted volumes; None where none is
    wider than a factor of 30, which is then between small bodies and smaller ones."""
    v = np.sort(volumes[volumes > 0.0])
    if len(v) < 2:
        return None
    steps = np.diff(np.log(v))
    k = int(steps.argmax())
    return float(np.sqrt(v[k] * v[k + 1])) if steps[k] > np.log(30.0) else None


class Crumbs(Operation):
    """Absorb bodies far smaller than the rest, each into the neighbour that it shares most area with."""

    below: float | None = param(Number(title="below", unit="mm³", above=0.0, optional=True,
                                       help="a volume; left out: the widest gap between volumes"))  # fmt: skip
    loose: str = param(OneOf(title="loose ones", help="those that touch nothing", options=("leave", "drop"),
                             default="leave", optional=True))  # fmt: skip

    unbonded = "absorb crumbs"
    budget = 300.0

    @classmethod
    def fits(cls, chosen: Chosen) -> bool:
        return False  # it is about the whole, whatever is in hand

    def do(self, bench: Bench) -> Made:
        volumes = np.array([volume(b) for b in bench.model.bodies])
        below = widest_gap(volumes) if self.below is None else self.below
        if below is None:
            raise Refusal("no gap between the volumes is wide enough to tell crumbs by", remedy="give a volume")
        small = [b for b, v in zip(bench.model.bodies, volumes, strict=True) if v < below]
        if not small:
            raise Refusal(f"no body is smaller than {below:.4g} mm³", remedy="give a larger volume")
        if len(small) == len(bench.model.bodies):
            raise Refusal("all bodies are as small as that", remedy="give a smaller volume")
        out, absorbed, loose = bench.model, 0, []
        for k, crumb in enumerate(sorted(small, key=volume)):
            bench.progress.tell(k / len(small), f"looking for a neighbour of {crumb.name}")
            best: tuple[float, Body] | None = None
            for body in out.bodies:
                if body is crumb or body in small or not near(body, crumb, bench.tolerance):
                    continue
                area = shared_area(out, crumb, body)
                if area > 0.0 and (best is None or area > best[0]):
                    best = area, body
            if best is None:
                loose.append(crumb)
                continue
            made = combine(best[1], crumb, "union", bench.tolerance)
            if len(made) != 1:
                loose.append(crumb)
                continue
            left = Model(tuple(b for b in out.bodies if b is not crumb), out.tolerance)
            out = left.replaced(best[1], made)
            absorbed += 1
        if self.loose == "drop" and loose:
            out = Model(tuple(b for b in out.bodies if b not in loose), out.tolerance)
        elif not absorbed:
            raise Refusal(f"{many(len(loose), 'crumb')} touch no other body", remedy="drop the loose ones",
                          entities=tuple(loose))  # fmt: skip
        words = f"{many(absorbed, 'crumb')} absorbed"
        if loose:
            words += f", {len(loose)} {'dropped' if self.loose == 'drop' else 'left'} that touch nothing"
        return Made(out, words, details=[{"below_mm3": below, "absorbed": absorbed, "loose": len(loose)}])


def shared_area(model: Model, a: Body, b: Body) -> float:
    """The area (mm2) over which two bodies touch."""
    made = touching(model, a, b)
    return float(sum(face_area(f) for f in made.shared() if f not in model.shared()))
