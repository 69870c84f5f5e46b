"""What of each job applies to any part, played on files that nobody here wrote:

    .venv/bin/python tools/foreign.py FILE... [--jobs J03,J07]

Every step either gives a sound model or is refused in words; the refusals are counted and told, and a fault is a
failure of this tool's run.
"""

from __future__ import annotations

import sys
import time
from collections import Counter
from collections.abc import Callable
from pathlib import Path

import click
import numpy as np

import lithon
import lithon.do as do
from lithon.brep.topology import Body, Model, rough_box
from lithon.brep.validate import flaws
from lithon.errors import Fault, LithonError
from lithon.operations.operation import Operation
from lithon.operations.places import Axis, Cut

Step = Callable[[Model, float], Operation | None]


def largest(model: Model) -> Body:
    return max(model.bodies, key=lambda b: len(b.uses))


def wide(model: Model, k: int = 0):  # type: ignore[no-untyped-def]
    """The plane face with the k-th largest outline."""
    planes = [f for f in largest(model).faces if f.surface.kind == "plane"]
    planes.sort(key=lambda f: -sum(e.length for e in f.edges()))
    return planes[k] if len(planes) > k else None


def middle(model: Model, axis: str = "x") -> str:
    return f"{axis} = {float(rough_box(model.bodies).mean(axis=0)['xyz'.index(axis)])}"


def if_there(thing: object, make: Callable[[], Operation]) -> Operation | None:
    return make() if thing is not None else None


STEPS: dict[str, list[Step]] = {
    "J01": [
        lambda m, s: do.name(wide(m), "load") if wide(m) else None,
        lambda m, s: do.size_on_faces(wide(m), 0.5 * s) if wide(m) else None,
        lambda m, s: do.drape(strength=0.3),
        lambda m, s: do.mesh("tet"),
    ],
    "J03": [
        *(lambda m, s, q=q: do.clear(q) for q in ("pockets", "windows", "chamfers", "fillets")),
        lambda m, s: do.slide(wide(m), 0.5 * s) if wide(m) else None,
        lambda m, s: do.mid_surface(largest(m)),
    ],
    "J04": [lambda m, s: do.sector(), lambda m, s: do.mesh("auto")],
    "J05": [lambda m, s: do.mend_safe(), lambda m, s: do.mesh("tet", approximate=True)],
    "J06": [lambda m, s: do.carve(middle(m)), lambda m, s: do.clear("holes")],
    "J07": [
        lambda m, s: do.keep("holes"),
        lambda m, s: do.halve("half"),
        lambda m, s: do.score(middle(m, "y")),
        lambda m, s: do.mesh("tet", "2"),
    ],
    "J08": [
        lambda m, s: do.reference_plane(middle(m), called="middle"),
        lambda m, s: do.carve(Cut.named("middle")),
        lambda m, s: do.turn(m.bodies[-1], Axis.parse("z"), 0.2),
        lambda m, s: do.unite(m.bodies[0], m.bodies[-1]) if len(m.bodies) > 1 else None,
    ],
    "J09": [lambda m, s: do.slice(middle(m, "y")), lambda m, s: do.mesh("quad")],
    "J10": [lambda m, s: do.clear("fillets where radius < 1 mm"), lambda m, s: do.face_budget(100)],
    "J11": [lambda m, s: do.divide("edges along z", 3), lambda m, s: do.mesh("auto", "2")],
    "J13": [lambda m, s: do.skim(wide(m), 0.2 * s) if wide(m) else None, lambda m, s: do.bond()],
    "J14": [lambda m, s: do.clear(wide(m, 6)) if wide(m, 6) else None, lambda m, s: do.clear("bosses")],
    "J15": [lambda m, s: do.clear(f"holes where diameter < {s}")],
    "J16": [lambda m, s: do.cover(largest(m)), lambda m, s: do.part_all(), lambda m, s: do.crumbs()],
    "cures": [lambda m, s: do.cure()],
}


def play(file: Path, steps: list[Step], seconds: float) -> tuple[Counter[str], list[str]]:
    work = lithon.open(file)
    low, high = rough_box(work.model.bodies)
    size = float(np.linalg.norm(high - low)) / 25.0
    work.take(do.element_size(size))
    tally: Counter[str] = Counter()
    told: list[str] = []
    for make in steps:
        start, operation = time.monotonic(), None
        try:
            operation = make(work.model, size)
            if operation is None:
                tally["does not apply"] += 1
                continue
            before = {id(b) for b in work.model.bodies}
            work.take(operation)
            fresh = [b for b in work.model.bodies if id(b) not in before]
            bad = [f.text for b in fresh for f in flaws(b, work.model.tolerance)]
            tally["unsound" if bad else "taken"] += 1
            told += [f"{operation.name}: {text}" for text in bad[:2]]
        except Fault as error:
            tally["fault"] += 1
            told.append(f"FAULT {error}")
        except LithonError as error:
            tally["refused"] += 1
            told.append(f"{operation.name if operation is not None else '?'}: {error.what}")
        if time.monotonic() - start > seconds:
            tally["slow"] += 1
    return tally, told


@click.command()
@click.argument("files", nargs=-1, type=click.Path(exists=True, path_type=Path))
@click.option("--jobs", default="", help="Only these.")
@click.option("--seconds", default=60.0, help="A step that takes longer is slow.")
def main(files: tuple[Path, ...], jobs: str, seconds: float) -> None:
    """Play what applies of the jobs on files."""
    wanted = [j for j in jobs.split(",") if j] or list(STEPS)
    faults = 0
    why: Counter[str] = Counter()
    for job in wanted:
        whole: Counter[str] = Counter()
        for file in files:
            tally, told = play(file, STEPS[job], seconds)
            whole += tally
            why.update(told)
        faults += whole["fault"] + whole["unsound"]
        click.echo(f"{job:6} " + ", ".join(f"{n} {what}" for what, n in whole.most_common()))
    for text, n in why.most_common(40):
        click.echo(f"{n:5}  {text[:170]}")
    sys.exit(min(faults, 1))


if __name__ == "__main__":
    main()
