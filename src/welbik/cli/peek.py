"""welbik peek."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import count, project_option
from .tabular import FORMS, show

if TYPE_CHECKING:
    from ..project.settings import Settings


_MOST_SHOWN = 20


@click.command()
@click.argument("model")
@click.option("--where", default="", metavar="EXPR", help="A condition, as rules have it.")
@click.option("--columns", default="", metavar="A,B.C", help="What is shown, as lists have it.")
@click.option("--sort", default="", metavar="A,-B", help="What it is sorted by.")
@click.option(
    "--rows",
    type=click.IntRange(1, 10**9),
    help=f"How many: {_MOST_SHOWN} of a table, and all as CSV or JSON, unless said.",
)
@click.option("--format", "form", default="table", show_default=True, type=click.Choice(FORMS))
@project_option
def command(
    settings: Settings, model: str, where: str, columns: str, sort: str, rows: int | None, form: str
) -> None:
    """Show stored rows of MODEL, related rows by their names.

    Those in the bin are left out.

    \b
    Example:
      welbik peek Hive --where "frames > 12 and closed is empty" --columns code,apiary.keeper
    """
    from ..project.declarations import schema_of
    from ..project.filling import stored_rows

    schema = schema_of(settings.root)
    with stored_rows(settings, schema, model, _names(columns), where, _names(sort)) as stored:
        # What goes to a program is whole, unless less is asked for.
        rows = rows or (_MOST_SHOWN if form == "table" else stored.count())
        show(form, stored.names, stored.rows(rows))
        if form == "table":
            there = stored.count()
            left = f", {there - rows:,} more are there" if there > rows else ""
            click.echo(f"\n{count(min(there, rows), 'row')}{left}.")


def _names(text: str) -> list[str]:
    return [name.strip() for name in text.split(",") if name.strip()]
