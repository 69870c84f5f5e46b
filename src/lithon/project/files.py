"""The project file: a zip of the source as it was read and the ledger as JSON. Saved atomically."""

from __future__ import annotations

import io
import json
import zipfile
from pathlib import Path
from typing import Any

from lithon.errors import BadFile
from lithon.exchange.placement import Placement
from lithon.exchange.step_write import save_atomically
from lithon.progress import SILENT, Progress
from lithon.project.ledger import Ledger, Past, Source

SUFFIX = ".lithon"
_MOST = 1 << 31


def save_project(ledger: Ledger, path: str | Path) -> None:
    """Write a project. The old file survives a full disk or a kill. Raises BadFile."""
    state: dict[str, Any] = {
        "lithon project": 1,
        "source": ledger.source.name,
        "unit": ledger.source.unit,
        "placement": ledger.source.placement.as_json(),
        "size": ledger.size,
        "position": ledger.position,
        "face budget": ledger.face_budget,
        "entries": [{"step": e.step, "words": e.outcome.words, "on": e.on} for e in ledger.entries],
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
        if state["lithon project"] != 1:
            raise BadFile(f"{path.name} was written by a newer Lithon")
        unit, budget = state.get("unit"), state.get("face budget")
        if not all(isinstance(entry["step"], dict) for entry in state["entries"]):
            raise BadFile(f"{path.name} holds a broken step")
        past = Past(
            tuple((entry["step"], str(entry["words"]), bool(entry["on"])) for entry in state["entries"]),
            int(state["position"]),
            float(state["size"]),
            None if budget is None else int(budget),
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
