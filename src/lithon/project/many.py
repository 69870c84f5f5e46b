"""Many files prepared side by side, each in a process of its own with bounds on time and memory; or by an engine that
spreads them over machines. One bad file hurts no other, and what is done is not done again."""

from __future__ import annotations

import contextlib
import csv
import hashlib
import io
import json
import multiprocessing
import os
import resource
import time
from collections.abc import Callable, Iterator, Sequence
from dataclasses import asdict, dataclass
from multiprocessing.connection import Connection, wait
from pathlib import Path
from typing import Any

from lithon.errors import LithonError
from lithon.exchange.step_write import save_atomically
from lithon.log import fault
from lithon.project.prepare import Wish, prepare

#: Told as soon as a file is done: its facts.
Told = Callable[[dict[str, Any]], None]


@dataclass(frozen=True, slots=True)
class Bounds:
    """What one file may take: seconds, and memory in bytes."""

    seconds: float = 600.0
    memory: int = 8 << 30


def prepare_all(
    files: Sequence[Path], wish: Wish, folder: Path, bounds: Bounds = Bounds(), workers: int | None = None,
    told: Told = lambda facts: None,
) -> list[dict[str, Any]]:  # fmt: skip
    """Prepare files in processes side by side; a table of all is written to the folder. Each has its facts as
    `prepare` gives them, or `error` with what went wrong. Results are in the order of the files."""
    out: dict[Path, dict[str, Any]] = {}
    for file, facts in _finished(files, wish, folder, bounds, workers or os.cpu_count() or 1):
        out[file] = facts
        told(facts)
    return _tabled([out[file] for file in files], folder)


@dataclass(slots=True)
class _Running:
    file: Path
    process: multiprocessing.process.BaseProcess
    line: Connection
    end: float


def _finished(
    files: Sequence[Path], wish: Wish, folder: Path, bounds: Bounds, most: int
) -> Iterator[tuple[Path, dict[str, Any]]]:
    """Files as they are done, so many at once."""
    fork = multiprocessing.get_context("fork")  # the engines are in memory already
    waiting, running = list(reversed(files)), list[_Running]()
    try:
        while waiting or running:
            while waiting and len(running) < most:
                file = waiting.pop()
                near, far = fork.Pipe(duplex=False)
                process = fork.Process(target=_alone, args=(far, file, wish, folder, bounds), daemon=True)
                process.start()
                far.close()
                running.append(_Running(file, process, near, time.monotonic() + bounds.seconds))
            wait([r.line for r in running], max(0.0, min(r.end for r in running) - time.monotonic()))
            for one in list(running):
                facts = _answer(one, bounds)
                if facts is not None:
                    running.remove(one)
                    yield one.file, facts
    finally:
        for one in running:
            one.process.kill()


def _answer(one: _Running, bounds: Bounds) -> dict[str, Any] | None:
    """What came of a file; None while it is under way."""
    facts: dict[str, Any] | None = None
    if one.line.poll():
        with contextlib.suppress(EOFError, OSError):
            facts = json.loads(one.line.recv_bytes())
        if facts is None:
            one.process.join(5.0)
            facts = _failed(one.file, f"its process ended unexpectedly ({_ended(one.process.exitcode)})")
    elif time.monotonic() >= one.end:
        one.process.kill()
        facts = _failed(one.file, f"it was not done within {bounds.seconds:g} s")
    if facts is not None:
        one.process.join(5.0)
        one.line.close()
    return facts


def _ended(code: int | None) -> str:
    return f"signal {-code}" if code is not None and code < 0 else f"exit {code}"


def _failed(file: Path, why: str) -> dict[str, Any]:
    return {"file": file.name, "error": why, "well": False}


def _alone(line: Connection, file: Path, wish: Wish, folder: Path, bounds: Bounds) -> None:
    """In a process of its own: the facts of a file go back as JSON."""
    with contextlib.suppress(ValueError, OSError):
        resource.setrlimit(resource.RLIMIT_AS, (bounds.memory, bounds.memory))
    line.send_bytes(json.dumps(one(file, wish, folder)).encode())


def one(file: Path, wish: Wish, folder: Path) -> dict[str, Any]:
    """The facts of a file, or with what error it ended. What was prepared before in the same way, and lies in the
    folder, is not prepared again."""
    try:
        mark = _mark(file, wish)
        done = folder / f"{file.stem}.json"
        with contextlib.suppress(OSError, ValueError):
            known: dict[str, Any] = json.loads(done.read_text("utf-8"))
            if known.get("mark") == mark:
                return known
        facts = {**prepare(file, wish, folder), "mark": mark}
        save_atomically(done, json.dumps(facts, indent=1).encode())
        return facts
    except LithonError as error:
        return _failed(file, str(error))
    except MemoryError:
        return _failed(file, "it took more memory than it may")
    except OSError as error:
        return _failed(file, str(error))
    except Exception as error:
        return _failed(file, str(fault(error, f"preparing {file.name}")))


def _mark(file: Path, wish: Wish) -> str:
    """Tells a file and how it is prepared from every other. Raises BadFile where it cannot be read."""
    from lithon.errors import BadFile

    try:
        data = file.read_bytes()
    except OSError as error:
        raise BadFile(f"{file.name} cannot be opened: {error.strerror or error}") from error
    return hashlib.sha256(data + json.dumps(asdict(wish), sort_keys=True).encode()).hexdigest()


def prepare_by(
    address: str, files: Sequence[Path], wish: Wish, folder: Path, told: Told = lambda facts: None
) -> list[dict[str, Any]]:
    """As `prepare_all`, by the workers of a Dask scheduler at an address; files and folder must be where they can
    reach them. A worker that dies is made up for by the others. Raises LithonError where Dask is not installed or
    nobody answers."""
    try:
        import distributed
    except ImportError as error:
        raise LithonError(
            "a scheduler needs the package `distributed`", remedy="pip install 'lithon[scheduler]'"
        ) from error
    places = [file.resolve() for file in files]
    folder.mkdir(parents=True, exist_ok=True)
    try:
        client: Any = distributed.Client(address, timeout=5)  # type: ignore[no-untyped-call]
    except (OSError, ValueError) as error:
        raise LithonError(f"no scheduler answers at {address}: {error}", remedy="start one, or leave it out") from error
    out: dict[str, dict[str, Any]] = {}
    with client:
        jobs = client.map(_remote, [str(p) for p in places], wish=wish, folder=str(folder.resolve()), pure=False)
        file_of = dict(zip([job.key for job in jobs], places, strict=True))
        ended: Any = distributed.as_completed(jobs)  # type: ignore[no-untyped-call]
        for job in ended:
            broken = job.exception()
            facts = _failed(file_of[job.key], str(broken)) if broken is not None else job.result()
            out[job.key] = facts
            told(facts)
        return _tabled([out[job.key] for job in jobs], folder)


def _remote(file: str, wish: Wish, folder: str) -> dict[str, Any]:
    return one(Path(file), wish, Path(folder))


_COLUMNS = ("file", "faces_before", "faces_after", "taken", "refused", "left", "elements", "min_scaled_jacobian",
            "min_dihedral_degrees", "volume_ratio", "seconds", "trouble")  # fmt: skip


def _tabled(done: list[dict[str, Any]], folder: Path) -> list[dict[str, Any]]:
    """Write the table of all, and pass them on."""
    folder.mkdir(parents=True, exist_ok=True)
    text = io.StringIO()
    table = csv.DictWriter(text, _COLUMNS)
    table.writeheader()
    table.writerows(map(row, done))
    save_atomically(folder / "table.csv", text.getvalue().encode())
    return done


def row(facts: dict[str, Any]) -> dict[str, Any]:
    """A file's line in the table."""
    out: dict[str, Any] = {key: facts[key] for key in _COLUMNS if key in facts}
    cards, mesh = facts.get("cards", {}), facts.get("mesh") or {}
    if "cards" in facts:
        out |= {what: sum(tally[what] for tally in cards.values()) for what in ("taken", "refused", "left")}
    if "elements" in mesh:
        out["elements"] = sum(mesh["elements"].values())
        out |= {key: f"{mesh[key]:.4f}" for key in _COLUMNS if key in mesh and key != "elements"}
    troubles = [facts["error"]] if "error" in facts else [f["what"] for f in mesh.get("failures", ())]
    troubles += [f"{flaw['body']}: {flaw['flaw']}" for flaw in facts.get("flaws", ())[:3]]
    out["trouble"] = "; ".join(troubles)
    return out
