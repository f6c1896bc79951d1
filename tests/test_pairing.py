"""Rules over what many rows lead to many others: made-up pairs keep them, from both sides."""

from __future__ import annotations

from collections.abc import Callable
from tempfile import TemporaryDirectory

import numpy as np
from conftest import Project
from declared import understand
from hypothesis import given, settings
from hypothesis import strategies as st
from test_fill import Filling

from welbik.data.drawer import Drawer
from welbik.data.pairs import pairs_of

_SAMPLES = ["", ", sample 0..2 per load", ", sample 1..3 per load"]
_TEXT = """\
model Load
    name    text 2..20, required
    weight  integer 1..50, required
    good    boolean, required
    runs    <-> Run{sample}
{load}
model Run
    name    text 2..20, required
    most    integer 40..90, required
    loads   <-> Load.runs
    heavy   integer = sum(loads.weight)
{run}
seed
    {loads} Load
    {runs} Run
"""


@st.composite
def declared(draw: st.DrawFn) -> str:
    """Rules that some pairs keep, however few there are of them."""
    run = draw(
        st.sampled_from(
            [
                "count(loads) <= 2",
                "count(loads where good) <= 1",
                "heavy <= most",
                "sum(loads.weight) >= 20",
                "min(loads.weight) >= 5",
                "max(loads.weight) > 20 when count(loads) > 0",
                "heavy > 10 and heavy < 120 when heavy is given",
                "avg(loads.weight) <= 40",
            ]
        )
    )
    load = draw(
        st.sampled_from(
            [
                "",
                "count(runs) <= 1",
                "count(runs) <= 2",
                "max(runs.most) <= 80",
                "min(runs.most) > weight",
            ]
        )
    )
    sample = draw(st.sampled_from(_SAMPLES))
    return _TEXT.format(
        sample=sample if "<= 1" not in load and "per load" in sample else "",
        run=f"    rule {run}\n",
        load=f"    rule {load}\n" if load else "",
        loads=draw(st.integers(3, 60)),
        runs=draw(st.integers(3, 40)),
    )


@given(declared(), st.integers(1, 99))
@settings(max_examples=60)
def test_pairs_keep_the_rules_that_read_them(text: str, seed: int) -> None:
    schema, problems = understand(text)
    assert not problems, problems
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder, seed)
        filling.fill(schema.seed)
        assert filling.broken() == {}
        people = set(filling.sql("SELECT load_id, run_id FROM load_runs"))
        filling.fill({name: count + 5 for name, count in schema.seed.items()})
        assert filling.broken() == {}
        pairs = filling.sql("SELECT load_id, run_id FROM load_runs")
        assert len(pairs) == len(set(pairs))
        # Pairs that were there before are no fill's to take away.
        assert people <= set(pairs)


# On each database; a run has a key that is no number.
SHOP = _TEXT.format(
    sample="",
    load="    rule count(runs) between 1 and 2\n",
    run="    token uuid, required, unique\n    key token\n    rule heavy <= most\n    rule heavy > 20 when heavy is given\n",
    loads=40,
    runs=40,
)


def test_pairs_keep_rules_on_each_database(shop: Project) -> None:
    shop.run("fill")
    assert "all are as declared" in shop.run("check", "--rows").stdout
    shop.run("fill", "--add", "10", "Run")
    assert "all are as declared" in shop.run("check", "--rows").stdout
    assert "Nothing to add" in shop.run("fill").stdout


def test_no_row_is_led_to_more_often_than_its_rule_says_without_one_drawn_anew() -> None:
    """Where a side's rule counts its pairs, those are shared out so: files keep it too."""
    text = _TEXT.format(
        sample=", sample 1..3 per load",
        load="",
        run="    rule count(loads) <= 2\n",
        loads=500,
        runs=400,
    )
    schema, _ = understand(text)
    many = schema.models["Load"].many[0]
    drawer = Drawer(schema, 1)
    owners, others = pairs_of(drawer, schema.models["Load"], many, np.arange(500), 400, (500, 0))
    assert np.bincount(others).max() <= 2
    assert np.bincount(owners).min() >= 1
    half, met = pairs_of(drawer, schema.models["Load"], many, np.arange(250, 500), 400, (500, 0))
    assert np.array_equal(met, others[owners >= 250])
    assert np.array_equal(half + 250, owners[owners >= 250])


def test_files_are_refused_where_a_rule_asks_more_of_pairs_than_their_number(
    make: Callable[[str], Project],
) -> None:
    counted = _TEXT.format(sample="", load="    rule count(runs) <= 2\n", run="", loads=9, runs=9)
    project = make(counted)
    project.run("fill", "--to", "out")
    lines = project.read("out/load_runs.csv").splitlines()[1:]
    loads = [line.split(",")[0] for line in lines]
    assert loads and max(map(loads.count, loads)) <= 2
    project.declare(
        counted.replace("heavy   integer", "rule sum(loads.weight) <= 60\n    heavy   integer")
    )
    refused = project.run("fill", "--to", "more", code=1).stderr
    assert "chosen in a database" in refused and "sum(loads.weight) <= 60" in refused
    assert not (project.root / "more").exists()
