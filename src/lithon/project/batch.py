"""A recipe over files: each is read, worked on, meshed and written to a folder; one bad file hurts no other."""

from __future__ import annotations

import csv
import io
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from lithon.errors import BadFile, Cancelled, LithonError, Refusal
from lithon.exchange.intake import SUFFIXES
from lithon.exchange.step_write import save_atomically, write_step
from lithon.exchange.vtu import write_vtu
from lithon.mesh.mesh import Mesh
from lithon.operations.prove.mesh import MakeMesh
from lithon.progress import SILENT, Progress
from lithon.project.files import save_project
from lithon.project.ledger import Ledger, run_recipe
from lithon.project.report import Painter, report_html


@dataclass(slots=True)
class Batched:
    """What came of one file: the work and its mesh, where it got so far; `troubles` of steps, `failures` of the mesh,
    or why the file could not be read."""

    file: Path
    work: Ledger | None = None
    mesh: Mesh | None = None
    troubles: list[str] = field(default_factory=list)
    failures: list[str] = field(default_factory=list)

    @property
    def well(self) -> bool:
        return self.work is not None and not self.troubles and not self.failures


def files_of(places: Sequence[Path]) -> list[Path]:
    """The files that are meant: those named, and all that can be read in the folders named, in order.

    Raises BadFile where two would be written under one name.
    """
    out: list[Path] = []
    for place in places:
        if place.is_dir():
            out += sorted(p for p in place.iterdir() if p.suffix.lower() in SUFFIXES and p.is_file())
        else:
            out.append(place)
    stems: dict[str, Path] = {}
    for file in out:
        if file.stem in stems:
            raise BadFile(f"{file} and {stems[file.stem]} would be written under one name",
                          remedy="run them one after the other, to two folders")  # fmt: skip
        stems[file.stem] = file
    return out


def run_on(
    recipe: dict[str, Any], file: Path, folder: Path, progress: Progress = SILENT, paint: Painter | None = None
) -> Batched:
    """Replay a recipe on a file; geometry, project, report and mesh go to the folder. The mesh is made as the last
    step that made one says, else of tetrahedra. Raises OSError where the folder cannot be written, BadFile where the
    file cannot be read."""
    work = Ledger.open(file)
    out = Batched(file, work, troubles=run_recipe(work, recipe, progress))
    asked = [e.operation for e in work.entries if isinstance(e.operation, MakeMesh) and e.on]
    step = asked[-1] if asked else MakeMesh(elements=work.settings.elements or "tet")
    try:
        out.mesh = work.try_step(step, progress).mesh
    except Refusal as refusal:
        out.failures.append(str(refusal))
    if out.mesh is not None:
        out.failures += [f"not meshed: {failure}" for failure in out.mesh.failures]
    folder.mkdir(parents=True, exist_ok=True)
    write_step(work.model, folder / f"{file.stem}.step", file.stem)
    save_project(work, folder / f"{file.stem}.lithon")
    save_atomically(folder / f"{file.stem}.html", report_html(work, out.mesh, paint=paint).encode())
    if out.mesh is not None:
        write_vtu(out.mesh, folder / f"{file.stem}.vtu")
    return out


def run_over(
    recipe: dict[str, Any],
    files: Sequence[Path],
    folder: Path,
    progress: Progress = SILENT,
    paint: Painter | None = None,
) -> list[Batched]:
    """The recipe on each file; what cannot be read, or goes wrong, is told with that file alone. A table of all is
    written to the folder."""
    done: list[Batched] = []
    for k, file in enumerate(files):
        progress.tell(k / len(files), file.name)
        try:
            done.append(run_on(recipe, file, folder, progress, paint))
        except Cancelled:
            raise
        except LithonError as error:
            done.append(Batched(file, failures=[str(error)]))
    folder.mkdir(parents=True, exist_ok=True)
    save_atomically(folder / "table.csv", table(done).encode())
    return done


def table(done: Sequence[Batched]) -> str:
    """A line of commas for each file: steps taken, faces before and after, bodies, elements, the worst of them, what
    went wrong."""
    text = io.StringIO()
    out = csv.writer(text)
    out.writerow(["file", "steps", "faces before", "faces after", "bodies", "elements", "kind", "worst scaled Jacobian",
                  "trouble"])  # fmt: skip
    for one in done:
        row: list[Any] = [one.file.name, "", "", "", "", "", "", ""]
        if one.work is not None:
            model, base = one.work.model, one.work.base
            row[1:5] = [len(one.work.entries), base.face_count(), model.face_count(), len(model.bodies)]
        if one.mesh is not None:
            worst = f"{float(one.mesh.quality.scaled_jacobian.min()):.4f}"
            row[5:8] = [len(one.mesh.elements), one.mesh.kind, worst]
        out.writerow([*row, "; ".join([*one.troubles, *one.failures])])
    return text.getvalue()
