"""The command line. JSON alone on stdout; messages on stderr; one clear line on bad input."""

from __future__ import annotations

import sys

import click

from lithon.cli import files, steps, unattended
from lithon.cli.group import cli
from lithon.errors import LithonError
from lithon.rubbish import look_seldom

__all__ = ["cli", "files", "main", "steps", "unattended"]


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
