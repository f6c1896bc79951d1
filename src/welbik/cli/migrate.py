"""welbik migrate."""

from __future__ import annotations

import sys
from collections.abc import Sequence
from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..migrations.files import Migration
    from ..migrations.risks import Risk
    from ..project.database import Change
    from ..project.migrating import Asking
    from ..project.settings import Settings
    from ..project.undoing import Undoing


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
@click.option("--undo", "back", is_flag=True, help="Take back the last migration that ran.")
@click.option("--allow-loss", is_flag=True, help="Take values away without a question.")
@project_option
def command(
    settings: Settings, preview: bool, sql: str | None, back: bool, allow_loss: bool
) -> None:
    """Bring the database to the declarations.

    Writes what has changed as a new file in migrations/, then runs every migration that
    the database has not seen, each whole or not at all. What the rows stored don't allow is
    told before anything runs.

    \b
    Example:
      welbik migrate --preview
      welbik migrate --undo
    """
    from ..project.database import pending_sql
    from ..project.migrating import possible_change

    if back:
        _undo(settings, allow_loss, preview)
    elif sql is not None:
        change = possible_change(settings)
        click.echo("\n".join(f"{statement};" for statement in pending_sql(settings, change, sql)))
    elif preview:
        _preview(settings, possible_change(settings))
    else:
        run(settings, allow_loss)


def _preview(settings: Settings, change: Change) -> None:
    from ..project.database import change_risks, unseen

    waiting = unseen(settings, change)
    for migration in waiting:
        click.echo(f"would run {migration.name}")
    for step in change.difference.steps:
        click.echo(f"would {step.describe()}")
    for hint in change.difference.hints:
        click.echo(hint)
    if not change.difference.steps and not waiting:
        click.echo("Nothing to do: the database is as declared.")
        return
    if change.difference.steps and waiting:
        click.echo("What the stored rows say is known once those have run.")
        return
    found = change_risks(settings, change)
    words = {
        "refused": ("problem", "The stored rows don't allow it:"),
        "loss": ("warning", "Values would go:"),
        "cost": ("muted", "It takes its time:"),
    }
    for kind, (role, said) in words.items():
        lines = [line for risk in found if risk.kind == kind for line in risk.lines()]
        if lines:
            click.echo(f"\n{paint(role, said)}")
            click.echo("\n".join(f"  {line}" for line in lines))
    if any(risk.kind == "refused" for risk in found):
        sys.exit(1)


def asking(settings: Settings) -> Asking:
    """Asks at a terminal, and nowhere else."""
    from ..project.migrating import Asking

    if not sys.stdin.isatty():
        return Asking(click.echo)
    return Asking(click.echo, _is_called, _may_be_lost, _may_be_made, _may_be_numbered)


def _is_called(old: str, new: str, model: str) -> bool:
    return click.confirm(f"{model} has {new} now, and {old} no more. Was {new} called {old}?")


def _may_be_lost(lost: Sequence[Risk]) -> bool:
    for risk in lost:
        click.echo("\n".join(risk.lines()))
    total = sum(risk.count for risk in lost)
    return click.confirm(f"Let {count(total, 'value')} go? They do not come back")


def _may_be_made(said: str) -> bool:
    return click.confirm(f"{said[:1].upper()}{said[1:]}. Make it?", default=True)


def _may_be_numbered(old: str, new: str, said: str) -> bool:
    click.echo(f"{said}.")
    return click.confirm(f"{old} has not run here. If it has run nowhere, call it {new}?")


def run(settings: Settings, allow_loss: bool = False, brief: bool = False) -> None:
    """Writes what has changed as a migration and runs what is pending."""
    from ..project.migrating import migrate

    done = migrate(settings, asking(settings), allow_loss=allow_loss, brief=brief)
    tell(done)


def tell(done: Sequence[Migration]) -> None:
    """Says how the database stands."""
    if done:
        click.echo(
            f"{count(len(done), 'migration')} run: {paint('good', 'the database is as declared.')}"
        )
    else:
        click.echo("Nothing to do: the database is as declared.")


def _undo(settings: Settings, allow_loss: bool, preview: bool) -> None:
    from ..problems import WelbikError
    from ..project.undoing import undo, undoing

    asked = undoing(settings)
    for step in asked.back.steps:
        click.echo(f"{'would ' if preview else ''}{step.describe()}")
    lost = _lost(asked)
    if lost:
        click.echo(paint("warning", "What can't come back:"))
        click.echo("\n".join(f"  {line}" for line in lost))
    if preview:
        return
    if lost and not allow_loss:
        if not sys.stdin.isatty():
            raise WelbikError(
                f"taking {asked.migration.name} back leaves values behind",
                "to allow it: welbik migrate --undo --allow-loss; nothing was changed",
            )
        if not click.confirm(f"Take {asked.migration.name} back all the same?"):
            raise WelbikError("nothing was changed", "")
    place = undo(settings, asked)
    if place:
        click.echo(f"kept {place}, a copy from before")
    click.echo(f"took {asked.migration.name} back")
    if asked.again:
        click.echo("Its file is gone: the declarations ask for it again with welbik migrate.")
    else:
        click.echo(f"migrations/{asked.migration.name}.toml stays: welbik migrate runs it again.")


def _lost(asked: Undoing) -> list[str]:
    found = [line for risk in asked.risks if risk.kind == "loss" for line in risk.lines()]
    where = f"is in {asked.copy}" if asked.copy else "is not kept anywhere"
    found += [f"{place}: what it held before {where}" for place in asked.back.empty]
    found += [f"{place}: its values stay as they were made" for place in asked.back.stays]
    if asked.back.by_hand:
        found.append("what the steps written by hand did stays done")
    return found
