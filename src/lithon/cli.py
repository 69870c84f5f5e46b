"""The command line. JSON alone on stdout; messages on stderr; one clear line on bad input."""

from __future__ import annotations

import json
import math
import os
import sys
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, TypeVar, cast

import click

import lithon
from lithon.errors import LithonError, Refusal, spot
from lithon.exchange.placement import ORIGINS, UPS, Placement
from lithon.exchange.units import UNITS
from lithon.progress import Progress
from lithon.rubbish import look_seldom

if TYPE_CHECKING:
    from lithon.brep.topology import Model
    from lithon.exchange.step_read import Arrival
    from lithon.project.batch import Batched
    from lithon.project.report import Painter

T = TypeVar("T")


class _Commands(click.Group):
    """A group whose arguments, where they name no command, are files for the window."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        if not args or (args[0] not in self.commands and not args[0].startswith("-")):
            args = ["window", *args]
        return super().parse_args(ctx, args)


@click.group(cls=_Commands, context_settings={"help_option_names": ["-h", "--help"]})
@click.version_option(lithon.__version__, prog_name="lithon")
def cli() -> None:
    """Prepare solid geometry for finite-element meshing.

    Without a command the files are opened in the window.
    """


@cli.command()
@click.argument("files", nargs=-1, type=click.Path())
def window(files: tuple[str, ...]) -> None:
    """Open files in the window."""
    from lithon.app.main import run_window

    sys.exit(run_window([Path(f) for f in files]))


@cli.command()
@click.option("--out", default="demo-output", show_default=True, help="Where files go when there is no display.")
def demo(out: str) -> None:
    """Open the collar anchor; without a display, run the whole example into a folder."""
    from lithon.app.demo import demo_file, run_example

    if os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY"):
        from lithon.app.main import run_window

        sys.exit(run_window([demo_file()]))
    run_example(Path(out), lambda text: click.echo(text))


_ignoring = click.option(
    "--ignore",
    default="auto",
    show_default=True,
    metavar="MM|auto|none",
    help="What is smaller is not followed; auto: a tenth of an element.",
)


def _placed(command: Callable[..., None]) -> Callable[..., None]:
    """Options that say how triangles are read, for files that do not."""
    for option in (
        click.option("--origin", type=click.Choice(list(ORIGINS)), default="as drawn", help="Where the origin is put."),
        click.option("--up", type=click.Choice(list(UPS)), default="z", help="Axis of the file that becomes z."),
        click.option("--scale", type=float, default=1.0, help="A factor on top of the unit."),
        click.option("--unit", type=click.Choice(list(UNITS)), help="Unit of a file without one (STL, OBJ, PLY)."),
    ):
        command = option(command)
    return command


def _read(file: str, unit: str | None, scale: float, up: str, origin: str) -> Arrival:
    return lithon.read_model(file, unit, Placement(scale, up, origin).checked())


@cli.command()
@click.argument("file", type=click.Path())
@click.option("--size", type=float, help="Element size in mm.")
@_placed
@click.option("--html", type=click.Path(), help="Also write a page with pictures.")
@click.option("--cuts", is_flag=True, help="Also where to cut bodies so that they can be swept.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def survey(file: str, size: float | None, html: str | None, cuts: bool, as_json: bool, **place: Any) -> None:
    """What is in a file, and what stands in the way of a mesh."""
    _positive(size)
    arrival = _read(file, **place)
    for note in arrival.notes:
        click.echo(f"note: {note}", err=True)
    if arrival.unit is not None:
        x, y, z = arrival.unit.boxes[arrival.unit.unit]
        box = f"{x:.4g} x {y:.4g} x {z:.4g} mm"
        click.echo(f"unit: {arrival.unit.unit} ({arrival.unit.why}): {box}; --unit changes it", err=True)
    facts = lithon.survey_of(arrival.model, size)
    if cuts:
        facts["cuts"] = _cuts(arrival.model)
    if html is not None:
        from lithon.app.survey_pictures import write_survey

        _write(lambda: write_survey(Path(file).name, arrival, facts["size_mm"], Path(html)), html)
    if as_json:
        _print(facts)
        return
    for b in facts["bodies"]:
        closed = "closed" if b["closed"] else "open"
        click.echo(f"{b['name']}: {b['faces']} faces, {b['edges']} edges, {closed}, {b['volume_mm3']:.3f} mm3")
    if (seen := facts["forecast"]) is not None:
        click.echo(f"about {seen['elements']} elements, {seen['for_small_things']} of them for small things")
        for part in seen["parts"]:
            click.echo(f"  {part['part']}: about {part['elements']}")
    for told in facts.get("cuts", ()):
        for way in told["ways"]:
            click.echo(f"{told['body']}: {way['words']}")
        if not told["ways"]:
            click.echo(f"{told['body']}: no cut at one of its faces frees a part of it")
    click.echo(f"{len(facts['findings'])} findings at elements of {facts['size_mm']:g} mm")
    alike: dict[tuple[str, ...], list[int]] = {}
    for f in facts["findings"]:
        alike.setdefault((f["severity"], f["kind"], f["text"], f["remedy"]), []).append(f["elements"])
    for (severity, kind, text, remedy), elements in alike.items():
        many = f"{len(elements)} x " if len(elements) > 1 else ""
        price = f", about {sum(elements)} elements" if sum(elements) else ""
        click.echo(f"  {severity:5}  {kind}: {many}{text}{price} - {remedy}")


def _cuts(model: Any) -> list[dict[str, Any]]:
    """For each body that cannot be swept, the cuts that free most of it."""
    from lithon.carve.freeing import proposed
    from lithon.operations.carve.carve import cuts_in_words, place_of

    return [
        {
            "body": body.name,
            "ways": [
                {"at": [place_of(f) for f in way.cuts], "pieces": way.pieces, "swept": way.swept,
                 "share": way.share, "words": cuts_in_words(way)}
                for way in ways
            ],
        }
        for body, ways in proposed(model, _progress()).items()
    ]  # fmt: skip


@cli.command()
@click.argument("file", type=click.Path())
@click.option("--size", type=float, required=True, help="Element size in mm.")
@click.option("--elements", type=click.Choice(["tet", "hex", "auto", "tri", "quad"]), default="auto", show_default=True)
@click.option("--order", type=click.Choice(["1", "2"]), default="1", show_default=True)
@click.option("--out", type=click.Path(), required=True, help="The mesh to write: .vtu, .xdmf or .cgns.")
@_ignoring
@click.option("--approximate", is_flag=True, help="What fails is left out and closed over by triangles.")
@click.option(
    "--lattice", is_flag=True, help="Bodies of triangles with poor elements from a lattice, where it is better."
)
@_placed
@click.option("--prove", is_flag=True, help="Solve a patch test on it.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def mesh(
    file: str,
    size: float,
    elements: str,
    order: str,
    out: str,
    ignore: str,
    approximate: bool,
    lattice: bool,
    prove: bool,
    as_json: bool,
    **place: Any,
) -> None:
    """Mesh a file."""
    _positive(size)
    model = _read(file, **place).model
    rules = lithon.SizeRules(size, ignore=_below(model, size) if ignore == "auto" else _ignored(ignore, size))
    facts: dict[str, Any] = {
        "ignore_mm": rules.ignore,
        "nodes": 0,
        "elements": {},
        "min_scaled_jacobian": None,
        "volume_ratio": None,
        "conformal": False,
        "failures": [],
    }
    try:
        made = lithon.mesh_of(model, rules, elements, _progress(), approximate, math.inf if lattice else 0.0)
    except Refusal as refusal:
        facts["failures"] = [{"what": refusal.what, "where": refusal.where, "remedy": refusal.remedy}]
        if as_json:
            _print(facts)
        raise
    facts["failures"] = [{"what": f.what, "where": spot(f.place), "remedy": f.remedy} for f in made.failures]
    partly = bool(made.failures) and made.shape.flat  # only what could be covered
    result = lithon.quadratic(made)[0] if order == "2" and not partly else made
    from lithon.exchange.meshes import write_mesh

    _write(lambda: write_mesh(result, out), out)
    from lithon.mesh.verdict import verdict
    from lithon.operations.prove.mesh import from_lattice
    from lithon.project.prepare import mesh_facts

    facts = mesh_facts(made, model, rules) | {"nodes": len(result.points)}
    if prove:
        proof = lithon.patch_test(result)
        facts["patch_test"] = {"passed": proof.passed, "error": proof.error, "free_nodes": proof.nodes}
    if as_json:
        _print(facts)
    else:
        proved = f", patch test {'passed' if proof.passed else 'failed'} ({proof.error:.1g})" if prove else ""
        click.echo(
            f"{facts['nodes']} nodes, {len(result.elements)} {result.kind}, "
            f"worst scaled Jacobian {facts['min_scaled_jacobian']:.3f}{proved}, written to {out}"
        )
        click.echo(verdict(made).words(), err=True)
        if made.rounded:
            click.echo(from_lattice(made), err=True)
    _told_apart(made.failures)


def _below(model: Model, size: float) -> float | None:
    """The size below which nothing is followed (mm), where none is asked for."""
    from lithon.operations.state import IGNORED, Settings, State

    return State(model, settings=Settings(size, share=IGNORED)).ignored


def _ignored(text: str, size: float) -> float | None:
    """The size below which nothing is followed (mm), as it is asked for."""
    if text == "none":
        return None
    try:
        limit = float(text)
    except ValueError:
        limit = 0.0
    if not 0.0 < limit < size:
        raise LithonError(
            f"{text!r} is no size to ignore below", remedy="a length in mm below the element size, or none"
        )
    return limit


def _told_apart(failures: Sequence[object]) -> None:
    """Say what could not be meshed beside what was; the exit says so too."""
    for failure in failures:
        click.echo(f"lithon: not meshed: {failure}", err=True)
    if failures:
        sys.exit(3)


@cli.command()
@click.argument("file", type=click.Path())
@click.option("--out", type=click.Path(), required=True, help="The STEP file to write.")
@click.option(
    "--kind",
    type=click.Choice(["auto", "facets", "simple", "smooth"]),
    default="auto",
    show_default=True,
    help="auto: simple surfaces, with free-form faces where they leave fewer facets, else facets.",
)
@click.option(
    "--tolerance",
    type=float,
    help="How far (mm) corners may stand off a surface; left out: the least with which a solid comes out.",
)
@click.option(
    "--seconds",
    type=float,
    default=90.0,
    show_default=True,
    help="How long surfaces are looked for with auto; what has none by then stays facets.",
)
@_placed
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def solid(file: str, out: str, kind: str, tolerance: float | None, seconds: float, as_json: bool, **place: Any) -> None:
    """Make a solid of a file of triangles: healed, parted into faces, written as STEP."""
    from lithon.project.solid import solid as made

    _positive(tolerance, "tolerance")
    _positive(seconds, "seconds")
    unit, placement = place.pop("unit"), Placement(**place).checked()
    work = lithon.Ledger.open(file, unit, placement)
    facts = _kept(lambda: made(work, cast(Any, kind), tolerance, Path(out), _progress(), seconds), out)
    if as_json:
        _print(facts)
        return
    faces = ", ".join(f"{n} {kind}" for kind, n in sorted(facts["faces"].items(), key=lambda x: -x[1]))
    off = facts["deviation_mm"]
    click.echo(f"{faces}; {facts['volume_mm3']:.6g} mm3, {off['largest']:.2g} mm off at the most, {out} written")
    for what, n in facts["healed"].items():
        click.echo(f"  healed: {n} {what}")
    for one in facts["left"]:
        click.echo(
            f"  left as facets: {one['area_mm2']:.4g} mm2 of {one['body']} at {spot(one['place_mm'])}: {one['why']}"
        )


@cli.command()
@click.argument("files", type=click.Path(), nargs=-1, required=True)
@click.option("--size", default="auto", show_default=True, metavar="MM|auto", help="Element size.")
@_ignoring
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

    _positive(limit, "limit")
    _positive(seconds, "seconds")
    _positive(memory, "memory")
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
        done = _kept(lambda: prepare_by(scheduler, places, wish, folder, told), out)
    else:
        bounds = Bounds(seconds, int(memory * 2**30))
        done = _kept(lambda: prepare_all(places, wish, folder, bounds, told=told), out)
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
    _positive(size)
    return size


def _ignore_of(text: str, size: float | None) -> float | None:
    """As `Wish` takes it."""
    if text in ("auto", "none"):
        return None if text == "auto" else 0.0
    return _ignored(text, size if size is not None else float("inf"))


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
        done = _kept(lambda: run_over(steps, files_of(places), folder, _progress(), paint), out)
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
    one = _kept(lambda: run_on(steps, places[0], folder, _progress(), paint), out)
    if as_json:
        _print(_facts(one))
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

    _positive(element_size_mm)
    operation = rows()[name].operation
    texts = {key: text for key, text in given.items() if text is not None}
    step = operation.from_text([f"{key}={text}" for key, text in texts.items()])
    work, troubles = opened(Path(file), _progress())
    for trouble in troubles:
        click.echo(f"lithon: {trouble}", err=True)
    if element_size_mm is not None:
        work.set_size(element_size_mm)
    outcome = work.take(step, progress=_progress()).outcome
    if out is not None:
        _write(lambda: _write_as(work, Path(out)), out)
    if as_json:
        bodies = [{"name": b.name, "faces": len(b.uses), "volume_mm3": volume(b)} for b in outcome.model.bodies]
        facts = {"words": outcome.words, "faces_change": outcome.faces_change, "bodies": bodies,
                 "volume_change_mm3": outcome.volume_change, "solutions": outcome.solutions,
                 "details": list(outcome.details), "step": work.entries[-1].operation.as_json()}  # fmt: skip
        _print(facts)
        return
    where = f"; written to {out}" if out is not None else "; nothing is written without --out"
    click.echo(f"{outcome.words}: faces {outcome.faces_change:+d}, volume {outcome.volume_change:+.6g} mm3{where}")


def _write_as(work: lithon.Ledger, path: Path) -> None:
    """Write work to a path in the format that its suffix names. Raises LithonError where it names none."""
    from lithon.project.deliveries import DELIVERIES
    from lithon.project.files import SUFFIX

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


@cli.command()
def register() -> None:
    """Make Lithon known to the desktop: a menu entry, and its file types."""
    from lithon.desktop import install

    for path in install():
        click.echo(f"wrote {path}")


def _positive(size: float | None, what: str = "element size") -> None:
    if size is not None and not 0.0 < size < 1e9:
        unit = " length in mm" if what in ("element size", "limit") else " number"
        raise LithonError(f"the {what} must be a positive{unit}")


def _write(action: Callable[[], object], out: str) -> None:
    _kept(action, out)


def _kept(action: Callable[[], T], out: str) -> T:
    """What an action gives that writes to a place."""
    try:
        return action()
    except OSError as error:
        raise LithonError(f"{out} cannot be written: {error.strerror or error}") from error


def _progress() -> Progress:
    """Progress on a terminal's stderr; nothing where it is redirected."""
    if not sys.stderr.isatty():
        return Progress()
    return Progress(lambda share, what: print(f"\r{share:4.0%} {what:40}", end="", file=sys.stderr, flush=True))


def _print(facts: dict[str, Any]) -> None:
    click.echo(json.dumps(facts, indent=1, ensure_ascii=False))


def main() -> None:
    look_seldom()
    try:
        cli(standalone_mode=False)
    except click.exceptions.Abort:
        sys.exit(130)
    except click.ClickException as error:
        error.show()
        sys.exit(error.exit_code)
    except LithonError as error:
        click.echo(f"lithon: {error}", err=True)
        sys.exit(1)


if __name__ == "__main__":
    main()
