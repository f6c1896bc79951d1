"""Form fields for lists that are kept in the row itself: of parts, or of short texts."""

from __future__ import annotations

import datetime as dt
import json
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any, ClassVar

from flask import request

from . import controls, fragments
from .fields import LINES, ONE_LINE, Field, Refused, one_ending
from .show import hours

_MOST = 100
_LARGEST = 100_000
"""Characters of all entries together: a page shows many rows."""


@dataclass(frozen=True, kw_only=True)
class Tags(Field):
    """Short texts, one a line."""

    longest: int | None = None
    control: ClassVar[str] = "area"
    never: ClassVar[re.Pattern[str]] = LINES

    def tidy(self, text: str) -> str:
        lines = (line.strip() for line in one_ending(text).split("\n"))
        return "\n".join(line for line in lines if line)

    def flat(self, text: str) -> str:
        return self.tidy(text)

    def parse(self, text: str) -> list[str]:
        found = text.split("\n")
        if len(found) > _MOST:
            raise self.refused("range", f"At most {_MOST} lines, please.")
        if len(text) > _LARGEST:
            raise self.refused("range", f"At most {_LARGEST:,} characters, please.")
        for line in found:
            if ONE_LINE.search(line):
                raise self.refused("text", "This holds a character that can't be kept.")
            if self.longest is not None and len(line) > self.longest:
                words = f"At most {self.longest} characters a line: {line[:20]}… has {len(line)}."
                raise self.refused("range", words)
        return found

    def typed(self, value: Any) -> str:
        return "\n".join(value or ())

    def told(self, typed: str) -> str:
        return ", ".join(self.tidy(typed).split("\n"))


@dataclass(frozen=True, kw_only=True)
class Parts(Field):
    """Entries of a part: each has the part's fields. Its text is JSON of what was typed."""

    part: Sequence[Field] = ()
    rules: Sequence[tuple[str, str, Callable[[Any], bool]]] = ()
    control: ClassVar[str] = "parts"
    shared: ClassVar[bool] = False

    def sent(self, form: Any, files: Any) -> str:
        numbers = set()
        pattern = re.compile(rf"{re.escape(self.name)}-([0-9]{{1,3}})-")
        for key in form:
            found = pattern.match(key)
            if found:
                numbers.add(int(found.group(1)))
        if not numbers:
            return self._whole(str(form.get(self.name, "")))
        entries = []
        for start in (f"{self.name}-{n}-" for n in sorted(numbers)[: _MOST + 1]):
            entry = {
                f.name: controls.swapped(f.input_type, form.get(f"{start}{f.name}", ""))
                for f in self.part
            }
            given = self._is_filled(entry) or form.get(f"{start}_kept")
            if given and not form.get(f"{start}_remove"):
                entries.append(entry)
        return json.dumps(entries)

    def _whole(self, text: str) -> str:
        """A list that a program sent at once, cut where it is refused anyway."""
        entries = _entries(text)
        if entries is None:
            return text[:_LARGEST]
        names = [f.name for f in self.part]
        some = [{n: e[n] for n in names if n in e} for e in entries[: _MOST + 1]]
        return json.dumps(some) if text else ""

    def _is_filled(self, entry: dict[str, str]) -> bool:
        """An entry of nothing but what a new one starts with is none."""
        return any(entry[f.name] not in ("", f.first()) for f in self.part)

    def read(self, text: str) -> Any:
        return self.change(text, None, "")

    def change(self, text: str, stored: Any, typed: str) -> Any:
        """The entries; those that a row holds already stay exactly as they are."""
        values: list[dict[str, Any]] = []
        entries = _entries(text)
        if entries is None:
            raise self.refused("range", "This is no list of entries.")
        if len(entries) > _MOST:
            raise self.refused("range", f"At most {_MOST} entries, please.")
        if len(text) > _LARGEST:
            raise self.refused("range", f"At most {_LARGEST:,} characters, please.")
        kept = dict(
            zip(map(self._flat, _entries(typed) or ()), stored or (), strict=False)
        )
        for number, entry in enumerate(entries, 1):
            there = kept.get(self._flat(entry))
            values.append(there or self._read_entry(number, entry))
        if self.required and not values:
            raise self.refused("required", self.ask())
        return values or None

    def flat(self, text: str) -> str:
        entries = _entries(text)
        return text if entries is None else json.dumps(list(map(self._flat, entries)))

    def _flat(self, entry: dict[str, Any]) -> tuple[str, ...]:
        return tuple(f.flat(str(entry.get(f.name, ""))) for f in self.part)

    def _read_entry(self, number: int, entry: dict[str, str]) -> dict[str, Any]:
        found: dict[str, Any] = {}
        for field in self.part:
            try:
                found[field.name] = field.read(str(entry.get(field.name, "")))
            except Refused as refused:
                words = f"{number}. {field.label}: {refused.words}"
                raise self.refused(refused.check, words) from None
        for at, says, broken in self.rules:
            if broken(_Entry(found)):
                raise self.refused(at, f"{number}. {says}")
        return {name: _plain(value) for name, value in found.items()}

    def typed(self, value: Any) -> str:
        entries = [
            {f.name: _text(f, entry.get(f.name)) for f in self.part}
            for entry in value or ()
        ]
        return json.dumps(entries)

    def entries(self, typed: str) -> list[dict[str, str]]:
        """What the form shows: what was typed, and some empty ones."""
        empty = {f.name: f.first() for f in self.part}
        filled = [{**empty, **entry} for entry in _entries(typed) or ()]
        return [*filled, *(empty for _ in range(self._spare(len(filled))))]

    def filled(self, typed: str) -> int:
        """How many entries there are besides the empty ones to fill in."""
        return len(_entries(typed) or ())

    def _spare(self, filled: int) -> int:
        """Empty entries to offer: one, or one more than were there if that is asked for."""
        if fragments.asked() != ("more", self.name):
            return 1
        pattern = re.compile(rf"{re.escape(self.name)}-([0-9]+)-")
        sent = {found.group(1) for key in request.form if (found := pattern.match(key))}
        return max(1, min(len(sent), _MOST) - filled + 1)

    def told(self, typed: str) -> str:
        try:
            return "; ".join(", ".join(entry) for entry in self.shown(self.read(typed)))
        except Refused:
            return typed

    def shown(self, value: Any) -> list[list[str]]:
        """The entries of a row as texts, for its page."""
        return [
            [self._show(f, entry.get(f.name)) for f in self.part]
            for entry in value or ()
        ]

    def _show(self, field: Field, value: Any) -> str:
        text = _text(field, value)
        return dict(field.choices(text)).get(text, text) or "—"


def _entries(text: str) -> list[dict[str, str]] | None:
    """The entries that a text holds; None where it is no list of them."""
    try:
        found = json.loads(text or "[]")
        # JSON can spell halves of letters, which no page can be made of.
        json.dumps(found, ensure_ascii=False).encode()
    except (ValueError, RecursionError):
        return None
    if not isinstance(found, list) or not all(isinstance(e, dict) for e in found):
        return None
    return [
        {k: v if isinstance(v, str) else _said(v) for k, v in e.items()} for e in found
    ]


def _said(value: Any) -> str:
    """What a program sent instead of a text, as it would be typed."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    return "" if value is None else str(value)


class _Entry:
    """Values of an entry as attributes, as rules read them."""

    def __init__(self, values: dict[str, Any]) -> None:
        self.__dict__.update(values)


def _plain(value: Any) -> Any:
    """A value as JSON keeps it."""
    if isinstance(value, Decimal):
        return str(value)
    if isinstance(value, dt.timedelta):
        return hours(value)
    return value.isoformat() if isinstance(value, dt.date | dt.time) else value


def _text(field: Field, value: Any) -> str:
    """A value out of JSON as its control holds it."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str) and field.input_type == "datetime-local":
        return field.typed(dt.datetime.fromisoformat(value))
    return "" if value is None else str(value)
