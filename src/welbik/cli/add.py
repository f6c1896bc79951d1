"""welbik add."""

from __future__ import annotations

from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings


@click.command()
@click.argument("model")
@click.argument("fields", nargs=-1, required=True, metavar='"FIELD"...')
@click.option("--about", default="", metavar="TEXT", help="What a new model is, for its pages.")
@click.option("--new", is_flag=True, help="Make a model though its name is nearly another's.")
@project_option
def command(settings: Settings, model: str, fields: tuple[str, ...], about: str, new: bool) -> None:
    """Declare MODEL with these fields, or add them to it, in the language of the declarations.

    Everything is checked before it is written.

    \b
    Example:
      welbik add Hive "code text 7..7, required" "frames integer 4..24"
      welbik add Hive "apiary -> Apiary, required" "rule frames > 4"
    """
    from ..language.diagnostics import as_text
    from ..project.adding import Refused, add

    try:
        name, is_new = add(settings.root, model, fields, about, new=new)
    except Refused as refused:
        for problem in refused.problems:
            click.echo(as_text(problem, paint) + "\n")
        raise
    what = f"made {model} with" if is_new else f"added to {model}"
    click.echo(f"{what} {count(len(fields), 'line')} in {name}")
