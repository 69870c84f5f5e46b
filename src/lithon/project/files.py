"""The project file: a zip of the source as it was read and the ledger as JSON. Saved atomically."""

from __future__ import annotations

import io
import json
import zipfile
from dataclasses import asdict, fields
from pathlib import Path
from typing import Any

from lithon.errors import BadFile
from lithon.exchange.placement import Placement
from lithon.exchange.step_write import save_atomically
from lithon.operations.recorded import VERSION, read_kept
from lithon.operations.state import Settings
from lithon.progress import SILENT, Progress
from lithon.project.ledger import Ledger, Past, Source

_MOST = 1 << 31


def save_project(ledger: Ledger, path: str | Path) -> None:
    """Write a project. The old file survives a full disk or a kill. Raises BadFile."""
    state: dict[str, Any] = {
        "lithon project": VERSION,
        "source": ledger.source.name,
        "unit": ledger.source.unit,
        "placement": ledger.source.placement.as_json(),
        "settings": asdict(ledger.start),
        "position": ledger.position,
        "entries": [{"step": e.operation.as_json(), "words": e.outcome.words, "on": e.on} for e in ledger.entries],
    }
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("project.json", json.dumps(state, indent=1))
        archive.writestr("source", ledger.source.data)
    try:
        save_atomically(Path(path), out.getvalue())
    except OSError as error:
        raise BadFile(
            f"{Path(path).name} cannot be saved: {error.strerror or error}",
            remedy="another folder; the work is still open",
        ) from error


def load_project(path: str | Path, progress: Progress = SILENT) -> tuple[Ledger, list[str]]:
    """Read a project and replay it; what no longer resolves is reported. Raises BadFile."""
    path = Path(path)
    try:
        with zipfile.ZipFile(path) as archive:
            if sum(i.file_size for i in archive.infolist()) > _MOST:
                raise BadFile(f"{path.name} unpacks to more than Lithon takes")
            state = json.loads(archive.read("project.json"))
            data = archive.read("source")
        version = state["lithon project"]
        if version not in range(1, VERSION + 1):
            raise BadFile(f"{path.name} was written by a newer Lithon")
        if not all(isinstance(entry["step"], dict) for entry in state["entries"]):
            raise BadFile(f"{path.name} holds a broken step")
        unit = state.get("unit")
        past = Past(
            tuple((read_kept(e["step"], version), str(e["words"]), bool(e["on"])) for e in state["entries"]),
            int(state["position"]),
            _settings(state, version),
            None if unit is None else str(unit),
            Placement.from_json(state.get("placement")),
        )
        if not 0 <= past.position <= len(past.steps):
            raise BadFile(f"{path.name} counts its steps wrongly")
        ledger = Ledger.of(Source(str(state["source"]), data, past.unit, past.placement))
    except OSError as error:
        raise BadFile(f"{path.name} cannot be opened: {error.strerror or error}") from error
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError) as error:
        raise BadFile(f"{path.name} is not a whole Lithon project ({error})") from error
    return past.on(ledger, progress)


def _settings(state: dict[str, Any], version: int) -> Settings:
    """What was set before the first step; version 1 wrote two of them by themselves."""
    if version == 1:
        budget = state.get("face budget")
        return Settings(float(state["size"]), budget=None if budget is None else int(budget))
    told = state["settings"]
    names = {f.name for f in fields(Settings)}
    return Settings(**{key: value for key, value in told.items() if key in names})
