"""welbik tidy."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings


def _from_stdin(context: click.Context, parameter: click.Parameter, path: str | None) -> None:
    """Lays out what is read from the standard input and stops: no project is needed."""
    if path is None:
        return
    from ..problems import WelbikError
    from ..project.tidying import tidied

    if path != "-":
        raise WelbikError(
            "only '-' can be named here: the standard input",
            "without it the project's files are laid out",
            status=2,
        )
    try:
        text = sys.stdin.buffer.read().decode("utf-8")
    except UnicodeDecodeError:
        raise WelbikError("the input is not UTF-8", "convert it first") from None
    sys.stdout.buffer.write(tidied(text, "the input").encode("utf-8"))
    context.exit()


@click.command()
@click.argument("input", required=False, metavar="[-]", callback=_from_stdin, expose_value=False)
@click.option(
    "--check", is_flag=True, help="Write nothing; exit 1 if a file is laid out otherwise."
)
@click.option("--diff", is_flag=True, help="Write nothing; show the lines that would change.")
@project_option
def command(settings: Settings, check: bool, diff: bool) -> None:
    """Lay out the declarations in the standard way; comments stay where they belong.

    \b
    Example:
      welbik tidy --check
      welbik tidy - < models/hives.welbik
    """
    from ..project.tidying import tidy_project

    found = tidy_project(settings.root, write=not (check or diff))
    if diff:
        _show(found)
    elif not found:
        click.echo(paint("good", "Everything is tidy."))
    for name in found if not diff else ():
        click.echo(f"{'would change' if check else 'tidied'} {name}")
    if check and found:
        click.echo(f"{count(len(found), 'file')} not tidy. Run: welbik tidy")
    if check and found:
        raise click.exceptions.Exit(1)


def _show(found: dict[str, tuple[str, str]]) -> None:
    from difflib import unified_diff

    for name, (before, after) in found.items():
        lines = unified_diff(
            before.splitlines(), after.splitlines(), name, f"{name} (tidy)", lineterm=""
        )
        for line in lines:
            click.echo(line)
