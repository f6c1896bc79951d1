"""A report on the rows of a project's database."""

from __future__ import annotations

import datetime as dt
import json
from collections.abc import Callable, Sequence
from pathlib import Path
from zoneinfo import ZoneInfo

from ..data.columns import Here
from ..problems import WelbikError
from ..reporting.judging import judge
from ..reporting.measures import Measuring, Table, as_json
from ..schema.model import Schema
from ..storage.backend import READ_SECONDS
from .database import ready_database
from .settings import Settings


def measured(
    settings: Settings,
    schema: Schema,
    models: Sequence[str] = (),
    *,
    values: bool = False,
    tell: Callable[[str], None] = lambda model: None,
) -> list[Table]:
    """What is stored of some models, all where none is named, with what stands out."""
    here = Here.on(settings.timezone)
    tables = []
    with ready_database(settings, schema) as database:
        database.limit_statements(READ_SECONDS)
        measuring = Measuring(database, schema, here, values=values)
        for model in schema:
            if not models or model.name in models:
                tables.append(measuring.table(model))
                tell(model.name)
    for table in tables:
        judge(table)
    return tables


def write_report(settings: Settings, tables: Sequence[Table], path: Path) -> None:
    """Writes a report whole or not at all; what it is, the path's ending says."""
    draft = path.with_name(f".{path.name}.draft")
    try:
        if path.suffix.lower() == ".png":
            from ..reporting.figures import overview

            overview(tables, settings.title, draft)
        elif path.suffix.lower() == ".json":
            told = [as_json(table) for table in tables]
            draft.write_text(json.dumps(told, ensure_ascii=False, indent=2) + "\n", "utf-8")
        else:
            from ..reporting.page import page

            now = dt.datetime.now(ZoneInfo(settings.timezone))
            draft.write_text(page(tables, settings.title, now), "utf-8")
        draft.replace(path)
    except OSError as error:
        draft.unlink(missing_ok=True)
        raise WelbikError(
            f"{path} can't be written: {error.strerror}", "name a folder that is there"
        ) from None
