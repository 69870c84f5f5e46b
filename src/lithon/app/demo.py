"""The demo: where its file is, and the whole example without a window."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

import lithon
from lithon import do
from lithon.brep.topology import Model
from lithon.project.report import report_html
from lithon.samples import TRIANGLE_FILES, collar_anchor


def sample_file(stem: str, make: Callable[[], Model], suffix: str = "") -> Path:
    """A sample as a file of its kind in the user's cache, made afresh unless it is as this very program left it."""
    from platformdirs import user_cache_dir

    suffix = suffix or TRIANGLE_FILES.get(stem, ".step")
    path = Path(user_cache_dir("lithon")) / f"{stem}{suffix}"
    stamp = path.with_name(path.name + ".made")
    if path.exists() and stamp.exists() and stamp.read_text("utf-8") == _state(path):
        return path
    if suffix != ".step":
        lithon.write_triangles(make(), path)
    else:
        lithon.write_step(make(), path, stem.replace("-", " "))
    stamp.write_text(_state(path), "utf-8")
    return path


def _state(path: Path) -> str:
    """When the newest source of the program, and the file itself, were changed; and the file's size."""
    newest = max(source.stat().st_mtime_ns for source in Path(lithon.__file__).parent.rglob("*.py"))
    own = path.stat()
    return f"{newest} {own.st_mtime_ns} {own.st_size}"


def demo_file() -> Path:
    return sample_file("collar-anchor", collar_anchor)


def prepare(work: lithon.Ledger) -> None:
    """The example's judgement: the weep holes, rounds and pocket go, the grease hole stays, then the
    part is cut at its mirror plane and the halves are bonded."""
    grease = lithon.ask(work.model, "holes where diameter = 3 mm")
    work.take(do.keep(grease.faces, "hole of 3 mm beside a thin wall: it may matter to the stress"))
    for question in ("holes where diameter <= 2.6 mm", "fillets where radius <= 2 mm", "pockets where depth < 5 mm"):
        work.take(lithon.do.clear(question))
    work.take(lithon.do.carve(lithon.do.Cut.at((0.0, 0.0, 0.0), (0.0, 1.0, 0.0))))
    work.take(lithon.do.bond())


def run_example(folder: Path, say: Callable[[str], None]) -> None:
    """Prepare and mesh the collar anchor; leave geometry, mesh, report, pictures, project, recipe."""
    from lithon.app.pictures import picture_of_mesh, picture_of_model

    folder.mkdir(parents=True, exist_ok=True)
    source = folder / "collar-anchor.step"
    lithon.write_step(collar_anchor(), source, "collar anchor")
    work = lithon.open(source)
    say(f"read {source}: {work.model.face_count()} faces; elements of {work.size:g} mm")
    before = lithon.forecast(work.model, work.size).elements
    pictures = [("as-read.png", "The collar anchor as it was read.")]
    picture_of_model(work.model, folder / "as-read.png")
    prepare(work)
    for entry in work.entries:
        say(
            f"  {entry.outcome.words}: faces {entry.outcome.faces_change:+d}, "
            f"volume {entry.outcome.volume_change:+.3f} mm3"
        )
    mesh = lithon.tetrahedral_mesh(work.model, lithon.SizeRules(work.size))
    say(
        f"meshed: {len(mesh.elements)} tetrahedra (about {before} without the preparation), smallest dihedral angle "
        f"{mesh.quality.smallest_angle.min():.1f} degrees, conformal: {'yes' if mesh.conformal() else 'no'}"
    )
    picture_of_model(work.model, folder / "prepared.png")
    picture_of_mesh(mesh, folder / "mesh.png")
    pictures += [("prepared.png", "Cleared, carved at the mirror plane and bonded."), ("mesh.png", "The mesh.")]
    lithon.write_step(work.model, folder / "collar-anchor-prepared.step", "collar anchor")
    lithon.write_vtu(mesh, folder / "collar-anchor.vtu")
    lithon.save_project(work, folder / "collar-anchor.lithon")
    (folder / "collar-anchor.recipe.json").write_text(json.dumps(work.recipe(), indent=1), "utf-8")
    (folder / "report.html").write_text(report_html(work, mesh, pictures), "utf-8")
    say(f"look at {folder / 'report.html'}; geometry, mesh, project and recipe are beside it")
