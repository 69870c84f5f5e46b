"""A file prepared unattended: every safe cure taken, meshed, proved, and written with all that was done."""

from __future__ import annotations

import json
import time
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from lithon.brep.measures import volume
from lithon.brep.topology import Model
from lithon.brep.validate import flaws
from lithon.errors import LithonError, Refusal, Spent, spot
from lithon.exchange.step_write import save_atomically, write_step
from lithon.exchange.vtu import write_vtu
from lithon.mesh.mesh import Mesh
from lithon.mesh.patch_test import patch_test
from lithon.mesh.sizing import SizeRules
from lithon.mesh.surface import IGNORED
from lithon.mesh.verdict import verdict
from lithon.operations.cures import SAFE, cured
from lithon.operations.prove.drapes import IgnoreBelow
from lithon.operations.prove.mesh import MakeMesh, usual
from lithon.operations.prove.settings import ElementSize
from lithon.progress import SILENT, Progress
from lithon.project.files import save_project
from lithon.project.ledger import Ledger
from lithon.project.report import report_html

#: What becomes of a card.
_FATES = ("taken", "refused", "left")


@dataclass(frozen=True, slots=True)
class Wish:
    """How files are prepared. Lengths in mm; size: of elements, None for one that suits the file; ignore: below it
    nothing is followed, None for a tenth of an element, 0 to follow everything; limit: how far a cure may move
    anything, None for half an element."""

    size: float | None = None
    ignore: float | None = None
    limit: float | None = None


def prepare(file: Path, wish: Wish, folder: Path, progress: Progress = SILENT) -> dict[str, Any]:
    """Prepare a file; project, geometry, mesh and report go to the folder under its name. Returns what came of it:
    faces and volume before and after, cards by kind, steps, flaws, the mesh and the time. A mesh that cannot be made is
    told in it. Raises BadFile where the file cannot be read, OSError where the folder cannot be written."""
    start = time.monotonic()
    work = Ledger.open(file)
    if wish.size is not None:
        work.take(ElementSize(size=wish.size))
    if wish.ignore is not None:
        work.take(IgnoreBelow(size=wish.ignore))
    before = work.model
    limit = wish.limit if wish.limit is not None else SAFE * work.size
    out = cured(work.state, limit, progress, taken=lambda step: work.take(step.operation or {}, step))
    facts: dict[str, Any] = {
        "file": file.name,
        "size_mm": work.size,
        "faces_before": before.face_count(),
        "faces_after": work.model.face_count(),
        "volume_mm3": {"before": _volume(before), "after": _volume(work.model)},
        "cards": {kind: {what: tally[what] for what in _FATES} for kind, tally in out.tally.items()},
        "refused": [{"text": f.text, "body": f.body.name, "place_mm": list(f.place), "why": why}
                    for f, why in out.reasons],
        "flaws": [{"body": b.name, "flaw": flaw.text, "place_mm": [float(c) for c in flaw.place]}
                  for b in work.model.bodies for flaw in flaws(b, work.model.tolerance)],
    }  # fmt: skip
    progress.tell(0.9, "meshing")
    mesh = None
    try:
        # A lattice moves no more than a cure may.
        step = MakeMesh(elements=usual(work.model), lattice=True, most=limit)
        outcome = work.try_step(step, progress)
        work.take(step, outcome)
        mesh = outcome.mesh
        facts["mesh"] = mesh_facts(mesh, work.model, work.state.rules()) if mesh is not None else None
    except (Refusal, Spent) as refusal:
        facts["mesh"] = {"failures": [_told(refusal)]}
    if mesh is not None:
        proof = patch_test(mesh)
        facts["mesh"]["patch_test"] = {"passed": proof.passed, "error": proof.error, "free_nodes": proof.nodes}
    facts["steps"] = [e.outcome.words for e in work.entries]
    facts["well"] = mesh is not None and not mesh.failures and not facts["flaws"]
    facts["seconds"] = round(time.monotonic() - start, 3)
    folder.mkdir(parents=True, exist_ok=True)
    write_step(work.model, folder / f"{file.stem}.step", file.stem)
    save_project(work, folder / f"{file.stem}.lithon")
    save_atomically(folder / f"{file.stem}.html", report_html(work, mesh).encode())
    if mesh is not None:
        write_vtu(mesh, folder / f"{file.stem}.vtu")
    save_atomically(folder / f"{file.stem}.json", json.dumps(facts, indent=1).encode())
    return facts


def _told(error: LithonError) -> dict[str, str]:
    return {"what": error.what, "where": error.where, "remedy": error.remedy}


def _volume(model: Model) -> float | None:
    """Of all solids (mm3); None where one cannot be measured."""
    try:
        return float(sum(volume(b) for b in model.bodies if not b.sheet))
    except Refusal:
        return None


def mesh_facts(mesh: Mesh, model: Model, rules: SizeRules) -> dict[str, Any]:
    """A mesh in numbers: nodes and elements, how good they are and where not, what was ignored, what failed."""
    told = verdict(mesh)
    return {
        "ignore_mm": rules.ignore,
        "nodes": len(mesh.points),
        "elements": {mesh.shape.short: len(mesh.elements)},
        "min_scaled_jacobian": float(mesh.quality.scaled_jacobian.min()),
        "min_dihedral_degrees": float(mesh.quality.smallest_angle.min()),
        "volume_ratio": mesh.volume_ratio,
        "conformal": mesh.conformal(),
        "ignored": dict.fromkeys(IGNORED, 0) | dict(mesh.ignored),
        "below_strict": told.strict,
        "below_lenient": told.lenient,
        "poor": [{"elements": p.elements, "at": p.face.surface.kind if p.face else None, "cause": p.cause}
                 for p in told.places],
        "rounded": [{"body": mesh.bodies[k].name, "off_mm": off, "slots_filled_mm": mesh.filled.get(k)}
                    for k, off in mesh.rounded.items()],
        "failures": [{"what": f.what, "where": spot(f.place), "remedy": f.remedy} for f in mesh.failures],
    }  # fmt: skip
