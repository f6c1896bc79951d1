"""Rows of unique groups differ by construction, whichever of them are asked for."""

from __future__ import annotations

import datetime as dt
from collections import Counter
from pathlib import Path

import numpy as np
import pytest
from declared import understand
from hypothesis import given, settings
from hypothesis import strategies as st
from scipy import stats
from servers import opened
from test_shares import drawn

from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.data.memory import Memory
from welbik.data.slices import Slice
from welbik.data.world import World
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.storage.tables import tables_of

GROUPED = """\
model Room
    name text 30, required
    opened date 2024-01-01..today, required
    used <- Booking.room
model Guest
    name text 30, required
model Booking
    room -> Room, required, sample 0..30 per room
    guest -> Guest, required
    on_day date 2024-01-01..2024-12-31, required
    place integer 1..40, required
    hour integer 8..18, required
    kind one of a | b, required
    unique room, on_day
    unique guest, place
    rule on_day >= room.opened or kind = b, at on_day
"""


@pytest.mark.parametrize("seed", [1, 4])
def test_groups_differ_by_construction(seed: int) -> None:
    schema, problems = understand(GROUPED)
    assert not problems, problems
    counts = {"Room": 200, "Guest": 900, "Booking": 3000}
    drawer = Drawer(schema, seed)
    rows = drawn(schema, "Booking", counts, seed)
    for names in (("room", "on_day"), ("guest", "place")):
        groups = list(zip(*(rows[name] for name in names), strict=True))
        assert len(set(groups)) == len(groups), names
    assert drawer.slots(schema.models["Booking"], counts)


FEW = """\
model Room
    name text 30, required
model Lesson
    room    -> Room, required, sample 0..25 per room
    weekday one of mon | tue | wed | thu | fri, required
    hour    integer 8..12, required
    unique room, weekday, hour
model Duty
    room  -> Room, required, sample 1..3 per room
    kind  one of swept | aired | locked | never, required, sample weights(80, 15, 5, 0)
    unique room, kind
model Note
    room  -> Room, required, sample 1..2 per room
    asked boolean, required
    told  text 40
    unique asked, room
model Setting
    kind  one of low | high | none, required
    loud  boolean
    level integer 1..4, required
    unique kind, loud, level
model Sound
    kind one of low | high | none, required, sample weights(3, 1, 1)
    tone one of soft | loud | dull, required, sample weights(2, 1, 1)
    unique kind, tone
"""


@pytest.mark.parametrize("seed", [1, 4, 9])
def test_fields_of_few_values_tell_rows_apart(seed: int) -> None:
    schema, problems = understand(FEW)
    assert not problems, problems
    counts = {"Room": 400, "Lesson": 5000, "Duty": 800, "Note": 600, "Setting": 20, "Sound": 6}
    drawer = Drawer(schema, seed)
    for name in ("Lesson", "Duty", "Note", "Setting"):
        model = schema.models[name]
        # By construction: no row is remembered, and any slice is drawn by itself.
        assert not drawer.must_mend(model, counts), name
        rows = drawn(schema, name, counts, seed)
        groups = list(zip(*(rows[n] for n in model.uniques[0].names), strict=True))
        given = [group for group in groups if None not in group]
        assert len(set(given)) == len(given), name
        part = drawer.draw(model, 7, 19, counts)["kind" if name in ("Duty", "Setting") else "room"]
        assert part.values.tolist() == rows["kind" if name in ("Duty", "Setting") else "room"][7:19]
    sounds = drawn(schema, "Sound", counts, seed)
    assert len({*zip(sounds["kind"], sounds["tone"], strict=True)}) == 6
    lessons = drawn(schema, "Lesson", counts, seed)
    for name in ("weekday", "hour"):
        found = Counter(lessons[name])
        assert len(found) == 5
        assert stats.chisquare(list(found.values())).pvalue > 0.001, name
    kinds = Counter(drawn(schema, "Duty", counts, seed)["kind"])
    assert kinds["never"] == 0 < kinds["locked"] < kinds["aired"] < kinds["swept"]


@given(st.permutations(range(60)), st.integers(1, 9))
@settings(max_examples=25)
def test_rows_are_the_same_in_any_order(order: list[int], seed: int) -> None:
    """As a parent's rows are asked for: all of them, and not one after another."""
    schema = understand(GROUPED)[0]
    model, counts = schema.models["Room"], {"Room": 60}
    drawer = Drawer(schema, seed)
    whole = drawer.draw(model, 0, 60, counts)
    # The first of all at its place, as when by chance it looks like a run.
    order = [0, *(at for at in order if at)]
    some = Slice(drawer, model, np.array(order), counts, final=True).all()
    for name, column in some.items():
        assert column.values.tolist() == whole[name].values[order].tolist(), name


LED = """\
model Room
    name text 30, required
    seats integer 1..40, required
model Teacher
    name text 30, required
    age integer 20..60, required
model Lesson
    room -> Room, required
    {fields}
    size integer 1..30, required
    unique {group}
    rule {way} and size < 40
"""


@pytest.mark.parametrize("seed", [1, 2, 3])
@pytest.mark.parametrize(
    ("way", "group", "fields"),
    [
        ("room.seats > 10", "room, day", "day date 2024-01-01..2024-02-28, required"),
        ("room.seats > 10", "room, teacher", "teacher -> Teacher, required"),
        ("teacher.age > 30", "room, teacher", "teacher -> Teacher, required"),
        (
            "room.seats > 10",
            "room, kind, hour",
            "kind one of a | b | c | d, required\n    hour integer 8..15, required",
        ),
    ],
)
def test_who_is_led_elsewhere_by_a_rule_is_told_apart_there(
    way: str, group: str, fields: str, seed: int
) -> None:
    """Some rooms are too small: their lessons go to another one, which has some already."""
    schema, problems = understand(LED.format(way=way, group=group, fields=fields))
    assert not problems, problems
    counts = {"Room": 40, "Teacher": 60, "Lesson": 250}
    to, field = way.partition(" ")[0].split(".")
    lessons, rows = (drawn(schema, name, counts, seed) for name in ("Lesson", to.capitalize()))
    groups = list(zip(*(lessons[name] for name in group.split(", ")), strict=True))
    assert len(set(groups)) == 250
    assert min(rows[field][row] for row in lessons[to]) > int(way.rpartition(" ")[2])


def test_nothing_is_remembered_where_nothing_is_stored_yet(tmp_path: Path) -> None:
    """A rule that what is drawn always keeps moves no row, unless people's rows are around."""
    schema, problems = understand(
        "model Hive\n    opened date 2020-01-01..2024-01-01, required\n"
        "model Harvest\n    hive -> Hive, required\n    taken date 2020-01-01..today, required\n"
        "    unique hive, taken\n    rule taken >= hive.opened\n"
    )
    assert not problems, problems
    model, counts = schema.models["Harvest"], {"Hive": 9, "Harvest": 90}
    drawer = Drawer(schema, 1)
    with opened("sqlite", tmp_path) as database:
        steps = list(difference({}, schema).steps)
        made = statements(database.ddl, {}, steps, dt.datetime.now(dt.UTC))
        database.migrate("0001", "1", "", lambda: made)
        database.prepare(tables_of(schema), "UTC")
        drawer.world = World(database, schema, counts, Memory(database))
        assert drawer.clashing(model, counts) == ()
        fill(database, Drawer(schema, 1), {"Hive": 9})
        drawer.world = World(database, schema, counts, Memory(database))
        assert drawer.clashing(model, counts) == tuple(model.uniques)
