"""welbik build."""

from __future__ import annotations

import sys
from contextlib import suppress
from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings
    from ..project.writing import Plan

_MANY = 50
"""Models that take long enough for a progress bar."""


@click.command()
@click.option("--preview", is_flag=True, help="List the files; write nothing.")
@click.option("--diff", is_flag=True, help="Show the lines that would change; write nothing.")
@click.option("--allow-loss", is_flag=True, help="Take away the code of models that went, unasked.")
@project_option
def command(settings: Settings, preview: bool, diff: bool, allow_loss: bool) -> None:
    """Write the application's code: exactly what the declarations ask for.

    A file that you have edited is never touched: it is named instead, and --diff shows
    what the declarations would have there.

    \b
    Example:
      welbik build --preview
    """
    from ..project.building import build, differences, planned
    from ..project.declarations import schema_of

    if diff:
        for text in differences(settings):
            click.echo(_coloured(text))
        return
    schema = schema_of(settings.root)
    many = len(schema.models) >= _MANY
    with click.progressbar(
        length=len(schema.models),
        label="Building",
        file=sys.stderr,
        hidden=not many or not sys.stderr.isatty(),
    ) as bar:
        if preview:
            todo = planned(settings, schema, lambda: bar.update(1))
        else:
            asked = agreed if not allow_loss else lambda todo: True
            todo = build(settings, schema, lambda: bar.update(1), asked)
    say_plan(todo, preview)
    if not preview and todo:
        _say_ahead(settings)


def _say_ahead(settings: Settings) -> None:
    """Says where the code is ahead of what the database can't have: the pages fail until then."""
    from ..problems import WelbikError
    from ..project.database import change_risks
    from ..project.migrating import possible_change

    against: list[str] = []
    try:
        change = possible_change(settings)
    except WelbikError as error:
        against = error.message.splitlines()
    else:
        # Where there is no database, or none that answers, others say so.
        with suppress(WelbikError):
            found = change_risks(settings, change)
            against = [line for risk in found if risk.kind == "refused" for line in risk.lines()]
    if against:
        said = "The code is ahead: the database can't be migrated to it as it stands:"
        click.echo(paint("warning", said))
        click.echo("\n".join(f"  {line}" for line in against))
        click.echo(
            "Mend these rows or the declaration; to go back, put it as it was and build again."
        )


def agreed(todo: Plan) -> bool:
    """Whether code may go with its model: asked on a terminal, refused elsewhere."""
    if not sys.stdin.isatty():
        return False
    names = ", ".join(todo.losses)
    return click.confirm(f"No model asks for {names} any more. Take that code away?")


def say_plan(todo: Plan, preview: bool = False) -> None:
    """Names the files of a plan, long lists cut short."""
    changed = [name for name in todo.write if name not in todo.new]
    verb = "would be " if preview else ""
    for names, done in (
        (sorted(todo.new), "written"),
        (changed, "changed"),
        (todo.remove, "taken away"),
    ):
        if names:
            click.echo(f"{count(len(names), 'file')} {verb}{done}:")
            for name in names[: 400 if preview else 8]:
                click.echo(f"  {name}")
            if len(names) > 8 and not preview:
                click.echo(f"  and {len(names) - 8} more")
    if todo.edited:
        click.echo(
            paint(
                "problem",
                f"{count(len(todo.edited), 'file')} you edited left as {'it is' if len(todo.edited) == 1 else 'they are'}, behind the declarations:",
            )
        )
        for name in todo.edited:
            click.echo(f"  {name}")
        click.echo(f"See what they lack with: {paint('command', 'welbik build --diff')}")
    for name in todo.forget:
        click.echo(f"No model asks for {name} any more; it was edited, so it stays.")
    if not todo:
        click.echo("Nothing to write: the code is as declared.")


def _coloured(text: str) -> str:
    roles = {"+": "good", "-": "problem", "@": "place"}
    return "\n".join(
        paint(roles[line[0]], line) if line[:1] in roles else line for line in text.splitlines()
    )
