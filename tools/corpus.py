"""Survey a folder of files that nobody here wrote, and print a table: read, closed, volume, time, memory.

    .venv/bin/python tools/corpus.py FOLDER [--sample 300] [--jobs 2] [--limit 60] [--save table.json] [--mesh]

A `.wrl` beside a STEP file is a second opinion on the volume (one unit there is 2.54 mm). Times are ratios to
plain regular-expression tokenising of the same bytes. Every file has its own time limit; a file that runs past
it or takes the reader down is a failure of that file alone. With --mesh each is also meshed as it was read, in
elements of a 25th of its diagonal, cured card by card, and meshed again.
"""

from __future__ import annotations

import json
import multiprocessing as mp
import random
import re
import time
from collections import Counter, defaultdict
from multiprocessing.connection import Connection
from pathlib import Path
from typing import Any

import click
import numpy as np
from numpy.typing import NDArray

TOKEN = re.compile(rb"'(?:[^']|'')*'|#\d+|[-+]?\d+\.?\d*(?:[eE][-+]?\d+)?|\.\w+\.|\w+|[(),;=$*]")
KINDS = (".step", ".stp", ".stl", ".obj", ".ply", ".3mf", ".igs", ".iges")
WRL_UNIT = 2.54


def second_opinion(path: Path) -> NDArray[np.float64] | None:
    """Triangles (m,3,3) in mm from the VRML beside a file, where they close."""
    wrl = path.with_suffix(".wrl")
    if not wrl.exists():
        return None
    text = wrl.read_text(errors="replace")
    corners: list[NDArray[np.float64]] = []
    for shape in re.finditer(r"coordIndex\s*\[([^\]]*)\][^\[]*?point\s*\[([^\]]*)\]", text):
        index = np.array(re.findall(r"-?\d+", shape.group(1)), dtype=np.int64)
        points = np.array(re.findall(r"[-+.\deE]+", shape.group(2)), dtype=float).reshape(-1, 3)
        if len(index) % 4 or (index[3::4] != -1).any():
            return None
        corners.append(points[index.reshape(-1, 4)[:, :3]])
    if not corners:
        return None
    tri = WRL_UNIT * np.concatenate(corners)
    # Directed areas cancel where the triangles close, however the sides are divided.
    area = 0.5 * np.cross(tri[:, 1] - tri[:, 0], tri[:, 2] - tri[:, 0])
    closed = np.linalg.norm(area.sum(axis=0)) < 1e-4 * np.linalg.norm(area, axis=1).sum()
    return tri if closed else None


def volume_of(tri: NDArray[np.float64]) -> float:
    """The volume that triangles (m,3,3) enclose, counted as often as it is enclosed."""
    return float(np.einsum("ij,ij->i", tri[:, 0], np.cross(tri[:, 1], tri[:, 2])).sum() / 6.0)


def filled(tri: NDArray[np.float64], low: NDArray[np.float64], high: NDArray[np.float64], n: int) -> float:
    """The volume that triangles cover, overlaps counted once, from n x n rays along z over a box."""
    step = (high[:2] - low[:2]) / n
    rays: dict[tuple[int, int], list[tuple[float, int]]] = defaultdict(list)
    flat = (tri[:, :, :2] - low[:2]) / step - 0.4871  # off any round coordinate
    for corners, z in zip(flat, tri[:, :, 2], strict=True):
        (ax, ay), (bx, by), (cx, cy) = corners
        det = (bx - ax) * (cy - ay) - (cx - ax) * (by - ay)
        if det == 0.0:
            continue
        i = np.arange(max(0, int(np.ceil(corners[:, 0].min()))), min(n - 1, int(corners[:, 0].max())) + 1)
        j = np.arange(max(0, int(np.ceil(corners[:, 1].min()))), min(n - 1, int(corners[:, 1].max())) + 1)
        if not len(i) or not len(j):
            continue
        x, y = np.meshgrid(i, j, indexing="ij")
        v = ((x - ax) * (cy - ay) - (cx - ax) * (y - ay)) / det
        w = ((bx - ax) * (y - ay) - (x - ax) * (by - ay)) / det
        hit = (v >= 0) & (w >= 0) & (v + w <= 1)
        for p, q, h in zip(x[hit], y[hit], (z[0] + v * (z[1] - z[0]) + w * (z[2] - z[0]))[hit], strict=True):
            rays[int(p), int(q)].append((float(h), -1 if det > 0 else 1))
    total = 0.0
    for crossings in rays.values():
        crossings.sort()
        depth, since = 0, 0.0
        for h, way in crossings:
            if depth == 0 and way > 0:
                since = h
            elif depth == 1 and way < 0:
                total += h - since
            depth += way
    return total * float(step[0] * step[1])


def written_by(data: bytes) -> str:
    """The program that a STEP header names as its preprocessor, or the file's kind."""
    header = re.search(rb"FILE_NAME\s*\((.*?)\)\s*;", data[:8000], re.S)
    words = re.findall(rb"'((?:[^']|'')*)'", header.group(1)) if header else []
    named = [w.decode("utf-8", "replace").strip() for w in words[-3:-1]]
    return next((w for w in named if w), "unnamed")[:36]


def survey(path: Path) -> dict[str, Any]:
    """Everything the table shows of one file."""
    from lithon.brep.measures import volume
    from lithon.brep.tessellation.tessellate import body_mesh
    from lithon.brep.validate import flaws
    from lithon.errors import LithonError
    from lithon.exchange.intake import read_model

    data = path.read_bytes()
    start = time.perf_counter()
    sum(1 for _ in TOKEN.finditer(data))
    tokens = time.perf_counter() - start
    row: dict[str, Any] = {"file": path.name, "folder": path.parent.name, "size": len(data), "tokens": tokens}
    row["writer"] = written_by(data)
    before = _memory("VmRSS")
    Path("/proc/self/clear_refs").write_text("5")
    start = time.perf_counter()
    try:
        arrival = read_model(path)
    except LithonError as error:
        return {**row, "error": str(error)}
    row["read"] = time.perf_counter() - start
    bodies = arrival.model.bodies
    bad: list[str] = []
    start = time.perf_counter()
    for body in bodies:
        try:
            body_mesh(body)
        except LithonError as error:
            bad.append(f"{body.name}: {error}")
    row["drawn"] = time.perf_counter() - start
    row["memory"] = max(0.0, _memory("VmHWM") - before) / len(data)
    row["ratio"] = (row["read"] + row["drawn"]) / tokens
    row["over"] = row["read"] + row["drawn"] > 40.0 * tokens + 0.2
    row["solids"] = len(bodies)
    row["faces"] = sum(len(b.uses) for b in bodies)
    total, unsound = 0.0, 0
    flawed: dict[int, bool] = {}
    for body in bodies:
        found = flaws(body, arrival.model.tolerance)
        flawed[body.uid] = bool(found)
        if found:
            unsound += 1
            bad.append(f"{body.name}: {found[0].text} {np.round(found[0].place, 3).tolist()} (+{len(found) - 1})")
        try:
            total += volume(body)
        except LithonError as error:
            bad.append(f"{body.name}: {error}")
    row |= {"unsound": unsound, "volume": total, "bad": bad[:6], "notes": arrival.notes[:6]}
    other = second_opinion(path)
    if other is not None and not bad:
        row["second"] = volume_of(other)
        row["off"] = abs(total - row["second"]) / max(abs(row["second"]), 1e-12)
        if row["off"] >= 0.01:  # its parts may lie in each other: compare what is filled, by the same rays
            mine = []
            for body in bodies:
                points, triangles, _ = body_mesh(body)
                mine.append(points[triangles])
            ours = np.concatenate(mine)
            low, high = ours.reshape(-1, 3).min(axis=0), ours.reshape(-1, 3).max(axis=0)
            theirs = filled(other, low, high, 300)
            row["off"] = abs(filled(ours, low, high, 300) - theirs) / max(abs(theirs), 1e-12)
    return row


def meshed(path: Path) -> dict[str, Any]:
    """A file meshed as it was read, and after every cure that its cards offer."""
    from lithon.brep.topology import rough_box
    from lithon.errors import LithonError
    from lithon.operations.cures import cured
    from lithon.operations.prove.mesh import MakeMesh, usual
    from lithon.operations.prove.settings import ElementSize
    from lithon.project.ledger import Ledger
    from lithon.project.prepare import mesh_facts

    try:
        work = Ledger.open(path)
    except LithonError:
        return {}
    low, high = rough_box(work.model.bodies)
    work.take(ElementSize(size=float(np.linalg.norm(high - low)) / 25.0))
    row: dict[str, Any] = {}

    def mesh(what: str) -> None:
        start = time.perf_counter()
        try:
            made = work.try_step(MakeMesh(elements=usual(work.model))).mesh
            assert made is not None
            row[what] = mesh_facts(made, work.model, work.state.rules())
        except LithonError as error:
            row[what] = {"failed": str(error)}
        row[what]["seconds"] = time.perf_counter() - start

    mesh("as read")
    start = time.perf_counter()
    # What moves more than half an element is left to a person, as everywhere.
    out = cured(work.state, 0.5 * work.size, taken=lambda step: work.take(step.operation or {}, step))
    row["curing"] = time.perf_counter() - start
    row["cards"] = {kind: dict(tally) for kind, tally in out.tally.items()}
    row["valid"] = not [1 for b in work.model.bodies for _ in flaws_of(b, work.model.tolerance)]
    row["refused"] = [f"{f.kind}: {why}" for f, why in out.reasons if out.tally[f.kind]["refused"]][:6]
    mesh("cured")
    return row


def flaws_of(body: Any, tolerance: float) -> list[Any]:
    from lithon.brep.validate import flaws

    return flaws(body, tolerance)


def _memory(name: str) -> float:
    for line in Path("/proc/self/status").read_text().splitlines():
        if line.startswith(name):
            return 1024.0 * float(line.split()[1])
    return 0.0


def _serve(pipe: Connection, mesh: bool = False) -> None:
    import lithon
    from lithon.brep.tessellation.tessellate import body_mesh
    from lithon.brep.validate import flaws
    from lithon.geometry.splines import BSplineCurve, BSplineSurface
    from lithon.rubbish import look_seldom
    from lithon.samples import cast_anchor, paddle_frame

    for make in (cast_anchor, paddle_frame):  # load and compile everything once, outside of all measures
        for body in lithon.parse_step(lithon.step_text(make())).model.bodies:
            body_mesh(body)
            flaws(body, 1e-6)
    knots, net = np.array([0.0, 0.0, 1.0, 1.0]), np.random.default_rng(0).random((2, 2, 3))
    for frozen in (True, False):
        knots.flags.writeable = not frozen
        BSplineCurve(knots, 1, net[0]).parameter(net[0])
        BSplineSurface(knots, knots, 1, 1, net).parameters(net[0])
    look_seldom()  # as the command line does
    while True:
        path = pipe.recv()
        if path is None:
            return
        try:
            pipe.send({**survey(path), **(meshed(path) if mesh else {})})
        except Exception as error:
            import traceback

            where = traceback.extract_tb(error.__traceback__)[-1]
            pipe.send({"crash": f"{type(error).__name__}: {error} at {Path(where.filename).name}:{where.lineno}"})


class Reader:
    """A process that surveys one file at a time and can be replaced."""

    def __init__(self, mesh: bool) -> None:
        self.mesh = mesh
        self.start()

    def start(self) -> None:
        self.pipe, far = mp.get_context("spawn").Pipe()
        self.process = mp.get_context("spawn").Process(target=_serve, args=(far, self.mesh), daemon=True)
        self.process.start()
        self.path: Path | None = None

    def give(self, path: Path) -> None:
        self.path, self.since = path, time.monotonic()
        self.pipe.send(path)

    def answer(self, limit: float) -> dict[str, Any] | None:
        """What it found, or None while it still works."""
        assert self.path is not None
        blank = {"file": self.path.name, "folder": self.path.parent.name, "writer": "?"}
        if self.pipe.poll(0.02):
            try:
                row: dict[str, Any] = self.pipe.recv()
            except EOFError:
                self.start()
                return {**blank, "crash": "the reader died"}
            self.path = None
            return {**blank, **row}
        if time.monotonic() - self.since > limit:
            self.process.kill()
            self.start()
            return {**blank, "crash": f"not done in {limit:.0f} s"}
        return None


def run(
    files: list[Path], jobs: int, limit: float, mesh: bool = False, save: Path | None = None
) -> list[dict[str, Any]]:
    readers = [Reader(mesh) for _ in range(jobs)]
    waiting, rows = list(reversed(files)), []
    while waiting or any(r.path for r in readers):
        for reader in readers:
            if reader.path is None:
                if waiting:
                    reader.give(waiting.pop())
                continue
            row = reader.answer(limit)
            if row is not None:
                rows.append(row)
                if save:  # what is known is kept, should somebody stop it
                    save.write_text(json.dumps(rows, indent=1, default=float))
                if len(rows) % 25 == 0:
                    click.echo(f"{len(rows)} of {len(files)}", err=True)
    for reader in readers:
        reader.pipe.send(None)
    return rows


def table(rows: list[dict[str, Any]]) -> None:
    """Totals by writer, then every failure with its cause."""
    groups: dict[str, list[dict[str, Any]]] = defaultdict(list)
    for row in rows:
        groups[row["writer"]].append(row)
    click.echo(f"{'writer':36s} files  read  solids  sound  volume ok   ratio med/max  late  memory")
    for name, group in [*sorted(groups.items()), ("all", rows)]:
        read = [r for r in group if "solids" in r]
        solids = sum(r["solids"] for r in read)
        sound = solids - sum(r["unsound"] for r in read)
        told = [r for r in read if "off" in r]
        near = sum(r["off"] < 0.01 for r in told)
        ratio = [r["ratio"] for r in read] or [0.0]
        late, memory = sum(r["over"] for r in read), max([r["memory"] for r in read] or [0.0])
        click.echo(
            f"{name:36s} {len(group):5d} {len(read):5d} {solids:7d} {sound:6d}  {near:4d}/{len(told):4d}  "
            f"{np.median(ratio):6.1f} / {max(ratio):6.1f}  {late:4d}  {memory:5.0f}x"
        )
    causes: Counter[str] = Counter()
    for row in rows:
        for text in [row.get("crash"), row.get("error"), *row.get("bad", [])[:2], *row.get("notes", [])[:2]]:
            if text:
                causes[re.sub(r"[-\d.]+", "#", text.split(": ", 1)[-1])[:90]] += 1
    click.echo("\ncauses")
    for text, n in causes.most_common(25):
        click.echo(f"{n:6d}  {text}")
    click.echo("\nfiles")
    for row in rows:
        told = row.get("off", 0.0) >= 0.01
        if "solids" not in row or row["unsound"] or told:
            why = row.get("crash") or row.get("error") or "; ".join(row["bad"][:2])
            off = f" volume off {row['off']:.1%}" if told else ""
            click.echo(f"  {row['folder'][:30]}/{row['file'][:50]}: {why[:200]}{off}")


def meshes(rows: list[dict[str, Any]]) -> None:
    """What could be cured, what could be meshed, and how well."""
    tally: Counter[str] = Counter()
    for row in rows:
        for fates in row.get("cards", {}).values():
            tally.update(fates)
    offered = tally["taken"] + tally["refused"]
    click.echo(f"\ncards: {tally['taken']} of {offered} that offer a cure taken, {tally['left']} left to a person")
    tried = [r for r in rows if "as read" in r]
    click.echo(f"valid after the cures: {sum(r.get('valid', False) for r in tried)} of {len(tried)}")
    for what, least, angle in (("as read", 0.05, 8.0), ("cured", 0.1, 12.0)):
        made = [r[what] for r in tried if "nodes" in r.get(what, {}) and not r[what]["failures"]]
        good = sum(m["min_scaled_jacobian"] > least and m["min_dihedral_degrees"] > angle for m in made)
        near = [sum(abs(m["volume_ratio"] - 1.0) < share for m in made) for share in (0.02, 0.005)]
        slow = sorted(r[what]["seconds"] for r in tried if what in r)
        click.echo(
            f"meshed {what}: {len(made)} of {len(tried)}; better than {least:g} and {angle:g} degrees: {good}; volume "
            f"within 2 %: {near[0]}, within 0.5 %: {near[1]}; time med/max {np.median(slow):.1f} / {slow[-1]:.1f} s"
            if slow else f"meshed {what}: none"
        )  # fmt: skip
    for row in rows:
        lines = [row[w].get("failed") or "" for w in ("as read", "cured") if w in row] + row.get("refused", [])
        poor = [f"{w} {row[w]['min_scaled_jacobian']:.4f}/{row[w]['min_dihedral_degrees']:.1f}"
                for w in ("as read", "cured") if row.get(w, {}).get("below_lenient")]  # fmt: skip
        if "crash" in row or poor or any(lines):
            told = "; ".join(x for x in [row.get("crash", ""), *poor, *lines] if x)
            click.echo(f"  {row['folder'][:30]}/{row['file'][:50]}: {told[:240]}")


@click.command()
@click.argument("folder", type=click.Path(exists=True, path_type=Path))
@click.option("--sample", default=0, help="As many files, spread evenly over the folders.")
@click.option("--jobs", default=2)
@click.option("--limit", default=90.0, help="Seconds for one file.")
@click.option("--seed", default=1)
@click.option("--mesh", is_flag=True, help="Mesh each as read, cure it, mesh it again.")
@click.option("--save", type=click.Path(path_type=Path))
def main(folder: Path, sample: int, jobs: int, limit: float, seed: int, mesh: bool, save: Path | None) -> None:
    """Survey every file below FOLDER."""
    found = sorted(p for p in folder.rglob("*") if p.suffix.lower() in KINDS)
    if sample and sample < len(found):
        by: dict[Path, list[Path]] = defaultdict(list)
        for path in found:
            by[path.parent].append(path)
        dice = random.Random(seed)
        for group in by.values():
            dice.shuffle(group)
        found = []
        while len(found) < sample:
            for group in by.values():
                if group and len(found) < sample:
                    found.append(group.pop())
    rows = run(found, jobs, limit, mesh, save)
    table(rows)
    if mesh:
        meshes(rows)


if __name__ == "__main__":
    main()
