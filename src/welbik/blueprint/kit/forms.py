"""Forms: read what was typed, say what is wrong with it, save it."""

from __future__ import annotations

import hashlib
from typing import Any

from flask import request
from sqlalchemy import Select, select
from sqlalchemy.exc import IntegrityError

from .database import session
from .fields import Field, Refused
from .show import show

_TAKEN = "This is taken already: it must be different for each."


class Form:
    """The fields of a model's form, in order."""

    def __init__(self, model: Any, *fields: Field) -> None:
        self.model = model
        self.fields = {field.name: field for field in fields}

    def entry(self, row: Any) -> Entry:
        """The form of this request: sent, or to be filled in for a row, stored or new."""
        if request.method == "POST":
            return self.read(row)
        return self.of(row) if row.id else self.blank()

    def blank(self) -> Entry:
        """A new row: the defaults, and what the address asks for (`?hive=3`)."""
        given = {name: field.first() for name, field in self.fields.items()}
        asked = {k: v for k, v in request.args.items() if k in self.fields}
        return Entry(self, given | asked)

    def of(self, row: Any) -> Entry:
        """What a stored row would look like when typed."""
        typed = {
            name: field.typed(getattr(row, field.column))
            for name, field in self.fields.items()
        }
        return Entry(self, typed, seen=_digest(typed) if row.id else "")

    def read(self, row: Any) -> Entry:
        """What this request sent: only declared fields are looked at."""
        typed = {name: request.form.get(name, "") for name in self.fields}
        entry = Entry(self, typed, seen=request.form.get("_seen", ""))
        entry.check(row)
        return entry


class Entry:
    """A filled-in form: what was typed, the values it stands for, what is wrong."""

    def __init__(self, form: Form, typed: dict[str, str], seen: str = "") -> None:
        self.form = form
        self.typed = typed
        self.seen = seen
        self.values: dict[str, Any] = {}
        self.problems: dict[str, str] = {}
        self.conflict = False

    @property
    def status(self) -> int:
        """The HTTP status of the page that shows this entry."""
        if self.conflict:
            return 409
        return 422 if self.problems else 200

    def check(self, row: Any) -> None:
        """Reads every field, and looks whether unique ones are free."""
        for name, field in self.form.fields.items():
            try:
                value = field.read(self.typed[name])
                if field.unique and value is not None:
                    self._check_free(field, value, row)
                self.values[field.column] = value
            except Refused as refused:
                self.problems[name] = refused.words

    def _check_free(self, field: Field, value: Any, row: Any) -> None:
        model = self.form.model
        taken: Select[Any] = select(model.id).where(
            getattr(model, field.column) == value
        )
        if row.id:
            taken = taken.where(model.id != row.id)
        if session().scalar(taken.limit(1)) is not None:
            raise field.refused("unique", _TAKEN)

    def save(self, row: Any) -> bool:
        """Stores the row, new or changed, unless something is wrong or somebody was faster."""
        if row.id and self._overtaken(row):
            return False
        if self.problems:
            return False
        for column, value in self.values.items():
            setattr(row, column, value)
        session().add(row)
        try:
            session().commit()
        except IntegrityError:
            # Somebody took a value or a row between the check and now.
            session().rollback()
            self.check(row)
            if not self.problems:
                raise
            return False
        return True

    def _overtaken(self, row: Any) -> bool:
        """Whether the stored row is no longer the one this form was opened with."""
        now = self.form.of(row)
        if self.seen == now.seen:
            return False
        self.conflict = True
        for name, field in self.form.fields.items():
            if self.typed[name] != now.typed[name] and name not in self.problems:
                labels = dict(field.choices(now.typed[name]))
                stored = labels.get(now.typed[name], now.typed[name] or show(None))
                self.problems[name] = f"Stored meanwhile: {stored}"
        self.seen = now.seen
        return True


def _digest(typed: dict[str, str]) -> str:
    text = "\x1f".join(f"{name}={value}" for name, value in typed.items())
    return hashlib.sha256(text.encode()).hexdigest()[:16]
