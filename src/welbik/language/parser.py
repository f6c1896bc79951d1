"""Logical lines to a syntax tree, by hand; after an error it goes on with the next part."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from ..problems import did_you_mean, nearest
from . import syntax
from .cursor import Cursor, Skip
from .diagnostics import Report
from .lexer import Line, lines
from .members import parse_member
from .source import Source
from .syntax import Literal, Word
from .types import read_choice
from .words import BLOCKS

Member = Callable[[Line], None]
"""Reads one member of the block that is open."""


def parse(source: Source, report: Report, types: Sequence[str]) -> syntax.File:
    """The syntax tree of one file.

    `types` are the type words that `kinds/` knows. Problems go to `report`; what
    could be read is returned all the same. Raises nothing, whatever the text.
    """
    file = syntax.File()
    member: Member = _pass_over
    for line in lines(source, report):
        if line.member:
            member(line)
        else:
            member = _statement(line, file, report, types)
    return file


def _pass_over(line: Line) -> None:
    """The members of a block that couldn't be read: the block itself is reported."""


def _statement(line: Line, file: syntax.File, report: Report, types: Sequence[str]) -> Member:
    """Reads a block's first line; returns what reads the members under it."""
    cursor = Cursor(line, report)
    try:
        first = cursor.word("a block", f"a statement begins with {', '.join(BLOCKS)}")
        if first.text not in BLOCKS:
            report.add(
                "unknown-block",
                f"no statement begins with {first.text!r}",
                first.span,
                did_you_mean(first.text, BLOCKS),
                fix=nearest(first.text, BLOCKS),
            )
            return _pass_over
        if first.text in ("model", "part"):
            model = _model(cursor, first, file)
            return lambda line: parse_member(line, model, report, types)
        if first.text == "values":
            return _values(cursor, file, report)
        if first.text == "rows":
            return _rows(cursor, file, report)
        return _seed(cursor, first, file, report)
    except Skip:
        return _pass_over


def _model(cursor: Cursor, first: Word, file: syntax.File) -> syntax.Model:
    what, example = ("model", "Hive") if first.text == "model" else ("part", "Frame")
    name = cursor.word(f"the {what}'s name", f"write: {what} {example}")
    model = syntax.Model(name, None, name.span)
    (file.models if what == "model" else file.parts).append(model)
    try:
        model.help = cursor.optional_string()
        _nothing_more(cursor, f"a {what}'s first line", "members go below, indented")
    except Skip:
        pass
    return model


def _nothing_more(cursor: Cursor, what: str, remedy: str) -> None:
    if cursor.now.kind != "end":
        raise cursor.fail("unexpected", f"{cursor.found} is not part of {what}", remedy)


def _values(cursor: Cursor, file: syntax.File, report: Report) -> Member:
    name = cursor.word("a name for the values", "write: values Severity")
    values = syntax.Values(name, [])
    file.values.append(values)
    _nothing_more(cursor, "'values'", "choices go below, indented, one a line")

    def member(line: Line) -> None:
        inner = Cursor(line, report)
        try:
            values.choices.append(read_choice(inner))
            if inner.now.kind != "end":
                raise inner.fail(
                    "unexpected",
                    f"{inner.found} is too much here",
                    'one choice a line: low "Minor"',
                )
        except Skip:
            pass

    return member


def _rows(cursor: Cursor, file: syntax.File, report: Report) -> Member:
    model = cursor.word("a model's name", "write: rows Finding")
    given = None
    if cursor.take("from"):
        given = cursor.string("the name of a CSV file in data/")
    _nothing_more(cursor, "'rows'", 'a table goes below, or: rows Finding from "findings.csv"')
    rows = syntax.Rows(model, given, [], [])
    file.rows.append(rows)

    def member(line: Line) -> None:
        inner = Cursor(line, report)
        try:
            if given is not None:
                raise inner.fail(
                    "unexpected",
                    "these rows come from a file, and from here",
                    f"take the table out, or 'from {given.span.text}'",
                )
            if not rows.header:
                rows.header.extend(_header(inner))
            else:
                rows.lines.append(_cells(inner, len(rows.header)))
        except Skip:
            pass

    return member


def _header(cursor: Cursor) -> list[Word]:
    found = [cursor.word("a field's name", "the first line names the fields: name | severity")]
    while cursor.take("|"):
        found.append(cursor.word("a field's name"))
    _nothing_more(cursor, "the header", "put | between the names")
    return found


def _cells(cursor: Cursor, wanted: int) -> list[syntax.Cell]:
    first = cursor.now
    found: list[syntax.Cell] = []
    while True:
        empty = cursor.now.kind == "end" or cursor.now.text == "|"
        here = cursor.span(cursor.now)
        value = None if empty else _unquoted(cursor) or cursor.literal("a value")
        found.append(syntax.Cell(value, value.span if value else here))
        if not cursor.take("|"):
            break
    _nothing_more(cursor, "this cell", "put | between cells, and text between double quotes")
    if len(found) != wanted:
        raise cursor.fail(
            "wrong-cells",
            f"this row has {len(found)} cells, the header {wanted}",
            "an empty cell keeps its |",
            cursor.since(first),
        )
    return found


def _unquoted(cursor: Cursor) -> Literal | None:
    """Words that fill a cell by themselves; None where it begins otherwise, or is one word."""
    first = cursor.now
    count = 0
    while cursor.ahead(count).kind in ("word", "number"):
        count += 1
    after = cursor.ahead(count)
    if first.kind != "word" or count < 2 or not (after.kind == "end" or after.text == "|"):
        return None
    for _ in range(count):
        cursor.step()
    span = cursor.since(first)
    return Literal("words", " ".join(span.text.split()), span)


def _seed(cursor: Cursor, first: Word, file: syntax.File, report: Report) -> Member:
    name = cursor.word("a profile's name") if cursor.now.kind == "word" else None
    _nothing_more(cursor, "'seed'", "counts go below, indented: 12 Keeper")
    seed = syntax.Seed(name.span if name else first.span, name)
    file.seeds.append(seed)
    return lambda line: _count(line, seed, report)


def _count(line: Line, seed: syntax.Seed, report: Report) -> None:
    cursor = Cursor(line, report)
    try:
        number = cursor.literal("a number of rows")
        if number.kind != "number" or not number.text.isdigit() or len(number.text) > 12:
            raise cursor.fail(
                "bad-count",
                f"{number.span.text!r} is no number of rows",
                "write: 12 Keeper",
                number.span,
            )
        model = cursor.word("a model's name", "write: 12 Keeper")
        if cursor.now.kind != "end":
            raise cursor.fail(
                "unexpected", f"{cursor.found} is too much here", "one count a line: 12 Keeper"
            )
        seed.counts.append(syntax.Count(int(number.text), model))
    except Skip:
        pass
