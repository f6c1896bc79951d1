"""Entries of lists as they are stored, against the part that they are of."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Mapping, Sequence
from typing import Any

import numpy as np
from numpy.typing import NDArray

from ..kinds.bounds import FromNow
from ..rules.arrays import Arrays, Column
from ..schema.model import Field, Shape
from ..storage.neutral import decode


class Lists:
    """Says what is wrong with a stored list, in a few words; nothing where it is as declared."""

    def __init__(self, field: Field, timezone: str) -> None:
        self.field, self.arrays = field, Arrays(dt.datetime.now(dt.UTC), timezone)

    def wrong(self, value: object) -> str:
        """`value` is what JSON holds, or nothing."""
        if value is None:
            return ""
        if not isinstance(value, list):
            return "it is no list"
        shape = self.field.shape
        if shape is None:
            return "" if all(isinstance(entry, str) for entry in value) else "an entry is no text"
        for number, entry in enumerate(value, 1):
            said = self._entry(shape, entry)
            if said:
                return f"entry {number}: {said}"
        return self._rules(shape, value)

    def _entry(self, shape: Shape, entry: object) -> str:
        if not isinstance(entry, Mapping):
            return f"it is no {shape.name}"
        for field in shape.fields:
            value = entry.get(field.name)
            if value is None or value == "":
                if field.required:
                    return f"{field.name} is missing"
                continue
            said = self._value(field, value)
            if said:
                return f"{field.name} {said}"
        return ""

    def _value(self, field: Field, value: object) -> str:
        kind: Any = field.kind
        read = kind.read_json(value)
        if read is None:
            return f"is no {kind.word}: {value}"
        if kind.labels() and value not in kind.labels():
            return f"is none of the choices: {value}"
        longest, shortest = getattr(kind, "longest", None), getattr(kind, "shortest", None)
        if (
            isinstance(read, str)
            and not kind.labels()
            and not (shortest or 0) <= len(read) <= (longest or 10**9)
        ):
            return f"is of another length: {value}"
        if field.pattern is not None and not re.fullmatch(field.pattern.text, str(read)):
            return f"doesn't match {field.pattern.text}: {value}"
        bounds = getattr(kind, "bounds", None)
        low, high = (self._end(bounds.low), self._end(bounds.high)) if bounds else (None, None)
        if (low is not None and read < low) or (high is not None and read > high):
            return f"is out of range: {value}"
        return ""

    def _end(self, end: object) -> Any:
        if not isinstance(end, FromNow):
            return end
        moment = self.arrays.now.astimezone(self.arrays.zone) + dt.timedelta(days=end.days)
        return moment.date() if end.word == "today" else moment.replace(tzinfo=None)

    def _rules(self, shape: Shape, entries: Sequence[Mapping[str, Any]]) -> str:
        rows = _Entries(shape, entries)
        for rule in shape.rules:
            found = self.arrays.evaluate(rule.node, rows)
            broken: NDArray[np.bool_] = ~found.values.astype(bool) & ~found.empty
            if broken.any():
                return f"entry {int(np.flatnonzero(broken)[0]) + 1}: breaks the rule: {rule.text}"
        return ""


class _Entries:
    """The entries of one list as rules read them; see `rules.arrays.Rows`."""

    def __init__(self, shape: Shape, entries: Sequence[Mapping[str, Any]]) -> None:
        self.fields = {field.name: field for field in shape.fields}
        self.entries, self.size = entries, len(entries)

    def column(self, name: str) -> Column:
        field = self.fields[name]
        type_ = field.kind.stored().type
        values = [_neutral(type_, field.kind.read_json(entry.get(name))) for entry in self.entries]
        return Column(*decode(type_, values))

    def follow(self, reference: str) -> Any:
        raise NotImplementedError("a part has no relations")

    def near(self, positions: NDArray[np.int64]) -> tuple[Any, NDArray[np.int64]]:
        return self, positions

    def children(self, hop: object) -> Any:
        raise NotImplementedError("a part has no rows of its own")


def _neutral(type_: str, value: Any) -> Any:
    """A value as databases give it to us."""
    word, *numbers = type_.split()
    if value is None:
        return None
    if word == "decimal":
        return int(value.scaleb(int(numbers[1])))
    if word == "seconds":
        return int(value.total_seconds())
    if word == "time":
        return value.strftime("%H:%M:%S.%f")
    return value.isoformat(" ") if word == "timestamp" else str(value) if word == "date" else value
