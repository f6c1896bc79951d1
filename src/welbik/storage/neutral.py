"""The neutral form in which rows travel between Welbik and any database.

Decimals are whole numbers of their smallest place, days and moments ISO 8601 text (UTC, with
microseconds), identifiers 32 hexadecimal digits, parts JSON text; each database turns this into
what it keeps, and back.
"""

from __future__ import annotations

import json
import re
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any
from uuid import UUID


def _iso_days(values: Any) -> list[Any]:
    return _as_texts_of("0000-00-00", _digits_of_days(values))


def _iso_moments(values: Any) -> list[Any]:
    days = values.astype("datetime64[D]")
    seconds = (values - days).astype("timedelta64[s]").astype("int64")
    digits = _digits_of_days(days) + _digits_of_seconds(seconds, 11)
    return _as_texts_of("0000-00-00 00:00:00.000000", digits)


def _iso_times(values: Any) -> list[Any]:
    return _as_texts_of("00:00:00.000000", _digits_of_seconds(values, 0))


_Digits = list[tuple[int, Any]]
"""Where in a text a digit stands, and what it is, for each row."""


def _digits_of_days(values: Any) -> _Digits:
    months = values.astype("datetime64[M]")
    day = (values.astype("datetime64[D]") - months).astype("int64") + 1
    month = months.astype("int64") % 12 + 1
    year = months.astype("int64") // 12 + 1970
    parts = ((year // 100, 0), (year % 100, 2), (month, 5), (day, 8))
    return [one for part, at in parts for one in _digits(part, at)]


def _digits_of_seconds(seconds: Any, at: int) -> _Digits:
    parts = (seconds // 3600, seconds // 60 % 60, seconds % 60)
    return [one for n, part in enumerate(parts) for one in _digits(part, at + 3 * n)]


def _digits(numbers: Any, at: int) -> _Digits:
    """The two of numbers below a hundred."""
    import numpy

    # Looked up, which takes a third of the time of dividing.
    tens, ones = numpy.divmod(numpy.arange(100, dtype=numpy.uint32), 10)
    return [(at, tens[numbers]), (at + 1, ones[numbers])]


def _as_texts_of(form: str, digits: _Digits) -> list[Any]:
    """A text for each row: `form`, with digits put in as code points, all rows at once."""
    import numpy

    codes = numpy.empty((len(digits[0][1]), len(form)), dtype=numpy.uint32)
    codes[:] = [ord(sign) for sign in form]
    for at, digit in digits:
        codes[:, at] += digit
    return list(codes.view(f"U{len(form)}").ravel().tolist())


_WRITER = json.JSONEncoder(ensure_ascii=False)

_ENCODERS: dict[str, Callable[[Any], list[Any]]] = {
    "date": _iso_days,
    "timestamp": _iso_moments,
    "time": _iso_times,
    "uuid": lambda values: [value.hex for value in values.tolist()],
    "json": lambda values: list(map(_WRITER.encode, values.tolist())),
}


def encode(type_: str, values: Any, empty: Any | None) -> list[Any]:
    """A drawn column (a NumPy array and a mask of its empty places) in the neutral form."""
    encoder = _ENCODERS.get(type_.split()[0])
    out: list[Any] = encoder(values) if encoder else values.tolist()
    if empty is not None:
        for at in empty.nonzero()[0].tolist():
            out[at] = None
    return out


_READERS: dict[str, Callable[[Any], Any]] = {"uuid": UUID, "json": json.loads}
_NUMBERS = {
    "integer": "int64",
    "bigint": "int64",
    "decimal": "int64",
    "seconds": "int64",
    "double": "float64",
}


def decode(type_: str, stored: Sequence[object]) -> tuple[Any, Any]:
    """A column in the neutral form as rules read it (see `rules.arrays`), and where it is empty."""
    import numpy

    word = type_.split()[0]
    empty = numpy.array([value is None for value in stored], dtype=bool)
    if word in ("date", "timestamp"):
        unit = "datetime64[D]" if word == "date" else "datetime64[us]"
        texts = ["1970-01-01" if value is None else str(value) for value in stored]
        return numpy.array(texts, dtype=unit), empty
    if word == "time":
        return numpy.array([_microseconds(value) for value in stored], dtype="int64"), empty
    if word in _NUMBERS or word == "boolean":
        plain = [0 if value is None else value for value in stored]
        try:
            return numpy.array(plain, dtype=_NUMBERS.get(word, "bool")), empty
        except OverflowError:
            # Others have numbers of more than 64 bits: Python's own, which are slow and exact.
            return numpy.array(plain, dtype=object), empty
    found = numpy.empty(len(stored), dtype=object)
    read = _READERS.get(word, lambda text: text)
    found[:] = ["" if value is None else read(value) for value in stored]
    return found, empty


def _microseconds(value: object) -> int:
    hour, minute, second = (str(value) if value else "0:0:0").split(":")
    return ((int(hour) * 60 + int(minute)) * 60) * 10**6 + round(float(second) * 10**6)


_ESCAPED = str.maketrans({"\\": r"\\", "\t": r"\t", "\n": r"\n", "\r": r"\r", "\0": r"\0"})


def as_lines(columns: Sequence[Sequence[Any]], types: Sequence[str]) -> str:
    """Rows, given by their columns, as the text that servers load: tabs between values, `\\N` for
    none, a line each."""
    texts = [_as_texts(column, type_) for column, type_ in zip(columns, types, strict=True)]
    return "".join([f"{line}\n" for line in map("\t".join, zip(*texts, strict=True))])


_MEANT = {"t": "\t", "n": "\n", "r": "\r", "0": "\0"}


def from_lines(lines: str) -> list[list[str | None]]:
    """What `as_lines` wrote: rows of texts, None where there is no value."""
    return [
        [
            None if text == r"\N" else re.sub(r"\\(.)", lambda m: _MEANT.get(m[1], m[1]), text)
            for text in line.split("\t")
        ]
        for line in lines.split("\n")[:-1]
    ]


def _as_texts(column: Sequence[Any], type_: str) -> list[str]:
    word, *numbers = type_.split()
    if word in ("text", "json"):
        return [r"\N" if value is None else value.translate(_ESCAPED) for value in column]
    if word == "decimal":
        places = -int(numbers[1])
        return [r"\N" if v is None else f"{Decimal(v).scaleb(places):f}" for v in column]
    if word == "boolean":
        return [r"\N" if value is None else "1" if value else "0" for value in column]
    return [r"\N" if value is None else str(value) for value in column]
