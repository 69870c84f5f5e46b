"""What commands have in common: options, how files are read, how results are written."""

from __future__ import annotations

import json
import sys
from collections.abc import Callable
from typing import TYPE_CHECKING, Any, TypeVar

import click

import lithon
from lithon.errors import LithonError
from lithon.exchange.placement import ORIGINS, UPS, Placement
from lithon.exchange.units import UNITS
from lithon.progress import Progress

if TYPE_CHECKING:
    from lithon.exchange.step_read import Arrival

T = TypeVar("T")


ignoring = click.option(
    "--ignore",
    default="auto",
    show_default=True,
    metavar="MM|auto|none",
    help="What is smaller is not followed; auto: a tenth of an element.",
)


def placed(command: Callable[..., None]) -> Callable[..., None]:
    """Options that say how triangles are read, for files that do not."""
    for option in (
        click.option("--origin", type=click.Choice(list(ORIGINS)), default="as drawn", help="Where the origin is put."),
        click.option("--up", type=click.Choice(list(UPS)), default="z", help="Axis of the file that becomes z."),
        click.option("--scale", type=float, default=1.0, help="A factor on top of the unit."),
        click.option("--unit", type=click.Choice(list(UNITS)), help="Unit of a file without one (STL, OBJ, PLY)."),
    ):
        command = option(command)
    return command


def read(file: str, unit: str | None, scale: float, up: str, origin: str) -> Arrival:
    return lithon.read_model(file, unit, Placement(scale, up, origin).checked())


def ignored(text: str, size: float) -> float | None:
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


def positive(size: float | None, what: str = "element size") -> None:
    if size is not None and not 0.0 < size < 1e9:
        unit = " length in mm" if what in ("element size", "limit") else " number"
        raise LithonError(f"the {what} must be a positive{unit}")


def write(action: Callable[[], object], out: str) -> None:
    kept(action, out)


def kept(action: Callable[[], T], out: str) -> T:
    """What an action gives that writes to a place."""
    try:
        return action()
    except OSError as error:
        raise LithonError(f"{out} cannot be written: {error.strerror or error}") from error


def progress() -> Progress:
    """Progress on a terminal's stderr; nothing where it is redirected."""
    if not sys.stderr.isatty():
        return Progress()
    return Progress(lambda share, what: print(f"\r{share:4.0%} {what:40}", end="", file=sys.stderr, flush=True))


def print_json(facts: dict[str, Any]) -> None:
    click.echo(json.dumps(facts, indent=1, ensure_ascii=False))
