"""Forms: read what was typed, say what is wrong with it, save it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, NamedTuple
from urllib.parse import quote

from flask import abort, current_app, redirect, request, url_for
from sqlalchemy import Select, select
from sqlalchemy.exc import IntegrityError

from . import conflicts, guard, history, links, notes, parts, rules
from .attachments import File
from .database import live, session
from .fields import Field, Refused
from .relations import Many, Reference

_TAKEN = "This is taken already: it must be different for each."
_LOOP = "This would make it its own ancestor."
_OURS = {"_token", "_seen", "_once", "_take", "_return", parts.PARAMETER}


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
        uploads = sum(f.largest for f in fields if isinstance(f, File))
        guard.allow_body(uploads)

    def entry(self, row: Any) -> Entry:
        """The form of this request: sent, or to be filled in for a row, stored or new."""
        if request.method == "POST":
            return self.read(row)
        entry = self.of(row) if row.id is not None else self.blank(row)
        kept = notes.read(request.args.get("draft", ""))
        if (
            kept is not None
            and kept.get("token") == guard.token()
            and kept["path"] == request.path
        ):
            entry.typed |= {k: v for k, v in kept["typed"].items() if k in entry.typed}
            entry.seen = kept["seen"]
        return entry

    def blank(self, row: Any) -> Entry:
        """A new row: the defaults, what the address asks for (`?hive=3`), and its parent."""
        given = {name: field.first() for name, field in self.fields.items()}
        asked = {k: v for k, v in request.args.items() if k in self.fields}
        return Entry(self, given | asked | self._owned(row), once=notes.new_name())

    def _owned(self, row: Any) -> dict[str, str]:
        fields = self.fields.values()
        return {f.name: f.typed(getattr(row, f.column)) for f in fields if f.owned}

    def of(self, row: Any) -> Entry:
        """What a stored row would look like when typed."""
        typed = {
            name: field.typed(getattr(row, field.column))
            for name, field in self.fields.items()
        }
        return Entry(
            self, typed, seen=conflicts.digests(typed) if row.id is not None else ""
        )

    def read(self, row: Any) -> Entry:
        """What this request sent: only declared fields are looked at, fixed ones only once."""
        once = request.form.get("_once", "")
        if row.id is None and parts.asked() is None:
            self._sent_before(once)
        stored = self.of(row).typed if row.id is not None else {}
        taken = request.form.getlist("_take")
        typed = {
            name: stored[name]
            if stored and (field.fixed or name in taken)
            else field.sent(request.form, request.files)
            for name, field in self.fields.items()
        } | self._owned(row)
        self._log_others(stored)
        entry = Entry(self, typed, seen=request.form.get("_seen", ""), once=once)
        part = parts.asked()
        if part is not None and part[0] == "new":
            self._leave(entry, part[1])
        entry.check(row)
        return entry

    def _sent_before(self, once: str) -> None:
        """A form that was sent twice, as by a double click, makes one row: shows that one."""
        # The write lock comes first: whoever else sends this form has done so by now.
        session()
        kept = notes.read(once)
        ours = kept is not None and kept.get("model") == self.model.__tablename__
        there = session().get(self.model, kept["row"]) if ours else None
        if there is not None:
            abort(
                redirect(links.back(links.row_url(there) or url_for("start_page")), 303)
            )

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
        here = f"{request.path}?draft={draft}"
        if links.asked_return():
            # This form was come to from another, which waits for its row.
            here += f"&return-to={quote(links.asked_return(), safe='')}"
        back: dict[str, Any] = {"return-to": here}
        there = url_for(f"{field.target.ENDPOINT}.edit_page", **back)
        abort(redirect(there, 303))

    def _log_others(self, stored: dict[str, str]) -> None:
        fields = self.fields.values()
        closed = {f.name for f in fields if f.owned or (f.fixed and stored)}
        for key in (*request.form, *request.files):
            known = key in _OURS or any(f.owns(key) for f in fields)
            if key in closed or not known:
                current_app.logger.warning(
                    "A form for %s sent %r, which it does not ask for: ignored.",
                    self.model.__tablename__,
                    key[:80],
                )


class Entry:
    """A filled-in form: what was typed, the values it stands for, what is wrong.

    `problems` has words by field; those of the whole row stand under an empty name.
    `meanwhile` has what others stored since the form was opened.
    """

    def __init__(
        self, form: Form, typed: dict[str, str], seen: str = "", once: str = ""
    ) -> None:
        self.form = form
        self.typed = typed
        self.seen = seen
        self.once = once
        self.values: dict[str, Any] = {}
        self.problems: dict[str, str] = {}
        self.links: list[Any] = []
        self.meanwhile: list[conflicts.Difference] = []

    @property
    def status(self) -> int:
        """The HTTP status of the page that shows this entry."""
        if self.meanwhile:
            return 409
        return 422 if self.problems and not parts.asked() else 200

    @property
    def focus(self) -> str:
        """The first field with a problem: where one goes on."""
        if parts.asked():
            return ""
        return next((name for name in self.form.fields if name in self.problems), "")

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
        if parts.asked():
            return False
        if row.id is not None and self._overtaken(row):
            return False
        if self.problems:
            return False
        try:
            if not self.store(row):
                return False
        except IntegrityError:
            # Somebody took a value or a row between the check and now.
            session().rollback()
            self.check(row)
            if not self.problems:
                raise
            return False
        if self.once:
            # Before others get the lock: whoever sent the same form finds the row.
            notes.write(self.once, {"model": row.__tablename__, "row": row.id})
        session().commit()
        return True

    def store(self, row: Any) -> bool:
        """Puts the row into the transaction; false, and nothing done, if a rule breaks by it."""
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
        return True

    def _shown(self, typed: dict[str, str]) -> dict[str, str]:
        """What was typed as people read it, by label."""
        return {
            field.label: field.told(typed[name])
            for name, field in self.form.fields.items()
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
