"""Commands for one file: survey, mesh, solid."""

from __future__ import annotations

import math
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any, cast

import click

import lithon
from lithon.cli.group import cli
from lithon.cli.options import ignored, ignoring, kept, placed, positive, print_json, progress, read, write
from lithon.errors import Refusal, spot
from lithon.exchange.placement import Placement

if TYPE_CHECKING:
    from lithon.brep.topology import Model


@cli.command()
@click.argument("file", type=click.Path())
@click.option("--size", type=float, help="Element size in mm.")
@placed
@click.option("--html", type=click.Path(), help="Also write a page with pictures.")
@click.option("--cuts", is_flag=True, help="Also where to cut bodies so that they can be swept.")
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def survey(file: str, size: float | None, html: str | None, cuts: bool, as_json: bool, **place: Any) -> None:
    """What is in a file, and what stands in the way of a mesh."""
    positive(size)
    arrival = read(file, **place)
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

        write(lambda: write_survey(Path(file).name, arrival, facts["size_mm"], Path(html)), html)
    if as_json:
        print_json(facts)
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
        for body, ways in proposed(model, progress()).items()
    ]  # fmt: skip


@cli.command()
@click.argument("file", type=click.Path())
@click.option("--size", type=float, required=True, help="Element size in mm.")
@click.option("--elements", type=click.Choice(["tet", "hex", "auto", "tri", "quad"]), default="auto", show_default=True)
@click.option("--order", type=click.Choice(["1", "2"]), default="1", show_default=True)
@click.option("--out", type=click.Path(), required=True, help="The mesh to write: .vtu, .xdmf or .cgns.")
@ignoring
@click.option("--approximate", is_flag=True, help="What fails is left out and closed over by triangles.")
@click.option("--lattice", is_flag=True, help="Bodies with poor elements from a lattice, where it is better.")
@placed
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
    positive(size)
    model = read(file, **place).model
    rules = lithon.SizeRules(size, ignore=_below(model, size) if ignore == "auto" else ignored(ignore, size))
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
        made = lithon.mesh_of(model, rules, elements, progress(), approximate, math.inf if lattice else 0.0)
    except Refusal as refusal:
        facts["failures"] = [{"what": refusal.what, "where": refusal.where, "remedy": refusal.remedy}]
        if as_json:
            print_json(facts)
        raise
    facts["failures"] = [{"what": f.what, "where": spot(f.place), "remedy": f.remedy} for f in made.failures]
    partly = bool(made.failures) and made.shape.flat  # only what could be covered
    result = lithon.quadratic(made)[0] if order == "2" and not partly else made
    from lithon.exchange.meshes import write_mesh

    write(lambda: write_mesh(result, out), out)
    from lithon.mesh.verdict import verdict
    from lithon.operations.prove.mesh import from_lattice
    from lithon.project.prepare import mesh_facts

    facts = mesh_facts(made, model, rules) | {"nodes": len(result.points)}
    if prove:
        proof = lithon.patch_test(result)
        facts["patch_test"] = {"passed": proof.passed, "error": proof.error, "free_nodes": proof.nodes}
    if as_json:
        print_json(facts)
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
@placed
@click.option("--json", "as_json", is_flag=True, help="Print JSON.")
def solid(file: str, out: str, kind: str, tolerance: float | None, seconds: float, as_json: bool, **place: Any) -> None:
    """Make a solid of a file of triangles: healed, parted into faces, written as STEP."""
    from lithon.project.solid import solid as made

    positive(tolerance, "tolerance")
    positive(seconds, "seconds")
    unit, placement = place.pop("unit"), Placement(**place).checked()
    work = lithon.Ledger.open(file, unit, placement)
    facts = kept(lambda: made(work, cast(Any, kind), tolerance, Path(out), progress(), seconds), out)
    if as_json:
        print_json(facts)
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
