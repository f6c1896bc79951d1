"""Lists as CSV (RFC 4180), row by row, so that a long one needs no memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping
from typing import Any

from flask import Response, stream_with_context

from . import clock
from .show import plain

# A spreadsheet would run a text that begins so as a formula.
_RISKY = ("=", "+", "-", "@", "\t", "\r")


def answer(name: str, columns: Mapping[str, str], rows: Iterable[Any]) -> Response:
    """The download of some rows; `columns` has the heading of each path."""
    answer = Response(stream_with_context(_lines(columns, rows)), mimetype="text/csv")
    day = clock.today().isoformat()
    answer.headers.set(
        "Content-Disposition",
        "attachment",
        filename=f"{name.replace(' ', '-')}-{day}.csv",
    )
    return answer


def _lines(columns: Mapping[str, str], rows: Iterable[Any]) -> Iterator[str]:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow(columns.values())
    for row in rows:
        writer.writerow([_cell(row, path) for path in columns])
        if out.tell() > 1 << 14:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()


def _cell(row: Any, path: str) -> str:
    *before, last = path.split(".")
    for name in before:
        row = getattr(row, name)
        if row is None:
            return ""
    value = getattr(row, last)
    labels = getattr(row, f"{last.rstrip('_').upper()}_LABELS", None)
    if labels is not None and value is not None:
        value = labels[value]
    text = plain(value)
    return (
        f"'{text}" if not isinstance(value, int | float) and _is_risky(text) else text
    )


def _is_risky(text: str) -> bool:
    return text.startswith(_RISKY) and not text[1:2].isdigit()
