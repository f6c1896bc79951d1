"""Types with their arguments, as they are written after a field's name."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ..problems import did_you_mean, nearest
from . import syntax
from .cursor import Cursor, Skip
from .syntax import Word
from .words import SIZES

_NAME = re.compile(r"[a-z][a-z0-9_]*")
_UPLOADS = ("image", "file")
_LARGEST = 10**12


def read_type(cursor: Cursor, types: Sequence[str]) -> syntax.Type:
    """The type at the cursor; raises Skip, the problem reported, where there is none."""
    first = cursor.now
    if first.text == "=":
        name = cursor.tokens[0].text
        remedy = f"what is worked out has a type too: {name} integer = …, or decimal, date …"
        raise cursor.fail("unexpected", "a type comes before '='", remedy)
    word = cursor.word("a type", f"known are {', '.join(types)}")
    if word.text == "one":
        return _one_of(cursor, word)
    if word.text == "list" and cursor.now.text == "of":
        return _list_of(cursor, word, types)
    if word.text == "slug":
        cursor.expect("from", "write: slug from name")
        named = cursor.word("the field it is made from", "write: slug from name")
        return syntax.Type(word, cursor.since(first), named=named)
    if word.text in _UPLOADS:
        return _upload(cursor, word)
    if word.text not in types:
        raise _unknown(cursor, word, types)
    if cursor.now.text == "(":
        raise cursor.fail(
            "unexpected",
            f"{word.text!r} takes no brackets",
            "a range follows the type: text 40, integer 1..9, decimal 0.00..999.99",
        )
    range_ = read_range(cursor)
    return syntax.Type(word, cursor.since(first), range_)


def _unknown(cursor: Cursor, word: Word, types: Sequence[str]) -> Skip:
    shown = ["one of" if name == "one" else name for name in types]
    if word.text.lower() in types:
        small = word.text.lower()
        said = f"{word.text!r} is no type"
        return cursor.fail("unknown-type", said, f"write: {small}", word.span, fix=small)
    if word.text[0].isupper():
        remedy = f"a relation is written with an arrow: {cursor.tokens[0].text} -> {word.text}"
        return cursor.fail(
            "unknown-type", f"{word.text!r} is no type", remedy, word.span, fix=f"-> {word.text}"
        )
    near = nearest(word.text, shown)
    remedy = did_you_mean(word.text, shown)
    return cursor.fail("unknown-type", f"{word.text!r} is no type", remedy, word.span, fix=near)


def read_range(cursor: Cursor) -> syntax.Range | None:
    """`4..24`, `4..`, `..24` or a single bound, if one stands here."""
    first = cursor.now
    low: syntax.Bound | None = None
    if cursor.at_literal or cursor.now.text in ("today", "now"):
        low = cursor.bound("a bound")
        if not cursor.take(".."):
            return syntax.Range(None, low, True, cursor.since(first))
    elif not cursor.take(".."):
        return None
    high: syntax.Bound | None = None
    if cursor.at_literal or cursor.now.text in ("today", "now"):
        high = cursor.bound("a bound")
    span = cursor.since(first)
    if low is None and high is None:
        raise cursor.fail(
            "unexpected", "a range needs at least one end", "write 4..24, 4.. or ..24", span
        )
    return syntax.Range(low, high, False, span)


def _one_of(cursor: Cursor, word: Word) -> syntax.Type:
    first = cursor.tokens[cursor.at - 1]
    cursor.expect("of", "write: one of low | high")
    if cursor.now.kind == "word" and cursor.now.text[0].isupper():
        named = cursor.word("a list of values")
        return syntax.Type(word, cursor.since(first), named=named)
    choices = [read_choice(cursor)]
    while cursor.take("|"):
        choices.append(read_choice(cursor))
    return syntax.Type(word, cursor.since(first), choices=tuple(choices))


def read_choice(cursor: Cursor) -> syntax.Choice:
    name = cursor.word("a choice", "choices are words, with | between them: one of low | high")
    if not _NAME.fullmatch(name.text):
        message = f"{name.text!r} can't name a choice: names are small letters, digits and _"
        label = cursor.optional_string()
        shown = f'{name.text.lower()} "{name.text}"' if label is None else name.text.lower()
        fixed = shown if _NAME.fullmatch(name.text.lower()) else None
        cursor.report.add("bad-name", message, name.span, f"write it as {shown}", fix=fixed)
        return syntax.Choice(name, label)
    stored = None
    if cursor.take("stored"):
        cursor.expect("as", 'write: open stored as "1"')
        stored = cursor.string("what stands for the choice in the database")
    label, was = cursor.optional_string(), None
    if cursor.take("was"):
        said = "write: british was national"
        was = cursor.optional_string() or cursor.word("what the choice was", said)
    return syntax.Choice(name, label, stored, was)


def _list_of(cursor: Cursor, word: Word, types: Sequence[str]) -> syntax.Type:
    first = cursor.tokens[cursor.at - 1]
    cursor.expect("of", "write: list of Frame, or: list of text 30")
    if cursor.now.kind == "word" and cursor.now.text[0].isupper():
        named = cursor.word("a part")
        return syntax.Type(word, cursor.since(first), named=named)
    inner = read_type(cursor, types)
    if inner.word.text != "text":
        raise cursor.fail(
            "bad-list",
            f"a list can't hold {inner.word.text!r}",
            "lists hold text, or a part with fields: list of Frame",
            inner.span,
        )
    return syntax.Type(word, cursor.since(first), of=inner)


def _upload(cursor: Cursor, word: Word) -> syntax.Type:
    first = cursor.tokens[cursor.at - 1]
    size = None
    if cursor.take("up"):
        cursor.expect("to", f"write: {word.text} up to 4 MB")
        size = _size(cursor)
    suffixes: list[Word] = []
    if cursor.take("of"):
        suffixes = _suffixes(cursor)
    return syntax.Type(word, cursor.since(first), size=size, suffixes=tuple(suffixes))


def _size(cursor: Cursor) -> int:
    number = cursor.literal("a size")
    unit = cursor.word("a unit", f"known are {', '.join(SIZES)}")
    if unit.text not in SIZES:
        near = unit.text.upper() if unit.text.upper() in SIZES else None
        raise cursor.fail(
            "unknown-unit",
            f"{unit.text!r} is no unit of size",
            f"known are {', '.join(SIZES)}",
            unit.span,
            fix=near,
        )
    try:
        size = int(float(number.text) * SIZES[unit.text]) if number.kind == "number" else 0
    except (ValueError, OverflowError):
        size = 0
    if not 0 < size <= _LARGEST:
        raise cursor.fail(
            "bad-size", f"{number.span.text} is no size", "write: up to 4 MB", number.span
        )
    return size


def _suffixes(cursor: Cursor) -> list[Word]:
    """`pdf, csv`: words that follow a comma, while they are no modifiers."""
    from .words import MODIFIERS

    found = [cursor.word("a suffix", "write: of pdf, csv")]
    known = {word.split()[0] for word in MODIFIERS}
    while (
        cursor.now.text == ","
        and cursor.ahead().kind == "word"
        and cursor.ahead().text not in known
        and cursor.ahead(2).text in (",", "")
    ):
        cursor.step()
        found.append(cursor.word("a suffix"))
    return found
