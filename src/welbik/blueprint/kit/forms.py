"""Forms: read what was typed, say what is wrong with it, save it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Sequence
from dataclasses import replace
from typing import Any, NamedTuple
from urllib.parse import quote

from flask import abort, current_app, flash, g, redirect, request, url_for
from sqlalchemy import Select, select
from sqlalchemy.exc import IntegrityError

from . import (
    conflicts,
    guard,
    history,
    keys,
    links,
    notes,
    parts,
    places,
    rules,
    sent,
    sweeping,
    uploads,
)
from .attachments import File
from .database import live, session
from .fields import Field, Refused, Slug
from .relations import Many, Reference, key_of

_TAKEN = "This is taken already: it must be different for each."
_LOOP = "This would make it its own ancestor."
_NAMED = 5
_OURS = {"_token", "_seen", "_once", "_take", "_return", parts.PARAMETER, "_then"}


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
        held_by = model.__tablename__
        self.fields = {
            field.name: replace(field, held_by=held_by)
            if isinstance(field, File)
            else field
            for field in fields
        }
        self.rules = rules
        self.unique = unique
        guard.allow_body(sum(f.largest for f in fields if isinstance(f, File)))
        history.label(model, {field.name: field.label for field in fields})

    def entry(self, row: Any) -> Entry:
        """The form of this request: sent, or to be filled in for a row, stored or new."""
        if request.method == "POST":
            return self.read(row)
        entry = self.of(row) if row.id is not None else self.blank(row)
        if row.id is not None:
            entry.take_back(history.before(row, request.args.get("_version", "")))
        kept = notes.read(request.args.get("_draft", ""))
        if (
            kept is not None
            and kept.get("token") == guard.token()
            and kept["path"] == request.path
        ):
            entry.typed |= {k: v for k, v in kept["typed"].items() if k in entry.typed}
            entry.seen = kept["seen"]
            entry.begun = [kept["field"]]
        return entry

    def blank(self, row: Any) -> Entry:
        """A new row: the defaults, what the address asks for (`?hive=3`), and its parent."""
        given = {name: field.first() for name, field in self.fields.items()}
        given |= self._copied()
        asked = {k: v for k, v in request.args.items() if k in self.fields}
        return Entry(self, given | asked | self._owned(row), once=notes.new_name())

    def _copied(self) -> dict[str, str]:
        """What a copy of another row has of it: all but what is its own alone."""
        key = key_of(self.model, request.args.get("_copy", ""))
        rows = live(select(self.model).where(self.model.id == key), self.model)
        row = None if key is None else session().scalar(rows)
        if row is None:
            return {}
        fields = self.fields.items()
        own = {
            n for n, f in fields if f.unique or f.address or isinstance(f, File | Slug)
        }
        return {n: f.typed(getattr(row, f.column)) for n, f in fields if n not in own}

    def _owned(self, row: Any) -> dict[str, str]:
        fields = self.fields.values()
        return {f.name: f.typed(getattr(row, f.column)) for f in fields if f.owned}

    def of(self, row: Any) -> Entry:
        """What a stored row would look like when typed."""
        typed = {
            name: field.typed(getattr(row, field.column))
            for name, field in self.fields.items()
        }
        if row.id is None:
            return Entry(self, typed)
        return Entry(
            self, typed, seen=conflicts.digests(self.fields, typed), stored=dict(typed)
        )

    def values_of(self, row: Any) -> dict[str, Any]:
        """What a row holds for each field; lists as they are now."""
        found = {name: getattr(row, f.column) for name, f in self.fields.items()}
        return {k: [*v] if isinstance(v, list) else v for k, v in found.items()}

    def read(self, row: Any) -> Entry:
        """What this request sent: only declared fields are looked at, fixed ones only once."""
        if parts.asked() is None:
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
            self,
            typed,
            seen=request.form.get("_seen", ""),
            once=request.form.get("_once", ""),
            stored=stored,
        )
        part = parts.asked()
        if row.id is None and part is None and not guard.is_stale():
            entry.go_to_sent()
        if part is not None and part[0] == "new" and not guard.is_stale():
            self._leave(entry, part[1])
        entry.check(row)
        return entry

    def _leave(self, entry: Entry, name: str) -> None:
        """Goes to make a row to choose, and keeps this form as it is till then."""
        field = self.fields.get(name)
        if not isinstance(field, Reference | Many) or not links.can_make(field.target):
            abort(400)
        draft = notes.new_name()
        kept = {
            "typed": entry.typed,
            "seen": entry.seen,
            "path": request.path,
            "field": name,
        }
        notes.write(
            draft, {**kept, "token": guard.token(), "several": isinstance(field, Many)}
        )
        here = f"{request.path}?_draft={draft}"
        if links.asked_return():
            # This form was come to from another, which waits for its row.
            here += f"&_return={quote(links.asked_return(), safe='')}"
        back: dict[str, Any] = {"_return": here}
        there = url_for(f"{field.target.ENDPOINT}.edit_page", **back)
        abort(redirect(there, 303))

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


class Entry:
    """A filled-in form: what was typed, the values it stands for, what is wrong.

    `problems` has words by field; those of the whole row stand under an empty name.
    `stored` is what the row holds as it would be typed; `meanwhile` has what others stored
    since the form was opened.
    """

    def __init__(
        self,
        form: Form,
        typed: dict[str, str],
        seen: str = "",
        once: str = "",
        stored: dict[str, str] | None = None,
    ) -> None:
        self.form = form
        self.typed = typed
        self.stored = stored or {}
        self.seen = seen
        self.once = once
        self.values: dict[str, Any] = {}
        self.problems: dict[str, str] = {}
        self.links: list[Any] = []
        self.meanwhile: list[conflicts.Difference] = []
        # Where one goes on, coming back to a form.
        self.begun: list[str] = []
        # What is changed at one moment is taken back at once.
        self.moment: dt.datetime | None = None
        # The fields that hold what the row held earlier.
        self.earlier: list[str] = []

    @property
    def status(self) -> int:
        """The HTTP status of the page that shows this entry."""
        if guard.is_stale():
            return 403
        if self.meanwhile:
            return 409
        return 422 if self.problems and not parts.asked() else 200

    @property
    def focus(self) -> str:
        """The first field with a problem: where one goes on."""
        part = parts.asked()
        if part and part[0] != "look":
            return ""
        entered = [
            n
            for n, f in self.form.fields.items()
            if not f.owned and not (f.fixed and self.stored)
        ]
        wrong = [name for name in entered if name in self.problems]
        return next(iter([*wrong, *self.begun, *entered]), "")

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
            abort(redirect(links.back(shown, there), 303))

    def take_back(self, earlier: dict[str, str]) -> None:
        """Fills in what the row held earlier, to be looked over and saved."""
        fields = self.form.fields
        found = {n: t for n, t in earlier.items() if n in fields and t != self.typed[n]}
        for name, text in found.items():
            field = fields[name]
            if not (field.owned or field.fixed or isinstance(field, File)):
                self.typed[name] = text
                self.earlier.append(name)

    def _read(self, field: Field, row: Any) -> Any:
        """The value of a field: what was not touched stays exactly as it is stored."""
        text = self.typed[field.name]
        if field.name not in self.stored:
            return field.read(text)
        return field.change(text, getattr(row, field.column), self.stored[field.name])

    def check(self, row: Any) -> None:
        """Reads every field, then asks what must be unique, and every rule."""
        for name, field in self.form.fields.items():
            try:
                self.values[field.column] = self._read(field, row)
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
        part = parts.asked()
        if part is not None:
            kind, name = part
            wanted = {name} if kind == "check" else set()
            self.problems = {k: v for k, v in self.problems.items() if k in wanted}

    def _add(self, at: str, words: str) -> None:
        shown = at in self.form.fields and not self.form.fields[at].owned
        self.problems.setdefault(at if shown else "", words)

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
            self._add(fields[-1].name, words)

    def save(self, row: Any) -> bool:
        """Stores the row, new or changed, unless something is wrong or somebody was faster."""
        if parts.asked() or guard.is_stale():
            return False
        if row.id is not None and self._overtaken(row):
            return False
        if self.problems:
            return False
        change_of_old = row.id is not None
        noted = history.last(row) if change_of_old else 0
        try:
            if not self.store(row):
                return False
            self._settle_uploads(row)
            session().commit()
            if request.form.get("_then") == "new":
                g.again = self._kept_for_next()
            sweeping.sweep()
            if change_of_old and hasattr(row, "HISTORY"):
                self._offer_undo(row, noted)
        except IntegrityError:
            # Somebody took a value or a row between the check and now, or sent this form.
            session().rollback()
            self.go_to_sent()
            self.check(row)
            if not self.problems:
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
        number = history.last(row)
        if number != noted:
            flash(f"{links.edit_url(row)}?_version={number}", "version")

    def _kept_for_next(self) -> dict[str, str]:
        """What the next row is likely to have too: what this one is related to."""
        fields = self.form.fields.items()
        related = [
            n
            for n, f in fields
            if isinstance(f, Reference) and not (f.owned or f.unique)
        ]
        return {name: self.typed[name] for name in related if self.typed[name]}

    def _settle_uploads(self, row: Any) -> None:
        for field in self.form.fields.values():
            upload = getattr(row, field.column) if isinstance(field, File) else None
            if upload is not None:
                uploads.settle(upload.digest)

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
        if hasattr(row, "HISTORY"):
            told = self._told(before, self.form.values_of(row))
            history.note(row, told, self.moment)
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
        now = self.form.of(row)
        if self.seen == now.seen:
            return False
        self.meanwhile = conflicts.between(
            self.form.fields, self.typed, self.seen, now.typed
        )
        for found in self.meanwhile:
            if not found.both:
                self.typed[found.name] = now.typed[found.name]
                self.problems.pop(found.name, None)
        self.seen = now.seen
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
