"""Logical lines to a syntax tree, by hand; after an error it goes on with the next part."""

from __future__ import annotations

from collections.abc import Sequence

from ..problems import did_you_mean
from . import syntax
from .cursor import Cursor, Skip
from .diagnostics import Report
from .lexer import Line, lines
from .members import parse_member
from .source import Source, Span
from .syntax import Word
from .words import BLOCKS


def parse(source: Source, report: Report, types: Sequence[str]) -> syntax.File:
    """The syntax tree of one file.

    `types` are the type words that `kinds/` knows. Problems go to `report`; what
    could be read is returned all the same. Raises nothing, whatever the text.
    """
    file = syntax.File()
    block: syntax.Model | syntax.Seed | None = None
    skipping = False
    for line in lines(source, report):
        if line.member:
            if isinstance(block, syntax.Model):
                parse_member(line, block, report, types)
            elif isinstance(block, syntax.Seed):
                _count(line, block, report)
            elif not skipping:
                skipping = True
                report.add(
                    "stray-member",
                    "this line belongs to no block",
                    line.span,
                    "put it under a model",
                )
        else:
            block, skipping = _statement(line, file, report)
    return file


def _statement(
    line: Line, file: syntax.File, report: Report
) -> tuple[syntax.Model | syntax.Seed | None, bool]:
    """The block that a statement opens, and whether the members under it are passed over."""
    cursor = Cursor(line, report)
    try:
        first = cursor.word("a block", f"a statement begins with {', '.join(BLOCKS)}")
        if first.text not in BLOCKS:
            remedy = did_you_mean(first.text, BLOCKS)
            report.add(
                "unknown-block", f"no statement begins with {first.text!r}", first.span, remedy
            )
            return None, True
        if first.text == "model":
            return _model(cursor, first, file), False
        if first.text == "seed":
            return _seed(cursor, first, file), cursor.now.kind != "end"
        _later(cursor, first, file)
        return None, True
    except Skip:
        return None, True


def _later(cursor: Cursor, first: Word, file: syntax.File) -> None:
    name = cursor.word("a name")
    if first.text in ("part", "values"):
        file.later.append(name)
    _not_yet(cursor.report, f"'{first.text}' blocks", first.span)


def _not_yet(report: Report, what: str, span: Span) -> None:
    report.add("not-yet", f"{what} are not supported yet", span, "take the block out for now")


def _model(cursor: Cursor, first: Word, file: syntax.File) -> syntax.Model:
    name = cursor.word("the model's name", "write: model Hive")
    model = syntax.Model(name, None, name.span)
    file.models.append(model)
    try:
        model.help = cursor.optional_string()
        if cursor.now.kind != "end":
            raise cursor.fail(
                "unexpected",
                f"{cursor.found} is not part of a model's first line",
                "members go below, indented",
            )
    except Skip:
        pass
    return model


def _seed(cursor: Cursor, first: Word, file: syntax.File) -> syntax.Seed | None:
    if cursor.now.kind == "word":
        cursor.report.add(
            "not-yet",
            "named seed profiles are not supported yet",
            cursor.span(cursor.now),
            "keep one 'seed' block for now",
        )
        return None
    if cursor.now.kind != "end":
        raise cursor.fail(
            "unexpected",
            f"{cursor.found} is not part of 'seed'",
            "counts go below, indented: 12 Keeper",
        )
    seed = syntax.Seed(first.span)
    file.seeds.append(seed)
    return seed


def _count(line: Line, seed: syntax.Seed, report: Report) -> None:
    cursor = Cursor(line, report)
    try:
        number = cursor.literal("a number of rows")
        if number.kind != "number" or not number.text.isdigit():
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
