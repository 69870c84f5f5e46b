"""A soak over the table: operations drawn at random, with parameters that fit, on samples and foreign parts. Each
result is looked at whole: its flaws, its volume as far as the operation promises one, undo, replay from what was
written. Prints what is wrong, and a line of counts.

    python tools/soak.py --turns 200 --seed 1 [FILE ...]
"""

from __future__ import annotations

import argparse
import sys
import time
from collections import Counter
from pathlib import Path

import numpy as np

import lithon
from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import Fault, LithonError
from lithon.exchange.step_read import Arrival
from lithon.operations.choices import Choice
from lithon.operations.operation import Operation
from lithon.operations.parameters import About, At, Count, CutAt, Flag, Number, OneOf, Parameter, Things
from lithon.operations.places import Axis, Cut, Spot
from lithon.operations.recorded import read
from lithon.operations.running import run
from lithon.operations.state import Settings, State
from lithon.operations.table import TABLE, Row
from lithon.progress import Progress
from lithon.project.ledger import Ledger, Source
from lithon.samples import SAMPLES
from lithon.survey.features import features
from lithon.survey.report import default_size

#: Operations that leave every volume as it is, whatever they do.
KEEPS = {"carve", "bond", "merge", "keep", "name", "reference-plane", "reference-axis", "reference-point"}
#: These take longer than a turn should.
LEFT = {"mesh"}


def value_for(p: Parameter, model: Model, size: float, rng: np.random.Generator) -> object:
    """A value that a parameter may have on a model."""
    box = np.array([v.point for b in model.bodies for v in b.vertices()] or [[0.0, 0.0, 0.0]])
    at = rng.uniform(box.min(axis=0), box.max(axis=0))
    if isinstance(p, Things):
        return things_for(p, model, rng)
    if isinstance(p, CutAt):
        faces = [f for f in model.faces() if f.surface.kind in (("plane",) if p.plane else ("plane", "cylinder"))]
        if faces and rng.random() < 0.4:
            face = faces[rng.integers(len(faces))]
            return (
                Cut.offset(face, -float(rng.uniform(0.2, 3.0)) * size)
                if face.surface.kind == "plane"
                else Cut.surface(face)
            )
        return Cut.at(at, np.eye(3)[rng.integers(3)] if rng.random() < 0.6 else rng.normal(size=3))
    if isinstance(p, About):
        return Axis.at(at, rng.normal(size=3))
    if isinstance(p, At):
        return None if p.optional and rng.random() < 0.3 else Spot.at(at)
    if isinstance(p, Count):
        return int(rng.integers(p.least, (p.most if p.most is not None else p.least + 4) + 1))
    if isinstance(p, Number):
        return None if p.optional and rng.random() < 0.7 else float(rng.uniform(0.1, 0.9)) * size
    if isinstance(p, Flag):
        return bool(rng.integers(2))
    return p.options[rng.integers(len(p.options))] if isinstance(p, OneOf) else f"name {rng.integers(9)}"


def things_for(p: Things, model: Model, rng: np.random.Generator) -> Choice:
    """Some things of a kind: whole features where faces are asked for, as people choose them."""
    if p.optional and rng.random() < 0.5:
        return Choice(p.of)
    body = model.bodies[rng.integers(len(model.bodies))]
    if p.of == "faces" and (found := features(body)) and rng.random() < 0.7:
        return Choice.made("faces", list(found[rng.integers(len(found))].faces))
    every = {"faces": body.faces, "edges": body.edges(), "vertices": body.vertices(), "bodies": model.bodies}[p.of]
    n = min(len(every), p.most or 3, int(rng.integers(p.least, p.least + 2)))
    return Choice.made(p.of, [every[k] for k in rng.choice(len(every), n, replace=False)])


def drawn(row: Row, ledger: Ledger, rng: np.random.Generator) -> Operation | None:
    """An operation with random parameters that fit, or None where there is nothing for it."""
    try:
        values = {k: value_for(p, ledger.model, ledger.size, rng) for k, p in row.operation.parameters().items()}
        return row.operation(**values)
    except (LithonError, ValueError):
        return None


def same(a: State, b: State) -> bool:
    """Whether two states are the very same."""
    return a.model is b.model and a.marks.of == b.marks.of and a.settings == b.settings and a.references == b.references


def troubles(ledger: Ledger, operation: Operation, budget: float) -> tuple[str, list[str]]:
    """What became of one turn, and what is wrong with it."""
    before, start = ledger.state, time.monotonic()
    sizes = {b: volume(b) for b in before.model.bodies}
    try:
        entry = ledger.take(operation, progress=Progress(budget=budget))
    except Fault as error:
        return "fault", [str(error)]
    except LithonError as error:
        told = [] if error.what and (error.remedy or error.where or error.entities) else [f"says too little: {error}"]
        return "refused", told + ([] if same(ledger.state, before) else ["a refusal changed the state"])
    out = entry.outcome
    old = set(before.model.bodies)
    was = sum(len(flaws(b, before.model.tolerance)) for b in old - set(out.model.bodies))
    fresh = [f for b in out.model.bodies if b not in old for f in flaws(b, out.model.tolerance)]
    found = [f"{f.kind}: {f.text}" for f in fresh] if len(fresh) > was else []
    total, now = sum(sizes.values()), sum(map(volume, out.model.bodies))
    if operation.name in KEEPS and abs(now - total) > 1e-6 * abs(total):
        found.append(f"volume {total:.9g} became {now:.9g}")
    if abs(now - total - out.volume_change) > 1e-9 * abs(total) + 1e-9:
        found.append("the volume that is told is not the change")
    written = entry.operation.as_json()
    try:
        again = run(before, read(written), Progress(budget=4.0 * budget))
        one, two = (sorted(round(volume(b), 6) for b in o.model.bodies) for o in (out, again))
        if not np.allclose(one, two, rtol=1e-9, atol=1e-6):
            found.append("what was written does another thing")
    except LithonError as error:
        found.append(f"what was written is not done again: {error}")
    ledger.undo()
    if not same(ledger.state, before):
        found.append("undo is not exact")
    ledger.redo()
    seconds = time.monotonic() - start
    return f"done in {seconds:.1f} s" if seconds > 10.0 else "done", found


def soak(parts: list[tuple[str, Model]], turns: int, seed: int, budget: float = 20.0) -> tuple[Counter, list[str]]:
    """So many turns over parts; how they ended, and everything that is wrong."""
    rng = np.random.default_rng(seed)
    count: Counter[str] = Counter()
    wrong: list[str] = []
    table = [row for row in TABLE if row.name not in LEFT]
    weight = np.array([3.0 if row.operation.gate != "unchanged" else 1.0 for row in table])
    ledgers: dict[str, Ledger] = {}
    for turn in range(turns):
        name, model = parts[rng.integers(len(parts))]
        ledger = ledgers.get(name)
        if ledger is None or ledger.position > 6 or len(ledger.model.bodies) > 12:
            ledger = ledgers[name] = Ledger(Source(name, b""), Arrival(model, []), Settings(default_size(model)))
        row = table[rng.choice(len(table), p=weight / weight.sum())]
        operation = drawn(row, ledger, rng)
        if operation is None:
            continue
        try:
            end, found = troubles(ledger, operation, budget)
        except Exception as error:
            end, found = "crashed", [f"{type(error).__name__}: {error} after {operation!r}"[:600]]
        count[f"{row.name} {end.split(' in ')[0]}"] += 1
        if " in " in end:
            count["slow"] += 1
        wrong += [f"turn {turn}, {row.name} on {name}: {text}" for text in found]
        if found:
            del ledgers[name]
    return count, wrong


def sample_parts() -> list[tuple[str, Model]]:
    """The exact samples of the world that are small enough for many turns."""
    return [(stem, make()) for _, stem, make, _ in SAMPLES if stem in ("collar-anchor", "hinge-strap", "paddle-frame")]


def main() -> None:
    options = argparse.ArgumentParser(description=__doc__)
    options.add_argument("files", nargs="*")
    options.add_argument("--turns", type=int, default=100)
    options.add_argument("--seed", type=int, default=0)
    options.add_argument("--budget", type=float, default=20.0)
    given = options.parse_args()
    parts = [(Path(f).name, lithon.read_model(f).model) for f in given.files] or sample_parts()
    count, wrong = soak(parts, given.turns, given.seed, given.budget)
    for text in wrong:
        print(text)
    print(", ".join(f"{n} {what}" for what, n in sorted(count.items())))
    print(f"{sum(count.values())} turns, {len(wrong)} wrong")
    sys.exit(bool(wrong))


if __name__ == "__main__":
    main()
