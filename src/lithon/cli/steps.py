"""The operations of the table as commands: lithon do."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

import lithon
from lithon.cli.group import cli
from lithon.cli.options import positive, print_json, progress, write
from lithon.errors import LithonError

if TYPE_CHECKING:
    pass


class _Operations(click.Group):
    """The operations of the table as commands, each with its parameters as options."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        from lithon.operations.table import rows

        return list(rows())

    def get_command(self, ctx: click.Context, name: str) -> click.Command | None:
        from lithon.operations.documents import kind
        from lithon.operations.table import rows

        row = rows().get(name)
        if row is None:
            return None
        options: list[click.Parameter] = [click.Argument(["file"], type=click.Path())]
        for key, p in row.operation.parameters().items():
            needed = p.default is None and not p.optional
            words = f"{p.help + '; ' if p.help else ''}{kind(p)}"
            options.append(click.Option([f"--{key}"], required=needed, metavar=p.metavar, help=words))
        options += [
            click.Option(["--size", "element_size_mm"], type=float, help="Element size in mm."),
            click.Option(["--out"], type=click.Path(), help="Where the result goes: .step, .lithon, .stl, .vtu, …"),
            click.Option(["--json", "as_json"], is_flag=True, help="Print JSON."),
        ]
        if any(o.name == "size" for o in options):  # an operation's own size has the shorter name
            options = [o for o in options if o.name != "element_size_mm"]
        return click.Command(name, params=options, help=row.help, callback=lambda **given: _do(name, **given))


def _do(
    name: str, file: str, out: str | None, as_json: bool, element_size_mm: float | None = None, **given: Any
) -> None:
    """Do one operation to a file or a project, and write what comes of it."""
    from lithon.brep.measures import volume
    from lithon.operations.table import rows
    from lithon.project.opening import opened

    positive(element_size_mm)
    operation = rows()[name].operation
    texts = {key: text for key, text in given.items() if text is not None}
    step = operation.from_text([f"{key}={text}" for key, text in texts.items()])
    work, troubles = opened(Path(file), progress())
    for trouble in troubles:
        click.echo(f"lithon: {trouble}", err=True)
    if element_size_mm is not None:
        work.set_size(element_size_mm)
    outcome = work.take(step, progress=progress()).outcome
    if out is not None:
        write(lambda: _write_as(work, Path(out)), out)
    if as_json:
        bodies = [{"name": b.name, "faces": len(b.uses), "volume_mm3": volume(b)} for b in outcome.model.bodies]
        facts = {"words": outcome.words, "faces_change": outcome.faces_change, "bodies": bodies,
                 "volume_change_mm3": outcome.volume_change, "solutions": outcome.solutions,
                 "details": list(outcome.details), "step": work.entries[-1].operation.as_json()}  # fmt: skip
        print_json(facts)
        return
    where = f"; written to {out}" if out is not None else "; nothing is written without --out"
    click.echo(f"{outcome.words}: faces {outcome.faces_change:+d}, volume {outcome.volume_change:+.6g} mm3{where}")


def _write_as(work: lithon.Ledger, path: Path) -> None:
    """Write work to a path in the format that its suffix names. Raises LithonError where it names none."""
    from lithon.project.deliveries import DELIVERIES
    from lithon.project.ledger import SUFFIX

    if path.suffix.lower() == SUFFIX:
        lithon.save_project(work, path)
        return
    delivery = next((d for d in DELIVERIES if path.name.lower().endswith(d.suffix)), None)
    if delivery is None:
        kinds = ", ".join([SUFFIX, *(d.suffix for d in DELIVERIES)])
        raise LithonError(f"{path.name} names no format that is written", remedy=kinds)
    delivery.write(work, work.mesh(), path)


@cli.group("do", cls=_Operations)
def do_command() -> None:
    """Do one operation to a file: lithon do clear part.step --faces "holes where diameter <= 3 mm" --out new.step"""
