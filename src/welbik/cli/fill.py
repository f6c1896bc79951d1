"""welbik fill."""

from __future__ import annotations

import sys
from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..data.fill import Filled
    from ..project.settings import Settings


@click.command()
@click.option("--profile", default="", metavar="NAME", help="The counts of 'seed NAME'.")
@project_option
def command(settings: Settings, profile: str) -> None:
    """Fill the database up to the counts of 'seed'.

    Made-up rows obey every declaration; rows already there stay as they are and count.
    Running it again adds nothing.

    \b
    Example:
      welbik fill
      welbik fill --profile load
    """
    run(settings, profile)


def run(settings: Settings, profile: str = "") -> None:
    """Fills, with a progress bar on a terminal."""
    from ..problems import WelbikError, did_you_mean
    from ..project.declarations import schema_of
    from ..project.filling import fill_project, missing_rows, with_profile

    schema = schema_of(settings.root)
    if profile and profile not in schema.profiles:
        known = did_you_mean(profile, list(schema.profiles))
        raise WelbikError(
            f"there is no profile {profile!r}", known or f"declare it: seed {profile}", status=2
        )
    schema = with_profile(schema, profile)
    if not schema.seed and not schema.rows:
        raise WelbikError(
            "no rows are asked for", "add a block to the declarations:  seed / 12 Keeper"
        )
    length = sum(missing_rows(settings, schema).values())
    hidden = not length or not sys.stderr.isatty()
    with click.progressbar(length=length, label="Filling", file=sys.stderr, hidden=hidden) as bar:
        done = fill_project(settings, schema, lambda model, rows: bar.update(rows))
    tell(done)


def tell(done: Filled) -> None:
    """Says what was added and changed."""
    for remark in done.remarks:
        click.echo(remark)
    for name, rows in done.added.items():
        click.echo(f"{rows:>9,} {name}")
    for name, rows in done.changed.items():
        click.echo(f"{count(rows, 'fixed row')} of {name} changed as declared.")
    if not done.added:
        if not done.changed:
            click.echo("Nothing to add: every model has its declared count.")
        return
    click.echo(
        f"{count(sum(done.added.values()), 'row')} added: {paint('good', 'every model has its declared count.')}"
    )
