"""Lists as CSV (RFC 4180), row by row, so that a long one needs no memory."""

from __future__ import annotations

import csv
import datetime as dt
import io
from collections.abc import Iterable, Iterator, Sequence
from decimal import Decimal
from typing import Any
from urllib.parse import quote

from flask import Response, stream_with_context

from . import clock
from .cells import Column
from .show import plain

# A spreadsheet would run a text that begins so as a formula.
_RISKY = ("=", "+", "-", "@", "\t", "\r")
_TYPED = (int, float, Decimal, dt.date, dt.time, dt.timedelta)


def answer(name: str, columns: Sequence[Column], rows: Iterable[Any]) -> Response:
    """The download of some columns of some rows."""
    answer = Response(stream_with_context(_lines(columns, rows)), mimetype="text/csv")
    day = clock.today().isoformat()
    # As RFC 6266 has it, for names of any script.
    called = f"{'-'.join(name.split())}-{day}.csv"
    plain_name = called.encode("ascii", "ignore").decode().replace('"', "")
    answer.headers["Content-Disposition"] = (
        f"attachment; filename=\"{plain_name}\"; filename*=UTF-8''{quote(called, safe='')}"
    )
    return answer


def _lines(columns: Sequence[Column], rows: Iterable[Any]) -> Iterator[str]:
    out = io.StringIO()
    writer = csv.writer(out)
    writer.writerow([_cell(column.label) for column in columns])
    for row in rows:
        writer.writerow([_cell(column.of(row)) for column in columns])
        if out.tell() > 1 << 14:
            yield out.getvalue()
            out.seek(0)
            out.truncate()
    yield out.getvalue()


def _cell(value: Any) -> str:
    text = plain(value)
    # Numbers, days and times are what they are, whatever sign they begin with.
    return (
        text if isinstance(value, _TYPED) or not text.startswith(_RISKY) else f"'{text}"
    )
