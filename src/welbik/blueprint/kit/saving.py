"""Forms that are stored: each change whole or not at all, with what it tells of itself."""

from __future__ import annotations

from typing import Any, NamedTuple

from flask import flash, g, request, url_for
from sqlalchemy.exc import IntegrityError

from . import (
    conflicts,
    fragments,
    guard,
    keys,
    links,
    places,
    rules,
    sent,
)
from .database import session, stored
from .entries import Filled
from .fields import Field


class Entry(Filled):
    """A filled-in form that stores its row."""

    @property
    def sent(self) -> str:
        """What this form is known by once it is sent; empty for one that changes a row."""
        fields = self.form.fields.items()
        content = {name: field.flat(self.typed[name]) for name, field in fields}
        return "" if self.stored else sent.name(self.once, self.form.model, content)

    def go_to_sent(self) -> None:
        """A form that was sent twice, as by a double click, makes one row: shows that one."""
        there = sent.row_of(self.sent, self.form.model)
        if there is not None:
            shown = links.row_url(there) or url_for("start_page")
            self.leads_to = links.back(shown, there)

    def save(self, row: Any) -> bool:
        """Stores the row, new or changed, unless something is wrong or somebody was faster."""
        if fragments.asked() or guard.is_stale() or self.leads_to:
            return False
        if row.id is not None and self._overtaken(row):
            return False
        if self.problems:
            return False
        change_of_old = row.id is not None
        kept = row.HISTORY if change_of_old else None
        noted = kept.last(row) if kept else 0
        try:
            if not self.store(row):
                return False
            for field in self.form.fields.values():
                field.settle(row)
            session().commit()
            if request.form.get("_then") == "new":
                g.again = self._kept_for_next()
            stored()
            if kept:
                self._offer_undo(row, noted)
        except IntegrityError:
            # Somebody took a value or a row between the check and now, or sent this form.
            session().rollback()
            self.go_to_sent()
            self.check(row)
            if not self.problems and not self.leads_to:
                raise
            return False
        return True

    def after(self, row: Any, otherwise: str) -> str:
        """Where to go once it is saved: on to the next one, or back to where one came from."""
        if self.stored:
            otherwise = places.after(row, otherwise)
        return links.back(otherwise, row)

    def _offer_undo(self, row: Any, noted: int) -> None:
        """The notice of a change leads to the form as it was before, where anything changed."""
        number = row.HISTORY.last(row)
        if number != noted:
            flash(f"{links.edit_url(row)}?_version={number}", "version")

    def _kept_for_next(self) -> dict[str, str]:
        """What the next row is likely to have too: what this one is related to."""
        fields = self.form.fields.items()
        related = [n for n, f in fields if f.refers and not (f.owned or f.unique)]
        return {name: self.typed[name] for name in related if self.typed[name]}

    def store(self, row: Any) -> bool:
        """Puts the row into the transaction; false, and nothing done, if a rule breaks by it."""
        change = rules.Change(row)
        before = {} if change.is_new else self.form.values_of(row)
        key = row.id
        with session().no_autoflush:
            for column, value in self.values.items():
                setattr(row, column, value)
        session().add(row)
        if not change.is_new and row.id != key:
            keys.follow(row, key)
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
        if row.HISTORY:
            told = self._told(before, self.form.values_of(row))
            row.HISTORY.note(row, told, self.moment)
        if change.is_new:
            sent.note(self.sent, row)
        return True

    def _told(
        self, before: dict[str, Any], after: dict[str, Any]
    ) -> dict[str, list[str]]:
        """What was and what became of the fields that changed, as people read it."""
        return {
            name: _both(field, before.get(name), after[name])
            for name, field in self.form.fields.items()
            if (before.get(name) or None) != (after[name] or None)
            or (name in before and before[name] != after[name])
        }

    def _overtaken(self, row: Any) -> bool:
        """Whether others changed the row since the form was opened; what they left is taken over.

        Their changes to other fields are kept beside one's own. Where both changed the same
        field, both values are shown.
        """
        now = self.form.typed(row)
        seen = self.form.digests(now)
        if self.seen == seen:
            return False
        self.meanwhile = conflicts.between(self.form.fields, self.typed, self.seen, now)
        for found in self.meanwhile:
            if not found.both:
                self.typed[found.name] = now[found.name]
                self.problems.pop(found.name, None)
        self.seen = seen
        return bool(self.meanwhile)


def _both(field: Field, before: Any, after: Any) -> list[str]:
    """Two values of a field as people read them, then as its control holds them."""
    typed = [field.typed(value) for value in (before, after)]
    return [*map(field.told, typed), *typed]


class Link(NamedTuple):
    """A row as its name and the endpoint of its page, if it has one."""

    name: str
    endpoint: str
    url_part: str

    @classmethod
    def to(cls, row: Any) -> Link:
        return cls(str(row), f"{row.ENDPOINT}.view_page", row.url_part)
