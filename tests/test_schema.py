"""What follows from declarations: names, columns, constraints, and what holds where nothing is said."""

from __future__ import annotations

import re
import sqlite3

import pytest
from declared import declarations, understand
from hypothesis import assume, given, settings

from welbik.rules.text import as_text
from welbik.schema import names
from welbik.storage.sqlite import Sqlite
from welbik.storage.tables import fingerprint, table_of, tables_of

PLURALS = {
    "hive": "hives", "apiary": "apiaries", "queen bee": "queen bees", "box": "boxes", "person": "people",
    "day": "days", "brush": "brushes", "address": "addresses", "child": "children", "series": "series",
    "half": "halves", "quiz": "quizzes", "Bus": "Buses", "match": "matches", "sheep": "sheep",
}  # fmt: skip


@pytest.mark.parametrize(("one", "many"), PLURALS.items())
def test_plurals(one: str, many: str) -> None:
    assert names.plural(one).lower() == many.lower()


def test_names_are_made_of_names() -> None:
    assert names.snake("HiveVisit") == "hive_visit"
    assert names.snake("HTTPRequest") == "http_request"
    assert names.label("opened_on") == "Opened on"
    assert names.slug("Queen bees & co!") == "queen-bees-co"
    assert [names.article(word) for word in ("hive", "apiary", "unit")] == ["a", "an", "a"]
    assert names.module("class") == "class_"


# How one field is declared, and the column it becomes on SQLite.
COLUMNS = [
    ("a text 80", '"a" VARCHAR(80)', "BETWEEN 1 AND 80"),
    ("a text 2..80, required", '"a" VARCHAR(80) NOT NULL', "BETWEEN 2 AND 80"),
    ("a text 4000", '"a" TEXT', "BETWEEN 1 AND 4000"),
    ("a text", '"a" TEXT', "length(\"a\") >= 1"),
    ("a integer 4..24", '"a" INTEGER', '"a" BETWEEN 4 AND 24'),
    ("a integer ..5_000_000_000", '"a" BIGINT', '"a" <= 5000000000'),
    ("a decimal 0.1..60.0", '"a" SCALED_INTEGER(3, 1)', "BETWEEN 1 AND 600"),
    ("a decimal 0..50, places 3", '"a" SCALED_INTEGER(5, 3)', "BETWEEN 0 AND 50000"),
    ("a number 0..1", '"a" DOUBLE', "BETWEEN 0.0 AND 1.0"),
    ("a boolean, required", '"a" BOOLEAN NOT NULL', "IN (0, 1)"),
    ("a date 2015-01-01..today", '"a" DATE', "\"a\" >= '2015-01-01'"),
    ("a datetime ..now", '"a" TIMESTAMP', None),
    ("a one of low | high", '"a" VARCHAR(4)', "IN ('low', 'high')"),
    ("a email", '"a" VARCHAR(254)', "BETWEEN 3 AND 254"),
    ("a -> Other, required, on removal remove", '"a_id" INTEGER NOT NULL REFERENCES "other" ("id") ON DELETE CASCADE', None),
    ("a -> Other, on removal clear", 'REFERENCES "other" ("id") ON DELETE SET NULL', None),
    ("a -> Other", '"a_id" INTEGER REFERENCES "other" ("id")', None),
]  # fmt: skip


@pytest.mark.parametrize(("declared", "column", "check"), COLUMNS)
def test_a_field_becomes_a_column(declared: str, column: str, check: str | None) -> None:
    schema, problems = understand(f"model Thing\n    {declared}\nmodel Other\n    n text\n")
    assert not problems
    statement = Sqlite.ddl.create_table(table_of(schema.models["Thing"], schema), {})[0]
    assert column in statement
    assert (check in statement) if check else ("CHECK" not in statement)


@given(declarations())
@settings(max_examples=60)
def test_any_tables_are_valid_sql_with_the_declared_columns(text: str) -> None:
    schema, problems = understand(text)
    assume(not problems)
    connection = sqlite3.connect(":memory:")
    for model in schema.parents_first:
        table = table_of(model, schema)
        for statement in Sqlite.ddl.create_table(table, {}) + Sqlite.ddl.create_indexes(table):
            connection.execute(statement)
        found = [row[1] for row in connection.execute(f'PRAGMA table_info("{model.table}")')]
        assert found[0] == "id" and found[1:] == [column.name for column in table.columns]
        assert found[1 : len(model.members) + 1] == [member.column for member in model.members]
    for model in schema:
        for reference in model.references:
            keys = connection.execute(f'PRAGMA foreign_key_list("{model.table}")').fetchall()
            assert (schema.models[reference.target].table, reference.column) in {
                (key[2], key[3]) for key in keys
            }


@given(declarations())
@settings(max_examples=60)
def test_parents_come_first_and_the_fingerprint_knows_only_the_tables(text: str) -> None:
    schema, problems = understand(text)
    assume(not problems)
    order = [model.name for model in schema.parents_first]
    assert sorted(order) == sorted(schema.models)
    for model in schema:
        for reference in model.references:
            if reference.required:
                assert order.index(reference.target) < order.index(model.name)
    mark = fingerprint(tables_of(schema))
    words = re.sub(r', (label|hint) "(\\.|[^"\\])*"', "", text)
    assert fingerprint(tables_of(understand(words)[0])) == mark
    wider = understand(text + "\nmodel Added\n    n text\n")[0]
    assert fingerprint(tables_of(wider)) != mark


SHOWN = [
    ("age integer\n    title text 80\n    name text 80", "{name}"),
    ("age integer\n    first_name text 80", "{first_name}"),
    (
        "age integer\n    word text 80, required\n    key_word text 80, required, unique",
        "{key_word}",
    ),
    ("other -> Other, required\n    held date\n    age integer", "{other} · {held}"),
    ("age integer\n    old boolean\n    notes text", "{age} · {old}"),
    ("other -> Other", "thing {id}"),
]


@pytest.mark.parametrize(("fields", "shown"), SHOWN)
def test_what_stands_for_a_row_unless_said(fields: str, shown: str) -> None:
    schema = understand(f"model Thing\n    {fields}\nmodel Other\n    n text\n")[0]
    parts = schema.models["Thing"].shown_as
    assert "".join(f"{{{part.text}}}" if part.is_field else part.text for part in parts) == shown


def test_lists_begin_with_what_is_short() -> None:
    fields = "".join(f"    f{n} integer\n" for n in range(9))
    assert understand(f"model A\n    notes text\n{fields}")[0].models["A"].columns == (
        "f0",
        "f1",
        "f2",
        "f3",
        "f4",
        "f5",
    )


def test_a_choice_may_be_called_like_a_field_that_is_no_text() -> None:
    text = "model A\n    done date\n    other text 9\n    state one of open | done | other\n"
    for said, meant in (
        ("state in (open, done)", 'state = "open" or state = "done"'),
        ("done = state", '"done" = state'),
        ("state = other", "state = other"),
    ):
        schema, problems = understand(f"{text}    rule {said}\n")
        assert not problems
        assert as_text(schema.models["A"].rules[0].node) == meant
