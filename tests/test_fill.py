"""Rows that are added beside stored ones: whatever people did meanwhile, every rule holds of
what a fill adds, and what was there stays."""

from __future__ import annotations

import datetime as dt
import sqlite3
from collections.abc import Callable
from pathlib import Path
from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
import pytest
from conftest import Project
from declared import declarations, understand
from hypothesis import assume, example, given, settings
from hypothesis import strategies as st

from welbik.data.drawer import Drawer
from welbik.data.fill import Filled, fill
from welbik.data.streams import RowStream, philox
from welbik.data.supply import Supply
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.problems import WelbikError
from welbik.schema.model import Schema
from welbik.schema.tables import SchemaNames
from welbik.storage.sqlite import Sqlite, SqliteSql, ready

PETS = """\
model Chip
    number  text 9..9, required, unique, matches "[0-9]{9}"
    keep bin
model Owner
    name    text 2..40, required
    most    integer 1..400, required
    pets    <- Pet.owner
    keep bin
    rule count(pets) <= most, say "No more pets"
model Pet
    born    date 2015-01-01..today, required
    chip    -> Chip, unique
    owner   -> Owner
    place   integer 1..9, required
    name    text 2..40, required
    unique owner, place
    shots   <- Shot.pet
model Shot
    pet     -> Pet, required, owned
    given   date ..today, required, >= pet.born
    due     date, > given, sample within(400 days)
"""


class Filling:
    """A database of some declarations, filled several times."""

    def __init__(self, schema: Schema, folder: str, seed: int = 1) -> None:
        self.schema, self.seed = schema, seed
        self.path = Path(folder) / "x.db"
        self.database = Sqlite(self.path, create=True)
        made = statements(Sqlite.ddl, {}, difference({}, schema).steps, dt.datetime.now(dt.UTC))
        self.database.migrate("0001", "", "", lambda: made)
        ready(self.database.connection)

    def fill(self, counts: dict[str, int]) -> Filled:
        return fill(self.database, Drawer(self.schema, self.seed), counts)

    def sql(self, query: str, *values: Any) -> list[Any]:
        return self.database.connection.execute(query, values).fetchall()

    def broken(self) -> dict[str, int]:
        found = {}
        for model in self.schema:
            live = " AND removed_at IS NULL" if "bin" in model.keeps else ""
            for rule in model.rules:
                condition = SqliteSql(SchemaNames(self.schema)).write(rule.node, model.table)
                query = f'SELECT count(*) FROM "{model.table}" WHERE NOT ({condition}){live}'
                found[f"{model.name}: {rule.text}"] = self.sql(query)[0][0]
        return {rule: count for rule, count in found.items() if count}


def _schema(text: str) -> Schema:
    schema, problems = understand(text)
    assert not problems, problems
    return schema


COUNTS = st.fixed_dictionaries(
    {
        "Chip": st.integers(0, 60),
        "Owner": st.integers(1, 30),
        "Pet": st.integers(1, 60),
        "Shot": st.integers(0, 90),
    }
)
PEOPLE = st.lists(
    st.sampled_from(
        [
            "UPDATE pet SET born = date('now', '-2 days') WHERE id % 3 = 0",
            "UPDATE pet SET born = date('now')",
            "DELETE FROM shot WHERE id % 2 = 0",
            "DELETE FROM shot; DELETE FROM pet WHERE id % 2 = 1",
            "UPDATE owner SET removed_at = '2026-01-01 00:00:00.000000' WHERE id % 2 = 1",
            "UPDATE chip SET removed_at = '2026-01-01 00:00:00.000000' WHERE id % 3 = 1",
            "UPDATE owner SET most = max(1, (SELECT count(*) FROM pet WHERE owner_id = owner.id))",
            "UPDATE pet SET chip_id = NULL",
            "UPDATE pet SET owner_id = NULL WHERE id % 2 = 0",
        ]
    ),
    max_size=3,
)


@given(COUNTS, PEOPLE, COUNTS, st.integers(1, 99))
@example(
    {"Chip": 0, "Owner": 3, "Pet": 1, "Shot": 0},
    ["UPDATE owner SET most = 1"],
    {"Chip": 0, "Owner": 1, "Pet": 27, "Shot": 0},
    1,
)
@settings(max_examples=40)
def test_a_second_fill_fits_what_people_made_of_the_first(
    first: dict[str, int], changes: list[str], second: dict[str, int], seed: int
) -> None:
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(PETS), folder, seed)
        filling.fill(first)
        assert filling.broken() == {}
        filling.database.connection.executescript("PRAGMA foreign_keys = OFF;" + ";".join(changes))
        broken = filling.broken()
        pets = {row[0]: row for row in filling.sql("SELECT * FROM pet")}
        last = filling.sql("SELECT coalesce(max(id), 0) FROM pet")[0][0]
        filling.fill({name: first[name] + count for name, count in second.items()})
        assert filling.broken() == broken
        for query in (
            "SELECT count(*) FROM pet JOIN owner ON owner.id = owner_id WHERE pet.id > ? AND removed_at IS NOT NULL",
            "SELECT count(*) FROM pet JOIN chip ON chip.id = chip_id WHERE pet.id > ? AND removed_at IS NOT NULL",
        ):
            assert filling.sql(query, last) == [(0,)]
        now = {row[0]: row for row in filling.sql("SELECT * FROM pet")}
        assert {key: now[key] for key in pets} == pets
        assert filling.sql("PRAGMA foreign_key_check") == []


@given(declarations(), st.integers(1, 9), st.integers(1, 9), st.data())
@settings(max_examples=40)
def test_any_declarations_are_filled_again_after_rows_went(
    text: str, few: int, more: int, data: st.DataObject
) -> None:
    """Either the rows fit, or one clear error says which rule stands in the way."""
    schema, problems = understand(text)
    assume(not problems)
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder)
        counts = dict.fromkeys(schema.models, few)
        try:
            filling.fill(counts)
        except WelbikError:
            assume(False)
        for model in schema:
            if data.draw(st.booleans()):
                filling.database.connection.execute("PRAGMA foreign_keys = ON")
                key = SchemaNames(schema).key(model.name)
                for (row,) in filling.sql(f'SELECT "{key}" FROM "{model.table}"')[::2]:
                    try:
                        filling.sql(f'DELETE FROM "{model.table}" WHERE "{key}" = ?', row)
                    except sqlite3.IntegrityError:
                        continue
        broken = filling.broken()
        try:
            filling.fill(dict.fromkeys(schema.models, few + more))
        except WelbikError as error:
            assert error.remedy and "refused" not in error.message, error.message
        assert filling.broken() == broken


def test_a_rule_of_a_stored_row_keeps_new_rows_from_it() -> None:
    text = PETS + "seed\n    2 Owner\n"
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(text), folder)
        filling.fill({"Owner": 2})
        filling.sql("UPDATE owner SET most = 1 WHERE id = 1")
        filling.sql("UPDATE owner SET most = 400 WHERE id = 2")
        filling.fill({"Owner": 2, "Pet": 8})
        counts = dict(filling.sql("SELECT owner_id, count(*) FROM pet GROUP BY owner_id"))
        assert counts.get(1, 0) <= 1 and counts[2] >= 4


@pytest.mark.parametrize(
    "sample", ["", ", sample skewed", ", sample evenly", ", sample 0..9 per owner"]
)
@pytest.mark.parametrize("rule", ["count(pets) <= most", "most > count(pets) - 1"])
def test_the_last_room_that_people_left_is_found(sample: str, rule: str) -> None:
    text = f"""\
model Owner
    most    integer 0..400, required
    pets    <- Pet.owner
    rule {rule}
model Pet
    owner   -> Owner, required{sample}
"""
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(text), folder)
        filling.fill({"Owner": 40, "Pet": 60})
        led = "(SELECT count(*) FROM pet WHERE owner_id = owner.id)"
        filling.sql(f"UPDATE owner SET most = {led} + id % 5 / 3 * (id % 5)")
        wanted = filling.sql("SELECT sum(most) FROM owner")[0][0]
        assert wanted == 60 + 8 * (3 + 4)
        filling.fill({"Owner": 40, "Pet": wanted})
        assert filling.sql(f"SELECT count(*) FROM owner WHERE most <> {led}") == [(0,)]
        with pytest.raises(WelbikError, match="more rows of Pet would break a rule of Owner"):
            filling.fill({"Owner": 40, "Pet": wanted + 1})


def test_what_cannot_be_kept_is_named_and_nothing_is_added() -> None:
    text = "model A\n    n integer 0..9, required\n    bs <- B.a\nmodel B\n    a -> A, required\n    m integer 0..9, required, > a.n\n"
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(text), folder)
        filling.fill({"A": 3})
        filling.sql("UPDATE a SET n = 9")
        with pytest.raises(WelbikError, match="keeps: m > a.n"):
            filling.fill({"A": 3, "B": 5})
        assert filling.sql("SELECT count(*) FROM b") == [(0,)]


HANDED = """\
model Owner
    since   date 2015-01-01..today, required
model Pet
    owner   -> Owner, required
    born    date, required, >= owner.since
model Shot
    pet     -> Pet, required
    given   date, required, >= pet.born
    tags    <-> Tag, required
model Tag
    name    text 2..20, required, unique
"""


def test_rows_follow_those_that_follow_people_s() -> None:
    """Who is read for the sake of others may be read themselves: from people's rows on, all are."""
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(HANDED), folder)
        filling.fill({"Owner": 4, "Tag": 3})
        filling.sql("UPDATE owner SET since = date('now', '-9 days')")
        filling.fill({"Owner": 4, "Tag": 3, "Pet": 40, "Shot": 90})
        assert filling.broken() == {}
        assert filling.sql("SELECT count(*) FROM shot") == [(90,)]


def test_pairs_that_a_stopped_fill_owes_are_made_by_the_next(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(HANDED), folder)
        counts = {"Owner": 4, "Tag": 3, "Pet": 10, "Shot": 20}
        with monkeypatch.context() as stopped:
            stopped.setattr("welbik.data.fill.Filling.pairs", _stop)
            with pytest.raises(KeyboardInterrupt):
                filling.fill(counts)
        without = "SELECT count(*) FROM shot WHERE id NOT IN (SELECT shot_id FROM shot_tags)"
        assert filling.sql(without) == [(20,)]
        # Something else is asked for meanwhile.
        filling.fill({**counts, "Pet": 12})
        assert filling.sql(without) == [(0,)]
        pairs = filling.sql("SELECT count(*) FROM shot_tags")
        filling.fill({**counts, "Pet": 14})
        assert filling.sql("SELECT count(*) FROM shot_tags") == pairs


def _stop(filling: object) -> None:
    raise KeyboardInterrupt


LOOKUP = """\
model Kind
    name    text 2..20, required, unique
    legs    integer 0..8
    note    text 20
    animals <- Animal.kind
model Animal
    name    text 2..20, required
    kind    -> Kind, required
rows Kind
    name | legs
    "Cat"  | 4
    "Dog"  | 4
    "Owl"  | 2
seed
    9 Animal
"""


def test_fixed_rows_are_told_by_their_unique_text(make: Callable[[str], Project]) -> None:
    project = make(LOOKUP)
    for command in ("build", "migrate", "fill"):
        project.run(command)

    def kinds() -> dict[str, Any]:
        with sqlite3.connect(project.root / "bees.db") as connection:
            return dict(connection.execute("SELECT name, legs FROM kind ORDER BY id").fetchall())

    def change(query: str) -> None:
        with sqlite3.connect(project.root / "bees.db") as connection:
            connection.execute(query)

    assert kinds() == {"Cat": 4, "Dog": 4, "Owl": 2}
    assert "Nothing to add" in project.run("fill").stdout
    # A row between others, and another number: both arrive, and nothing is made up.
    project.replace("models/bees.welbik", '    "Dog"  | 4', '    "Bat"  | 2\n    "Dog"  | 3')
    project.run("status", code=1)
    said = project.run("fill").stdout
    assert "1 Kind" in said and "1 fixed row of Kind changed" in said
    assert kinds() == {"Cat": 4, "Dog": 3, "Owl": 2, "Bat": 2}
    # What a person changed is left and named, also when the declaration changes it too.
    change("UPDATE kind SET legs = 7 WHERE name = 'Cat'")
    project.replace("models/bees.welbik", '"Cat"  | 4', '"Cat"  | 5')
    said = project.run("fill").stdout
    assert "Kind Cat has another legs than declared: left so." in said
    assert kinds()["Cat"] == 7
    # Called otherwise, or removed, by a person: it does not come back.
    change("UPDATE kind SET name = 'Hound' WHERE name = 'Dog'")
    change("UPDATE animal SET kind_id = 1")
    change("DELETE FROM kind WHERE name = 'Owl'")
    said = project.run("fill").stdout
    assert "Kind Owl was removed by somebody" in said and "Kind Dog has another name" in said
    assert kinds() == {"Cat": 7, "Hound": 3, "Bat": 2}
    # No longer declared: it stays, others may refer to it.
    project.replace("models/bees.welbik", '    "Bat"  | 2\n', "")
    assert "Kind Bat is not declared any more" in project.run("fill").stdout
    assert "Bat" in kinds()


def test_rows_are_made_up_beside_fixed_ones_only_as_far_as_asked() -> None:
    with TemporaryDirectory() as folder:
        filling = Filling(_schema(LOOKUP), folder)
        filling.fill({"Animal": 5})
        filling.fill({"Animal": 50})
        assert filling.sql("SELECT count(*) FROM kind") == [(3,)]
        filling.fill({"Kind": 6, "Animal": 50})
        assert filling.sql("SELECT count(*), count(DISTINCT name) FROM kind") == [(6, 6)]
        assert filling.sql("SELECT name FROM kind ORDER BY id LIMIT 3") == [
            ("Cat",),
            ("Dog",),
            ("Owl",),
        ]


UPLOADS = """\
model Paper
    name    text 2..20, required
    scan    file up to 10 KB of pdf, required
    plan    file
    face    image up to 4 MB, required
    small   image up to 2 KB of gif
    wide    image of webp, jpg
seed
    12 Paper
"""


def test_made_up_uploads_are_files_that_the_site_takes_and_shows(
    make: Callable[[str], Project],
) -> None:
    from io import BytesIO

    from PIL import Image
    from served import Visitor, served

    project = make(UPLOADS)
    for command in ("build", "migrate", "fill"):
        project.run(command)
    import json

    with sqlite3.connect(project.root / "bees.db") as connection:
        rows = connection.execute("SELECT scan, plan, face, small, wide FROM paper").fetchall()
    with served(project) as address:
        visitor = Visitor(address)
        for number in (1, 2):
            assert visitor.ask(f"/papers/{number}").status == 200
            assert visitor.ask(f"/papers/{number}/edit").status == 200
            assert visitor.send(f"/papers/{number}/edit", {"name": "Renamed"}).status == 303
        kinds = set()
        for scan, plan, *images in rows:
            assert (json.loads(scan)["type"], scan is not None) == ("pdf", True)
            for held in (scan, plan):
                if held:
                    kinds.add(json.loads(held)["type"])
            for held in filter(None, images):
                one = json.loads(held)
                data = (project.root / "instance" / "files" / one["digest"]).read_bytes()
                assert len(data) == one["size"]
                assert Image.open(BytesIO(data)).format.lower() == one["type"]
                kinds.add(one["type"])
        assert {"pdf", "gif", "webp", "png"} <= kinds
    assert "passed" in project.python("-m", "pytest", "-q", "-p", "no:cacheprovider").stdout


def test_a_slice_costs_its_own_rows_alone(monkeypatch: pytest.MonkeyPatch) -> None:
    """Parents are made up only where they are shown or read: ten rows of many cost ten."""
    text = PETS.replace("    unique owner, place\n", "").replace(
        '    rule count(pets) <= most, say "No more pets"\n', ""
    )
    text += "seed\n    90_000 Chip\n    500_000 Owner\n    90_000 Pet\n    400_000 Shot\n"
    schema, drawn = _schema(text), [0]
    words = RowStream.words

    def counted(stream: RowStream, purpose: str = "value") -> Any:
        drawn[0] += stream.size
        return words(stream, purpose)

    monkeypatch.setattr(RowStream, "words", counted)
    for model in ("Pet", "Shot"):
        some = Supply(schema, 1).rows(model, 40_000, 40_010)
        assert len(some) == 10
        assert drawn[0] < 10 * 40 * 20
        assert some == Supply(schema, 1).rows(model, 40_000, 40_040)[:10]


@given(st.lists(st.integers(0, 2**40), min_size=1, max_size=30), st.integers(0, 2**128 - 1))
def test_any_words_of_a_stream_are_those_that_numpy_gives(places: list[int], key: int) -> None:
    blocks = philox(np.array(places), key)
    for place, words in zip(places, blocks.tolist(), strict=True):
        generator = np.random.Philox(key=key).advance(place - 1 if place else 2**256 - 1)
        assert generator.random_raw(4).tolist() == words


@given(declarations(), st.data())
@settings(max_examples=30)
def test_scattered_rows_are_those_of_the_whole(text: str, data: st.DataObject) -> None:
    schema, problems = understand(text)
    assume(not problems)
    model = data.draw(st.sampled_from([schema.models[name] for name in sorted(schema.models)]))
    counts = dict.fromkeys(schema.models, 24)
    try:
        whole = Drawer(schema, 3).draw(model, 0, 24, counts)
    except WelbikError:
        assume(False)
    only = np.array(sorted(data.draw(st.sets(st.integers(0, 23), min_size=1))))
    start, stop = int(only[0]), int(only[-1]) + 1
    part = Drawer(schema, 3).draw(model, start, stop, counts, only)
    for name, column in whole.items():
        given = np.zeros(24, dtype=bool) if column.empty is None else column.empty
        found = part[name].empty
        found = np.zeros(len(only), dtype=bool) if found is None else found
        assert (found == given[only]).all()
        assert (part[name].values == column.values[only])[~found].all()
