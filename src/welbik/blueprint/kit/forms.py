"""Forms: what a model asks for, filled in by a row, by an address, or by a request."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from flask import current_app, request
from sqlalchemy import select

from . import drafts, fragments, guard, notes, rules
from .database import live, session
from .entries import Asked, Unique
from .fields import Field
from .rows import key_of
from .saving import Entry

__all__ = ["Entry", "Form", "Unique"]

_NAMED = 5
_OURS = {
    "_token",
    "_seen",
    "_once",
    "_take",
    "_return",
    "_list",
    fragments.PARAMETER,
    "_then",
}


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
        self.fields = {field.name: field.of(model.__tablename__) for field in fields}
        self.asked = Asked(model, self.fields, rules, unique)
        guard.allow_body(sum(field.room() for field in fields))
        if model.HISTORY:
            model.HISTORY.labels = {field.name: field.label for field in fields}

    def entry(self, row: Any) -> Entry:
        """The form of this request: sent, or to be filled in for a row, stored or new."""
        if request.method == "POST":
            return self.read(row)
        entry = self.of(row) if row.id is not None else self.blank(row)
        if row.id is not None and row.HISTORY:
            version = request.args.get("_version", "")
            entry.take_back(row.HISTORY.before(row, version))
        drafts.come_back(entry)
        return entry

    def blank(self, row: Any) -> Entry:
        """A new row: the defaults, what the address asks for (`?hive=3`), and its parent."""
        given = {name: field.first() for name, field in self.fields.items()}
        given |= self._copied()
        asked = {k: v for k, v in request.args.items() if k in self.fields}
        return Entry(
            self.asked, given | asked | self._owned(row), once=notes.new_name()
        )

    def _copied(self) -> dict[str, str]:
        """What a copy of another row has of it: all but what is its own alone."""
        key = key_of(self.model, request.args.get("_copy", ""))
        rows = live(select(self.model).where(self.model.id == key), self.model)
        row = None if key is None else session().scalar(rows)
        if row is None:
            return {}
        fields = self.fields.items()
        own = {n for n, f in fields if f.unique or f.address or not f.copied}
        return {n: f.typed(getattr(row, f.column)) for n, f in fields if n not in own}

    def _owned(self, row: Any) -> dict[str, str]:
        fields = self.fields.values()
        return {f.name: f.typed(getattr(row, f.column)) for f in fields if f.owned}

    def of(self, row: Any) -> Entry:
        """What a stored row would look like when typed."""
        typed = self.asked.typed(row)
        if row.id is None:
            return Entry(self.asked, typed)
        seen = self.asked.digests(typed)
        return Entry(self.asked, typed, seen=seen, stored=dict(typed))

    def read(self, row: Any) -> Entry:
        """What this request sent: only declared fields are looked at, fixed ones only once."""
        if fragments.asked() is None:
            # The write lock comes first: whoever else sends this form has done so by then.
            session()
        stored = self.of(row).typed if row.id is not None else {}
        taken = request.form.getlist("_take")
        typed = {
            name: stored[name]
            if stored and (field.fixed or name in taken)
            else field.sent(request.form, request.files)
            for name, field in self.fields.items()
        } | self._owned(row)
        self._log_others(stored)
        entry = Entry(
            self.asked,
            typed,
            seen=request.form.get("_seen", ""),
            once=request.form.get("_once", ""),
            stored=stored,
        )
        part = fragments.asked()
        if row.id is None and part is None and not guard.is_stale():
            entry.go_to_sent()
        if part is not None and part[0] == "new" and not guard.is_stale():
            entry.leads_to = drafts.leave(entry, part[1])
        entry.check(row)
        return entry

    def _log_others(self, stored: dict[str, str]) -> None:
        fields = self.fields.values()
        closed = {f.name for f in fields if f.owned or (f.fixed and stored)}
        others = [
            key[:80]
            for key in filter(None, (*request.form, *request.files))
            if key in closed or not (key in _OURS or any(f.owns(key) for f in fields))
        ]
        if others:
            more = f" and {len(others) - _NAMED} more" if len(others) > _NAMED else ""
            current_app.logger.warning(
                "A form for %s sent %s%s, which it does not ask for: ignored.",
                self.model.__tablename__,
                ", ".join(map(repr, others[:_NAMED])),
                more,
            )
