"""What the first page tells: how many rows each model has, where to begin, what changed last.

And where a row is, by a part of its name, whatever it is a row of.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from typing import Any, NamedTuple

import sqlalchemy as sa
from flask import current_app, url_for

from . import counting
from .database import every_model, live, session
from .links import can_make
from .rows import key_of
from .show import upper

_BEGIN_MOST = 3
_RECENT_MOST = 8
_FOUND_MOST = 8
_LONGEST = 200
_MOMENT = dt.timedelta(seconds=1)


class Change(NamedTuple):
    """A row that changed, and when; `made` where it was new then."""

    row: Any
    at: dt.datetime
    made: bool


class Found(NamedTuple):
    """Rows of a model whose names have what was looked for, and whether there are more."""

    model: Any
    rows: list[Any]
    more: bool


def count_rows() -> dict[str, str]:
    """How many rows each list has, by its endpoint: one query for all."""
    every = {f"{model.ENDPOINT}.list_page": model for model in every_model()}
    listed = {e: m for e, m in every.items() if e in current_app.view_functions}
    if not listed:
        return {}
    asked = [counting.count(live(sa.select(m), m), m) for m in listed.values()]
    found = session().execute(sa.select(*asked)).one()
    return dict(zip(listed, map(counting.told, found), strict=True))


def begin_with() -> list[tuple[str, str]]:
    """The first models that need no other, with the pages that make their rows."""
    found = []
    for model in every_model():
        keys = [c for c in model.__table__.columns if c.foreign_keys and not c.nullable]
        if not keys and can_make(model):
            found.append((upper(model.PLURAL), url_for(f"{model.ENDPOINT}.edit_page")))
    return sorted(found)[:_BEGIN_MOST]


def _viewed() -> Iterator[Any]:
    """The models whose rows have a page."""
    for model in every_model():
        if f"{model.ENDPOINT}.view_page" in current_app.view_functions:
            yield model


def recent() -> list[Change]:
    """The rows that changed last, of all models that keep when they did: one query finds them."""
    models = {model.ENDPOINT: model for model in _viewed()}
    asked = [one for name, model in models.items() for one in _changes(name, model)]
    if not asked:
        return []
    some = sa.union_all(*(sa.select(one.subquery()) for one in asked)).subquery()
    last = sa.select(some).order_by(some.c.at.desc()).limit(3 * _RECENT_MOST)
    found: dict[Any, Change] = {}
    for name, key, at in session().execute(last):
        model = models[name]
        rows = live(sa.select(model), model).where(model.id == key_of(model, key))
        row = session().scalar(rows)
        if row is not None:
            found.setdefault(row, Change(row, at, _is_new(row)))
        if len(found) == _RECENT_MOST:
            break
    return list(found.values())


def _changes(name: str, model: Any) -> Iterator[sa.Select[Any]]:
    """The last changes of a model's rows, where they are kept."""
    called = sa.literal(name).label("name")
    if model.HISTORY:
        kept = model.HISTORY.table
        key, at = kept.c.row, kept.c.changed_at
    elif hasattr(model, "updated_at"):
        key, at = sa.cast(model.id, sa.String(254)), model.updated_at
    else:
        return
    some = sa.select(called, key.label("key"), at.label("at"))
    yield some.order_by(at.desc()).limit(3 * _RECENT_MOST)


def _is_new(row: Any) -> bool:
    """Whether a row was made when it was last changed: the two are told a moment apart."""
    made = getattr(row, "created_at", None)
    return made is not None and row.updated_at - made < _MOMENT


def find_rows(text: str) -> list[Found]:
    """The rows whose names have every word of a text, by model."""
    text = " ".join(text.replace("\0", "").split())[:_LONGEST]
    if not text:
        return []
    found = []
    for model in _viewed():
        named = live(model.in_order(text), model).limit(_FOUND_MOST + 1)
        rows = list(session().scalars(named))
        if rows:
            found.append(Found(model, rows[:_FOUND_MOST], len(rows) > _FOUND_MOST))
    return sorted(found, key=lambda one: one.model.PLURAL)
