"""welbik diagram."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import project_option

if TYPE_CHECKING:
    from ..project.settings import Settings

_KINDS = (".svg", ".png", ".dot")


@click.command()
@click.argument("models", nargs=-1, metavar="[MODEL]...")
@click.option(
    "--output",
    "-o",
    default="models.svg",
    show_default=True,
    metavar="FILE",
    help="Its ending says what is written: .svg, .png or .dot.",
)
@project_option
def command(settings: Settings, models: tuple[str, ...], output: str) -> None:
    """Draw the models, or some of them, with their fields and relations.

    \b
    Example:
      welbik diagram --output docs/models.png
      welbik diagram Hive Apiary Keeper
    """
    from ..problems import WelbikError, no_model
    from ..project.declarations import schema_of
    from ..project.drawing import draw

    path = Path(output)
    if path.suffix.lower() not in _KINDS:
        raise WelbikError(
            f"{output} ends in none of {', '.join(_KINDS)}", "name it models.svg", status=2
        )
    schema = schema_of(settings.root)
    for name in models:
        if name not in schema.models:
            raise no_model(name, schema.models)
    draw(schema, path, settings.title, models)
    click.echo(f"wrote {path}")
