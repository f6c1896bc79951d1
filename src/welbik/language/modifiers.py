"""What follows a field or a relation after commas."""

from __future__ import annotations

from ..problems import did_you_mean, nearest
from . import syntax
from .cursor import Cursor, Skip
from .expressions import expression, operand
from .syntax import Word
from .types import read_range
from .words import COMPARISONS, CONTROLS, FLAGS, MODIFIERS, REMOVALS, TEXTS


def read_modifiers(
    cursor: Cursor, sort: list[syntax.SortKey] | None = None
) -> tuple[syntax.Modifier, ...]:
    """All modifiers up to the end of the line; sort keys of `sorted by` go to `sort`."""
    found: list[syntax.Modifier] = []
    unread = False
    while cursor.now.kind != "end":
        try:
            if not cursor.take(","):
                cursor.report.add(
                    "missing-comma",
                    f"expected a comma before {cursor.found}",
                    cursor.span(cursor.now),
                    "put a comma between modifiers",
                    fix=f", {cursor.now.text}",
                    fix_from=cursor.tokens[cursor.at - 1].end if cursor.at else None,
                )
            modifier = _modifier(cursor, sort)
            # What words a check that couldn't be read is no mistake of its own.
            if modifier is not None and not (unread and modifier.word.text == "say"):
                found.append(modifier)
            unread = False
            if cursor.now.kind != "end" and cursor.now.text != ",":
                message = (
                    f"{cursor.found} does not belong to {found[-1].word.text!r}"
                    if found
                    else f"{cursor.found} is too much here"
                )
                raise cursor.fail("unexpected", message, "put a comma between modifiers")
        except Skip:
            unread = True
            cursor.to_comma()
    return tuple(found)


def _modifier(cursor: Cursor, sort: list[syntax.SortKey] | None) -> syntax.Modifier | None:
    first = cursor.now
    if first.text in COMPARISONS and first.kind == "op":
        cursor.step()
        compared = operand(cursor)
        word = Word(first.text, cursor.span(first))
        return syntax.Modifier(word, cursor.since(first), expression=compared)
    word = cursor.word("a modifier", f"known are {', '.join(MODIFIERS)}")
    name = word.text
    if name in FLAGS:
        return syntax.Modifier(word, word.span)
    if name in TEXTS:
        text = cursor.string(f"the text of {name!r}")
        return syntax.Modifier(word, cursor.since(first), text=text)
    if name in ("default", "places"):
        value = cursor.bound("a value")
        return syntax.Modifier(word, cursor.since(first), value=value)
    if name in ("between", "in"):
        return _condition(cursor, word)
    if name == "where":
        condition = expression(cursor)
        return syntax.Modifier(word, cursor.since(first), expression=condition)
    if name == "sample":
        terms, only = _terms(cursor)
        return syntax.Modifier(word, cursor.since(first), terms=tuple(terms), expression=only)
    if name == "sorted" and sort is not None:
        cursor.expect("by", "write: sorted by name")
        sort.append(sort_key(cursor))
        return None
    return _with_word(cursor, word)


def _with_word(cursor: Cursor, word: Word) -> syntax.Modifier:
    first = cursor.tokens[cursor.at - 1]
    if word.text == "on":
        cursor.expect("removal", f"write: on removal {' or '.join(REMOVALS)}")
        way = _one_word(cursor, "what happens on removal", REMOVALS, "unknown-removal")
        return syntax.Modifier(word, cursor.since(first), text=way)
    if word.text == "stored":
        return _stored(cursor, word)
    if word.text == "empty":
        cursor.expect("stored", _EMPTY)
        cursor.expect("as", _EMPTY)
        value = cursor.literal("what stands for an empty value")
        return syntax.Modifier(word, cursor.since(first), value=value)
    if word.text == "set":
        cursor.expect("by", "write: set by database")
        cursor.expect("database", "write: set by database")
        return syntax.Modifier(word, cursor.since(first))
    if word.text == "was":
        return _was(cursor, word)
    if word.text == "as":
        control = _one_word(cursor, "a control", CONTROLS, "unknown-control")
        return syntax.Modifier(word, cursor.since(first), text=control)
    if word.text == "loops":
        cursor.expect("allowed", "write: loops allowed")
        return syntax.Modifier(word, cursor.since(first))
    raise cursor.fail(
        "unknown-modifier",
        f"{word.text!r} is no modifier",
        did_you_mean(word.text, MODIFIERS),
        word.span,
        fix=nearest(word.text, MODIFIERS),
    )


_EMPTY = 'write: empty stored as ""'


def _stored(cursor: Cursor, word: Word) -> syntax.Modifier:
    """The column's name, the type it has there, and what stands for yes and no."""
    first = cursor.tokens[cursor.at - 1]
    cursor.expect("as", 'write: stored as "column"')
    text = cursor.string("a column's name")
    of = pair = None
    if cursor.take("of"):
        of = cursor.string("the type that the database has for it")
        if cursor.take("|"):
            pair = (of, cursor.string("the column that refers to the other model"))
    if cursor.take("with"):
        yes = cursor.string("what stands for yes")
        cursor.expect("|", 'write: with "Y" | "N"')
        pair = (yes, cursor.string("what stands for no"))
    return syntax.Modifier(word, cursor.since(first), text=text, of=of, pair=pair)


def _was(cursor: Cursor, word: Word) -> syntax.Modifier:
    """The old name, or an expression over the row as it was."""
    first = cursor.tokens[cursor.at - 1]
    if cursor.now.kind == "end" or cursor.now.text == ",":
        raise cursor.fail("unexpected", f"expected the old name, found {cursor.found}", _WAS)
    written = expression(cursor)
    if isinstance(written, syntax.Name) and len(written.path) == 1:
        return syntax.Modifier(word, cursor.since(first), text=written.path[0])
    return syntax.Modifier(word, cursor.since(first), expression=written)


_WAS = "write: was old_name, or what the rows there are to get: was round(kg * 1000)"


def _one_word(cursor: Cursor, what: str, known: tuple[str, ...], code: str) -> Word:
    word = cursor.word(what, f"known are {', '.join(known)}")
    if word.text not in known:
        raise cursor.fail(
            code,
            f"{word.text!r} is no {what}"
            if code == "unknown-control"
            else f"{word.text!r} is nothing that can happen on removal",
            did_you_mean(word.text, known),
            word.span,
            fix=nearest(word.text, known),
        )
    return word


def _condition(cursor: Cursor, word: Word) -> syntax.Modifier:
    """`between 1 and 9` or `in (…)`: as operands behind the field that is not written."""
    from .expressions import compared

    start = cursor.at - 1
    cursor.at = start
    here = syntax.Name((word,), word.span)
    condition = compared(cursor, here)
    return syntax.Modifier(word, cursor.since(cursor.tokens[start]), expression=condition)


def sort_key(cursor: Cursor) -> syntax.SortKey:
    descending = cursor.take("-") is not None
    return syntax.SortKey(cursor.path(), descending)


def _terms(cursor: Cursor) -> tuple[list[syntax.Term], syntax.Expression | None]:
    """Ways to make values up, and at last the condition behind `only when`."""
    terms: list[syntax.Term] = []
    while True:
        if cursor.now.text == "only" and cursor.now.kind == "word":
            cursor.step()
            cursor.expect("when", "write: sample only when closed is given")
            return terms, expression(cursor)
        terms.append(_term(cursor))
        if cursor.now.kind != "word" or cursor.now.text not in ("and", "only"):
            return terms, None
        if cursor.now.text == "and":
            cursor.step()


def _term(cursor: Cursor) -> syntax.Term:
    first = cursor.now
    if cursor.at_literal or cursor.now.text == "..":
        range_ = read_range(cursor)
        assert range_ is not None
        if range_.single and isinstance(range_.high, syntax.Literal):
            share = range_.high
            if share.kind != "percent":
                raise cursor.fail(
                    "unexpected",
                    f"expected a share, found {share.span.text}",
                    "write: 15% empty, or: 2..12 per apiary",
                    share.span,
                )
            cursor.expect("empty", "write: 15% empty")
            return syntax.Term(Word("empty", share.span), (share,), cursor.since(first))
        cursor.expect("per", "write: 2..12 per apiary")
        per = cursor.word("a relation", "write: 2..12 per apiary")
        word = Word("per", per.span)
        named = syntax.Literal("word", per.text, per.span)
        return syntax.Term(word, (range_, named), cursor.since(first))
    word = cursor.word("a way to make up values", "write: sample normal(10, 2)")
    arguments: list[syntax.Literal | syntax.Range] = []
    if cursor.take("("):
        arguments.append(_argument(cursor))
        while cursor.take(","):
            arguments.append(_argument(cursor))
        cursor.expect(")", "close the bracket")
    return syntax.Term(word, tuple(arguments), cursor.since(first))


def _argument(cursor: Cursor) -> syntax.Literal | syntax.Range:
    if cursor.now.kind == "string":
        return cursor.literal("a value")
    range_ = read_range(cursor)
    if range_ is None:
        return cursor.literal("a value")
    if range_.single and isinstance(range_.high, syntax.Literal):
        if cursor.now.text in ("day", "days") and cursor.now.kind == "word":
            cursor.step()
            return range_.high._replace(kind="days")
        return range_.high
    return range_
