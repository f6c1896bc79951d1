"""welbik check."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings


@click.command()
@project_option
def command(settings: Settings) -> None:
    """Find every problem in the declarations, each with its place and a remedy.

    \b
    Example:
      welbik check
    """
    from ..language.diagnostics import as_text
    from ..project.declarations import read_declarations

    found = read_declarations(settings.root)
    for problem in found.problems:
        click.echo(as_text(problem, paint) + "\n")
    files = count(found.files, "file")
    if found.problems:
        click.echo(paint("problem", f"{count(len(found.problems), 'problem')} in {files}."))
        raise click.exceptions.Exit(1)
    click.echo(
        f"{count(len(found.schema.models), 'model')} in {files}: {paint('good', 'no problems.')}"
    )
