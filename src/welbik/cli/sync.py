"""welbik sync."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import project_option

if TYPE_CHECKING:
    from ..project.settings import Settings


@click.command()
@click.option("--allow-loss", is_flag=True, help="Take values, and code of models that went, away.")
@project_option
def command(settings: Settings, allow_loss: bool) -> None:
    """Do all that 'welbik status' names: code, tables and rows follow the declarations.

    What the stored rows don't allow is told before anything is written.

    \b
    Example:
      welbik add Visit "hive -> Hive, required" "held date, required" && welbik sync
    """
    from ..project.syncing import sync
    from . import build, fill, migrate

    agreed = (lambda todo: True) if allow_loss else build.agreed
    asking = migrate.asking(settings)
    done = sync(settings, asking, agreed, allow_loss=allow_loss, built=build.say_plan)
    migrate.tell(done.migrations)
    if done.no_rows and done.rows is not None:
        fill.tell_fixed(done.rows, done.no_rows)
    elif done.rows is not None:
        fill.tell(done.rows)
