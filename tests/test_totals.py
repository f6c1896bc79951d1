"""Rules of a parent over what its rows come to together: the rows are drawn within them."""

from __future__ import annotations

from tempfile import TemporaryDirectory
from typing import Any

import numpy as np
from declared import understand
from hypothesis import given, settings
from hypothesis import strategies as st
from test_fill import Filling

from welbik.data.drawer import Drawer
from welbik.problems import WelbikError
from welbik.schema.model import Schema

TYPES = {
    "integer 1..50": (1, 50),
    "integer -20..20": (-20, 20),
    "decimal 0.5..40.0": (0.5, 40),
    "number 0..30": (0, 30),
}
_PLAIN = """\
model Apiary
    name     text 2..40, required, unique
    quota    integer {least}..{most}, required
    closed   boolean
    good_yard boolean, required
    harvests <- Harvest.apiary
    rule {rule}

model Harvest
    apiary  -> Apiary, required, sample 1..8 per apiary
    kg      {type}{more}
    good    boolean, required
seed
    {few} Apiary
    {many} Harvest
"""


@st.composite
def declared(draw: st.DrawFn) -> str:
    """A rule that leaves every apiary some way to keep it, however many rows it has."""
    type_ = draw(st.sampled_from(list(TYPES)))
    low, high = TYPES[type_]
    function = draw(st.sampled_from(["sum", "avg", "max", "min"]))
    upper = draw(st.booleans())
    # What eight rows can still be, or a single one.
    hardest = low * 8 if low > 0 and function == "sum" else low
    easiest = high if function != "sum" or low >= 0 else high
    least, most = int(hardest) + 1, int(easiest)
    least, most = min(least, most), max(least, most)
    end = draw(st.integers(least, most))
    told = "quota" if draw(st.integers(0, 3)) == 0 else str(end)
    asked = draw(st.sampled_from(["", " where good"])) if upper else ""
    rule = f"{function}(harvests.kg{asked}) {'<=' if upper else '>='} {told}"
    if draw(st.integers(0, 3)) == 0:
        # What is closed already may be drawn in the end: the rule is asked of the others alone.
        rule += draw(st.sampled_from([" or closed", " when good_yard"]))
    more = (
        draw(st.sampled_from([", required", "", ", sample 30% empty"])) if upper else ", required"
    )
    few = draw(st.integers(2, 12))
    many = draw(st.integers(few, few * 7))
    quota = {"least": least, "most": most}
    return _PLAIN.format(rule=rule, type=type_, more=more, few=few, many=many, **quota)


@given(declared(), st.integers(1, 99))
@settings(max_examples=50)
def test_rows_come_to_no_more_together_than_a_rule_of_their_parent_says(
    text: str, seed: int
) -> None:
    schema, problems = understand(text)
    assert not problems, problems
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder, seed)
        filling.fill(schema.seed)
        assert filling.broken() == {}
        more = {name: count + 1 + count // 3 for name, count in schema.seed.items()}
        try:
            filling.fill(more)
        except WelbikError as error:
            # Those that are there may leave no room for others.
            assert "would break a rule of Apiary" in error.message
            assert "sum" in text or ">=" in text
        assert filling.broken() == {}
    _is_drawn_alike_in_parts(schema, seed)


def _columns(schema: Schema, seed: int, start: int, stop: int) -> dict[str, Any]:
    drawn = Drawer(schema, seed).draw(schema.models["Harvest"], start, stop, schema.seed)
    return {name: one.values for name, one in drawn.items()}


def _is_drawn_alike_in_parts(schema: Schema, seed: int) -> None:
    """Whatever rows are asked for, they are the same; what breaks no rule is as it was drawn."""
    count = schema.seed["Harvest"]
    whole = _columns(schema, seed, 0, count)
    half = _columns(schema, seed, count // 2, count)
    for name, values in half.items():
        assert np.array_equal(values, whole[name][count // 2 :]), name


def test_rows_that_break_nothing_stay_as_they_are_drawn() -> None:
    text = _PLAIN.format(
        rule="{rule}", type="integer 1..50", more=", required", least=0, most=9, few=200, many=900
    )
    (free, _), (held, _) = (
        understand(text.format(rule=rule)) for rule in ("quota >= 0", "sum(harvests.kg) <= 100")
    )
    before, after = (_columns(schema, 1, 0, 900) for schema in (free, held))
    totals = np.bincount(before["apiary"], before["kg"], 200)
    fine = (totals <= 100)[before["apiary"]]
    assert 0.2 < fine.mean() < 0.8
    assert np.array_equal(before["kg"][fine], after["kg"][fine])
    over = np.bincount(after["apiary"], after["kg"], 200)
    assert over.max() <= 100
    # Totals that had to come down do not all end at the edge.
    assert (over[totals > 100] == 100).mean() < 0.3
    assert over[totals > 100].min() > 70


def test_rows_beside_stored_ones_leave_their_parents_within_the_rule() -> None:
    text = _PLAIN.format(
        rule="sum(harvests.kg where good) <= 100",
        type="integer 1..50",
        more=", required",
        least=0,
        most=9,
        few=60,
        many=90,
    )
    schema, _ = understand(text)
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder)
        for harvests in (90, 150, 300):
            filling.fill({"Apiary": 60, "Harvest": harvests})
            assert filling.broken() == {}
        ((most, over),) = filling.sql(
            "SELECT max(t), sum(t > 90) FROM (SELECT sum(kg) AS t FROM harvest WHERE good GROUP BY apiary_id)"
        )
        assert 90 < most <= 100 and over < 40


def test_numbers_that_no_product_of_theirs_fits_end_no_fill_in_silence() -> None:
    text = (
        "model A\n    n integer 0..9000000000000000000, required\n"
        "    m integer 0..9000000000000000000, required\n    rule n * 4 <= m\nseed\n    300 A\n"
    )
    schema, problems = understand(text)
    assert not problems
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder)
        filling.fill(schema.seed)
        assert filling.broken() == {}
