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

from . import parts
from .fields import Field, Refused

_MOST = 100


@dataclass(frozen=True, kw_only=True)
class Tags(Field):
    """Short texts, one a line."""

    longest: int | None = None
    control: ClassVar[str] = "area"

    def tidy(self, text: str) -> str:
        lines = (line.strip() for line in text.replace("\r\n", "\n").split("\n"))
        return "\n".join(line for line in lines if line)

    def parse(self, text: str) -> list[str]:
        found = text.split("\n")
        if len(found) > _MOST:
            raise self.refused("range", f"At most {_MOST} lines, please.")
        for line in found:
            if self.longest is not None and len(line) > self.longest:
                words = f"At most {self.longest} characters a line: {line[:20]}… has {len(line)}."
                raise self.refused("range", words)
        return found

    def typed(self, value: Any) -> str:
        return "\n".join(value or ())


@dataclass(frozen=True, kw_only=True)
class Parts(Field):
    """Entries of a part: each has the part's fields. Its text is JSON of what was typed."""

    part: Sequence[Field] = ()
    rules: Sequence[tuple[str, str, Callable[[Any], bool]]] = ()
    control: ClassVar[str] = "parts"

    def sent(self, form: Any, files: Any) -> str:
        numbers = set()
        pattern = re.compile(rf"{re.escape(self.name)}-([0-9]{{1,3}})-")
        for key in form:
            found = pattern.match(key)
            if found:
                numbers.add(int(found.group(1)))
        if not numbers:
            # Programs may send the whole list at once.
            return str(form.get(self.name, ""))
        entries = [
            {f.name: form.get(f"{self.name}-{n}-{f.name}", "") for f in self.part}
            for n in sorted(numbers)[: _MOST + 1]
            if not form.get(f"{self.name}-{n}-remove")
        ]
        return json.dumps([entry for entry in entries if self._is_filled(entry)])

    def _is_filled(self, entry: dict[str, str]) -> bool:
        """An entry of nothing but what a new one starts with is none."""
        return any(entry[f.name] not in ("", f.first()) for f in self.part)

    def read(self, text: str) -> Any:
        values: list[dict[str, Any]] = []
        try:
            entries = json.loads(text or "[]")
        except ValueError:
            entries = None
        if not isinstance(entries, list) or not all(
            isinstance(e, dict) for e in entries
        ):
            raise self.refused("range", "This is no list of entries.")
        if len(entries) > _MOST:
            raise self.refused("range", f"At most {_MOST} entries, please.")
        for number, entry in enumerate(entries, 1):
            values.append(self._read_entry(number, entry))
        if self.required and not values:
            raise self.refused("required", self.ask())
        return values or None

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
        try:
            given = json.loads(typed or "[]")
        except ValueError:
            given = []
        empty = {f.name: f.first() for f in self.part}
        filled = [{**empty, **e} for e in given if isinstance(e, dict)] if given else []
        return [*filled, *(empty for _ in range(self._spare(len(filled))))]

    def _spare(self, filled: int) -> int:
        """Empty entries to offer: one, or one more than were there if that is asked for."""
        if parts.asked() != ("more", self.name):
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


class _Entry:
    """Values of an entry as attributes, as rules read them."""

    def __init__(self, values: dict[str, Any]) -> None:
        self.__dict__.update(values)


def _plain(value: Any) -> Any:
    """A value as JSON keeps it."""
    if isinstance(value, Decimal):
        return str(value)
    return value.isoformat() if isinstance(value, dt.date | dt.time) else value


def _text(field: Field, value: Any) -> str:
    """A value out of JSON as its control holds it."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, str) and field.input_type == "datetime-local":
        return field.typed(dt.datetime.fromisoformat(value))
    return "" if value is None else str(value)
