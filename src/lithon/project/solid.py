"""A file of triangles made a solid: healed, parted into faces, written; what it is made of, and how far off it is."""

from __future__ import annotations

import time
from collections import Counter
from contextlib import nullcontext
from pathlib import Path
from typing import Any, Literal

import numpy as np

from lithon.brep.faceted import faceted, soup_of
from lithon.brep.measures import area, face_area, face_centroid, volume
from lithon.brep.shells import closed
from lithon.brep.topology import Body
from lithon.brep.validate import flaws
from lithon.errors import Refusal, Spent
from lithon.exchange.step_write import write_step
from lithon.operations.mend.solid import SolidFromTriangles, shapeless
from lithon.operations.mend.triangles import CleanTriangles
from lithon.operations.running import Outcome
from lithon.progress import SILENT, Progress, now
from lithon.project.ledger import Ledger
from lithon.survey.deviation import deviation

#: So little of a skin (a share) may stay facets that no free-form faces are looked for in their stead.
_HARDLY = 0.05
#: Where most lies on nothing simple free-form faces come first, in so much of the time; simple ones are looked for
#: where they leave more.
_FIRST, _MOSTLY = 0.85, 0.3
#: How long (s) surfaces of a file are looked for where nothing else is said, and those of each body at the least.
SEARCH, _EACH = 90.0, 2.0
#: auto: simple surfaces where a body has them, with free-form faces between where less stays facets then, as far as
#: there is time, else its facets; simple, smooth: refused where a body has hardly any.
Kind = Literal["auto", "facets", "simple", "smooth"]


def solid(
    work: Ledger, kind: Kind, tolerance: float | None, out: Path, progress: Progress = SILENT, seconds: float = SEARCH
) -> dict[str, Any]:
    """Make solids of the triangles of a work, and write them as STEP. Returns what they are: faces by kind, whether
    closed and valid, the volume (mm3), how far (mm) what was read stands off them, how many wounds of each sort were
    healed, which patches or whole bodies stayed facets and why. For `auto` surfaces are looked for no longer than about
    so many seconds, shared among the bodies by their triangles; what has none by then stays facets. Raises Refusal
    where nothing is made of triangles, or cannot be healed, or `simple` or `smooth` was asked for and a body has no
    such faces; OSError where the file cannot be written."""
    start = time.monotonic()
    if not any(faceted(b) for b in work.model.bodies):
        raise Refusal(f"{work.source.name} holds no triangles", remedy="exact bodies are solids already")
    healed: dict[str, int] = {}
    if any(flaws(b, work.model.tolerance) for b in work.model.bodies if faceted(b)):
        step = work.take(CleanTriangles(), progress=progress)
        healed = {str(d["wound"]): int(d["healed"]) for d in step.outcome.details}
    read = work.model
    left: list[dict[str, Any]] = []
    kinds: Counter[str] = Counter()
    end = now() + seconds
    for k, body in enumerate(read.bodies):
        if faceted(body):
            share = len(soup_of(body).corners) / sum(len(soup_of(b).corners) for b in read.bodies[k:] if faceted(b))
            until = now() + max(share * (end - now()), _EACH)
            progress.tell(k / len(read.bodies), f"finding surfaces of {body.name}")
            told = _converted(work, body, kind, tolerance, until, progress)
            left += [{"body": body.name, **one} for one in told["left"]]
            kinds.update(told["faces"])
        else:
            kinds.update(face.surface.kind for face in body.faces)
    facts = _facts(work, kinds, healed, left) | {"seconds": 0.0}
    off = deviation(read, work.model, progress)
    facts["deviation_mm"] = {"largest": off.most, "rms": off.mean}
    write_step(work.model, out, out.stem)
    facts["seconds"] = round(time.monotonic() - start, 3)
    return facts


def _shapeless(work: Ledger, body: Body, tolerance: float | None, until: float, progress: Progress) -> bool:
    """Whether most of a body lies on nothing simple, as far as there is time to look."""
    try:
        with progress.within(max(until - now(), 0.0)), progress.under_way():
            return shapeless(body, work.state.marks, tolerance)
    except (Refusal, Spent):
        return False


def _converted(
    work: Ledger, body: Body, kind: Kind, tolerance: float | None, until: float, progress: Progress
) -> dict[str, Any]:
    """Take the step that makes a solid of a body, the one that leaves the least facets of those found `until` a time.
    Returns what it tells: faces by kind, and what stayed facets and why."""
    best: tuple[float, Outcome] | None = None
    why, before = "", set(work.model.bodies)
    ways = ("simple", "smooth") if kind == "auto" else (kind,) if kind != "facets" else ()
    smooth_first = kind == "auto" and _shapeless(work, body, tolerance, until, progress)
    for way in reversed(ways) if smooth_first else ways:
        # What leaves more than the best so far is not looked at to the end.
        most = {} if best is None else {"left": min(best[0] / area(body), 1.0)}
        step = SolidFromTriangles(body, kind=way, tolerance=tolerance, **most)
        try:
            share = _FIRST if smooth_first and way == "smooth" else 1.0
            seconds = share * max(until - now(), 0.0)
            with progress.within(seconds) if kind == "auto" else nullcontext():
                out = work.try_step(step, progress)
        except (Refusal, Spent) as refusal:
            if kind != "auto":
                raise
            why = str(refusal)
            continue
        facets = sum(float(one["area_mm2"]) for one in out.details[0]["left"])
        if best is None or facets < best[0]:
            best = facets, out
        if facets / area(body) <= (_MOSTLY if smooth_first else _HARDLY):
            break
    if best is not None and (kind != "auto" or best[0] <= _MOSTLY * area(body)):
        return _taken(work, best[1])
    flat = work.try_step(SolidFromTriangles(body, kind="facets"), progress)
    # What several triangles made a plane face of is one; a triangle by itself is a facet.
    made = [f for b in flat.model.bodies if b not in before for f in b.faces]
    alone = [f for f in made if sum(1 for _ in f.edges()) == 3]
    bare = sum(map(face_area, alone))
    if best is not None and best[0] <= bare:
        return _taken(work, best[1])
    told = _taken(work, flat)
    if kind != "auto" or not alone:
        return told
    if best is not None:
        why = f"beside other faces {best[0] / area(body):.0%} of it would stay facets"
    middle = np.mean([face_centroid(f) for f in alone], axis=0)
    return told | {"left": [{"area_mm2": bare, "place_mm": middle.tolist(), "why": why}]}


def _taken(work: Ledger, out: Outcome) -> dict[str, Any]:
    """Take a step that was tried. Returns what it tells of its body."""
    assert out.operation is not None
    work.take(out.operation, out)
    return out.details[0]


def _facts(work: Ledger, kinds: Counter[str], healed: dict[str, int], left: list[dict[str, Any]]) -> dict[str, Any]:
    bodies = work.model.bodies
    return {
        "file": work.source.name,
        "bodies": len(bodies),
        "faces": dict(kinds),
        "closed": all(closed(b) for b in bodies),
        "valid": not any(flaws(b, work.model.tolerance) for b in bodies),
        "volume_mm3": float(sum(volume(b) for b in bodies if closed(b))),
        "healed": healed,
        "left": left,
    }
