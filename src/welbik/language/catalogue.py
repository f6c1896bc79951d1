"""Every kind of problem by its code: what it is, and the wrong and the right way.

`welbik check --explain` and docs/problems.md are made of this; tests check that each wrong
way has its problem and each right way none.
"""

from __future__ import annotations

from typing import NamedTuple


class Explained(NamedTuple):
    """`about` is a sentence; `wrong` and `right` are declarations."""

    about: str
    wrong: str
    right: str


def _in_model(line: str, more: str = "") -> str:
    return f"model Hive\n    code text 7, required\n    {line}\n{more}"


def _fields(about: str, wrong: str, right: str, more: str = "") -> Explained:
    """A line in a model, wrong and right; `more` are other blocks it needs."""
    return Explained(about, _in_model(wrong, more), _in_model(right, more))


def _in_two(about: str, wrong: str, right: str) -> Explained:
    """How the last of four models is shown, each by the one before it."""

    def models(text: str) -> str:
        first = "model A\n    up text 7, required\n"
        rest = zip("BCD", "ABC", strict=True)
        return first + "".join(
            f'model {name}\n    up -> {before}, required\n    shown as "{text}"\n'
            for name, before in rest
        )

    return Explained(about, models(wrong), models(right))


_KEEPER = "\nmodel Keeper\n    name text 40\n"
_SITES = "\nmodel Site\n    hives <- Hive.site\n"

CATALOGUE: dict[str, Explained] = {
    "not-utf-8": Explained(
        "A declaration file is not UTF-8 text.",
        "# a file saved as Latin-1: h\\xf6he",
        "# the same file saved as UTF-8: höhe",
    ),
    "control-character": Explained(
        "A control character stands in the text, where nobody sees it.",
        "model Hive\n    code text 7\x00\n",
        "model Hive\n    code text 7\n",
    ),
    "stray-character": _fields(
        "A character that means nothing in the language.", "frames integer;", "frames integer"
    ),
    "open-text": _fields(
        "A text between quotes is not closed on its line.",
        'note text 80, label "Note',
        'note text 80, label "Note"',
    ),
    "unknown-escape": _fields(
        "A backslash in a text stands before a letter it has no meaning for.",
        r'note text 80, label "a\qb"',
        r'note text 80, label "a\\qb"',
    ),
    "uneven-indent": Explained(
        "The members of a block are not indented alike, or the first line is indented.",
        "model Hive\n    code text 7\n   frames integer\n",
        "model Hive\n    code text 7\n    frames integer\n",
    ),
    "mixed-indent": Explained(
        "Tabs and spaces are mixed in the indentation of one file.",
        "model Hive\n    code text 7\n\tframes integer\n",
        "model Hive\n    code text 7\n    frames integer\n",
    ),
    "unexpected": _fields(
        "Something else was expected at this place.", "frames 4..24", "frames integer 4..24"
    ),
    "missing-comma": _fields(
        "Modifiers stand behind commas.",
        "frames integer 4..24 required",
        "frames integer 4..24, required",
    ),
    "too-deep": _fields(
        "An expression is nested so deeply that it can only be a mistake.",
        f"rule {'(' * 70}code is given{')' * 70}",
        "rule code is given",
    ),
    "too-long-expression": _fields(
        "An expression, with the computed fields that it reads, has too many parts.",
        "\n    ".join(
            ["c0 integer = 1", *(f"c{n} integer = c{n - 1} + c{n - 1}" for n in range(1, 12))]
        ),
        "c0 integer = 1\n    c1 integer = c0 + c0",
    ),
    "too-long-name": _in_two(
        "A row is shown by other rows, which are shown by others, until the name has no end.",
        "{up} {up} {up} {up}",
        "{up}",
    ),
    "too-long-number": _fields(
        "A number has more digits than any column holds.",
        f"frames integer 0..{'9' * 80}",
        "frames integer 0..99",
    ),
    "too-many-rules": _fields(
        "A model or a part has more than 200 rules.",
        "\n    ".join(f"rule length(code) != {n}" for n in range(201)),
        "rule length(code) != 3",
    ),
    "unknown-block": Explained(
        "A statement begins with a word that begins none.",
        "modle Hive\n    code text 7\n",
        "model Hive\n    code text 7\n",
    ),
    "empty-model": Explained(
        "A model or a part has nothing in it.", "model Hive\n", "model Hive\n    code text 7\n"
    ),
    "duplicate-model": Explained(
        "Two models, parts or lists of values have one name.",
        "model Hive\n    code text 7\nmodel Hive\n    frames integer\n",
        "model Hive\n    code text 7\nmodel Nucleus\n    frames integer\n",
    ),
    "same-name": Explained(
        "Two models would share a table or an address.",
        'model Hive\n    code text 7\nmodel Skep\n    called "hive"\n    code text 7\n',
        'model Hive\n    code text 7\nmodel Skep\n    called "skep"\n    code text 7\n',
    ),
    "bad-name": _fields(
        "A name is not written the way such names are.",
        "openedOn date",
        "opened_on date",
    ),
    "reserved-name": _fields(
        "The language, Python or the generated code needs this name itself.",
        "class text 20",
        "class_name text 20",
    ),
    "long-name": _fields(
        "A name is longer than some databases take.",
        "the_number_of_frames_that_the_hive_had_last_year integer",
        "frames_last_year integer",
    ),
    "duplicate-field": _fields(
        "Two members of a model have one name.", "code integer", "number integer"
    ),
    "duplicate-column": _fields(
        "Two members would share a column, or an attribute of the code.",
        "keeper_id integer\n    keeper -> Keeper",
        "keeper_number integer\n    keeper -> Keeper",
        _KEEPER,
    ),
    "unknown-type": _fields("There is no such type.", "frames int", "frames integer"),
    "unexpected-range": _fields(
        "A type has a range that it does not take.", "open boolean 1", "open boolean"
    ),
    "empty-range": _fields(
        "The first end of a range is larger than its last.",
        "frames integer 24..4",
        "frames integer 4..24",
    ),
    "wrong-value": _fields(
        "A value is none of its field's type, or lies outside its bounds.",
        "frames integer, default many",
        "frames integer, default 11",
    ),
    "no-such-date": _fields(
        "A date is not in the calendar, or a time not in the day.",
        "opened date 2026-02-30..",
        "opened date 2026-02-28..",
    ),
    "too-large": _fields(
        "A number is larger than databases keep.",
        "count integer ..99999999999999999999",
        "count integer ..9_000_000_000",
    ),
    "bad-length": _fields("A length is no whole number from 1.", "note text 0", "note text 80"),
    "bad-places": _fields(
        "A count of places does not fit the field.",
        "kg decimal 0..9.125, places 2",
        "kg decimal 0..9.125, places 3",
    ),
    "unknown-unit": _fields(
        "A unit of time or size that the language does not have.",
        "opened date today - 3 months..",
        "opened date today - 90 days..",
    ),
    "bad-size": _fields(
        "The size of an upload is no size.", "photo image up to 0 MB", "photo image up to 4 MB"
    ),
    "unknown-suffix": _fields(
        "An image type that browsers do not show.",
        "photo image up to 4 MB of tiff",
        "photo image up to 4 MB of png",
    ),
    "bad-list": _fields(
        "A list holds short texts, or a part's values.",
        "sizes list of integer",
        "sizes list of text 10",
    ),
    "bad-pattern": _fields(
        "A pattern uses what browsers, Python and databases read differently, or is no pattern.",
        r'mark text 9, matches "[A-Z"',
        r'mark text 9, matches "[A-Z]"',
    ),
    "bad-count": Explained(
        "A line of `seed` does not begin with a number of rows.",
        "model Hive\n    code text 7\nseed\n    many Hive\n",
        "model Hive\n    code text 7\nseed\n    12 Hive\n",
    ),
    "unknown-modifier": _fields(
        "There is no such modifier.", "note text 80, requird", "note text 80, required"
    ),
    "misplaced-modifier": _fields(
        "A modifier does not apply to this kind of member.",
        'open boolean, matches "x"',
        "open boolean, required",
    ),
    "said-twice": _fields(
        "Something is said twice.", "frames integer, unique, unique", "frames integer, unique"
    ),
    "said-otherwise": _fields(
        "Something is said in a way that has its own place.",
        "unique code",
        "unique code, frames",
        "    frames integer\n",
    ),
    "unknown-control": _fields(
        "There is no such control.", "note text 80, as box", "note text 80, as area"
    ),
    "unknown-removal": _fields(
        "What happens on removal is refuse, clear or remove.",
        "keeper -> Keeper, on removal delete",
        "keeper -> Keeper, on removal remove",
        _KEEPER,
    ),
    "unknown-page": _fields("There is no such page.", "pages list, show", "pages list, view"),
    "unknown-keep": _fields("There is no such thing to keep.", "keep trash", "keep bin"),
    "unknown-model": _fields(
        "There is no such model.", "keeper -> Keper", "keeper -> Keeper", _KEEPER
    ),
    "unknown-values": Explained(
        "There are no values of that name.",
        "model Hive\n    state one of Stat\nvalues State\n    open\n",
        "model Hive\n    state one of State\nvalues State\n    open\n",
    ),
    "empty-values": Explained(
        "A list of values has none.",
        "values State\nmodel Hive\n    code text 7\n",
        "values State\n    open\nmodel Hive\n    code text 7\n",
    ),
    "unknown-part": Explained(
        "There is no part of that name.",
        "model Hive\n    layout list of Fram\npart Frame\n    position integer\n",
        "model Hive\n    layout list of Frame\npart Frame\n    position integer\n",
    ),
    "bad-part": Explained(
        "A part has fields with a plain value, and nothing else.",
        "part Frame\n    scan file\nmodel Hive\n    layout list of Frame\n",
        "part Frame\n    position integer\nmodel Hive\n    layout list of Frame\n",
    ),
    "unknown-field": _fields("There is no such field.", "list cod", "list code"),
    "unknown-reference": _fields(
        "The other side of a collection is no relation to this model.",
        "swarms <- Swarm.hiv",
        "swarms <- Swarm.hive",
        "\nmodel Swarm\n    hive -> Hive\n",
    ),
    "duplicate-collection": _fields(
        "A relation has its other side already.",
        "swarms <- Swarm.hive\n    more <- Swarm.hive",
        "swarms <- Swarm.hive",
        "\nmodel Swarm\n    hive -> Hive\n",
    ),
    "no-single-key": Explained(
        "What several fields tell apart together is led to by no single column.",
        "model Swarm\n    year integer, required\n    number integer, required\n    key year, number\nmodel Hive\n    swarm -> Swarm\n",
        "model Swarm\n    year integer, required\n    number integer, required\n    unique year, number\nmodel Hive\n    swarm -> Swarm\n",
    ),
    "bad-path": _fields(
        "A path leads through a field that has nothing behind it.",
        "list code.name",
        "list code",
    ),
    "bad-shown-as": _fields(
        "What stands for a row names no field, or a brace has no partner.",
        'shown as "a hive"',
        'shown as "{code}"',
    ),
    "not-unique": _fields(
        "An address or a key must tell rows apart: required, unique, and a plain value.",
        "address code",
        "mark text 9, required, unique\n    address mark",
    ),
    "bad-slug": _fields(
        "A slug is made from a text of the same model.",
        "opened date\n    word slug from opened",
        "word slug from code",
    ),
    "circle": _fields(
        "What is shown or computed goes round in a circle.",
        "a integer = b + 1\n    b integer = a + 1",
        "a integer = length(code) + 1\n    b integer = a + 1",
    ),
    "unknown-function": _fields(
        "There is no such function.", "rule len(code) > 3", "rule length(code) > 3"
    ),
    "wrong-arguments": _fields(
        "A function, or a way to make up values, takes other values.",
        "rule least(code) = code",
        'rule least(code, "M") = code',
    ),
    "chained-comparison": _fields(
        "Comparisons do not stand in a row.",
        "frames integer\n    rule 1 < frames < 9",
        "frames integer\n    rule frames between 1 and 9",
    ),
    "no-condition": _fields(
        "A rule is a condition: it must be true or false.",
        "frames integer\n    rule frames + 1",
        "frames integer\n    rule frames > 1",
    ),
    "no-order": _fields(
        "Some values have no order: choices, yes or no, rows.",
        "kind one of long | short\n    rule kind > long",
        "kind one of long | short\n    rule kind = long",
    ),
    "wrong-types": _fields(
        "Values of these types do not go together.",
        "frames integer\n    rule frames > code",
        "frames integer\n    rule frames > length(code)",
    ),
    "unknown-choice": _fields(
        "A word beside choices is none of them.",
        "kind one of long | short\n    rule kind != lang",
        "kind one of long | short\n    rule kind != long",
    ),
    "empty-text": _fields(
        "No value is ever an empty text: what is left empty is empty.",
        'rule code != ""',
        "rule code is given",
    ),
    "too-many-places": _fields(
        "A product would have more places than are kept.",
        "a decimal 0..1, places 9\n    rule a * a < 1",
        "a decimal 0..1, places 9\n    rule round(a, 3) * a < 1",
    ),
    "says-nothing": _fields(
        "A rule reads no field, and holds for every row.", "rule yes", "rule length(code) > 3"
    ),
    "contradiction": _fields(
        "Two declarations can't both be met.",
        "frames integer 4..24, >= 30",
        "frames integer 4..24, >= 6",
    ),
    "unknown-sample": _fields(
        "There is no such way to make up values.",
        "frames integer, sample gauss(11, 2)",
        "frames integer, sample normal(11, 2)",
    ),
    "misplaced-sample": _fields(
        "A way to make up values does not suit the field.",
        "opened date, sample normal(3, 1)",
        "opened date, sample within(90 days)",
    ),
    "bad-share": _fields(
        "A share lies between 0% and 100%.",
        "frames integer, sample 150% empty",
        "frames integer, sample 15% empty",
    ),
    "empty-rows": Explained(
        "Fixed rows are announced and there are none.",
        "model State\n    name text 9\nrows State\n",
        'model State\n    name text 9\nrows State\n    name\n    "open"\n',
    ),
    "wrong-cells": Explained(
        "A row has more or fewer cells than the header.",
        'model State\n    name text 9\nrows State\n    name\n    "open" | 3\n',
        'model State\n    name text 9\nrows State\n    name\n    "open"\n',
    ),
    "missing-field": Explained(
        "Fixed rows leave out a field that is required.",
        "model State\n    name text 9, required\n    rank integer\nrows State\n    rank\n    1\n",
        'model State\n    name text 9, required\n    rank integer\nrows State\n    name | rank\n    "a" | 1\n',
    ),
    "missing-value": Explained(
        "A cell is empty whose field is required.",
        "model State\n    name text 9, required\n    rank integer\nrows State\n    name | rank\n    | 1\n",
        'model State\n    name text 9, required\n    rank integer\nrows State\n    name | rank\n    "a" | 1\n',
    ),
    "duplicate-value": Explained(
        "Two fixed rows have one value in a field that is unique.",
        'model State\n    name text 9, unique\nrows State\n    name\n    "a"\n    "a"\n',
        'model State\n    name text 9, unique\nrows State\n    name\n    "a"\n    "b"\n',
    ),
    "no-such-file": Explained(
        "The CSV file of some rows is not in data/, or can't be read.",
        'model State\n    name text 9\nrows State from "stats.csv"\n',
        'model State\n    name text 9\nrows State\n    name\n    "a"\n',
    ),
}
