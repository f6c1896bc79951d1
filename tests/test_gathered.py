"""Rules of a parent over what its rows come to, in every form: rows keep them, also beside stored ones."""

from __future__ import annotations

from tempfile import TemporaryDirectory

import pytest
from declared import understand
from hypothesis import given, settings
from hypothesis import strategies as st
from test_fill import Filling, _schema

TEAMS = """\
model Team
    name   text 2..40, required, unique
    seats  integer 3..9, required
    paid   boolean, required
    budget decimal 200.00..900.00, required
    people <- Person.team
    costs  <- Cost.team
    rule {rule}
model Person
    team   -> Team, required{sample}
    role   one of chief | deputy | member, required
    active boolean, required
    back   date 2020-01-01..today
    wage   decimal 1.00..90.00, required
    score  number 1..30, required
    hours  integer 1..20, required
    pay    decimal = wage * hours
{own}
model Cost
    team   -> Team, required, sample 1..4 per team
    amount decimal 1.00..300.00, required
seed
    12 Team
    {people} Person
    30 Cost
"""
RULES = [
    "count(people where role = chief) = 1",
    "count(people where role = chief) = 1 and count(people where role = deputy) = 1",
    "count(people where role = chief and active) = 1",
    "count(people where active) >= 2",
    "count(people where active) < seats",
    "count(people where active) = count(people where role = deputy)",
    "count(people where back is empty) >= 1",
    "count(people where back is empty) <= 1",
    "count(people where active) * 2 <= count(people)",
    "count(people where active) = 1 when paid",
    "count(people where not active) <= 1 or paid",
    "count(people where wage > 50 and active) >= 1",
    "count(people) <= 7 and count(people where active) >= 1",
    "count(people) >= seats - 1",
    "sum(people.pay) <= 3 * budget",
    "avg(people.pay) <= 300",
    "max(people.pay) <= 500",
    "sum(people.wage) <= 2 * sum(costs.amount)",
    "sum(people.wage where active) <= budget / 3",
    "sum(people.hours) * 10 <= budget",
    "sum(people.hours) / count(people) <= 8",
    "round(avg(people.wage)) <= 40",
    "least(sum(people.hours), 60) <= 50",
    "greatest(sum(people.score), 10) <= 100",
    "round(min(people.score)) >= 2",
    "seats + max(people.score) <= 30",
    "-min(people.score) <= -3",
]
OF_ROWS = [
    "count(team.people where role = chief) = 1",
    "count(team.people where active) <= team.seats",
    "count(team.people) <= team.seats",
    "count(team.people where active) >= 1",
    "sum(team.people.pay) <= 4 * team.budget",
    "wage * hours <= team.budget",
    "wage * 2 >= hours",
    "hours <= count(team.people) * 3",
    "wage <= team.budget / count(team.people)",
    "wage <= 2 * avg(team.people.wage)",
    "max(team.people.wage) - wage <= 60",
    "sum(team.people.hours) + hours <= 100",
    "count(team.people where role = chief) = 1 or role = member",
    "wage >= min(team.costs.amount) / 10",
]
"""What a row asks, of its parent or of itself."""


AT_ONCE = [
    ("count(people where wage > 50) <= 2", "sum(people.pay) <= budget"),
    ("count(people where wage > 50) <= 2", "count(people where wage > 50 and active) >= 1"),
    ("sum(people.wage) >= 100", "max(people.pay) <= 500"),
    ("sum(people.wage) >= 100", "count(people where wage > 50 and active) >= 1"),
    ("sum(people.pay) <= 900", "avg(people.pay) <= 300"),
    ("max(people.wage) <= min(costs.amount) + 50", "count(people where role = chief) = 1"),
    ("seats + max(people.score) <= 30", "count(people where active) < seats"),
    (
        "count(people where role = chief and active) = 1",
        "count(people where role = chief) = 1 and count(people where role = deputy) <= 1",
    ),
    ("count(people where not active) <= 1 or paid", "count(people) >= 2"),
    (
        "count(people where active) = count(people where role = deputy)",
        "count(people where active) >= 2",
    ),
    (
        "count(people where active) = count(people where role = deputy)",
        "count(people where active) * 2 <= count(people)",
    ),
    (
        "count(people) <= 7 and count(people where active) >= 1",
        "count(people where active) * 2 <= count(people)",
    ),
]
"""Rules of which either leaves less than the other needs, unless both are in view."""


def _teams(
    rule: str = "seats > 0", own: str = "hours > 0", sample: str = "", people: int = 70
) -> str:
    return TEAMS.format(rule=rule, own=f"    rule {own}", sample=sample, people=people)


ASKED = st.sampled_from([*({"rule": rule} for rule in RULES), *({"own": rule} for rule in OF_ROWS)])


@given(ASKED, st.booleans(), st.integers(1, 99))
@settings(max_examples=40)
def test_rows_keep_what_their_parent_asks_of_all_of_them(
    asked: dict[str, str], bound: bool, seed: int
) -> None:
    # Seats for 80 are not there for sure.
    sample = ", sample 2..9 per team" if bound and "team.seats" not in str(asked) else ""
    schema = _schema(
        _teams(**asked, sample=sample, people=40 if "team.seats" in str(asked) else 70)
    )
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder, seed)
        more = {"Team": 16, "Person": schema.seed["Person"] * 3 // 2, "Cost": 45}
        for counts in (schema.seed, more):
            filling.fill(counts)
            assert filling.broken() == {}
            assert filling.sql("SELECT count(*) FROM person") == [(counts["Person"],)]


@given(st.sampled_from(AT_ONCE).flatmap(st.permutations), st.booleans(), st.integers(1, 99))
@settings(max_examples=40)
def test_two_rules_are_kept_at_once(rules: list[str], bound: bool, seed: int) -> None:
    sample = ", sample 2..9 per team" if bound else ""
    schema = _schema(_teams("\n    rule ".join(rules), sample=sample))
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder, seed)
        for counts in (schema.seed, {"Team": 16, "Person": 105, "Cost": 45}):
            filling.fill(counts)
            assert filling.broken() == {}


def test_rows_that_are_of_no_matter_to_a_rule_stay_as_they_are_drawn() -> None:
    """Of a kind that has to be there only so many are made of it as there must be."""
    roles = []
    for rule in ("seats > 0", "count(people where role = chief) >= 2"):
        schema = _schema(
            _teams(rule, sample=", sample 2..9 per team").replace(
                "member, required", "member, required, sample weights(10, 45, 45)"
            )
        )
        with TemporaryDirectory() as folder:
            filling = Filling(schema, folder)
            filling.fill(schema.seed)
            roles.append(filling.sql("SELECT team_id, role FROM person ORDER BY id"))
    before, after = roles
    few = {team for team, _ in before if before.count((team, "chief")) < 2}
    assert 5 < len(few) <= 12
    for team in few:
        assert after.count((team, "chief")) == 2
    gone = [(one, other) for one, other in zip(before, after, strict=True) if one != other]
    assert all(one[0] in few and other[1] == "chief" for one, other in gone)


@pytest.mark.parametrize(
    ("rule", "told"),
    [
        ("count(people) = 6", "12 Team have at least 72 Person by a rule, not 70"),
        ("count(people) < 5", "12 Team have at most 48 Person by a rule, not 70"),
        (
            "count(people where role = chief) >= 4 and count(people where role = deputy) >= 3",
            "12 Team have at least 84 Person by a rule, not 70",
        ),
        ("seats + 3 <= count(people)", "12 Team have at least 72 Person by a rule, not 70"),
    ],
)
def test_counts_that_a_rule_leaves_no_room_for_are_told_beforehand(rule: str, told: str) -> None:
    _, problems = understand(_teams(rule))
    assert [problem.message for problem in problems] == [told]
    enough = int(told.split(" Person")[0].split()[-1])
    _, problems = understand(_teams(rule, people=enough))
    assert problems == []


def test_who_leads_to_nobody_is_counted_for_nobody() -> None:
    schema = _schema(
        "model Owner\n    name text 2..40, required\n    pets <- Pet.owner\n"
        "model Pet\n    owner -> Owner\n    name text 2..40, required\n"
        "model Visit\n    owner -> Owner, required, where count(pets) = 0\n    note text 1..40, required\n"
    )
    with TemporaryDirectory() as folder:
        filling = Filling(schema, folder)
        filling.fill({"Owner": 4, "Pet": 9})
        filling.sql("UPDATE pet SET owner_id = NULL")
        filling.fill({"Owner": 4, "Pet": 9, "Visit": 60})
        assert filling.sql("SELECT count(DISTINCT owner_id) FROM visit") == [(4,)]
