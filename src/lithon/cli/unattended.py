"""Commands that prepare many files, or run a recipe on them, unattended."""

from __future__ import annotations

import json
import sys
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import lithon
from lithon.cli.group import cli
from lithon.cli.options import ignored, ignoring, kept, positive, print_json, progress
from lithon.errors import LithonError

if TYPE_CHECKING:
    from lithon.project.batch import Batched
    from lithon.project.report import Painter


@cli.command()
@click.argument("files", type=click.Path(), nargs=-1, required=True)
@click.option("--size", default="auto", show_default=True, metavar="MM|auto", help="Element size.")
@ignoring
@click.option("--limit", type=float, help="How far (mm) a cure may move anything; left out: half an element.")
@click.option("--out", type=click.Path(), required=True, help="The folder to write to.")
@click.option("--seconds", type=float, default=600.0, show_default=True, help="What one file may take.")
@click.option("--memory", type=float, default=8.0, show_default=True, help="What one file may take, in GB.")
@click.option("--scheduler", metavar="ADDRESS", help="A Dask scheduler whose workers do it.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def prepare(
    files: tuple[str, ...],
    size: str,
    ignore: str,
    limit: float | None,
    out: str,
    seconds: float,
    memory: float,
    scheduler: str | None,
    as_json: bool,
) -> None:
    """Prepare files and folders of them unattended: take every safe cure, mesh, prove."""
    from lithon.project.batch import files_of
    from lithon.project.many import Bounds, prepare_all, prepare_by, row
    from lithon.project.prepare import Wish

    positive(limit, "limit")
    positive(seconds, "seconds")
    positive(memory, "memory")
    wish = Wish(_size_of(size), _ignore_of(ignore, _size_of(size)), limit)
    places, folder = files_of([Path(f) for f in files]), Path(out)

    def told(facts: dict[str, Any]) -> None:
        if as_json:
            return
        line = row(facts)
        cured = f"{line.get('taken', 0)} cured, {line.get('refused', 0)} refused, {line.get('left', 0)} left"
        made = f"{line['elements']} elements, worst {line['min_scaled_jacobian']}" if "elements" in line else "no mesh"
        trouble = f" - {line['trouble']}" if line["trouble"] else ""
        click.echo(f"{line['file']}: {'' if 'error' in facts else f'{cured}; '}{made}{trouble}")

    if scheduler is not None:
        done = kept(lambda: prepare_by(scheduler, places, wish, folder, told), out)
    else:
        bounds = Bounds(seconds, int(memory * 2**30))
        done = kept(lambda: prepare_all(places, wish, folder, bounds, told=told), out)
    if as_json:
        alone = len(files) == 1 and not Path(files[0]).is_dir()
        click.echo(json.dumps(done[0] if alone else done))
    else:
        click.echo(f"{sum(one['well'] for one in done)} of {len(done)} files without trouble; results in {folder}")
    if not all(one["well"] for one in done):
        sys.exit(3)


def _size_of(text: str) -> float | None:
    """An element size as it is asked for; none for one that suits the file."""
    if text == "auto":
        return None
    try:
        size = float(text)
    except ValueError:
        raise LithonError(f"{text!r} is no element size", remedy="a length in mm, or auto") from None
    positive(size)
    return size


def _ignore_of(text: str, size: float | None) -> float | None:
    """As `Wish` takes it."""
    if text in ("auto", "none"):
        return None if text == "auto" else 0.0
    return ignored(text, size if size is not None else float("inf"))


@cli.command("run")
@click.argument("recipe", type=click.Path())
@click.argument("files", type=click.Path(), nargs=-1, required=True)
@click.option("--out", type=click.Path(), required=True, help="The folder to write to.")
@click.option("--pictures", is_flag=True, help="Every step before and after, in the report.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def run_command(recipe: str, files: tuple[str, ...], out: str, pictures: bool, as_json: bool) -> None:
    """Replay a recipe on a file, or on many and on folders of them: prepared geometry, mesh, report and project."""
    from lithon.project.batch import files_of, run_on, run_over

    try:
        text = Path(recipe).read_text("utf-8")
    except (OSError, UnicodeDecodeError) as error:
        raise lithon.BadFile(f"{Path(recipe).name} cannot be read: {error}") from error
    steps = lithon.load_recipe(text)
    places, folder = [Path(f) for f in files], Path(out)
    paint: Painter | None = None
    if pictures:
        from lithon.app.pictures import pictures as paint_all  # drawing takes long to load

        paint = paint_all
    if len(places) > 1 or places[0].is_dir():
        done = kept(lambda: run_over(steps, files_of(places), folder, progress(), paint), out)
        if as_json:
            click.echo(json.dumps([_facts(one) for one in done]))
        for one in done:
            for trouble in (*one.troubles, *one.failures):
                click.echo(f"lithon: {one.file.name}: {trouble}", err=True)
        if not as_json:
            well = sum(one.well for one in done)
            click.echo(f"{well} of {len(done)} files without trouble; results and table.csv in {folder}")
        if not all(one.well for one in done):
            sys.exit(3)
        return
    one = kept(lambda: run_on(steps, places[0], folder, progress(), paint), out)
    if as_json:
        print_json(_facts(one))
    for trouble in (*one.troubles, *one.failures):
        click.echo(f"lithon: {trouble}", err=True)
    if not as_json:
        assert one.work is not None
        click.echo(f"{len(one.work.entries)} of {len(steps['steps'])} steps taken; results in {folder}")
    if not one.well:
        sys.exit(3)


def _facts(one: Batched) -> dict[str, Any]:
    """What came of a file, as JSON has it."""
    work, mesh = one.work, one.mesh
    facts = lithon.survey_of(work.model, work.size) if work is not None else {}
    facts.update(
        file=str(one.file),
        steps=[
            {
                "words": e.outcome.words,
                "faces_change": e.outcome.faces_change,
                "volume_change_mm3": e.outcome.volume_change,
            }
            for e in (work.entries if work is not None else ())
        ],
        unresolved=one.troubles,
        failures=one.failures,
        shared_faces=len(work.model.shared()) if work is not None else 0,
        elements={mesh.shape.short: len(mesh.elements)} if mesh is not None else {},
    )
    return facts
