"""Lists as CSV (RFC 4180), row by row, so that a long one needs no memory."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterable, Iterator, Mapping
from typing import Any
from urllib.parse import quote

from flask import Response, stream_with_context

from . import clock
from .show import plain

# A spreadsheet would run a text that begins so as a formula.
_RISKY = ("=", "+", "-", "@", "\t", "\r")


def answer(name: str, columns: Mapping[str, str], rows: Iterable[Any]) -> Response:
    """The download of some rows; `columns` has the heading of each path."""
    answer = Response(stream_with_context(_lines(columns, rows)), mimetype="text/csv")
    day = clock.today().isoformat()
    # As RFC 6266 has it, for names of any script.
    called = f"{'-'.join(name.split())}-{day}.csv"
    plain_name = called.encode("ascii", "ignore").decode().replace('"', "")
    answer.headers["Content-Disposition"] = (
        f"attachment; filename=\"{plain_name}\"; filename*=UTF-8''{quote(called, safe='')}"
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
    # Numbers, days and times are what they are, whatever sign they begin with.
    typed = not isinstance(value, str | list) and not hasattr(value, "digest")
    return text if typed or not text.startswith(_RISKY) else f"'{text}"
