"""welbik sample."""

from __future__ import annotations

from datetime import timedelta
from typing import TYPE_CHECKING, Any

import click

from ..rules.text import as_hours
from .common import project_option

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
    type=click.Choice(["table", "csv", "json"]),
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
    {"table": _table, "csv": _csv, "json": _json}[form](names, made)


def _text(value: Any) -> str:
    if value is None:
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, dict):
        return str(value["name"])
    if isinstance(value, list):
        import json

        return json.dumps(value, ensure_ascii=False)
    if isinstance(value, timedelta):
        return as_hours(value)
    return (
        value.isoformat(timespec="minutes").replace("+00:00", "Z")
        if hasattr(value, "hour")
        else str(value)
    )


def _short(value: Any) -> str:
    """A value for a table: what has parts of its own is counted."""
    if isinstance(value, list) and value and isinstance(value[0], dict):
        return f"{len(value)} entr{'y' if len(value) == 1 else 'ies'}"
    return ", ".join(map(str, value)) if isinstance(value, list) else _text(value)


def _json(names: list[str], rows: list[dict[str, Any]]) -> None:
    import json

    plain = [
        {
            k: v if isinstance(v, str | int | float | list | None) else _text(v)
            for k, v in row.items()
        }
        for row in rows
    ]
    click.echo(json.dumps(plain, ensure_ascii=False, indent=2))


def _csv(names: list[str], rows: list[dict[str, Any]]) -> None:
    import csv
    import io

    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(names)
    writer.writerows([_text(row[name]) for name in names] for row in rows)
    click.echo(out.getvalue(), nl=False)


def _table(names: list[str], rows: list[dict[str, Any]]) -> None:
    """Columns as wide as they need be, cut so that a row stays on its line."""
    import shutil

    cells = [names, *([_short(row[name]) or "—" for name in names] for row in rows)]
    widths = _fit(
        [max(len(row[at]) for row in cells) for at in range(len(names))],
        shutil.get_terminal_size((100, 24)).columns,
    )
    right = [
        all(
            not isinstance(row[name], str)
            and row[name] is not None
            and not hasattr(row[name], "day")
            for row in rows
        )
        for name in names
    ]
    for number, row in enumerate(cells):
        line = "  ".join(
            _cell(text, width, to_right)
            for text, width, to_right in zip(row, widths, right, strict=True)
        ).rstrip()
        click.echo(click.style(line, bold=True) if number == 0 else line)


def _fit(widths: list[int], room: int) -> list[int]:
    """Takes from the widest columns until all fit, none below 8."""
    widths = list(widths)
    while sum(widths) + 2 * (len(widths) - 1) > room and max(widths) > 8:
        widths[widths.index(max(widths))] -= 1
    return widths


def _cell(text: str, width: int, right: bool) -> str:
    text = text if len(text) <= width else text[: width - 1] + "…"
    return text.rjust(width) if right else text.ljust(width)
