"""welbik report."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from .common import count, paint, project_option

if TYPE_CHECKING:
    from ..project.settings import Settings

_KINDS = (".html", ".png", ".json")


@click.command()
@click.argument("models", nargs=-1, metavar="[MODEL]...")
@click.option(
    "--output",
    "-o",
    default="report.html",
    show_default=True,
    metavar="FILE",
    help="Its ending says what is written: .html, .png or .json.",
)
@click.option("--profile", default="", metavar="NAME", help="The counts of 'seed NAME'.")
@click.option("--values", is_flag=True, help="Show the texts that are stored most often.")
@click.option(
    "--format",
    "form",
    type=click.Choice(["text", "json"]),
    default="text",
    show_default=True,
    help="What is printed; with json no file is written.",
)
@project_option
def command(
    settings: Settings, models: tuple[str, ...], output: str, profile: str, values: bool, form: str
) -> None:
    """See what is stored beside what is declared: counts, shares, distributions, relations.

    The database counts; of large tables a sample is looked at. No text of a row is shown
    unless you ask for it.

    \b
    Example:
      welbik report
      welbik report Hive Inspection --output hives.png
      welbik report --format json
    """
    import json
    import sys

    from ..problems import WelbikError, no_model
    from ..project.declarations import schema_of
    from ..project.filling import with_profile
    from ..project.reporting import measured, write_report

    path = Path(output)
    if path.suffix.lower() not in _KINDS:
        raise WelbikError(
            f"{output} ends in none of {', '.join(_KINDS)}", "name it report.html", status=2
        )
    schema = with_profile(schema_of(settings.root), profile)
    for name in models:
        if name not in schema.models:
            raise no_model(name, schema.models)
    length = len(models) or len(schema.models)
    hidden = not sys.stderr.isatty()
    with click.progressbar(length=length, label="Measuring", file=sys.stderr, hidden=hidden) as bar:
        tables = measured(settings, schema, models, values=values, tell=lambda model: bar.update(1))
    if form == "json":
        from ..reporting.measures import as_json

        click.echo(json.dumps([as_json(table) for table in tables], ensure_ascii=False, indent=2))
        return
    write_report(settings, tables, path)
    for table in tables:
        click.echo(f"{table.rows:>11,} {table.model}")
        for remark in table.remarks:
            click.echo(f"{'':>12}{paint('warning', remark)}")
    total = sum(len(table.remarks) for table in tables)
    said = count(total, "remark") if total else "nothing stands out"
    click.echo(f"wrote {path}: {said}.")
