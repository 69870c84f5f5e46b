"""The group of all commands, and those of the window and the desktop."""

from __future__ import annotations

import os
import sys
from pathlib import Path
from typing import TYPE_CHECKING

import click

import lithon

if TYPE_CHECKING:
    pass


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


@cli.command()
def register() -> None:
    """Make Lithon known to the desktop: a menu entry, and its file types."""
    from lithon.desktop import install

    for path in install():
        click.echo(f"wrote {path}")
