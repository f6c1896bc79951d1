"""Filled-in forms: what was typed, what it stands for, what is wrong with it."""

from __future__ import annotations

import datetime as dt
from collections.abc import Mapping, Sequence
from typing import Any, NamedTuple

from sqlalchemy import Select, select

from . import conflicts, fragments, guard, rules
from .database import fetch, live, session
from .fields import Field, Refused

TAKEN = "This is taken already: it must be different for each."
_LOOP = "This would make it its own ancestor."


class Unique(NamedTuple):
    """Fields whose values together differ from row to row."""

    names: Sequence[str]
    says: str = ""


class Asked(NamedTuple):
    """What a form asks for: the fields of a model in order, and what holds between them."""

    model: Any
    fields: Mapping[str, Field]
    rules: Sequence[rules.Rule] = ()
    unique: Sequence[Unique] = ()

    def typed(self, row: Any) -> dict[str, str]:
        """What a row would look like when typed."""
        return {
            name: f.typed(getattr(row, f.column)) for name, f in self.fields.items()
        }

    def values_of(self, row: Any) -> dict[str, Any]:
        """What a row holds for each field; lists as they are now."""
        found = {name: getattr(row, f.column) for name, f in self.fields.items()}
        return {k: [*v] if isinstance(v, list) else v for k, v in found.items()}

    def digests(self, typed: Mapping[str, str]) -> str:
        """What the fields hold, told apart without telling it."""
        return conflicts.digests(self.fields, typed)


class Filled:
    """A filled-in form: what was typed, the values it stands for, what is wrong.

    `problems` has words by field; those of the whole row stand under an empty name.
    `stored` is what the row holds as it would be typed; `meanwhile` has what others stored
    since the form was opened; `leads_to` is where to go instead of showing the form.
    """

    def __init__(
        self,
        form: Asked,
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
        self.leads_to = ""

    @property
    def status(self) -> int:
        """The HTTP status of the page that shows this entry."""
        if guard.is_stale():
            return 403
        if self.meanwhile:
            return 409
        return 422 if self.problems and not fragments.asked() else 200

    @property
    def focus(self) -> str:
        """The first field with a problem: where one goes on."""
        part = fragments.asked()
        if part and part[0] != "look":
            return ""
        entered = [
            n
            for n, f in self.form.fields.items()
            if not f.owned and not (f.fixed and self.stored)
        ]
        wrong = [name for name in entered if name in self.problems]
        return next(iter([*wrong, *self.begun, *entered]), "")

    def take_back(self, earlier: dict[str, str]) -> None:
        """Fills in what the row held earlier, to be looked over and saved."""
        fields = self.form.fields
        found = {n: t for n, t in earlier.items() if n in fields and t != self.typed[n]}
        for name, text in found.items():
            field = fields[name]
            if not (field.owned or field.fixed or not field.returns):
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
                self._check_free([field], row, field.messages.get("unique", TAKEN))
            if field.is_loop(row, self.values):
                self.problems[name] = _LOOP
        for unique in self.form.unique:
            fields = [self.form.fields[name] for name in unique.names]
            if all(self.values.get(field.column) is not None for field in fields):
                self._check_free(fields, row, unique.says or TAKEN)
        for rule in rules.alone(self.form.rules, _Seen(self, row)):
            self._add(rule.at, rule.says)
        part = fragments.asked()
        if part is not None:
            kind, name = part
            wanted = {name} if kind == "check" else set()
            self.problems = {k: v for k, v in self.problems.items() if k in wanted}

    def _add(self, at: str, words: str) -> None:
        shown = at in self.form.fields and not self.form.fields[at].owned
        self.problems.setdefault(at if shown else "", words)

    def _check_free(self, fields: Sequence[Field], row: Any, words: str) -> None:
        model = self.form.model
        taken: Select[Any] = select(model.id)
        # A key is taken by a row in the bin, too.
        keys = [column.name for column in model.__table__.primary_key]
        if keys != [
            getattr(model, f.column).property.columns[0].name
            for f in fields
            if not f.several
        ]:
            taken = live(taken, model)
        for field in fields:
            taken = taken.where(
                getattr(model, field.column) == self.values[field.column]
            )
        if row.id is not None:
            taken = taken.where(model.id != row.id)
        if session().scalar(taken.limit(1)) is not None:
            self._add(fields[-1].name, words)


class _Seen:
    """A row as a filled-in form would leave it, for rules to read."""

    def __init__(self, entry: Filled, row: Any) -> None:
        self._entry = entry
        self._row = row

    def __getattr__(self, name: str) -> Any:
        entry = self._entry
        field: Any
        for field in entry.form.fields.values():
            related = field.refers and name == field.name
            if name != field.column and not related:
                continue
            if field.column not in entry.values:
                raise rules.Missing
            value = entry.values[field.column]
            if related and value is not None:
                return fetch(field.target, value)
            return value
        return getattr(self._row, name)
