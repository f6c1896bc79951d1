"""welbik init."""

from __future__ import annotations

import shlex
from pathlib import Path

import click

from .common import paint


@click.command()
@click.argument("folder", default=".", metavar="[DIR]")
@click.option("--title", default="", help="What the site is called; the folder's name unless said.")
@click.option("--package", default="", help="The Python package of the application.")
def command(folder: str, title: str, package: str) -> None:
    """Begin a project in DIR (this folder, unless said).

    \b
    Example:
      welbik init bees
    """
    from ..project.layout import make_project

    path = Path(folder)
    for name in make_project(path, title=title, package=package):
        click.echo(f"made {path / name}")
    go = f"cd {shlex.quote(folder)} && " if folder != "." else ""
    click.echo(
        f"\nNext: {paint('command', go + 'welbik build && welbik migrate && welbik fill && welbik serve')}"
    )
