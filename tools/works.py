"""Every engine on a folder of files that nobody here wrote: is what comes out valid, or refused with a reason?

    .venv/bin/python tools/works.py FOLDER [--sample 60] [--seed 1] [--limit 60] [--faces 300]

Each body of each file (the first with so many faces of a file) is cut midway along x, y and z (the parts must
make the whole), freed of features (the result must be sound, and without a hole there is more of it), bonded
again along its cut (no contact may be lost), and meshed (the mesh must fill it, every angle over ten degrees counts
as good). Untyped errors, wrong results and what runs late are listed; refusals are counted by their words.
"""

from __future__ import annotations

import random
import re
import signal
import sys
import time
import traceback
from collections import Counter, defaultdict
from collections.abc import Callable, Iterator
from concurrent.futures import ProcessPoolExecutor
from functools import partial
from pathlib import Path

import click
import numpy as np

import lithon
from lithon.bond.share import bond
from lithon.brep.boxes import box
from lithon.brep.measures import face_area, volume
from lithon.brep.topology import Body, Model
from lithon.brep.validate import flaws
from lithon.carve.split import split
from lithon.errors import LithonError
from lithon.geometry.frames import Frame
from lithon.geometry.surfaces import Plane
from lithon.survey.features import features
from lithon.trim.clear import clear

Row = tuple[str, str, str, float]  # what was done, what came of it, where, seconds


class Late(BaseException):
    """An operation ran past its limit."""


def _late(*_: object) -> None:
    raise Late


def said_of(work: Callable[[], str], limit: float) -> tuple[str, float]:
    """What came of a piece of work: 'kept', 'kept: ...', 'refused: ...', 'wrong: ...', 'crash: ...', 'late'."""
    start = time.perf_counter()
    signal.alarm(int(limit))
    try:
        said = work()
    except LithonError as error:
        said = f"refused: {error.what}"
    except Late:
        said = f"late: {traceback.format_exc(limit=-3).splitlines()[-2].strip()}"
    except Exception as error:
        at = traceback.extract_tb(error.__traceback__)[-1]
        said = f"crash: {type(error).__name__} {error} at {Path(at.filename).name}:{at.lineno}"
    finally:
        signal.alarm(0)
    return said, time.perf_counter() - start


def cut(model: Model, body: Body, axis: int) -> str:
    low, high = box(body)
    middle = low + (high - low) * np.array([0.4871, 0.5113, 0.4937])
    normal = np.eye(3)[axis]
    whole = volume(body)
    made = split(model, [body], Plane(Frame.of(middle, normal)))
    parts = [b for b in made.bodies if all(b is not x for x in model.bodies)]
    total = sum(volume(b) for b in parts)
    if abs(total - whole) > 1e-6 * whole:
        return f"wrong: parts make {total / whole - 1.0:+.2e} more than the whole"
    found = [f for b in parts for f in flaws(b, model.tolerance)]
    if found:
        return f"wrong: {found[0].text}"
    return "kept"


def bonded(model: Model, body: Body) -> str:
    """Cut across its longest way, and bonded along the cut."""
    low, high = box(body)
    axis = int(np.argmax(high - low))
    plane = Plane(Frame.of(low + (high - low) * 0.4871, np.eye(3)[axis]))
    made = split(model, [body], plane)
    again, _ = bond(made, list(made.bodies))
    contact = sum(face_area(f) for f in again.shared())
    cut_area = sum(face_area(f) for b in made.bodies for f in b.faces if f.label == "cut") / 2.0
    if abs(contact - cut_area) > 1e-6 * cut_area:
        return f"wrong: {contact:.6g} mm2 in common, cut {cut_area:.6g} mm2"
    found = [f for b in again.bodies for f in flaws(b, model.tolerance)]
    return f"wrong: {found[0].text}" if found else "kept"


def cleared(model: Model, body: Body, rank: int) -> str:
    """A feature taken away: the one at so much of the row from small to large."""
    found = sorted(features(body), key=lambda f: f.size)
    if rank >= len(found):
        return "none"
    feature = found[(rank * 7919) % len(found)]
    made = clear(body, feature.faces, model.tolerance)[0].body
    name = feature.kind
    bad = flaws(made, model.tolerance)
    if bad and not flaws(body, model.tolerance):
        return f"wrong: {name}: {bad[0].text}"
    gain = volume(made) - volume(body)
    if name == "hole" and gain <= 0.0:
        return f"wrong: {name} gone gives {gain:+.3g} mm3"
    return f"kept: {name}"


def meshed(model: Model, body: Body, elements: str) -> str:
    low, high = box(body)
    size = float(np.linalg.norm(high - low)) / 15.0
    mesh = lithon.mesh_of(Model((body,), model.tolerance), lithon.SizeRules(size), elements)
    ratio = mesh.volume_ratio
    if not mesh.conformal():
        return "wrong: not conformal"
    if (mesh.volumes <= 0).any():
        return "wrong: turned elements"
    if abs(ratio - 1.0) > 0.05:
        return f"wrong: fills {ratio:.3f}"
    if elements == "tet":
        least = float(mesh.quality.smallest_angle.min())
        return f"kept: {'over 10 degrees' if least >= 10.0 else f'{int(least)} degrees'}"
    return "kept"


def works(path: Path, limit: float, most: int) -> list[Row]:
    """Everything that was tried on one file."""
    signal.signal(signal.SIGALRM, _late)
    rows: list[Row] = []
    name = f"{path.parent.name}/{path.name}"
    try:
        model = lithon.read_model(path).model
    except LithonError as error:
        return [("read", f"refused: {error.what}", name, 0.0)]
    body = next((b for b in model.bodies if 6 < len(b.uses) <= most and not flaws(b, model.tolerance)), None)
    if body is None:
        return [("read", "none", name, 0.0)]
    alone = Model((body,), model.tolerance)
    tasks: Iterator[tuple[str, Callable[[], str]]] = iter(
        (
            *((f"cut {'xyz'[k]}", partial(cut, alone, body, k)) for k in range(3)),
            ("bond", partial(bonded, alone, body)),
            *((f"clear {k}", partial(cleared, alone, body, k)) for k in range(6)),
            ("tet", partial(meshed, alone, body, "tet")),
            ("hex", partial(meshed, alone, body, "hex")),
        )
    )
    for what, work in tasks:
        said, took = said_of(work, limit)
        rows.append((what, said, f"{name} [{len(body.uses)}]", took))
    return rows


@click.command()
@click.argument("folder", type=click.Path(exists=True, path_type=Path))
@click.option("--sample", default=60)
@click.option("--jobs", default=2)
@click.option("--limit", default=60.0, help="Seconds for one operation.")
@click.option("--faces", default=300, help="The most faces of a body.")
@click.option("--seed", default=1)
def main(folder: Path, sample: int, jobs: int, limit: float, faces: int, seed: int) -> None:
    """Use every engine on files below FOLDER."""
    by: dict[Path, list[Path]] = defaultdict(list)
    for path in sorted(p for p in folder.rglob("*") if p.suffix.lower() in (".step", ".stp", ".igs")):
        by[path.parent].append(path)
    dice = random.Random(seed)
    for group in by.values():
        dice.shuffle(group)
    chosen: list[Path] = []
    while len(chosen) < sample and any(by.values()):
        for group in by.values():
            if group and len(chosen) < sample:
                chosen.append(group.pop())
    said: dict[str, Counter[str]] = defaultdict(Counter)
    causes: Counter[str] = Counter()
    slow: list[Row] = []
    with ProcessPoolExecutor(jobs) as pool:
        for n, rows in enumerate(pool.map(partial(works, limit=limit, most=faces), chosen)):
            click.echo(f"{n + 1} of {len(chosen)}: {rows[0][2]}", err=True)
            for what, came, where, took in rows:
                kind = what.split()[0]
                low = what == "tet" and came.endswith("degrees") and "over" not in came
                said[kind][came.split(": ")[0] if kind != "tet" else came] += 1
                slow.append((what, came, where, took))
                if came.startswith(("wrong", "crash", "late")) or low:
                    click.echo(f"{what:8s} {where}: {came} ({took:.1f} s)")
                if came.startswith("refused"):
                    causes[f"{kind}: {re.sub(r'[-0-9.]+', '#', came[9:])[:100]}"] += 1
            sys.stdout.flush()
    for kind, counts in said.items():
        click.echo(f"{kind:8s} " + ", ".join(f"{n} {what}" for what, n in counts.most_common()))
    click.echo("\nrefusals")
    for text, n in causes.most_common(40):
        click.echo(f"{n:5d}  {text}")
    click.echo("\nslowest")
    for what, came, where, took in sorted(slow, key=lambda r: -r[3])[:12]:
        click.echo(f"{took:6.1f} s  {what} {where}: {came[:80]}")


if __name__ == "__main__":
    main()
