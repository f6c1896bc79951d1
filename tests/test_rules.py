"""One expression, every target: Python, NumPy, SQLite and PostgreSQL say the same of any row."""

from __future__ import annotations

import datetime as dt
import importlib.util
import re
import sqlite3
from collections.abc import Iterator
from contextlib import ExitStack
from decimal import Decimal
from pathlib import Path
from types import ModuleType, SimpleNamespace
from typing import Any
from zoneinfo import ZoneInfo

import numpy as np
import pytest
from hypothesis import Phase, assume, given, settings
from hypothesis import strategies as st
from servers import WORDS, opened

import welbik
from welbik.language.cursor import Cursor
from welbik.language.diagnostics import Report
from welbik.language.expressions import expression
from welbik.language.lexer import lines
from welbik.language.source import Source
from welbik.rules import tree
from welbik.rules.arrays import Arrays, Column
from welbik.rules.brought import unmarked
from welbik.rules.python import Python
from welbik.rules.sql import Sql
from welbik.rules.text import as_text
from welbik.schema.entries import Entry
from welbik.schema.expressions import understand
from welbik.storage.backend import Database
from welbik.storage.ddl import Ddl
from welbik.storage.sqlite import ready

ZONE = "Europe/London"
NOW = dt.datetime(2026, 3, 29, 23, 30, tzinfo=dt.UTC)
TYPES = {
    "i": tree.INTEGER, "j": tree.INTEGER, "d": tree.Type("decimal", 2), "e": tree.Type("decimal", 1),
    "n": tree.NUMBER, "t": tree.TEXT, "u": tree.TEXT, "b": tree.BOOLEAN, "day": tree.DATE,
    "other_day": tree.DATE, "at": tree.DATETIME, "clock": tree.TIME,
    "took": tree.DURATION, "rest": tree.DURATION,
    "kind": tree.Type("text", choices=("low", "high")),
}  # fmt: skip
REQUIRED = {"j", "e", "u", "other_day", "rest"}
FIELDS = {name: Entry("value", kind, name in REQUIRED) for name, kind in TYPES.items()}
SCOPE = {
    "Hive": FIELDS | {"up": Entry("reference", target="Site"), "must": Entry("reference", required=True, target="Site"),
                      "seen": Entry("many", target="Site")},
    "Site": FIELDS | {"hives": Entry("collection", target="Hive", via="up"), "above": Entry("reference", target="Site"),
                      "sites": Entry("collection", target="Site", via="above")},
}  # fmt: skip


class Names:
    def table(self, model: str) -> str:
        return model.lower()

    def key(self, model: str) -> str:
        return "id"

    def column(self, model: str, name: str) -> str:
        return f"{name}_id" if SCOPE[model][name].what == "reference" else name

    def how(self, model: str, name: str) -> None:
        return None

    def joined(self, owner: str, name: str) -> tuple[str, str, str]:
        return "hive_seen", "hive_id", "site_id"


def kit(name: str) -> ModuleType:
    """A module of the generated application that needs nothing else of it."""
    path = Path(welbik.__file__).parent / "blueprint/kit" / f"{name}.py"
    spec = importlib.util.spec_from_file_location(f"kit_{name}", path)
    assert spec and spec.loader
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module


def _clock() -> SimpleNamespace:
    zone = ZoneInfo(ZONE)
    return SimpleNamespace(
        now=lambda: NOW,
        today=lambda: NOW.astimezone(zone).date(),
        day=lambda moment: moment.astimezone(zone).date(),
        local=lambda text: dt.datetime.fromisoformat(text).replace(tzinfo=zone).astimezone(dt.UTC),
    )


SPACE = {"dt": dt, "Decimal": Decimal, "re": re, "logic": kit("logic"), "clock": _clock()}

VALUES: dict[str, st.SearchStrategy[Any]] = {
    "integer": st.integers(-9, 9),
    "decimal": st.integers(-500, 500),
    "number": st.integers(-40, 40).map(lambda n: n / 4),
    "text": st.sampled_from(["a", "B", "low", "high", " x ", " ", "Zß", "é", "ab'c", "a\\b", "蜂"]),
    "boolean": st.booleans(),
    "date": st.dates(dt.date(2024, 2, 27), dt.date(2024, 3, 3)),
    # Around both turns of the clocks, so that a day in UTC is not one at home.
    "datetime": st.sampled_from([dt.datetime(2024, 2, 29, 23, 59, 59, 5), dt.datetime(2026, 3, 29, 23, 30),
                                 dt.datetime(2024, 3, 1), dt.datetime(2026, 10, 25, 0, 30)]),
    "duration": st.integers(-7200, 7200).map(lambda seconds: dt.timedelta(seconds=seconds)),
    "time": st.sampled_from([dt.time(0, 0), dt.time(14, 30), dt.time(14, 30, 1), dt.time(23, 59)]),
}  # fmt: skip


PLAIN = {"j": 1, "e": 10, "u": "a", "other_day": dt.date(2024, 3, 1), "rest": dt.timedelta(0)}
"""What stands in required fields that no expression reads."""


@st.composite
def rows(
    draw: st.DrawFn, count: int, sites: int, hive: bool, read: set[str]
) -> list[dict[str, Any]]:
    """Rows with values drawn for the fields that are read; the others hold nothing to speak of."""
    found = []
    for number in range(1, count + 1):
        row: dict[str, Any] = {"id": number}
        for name, kind in TYPES.items():
            value = VALUES[kind.name]
            if kind.choices:
                value = st.sampled_from(kind.choices)
            if name not in read:
                row[name] = PLAIN.get(name)
                continue
            row[name] = draw(value if name in REQUIRED else st.none() | value)
        near = st.integers(1, sites)
        if hive:
            row |= {
                "up": draw(st.none() | near),
                "must": draw(near),
                "seen": draw(st.sets(near, max_size=2)),
            }
        else:
            row |= {"above": draw(st.none() | near)}
        found.append(row)
    return found


def leaf(kind: str) -> st.SearchStrategy[str]:
    """A value of a type, read from the row or across its relations, or written out."""
    names = [name for name, type_ in TYPES.items() if type_.name == kind and not type_.choices]
    paths = [f"{way}{name}" for way in ("", "", "up.", "must.", "up.above.") for name in names]
    written = {
        "integer": ["0", "3", "-2", "count(up.hives)", "count(seen)", "sum(must.hives.i)",
                    "count(up.hives where b)", "max(up.sites.hives.j)", "count(up.hives where d > 1.5 or t is empty)"],
        "decimal": ["0.5", "2.25", "sum(seen.d)", "min(must.hives.e)", "sum(up.hives.e where i is given)"],
        "number": ["0.1234567890123456", "avg(must.hives.n)", "avg(up.hives.d)", "max(seen.n)", "avg(must.hives.i)"],
        "text": ['"a"', '"Zz é"', '"it\'s"', "min(must.hives.t)", "max(seen.u where b)"],
        "boolean": ["yes", "no"], "date": ["2024-03-01", "today", "min(up.hives.day)"],
        "datetime": ["2024-03-01T00:30", "now", "max(must.hives.at)"], "time": ["14:30"],
        "duration": ["90 minutes", "45 seconds", "2 hours", "sum(must.hives.took)", "max(seen.rest where b)", "sum(up.hives.rest)"],
    }[kind]  # fmt: skip
    return st.sampled_from([*paths, *written])


NUMERIC = ("integer", "decimal", "number")


@st.composite
def written(draw: st.DrawFn, kind: str, depth: int) -> str:
    """The text of a well-typed expression."""
    if depth == 0 or draw(st.integers(0, 4)) == 0:
        return draw(leaf(kind))

    def some(*kinds: str) -> str:
        return draw(written(draw(st.sampled_from(kinds)), depth - 1))

    if kind == "boolean":
        return draw(_condition(depth))
    numeric = [
        "({a} + {b})",
        "({a} - {b})",
        "-{a}",
        "abs({a})",
        "least({a}, {b})",
        "greatest({a}, {b})",
    ]
    made = {
        "integer": [*numeric, "({a} * 2)", "length({text})", "year({date})", "month({at})", "day({date})",
                    "({date} - {date})", "({at} - {date})", "round({d})"],
        "decimal": [*numeric, "({d} * 1.5)", "({i} * 0.5)", "round({d}, 1)", "({d} + {i})"],
        "number": [*numeric, "({any} / {any})", "round({n}, 1)", "({n} * {d})"],
        "text": ["({a} || {b})", "lower({a})", "upper({a})", "trim({a})", "least({a}, {b})", "greatest({a}, {b})"],
        "date": ["({a} + 3 days)", "({a} - 30 days)", "({a} + {i})", "least({a}, {b})", "greatest({a}, {b})"],
        "datetime": ["({a} + 2 days)", "({a} - 1 weeks)", "greatest({a}, {b})"],
        "time": ["least({a}, {b})"],
        "duration": ["({a} + {b})", "({a} - {b})", "-{a}", "abs({a})", "({a} * 3)", "({i} * {a})", "({a} + 1 days)",
                     "least({a}, {b})", "greatest({a}, {b})"],
    }[kind]  # fmt: skip
    pattern = draw(st.sampled_from(made))
    return pattern.format(
        a=some(kind), b=some(kind), d=some("decimal"), i=some("integer"), n=some("number"),
        text=some("text"), date=some("date"), at=some("datetime"), any=some(*NUMERIC),
    )  # fmt: skip


@st.composite
def _condition(draw: st.DrawFn, depth: int) -> str:
    def some(*kinds: str) -> str:
        return draw(written(draw(st.sampled_from(kinds)), depth - 1))

    way = draw(st.integers(0, 9))
    sign = draw(st.sampled_from(["=", "!=", "<", "<=", ">", ">="]))
    if way <= 2:
        kind = draw(
            st.sampled_from(
                ["integer", "decimal", "number", "text", "date", "datetime", "time", "duration"]
            )
        )
        other = {"date": "datetime", "integer": "decimal", "decimal": "number"}.get(kind, kind)
        return f"({some(kind)} {sign} {some(kind, other)})"
    if way == 3:
        kind = draw(st.sampled_from([*NUMERIC, "text", "date", "boolean", "time", "duration"]))
        return f"({some(kind)} is {draw(st.sampled_from(['empty', 'given']))})"
    if way == 4:
        return f"(not {some('boolean')})"
    if way == 5:
        return f"({some('integer')} between {some('integer')} and {some('decimal')})"
    if way == 6:
        return draw(st.sampled_from(["(kind in (low, high))", "(kind = low)", "(kind != u)", "(up = must)",
                                     "(up.kind = high)", "(seen is empty)", "(up is given)", "(u in (\"a\", t))"]))  # fmt: skip
    if way == 7:
        return f"({some('text')} matches {draw(st.sampled_from([_Q[0], _Q[1], _Q[2]]))})"
    word = draw(st.sampled_from(["and", "or", "when"]))
    return f"({some('boolean')} {word} {some('boolean')})"


_Q = ('"[A-Z].*"', '"[^x]{1,3}"', '" ?[a-z]+.?"')


def typed(text: str, model: str = "Hive") -> tree.Node:
    report = Report()
    source = Source("rule", text)
    cursor = Cursor(lines(source, report)[0], report)
    found = understand(expression(cursor), model, SCOPE, report)
    assert cursor.now.kind == "end" and found is not None, (text, report.problems())
    return found


class Table:
    """Drawn rows as NumPy columns."""

    def __init__(self, data: dict[str, list[dict[str, Any]]], model: str) -> None:
        self.data, self.model, self.rows = data, model, data[model]
        self.size = len(self.rows)

    def column(self, name: str) -> Column:
        given = [row[name] for row in self.rows]
        empty = np.array([value is None for value in given], dtype=bool)
        entry = SCOPE[self.model][name]
        if entry.what == "reference":
            return Column(np.array([0 if v is None else v - 1 for v in given]), empty)
        kind = entry.type.name
        dtype = {"text": "object", "number": "float64", "boolean": "bool", "date": "datetime64[D]",
                 "datetime": "datetime64[us]"}.get(kind, "int64")  # fmt: skip
        values = np.zeros(self.size, dtype=dtype)
        for at, value in enumerate(given):
            if value is not None:
                if kind == "duration":
                    value = value // dt.timedelta(seconds=1)
                if kind == "time":
                    value = ((value.hour * 60 + value.minute) * 60 + value.second) * 10**6
                values[at] = value
        return Column(values, empty)

    def follow(self, reference: str) -> Table:
        return Table(self.data, SCOPE[self.model][reference].target)

    def near(self, positions: Any) -> tuple[Any, Any]:
        return self, positions

    def children(self, hop: tree.Hop) -> tuple[Any, Any]:
        if hop.via:
            pairs = [
                (at, row[hop.via] - 1)
                for at, row in enumerate(self.data[hop.model])
                if row[hop.via]
            ]
        else:
            pairs = [
                (other - 1, at)
                for at, row in enumerate(self.rows)
                for other in sorted(row[hop.name])
            ]
        return _Some(Table(self.data, hop.model), [a for a, _ in pairs]), np.array(
            [b for _, b in pairs], dtype=np.int64
        )


class _Some:
    """Some rows of a table, in an order of their own."""

    def __init__(self, table: Table, at: list[int]) -> None:
        self.table, self.at, self.size = table, np.array(at, dtype=np.int64), len(at)

    def column(self, name: str) -> Column:
        column = self.table.column(name)
        return Column(column.values[self.at], column.empty[self.at])

    def follow(self, reference: str) -> Table:
        return self.table.follow(reference)

    def near(self, positions: Any) -> tuple[Any, Any]:
        return self, positions

    def children(self, hop: tree.Hop) -> tuple[Any, Any]:
        rows, owner = self.table.children(hop)
        found = [(n, at) for at, mine in enumerate(self.at) for n in np.flatnonzero(owner == mine)]
        some = _Some(rows.table, [int(rows.at[n]) for n, _ in found])
        return some, np.array([at for _, at in found], dtype=np.int64)


def objects(data: dict[str, list[dict[str, Any]]]) -> dict[str, list[SimpleNamespace]]:
    """The rows as an application has them: related rows are objects, moments aware."""
    made = {model: [SimpleNamespace(id=row["id"]) for row in rows] for model, rows in data.items()}
    for model, rows in data.items():
        for row, found in zip(rows, made[model], strict=True):
            for name, kind in TYPES.items():
                value = row[name]
                if value is not None and kind.name == "decimal":
                    value = Decimal(value).scaleb(-kind.places)
                if value is not None and kind.name == "datetime":
                    value = value.replace(tzinfo=dt.UTC)
                setattr(found, name, value)
            for name in ("up", "must", "above"):
                if name in row:
                    setattr(found, name, made["Site"][row[name] - 1] if row[name] else None)
            if "seen" in row:
                found.seen = [made["Site"][n - 1] for n in sorted(row["seen"])]
    for site in made["Site"]:
        site.hives = [hive for hive in made["Hive"] if hive.up is site]
        site.sites = [other for other in made["Site"] if other.above is site]
    return made


def tables(ddl: Ddl) -> Iterator[str]:
    for model in SCOPE:
        columns = ["id INTEGER PRIMARY KEY"]
        for name, entry in SCOPE[model].items():
            kind = entry.type
            if entry.what == "reference":
                columns.append(f'"{name}_id" INTEGER')
            elif entry.what == "value":
                columns.append(f'"{name}" {ddl.type_name(_neutral(kind))}')
        yield f"CREATE TABLE {model.lower()} ({', '.join(columns)}){ddl.options}"
    yield "CREATE TABLE hive_seen (hive_id INTEGER, site_id INTEGER)"


def _neutral(kind: tree.Type) -> str:
    """The type of a column that holds such values."""
    words = {"integer": "bigint", "datetime": "timestamp", "number": "double"}
    words |= {"duration": "seconds", "decimal": f"decimal 9 {kind.places}"}
    return words.get(kind.name, kind.name)


def inserts(data: dict[str, list[dict[str, Any]]], sql: Sql) -> Iterator[str]:
    """INSERT statements, every value written by the target itself."""
    for model, rows in data.items():
        for row in rows:
            columns, values = ["id"], [str(row["id"])]
            for name, value in row.items():
                if name in ("id", "seen") or value is None:
                    continue
                columns.append(f'"{Names().column(model, name)}"')
                kind = TYPES.get(name, tree.INTEGER)
                if kind.name == "datetime":
                    values.append(sql.moment(value))
                    continue
                if kind.name == "decimal":
                    value = Decimal(value).scaleb(-kind.places)
                values.append(sql.constant(tree.Const(value, kind)))
            yield f"INSERT INTO {model.lower()} ({', '.join(columns)}) VALUES ({', '.join(values)})"
            for site in sorted(row.get("seen", ())):
                yield f"INSERT INTO hive_seen (hive_id, site_id) VALUES ({row['id']}, {site})"


@pytest.fixture(scope="module")
def databases(tmp_path_factory: pytest.TempPathFactory) -> Iterator[list[Database]]:
    """One of each, with the tables of the rules."""
    folder = tmp_path_factory.mktemp("rules")
    with ExitStack() as stack:
        found = [stack.enter_context(opened(word, folder)) for word in WORDS]
        for database in found:
            database.prepare({}, ZONE)
            for statement in tables(database.ddl):
                database.run(statement)
        yield found


def plain(value: Any, kind: tree.Type) -> Any:
    """A result in one form, whichever target gave it."""
    if value is None:
        return None
    if kind.name == "boolean":
        return bool(value)
    if kind.name == "decimal":
        return Decimal(str(value)) if not isinstance(value, Decimal) else value
    if kind.name == "duration":
        return value if isinstance(value, dt.timedelta) else dt.timedelta(seconds=int(value))
    if kind.exact:
        return int(value)
    if kind.name == "number":
        return float(value)
    if kind.name == "time" and isinstance(value, dt.timedelta):
        return (dt.datetime.min + value).time()
    if kind.name in ("date", "datetime", "time") and isinstance(value, str):
        kinds = {"date": dt.date, "datetime": dt.datetime, "time": dt.time}
        return kinds[kind.name].fromisoformat(value)
    return (
        value.astimezone(dt.UTC).replace(tzinfo=None) if getattr(value, "tzinfo", None) else value
    )


def by_python(node: tree.Node, data: dict[str, list[dict[str, Any]]]) -> list[Any]:
    writer = Python(lambda model, name: name)
    value = eval(unmarked(f"lambda row: {writer.value(node)}"), SPACE)
    found = [value(row) for row in objects(data)["Hive"]]
    if node.type.name == "boolean":
        true, false = (
            eval(unmarked(f"lambda row: {text}"), SPACE)
            for text in (writer.true(node), writer.false(node))
        )
        for row, result in zip(objects(data)["Hive"], found, strict=True):
            assert (bool(true(row)), bool(false(row))) == (result is True, result is False)
    return [plain(value, node.type) for value in found]


def by_numpy(node: tree.Node, data: dict[str, list[dict[str, Any]]]) -> list[Any]:
    column = Arrays(NOW, ZONE).evaluate(node, Table(data, "Hive"))
    found = []
    for value, empty in zip(column.values.tolist(), column.empty.tolist(), strict=True):
        if not empty and node.type.name == "decimal":
            value = Decimal(value).scaleb(-node.type.places)
        if not empty and node.type.name == "time":
            value = (dt.datetime.min + dt.timedelta(microseconds=value)).time()
        if not empty and node.type.name == "row":
            value += 1
        found.append(None if empty else plain(value, node.type))
    return found


def by_database(
    node: tree.Node, data: dict[str, list[dict[str, Any]]], database: Database
) -> list[Any]:
    sql = database.sql(Names(), NOW, ZONE)
    query = f'SELECT {sql.write(node, "hive")} FROM "hive" ORDER BY id'
    database.run("BEGIN")
    try:
        for statement in inserts(data, sql):
            database.run(statement)
        found = [value for (value,) in database.run(query)]
    finally:
        database.run("ROLLBACK")
    if node.type.name == "decimal" and not database.ddl.exact:
        found = [None if v is None else Decimal(v).scaleb(-node.type.places) for v in found]
    return [plain(value, node.type) for value in found]


@st.composite
def texts(draw: st.DrawFn) -> str:
    kind = draw(st.sampled_from(["boolean", "boolean", "boolean", *VALUES]))
    return draw(written(kind, draw(st.integers(1, 3))))


@st.composite
def cases(draw: st.DrawFn) -> tuple[str, dict[str, list[dict[str, Any]]]]:
    text = draw(texts())
    read = set(re.findall("[a-z_]+", text))
    sites, hives = rows(3, 3, hive=False, read=read), rows(4, 3, hive=True, read=read)
    return text, {"Site": draw(sites), "Hive": draw(hives)}


@given(cases())
@settings(max_examples=200, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_all_targets_agree(
    databases: list[Database], case: tuple[str, dict[str, list[dict[str, Any]]]]
) -> None:
    text, data = case
    node = typed(text)
    by_hand = by_python(node, data)
    assert by_numpy(node, data) == by_hand, text
    for database in databases:
        assert by_database(node, data, database) == by_hand, (database.word, text)


@given(texts())
@settings(max_examples=150)
def test_an_expression_reads_back_as_it_is_written(written: str) -> None:
    node = typed(written)
    assume(not isinstance(node, tree.Const))
    text = as_text(node)
    assert as_text(typed(text)) == text


ZONES = (
    *("UTC", "Europe/Berlin", "America/St_Johns", "Pacific/Apia", "Asia/Kathmandu"),
    *("Pacific/Kiritimati", "America/Caracas", "Africa/Monrovia", "Antarctica/Troll"),
)


@given(
    st.sampled_from(ZONES),
    st.lists(st.datetimes(dt.datetime(1900, 1, 1), dt.datetime(2090, 1, 1)), min_size=1),
)
def test_sqlite_knows_the_day_of_a_moment_in_any_zone(
    zone: str, moments: list[dt.datetime]
) -> None:
    connection = sqlite3.connect(":memory:")
    ready(connection, zone)
    for moment in [one + dt.timedelta(minutes=n) for one in moments for n in (0, 0.5, 719, 1439)]:
        told = moment.isoformat(" ", "microseconds")
        here = moment.replace(tzinfo=dt.UTC).astimezone(ZoneInfo(zone))
        found = connection.execute("SELECT local_date(?)", (told,)).fetchone()[0]
        assert found == here.date().isoformat(), (zone, told)
    connection.close()
