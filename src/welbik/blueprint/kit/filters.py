"""Filters of lists, written in the address as ranges are declared: `frames=8..12`.

`8..` and `..12` are open at one end, `..` is whatever is given, `-` is what is empty;
choices and related rows are separated by commas. Days may count from `today`.
"""

from __future__ import annotations

import csv
import datetime as dt
import io
import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, ClassVar

import sqlalchemy as sa
from werkzeug.datastructures import MultiDict

from . import clock, controls, counting, paging, words
from .database import live, session
from .paging import is_nullable
from .rows import key_of
from .show import length, measured, show

EMPTY = "-"
ENOUGH = 1_000
"""Where counting the rows of a choice stops."""
_FEW = 12
_DAY = re.compile(r"[0-9-]{8,10}")
_FROM_NOW = re.compile(r"(today|now)(?:\s*([+-])\s*([0-9]{1,6})\s*days?)?")


@dataclass(frozen=True)
class Filter:
    """What a list can be narrowed by: its name in the address, and the column it asks."""

    name: str
    label: str
    column: Any

    control: ClassVar[str] = "words"

    @property
    def may_be_empty(self) -> bool:
        return is_nullable(self.column)

    def typed(self, asked: MultiDict[str, str]) -> str:
        """What the panel's controls ask for, in the notation of the address."""
        return " ".join(asked.get(self.name, "").split())

    def condition(self, text: str) -> Any:
        """The condition that a text stands for; ValueError where it stands for none."""
        if text == EMPTY:
            return self.column.is_(None)
        if text == "..":
            return self.column.is_not(None)
        return self.parse(text)

    def parse(self, text: str) -> Any:
        wanted = words.of(text)
        if not wanted:
            raise ValueError(text)
        return sa.and_(*(words.holds(self.column, word) for word in wanted))

    def told(self, text: str) -> str:
        """A text of the address as people read it."""
        return {EMPTY: "none", "..": "any"}.get(text) or self.tell(text)

    def tell(self, text: str) -> str:
        return text


@dataclass(frozen=True)
class Range(Filter):
    """From one value to another, both included."""

    unit: str = ""
    control: ClassVar[str] = "range"

    @property
    def input_type(self) -> str:
        kinds = {dt.date: "date", dt.time: "time", dt.datetime: "datetime-local"}
        kinds[dt.timedelta] = "text"
        return kinds.get(self.column.type.python_type, "number")

    @property
    def moves(self) -> bool:
        """Whether it may be told from today."""
        return self.input_type in ("date", "datetime-local")

    def typed(self, asked: MultiDict[str, str]) -> str:
        if asked.get(f"{self.name}-empty"):
            return EMPTY
        low, high = (
            controls.swapped(
                self.input_type, asked.get(f"{self.name}-{end}", "").strip()
            )
            for end in ("low", "high")
        )
        if low or high:
            return low if low == high else f"{low}..{high}"
        return asked.get(self.name, "").strip()

    def ends(self, text: str) -> tuple[str, str]:
        """The two ends as their controls hold them."""
        if text in ("", EMPTY):
            return "", ""
        low, dots, high = text.partition("..")
        return (low.strip(), high.strip()) if dots else (low, low)

    def parse(self, text: str) -> Any:
        low, high = self.ends(text)
        found = [self.column >= self.value(low)] if low else []
        if high:
            end = self.value(high)
            if isinstance(end, dt.datetime) and _is_day(high):
                # A whole day is included to its end.
                return sa.and_(*found, self.column < end + dt.timedelta(days=1))
            found.append(self.column <= end)
        return sa.and_(*found)

    def value(self, text: str) -> Any:
        """One end; ValueError where it is none."""
        moved = _FROM_NOW.fullmatch(text) if self.moves else None
        kind = self.input_type
        if moved:
            days = int(f"{moved[2] or '+'}{moved[3] or 0}")
            try:
                day = clock.today() + dt.timedelta(days=days)
            except OverflowError:
                raise ValueError(text) from None
            if kind == "date":
                return day
            if moved[1] == "now":
                return clock.now() + dt.timedelta(days=days)
            return clock.local(f"{day}")
        if kind == "date":
            return dt.date.fromisoformat(text)
        if kind == "time":
            clock_time = dt.time.fromisoformat(text)
            if clock_time.tzinfo is not None:
                raise ValueError(text)
            return clock_time
        if kind == "datetime-local":
            return clock.local(text.replace(" ", "T"))
        return self._length(text) if kind == "text" else self._number(text)

    def _length(self, text: str) -> dt.timedelta:
        found = length(text)
        if not paging.fits(self.column, found.total_seconds()):
            raise ValueError(text)
        return found

    def _number(self, text: str) -> Any:
        kind = self.column.type.python_type
        found = measured(text)
        if not paging.fits(self.column, found):
            raise ValueError(text)
        if kind is int and found != found.to_integral_value():
            # Between two whole numbers there is none: the comparison is what counts.
            return float(found)
        return kind(found)

    def tell(self, text: str) -> str:
        low, high = (self._end(end) for end in self.ends(text))
        unit = f" {self.unit}" if self.unit else ""
        if low == high:
            return f"{low}{unit}"
        if not high:
            return f"from {low}{unit}"
        return f"{low} to {high}{unit}" if low else f"up to {high}{unit}"

    def _end(self, text: str) -> str:
        if not text or _FROM_NOW.fullmatch(text):
            return text
        return show(self.value(text))


@dataclass(frozen=True)
class Choice(Filter):
    """Any of some choices."""

    labels: Mapping[str, str] = field(default_factory=dict)
    control: ClassVar[str] = "choices"

    def typed(self, asked: MultiDict[str, str]) -> str:
        # Ticked boxes come one by one, an address has them in one text.
        return written(
            list(
                dict.fromkeys(
                    p for text in asked.getlist(self.name) for p in several(text)
                )
            )
        )

    def condition(self, text: str) -> Any:
        wanted = several(text)
        if text == "..":
            return self.column.is_not(None)
        known = all(name in self.labels or name == EMPTY for name in wanted)
        if not known or not wanted:
            raise ValueError(text)
        return sa.or_(*(self.one(name) for name in wanted))

    def one(self, name: str) -> Any:
        return (
            self.column.is_(None) if name == EMPTY else self.column == self.value(name)
        )

    def value(self, name: str) -> Any:
        return name

    def told(self, text: str) -> str:
        if text == "..":
            return "any"
        return ", ".join(self.labels.get(name, "none") for name in several(text))

    def choices(self) -> list[tuple[str, str]]:
        return [*self.labels.items(), *([(EMPTY, "None")] if self.may_be_empty else [])]

    def counts(self, rows: sa.Select[Any], model: Any) -> dict[str, str]:
        """How many of some rows each choice has, all in one query."""
        names = [name for name, _ in self.choices()]
        asked = [
            counting.count(rows.where(self.one(name)), model, ENOUGH) for name in names
        ]
        found = session().execute(sa.select(*asked)).one()
        return {
            name: counting.told(number, ENOUGH)
            for name, number in zip(names, found, strict=True)
        }


@dataclass(frozen=True)
class Answer(Choice):
    """Yes, no, or unknown where it may be."""

    labels: Mapping[str, str] = field(
        default_factory=lambda: {"yes": "Yes", "no": "No"}
    )

    def value(self, name: str) -> bool:
        return name == "yes"

    def one(self, name: str) -> Any:
        return self.column.is_(None if name == EMPTY else self.value(name))

    def choices(self) -> list[tuple[str, str]]:
        return [
            (name, "Unknown" if name == EMPTY else label)
            for name, label in super().choices()
        ]


@dataclass(frozen=True)
class Related(Filter):
    """Any of some related rows, found by typing a part of their names."""

    target: Any = None
    control: ClassVar[str] = "related"

    typed = Choice.typed

    def condition(self, text: str) -> Any:
        if text == "..":
            return self.column.is_not(None)
        parts = several(text)
        keys = [key_of(self.target, part) for part in parts if part != EMPTY]
        if None in keys or not parts:
            raise ValueError(text)
        found = [self._among(keys)] if keys else []
        return sa.or_(*found, *([self._none()] if EMPTY in parts else []))

    def _among(self, keys: Sequence[Any]) -> Any:
        # One value is met by an index that has more columns behind it.
        return self.column.in_(keys) if len(keys) > 1 else self.column == keys[0]

    def _none(self) -> Any:
        return self.column.is_(None)

    def told(self, text: str) -> str:
        names = {str(row.id): str(row) for row in self._chosen(text)}
        return (
            "any"
            if text == ".."
            else ", ".join(names.get(part, "none") for part in several(text))
        )

    def _chosen(self, text: str) -> Sequence[Any]:
        known = (key_of(self.target, part) for part in several(text))
        keys = [key for key in known if key is not None]
        if not keys:
            return []
        return (
            session()
            .scalars(self.target.in_order().where(self.target.id.in_(keys)))
            .all()
        )

    def offered(self, text: str, find: str) -> list[tuple[str, str]]:
        """Those that are chosen, and more to choose from: by what is typed, or all when few."""
        rows = live(self.target.in_order(find), self.target).limit(_FEW + 1)
        found = session().scalars(rows).all()
        more = found[:_FEW] if find or len(found) <= _FEW else []
        chosen = self._chosen(text)
        empty = [(EMPTY, "None")] if self.may_be_empty else []
        return [*((str(r.id), str(r)) for r in dict.fromkeys([*chosen, *more])), *empty]


@dataclass(frozen=True)
class Linked(Related):
    """Any of some rows of a relation to many."""

    @property
    def may_be_empty(self) -> bool:
        return True

    def condition(self, text: str) -> Any:
        return self.column.any() if text == ".." else super().condition(text)

    def _among(self, keys: Sequence[Any]) -> Any:
        return self.column.any(self.target.id.in_(keys))

    def _none(self) -> Any:
        return ~self.column.any()


def _is_day(text: str) -> bool:
    """Whether an end is a whole day, and no moment of one."""
    return text.startswith("today") or _DAY.fullmatch(text) is not None


def several(text: str) -> list[str]:
    """The parts of a text between commas, each once; one with a comma stands between quotes."""
    try:
        found = next(csv.reader([text], strict=True), [])
    except csv.Error:
        raise ValueError(text) from None
    return list(dict.fromkeys(part for part in found if part))


def written(names: Sequence[str]) -> str:
    """Parts as one text, the way `several` reads them."""
    out = io.StringIO()
    csv.writer(out, lineterminator="").writerow(names)
    return out.getvalue()
