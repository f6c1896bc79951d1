"""Made-up rows with keys of their own kind: told from people's by all that they hold."""

from __future__ import annotations

import datetime as dt
from pathlib import Path

import pytest
from declared import understand
from servers import WORDS, opened

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.data.replacing import made_up, remove_made
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.schema.model import Schema
from welbik.storage.backend import Database
from welbik.storage.tables import tables_of

KEYED = """\
model Zone
    code    text 3..9, required, unique
    name    text 2..40, required
    height  decimal 0.0..900.0
    since   date
    above   -> Zone
    tags    <-> Tag
    key code{more}
model Tag
    token   uuid, required, unique
    word    text 2..20, required
    key token
model Office
    zone    -> Zone, required, unique
    seats   integer 1..90, required
    key zone
seed
    60 Zone
    20 Tag
    30 Office
"""
NOW = dt.datetime.now(dt.UTC)


def _schema(more: str = "") -> Schema:
    schema, problems = understand(KEYED.replace("{more}", more))
    assert not problems, problems
    return schema


def _made(database: Database, schema: Schema) -> None:
    steps = difference({}, schema).steps
    database.migrate("0001", "", "", lambda: statements(database.ddl, {}, steps, NOW))
    fill(database, Drawer(schema, 1), schema.seed)


def _rows(database: Database, schema: Schema, model: str) -> dict[object, tuple[object, ...]]:
    """Rows by their keys."""
    table = tables_of(schema)[schema.models[model].table]
    names = [table.key, *(column.name for column in table.columns)]
    columns = [database.values(table.name, name) for name in names]
    return {row[0]: row[1:] for row in zip(*columns, strict=True)}


@pytest.mark.parametrize("word", WORDS)
@pytest.mark.parametrize("more", ["", "\n    keep times"])
def test_rows_are_made_anew_and_people_s_stay(more: str, word: str, tmp_path: Path) -> None:
    schema = _schema(more)
    with opened(word, tmp_path) as database:
        _made(database, schema)
        first = _rows(database, schema, "Zone")
        assert made_up(database, schema) == {"Zone": 60, "Tag": 20, "Office": 30}
        led = set(database.values("office", "zone_id"))
        above = set(database.values("zone", "above_id"))
        free = [code for code in first if code not in led | above]
        changed, again = free[0], free[1]
        times = ", created_at, updated_at" if more else ""
        now = ", '2026-01-01 10:00:00', '2026-01-01 10:00:00'" if more else ""
        for statement in (
            f"UPDATE zone SET name = 'Mine' WHERE code = '{changed}'",
            f"DELETE FROM zone_tags WHERE zone_id = '{again}'",
            f"DELETE FROM zone WHERE code = '{again}'",
            f"INSERT INTO zone (code, name{times}) VALUES ('{again}', 'Entered'{now})",
            f"INSERT INTO zone (code, name, above_id{times}) VALUES ('mine', 'Own', '{free[2]}'{now})",
            "UPDATE office SET seats = 91 - seats WHERE zone_id = (SELECT min(zone_id) FROM office)",
        ):
            database.run(statement)
        office = min(led, key=str)
        kept = {changed, again, "mine", free[2], office}
        before = _rows(database, schema, "Zone")
        held = _held(before, kept)
        theirs = [pair for pair in _pairs(database) if pair[0] in held]
        tags = {tag for _, tag in theirs}
        removed = remove_made(database, schema, "UTC")
        # A row stays where one that stays leads to it.
        assert removed == {"Zone": 61 - len(held), "Tag": 20 - len(tags), "Office": 29}
        left = _rows(database, schema, "Zone")
        assert left == {code: before[code] for code in held}
        fill(database, Drawer(schema, 1), schema.seed)
        now_there = _rows(database, schema, "Zone")
        assert len(now_there) == 60 and {c: now_there[c] for c in held} == left
        # Only rows that were made now got pairs.
        assert [pair for pair in _pairs(database) if pair[0] in held] == theirs
        assert len({zone for zone, _ in _pairs(database)} - held) > 20
        assert len(made_up(database, schema)) == 3


def _pairs(database: Database) -> list[tuple[object, object]]:
    columns = (database.values("zone_tags", f"{name}_id") for name in ("zone", "tag"))
    return sorted(zip(*columns, strict=True), key=str)


def _held(rows: dict[object, tuple[object, ...]], kept: set[object]) -> set[object]:
    """Rows that stay, and those above them."""
    found: set[object] = set()
    todo = list(kept)
    while todo:
        code = todo.pop()
        found.add(code)
        above = rows[code][4]
        if above is not None and above not in found:
            todo.append(above)
    return found


@pytest.mark.parametrize("word", WORDS)
def test_what_is_new_comes_to_rows_that_are_as_they_were_made(word: str, tmp_path: Path) -> None:
    old, new = _schema(), _schema("\n    colour one of red | blue | green, sample 0% empty")
    with opened(word, tmp_path) as database:
        _made(database, old)
        codes = sorted(map(str, database.values("zone", "code")))
        database.run(f"UPDATE zone SET name = 'Mine' WHERE code = '{codes[0]}'")
        database.run("INSERT INTO zone (code, name) VALUES ('mine', 'Own')")
        steps, before = difference(tables_of(old), new).steps, tables_of(old)
        made = statements(database.ddl, before, list(steps), NOW)
        database.migrate("0002", "", "", lambda: made, 2)
        told = fill(database, Drawer(new, 1), new.seed)
        assert told.completed == {"Zone": 59}
        given = {code: row[5] for code, row in _rows(database, new, "Zone").items()}
        assert {code for code, colour in given.items() if colour is None} == {codes[0], "mine"}
        assert len(set(given.values())) == 4
        # What they got is theirs since: they are still known.
        assert made_up(database, new)["Zone"] == 59
