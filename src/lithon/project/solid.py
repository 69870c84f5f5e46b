"""A file of triangles made a solid: healed, parted into faces, written; what it is made of, and how far off it is."""

from __future__ import annotations

import time
from collections import Counter
from pathlib import Path
from typing import Any, Literal

from lithon.brep.measures import area, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body
from lithon.brep.validate import flaws
from lithon.errors import Refusal, Spent
from lithon.exchange.step_write import write_step
from lithon.operations.mend.solid import SolidFromTriangles
from lithon.operations.mend.triangles import CleanTriangles, faceted
from lithon.progress import SILENT, Progress
from lithon.project.ledger import Ledger
from lithon.survey.deviation import deviation

#: auto: simple surfaces where a body has them, else with free-form faces between, else its facets; simple, smooth:
#: refused where a body has them not.
Kind = Literal["auto", "facets", "simple", "smooth"]


def solid(work: Ledger, kind: Kind, tolerance: float | None, out: Path, progress: Progress = SILENT) -> dict[str, Any]:
    """Make solids of the triangles of a work, and write them as STEP. Returns what they are: faces by kind, whether
    closed and valid, the volume (mm3), how far (mm) what was read stands off them, how many wounds of each sort were
    healed, which bodies stayed facets and why. Raises Refusal where nothing is made of triangles, or cannot be healed,
    or `simple` or `smooth` was asked for and a body has no such faces; OSError where the file cannot be written."""
    start = time.monotonic()
    if not any(faceted(b) for b in work.model.bodies):
        raise Refusal(f"{work.source.name} holds no triangles", remedy="exact bodies are solids already")
    healed: dict[str, int] = {}
    if any(flaws(b, work.model.tolerance) for b in work.model.bodies if faceted(b)):
        step = work.take(CleanTriangles(), progress=progress)
        healed = {str(d["wound"]): int(d["healed"]) for d in step.outcome.details}
    read = work.model
    left: list[dict[str, Any]] = []
    for k, body in enumerate(read.bodies):
        if faceted(body):
            progress.tell(k / len(read.bodies), f"finding surfaces of {body.name}")
            left += _converted(work, body, kind, tolerance, progress)
    facts = _facts(work, healed, left) | {"seconds": 0.0}
    off = deviation(read, work.model, progress)
    facts["deviation_mm"] = {"largest": off.most, "rms": off.mean}
    write_step(work.model, out, out.stem)
    facts["seconds"] = round(time.monotonic() - start, 3)
    return facts


def _converted(
    work: Ledger, body: Body, kind: Kind, tolerance: float | None, progress: Progress
) -> list[dict[str, Any]]:
    """Take the step that makes a solid of a body; where only facets could be had, which and why."""
    for way in ("simple", "smooth") if kind == "auto" else (kind,) if kind != "facets" else ():
        try:
            work.take(SolidFromTriangles(body, kind=way, tolerance=tolerance), progress=progress)
            return []
        except (Refusal, Spent) as refusal:
            if kind != "auto":
                raise
            why = str(refusal)
    work.take(SolidFromTriangles(body, kind="facets"), progress=progress)
    return [{"body": body.name, "area_mm2": area(body), "why": why}] if kind == "auto" else []


def _facts(work: Ledger, healed: dict[str, int], left: list[dict[str, Any]]) -> dict[str, Any]:
    bodies = work.model.bodies
    return {
        "file": work.source.name,
        "bodies": len(bodies),
        "faces": dict(Counter(face.surface.kind for body in bodies for face in body.faces)),
        "closed": all(closed(b) for b in bodies),
        "valid": not any(flaws(b, work.model.tolerance) for b in bodies),
        "volume_mm3": float(sum(volume(b) for b in bodies if closed(b))),
        "healed": healed,
        "left": left,
    }
