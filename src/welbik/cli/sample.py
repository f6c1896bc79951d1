"""welbik sample."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import project_option
from .tabular import FORMS, show

if TYPE_CHECKING:
    from ..project.settings import Settings


@click.command()
@click.argument("model")
@click.option(
    "--rows", default=10, show_default=True, type=click.IntRange(1, 1_000_000), help="How many."
)
@click.option(
    "--from",
    "start",
    default=0,
    show_default=True,
    type=click.IntRange(0, 10**12),
    help="The number of the first row.",
)
@click.option(
    "--format",
    "form",
    default="table",
    show_default=True,
    type=click.Choice(FORMS),
)
@project_option
def command(settings: Settings, model: str, rows: int, start: int, form: str) -> None:
    """Show made-up rows of MODEL; no database is needed.

    \b
    Example:
      welbik sample Hive --rows 3 --format json
    """
    from ..data.supply import Supply
    from ..problems import WelbikError, did_you_mean
    from ..project.declarations import schema_of

    schema = schema_of(settings.root)
    if model not in schema.models:
        raise WelbikError(
            f"there is no model {model!r}", did_you_mean(model, list(schema.models)), status=2
        )
    supply = Supply(schema, settings.seed, settings.timezone)
    made = supply.rows(model, start, start + rows)
    names = [member.name for member in schema.models[model].members]
    show(form, names, ([row[name] for name in names] for row in made))
