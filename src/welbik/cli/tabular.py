"""Rows on the screen: as a table, as CSV (RFC 4180), as JSON, or as a JSON object a line."""

from __future__ import annotations

import textwrap
from collections.abc import Callable, Iterable, Sequence
from datetime import timedelta
from decimal import Decimal
from typing import Any

import click

from ..rules.text import as_hours

FORMS = ["table", "csv", "json", "lines"]
_PLAIN = (str, int, float, list, type(None))


def show(form: str, names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Prints rows under their names in one of `FORMS`; only a table is held in memory."""
    ways: dict[str, Callable[[Sequence[str], Iterable[Sequence[Any]]], None]]
    ways = {"table": _table, "csv": _csv, "json": _json, "lines": _lines}
    ways[form](names, rows)


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


def _json(names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    import json

    begin = "[\n"
    for row in rows:
        written = json.dumps(_plain(names, row), ensure_ascii=False, indent=2)
        click.echo(begin + textwrap.indent(written, "  "), nl=False)
        begin = ",\n"
    click.echo("[]" if begin == "[\n" else "\n]")


def _lines(names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    import json

    for row in rows:
        click.echo(json.dumps(_plain(names, row), ensure_ascii=False))


def _plain(names: Sequence[str], row: Sequence[Any]) -> dict[str, Any]:
    """A row as JSON has it."""
    return {
        name: value if isinstance(value, _PLAIN) else _text(value)
        for name, value in zip(names, row, strict=True)
    }


class _Out:
    """What is printed, as a file that can be written to."""

    def write(self, text: str) -> None:
        click.echo(text, nl=False)


def _csv(names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    import csv

    writer = csv.writer(_Out())
    writer.writerow(names)
    writer.writerows([_text(value) for value in row] for row in rows)


def _table(names: Sequence[str], rows: Iterable[Sequence[Any]]) -> None:
    """Columns as wide as they need be, cut so that a row stays on its line."""
    import shutil

    held = list(rows)
    cells = [list(names), *([_short(value) or "—" for value in row] for row in held)]
    widths = _fit(
        [max(len(row[at]) for row in cells) for at in range(len(names))],
        shutil.get_terminal_size((100, 24)).columns,
        # A text that is cut is still read; half a number or a date is another one.
        [8 if _is_cut(row[at] for row in held) else 10 for at in range(len(names))],
    )
    right = [
        all(isinstance(row[at], int | float | Decimal) for row in held if row[at] is not None)
        and any(row[at] is not None for row in held)
        for at in range(len(names))
    ]
    for number, row in enumerate(cells):
        line = "  ".join(
            _cell(text, width, to_right)
            for text, width, to_right in zip(row, widths, right, strict=True)
        ).rstrip()
        click.echo(click.style(line, bold=True) if number == 0 else line)


def _is_cut(values: Iterable[Any]) -> bool:
    return any(isinstance(value, str | list | dict) for value in values)


def _fit(widths: list[int], room: int, least: list[int]) -> list[int]:
    """Takes from the widest columns until all fit, none below its least."""
    widths = list(widths)
    while sum(widths) + 2 * (len(widths) - 1) > room:
        wide = [at for at, width in enumerate(widths) if width > least[at]]
        if not wide:
            break
        widths[max(wide, key=widths.__getitem__)] -= 1
    return widths


def _cell(text: str, width: int, right: bool) -> str:
    text = text if len(text) <= width else text[: width - 1] + "…"
    return text.rjust(width) if right else text.ljust(width)
