"""Forms: read what was typed, say what is wrong with it, save it."""

from __future__ import annotations

import hashlib
from collections.abc import Sequence
from typing import Any, NamedTuple

from flask import request
from sqlalchemy import Select, select
from sqlalchemy.exc import IntegrityError

from . import history, rules
from .database import live, session
from .fields import Field, Many, Reference, Refused
from .show import show

_TAKEN = "This is taken already: it must be different for each."
_LOOP = "This would make it its own ancestor."


class Unique(NamedTuple):
    """Fields whose values together differ from row to row."""

    names: Sequence[str]
    says: str = ""


class Form:
    """The fields of a model's form, in order, and what holds between them."""

    def __init__(
        self,
        model: Any,
        *fields: Field,
        rules: Sequence[rules.Rule] = (),
        unique: Sequence[Unique] = (),
    ) -> None:
        self.model = model
        self.fields = {field.name: field for field in fields}
        self.rules = rules
        self.unique = unique

    def entry(self, row: Any) -> Entry:
        """The form of this request: sent, or to be filled in for a row, stored or new."""
        if request.method == "POST":
            return self.read(row)
        return self.of(row) if row.id is not None else self.blank()

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
        return Entry(self, typed, seen=_digest(typed) if row.id is not None else "")

    def read(self, row: Any) -> Entry:
        """What this request sent: only declared fields are looked at, fixed ones only once."""
        stored = self.of(row).typed if row.id is not None else {}
        typed = {
            name: stored[name]
            if field.fixed and stored
            else field.sent(request.form, request.files)
            for name, field in self.fields.items()
        }
        entry = Entry(self, typed, seen=request.form.get("_seen", ""))
        entry.check(row)
        return entry


class Entry:
    """A filled-in form: what was typed, the values it stands for, what is wrong.

    `problems` has words by field; those of the whole row stand under an empty name.
    """

    def __init__(self, form: Form, typed: dict[str, str], seen: str = "") -> None:
        self.form = form
        self.typed = typed
        self.seen = seen
        self.values: dict[str, Any] = {}
        self.problems: dict[str, str] = {}
        self.links: list[Any] = []
        self.conflict = False

    @property
    def status(self) -> int:
        """The HTTP status of the page that shows this entry."""
        if self.conflict:
            return 409
        return 422 if self.problems else 200

    def check(self, row: Any) -> None:
        """Reads every field, then asks what must be unique, and every rule."""
        for name, field in self.form.fields.items():
            try:
                self.values[field.column] = field.read(self.typed[name])
            except Refused as refused:
                self.problems[name] = refused.words
        for field in self.form.fields.values():
            field.complete(self.values, row)
        for name, field in self.form.fields.items():
            value = self.values.get(field.column)
            if field.unique and value is not None:
                self._check_free([field], row, field.messages.get("unique", _TAKEN))
            if isinstance(field, Reference) and field.is_loop(row, self.values):
                self.problems[name] = _LOOP
        for unique in self.form.unique:
            fields = [self.form.fields[name] for name in unique.names]
            if all(self.values.get(field.column) is not None for field in fields):
                self._check_free(fields, row, unique.says or _TAKEN)
        for rule in rules.alone(self.form.rules, _Filled(self, row)):
            self._add(rule.at, rule.says)

    def _add(self, at: str, words: str) -> None:
        self.problems.setdefault(at if at in self.form.fields else "", words)

    def _check_free(self, fields: Sequence[Field], row: Any, words: str) -> None:
        model = self.form.model
        taken: Select[Any] = live(select(model.id), model)
        for field in fields:
            taken = taken.where(
                getattr(model, field.column) == self.values[field.column]
            )
        if row.id is not None:
            taken = taken.where(model.id != row.id)
        if session().scalar(taken.limit(1)) is not None:
            self.problems.setdefault(fields[-1].name, words)

    def save(self, row: Any) -> bool:
        """Stores the row, new or changed, unless something is wrong or somebody was faster."""
        if row.id is not None and self._overtaken(row):
            return False
        if self.problems:
            return False
        try:
            return self._store(row)
        except IntegrityError:
            # Somebody took a value or a row between the check and now.
            session().rollback()
            self.check(row)
            if not self.problems:
                raise
            return False

    def _store(self, row: Any) -> bool:
        change = rules.Change(row)
        before = {} if change.is_new else self._shown(self.form.of(row).typed)
        for column, value in self.values.items():
            setattr(row, column, value)
        session().add(row)
        session().flush()
        broken = list(change.broken(list(self.form.fields)))
        for found in broken:
            self._add(found.at, found.words)
            self.links += found.rows
        if broken:
            # Names are read before the rows of this transaction are gone.
            self.links = [Link.to(other) for other in self.links]
            session().rollback()
            if change.is_new:
                row.id = None
            return False
        if hasattr(row, "HISTORY"):
            history.note(row, before, self._shown(self.typed))
        session().commit()
        return True

    def _shown(self, typed: dict[str, str]) -> dict[str, str]:
        """What was typed as people read it, by label."""
        found = {}
        for name, field in self.form.fields.items():
            if field.control in ("parts", "file"):
                continue
            parts = typed[name].split() if isinstance(field, Many) else [typed[name]]
            found[field.label] = ", ".join(map(field.told, parts))
        return found

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


class Link(NamedTuple):
    """A row as its name and the endpoint of its page, if it has one."""

    name: str
    endpoint: str
    url_part: str

    @classmethod
    def to(cls, row: Any) -> Link:
        return cls(str(row), f"{row.ENDPOINT}.view_page", row.url_part)


class _Filled:
    """A row as a filled-in form would leave it, for rules to read."""

    def __init__(self, entry: Entry, row: Any) -> None:
        self._entry = entry
        self._row = row

    def __getattr__(self, name: str) -> Any:
        entry = self._entry
        for field in entry.form.fields.values():
            related = isinstance(field, Reference) and name == field.name
            if name != field.column and not related:
                continue
            if field.column not in entry.values:
                raise rules.Missing
            value = entry.values[field.column]
            if isinstance(field, Reference) and related and value is not None:
                return session().get(field.target, value)
            return value
        return getattr(self._row, name)


def _digest(typed: dict[str, str]) -> str:
    text = "\x1f".join(f"{name}={value}" for name, value in typed.items())
    return hashlib.sha256(text.encode()).hexdigest()[:16]
