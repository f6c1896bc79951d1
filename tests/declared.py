"""Random declarations: valid ones, of everything that the language has by now."""

from __future__ import annotations

import keyword
from pathlib import Path

from hypothesis import strategies as st

from welbik.kinds import kinds
from welbik.language.diagnostics import Problem, Report
from welbik.language.parser import parse
from welbik.language.source import Source
from welbik.language.words import CLAUSES
from welbik.schema.model import Schema
from welbik.schema.resolve import resolve


def understand(text: str) -> tuple[Schema, list[Problem]]:
    """The schema and the problems of one file's text."""
    report = Report()
    tree = parse(Source("bees.welbik", text), report, tuple(kinds()))
    return resolve([tree], report), report.problems()


def schema_of_file(path: Path) -> Schema:
    schema, problems = understand(path.read_text("utf-8"))
    assert not problems, problems
    return schema


def quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n") + '"'


_AWKWARD = [
    "metadata",
    "int",
    "str",
    "date",
    "order",
    "row",
    "title",
    "url_for",
    "sa",
    "self",
    "errors",
    "in_order",
]
_NAME = st.from_regex(r"[a-z][a-z0-9_]{0,14}", fullmatch=True)
_FIELD_NAMES = (st.sampled_from(_AWKWARD) | _NAME).filter(
    lambda name: (
        not keyword.iskeyword(name)
        and name not in CLAUSES
        and name != "id"
        and not name.endswith("_id")
    )
)
_CHOICES = _NAME.filter(lambda name: len(name) > 1)
_MODEL_NAMES = st.sampled_from(
    [
        "Class",
        "Kit",
        "Settings",
        "Request",
        "Session",
        "Form",
        "Text",
        "Store",
        "Person",
        "HiveVisit",
        "Look",
        "Index",
        "Title",
        "Query",
        "Import",
    ]
)
_TEXT = st.text(
    st.characters(codec="latin-1", exclude_categories=["Cc"])
    | st.sampled_from("ñŁσЖ蜂箱はち꿀🐝{}<>&'\"%#"),
    min_size=1,
    max_size=24,
).filter(str.strip)
_PATTERNS = [
    "[A-Z]{2}-[0-9]{4}",
    "a+b?(c|de)*",
    "[^x]{3,9}",
    r"\d{3}\.\w+",
    "(north|south) [1-9]",
    "[a-f0-9]{12}",
]


@st.composite
def field_types(draw: st.DrawFn) -> str:
    """A type, its own modifiers, and a default that fits."""
    kind = draw(
        st.sampled_from(
            [
                "text",
                "long",
                "pattern",
                "integer",
                "decimal",
                "number",
                "boolean",
                "date",
                "datetime",
                "one",
                "email",
                "time",
                "duration",
                "url",
                "phone",
                "uuid",
                "image",
                "list",
            ]
        )
    )
    if kind == "text":
        low = draw(st.integers(1, 30))
        return f"text {low}..{draw(st.integers(low, 120))}"
    if kind == "long":
        return draw(
            st.sampled_from(["text", "text 300", "text 20..5000", "text 2..", "text 4500..9000"])
        )
    if kind == "pattern":
        return f"text 100, matches {quoted(draw(st.sampled_from(_PATTERNS)))}"
    if kind in ("integer", "number"):
        low, high = sorted(draw(st.tuples(*[st.integers(-(10**6), 10**6)] * 2)))
        limits = draw(st.sampled_from([f"{low}..{high}", f"{low}..", f"..{high}", ""]))
        default = draw(
            st.sampled_from(["", f", default {high if limits.startswith('..') else low}"])
        )
        return f"{kind} {limits}{default}" if limits else kind
    if kind == "decimal":
        low = draw(st.decimals(-999, 999, places=2))
        high = draw(st.decimals(low, 1000, places=2))
        return draw(
            st.sampled_from(["decimal", f"decimal {low}..{high}", f"decimal {low}.., places 3"])
        )
    if kind == "one":
        names = draw(st.lists(_CHOICES, min_size=1, max_size=6, unique=True))
        choices = " | ".join(
            f"{name} {quoted(draw(_TEXT))}" if draw(st.booleans()) else name for name in names
        )
        return f"one of {choices}" + draw(st.sampled_from(["", f", default {names[0]}"]))
    moving = {
        "time": ["time", "time 07:30..18:00, default 08:15", "time ..12:00"],
        "duration": [
            "duration",
            "duration 5..90 minutes, default 0:30",
            "duration -1 hour..",
            "duration 0..2:00:07",
        ],
        "image": ["image up to 4 MB", "file up to 10 KB of pdf, csv", "file", "image"],
        "list": ["list of text 12", "list of Shelf"],
        "date": [
            "date",
            "date ..today",
            "date 2020-02-29..today, default today",
            "date today - 30 days..",
        ],
    }
    moving["datetime"] = [
        "datetime",
        "datetime ..now, default now",
        "datetime 2020-01-01T08:30..2030-01-01T09:00",
    ]
    return draw(st.sampled_from(moving.get(kind, [kind])))


_RULED = """\
    low_mark integer 0..50, required
    high_mark integer 0..50, >= low_mark, say "Not below the low mark"
    begun date 2020-01-01..today
    ended date, >= begun
    share decimal 0.00..9.99
    rule share is given when ended is given, at share
    doubled decimal = share * 2 + 1, unit "kg"
    span integer = high_mark - low_mark
    unique low_mark, begun
    index begun, ended
"""
"""Fields that belong together, for any model."""
_WHERES = [
    f", where {condition}"
    for condition in (
        "ended is empty",
        "low_mark >= 9 or begun is given",
        "not (share > 5)",
        "begun <= today - 30",
        "span != 3",
    )
]


@st.composite
def _members(draw: st.DrawFn, name: str, earlier: list[str]) -> list[str]:
    names = draw(st.lists(_FIELD_NAMES, min_size=1, max_size=7, unique=True))
    lines = []
    plain: list[str] = []
    for field in names:
        upload = False
        if draw(st.integers(0, 3)) == 0:
            target = draw(st.sampled_from([name, *earlier]))
            extras = ["", ", on removal remove"] + (
                [", on removal clear", ", loops allowed"]
                if target == name
                else [", required", ", required, owned", ", required, sample skewed", ", fixed"]
            )
            line = f"{field} -> {target}{draw(st.sampled_from(extras))}"
        else:
            kind = draw(field_types())
            upload = kind.startswith(("image", "file", "list"))
            more = ["", ", required"] + (
                [] if upload else [", fixed", ", indexed", ", sample 50% empty"]
            )
            line = f"{field} {kind}{draw(st.sampled_from(more))}"
            line += "" if upload else draw(st.sampled_from(["", "", ', unit "m²"']))
            line = line.replace(", required", "") if kind.startswith(("image", "file")) else line
        plain += [] if upload else [field]
        line += f", label {quoted(draw(_TEXT))}" if draw(st.booleans()) else ""
        line += f", hint {quoted(draw(_TEXT))}" if draw(st.booleans()) else ""
        lines.append(line)
    if draw(st.booleans()):
        listed = draw(st.lists(st.sampled_from(names), min_size=1, unique=True))
        lines.append(f"list {', '.join(listed)}")
        sortable = [n for n in listed if n in plain] or ["id"]
        if sortable != ["id"]:
            lines.append(f"sort {draw(st.sampled_from(['', '-']))}{sortable[0]}")
    if draw(st.integers(0, 2)) == 0:
        lines += [line.strip() for line in _RULED.splitlines()]
        lines.append('form "Marks": high_mark, low_mark')
    if draw(st.integers(0, 3)) == 0:
        lines.append(
            f"keep {draw(st.sampled_from(['times', 'history', 'bin', 'times, bin, history']))}"
        )
    if draw(st.integers(0, 3)) == 0:
        lines += ["word_text text 2..60, required", "word slug from word_text", "address word"]
    lines += (
        [draw(st.sampled_from(['menu "Group"', "menu none"]))]
        if draw(st.integers(0, 4)) == 0
        else []
    )
    return lines


@st.composite
def declarations(draw: st.DrawFn) -> str:
    """The text of a few models that refer to each other, with their other sides and a seed."""
    models = draw(st.lists(_MODEL_NAMES, min_size=1, max_size=4, unique=True))
    bodies = {name: draw(_members(name, models[:at])) for at, name in enumerate(models)}
    number = 0
    for name, lines in list(bodies.items()):
        for at, line in enumerate(list(lines)):
            words = line.split()
            target = words[2].rstrip(",") if len(words) > 2 and words[1] == "->" else ""
            if target and any("low_mark" in other for other in bodies[target]):
                lines[at] += draw(st.sampled_from(["", "", *_WHERES]))
            if len(words) > 2 and words[1] == "->" and draw(st.booleans()):
                number += 1
                parent = words[2].rstrip(",")
                bodies[parent].append(f"others_{number} <- {name}.{words[0]}")
                if draw(st.booleans()):
                    bodies[parent].append(f"counted_{number} integer = count(others_{number})")
    if draw(st.booleans()):
        bodies[models[-1]].append(f"kinds_of <-> {models[0]}")
        bodies[models[0]].append(f"kinds_by <-> {models[-1]}.kinds_of")
    blocks = []
    for name, lines in bodies.items():
        help_text = f" {quoted(draw(_TEXT))}" if draw(st.booleans()) else ""
        blocks.append(f"model {name}{help_text}\n" + "".join(f"    {line}\n" for line in lines))
    blocks.append(
        "part Shelf\n    place integer 1..9, required\n    state one of full | bare, default bare\n    rule place < 9 when state = full, at place\n"
    )
    counts = "".join(f"    {draw(st.integers(1, 30))} {name}\n" for name in models)
    return "\n".join([*blocks, f"seed\n{counts}"])
