"""Factories as a developer uses them: several rows, children and trees, wrong ones told by name."""

from __future__ import annotations

import subprocess
import sys
from collections.abc import Callable

from conftest import Project

REGISTER = """\
model Apiary
    name      text 2..60, required, unique
    capacity  integer 1..60, required
    hives     <- Hive.apiary
    rule count(hives) <= capacity, at capacity
model Hive
    code      text 7..7, required, unique, matches "[A-Z]{2}-[0-9]{4}"
    apiary    -> Apiary, required
    parent    -> Hive
    swarms    <- Hive.parent
    frames    integer 4..24, required
    opened    date 2015-01-01..today, required
    closed    date, >= opened, say "A hive closes after it opens"
    kind      one of national | long, required
    findings  <-> Finding
    unique apiary, opened
    rule frames > 5 when kind = long, say "Long hives have more", at frames
model Finding
    name      text 20, required, unique
"""

USED = """\
import sys
sys.path[:0] = [".", "tests"]
from supply import Supply

supply = Supply.alone()

def refused(make, **given):
    try:
        make(**given)
    except (TypeError, ValueError) as error:
        return f"{type(error).__name__}: {error}"
    return ""

apiary = supply.apiary(hives=3)
assert len(apiary.hives) == 3 <= apiary.capacity
full = supply.apiary(hives=[{"frames": 8}, {"frames": 9}], capacity=2)
assert sorted(h.frames for h in full.hives) == [8, 9] and full.capacity == 2
hive = supply.hive(frames=8, apiary=apiary, swarms=2, findings=3)
assert (hive.frames, hive.apiary.id, len(hive.findings)) == (8, apiary.id, 3)
assert len(hive.swarms) == 2 and {h.parent_id for h in hive.swarms} == {hive.id}
hives = supply.hives(20, closed=None, apiary_id=apiary.id)
assert len(hives) == 20 and len({h.code for h in hives}) == 20 and not any(h.closed for h in hives)
assert supply.hive_like(apiary_id=apiary.id).parent_id
told = {
    "frames=99": refused(supply.hive, frames=99),
    "framse": refused(supply.hive, framse=3),
    "code": refused(supply.hive, code="x"),
    "kind": refused(supply.new_hive, kind="box"),
    "hives": refused(supply.apiary, hives="three"),
}
for name, error in told.items():
    print(name, error)
broken = list(supply.broken_hives())
for one in broken:
    assert one.message, one
    entry = supply.type_hive(supply.new_hive())
    assert set(one.typed) == set(entry), one
assert {"code", "frames", "opened", "closed", "kind", "apiary"} <= {one.field for one in broken}
ways = {(one.field, one.why) for one in broken}
assert {("code", "code is unique"), ("opened", "unique apiary, opened")} <= ways, ways
assert {("apiary", "left empty"), ("apiary", "leads to nothing"), ("parent", "leads to nothing")} <= ways
says = {one.message for one in broken}
assert {"A hive closes after it opens", "Long hives have more"} <= says, says
edges = list(supply.edge_hives())
assert {("frames", "4"), ("frames", "24")} <= {(e.field, e.typed[e.field]) for e in edges}
assert not any(e.message for e in edges)
from bees.hive.form import form
for one in (*broken, *edges):
    try:
        form.fields[one.field].read(one.typed[one.field])
        said = ""
    except ValueError as error:
        said = str(error)
    # What a rule says is of the whole row: each field by itself is as it may be.
    whole = one.why.startswith(("unique", "code is unique"))
    assert said == one.message or whole or one.message in ("A hive closes after it opens", "Long hives have more")
"""

MINE = """\
import html
from bees.hive.model import Hive
from supply import Supply
from visit import Visitor

def test_each_broken_hive_is_refused_with_its_words(visitor: Visitor, supply: Supply) -> None:
    for edge in supply.broken_hives():
        known = len(supply.all(Hive))
        answer = visitor.post("/hives/new", edge.typed)
        assert answer.status_code == 422, edge
        assert edge.message in html.unescape(answer.text), edge
        assert len(supply.all(Hive)) == known
"""


def test_a_developer_makes_rows_without_a_site(make: Callable[[str], Project]) -> None:
    project = make(REGISTER)
    for command in ("build", "migrate"):
        project.run(command)
    project.write("used.py", USED)
    done = subprocess.run(
        [sys.executable, "used.py"], cwd=project.root, capture_output=True, text=True, check=False
    )
    assert done.returncode == 0, done.stderr
    told = dict(line.split(" ", 1) for line in done.stdout.splitlines())
    assert told["frames=99"] == "ValueError: Hive.frames is integer 4..24, and 99 was given"
    assert told["framse"] == "TypeError: Hive has no 'framse': did you mean frames?"
    assert "matches [A-Z]{2}-[0-9]{4}" in told["code"] and "national" in told["kind"]
    assert "takes a number" in told["hives"]
    project.write("tests/test_mine.py", MINE)
    assert "passed" in project.python("-m", "pytest", "-q", "-p", "no:cacheprovider").stdout
