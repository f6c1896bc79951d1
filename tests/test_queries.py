"""Expressions inside the application's own queries say what all other targets say."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator
from decimal import Decimal
from typing import Any

import pytest
import sqlalchemy as sa
import test_rules as rules
from hypothesis import Phase, assume, example, given, settings
from loaded import Application, application
from servers import WORDS
from sqlalchemy import orm

from welbik.codegen.query_code import Queries
from welbik.rules.brought import unmarked

DECLARED = """\
model Hive
{fields}    up -> Site
    must -> Site, required
    seen <-> Site
model Site
{fields}    above -> Site, loops allowed
    hives <- Hive.up
    sites <- Site.above
seed
    1 Site
"""
TYPES = {
    "decimal": "decimal, places {0}",
    "text": "text",
    "number": "number",
    "duration": "duration -9 hours..",
}


def _declared() -> str:
    fields = ""
    for name, kind in rules.TYPES.items():
        word = TYPES.get(kind.name, kind.name).format(kind.places)
        word = "one of low | high" if kind.choices else word
        fields += f"    {name} {word}{', required' if name in rules.REQUIRED else ''}\n"
    return DECLARED.format(fields=fields)


@pytest.fixture(scope="module", params=WORDS)
def app(request: pytest.FixtureRequest) -> Iterator[Application]:
    with application(_declared(), timezone=rules.ZONE, on=request.param) as found:
        found.module("kit.clock").now = lambda: rules.NOW
        yield found


Rows = dict[str, list[dict[str, Any]]]


def store(app: Application, data: Rows) -> None:
    with app.database() as database:
        sql = database.sql(rules.Names(), rules.NOW, rules.ZONE)
        with database.transaction():
            for table in ("hive_seen", "hive", "site"):
                database.run(f"DELETE FROM {table}")
            for statement in rules.inserts(data, sql):
                database.run(statement)


def by_sqlalchemy(app: Application, node: Any, data: Rows) -> list[Any]:
    """What the generated application's own query gives for each hive, which is stored before."""
    store(app, data)
    found = asked(app, Queries(app.schema, "Hive"), node)
    # Other rows as they stand in within the body of a class are the same.
    assert asked(app, Queries(app.schema, ""), node) == found
    words = ("date", "datetime", "time", "duration", "boolean")
    assert node.type.name not in words or not any(
        isinstance(v, str | int) and v not in (True, False) for v in found
    )
    return [rules.plain(value, node.type) for value in found]


def asked(app: Application, queries: Queries, node: Any, negated: bool = False) -> list[Any]:
    """What a query over all stored hives gives: of an expression, or of a condition turned round."""
    hive = app.row_class(app.schema.models["Hive"])
    source = unmarked(queries.negated(node) if negated else queries.value(node))
    space = {"sa": sa, "orm": orm, "dt": dt, "Decimal": Decimal}
    space |= {name: getattr(hive, name) for name in queries.used} if not queries.own else {}
    space |= {model.name: app.row_class(model) for model in app.schema}
    space |= {name: app.module(f"kit.{name}") for name in ("columns", "clock", "expressions")}
    for table in queries.stand_ins.values():
        exec(unmarked(table.source()), space)
    with app.flask.app_context():
        query = sa.select(eval(source, space)).select_from(hive).order_by(hive.id)
        return list(app.module("kit.database").session().execute(query).scalars().all())


def _one(model: str) -> dict[str, Any]:
    """A row with what is required, and nothing else."""
    row: dict[str, Any] = dict.fromkeys(rules.TYPES) | {"id": 1, "j": 1, "e": 10, "u": "a"}
    row["other_day"] = dt.date(2024, 3, 1)
    row["rest"] = dt.timedelta(minutes=5)
    return row | ({"up": None, "must": 1, "seen": set()} if model == "Hive" else {"above": None})


PLAIN = {"Site": [_one("Site")], "Hive": [_one("Hive")]}


# Values that every function and operator has something to do with.
TOLD: dict[str, Any] = {
    **{
        "i": -7,
        "j": 3,
        "d": -225,
        "e": 15,
        "n": -2.25,
        "t": " Oak ",
        "u": "elm",
    },
    **{"b": True, "day": dt.date(2024, 2, 29), "other_day": dt.date(2023, 12, 31), "kind": "high"},
    "at": dt.datetime(2024, 3, 10, 23, 30),
    "took": dt.timedelta(hours=1, minutes=30),
}
WRITTEN = (
    *("round(n, 1)", "round(n)", "round(d, 1)", "round(d)", "round(i / j, 2)", "abs(d)", "abs(i)"),
    *("i + j", "i - j", "i * j", "i / j", "d + e", "d * e", "d / e", "-d", "n * 2 - d"),
    *("least(i, j)", "greatest(d, e)", "least(day, other_day)"),
    *("length(t)", "trim(t)", "t || u", "year(day)", "month(at)", "day(other_day)"),
    *("day + 3", "other_day - 30", "day - other_day", "took + rest", "at > now", "day < today"),
    *("i between -7 and 3", "kind in (low, high)", "kind = high", 't matches "[ A-Za-z]+"', "b"),
    *("not b", "b = no", "t is empty", "i is given and not j > 3", "d >= -2.25", "e <= 1.5"),
)


def test_every_function_is_written_for_the_site_as_it_is_for_python(app: Application) -> None:
    rows = [_one("Hive") | TOLD, _one("Hive") | {"id": 2}]
    data = {"Site": [_one("Site")], "Hive": rows}
    found = {text: by_sqlalchemy(app, rules.typed(text), data) for text in WRITTEN}
    assert found == {text: rules.by_python(rules.typed(text), data) for text in WRITTEN}


@given(rules.cases())
@example(("b = no", {**PLAIN, "Hive": [_one("Hive") | TOLD, _one("Hive") | {"id": 2}]}))
@settings(max_examples=40, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_a_rule_that_is_not_known_is_not_broken(app: Application, case: tuple[str, Rows]) -> None:
    text, data = case
    node = rules.typed(text)
    assume(node.type.name == "boolean")
    store(app, data)
    broken = asked(app, Queries(app.schema, "Hive"), node, negated=True)
    assert [one in (True, 1) for one in broken] == [
        value is False for value in rules.by_python(node, data)
    ], text


@given(rules.cases())
@example(('"a" matches "[A-Z].*"', PLAIN))
@example(("today", PLAIN))
@example(("now", PLAIN))
@example(("5", PLAIN))
@example(("-1.50", PLAIN))
@example(('"told"', PLAIN))
@example(("j > 3 or yes", PLAIN))
@settings(max_examples=70, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_the_application_s_queries_agree_with_python(
    app: Application, case: tuple[str, Rows]
) -> None:
    text, data = case
    node = rules.typed(text)
    assert by_sqlalchemy(app, node, data) == rules.by_python(node, data), text
