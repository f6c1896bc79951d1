"""What the first page tells: how many rows there are of each model, and where to begin."""

from __future__ import annotations

import sqlalchemy as sa
from flask import current_app, url_for

from . import counting
from .database import Base, live, session
from .links import can_make
from .show import upper

_BEGIN_MOST = 3


def count_rows() -> dict[str, str]:
    """How many rows each list has, by its endpoint: one query for all."""
    models = {f"{m.class_.ENDPOINT}.list_page": m.class_ for m in Base.registry.mappers}
    listed = {e: m for e, m in models.items() if e in current_app.view_functions}
    if not listed:
        return {}
    asked = [counting.count(live(sa.select(m), m), m) for m in listed.values()]
    found = session().execute(sa.select(*asked)).one()
    return dict(zip(listed, map(counting.told, found), strict=True))


def begin_with() -> list[tuple[str, str]]:
    """The first models that need no other, with the pages that make their rows."""
    found = []
    for mapper in Base.registry.mappers:
        model = mapper.class_
        keys = [
            c for c in mapper.local_table.columns if c.foreign_keys and not c.nullable
        ]
        if not keys and can_make(model):
            found.append((upper(model.PLURAL), url_for(f"{model.ENDPOINT}.edit_page")))
    return sorted(found)[:_BEGIN_MOST]
