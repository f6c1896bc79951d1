"""Forms that were sent already: each is noted in the transaction that stores its row."""

from __future__ import annotations

import datetime as dt
import hashlib
import json
import re
from collections.abc import Mapping
from typing import Any

import sqlalchemy as sa

from . import clock, tables
from .columns import Moment
from .database import Base, fetch, session
from .rows import key_of

_KEPT = dt.timedelta(days=1)
_NAME = re.compile(r"[A-Za-z0-9_-]{22}")

FORMS = sa.Table(
    "welbik_sent",
    Base.metadata,
    sa.Column("form", sa.String(64), primary_key=True),
    sa.Column("row", sa.String(254), nullable=False),
    sa.Column("sent_at", Moment(), nullable=False, index=True),
)
tables.ready(FORMS)


def name(once: str, model: Any, content: Mapping[str, str]) -> str:
    """What a form is known by: its own secret and all that is typed; empty without a secret.

    Going back to a form and typing something else makes another form of it.
    """
    if not _NAME.fullmatch(once):
        return ""
    text = json.dumps([once, model.__tablename__, sorted(content.items())])
    return hashlib.sha256(text.encode()).hexdigest()


def row_of(form: str, model: Any) -> Any:
    """The row that a form made before; None where it made none, or the row is gone."""
    kept = sa.select(FORMS.c.row).where(FORMS.c.form == form)
    key = session().scalar(kept) if form else None
    return None if key is None else fetch(model, key_of(model, key))


def note(form: str, row: Any) -> None:
    """Writes down which row a form made; forgets what was sent long ago."""
    if not form:
        return
    old = sa.or_(FORMS.c.sent_at < clock.now() - _KEPT, FORMS.c.form == form)
    session().execute(FORMS.delete().where(old))
    values = {"form": form, "row": str(row.id), "sent_at": clock.now()}
    session().execute(FORMS.insert().values(values))
