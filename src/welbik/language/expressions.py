"""Expressions: operator precedence by recursive descent, loosest first."""

from __future__ import annotations

from collections.abc import Callable

from .cursor import Cursor
from .syntax import Aggregate, Clock, Expression, Literal, Name, Operation, Word
from .words import COMPARISONS

AGGREGATES = ("count", "sum", "avg", "min", "max")
FUNCTIONS = {
    **dict.fromkeys(("length", "lower", "upper", "trim", "abs"), (1, 1)),
    **dict.fromkeys(("year", "month", "day"), (1, 1)),
    "round": (1, 2),
    "least": (2, 20),
    "greatest": (2, 20),
    "coalesce": (2, 20),
    "exchanged": (3, 61),
}
"""Functions and the fewest and most values they take."""

Reader = Callable[[Cursor, int], Expression]

_SIGNS = {"==": "=", "<>": "!=", "=<": "<=", "=>": ">="}
"""What other languages compare with, and what this one does."""

_LONGEST = 100
"""Operators of one kind in a row."""

_DEEPEST = 60
"""Brackets within brackets, and operators before operators: more is no rule but a mistake."""


def expression(cursor: Cursor) -> Expression:
    """Reads an expression; raises Skip, the problem reported, where there is none."""
    return _when(cursor, 0)


def operand(cursor: Cursor) -> Expression:
    """Reads what may stand beside a comparison: no `and`, no comparison of its own."""
    return _joined(cursor, 0)


def _operation(word: Word, *operands: Expression) -> Operation:
    first = operands[0].span
    span = first._replace(start=min(first.start, word.span.start))
    last = operands[-1].span if operands[-1].span.end > word.span.end else word.span
    return Operation(word, operands, span.to(last))


def _word(cursor: Cursor) -> Word:
    token = cursor.step()
    return Word(token.text, cursor.span(token))


def _deeper(cursor: Cursor, depth: int) -> int:
    if depth >= _DEEPEST:
        raise cursor.fail("too-deep", "this expression is nested too deeply", "take it apart")
    return depth + 1


def _at_word(cursor: Cursor, *words: str) -> bool:
    return cursor.now.kind == "word" and cursor.now.text in words


def _chained(cursor: Cursor, depth: int, inner: Reader, *words: str) -> Expression:
    """Operands joined from the left by operators of one strength."""
    left = inner(cursor, depth)
    count = 0
    while cursor.now.text in words and cursor.now.kind in ("word", "op"):
        word = _word(cursor)
        if (count := count + 1) > _LONGEST:
            raise cursor.fail("too-deep", "this expression is too long", "take it apart")
        left = _operation(word, left, inner(cursor, depth))
    return left


def _when(cursor: Cursor, depth: int) -> Expression:
    return _chained(cursor, depth, _either, "when")


def _either(cursor: Cursor, depth: int) -> Expression:
    return _chained(cursor, depth, _both, "or")


def _both(cursor: Cursor, depth: int) -> Expression:
    return _chained(cursor, depth, _negated, "and")


def _negated(cursor: Cursor, depth: int) -> Expression:
    if not _at_word(cursor, "not"):
        return compared(cursor, _joined(cursor, depth), depth)
    word = _word(cursor)
    return _operation(word, _negated(cursor, _deeper(cursor, depth)))


def compared(cursor: Cursor, left: Expression, depth: int = 0) -> Expression:
    """`left` with the comparison that follows it, if one does."""
    if cursor.now.kind == "op" and cursor.now.text in COMPARISONS:
        word = _comparison(cursor)
        found = _operation(word, left, _joined(cursor, depth))
        if cursor.now.kind == "op" and cursor.now.text in COMPARISONS:
            raise cursor.fail(
                "chained-comparison",
                "comparisons do not stand in a row",
                "join two with and, or write: between 1 and 9",
            )
        return found
    if _at_word(cursor, "between"):
        word = _word(cursor)
        low = _joined(cursor, depth)
        cursor.expect("and", "write: between 1 and 9")
        return _operation(word, left, low, _joined(cursor, depth))
    if _at_word(cursor, "in"):
        return _among(cursor, left, depth)
    if _at_word(cursor, "matches"):
        word = _word(cursor)
        text = cursor.string("a pattern")
        return _operation(word, left, Literal("string", text.text, text.span))
    if _at_word(cursor, "is"):
        cursor.step()
        if not _at_word(cursor, "empty", "given"):
            # What is not empty is given.
            is_not = cursor.now.text == "not" and cursor.ahead().text != "given"
            remedy = "write: is given" if is_not else "write: is empty"
            raise cursor.fail(
                "unexpected", f"expected empty or given, found {cursor.found}", remedy
            )
        return _operation(_word(cursor), left)
    return left


def _comparison(cursor: Cursor) -> Word:
    """The sign of a comparison; those of other languages are told."""
    word = _word(cursor)
    meant = _SIGNS.get(word.text + cursor.now.text) if cursor.now.kind == "op" else None
    if meant is not None:
        span = word.span.to(cursor.span(cursor.now))
        raise cursor.fail(
            "unexpected",
            f"{word.text + cursor.now.text!r} is no comparison",
            f"write: {meant}",
            span,
            fix=meant,
        )
    return word


def _among(cursor: Cursor, left: Expression, depth: int) -> Expression:
    word = _word(cursor)
    cursor.expect("(", "write: in (low, high)")
    values = [_joined(cursor, _deeper(cursor, depth))]
    while cursor.take(","):
        values.append(_joined(cursor, _deeper(cursor, depth)))
    closing = cursor.expect(")", "close the list of values")
    found = _operation(word, left, *values)
    return found._replace(span=found.span.to(cursor.span(closing)))


def _joined(cursor: Cursor, depth: int) -> Expression:
    return _chained(cursor, depth, _sum, "||")


def _sum(cursor: Cursor, depth: int) -> Expression:
    return _chained(cursor, depth, _product, "+", "-")


def _product(cursor: Cursor, depth: int) -> Expression:
    return _chained(cursor, depth, _signed, "*", "/")


def _signed(cursor: Cursor, depth: int) -> Expression:
    if cursor.now.text != "-" or cursor.now.kind != "op":
        return _single(cursor, depth)
    sign = _word(cursor)
    inner = _signed(cursor, _deeper(cursor, depth))
    if isinstance(inner, Literal) and inner.kind == "number" and inner.text[0] != "-":
        return Literal("number", "-" + inner.text, sign.span.to(inner.span))
    return _operation(Word("neg", sign.span), inner)


def _single(cursor: Cursor, depth: int) -> Expression:
    token = cursor.now
    if token.kind == "op" and token.text == "(":
        cursor.step()
        inner = _when(cursor, _deeper(cursor, depth))
        cursor.expect(")", "close the bracket")
        return inner
    if token.kind != "word":
        value = cursor.literal("a value")
        return _days(cursor, value) if value.kind == "number" else value
    if token.text in ("yes", "no") and cursor.ahead().text != ".":
        return cursor.literal("a value")
    if token.text in ("today", "now"):
        cursor.step()
        if cursor.take("("):
            cursor.expect(")", f"write: {token.text}")
        return Clock(token.text, 0, "days", cursor.span(token))
    if cursor.ahead().text == "(" and cursor.ahead().kind == "op":
        return _call(cursor, depth)
    return path(cursor)


def _days(cursor: Cursor, number: Literal) -> Expression:
    """`30 days`, a length of time."""
    if not _at_word(cursor, "day", "days", "week", "weeks"):
        return number
    word = _word(cursor)
    if not number.text.isdigit():
        raise cursor.fail(
            "wrong-value", "days are counted in whole numbers", "write: 30 days", number.span
        )
    days = int(number.text) * (7 if word.text.startswith("week") else 1)
    span = number.span.to(word.span)
    return Operation(Word("days", span), (Literal("number", str(days), number.span),), span)


def path(cursor: Cursor) -> Name:
    """Names with dots between them, each with its place."""
    words = [cursor.word("a field's name")]
    while cursor.now.text == "." and cursor.ahead().kind == "word":
        cursor.step()
        words.append(cursor.word("a field's name"))
    return Name(tuple(words), words[0].span.to(words[-1].span))


def _call(cursor: Cursor, depth: int) -> Expression:
    function = cursor.word("a function")
    name = function.text
    if name not in AGGREGATES and name not in FUNCTIONS:
        from ..problems import did_you_mean

        known = [*FUNCTIONS, *AGGREGATES]
        raise cursor.fail(
            "unknown-function",
            f"there is no function {name!r}",
            did_you_mean(name, known),
            function.span,
        )
    cursor.expect("(", "open the bracket")
    if name in AGGREGATES:
        return _aggregate(cursor, function, depth)
    values = [_when(cursor, _deeper(cursor, depth))]
    while cursor.take(","):
        values.append(_when(cursor, _deeper(cursor, depth)))
    closing = cursor.expect(")", "close the bracket")
    span = function.span.to(cursor.span(closing))
    low, high = FUNCTIONS[name]
    if not low <= len(values) <= high:
        wanted = "one value" if high == 1 else f"{low} to {high} values"
        raise cursor.fail(
            "wrong-arguments", f"{name} takes {wanted}, not {len(values)}", f"{name}(…)", span
        )
    return Operation(function, tuple(values), span)


def _aggregate(cursor: Cursor, function: Word, depth: int) -> Aggregate:
    over = path(cursor)
    where = None
    if _at_word(cursor, "where"):
        cursor.step()
        where = _when(cursor, _deeper(cursor, depth))
    closing = cursor.expect(")", f"write: {function.text}(hives where frames > 8)")
    return Aggregate(function, over, where, function.span.to(cursor.span(closing)))
