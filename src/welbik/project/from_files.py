"""A project from comma separated files or spreadsheets, or more models in one."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

from ..adoption.adopt import Adopted, heal
from ..adoption.drafts import Note
from ..adoption.files import Filed, data_file, filed, rows_of
from ..adoption.sheets import Sheets
from ..problems import WelbikError
from ..schema.model import Field, Model, Reference, Schema
from ..schema.names import snake
from ..storage.backend import Database
from ..storage.tables import tables_of
from .adopting import files_of, problems_of
from .database import open_database
from .declarations import read_declarations, schema_of
from .layout import make_project
from .settings import FILE, read_settings
from .writing import write_all

_MOST_FIXED = 500
"""Rows that a data file is written for: they are declared then, and read with every command."""
_AT_ONCE = 5_000
_NEVER = re.compile("[\x00-\x08\x0b-\x1f\x7f-\x9f\u202a-\u202e\u2066-\u2069\ud800-\udfff]")
"""Controls, signs that turn a line round, halves of letters: as the site's forms refuse them."""


@dataclass
class FilePlan:
    """What adopting files would write, and the rows that could be loaded."""

    folder: Path
    filed: Filed
    found: Adopted
    files: dict[str, str]
    is_new: bool
    rows: int = 0
    kept: list[str] = field(default_factory=list)
    """The models whose rows stand in a data file."""


def plan_files(folder: Path, sheets: Sheets) -> FilePlan:
    """Describes the tables of some files; nothing is written. Raises WelbikError."""
    is_new = not (folder / FILE).exists()
    taken = [] if is_new else list(read_declarations(folder).schema.models)
    told = filed(sheets, taken)
    found = Adopted(drafts=dict(told.drafts))
    heal(found, lambda text: problems_of(folder, text, is_new))
    planned = FilePlan(folder, told, found, {}, is_new, sum(s.rows for s in sheets.sheets))
    planned.files = files_of(folder, found)
    return planned


def write_files(planned: FilePlan, *, load: bool, title: str = "", package: str = "") -> list[str]:
    """Writes the declarations; and data files for what is short, unless it is to be loaded."""
    files = dict(planned.files)
    if not load:
        texts: dict[tuple[str, str, str], str] = {}
        for model in planned.filed.parents_first:
            sheet = planned.filed.of[model]
            made = data_file(planned.filed, model, texts) if sheet.rows <= _MOST_FIXED else None
            name = f"data/{snake(model)}.csv"
            if made is None or (planned.folder / name).exists():
                why = "its rows are not taken along: no text of theirs tells them apart"
                why = why if sheet.rows <= _MOST_FIXED else f"its {sheet.rows:,} rows are many"
                planned.found.notes.append(
                    Note(sheet.name, "", why, "load them into the database: adopt … --load")
                )
                continue
            files[name] = made
            at = next(
                n
                for n, text in files.items()
                if f"model {model}\n" in text or f"model {model} " in text
            )
            files[at] += f'\nrows {model} from "{snake(model)}.csv"\n'
            planned.kept.append(model)
    if planned.is_new:
        return make_project(planned.folder, title=title, package=package, files=files)
    write_all(planned.folder, files)
    return list(files)


def load_rows(planned: FilePlan, tell: Callable[[str, int], None]) -> int:
    """Stores the rows of the files in the project's database, all of them or none.

    The database must be as declared. Raises WelbikError where a row is refused.
    """
    settings = read_settings(planned.folder)
    schema = schema_of(settings.root)
    total = 0
    with open_database(settings, loads=True) as database:
        database.prepare(tables_of(schema), settings.timezone)
        with database.transaction():
            keys: dict[tuple[str, str, str], int] = {}
            for name in planned.filed.parents_first:
                if name in schema.models:
                    total += _load(database, schema, planned.filed, name, keys, tell)
    return total


def _load(
    database: Database,
    schema: Schema,
    told: Filed,
    name: str,
    keys: dict[tuple[str, str, str], int],
    tell: Callable[[str, int], None],
) -> int:
    model = schema.models[name]
    lines = {line.column: line.name for line in told.drafts[name].lines if line.column}
    members = {column: model.by_name[n] for column, n in lines.items() if n in model.by_name}
    led_to = [key for target, key in told.leads.values() if target == name]
    number = database.next_id(model.table)
    count = 0
    for batch in _batches(rows_of(told, name)):
        columns: dict[str, list[Any]] = {model.number: []}
        columns |= {m.column: [] for m in members.values() if isinstance(m, Field | Reference)}
        for line, row in batch:
            for key in led_to:
                if key in row:
                    keys[name, key, row[key]] = number
            columns[model.number].append(number)
            number += 1
            for column, member in members.items():
                if isinstance(member, Reference):
                    lead = told.leads[name, column]
                    value = keys.get((*lead, row[column])) if column in row else None
                    if column in row and value is None:
                        raise _refused(
                            told, name, line, f"{column} {row[column]!r} leads to no row"
                        )
                    columns[member.column].append(value)
                elif isinstance(member, Field):
                    if _NEVER.search(row.get(column) or ""):
                        raise _refused(
                            told, name, line, f"{column} holds a character that is not kept"
                        )
                    columns[member.column].append(_neutral(model, member, row.get(column)))
        database.insert(model.table, list(columns), list(columns.values()))
        count += len(batch)
        tell(name, len(batch))
    return count


def _refused(told: Filed, model: str, line: int, why: str) -> WelbikError:
    return WelbikError(
        f"{told.of[model].name}, row {line}: {why}", "mend the file; nothing was stored"
    )


def _neutral(model: Model, member: Field, text: str | None) -> object:
    """A text of a file in the neutral form that databases take."""
    if text is None:
        return None
    word, *numbers = member.kind.stored().type.split()
    if word in ("integer", "bigint"):
        return int(text)
    if word == "decimal":
        from decimal import Decimal

        return int(Decimal(text).scaleb(int(numbers[1])).to_integral_value())
    if word == "double":
        return float(text)
    if word == "boolean":
        return text == "yes"
    if word == "timestamp":
        return f"{text.replace('T', ' ')[:19]}.000000"
    if word == "time":
        return f"{text}.000000"
    if member.kind.labels():
        words = dict(zip(member.kind.words, member.kind.labels(), strict=True))
        return words[text]
    return text


def _batches(rows: Iterator[Any]) -> Iterator[list[Any]]:
    from itertools import islice

    while some := list(islice(rows, _AT_ONCE)):
        yield some
