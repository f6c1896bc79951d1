"""The neutral form in which rows travel between Welbik and any database.

Decimals are whole numbers of their smallest place, days and moments ISO 8601 text (UTC, with
microseconds), identifiers 32 hexadecimal digits, parts JSON text; each database turns this into
what it keeps, and back.
"""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from decimal import Decimal
from typing import Any
from uuid import UUID


def _iso_days(values: Any) -> list[Any]:
    import numpy

    return list(numpy.datetime_as_string(values, unit="D").tolist())


def _iso_moments(values: Any) -> list[Any]:
    import numpy

    texts = numpy.datetime_as_string(values, unit="s").tolist()
    return [f"{text[:10]} {text[11:]}.000000" for text in texts]


def _iso_times(values: Any) -> list[Any]:
    return [f"{n // 3600:02}:{n // 60 % 60:02}:{n % 60:02}.000000" for n in values.tolist()]


_ENCODERS: dict[str, Callable[[Any], list[Any]]] = {
    "date": _iso_days,
    "timestamp": _iso_moments,
    "time": _iso_times,
    "uuid": lambda values: [value.hex for value in values.tolist()],
    "json": lambda values: [json.dumps(value, ensure_ascii=False) for value in values.tolist()],
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
        return numpy.array(plain, dtype=_NUMBERS.get(word, "bool")), empty
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
