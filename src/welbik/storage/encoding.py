"""Drawn columns as SQLite keeps them, and stored ones as rules read them."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
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
    """A drawn column (a NumPy array and a mask of its empty places) as SQLite keeps it."""
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
    """A stored column as rules read it (see `rules.arrays`), and where it is empty."""
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
