"""Which rows were chosen: those that were ticked, or all that a list's address asks for."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

import sqlalchemy as sa
from flask import request

from . import filters, texts
from .database import live, session
from .listing import Listing, batched
from .lists import List
from .rows import key_of

MOST = 2_000
"""So many rows may be changed at once."""
_SOME = 500


class TooMany(Exception):
    """More rows match than may be changed at once."""


def keys(model: Any, kind: List | None) -> list[Any]:
    """The keys of the rows that this request chose; TooMany beyond what may be."""
    query = request.values.get("_all", "")
    if query and kind is not None:
        found = Listing(kind, asked=query.removeprefix("?")).keys(MOST + 1)
    else:
        texts = request.values.getlist("_row")
        texts += _parts(request.values.get("_rows", ""))
        known = (key_of(model, text) for text in texts)
        found = list(dict.fromkeys(key for key in known if key is not None))
    if len(found) > MOST:
        raise TooMany
    return found


def _parts(text: str) -> list[str]:
    try:
        return filters.several(text)
    except ValueError:
        return []


def rows(model: Any, keys: Sequence[Any]) -> list[Any]:
    """The rows of some keys that are there, in the order of their names."""
    found: dict[Any, Any] = {}
    for some in batched(keys, _SOME):
        those = live(sa.select(model), model).where(model.id.in_(some))
        those = those.options(*texts.deferred(model))
        found |= {row.id: row for row in session().scalars(those)}
    if len(found) > _SOME:
        return list(found.values())
    names = live(model.in_order(), model).where(model.id.in_(found))
    names = names.options(*texts.deferred(model))
    return list(session().scalars(names))


def told(keys: Sequence[Any]) -> str:
    """Keys in one text of a form, as `keys` reads them."""
    return filters.written([str(key) for key in keys])
