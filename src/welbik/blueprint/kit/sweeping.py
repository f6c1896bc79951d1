"""Clearing away uploads that no row has any more: of removed rows, and replaced ones."""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from contextlib import suppress
from typing import Any

from sqlalchemy import select

from . import shelves, uploads
from .database import Base, session

_KEPT_SECONDS = 2 * shelves.KEPT_SECONDS
_EVERY_SECONDS = 3600
_MOST = 500


def sweep() -> None:
    """Looks, at most once an hour, which of some older uploads no row has: these are removed."""
    columns, folder = list(_columns()), uploads.folder()
    mark = folder / "swept"
    if not columns or not folder.is_dir() or _age(mark) < _EVERY_SECONDS:
        return
    mark.touch()
    old = time.time() - _KEPT_SECONDS
    found = shelves.files(folder)
    names = [p.name for at, _, p in found if at < old and uploads.is_digest(p.name)]
    gone = set(random.sample(names, min(len(names), _MOST)))
    for column in columns:
        rows = select(column).where(column.is_not(None))
        for upload in session().scalars(rows.execution_options(yield_per=500)):
            gone.discard(upload.digest)
    for name in gone:
        (folder / name).unlink(missing_ok=True)


def _age(path: Any) -> float:
    with suppress(OSError):
        return float(time.time() - path.stat().st_mtime)
    return float("inf")


def _columns() -> Iterator[Any]:
    for mapper in Base.registry.mappers:
        for attribute in mapper.column_attrs:
            if isinstance(attribute.columns[0].type, uploads.Column):
                yield getattr(mapper.class_, attribute.key)
