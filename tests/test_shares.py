"""What declarations say of made-up rows holds after the rules: shares, distributions, fan-outs."""

from __future__ import annotations

import datetime as dt
import math
from collections import Counter
from collections.abc import Callable
from itertools import combinations
from typing import Any

import numpy as np
import pytest
from conftest import Project
from declared import understand
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from scipy import stats

from welbik.data.columns import as_python
from welbik.data.drawer import Drawer
from welbik.data.limits import Limits
from welbik.data.pairs import pairs_of
from welbik.data.sharing import NO_END, Law, Sharing, Tree
from welbik.data.slices import Slice
from welbik.data.streams import permuted, permuted_each, unpermuted
from welbik.data.topping import Topping
from welbik.schema.model import Schema
from welbik.storage.connect import connect

QUIET = (Phase.explicit, Phase.reuse, Phase.generate)


def drawn(schema: Schema, name: str, counts: dict[str, int], seed: int = 1) -> dict[str, list[Any]]:
    model = schema.models[name]
    rows = Drawer(schema, seed).draw(model, 0, counts[name], counts)
    found: dict[str, list[Any]] = {f.name: as_python(f.kind, rows[f.name]) for f in model.fields}
    for reference in model.references:
        column = rows[reference.name]
        found[reference.name] = column.values.tolist()
        for at in np.flatnonzero(column.empty) if column.empty is not None else ():
            found[reference.name][at] = None
    return found


def share(values: list[Any]) -> float:
    return sum(value is None for value in values) / len(values)


@given(st.integers(1, 10**6), st.integers(0, 2**64), st.data())
def test_a_permutation_is_undone(size: int, key: int, data: st.DataObject) -> None:
    start = data.draw(st.integers(0, size - 1))
    index = np.arange(start, min(size, start + 2000))
    assert unpermuted(permuted(index, size, key), size, key).tolist() == index.tolist()


@given(st.lists(st.integers(1, 40), min_size=1, max_size=60), st.integers(0, 2**120))
def test_many_permutations_at_once_take_no_two_to_one(sizes: list[int], key: int) -> None:
    index = np.concatenate([np.arange(size) for size in sizes])
    which = np.repeat(np.arange(len(sizes)), sizes)
    out = permuted_each(index, np.repeat(sizes, sizes), which, key)
    for number, size in enumerate(sizes):
        assert sorted(out[which == number].tolist()) == list(range(size))


LAWS = st.one_of(
    st.just(Law()),
    st.just(Law("evenly")),
    st.just(Law("skewed")),
    st.tuples(st.integers(0, 6), st.integers(0, 12)).map(lambda t: Law("range", t[0], sum(t))),
    st.integers(1, 20).map(lambda high: Law("any", 0, high)),
)


@given(
    st.integers(1, 4000),
    st.integers(1, 400),
    LAWS,
    st.sampled_from([0, 0.1, 0.5, 1]),
    st.booleans(),
)
@settings(max_examples=60)
def test_rows_are_shared_out_as_the_law_says(
    rows: int, have: int, law: Law, empty: float, unique: bool
) -> None:
    """All add up, each parent gets what it may, and both ways agree; for large tables too."""
    import welbik.data.sharing as sharing

    shared = Sharing(7, rows, have, law, empty=empty, start=3, unique=unique)
    index = np.arange(3, 3 + rows)
    parents, none = shared.parents(index)
    each = np.bincount(parents[~none], minlength=have)
    assert none.sum() == (max(round(rows * empty), rows - have) if unique else round(rows * empty))
    if unique:
        assert each.max(initial=0) <= 1
    elif law.word in ("range", "evenly") or law.high is not None:
        total = rows - int(none.sum())
        low = law.low if law.word != "evenly" else total // have
        high = law.high if law.high is not None else math.ceil(total / have)
        assert each.min() >= min(low, total // have)
        assert each.max() <= max(high, math.ceil(total / have))
    children, owner = shared.children(np.arange(have))
    assert sorted(children.tolist()) == index[~none].tolist()
    assert (parents[children - 3] == owner).all()
    kept, sharing._KEPT = sharing._KEPT, 0
    try:
        again = Sharing(7, rows, have, law, empty=empty, start=3, unique=unique)
        assert again.parents(index)[0].tolist() == parents.tolist()
        assert again.children(np.arange(have))[0].tolist() == children.tolist()
    finally:
        sharing._KEPT = kept


@given(st.integers(1, 3000), st.floats(0, 1), LAWS)
@settings(max_examples=60)
def test_trees_have_generations(rows: int, empty: float, law: Law) -> None:
    tree = Tree(5, rows, law, empty=empty)
    index = np.arange(rows)
    parents, none = tree.parents(index)
    assert (parents[~none] < index[~none]).all() and none[0]
    assert abs(none.sum() - max(1, round(rows * empty))) <= len(tree.ends)
    assert len(tree.ends) <= 10
    children, owner = tree.children(index)
    assert sorted(children.tolist()) == index[~none].tolist()
    assert (parents[children] == owner).all()
    generation = tree.generation(index)
    assert (generation[~none] == generation[parents[~none]] + 1).all()


_BOUNDS = ["0..100", "5..40", "-20..20"]


@st.composite
def ruled(draw: st.DrawFn) -> tuple[str, dict[str, float]]:
    """Declarations with shares of empty that rules pull at, and the shares that are declared."""
    wanted = {name: draw(st.sampled_from([10, 30, 50, 70, 85])) for name in ("b", "d", "e", "k")}
    at = draw(st.sampled_from(_BOUNDS))
    some = draw(
        st.lists(
            st.sampled_from(
                [
                    "a <= b",
                    "b >= 3 or a < 3",
                    "d >= up.d",
                    "e > d",
                    "e >= d + 10 days",
                    "k is given when d is given",
                    "k = x when a < 5",
                    "a + b <= 150",
                    "e is empty when k = y",
                    "not (k = z)",
                    "b >= up.most - 200",
                ]
            ),
            max_size=3,
            unique=True,
        )
    )
    text = f"""\
model Top
    most integer 0..100, required
    d date 2018-01-01..today, required
    lows <- Low.up
model Low
    up -> Top, required, sample 2..9 per top
    a integer {at}, required
    b integer {at}, sample {wanted["b"]}% empty
    d date 2018-01-01..today, sample {wanted["d"]}% empty
    e date 2018-01-01..today, sample {wanted["e"]}% empty
    k one of x | y | z, sample {wanted["k"]}% empty
"""
    return text + "".join(f"    rule {rule}\n" for rule in some), wanted


@given(ruled(), st.integers(1, 50))
@settings(max_examples=40, phases=QUIET, deadline=None)
def test_declared_shares_hold_after_the_rules(
    case: tuple[str, dict[str, float]], seed: int
) -> None:
    text, wanted = case
    schema, problems = understand(text)
    assert not problems, problems
    rows = drawn(schema, "Low", {"Top": 800, "Low": 4000}, seed)
    drawer = Drawer(schema, seed)
    model, counts = schema.models["Low"], {"Top": 800, "Low": 4000}
    for name, percent in wanted.items():
        # Where rules force more rows than are declared, one way or the other, no share can hold.
        limits = Limits(Slice(drawer, model, np.arange(4000), counts, final=False), name)
        least = float((limits.absent & ~limits.given).mean())
        most = 1 - float(limits.given.mean())
        expected = min(max(percent / 100, least), most)
        assert abs(share(rows[name]) - expected) <= 0.03, (name, text)


DISTRIBUTED = """\
model Thing
    plain integer 0..99, required
    bell integer 0..40, required, sample normal(18, 6)
    cut number 0..3, required, sample normal(2.5, 2)
    skew decimal 0.01..99.99, required, sample lognormal(8, 2)
    cents decimal 0.00..9.99, required
    kind one of a | b | c | d, required, sample weights(10, 40, 25, 25)
    sure boolean, required, sample weights(80, 20)
    listed integer, required, sample from(3, 5, 8)
    clock time 08:00..12:00, required
    number number 0..1, required
"""


def _ks(values: list[float], cdf: Any, step: float) -> float:
    """The p-value of Kolmogorov–Smirnov for values rounded to a step: spread over it first."""
    noise = np.random.default_rng(1).uniform(-step / 2, step / 2, len(values))
    return float(stats.kstest(np.array(values, dtype=float) + noise, cdf).pvalue)


@pytest.mark.parametrize("seed", [1, 2, 3])
def test_values_have_the_distributions_that_are_declared(seed: int) -> None:
    schema, problems = understand(DISTRIBUTED)
    assert not problems
    rows = drawn(schema, "Thing", {"Thing": 8000}, seed)

    def cut(dist: Any, low: float, high: float) -> Any:
        below, above = dist.cdf(low), dist.cdf(high)
        return lambda x: np.clip((dist.cdf(x) - below) / (above - below), 0, 1)

    chances = [
        stats.chisquare([Counter(rows["plain"])[n] for n in range(100)]).pvalue,
        _ks(rows["bell"], cut(stats.norm(18, 6), -0.5, 40.5), 1),
        _ks(rows["cut"], cut(stats.norm(2.5, 2), 0, 3), 0.01),
        _ks(
            [float(v) for v in rows["skew"]],
            cut(stats.lognorm(math.log(2), scale=8), 0.005, 99.995),
            0.01,
        ),
        _ks([float(v) for v in rows["cents"]], stats.uniform(-0.005, 10).cdf, 0.01),
        stats.chisquare([Counter(rows["kind"])[k] for k in "abcd"], [800, 3200, 2000, 2000]).pvalue,
        stats.chisquare([sum(rows["sure"]), 8000 - sum(rows["sure"])], [6400, 1600]).pvalue,
        stats.chisquare([Counter(rows["listed"])[n] for n in (3, 5, 8)]).pvalue,
        _ks([t.hour * 60 + t.minute for t in rows["clock"]], stats.uniform(479.5, 241).cdf, 1),
        _ks(rows["number"], stats.uniform(-0.005, 1.01).cdf, 0.01),
    ]
    assert min(chances) > 0.001, chances
    assert set(rows["listed"]) == {3, 5, 8}


def test_what_a_rule_cuts_is_cut_and_piles_up_nowhere() -> None:
    schema = understand(
        "model A\n    low integer 0..20, required\n    high integer 0..40, required, sample normal(10, 5)\n"
        "    rule high > low, at high\n"
    )[0]
    rows = drawn(schema, "A", {"A": 20_000})
    for low in (3, 12, 20):
        found = [h for a, h in zip(rows["low"], rows["high"], strict=True) if a == low]
        assert min(found) == low + 1
        dist = stats.norm(10, 5)
        below = dist.cdf(low + 0.5)

        def cdf(x: Any, below: float = below, dist: Any = dist) -> Any:
            return np.clip((dist.cdf(x) - below) / (dist.cdf(40.5) - below), 0, 1)

        assert _ks(found, cdf, 1) > 0.001


def test_two_fields_of_a_row_follow_from_streams_of_their_own() -> None:
    """No field tells another, nor a time of day its day: every pair of a model's fields."""
    text = """\
model Visit
    held datetime 2020-01-01T00:00..now, required
    seen datetime 2020-01-01T00:00..now, required
    on_day date 2020-01-01..today, required
    at_time time, required
    n integer 0..1000, required
    m integer 0..1000, required
    price decimal 0.00..100.00, required
    x number 0..1, required
    kind one of a | b | c, required
    sure boolean, required
    length duration 0..8 hours, required
    note text 400, required
    code text 9, required, matches "[0-9]{6}"
    name text 60, required
    street text 60, required
    left_out integer 0..9, sample 50% empty
"""
    schema, problems = understand(text)
    assert not problems, problems
    rows = drawn(schema, "Visit", {"Visit": 4000})
    columns: dict[str, list[float]] = {}
    for name, values in rows.items():
        first = next(value for value in values if value is not None)
        if isinstance(first, dt.datetime):
            columns[f"{name} day"] = [v.toordinal() for v in values]
            columns[f"{name} time"] = [v.hour * 60 + v.minute for v in values]
            columns[f"{name} weekday"] = [v.weekday() for v in values]
        elif isinstance(first, dt.date):
            columns[name] = [v.toordinal() for v in values]
        elif isinstance(first, dt.time):
            columns[name] = [v.hour * 60 + v.minute for v in values]
        elif isinstance(first, dt.timedelta):
            columns[name] = [v.total_seconds() for v in values]
        elif name == "left_out":
            columns[name] = [float(v is None) for v in values]
        elif isinstance(first, str):
            known = {text: at for at, text in enumerate(sorted(set(values)))}
            columns[name] = [known[v] for v in values]
        else:
            columns[name] = [float(v) for v in values]
    for one, other in combinations(columns, 2):
        if one.split()[0] == other.split()[0] and "weekday" in other:
            continue
        found = stats.spearmanr(columns[one], columns[other])
        assert abs(found.statistic) < 0.08, (one, other, found)


def test_days_have_weekends_seasons_and_growth() -> None:
    schema = understand("model A\n    seen date 2016-01-01..2025-12-31, required\n")[0]
    days = drawn(schema, "A", {"A": 40_000})["seen"]
    week, month = Counter(d.weekday() for d in days), Counter(d.month for d in days)
    assert max(week[5], week[6]) < min(week[n] for n in range(5)) * 0.6
    assert month[6] + month[7] > 1.5 * (month[12] + month[1])
    assert sum(d.year >= 2021 for d in days) > 0.52 * len(days)


PAIRED = """\
model Topic
    name text 30, required, unique
model Talk
    name text 30, required
    topics <-> Topic, sample 2..4 per talk
    others <-> Topic
    rule count(others) <= 2, say "Two at most"
"""


def test_pairs_come_once_and_as_many_as_are_said() -> None:
    schema, problems = understand(PAIRED)
    assert not problems, problems
    model, drawer = schema.models["Talk"], Drawer(schema, 3)
    topics, others = (m for m in model.many if m.declares)
    for many, low, high in ((topics, 2, 4), (others, 0, 2)):
        owners, found = pairs_of(drawer, model, many, np.arange(1000), 7, (1000, 0))
        assert len(set(zip(owners.tolist(), found.tolist(), strict=True))) == len(owners)
        each = np.bincount(owners, minlength=1000)
        assert each.min() == low and each.max() == high
        # Any rows have the pairs that they have among all.
        some = np.array([5, 17, 400])
        mine, theirs = pairs_of(drawer, model, many, some, 7, (1000, 0))
        for at, row in enumerate(some.tolist()):
            assert theirs[mine == at].tolist() == found[owners == row].tolist()


def test_rules_that_only_trying_keeps_are_told(make: Callable[[str], Project]) -> None:
    declared = (
        "model A\n    n integer 1..900, required\n    m integer 1..900, required\n"
        "    rule {}\nseed\n    300 A\n"
    )
    rule = "n * n + m * m < 90000"
    told = make(declared.format(rule)).run("check").stdout
    assert "remark:" in told and f"'{rule}'" in told and "n " in told and " to " in told
    for rule in ("n + m < 1500", "n * m < 9000", "n / m > 3", "n * -2 < -m"):
        assert "remark" not in make(declared.format(rule)).run("check").stdout


@pytest.mark.parametrize(
    ("ends", "many"),
    [
        *[("-1000000..-1000000", 1), ("0.1..0.1", 1), ("0..0", 1), ("0.000001..0.000002", 60)],
        *[("1000000000..1000000000.0000001", 2), ("12345678901234567890..12345678901234567890", 1)],
        *[("-900000000000000000000..900000000000000000000", 190), ("..-99999999999999999999", 1)],
    ],
)
def test_numbers_lie_between_any_ends(ends: str, many: int) -> None:
    schema, problems = understand(f"model A\n    n number {ends}, required\n")
    assert not problems
    values = drawn(schema, "A", {"A": 200})["n"]
    low, high = (float(end) if end else -math.inf for end in ends.split(".."))
    assert all(low <= value <= high for value in values)
    assert len(set(values)) >= many


def test_sentences_take_any_name_and_label() -> None:
    schema, problems = understand(
        'model Hive\n    called "a {0} {thing}  of {{wood" | "hives"\n    notes text 2..300, required\n'
        '    number integer 1..9, label "  as  {many}} as "\n'
    )
    assert not problems, problems
    texts = drawn(schema, "Hive", {"Hive": 3_000})["notes"]
    assert [text for text in texts if " ".join(text.split()) != text] == []
    assert any("{0} {thing} of {{wood" in text for text in texts)
    assert any(text.startswith("As {many}} as: ") for text in texts)


OCCASIONS = """\
model Hive
    opened  date 2015-01-01..today, required
    closed  date, >= opened, sample {closed}% empty
    why     text 60, sample sentences(1..1) and {why}% empty and only when closed is given
    kept    one of yes | no, required, sample weights(10, 90)
    heir    text 40, sample person only when why is given and opened < 2022-01-01
    rule heir is given when kept = yes, at heir
"""


@given(st.integers(20, 80), st.integers(0, 60), st.integers(1, 99))
@settings(max_examples=15, phases=QUIET)
def test_values_stand_only_where_they_are_wanted(closed: int, why: int, seed: int) -> None:
    schema, _ = understand(OCCASIONS.format(closed=closed, why=why))
    rows = drawn(schema, "Hive", {"Hive": 4_000}, seed)
    early, none = dt.date(2022, 1, 1), 0
    may = []
    for day, end, reason, kept, heir in zip(
        *(rows[name] for name in ("opened", "closed", "why", "kept", "heir")), strict=True
    ):
        assert end is not None or reason is None
        assert (heir is not None) >= (kept == "yes")
        assert heir is None or kept == "yes" or (reason is not None and day < early)
        none += heir is None and reason is not None and day < early
        may += [reason] if end is not None else []
    assert abs(share(rows["closed"]) - closed / 100) < 0.03
    # Of a hundred tries some lie three standard errors off.
    assert abs(share(may) - why / 100) < max(0.03, 5 * math.sqrt(0.25 / len(may)))
    # What may have a value has one as often as any optional field.
    assert (
        none
        < 0.5
        * sum(r is not None and d < early for r, d in zip(rows["why"], rows["opened"], strict=True))
        + 9
    )


@given(
    st.lists(st.integers(0, 9), min_size=1, max_size=12),
    st.integers(0, 4),
    st.integers(0, 9),
    st.integers(1, 80),
    st.sampled_from([0.0, 0.0, 0.3, 1.0]),
    st.integers(0, 2**100),
    st.booleans(),
)
def test_rows_beside_stored_ones_bring_parents_into_their_range(
    there: list[int], low: int, more: int, rows: int, empty: float, key: int, required: bool
) -> None:
    start = 7
    any_number = np.zeros(len(there), np.int64), np.full(len(there), NO_END)
    few = np.array([(key >> 3 * at) % 8 for at in range(len(there))])
    held = Topping(
        *(key, rows, np.array(there), *any_number),
        **{"empty": empty, "start": start, "room": few, "required": False},
    )
    led, none = held.parents(np.arange(start, start + 2 * rows))
    # Those that stand in for others keep to it too.
    assert (np.bincount(led[~none], minlength=len(there)) <= few).all()
    given = rows - round(rows * empty)
    assert int((~none[:rows]).sum()) == min(given, few.sum())
    ends = np.full(len(there), low), np.full(len(there), low + more)
    shared = Topping(key, rows, np.array(there), *ends, empty=empty, start=start, required=required)
    index = np.arange(start, start + rows)
    parents, none = shared.parents(index)
    room = sum(max(0, max(low + more, one) - one) for one in there)
    given = given if required else min(given, room)
    assert int((~none).sum()) == given
    led = np.array(there) + np.bincount(parents[~none], minlength=len(there))
    lack = sum(max(0, low - one) for one in there)
    if given >= lack:
        assert (led >= low).all()
    if given <= room:
        assert (led <= np.maximum(there, low + more)).all()
    found, owner = shared.children(np.arange(len(there)))
    assert sorted(zip(found.tolist(), owner.tolist(), strict=True)) == sorted(
        zip(index[~none].tolist(), parents[~none].tolist(), strict=True)
    )
    some = index[::-2]
    assert shared.parents(some)[0].tolist() == parents[some - start].tolist()
    place, count = shared.siblings(index[~none])
    assert len({*zip(parents[~none].tolist(), place.tolist(), strict=True)}) == given
    assert (place < count).all()


ADDED = """\
model Apiary
    name    text 2..40, required, unique
model Hive
    code    text 4..9, required, unique
    apiary  -> Apiary, required, sample 2..12 per apiary
    slot    integer 1..60, required
    unique apiary, slot
seed
    20 Apiary
    100 Hive
"""


def test_ranges_hold_when_rows_are_added(make: Callable[[str], Project]) -> None:
    project = make(ADDED)
    for words in (
        ["migrate"],
        ["fill"],
        ["fill", "--add", "10", "Apiary"],
        ["fill", "--add", "190", "Hive"],
    ):
        project.run(*words)
    with connect("sqlite:///bees.db", project.root) as database:
        asked = "SELECT count(h.id) FROM apiary AS a LEFT JOIN hive AS h ON h.apiary_id = a.id GROUP BY a.id"
        led = [count for (count,) in database.run(asked)]
    assert len(led) == 30 and sum(led) == 290
    assert min(led) >= 2 and max(led) <= 12


_VISITS = """\
model Event
    name    text 2..40, required, unique
    keepers integer 0..99, required
    visits  <- Visit.event
    rule keepers >= count(visits)

model Keeper
    name    text 2..40, required, unique
    joined  date 2001-01-01..2009-12-31, required

model Visit
    event   -> Event{required}, sample {share}
    keeper  -> Keeper{other}
    first   date 2010-01-01..2019-12-31, required
    unique {names}
    rule first > keeper.joined
"""


@given(st.integers(2, 30), st.integers(1, 9), st.integers(1, 40), st.data())
@settings(max_examples=40)
def test_two_relations_tell_rows_apart_and_none_is_remembered(
    events: int, each: int, seed: int, data: st.DataObject
) -> None:
    text = _VISITS.format(
        required=data.draw(st.sampled_from(["", ", required"])),
        other=data.draw(st.sampled_from(["", ", required"])),
        share=data.draw(st.sampled_from(["evenly", "skewed", f"1..{each + 2} per event"])),
        names=data.draw(st.sampled_from(["event, keeper", "keeper, event"])),
    )
    schema, problems = understand(text)
    assert not problems, problems
    rows = events * each
    counts = {"Event": events, "Keeper": max(rows, 8), "Visit": rows}
    visit, drawer = schema.models["Visit"], Drawer(schema, seed)
    assert drawer.clashing(visit, counts) == ()
    found = drawn(schema, "Visit", counts, seed)
    pairs = [p for p in zip(found["event"], found["keeper"], strict=True) if None not in p]
    assert len(set(pairs)) == len(pairs)
    # Any rows can be had without the others, and those of an event are as many as it says.
    some = drawer.draw(visit, rows // 2, rows, counts)
    assert some["keeper"].values.tolist() == [
        one if one is not None else at
        for one, at in zip(found["keeper"][rows // 2 :], some["keeper"].values, strict=True)
    ]


def test_who_is_led_to_beside_another_is_told_by_chance() -> None:
    text = _VISITS.format(
        required=", required", other=", required", share="evenly", names="event, keeper"
    )
    schema, _ = understand(text)
    counts = {"Event": 900, "Keeper": 50, "Visit": 4500}
    led = Counter(drawn(schema, "Visit", counts)["keeper"])
    chances = [led[keeper] for keeper in range(50)]
    assert stats.chisquare(chances).pvalue > 0.001


def test_a_relation_whose_rows_a_rule_counts_is_shared_out_as_the_rule_reads_it() -> None:
    text = _VISITS.format(
        required=", required", other=", required", share="evenly", names="event, keeper"
    )
    text = text.replace(
        "    joined",
        "    visits  <- Visit.keeper\n    most    integer 0..500, required\n    rule most >= count(visits)\n    joined",
    )
    schema, problems = understand(text)
    assert not problems, problems
    counts = {"Event": 30, "Keeper": 40, "Visit": 90}
    led = Counter(drawn(schema, "Visit", counts)["keeper"])
    assert all(led[at] <= most for at, most in enumerate(drawn(schema, "Keeper", counts)["most"]))


def test_no_moment_is_at_night_though_a_day_ends_or_begins_there() -> None:
    text = """\
model Visit
    held  datetime 2026-01-01T23:30..now, required
    ended datetime, required, > held
    early datetime 2026-03-01T02:00..2026-03-02T03:00, required
"""
    schema, problems = understand(text)
    assert not problems, problems
    rows = drawn(schema, "Visit", {"Visit": 3000})
    assert all(7 <= moment.hour < 20 for name in ("held", "early") for moment in rows[name])
    assert len({moment.date() for moment in rows["held"]}) > 50
    # What comes after an evening comes the next day, where it may.
    late = sum(not 7 <= moment.hour <= 20 for moment in rows["ended"])
    assert late < 30, late
