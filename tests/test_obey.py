"""Made-up rows obey every rule, have the distributions that are asked for, and what is known
of an expression beforehand is true of all its values."""

from __future__ import annotations

import datetime as dt
import math
import re
import statistics
from collections import Counter
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import pytest
import test_rules as rules
from conftest import Project
from declared import understand
from hypothesis import Phase, given, settings
from hypothesis import strategies as st

from welbik.data.columns import as_python
from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.data.supply import Factory, Supply
from welbik.data.told import Told
from welbik.kinds.integer import Integer
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.rules import tree
from welbik.rules.brought import unmarked
from welbik.rules.html import limits
from welbik.rules.intervals import Interval, interval, number, outcomes
from welbik.rules.python import Python
from welbik.schema.model import Schema
from welbik.schema.tables import SchemaNames
from welbik.storage.sqlite import Sqlite, SqliteSql, ready

WHOLE = (Path(__file__).parent / "projects" / "whole-language.welbik").read_text("utf-8")
NOW = dt.datetime.now(dt.UTC)


def broken(schema: Schema, seed: int) -> dict[str, int]:
    """How many rows of a filled database break each rule, told by the database."""
    with TemporaryDirectory() as folder:
        database = Sqlite(Path(folder) / "x.db", create=True)
        database.migrate(
            "0001", "", "", lambda: statements(Sqlite.ddl, {}, difference({}, schema).steps, NOW)
        )
        fill(database, Drawer(schema, seed), schema.seed)
        ready(database.connection)
        found = {}
        for model in schema:
            for rule in model.rules:
                condition = SqliteSql(SchemaNames(schema)).write(rule.node, model.table)
                query = f'SELECT count(*) FROM "{model.table}" WHERE NOT ({condition})'
                found[f"{model.name}: {rule.text}"] = database.connection.execute(query).fetchone()[
                    0
                ]
            for unique in model.uniques:
                names = [f'"{model.stored(name).column}"' for name in unique.names]
                columns, there = ", ".join(names), " AND ".join(f"{n} IS NOT NULL" for n in names)
                query = f'SELECT count(*) FROM (SELECT 1 FROM "{model.table}" WHERE {there} GROUP BY {columns} HAVING count(*) > 1)'
                found[f"{model.name}: unique {columns}"] = database.connection.execute(
                    query
                ).fetchone()[0]
        database.close()
    return found


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_the_whole_register_obeys(seed: int) -> None:
    found = broken(understand(WHOLE)[0], seed)
    assert len(found) >= 10 and not any(found.values()), found


_RULES = [
    "a <= b", "b > c", "c != 4", "a + 2 < b or c is empty", "d is given when e is given", "not (c = 3)",
    "d >= e", "d <= today", "up.a <= b", "up.d < d", "count(kin) < 9", "a <= up.b and c is given",
    "t is given when c > 5", "length(t) > 3", "k = x or c is empty", "round(n, 1) >= 0.5", "e <= up.e", "a * 2 <= b + 9",
    "d - e between 0 and 400", "k in (x, y)", "t != \"abc\"", "n < up.n", "year(d) >= 2022", "least(a, b) > 1",
]  # fmt: skip


@st.composite
def ruled(draw: st.DrawFn) -> str:
    """Two models with values that rules join, within a model and across the relation."""
    fields = (
        "    a integer 1..9, required\n    b integer 0..20, required\n    c integer 0..9\n    d date 2020-01-01..today\n"
        "    e date 2020-01-01..today, sample 50% empty\n    t text 2..30\n    k one of x | y | z\n    n number 0..9\n"
    )
    own = [rule for rule in _RULES if "up." not in rule and "kin" not in rule]
    some = draw(st.lists(st.sampled_from(own), max_size=2, unique=True))
    top = f"model Top\n{fields}    kin <- Low.up\n" + "".join(f"    rule {r}\n" for r in some)
    low_rules = [rule for rule in _RULES if "kin" not in rule]
    more = draw(st.lists(st.sampled_from(low_rules), min_size=1, max_size=3, unique=True))
    how = draw(st.sampled_from([", required", "", ", required, sample evenly"]))
    unique = draw(st.sampled_from(["", "    unique a, b, c\n"]))
    low = f"model Low\n{fields}    up -> Top{how}\n{unique}" + "".join(
        f"    rule {r}\n" for r in more
    )
    return f"{top}\n{low}\nseed\n    12 Top\n    30 Low\n"


@given(ruled(), st.integers(1, 99))
@settings(max_examples=50, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_rows_obey_rules_within_and_across(text: str, seed: int) -> None:
    schema, problems = understand(text)
    assert not problems, problems
    found = broken(schema, seed)
    assert not any(found.values()), (text, found)


@given(ruled(), st.integers(0, 28))
@settings(max_examples=40, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_a_slice_is_the_same_wherever_it_is_cut(text: str, cut: int) -> None:
    schema = understand(text)[0]
    model = schema.models["Low"]
    whole = Drawer(schema, 3).draw(model, 0, 30, schema.seed)
    for start, stop in ((0, cut), (cut, 30), (cut, cut + 1)):
        part = Drawer(schema, 3).draw(model, start, stop, schema.seed)
        for name, drawn in part.items():
            kind = Integer() if name == "up" else model.by_name[name].kind  # type: ignore[union-attr]
            assert as_python(kind, drawn) == as_python(kind, whole[name])[start:stop], name


@given(ruled())
@settings(max_examples=40, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_factories_keep_the_rules_of_one_row_and_can_break_one(text: str) -> None:
    schema = understand(text)[0]
    model = schema.models["Top"]
    factory, told = Factory(schema, 7), Told(schema, "UTC")
    for _ in range(4):
        assert told.broken(model, factory.values("Top")) == []
    for rule in model.rules:
        if not any(isinstance(part, tree.Clock) for part in tree.walk(rule.node)):
            try:
                values = factory.values("Top", breaking=rule.name)
            except LookupError:
                continue
            assert told.broken(model, values) == [rule.name]


def test_a_factory_breaks_a_rule_between_fields() -> None:
    schema = understand(
        "model Hive\n    opened date, required\n    closed date\n    rule opened <= closed\n"
    )[0]
    model = schema.models["Hive"]
    (rule,) = model.rules
    values = Factory(schema, 7).values("Hive", breaking=rule.name)
    assert values["closed"] < values["opened"]
    assert Told(schema, "UTC").broken(model, values) == [rule.name]


SAMPLED = """\
model Site
    name    text 2..40, required, sample town
    owner   text 2..40, sample person and 50% empty
    height  integer 0..2000, required, sample normal(300, 50)
    yield_  decimal 0.1..500.0, required, sample lognormal(20, 1.5)
    kind    one of low | mid | high, required, sample weights(70, 20, 10)
    seen    date, sample within(30 days)
    note    text 400, required, sample sentences(2..3)
    tag     text 40, required, sample words(2..4)
    mark    text 9, required, sample from("red", "blue")
    frames  integer, required, sample from(3, 5)
    worth   decimal 0.00..9.99, required, sample from(1.5, 2.25)
    code    text 6..6, required, unique, matches "[A-Z]{2}-[0-9]{3}", sample pattern
    hives   <- Hive.site
model Hive
    site    -> Site, required, sample 1..5 per site
    other   -> Site, required, sample evenly
    far     -> Site, required, sample skewed
seed
    2_000 Site
    6_000 Hive
"""


def test_samples_have_the_distribution_that_is_asked_for() -> None:
    schema, problems = understand(SAMPLED)
    assert not problems, problems
    site = schema.models["Site"]
    drawn = Drawer(schema, 1).draw(site, 0, 2000, schema.seed)
    rows = {f.name: as_python(f.kind, drawn[f.name]) for f in site.fields}
    assert statistics.mean(rows["height"]) == pytest.approx(300, abs=5)
    assert statistics.stdev(rows["height"]) == pytest.approx(50, rel=0.1)
    assert float(statistics.median(rows["yield_"])) == pytest.approx(20, rel=0.1)
    assert set(rows["frames"]) == {3, 5}
    assert set(rows["worth"]) == {Decimal("1.50"), Decimal("2.25")}
    kinds = Counter(rows["kind"])
    assert [round(kinds[k] / 20) for k in ("low", "mid", "high")] == pytest.approx(
        [70, 20, 10], abs=4
    )
    assert sum(v is None for v in rows["owner"]) == pytest.approx(1000, abs=90)
    assert all(v is None or 0 <= (dt.date.today() - v).days <= 31 for v in rows["seen"])
    assert all(2 <= text.count(".") <= 3 for text in rows["note"])
    assert set(rows["mark"]) == {"red", "blue"} and all(len(t.split()) >= 2 for t in rows["tag"])
    assert len(set(rows["code"])) == 2000 and all(
        re.fullmatch("[A-Z]{2}-[0-9]{3}", c) for c in rows["code"]
    )


def test_fan_outs_are_as_declared() -> None:
    schema = understand(SAMPLED)[0]
    drawn = Drawer(schema, 1).draw(schema.models["Hive"], 0, 6000, schema.seed)
    shared = np.bincount(drawn["site"].values, minlength=2000)
    assert shared.min() >= 1 and shared.max() <= 6 and shared.sum() == 6000
    assert set(np.bincount(drawn["other"].values, minlength=2000)) == {3}
    far = np.bincount(drawn["far"].values, minlength=2000)
    assert far[:20].sum() > 10 * far[1000:1020].sum()


def test_the_screen_shows_the_rows_that_a_fill_stores(make: Callable[[str], Project]) -> None:
    project = make(WHOLE)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    shown = Supply(understand(WHOLE)[0], 1).rows("Harvest", 0, 900)
    database = Sqlite(project.root / "bees.db")
    stored = database.connection.execute("SELECT taken, kg FROM harvest ORDER BY id").fetchall()
    database.close()
    assert [(str(row["taken"]), int(row["kg"] * 10)) for row in shown] == stored


CSV = 'name,severity,seen,weight,sure\r\n"Varroa, mites",high,2024-05-01,1.50,yes\r\n"Say ""no""",low,,,no\r\n'


def test_rows_from_a_file(make: Callable[[str], Project]) -> None:
    project = make(
        "model Finding\n    name text 2..60, required, unique\n    severity one of low | high, required\n"
        '    seen date\n    weight decimal 0.00..9.99\n    sure boolean\nrows Finding from "findings.csv"\n'
    )
    assert "can't be read" in project.run("check", code=1).stdout
    project.write("data/findings.csv", CSV)
    project.run("check")
    for command in ("build", "migrate", "fill"):
        project.run(command)
    assert "Nothing to add" in project.run("fill").stdout
    database = Sqlite(project.root / "bees.db")
    stored = database.connection.execute(
        "SELECT name, severity, seen, weight, sure FROM finding"
    ).fetchall()
    database.close()
    assert stored == [
        ("Varroa, mites", "high", "2024-05-01", 150, 1),
        ('Say "no"', "low", None, None, 0),
    ]
    for wrong, said in (
        (CSV.replace("high", "hihg"), "did you mean high"),
        (CSV.replace("2024-05-01", "2024-05-32"), "not in the calendar"),
        (CSV.replace(",yes", ""), "4 cells, the header 5"),
        (CSV.replace("1.50", "a lot"), "is no number"),
        (CSV.replace("severity,", "severty,"), "no field 'severty'"),
    ):
        project.write("data/findings.csv", wrong)
        told = project.run("check", code=1).stdout
        assert "data/findings.csv:" in told and said in told, told
        project.run("check", "--fix", code=1)
        assert (project.root / "data/findings.csv").read_bytes() == wrong.encode()
    project.declare('model Finding\n    name text 9\nrows Finding from "../welbik.toml"\n')
    assert "outside data/" in project.run("check", code=1).stdout


def test_a_profile_has_its_own_counts(make: Callable[[str], Project]) -> None:
    project = make("model Hive\n    code text 7\nseed\n    3 Hive\nseed load\n    50 Hive\n")
    for command in ("build", "migrate", "fill"):
        project.run(command)
    assert "47 Hive" in project.run("fill", "--profile", "load").stdout
    assert "did you mean load" in project.run("fill", "--profile", "lod", code=2).stderr


_KNOWN = {
    "i": Interval(-9, 9),
    "j": Interval(-9, 9),
    "d": Interval(-5, 5),
    "e": Interval(-50, 50),
    "n": Interval(-10, 10),
}


def _bound(value: tree.Value) -> Interval:
    dates = {"day", "other_day"}
    ends = (dt.date(2024, 2, 27), dt.date(2024, 3, 3))
    if value.name in dates:
        return Interval(*map(number, ends))
    return _KNOWN.get(value.name, Interval(-math.inf, math.inf))


@given(rules.cases())
@settings(max_examples=200, phases=(Phase.explicit, Phase.reuse, Phase.generate))
def test_what_is_known_beforehand_is_true_of_all_values(case: tuple[str, Any]) -> None:
    """Intervals, outcomes and emptiness told from the expression hold for every row."""
    text, data = case
    node = rules.typed(text)
    found = rules.by_python(node, data)
    if not tree.maybe_empty(node):
        assert None not in found, text
    if node.type.name == "boolean":
        assert set(found) <= outcomes(node, _bound), text
    elif node.type.numeric or node.type.name == "date":
        low, high = interval(node, _bound)
        for value in found:
            assert value is None or low - 1e-9 <= number(value) <= high + 1e-9, text


def test_constant_bounds_become_attributes() -> None:
    def told(text: str) -> list[tuple[str, str, str]]:
        writer = Python(lambda model, name: name)
        return [
            (x.field, x.attribute, unmarked(writer.value(x.bound)))
            for x in limits(rules.typed(text))
        ]

    assert told("i >= 3 and i <= 7") == [("i", "min", "3"), ("i", "max", "7")]
    assert told("day <= today - 30 days") == [
        ("day", "max", "clock.today() - dt.timedelta(days=30)")
    ]
    assert told("length(t) between 2 and 5") == [("t", "minlength", "2"), ("t", "maxlength", "5")]
    assert told("i > 3 or j < 2") == [] and told("i <= j") == [] and told("up.i <= 4") == []
    assert told("d >= 0.50") == [("d", "min", 'Decimal("0.50")')]


def test_values_are_whole_whatever_the_target() -> None:
    assert (
        number(Decimal("2.5")) == 2.5
        and number(dt.date(2024, 1, 2)) - number(dt.date(2024, 1, 1)) == 1
    )
    with pytest.raises(LookupError, match="widen"):
        schema = understand("model A\n    n integer 1..9, required\n    rule n * n = 83\n")[0]
        Factory(schema).values("A")
