"""Reading declarations: every problem found, placed and explained; no text ever breaks it."""

from __future__ import annotations

from pathlib import Path

import pytest
from declared import declarations, understand
from hypothesis import given, settings
from hypothesis import strategies as st

from welbik.language.diagnostics import as_text

WHOLE = (Path(__file__).parent / "projects" / "whole-language.welbik").read_text("utf-8")

# One line under `model Hive`, the column of the problem (from 1), its code, and words of the remedy.
WRONG = [
    ("code txt 7", 6, "unknown-type", "text"),
    ("code", 5, "unexpected", "known are"),
    ("code text 7 required", 13, "missing-comma", "comma"),
    ("code text 7, requird", 14, "unknown-modifier", "required"),
    ("code text 0", 11, "bad-length", "from 1"),
    ("code text 20_000_000", 11, "bad-length", "at most"),
    ("code text 9_000.., matches \"a+\"", 29, "bad-pattern", "length"),
    ("code text 9..2", 11, "empty-range", "2..9"),
    ("code boolean, say \"no\"", 15, "misplaced-modifier", "after its check"),
    ("code text 7, matches \"[A-Z\"", 23, "bad-pattern", "]"),
    ("code text 7, matches \"(?=x)\"", 23, "bad-pattern", "plain groups"),
    ("code text 3, matches \"[a-z]{5}\"", 22, "contradiction", "length"),
    ("code text 7, default 5", 22, "wrong-value", "quotes"),
    ("code text 7, unique, unique", 22, "said-twice", "keep one"),
    ("frames integer 4..24, default 30", 23, "contradiction", "range"),
    ("frames integer 4.5..9", 16, "wrong-value", "decimal"),
    ("frames integer 12", 16, "unexpected-range", "12.. or ..12"),
    ("frames integer ..99999999999999999999", 18, "too-large", "9_223"),
    ("kg decimal 0.125..1, places 2", 29, "bad-places", "fewer places"),
    ("kind one of long | long", 20, "said-twice", "take one away"),
    ("kind one of Long", 13, "unknown-values", "values Long"),
    ("kind one of long, default lng", 27, "wrong-value", "long"),
    ("opened date 2026-02-30..", 13, "no-such-date", "month"),
    ("opened date today - 3 weeks..", 13, "unknown-unit", "days"),
    ("open boolean 3", 14, "unexpected-range", "take the range away"),
    ("keeper -> Keper", 11, "unknown-model", "Keeper"),
    ("keeper Keeper", 8, "unknown-type", "keeper -> Keeper"),
    ("keeper -> Keeper, on removal explode", 30, "unknown-removal", "refuse"),
    ("keeper -> Keeper, required, on removal clear", 29, "contradiction", "optional"),
    ("keeper -> Keeper, matches \"x\"", 19, "misplaced-modifier", "take it out"),
    ("kin <- Keeper.hive", 15, "unknown-reference", "hive -> Hive"),
    ("list cod", 6, "unknown-field", "code_name"),
    ("sort -nothing", 7, "unknown-field", "code_name"),
    ("shown as \"{cod}\"", 12, "unknown-field", "code_name"),
    ("shown as \"hive\"", 10, "bad-shown-as", "braces"),
    ("shown as \"{code_name\"", 10, "bad-shown-as", "{name}"),
    ("lambda text 4", 1, "reserved-name", "lambda_value"),
    ("list text 80", 1, "reserved-name", "list_value"),
    ("id integer", 1, "reserved-name", "number"),
    ("firstName text 80", 1, "bad-name", "first_name"),
    ("code_name text 9", 1, "duplicate-field", "another name"),
    ("code text 7, default \"abc", 22, "open-text", "end it"),
    ("code text 7, required ;", 23, "stray-character", "take it out"),
    ("photo image up to 4 megs", 21, "unknown-unit", "MB"),
    ("total integer = count(keepers)", 23, "unknown-field", "code_name"),
    ("closed date, >= opened", 17, "unknown-field", "code_name"),
    ("rule a = b", 6, "unknown-field", "code_name"),
    # What other languages write.
    ("rule code_name == \"ab\"", 16, "unexpected", "write: ="),
    ("rule code_name <> \"ab\"", 16, "unexpected", "write: !="),
    ("rule length(code_name) => 3", 24, "unexpected", "write: >="),
    ("rule code_name is not null", 19, "unexpected", "is given"),
    ("rule code_name is null", 19, "unexpected", "is empty"),
    ("rule code_name = null", 18, "unknown-field", "is empty"),
    ("rule code_name is given AND length(code_name) > 2", 25, "unexpected", "write: and"),
    ("rule length(code_name) > \"2\"", 6, "wrong-types", "without quotes: 2"),
    ("rule length(code_name) > 2 \"Too short\"", 28, "unexpected", "say"),
]  # fmt: skip


@pytest.mark.parametrize(("line", "column", "code", "remedy"), WRONG)
def test_a_wrong_line_is_placed_and_explained(
    line: str, column: int, code: str, remedy: str
) -> None:
    text = f"model Keeper\n    name text 40\n\nmodel Hive\n    code_name text 5\n    {line}\n"
    problems = understand(text)[1]
    assert [problem.code for problem in problems] == [code]
    assert problems[0].span.place == (6, 4 + column)
    assert remedy in problems[0].remedy


# Lines under a model that has code, frames, opened and keeper; the place of the problem, its code,
# and words of its message or remedy.
EXPRESSIONS = [
    ("rule frames", 6, "no-condition", "whole number"),
    ("rule code + 1 > 2", 6, "wrong-types", "a text and a whole number"),
    ("rule -code is given", 6, "wrong-types", "does not work on a text"),
    ("rule code || frames = \"x\"", 14, "wrong-types", "|| joins texts"),
    ("rule opened > 3", 6, "wrong-types", "a date can't be compared"),
    ("rule opened + opened > today", 6, "wrong-types", "a date and a date"),
    ("rule keeper > keeper", 6, "no-order", "= or !="),
    ("rule keeper = frames", 6, "wrong-types", "a row of Keeper"),
    ("rule keeper.nam is given", 13, "unknown-field", "name"),
    ("rule code.name = code", 6, "bad-path", "follows relations"),
    ("rule photo = photo", 6, "wrong-types", "is given"),
    ("rule kind = lonk", 13, "unknown-choice", "long"),
    ("rule lonk = kind", 6, "unknown-choice", "long"),
    ("rule kind in (long, shrot)", 21, "unknown-choice", "short"),
    ("rule kind < long", 6, "no-order", "no order"),
    ("rule frames matches \"x\"", 6, "wrong-types", "looks at a text"),
    ("rule code matches \"[a\"", 20, "bad-pattern", "close it"),
    ("rule length(frames) > 2", 6, "wrong-types", "length looks at a text"),
    ("rule year(code) > 2000", 6, "wrong-types", "a date"),
    ("rule round(code) > 1", 6, "wrong-types", "a number"),
    ("rule round(frames, -1) > 1", 20, "wrong-arguments", "0 to 9"),
    ("rule abs(1, 2) > 1", 6, "wrong-arguments", "one value"),
    ("rule least(frames, code) > 1", 6, "wrong-types", "values of one type"),
    ("rule foo(code) = 1", 6, "unknown-function", "known are"),
    ("rule count(code) > 1", 12, "bad-path", "no collection"),
    ("rule count(visits.held) > 1", 19, "bad-path", "counts rows"),
    ("rule sum(visits) > 1", 10, "bad-path", "sum(visits.kg)"),
    ("rule sum(visits.held) > 1", 6, "wrong-types", "needs numbers"),
    ("rule max(visits.ok) > 1", 6, "wrong-types", "has no order"),
    ("rule visits > 1", 6, "bad-path", "count(visits)"),
    ("rule count(visits where held) > 1", 25, "no-condition", "a datetime"),
    ("rule 1 < frames < 3", 17, "chained-comparison", "between"),
    ("rule frames between 1", 22, "unexpected", "between 1 and 9"),
    ("rule frames in 3", 16, "unexpected", "in (low, high)"),
    ("rule frames is there", 16, "unexpected", "is empty"),
    ("rule (frames > 1", 17, "unexpected", "close the bracket"),
    ("rule frames > 1, say", 21, "unexpected", "quotes"),
    ("rule frames > 1, at cod", 21, "unknown-field", "code"),
    ("rule frames > 1, required", 18, "unexpected", "rule closed"),
    ("rule opened > 2026-02-31", 15, "no-such-date", "calendar"),
    ("rule opened > 1.5 days", 15, "wrong-value", "30 days"),
    ('rule code = ""', 13, "empty-text", "is empty"),
    ("total integer = frames / 2", 17, "wrong-types", "declare it as number"),
    ("total integer = total + 1", 1, "circle", "needs itself"),
    ("total integer 1..9 = frames", 15, "unexpected-range", "take the range"),
    ("total integer = frames, required", 25, "misplaced-modifier", "computed field"),
    ("more <-> Keper", 10, "unknown-model", "Keeper"),
    ("more <-> Keeper.hives", 17, "unknown-reference", "declare it there"),
    ("more list of Fram", 14, "unknown-part", "Frame"),
    ("more list of integer", 14, "bad-list", "lists hold text"),
    ("pic image up to 4 XB", 19, "unknown-unit", "KB"),
    ("pic image up to nothing MB", 17, "bad-size", "4 MB"),
    ("pic image of tiff", 14, "unknown-suffix", "png"),
    ("pic file, unique", 11, "misplaced-modifier", "file up to"),
    ("pic file, default 3", 19, "wrong-value", "no default"),
    ("word slug from frames", 1, "bad-slug", "text field"),
    ("word slug name", 11, "unexpected", "slug from name"),
    ("at_noon time 25:00..", 14, "no-such-date", "23"),
    ("site url, default \"example\"", 19, "wrong-value", "https://"),
    ("tel phone, default \"call\"", 20, "wrong-value", "+44"),
    ("other -> Keeper, loops allowed", 18, "misplaced-modifier", "itself"),
    ("other -> Keeper, owned, on removal refuse", 25, "contradiction", "owned"),
    ("other -> Keeper, where nam is given", 24, "unknown-field", "name"),
    ("other -> Keeper, as area", 18, "misplaced-modifier", "known for it"),
    ("grade one of a was b | c was b", 30, "said-twice", "take one 'was' away"),
    ("grade one of a | b, was exchanged(grade, \"c\")", 25, "wrong-arguments", "exchanged"),
    ("size integer, required, sample only when size > 3", 25, "misplaced-sample", "or 'required'"),
    ("size integer, sample 5% empty only when size > 3", 15, "misplaced-sample", "other fields"),
    ("size integer, sample only then", 27, "unexpected", "only when closed is given"),
    ("other integer, as radio", 16, "misplaced-modifier", "take it out"),
    ("other text 9, as box", 18, "unknown-control", "area"),
    ("other text 9, internal, fixed", 25, "contradiction", "keep one"),
    ('other text 9, stored as ""', 25, "bad-name", "1 to 64"),
    ("other text 9, sample gauss(1, 2)", 22, "unknown-sample", "known are"),
    ("other text 9, sample normal(1, 2)", 22, "misplaced-sample", "makes no values"),
    ("other integer, sample normal(1)", 23, "wrong-arguments", "normal(10, 2)"),
    ("other integer, sample normal(1, 0)", 23, "wrong-arguments", "above 0"),
    ("other integer, sample 120% empty", 23, "bad-share", "15%"),
    ("other integer, sample 2..3 per code", 23, "misplaced-sample", "relation"),
    ("other -> Keeper, sample 3..2 per keeper", 25, "empty-range", "2..3"),
    ("other text 9, sample town and town", 31, "said-twice", "keep one"),
    ("unique code", 1, "said-otherwise", "unique"),
    ("unique code, cod", 14, "unknown-field", "code"),
    ("index nothing", 7, "unknown-field", "known are"),
    ("form Place: code", 6, "unexpected", "quotes"),
    ('form "Place" code', 14, "unexpected", ":"),
    ('form "Place": code, code', 21, "said-twice", "keep one"),
    ("pages list, show", 13, "unknown-page", "known are"),
    ("menu Bees", 6, "unexpected", "quotes"),
    ("keep time", 6, "unknown-keep", "times"),
    ("address frames", 9, "not-unique", "required, unique"),
    ("key kind", 5, "not-unique", "required"),
    ("search code, keeper.nam", 21, "unknown-field", "name"),
    ("filter nothing", 8, "unknown-field", "known are"),
    ("sort photo", 6, "no-order", "another field"),
]  # fmt: skip

_AROUND = """\
model Keeper
    name text 40
model Visit
    hive -> Hive
    held datetime
    ok boolean
part Frame
    position integer
model Hive
    code text 7
    frames integer
    opened date
    keeper -> Keeper
    photo image
    kind one of long | short
    visits <- Visit.hive
    {}
"""


@pytest.mark.parametrize(("line", "column", "code", "words"), EXPRESSIONS)
def test_what_makes_no_sense_is_placed_and_explained(
    line: str, column: int, code: str, words: str
) -> None:
    problems = understand(_AROUND.format(line))[1]
    assert [problem.code for problem in problems] == [code], problems
    (problem,) = problems
    assert words in f"{problem.message} {problem.remedy}", problem
    assert problem.span.place == (17, 4 + column), problem.span.place
    assert problem.remedy and as_text(problem)


# Lines that can't all be met, and words of what is said about it.
CONTRADICTIONS = [
    ("a integer 1..9, >= 10", "false as soon as"),
    ("a integer 1..9, required, >= 10", "false for every row"),
    ("a integer, >= 5\n    rule a < 5", "no value of a keeps"),
    ("a date, > 2026-01-01\n    rule a <= 2025-01-01", "no value of a keeps"),
    (
        "a integer 1..5, required\n    b integer 6..9, required\n    rule a > b",
        "false for every row",
    ),
    ("a integer 1..9, default 3, >= 4", "the default of a breaks"),
    ("a integer 1..9\n    rule a > 3 and a < 2", "no value of a keeps"),
    ("a decimal 0.0..1.0\n    rule a + 1 > 2.5", "false as soon as"),
    ("rule count(kin) < 0\n    kin <- Hive.up\n    up -> Hive", "false for every row"),
    ("kind one of a | b, required, unique", "10 rows need 10 different"),
    ('mark text 1, required, unique, matches "[a-c]"', "which has 3"),
    ("keeper -> Keeper, required", "the seed makes none"),
    ("up -> Hive, sample 2..3 per up\n    rule yes", "reads no field"),
]


@pytest.mark.parametrize(("lines", "said"), CONTRADICTIONS)
def test_contradictions_are_found(lines: str, said: str) -> None:
    text = f"model Hive\n    code text 5\n    {lines}\nmodel Keeper\n    name text 5\nseed\n    10 Hive\n"
    problems = understand(text)[1]
    assert said in "\n".join(problem.message for problem in problems), problems


def test_fan_outs_and_profiles_are_counted() -> None:
    text = "model Hive\n    site -> Site, required, sample 2..3 per site\nmodel Site\n    name text 9\n"
    counts = "seed\n    4 Site\n    {} Hive\nseed load\n    40 Site\n    {} Hive\n"
    assert not understand(text + counts.format(9, 100))[1]
    for few, many in ((7, 100), (13, 100), (9, 121)):
        (problem,) = understand(text + counts.format(few, many))[1]
        assert problem.code == "contradiction" and "with 2..3 each make" in problem.message
        assert problem.related


BLOCKS = [
    ("model hive\n    a text\n", "bad-name"),
    ("model Hive\n", "empty-model"),
    ("modle Hive\n    a text\n", "unknown-block"),
    ("model Hive\n    a text\nmodel Hive\n    a text\n", "duplicate-model"),
    ("model Hive\n    a text\nmodel Hives\n    a text\n    called \"hive\"\n", "same-name"),
    ("model A\n    a text\n    keep history\nmodel B\n    a text\n    stored as \"a_history\"\n", "same-name"),
    ("model A\n    b -> B, required\nmodel B\n    a -> A, required\n", "contradiction"),
    ("model A\n    b -> B\n    shown as \"{b}\"\nmodel B\n    a -> A\n    shown as \"{a}\"\n", "circle"),
    ("model A\n    x_id text\n    x -> A\n", "duplicate-column"),
    ("model A\n    int text\n    int_ text\n", "duplicate-column"),
    ("model A\n    b -> A\n    b_id <- A.b\n", "duplicate-column"),
    ("model A\n    x integer, required\n    y integer, required\n    key x, y\nmodel B\n    a <-> A\n", "no-single-key"),
    ("model A\n    kin <- A.up\n    too <- A.up\n    up -> A\n", "duplicate-collection"),
    ("model A\n    x text\nseed\n    5 B\n", "unknown-model"),
    ("model A\n    x text\nseed\n    many A\n", "bad-count"),
    ("model A\n    x boolean, required, unique\nseed\n    3 A\n", "contradiction"),
    ("model A\n    x text\n   y text\n", "uneven-indent"),
    ("model A\n    x text\n\ty text\n", "mixed-indent"),
    ("    x text\n", "uneven-indent"),
    ("model A\n    x text\x00\n", "control-character"),
    ("part Frame\n    x slug from x\n", "bad-part"),
    ("values Level\nvalues Level\n    low\n", "duplicate-model"),
]  # fmt: skip


@pytest.mark.parametrize(("text", "code"), BLOCKS)
def test_a_wrong_block_is_explained(text: str, code: str) -> None:
    assert code in [problem.code for problem in understand(text)[1]]


def test_all_problems_come_at_once_and_in_order() -> None:
    text = "model Hive\n" + "".join(
        f"    f{n} {line}\n" for n, line in enumerate(["txt", "text 0", "-> X"] * 20)
    )
    places = [problem.span.place for problem in understand(text)[1]]
    assert len(places) == 60
    assert places == sorted(places)


def test_the_whole_language_is_understood() -> None:
    schema, problems = understand(WHOLE)
    assert not problems
    assert schema.parts and schema.rows and schema.profiles
    assert sum(len(model.rules) for model in schema) >= 9


def test_a_problem_reads_well() -> None:
    problem = understand('model Hive\n    größe "ä" txt\n    name txt 80\n')[1][-1]
    assert as_text(problem) == (
        "bees.welbik:3:10: 'txt' is no type\n"
        "    3 |     name txt 80\n"
        "      |          ^^^\n"
        "        did you mean text?"
    )


@given(st.text(max_size=300))
def test_no_text_breaks_the_parser(text: str) -> None:
    for problem in understand(text)[1]:
        assert as_text(problem)
        assert 0 <= problem.span.start <= problem.span.end <= len(text)


@st.composite
def _mutated(draw: st.DrawFn) -> str:
    """The whole language with some pieces cut, doubled or moved."""
    text = WHOLE
    for _ in range(draw(st.integers(1, 4))):
        start = draw(st.integers(0, len(text)))
        end = min(len(text), start + draw(st.integers(0, 40)))
        piece = draw(
            st.sampled_from(["", text[start:end] * 2, "\n", '"', ",", " -> ", "..", "(", "\t", "é"])
        )
        text = text[:start] + piece + text[end:]
    return text


@given(_mutated())
@settings(max_examples=300)
def test_no_damage_to_a_real_file_breaks_it(text: str) -> None:
    for problem in understand(text)[1]:
        assert as_text(problem)


@given(declarations())
@settings(max_examples=150)
def test_valid_declarations_have_no_problems(text: str) -> None:
    # Two names may have one plural; all else in these texts is right.
    assert {problem.code for problem in understand(text)[1]} <= {"same-name"}


@given(declarations())
@settings(max_examples=60)
def test_line_ends_and_order_of_models_do_not_matter(text: str) -> None:
    schema = understand(text)[0]
    again = understand(text.replace("\n", "\r\n"))[0]
    turned = understand("\n".join(reversed(text.split("\n\n"))) if "\n\n" in text else text)[0]
    for other in (again, turned):
        assert {m.name: [f.name for f in m.members] for m in other} == {
            m.name: [f.name for f in m.members] for m in schema
        }
