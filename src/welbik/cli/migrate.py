"""welbik migrate."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.database import Change
    from ..project.settings import Settings


@click.command()
@click.option("--preview", is_flag=True, help="Say what would be done; do nothing.")
@click.option(
    "--sql",
    is_flag=False,
    flag_value="",
    default=None,
    metavar="[DATABASE]",
    help="Print the SQL that would run, for the project's database or one of another kind"
    " (sqlite, postgresql, mariadb); run nothing.",
)
@click.option("--allow-loss", is_flag=True, help="Take columns away with their values, unasked.")
@project_option
def command(settings: Settings, preview: bool, sql: str | None, allow_loss: bool) -> None:
    """Bring the database to the declarations.

    Writes what has changed as a new file in migrations/, then runs every migration that
    the database has not seen, each whole or not at all.

    \b
    Example:
      welbik migrate --preview
    """
    from ..project.database import pending_sql

    change = possible_change(settings)
    if sql is not None:
        click.echo("\n".join(f"{statement};" for statement in pending_sql(settings, change, sql)))
    elif preview:
        _preview(settings, change)
    else:
        run(settings, change, allow_loss)


def possible_change(settings: Settings) -> Change:
    """What the declarations ask for; raises WelbikError where some of it can't be done."""
    from ..problems import WelbikError
    from ..project.database import declared_change
    from ..project.declarations import schema_of

    change = declared_change(settings.root, schema_of(settings.root))
    if change.difference.refused:
        reasons = "\n".join(f"  {reason}." for reason in change.difference.refused)
        raise WelbikError(f"these changes can't be made:\n{reasons}", "nothing was changed")
    return change


def _preview(settings: Settings, change: Change) -> None:
    from ..project.database import unseen

    for step in change.difference.steps:
        click.echo(f"would {step.describe()}")
    for hint in change.difference.hints:
        click.echo(hint)
    for migration in unseen(settings, change):
        click.echo(f"would run {migration.name}")
    if not change.difference.steps and not unseen(settings, change):
        click.echo("Nothing to do: the database is as declared.")


def _ask(change: Change) -> None:
    from ..problems import WelbikError

    losses = change.difference.losses
    names = ", ".join(step.named for step in losses)
    hints = change.difference.hints
    if not sys.stdin.isatty():
        renamed = "; ".join([*hints, "to allow the loss: welbik migrate --allow-loss"])
        raise WelbikError(f"this takes away {names} with all values", renamed)
    for hint in hints:
        click.echo(f"{hint[:1].upper()}{hint[1:]}")
    if not click.confirm(f"Take away {names} with all values? This can't be undone"):
        raise WelbikError(
            "nothing was changed", "put the fields back into the declarations to keep them"
        )


def _there(settings: Settings, change: Change) -> None:
    """Raises WelbikError where the database can't have migrations; offers to make a missing one."""
    from ..problems import WelbikError
    from ..project.database import make_missing, unseen

    try:
        unseen(settings, change)
    except WelbikError as error:
        if not error.no_database or not sys.stdin.isatty():
            raise
        said = error.message[:1].upper() + error.message[1:]
        if not click.confirm(f"{said}. Make it?", default=True):
            raise
        make_missing(settings)
        unseen(settings, change)


def run(settings: Settings, change: Change, allow_loss: bool = False, brief: bool = False) -> None:
    """Writes a change as a migration and runs what is pending; a loss only after a question.

    A file that was written just now is taken back if it can't be run.
    """
    from ..project.database import bring_up, declared_change, take_back, write_migration
    from ..project.declarations import schema_of
    from ..project.locking import alone

    for step in () if brief else change.difference.steps:
        click.echo(step.describe())
    if change.difference.losses and not allow_loss:
        _ask(change)
    with alone(settings.root):
        if declared_change(settings.root, schema_of(settings.root)).existing != change.existing:
            # Somebody else was faster: what is left is worked out anew.
            change = possible_change(settings)
            if change.difference.losses and not allow_loss:
                _ask(change)
        # A database that has had other migrations is told before one more is written.
        _there(settings, change)
        new = write_migration(settings.root, change) if change.difference.steps else None
        try:
            if new:
                click.echo(f"wrote {new}")
            done = bring_up(settings, lambda migration: click.echo(f"ran {migration.name}"))
        except BaseException:
            if new and take_back(settings, new):
                click.echo(f"took {new} back", err=True)
            raise
    if done:
        click.echo(
            f"{count(len(done), 'migration')} run: {paint('good', 'the database is as declared.')}"
        )
    else:
        click.echo("Nothing to do: the database is as declared.")
