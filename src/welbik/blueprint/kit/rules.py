"""Rules over whole rows, and over rows that belong together: held from every side."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping, Sequence
from dataclasses import dataclass
from typing import Any

import sqlalchemy as sa
from sqlalchemy import orm

from .database import session

_NAMED = 5
_AT_ONCE = 10_000
"""Keys in one query: databases limit how many values it may hold."""

Link = Callable[[Any], Any]


@dataclass(frozen=True)
class Watch:
    """Rows of `model` that a rule reads besides its own.

    `link` gives the condition, on the rule's own rows, that they read a certain row of
    `model`; `reads` names the fields of it that matter.
    """

    model: Any
    link: Link
    reads: Sequence[str] = ()


@dataclass(frozen=True, kw_only=True)
class Rule:
    """What must not be false.

    `broken` tells it of a filled-in form; `rows` is the condition that tells it of stored
    rows, for rules that read other rows. `at` names the field that it is shown at.
    """

    says: str
    at: str = ""
    broken: Callable[[Any], bool] | None = None
    rows: Any = None
    watches: Sequence[Watch] = ()


@dataclass(frozen=True)
class Broken:
    """A rule that a change would break: what it says, where, and the other rows that break it."""

    rule: Rule
    at: str
    rows: Sequence[Any] = ()

    @property
    def words(self) -> str:
        if not self.rows:
            return self.rule.says
        shown = ", ".join(map(str, self.rows[:_NAMED]))
        more = " and more" if len(self.rows) > _NAMED else ""
        return f"{self.rule.says} ({type(self.rows[0]).SINGULAR} {shown}{more})"


_rules: dict[Any, Sequence[Rule]] = {}
_watching: dict[Any, list[tuple[Any, Rule, Watch]]] = {}


def of(model: Any, *rules: Rule) -> Sequence[Rule]:
    """The rules of a model; those that read rows of other models are kept in mind there too."""
    _rules[model] = rules
    for rule in rules:
        for watch in rule.watches:
            _watching.setdefault(watch.model, []).append((model, rule, watch))
    return rules


def alone(rules: Sequence[Rule], row: Any) -> Iterator[Rule]:
    """The rules that a row breaks by itself; those that need what is missing are passed over."""
    for rule in rules:
        if rule.broken is None:
            continue
        try:
            if rule.broken(row):
                yield rule
        except Missing:
            continue


class Missing(Exception):
    """A value that could not be read: what needs it can't be told."""


@dataclass(frozen=True)
class Touched:
    """Rows of `model`, by their keys, whose rule reads rows that are about to go."""

    model: Any
    rule: Rule
    keys: Sequence[Any]


def touched(gone: Mapping[Any, Any]) -> list[Touched]:
    """What must be asked once rows are gone, which statements select by model."""
    found = []
    for other, keys in gone.items():
        for model, rule, watch in _watching.get(other, ()):
            read = orm.aliased(other)
            rows = sa.select(model.id).distinct()
            rows = rows.select_from(sa.join(read, model, watch.link(read)))
            rows = rows.where(read.id.in_(keys))
            if model in gone:
                rows = rows.where(model.id.not_in(gone[model]))
            found.append(Touched(model, rule, session().scalars(rows).all()))
    return [one for one in found if one.keys]


def broken_by(touched: Sequence[Touched]) -> Iterator[Broken]:
    """The rules that do not hold any more for the rows that were touched."""
    for one in touched:
        found: list[Any] = []
        for start in range(0, len(one.keys), _AT_ONCE):
            some = one.model.id.in_(one.keys[start : start + _AT_ONCE])
            rows = sa.select(one.model).where(some, one.rule.rows).limit(_NAMED + 1)
            found += session().scalars(rows)
        if found:
            yield Broken(one.rule, "", found)


class Change:
    """A change to a row: begun before it, and asked after it is in the transaction."""

    def __init__(self, row: Any) -> None:
        self.row = row
        self.is_new = row.id is None
        self._before = [] if self.is_new else self._links()

    def _links(self) -> list[tuple[Any, Rule, Watch, Any]]:
        found = _watching.get(type(self.row), ())
        return [
            (model, rule, watch, watch.link(self.row)) for model, rule, watch in found
        ]

    def broken(self, fields: Sequence[str]) -> Iterator[Broken]:
        """The rules that do not hold any more, for the row itself and for others."""
        yield from self._own()
        after = self._links()
        for model, rule, watch in _watching.get(type(self.row), ()):
            links = [link for m, r, w, link in (*self._before, *after) if w is watch]
            if not links:
                continue
            rows = sa.select(model).where(sa.or_(*links), rule.rows).limit(_NAMED + 1)
            found = [
                other for other in session().scalars(rows) if other is not self.row
            ]
            if found:
                at = next((name for name in watch.reads if name in fields), "")
                yield Broken(rule, at, found)

    def _own(self) -> Iterator[Broken]:
        model = type(self.row)
        for rule in _rules.get(model, ()):
            if rule.rows is None or rule.broken is not None:
                continue
            mine = sa.select(model.id).where(model.id == self.row.id, rule.rows)
            if session().scalar(mine) is not None:
                yield Broken(rule, rule.at)
