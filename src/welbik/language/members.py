"""The members of a model: fields, relations and clauses."""

from __future__ import annotations

import re
from collections.abc import Sequence

from ..problems import did_you_mean
from . import syntax
from .cursor import Cursor, Skip
from .diagnostics import Report
from .lexer import Line
from .syntax import Word
from .words import (
    CLAUSES,
    CLAUSES_NOW,
    COMPARISONS,
    MODIFIERS_LATER,
    MODIFIERS_NOW,
    TYPES_LATER,
    may_name_field,
)

_NAME = re.compile(r"[a-z][a-z0-9_]*")
REMOVALS = ("refuse", "clear", "remove")


def parse_member(line: Line, model: syntax.Model, report: Report, types: Sequence[str]) -> None:
    """Adds what a line under `model` says; reports what it can't."""
    cursor = Cursor(line, report)
    try:
        first = cursor.word("a field's name or a clause")
        if first.text in CLAUSES and not _looks_like_field(cursor, types):
            _clause(cursor, first, model)
        else:
            _named(cursor, first, model, types)
    except Skip:
        pass


def _looks_like_field(cursor: Cursor, types: Sequence[str]) -> bool:
    """Whether a clause word is used as if it named a field: `list text 80`."""
    if cursor.now.text in ("->", "<-", "<->"):
        return True
    after = cursor.ahead()
    known = cursor.now.text in types or cursor.now.text in TYPES_LATER or cursor.now.text == "one"
    return known and (after.kind in ("number", "date") or after.text in ("of", "..", "-"))


def _named(cursor: Cursor, name: Word, model: syntax.Model, types: Sequence[str]) -> None:
    _check_name(cursor, name)
    sign = cursor.now.text
    if sign == "->":
        cursor.step()
        target = cursor.word("a model's name", f"write: {name.text} -> Keeper")
        modifiers = _modifiers(cursor)
        model.members.append(syntax.Reference(name, target, modifiers, name.span.to(target.span)))
    elif sign == "<-":
        cursor.step()
        model.members.append(_collection(cursor, name))
    elif sign == "<->":
        model.members.append(syntax.Later(name))
        raise _not_yet(cursor, "many-to-many relations are")
    else:
        _field(cursor, name, model, types)


def _check_name(cursor: Cursor, name: Word) -> None:
    if not _NAME.fullmatch(name.text):
        snake = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name.text).lower().strip("_")
        message = f"{name.text!r} can't name a field: names are small letters, digits and _"
        cursor.report.add(
            "bad-name", message, name.span, f"call it {snake}" if _NAME.fullmatch(snake) else ""
        )
    elif not may_name_field(name.text):
        why = "begins a clause" if name.text in CLAUSES else "is a word of Python"
        message = f"{name.text!r} {why} and can't name a field"
        cursor.report.add(
            "reserved-name", message, name.span, f"call it {name.text}_value, for example"
        )


def _field(cursor: Cursor, name: Word, model: syntax.Model, types: Sequence[str]) -> None:
    try:
        type_ = _type(cursor, types)
    except Skip:
        model.members.append(syntax.Later(name))
        raise
    if cursor.now.text == "=" and cursor.now.kind == "op":
        model.members.append(syntax.Later(name))
        raise _not_yet(cursor, "computed fields are")
    modifiers = _modifiers(cursor)
    if type_.supported:
        model.members.append(syntax.Field(name, type_, modifiers, name.span.to(type_.span)))
    else:
        model.members.append(syntax.Later(name))


def _type(cursor: Cursor, types: Sequence[str]) -> syntax.Type:
    first = cursor.now
    word = cursor.word("a type", f"known are {', '.join(types)}")
    if word.text == "one":
        return _one_of(cursor, word)
    if word.text in TYPES_LATER:
        cursor.report.add(
            "not-yet",
            f"the type {word.text!r} is not supported yet",
            word.span,
            "take the field out for now",
        )
        cursor.to_comma()
        return syntax.Type(word, word.span, supported=False)
    if word.text not in types:
        shown = ["one of" if name == "one" else name for name in types]
        remedy = did_you_mean(word.text, shown)
        if word.text[0].isupper():
            remedy = (
                "a relation is written with an arrow: " + f"{cursor.tokens[0].text} -> {word.text}"
            )
        raise cursor.fail("unknown-type", f"{word.text!r} is no type", remedy, word.span)
    range_ = _range(cursor)
    return syntax.Type(word, cursor.since(first), range_)


def _range(cursor: Cursor) -> syntax.Range | None:
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
        name = cursor.word("a choice")
        cursor.report.add(
            "not-yet",
            "value lists of their own are not supported yet",
            name.span,
            "write the choices here: one of low | high",
        )
        return syntax.Type(word, cursor.since(first), supported=False)
    choices = [_choice(cursor)]
    while cursor.take("|"):
        choices.append(_choice(cursor))
    return syntax.Type(word, cursor.since(first), choices=tuple(choices))


def _choice(cursor: Cursor) -> syntax.Choice:
    name = cursor.word("a choice", "choices are words, with | between them: one of low | high")
    if not _NAME.fullmatch(name.text):
        message = f"{name.text!r} can't name a choice: names are small letters, digits and _"
        cursor.report.add(
            "bad-name", message, name.span, f'write it as {name.text.lower()} "{name.text}"'
        )
    return syntax.Choice(name, cursor.optional_string())


def _collection(cursor: Cursor, name: Word) -> syntax.Collection:
    remedy = f"name the model and its field: {name.text} <- Hive.apiary"
    model = cursor.word("a model's name", remedy)
    cursor.expect(".", remedy)
    via = cursor.word("the name of a reference", remedy)
    span = name.span.to(via.span)
    sort: list[syntax.SortKey] = []
    modifiers = _modifiers(cursor, sort)
    return syntax.Collection(name, model, via, tuple(sort), modifiers, span)


def _modifiers(
    cursor: Cursor, sort: list[syntax.SortKey] | None = None
) -> tuple[syntax.Modifier, ...]:
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
        raise _not_yet(
            cursor, "comparisons with other fields are", "take the comparison out for now"
        )
    word = cursor.word("a modifier", f"known are {', '.join(MODIFIERS_NOW)}")
    if word.text in ("required", "unique"):
        return syntax.Modifier(word, word.span)
    if word.text in ("matches", "label", "hint", "say"):
        text = cursor.string(f"the text of {word.text!r}")
        return syntax.Modifier(word, cursor.since(first), text=text)
    if word.text in ("default", "places"):
        value = cursor.bound("a value")
        if cursor.at_operator:
            raise _not_yet(cursor, "calculated defaults are", "give a plain value for now")
        return syntax.Modifier(word, cursor.since(first), value=value)
    if word.text == "on":
        cursor.expect("removal", f"write: on removal {' or '.join(REMOVALS)}")
        return syntax.Modifier(word, cursor.since(first), text=_removal(cursor))
    if word.text == "sorted" and sort is not None:
        cursor.expect("by", "write: sorted by name")
        sort.append(_sort_key(cursor))
        return None
    if word.text in MODIFIERS_LATER:
        cursor.report.add(
            "not-yet",
            f"the modifier {word.text!r} is not supported yet",
            word.span,
            "take it out for now",
        )
        raise Skip
    known = [*MODIFIERS_NOW, "on removal", "sorted by"]
    raise cursor.fail(
        "unknown-modifier",
        f"{word.text!r} is no modifier",
        did_you_mean(word.text, known),
        word.span,
    )


def _removal(cursor: Cursor) -> Word:
    way = cursor.word("what happens on removal", f"known are {', '.join(REMOVALS)}")
    if way.text not in REMOVALS:
        remedy = did_you_mean(way.text, REMOVALS)
        raise cursor.fail(
            "unknown-removal",
            f"{way.text!r} is nothing that can happen on removal",
            remedy,
            way.span,
        )
    return way


def _sort_key(cursor: Cursor) -> syntax.SortKey:
    descending = cursor.take("-") is not None
    return syntax.SortKey(cursor.path(), descending)


def _clause(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    if first.text not in CLAUSES_NOW:
        raise _not_yet(cursor, f"the clause {first.text!r} is", span_of=first)
    if first.text == "shown":
        cursor.expect("as", 'write: shown as "{name}"')
        _once(cursor, first, model.shown_as)
        model.shown_as = cursor.string("how a row is shown")
    elif first.text == "called":
        _once(cursor, first, model.called)
        one = cursor.string("what one row is called")
        many = cursor.string("what several are called") if cursor.take("|") else None
        model.called = (one, many)
    elif first.text == "list":
        _once(cursor, first, model.columns)
        model.columns = [cursor.path()]
        while cursor.take(","):
            model.columns.append(cursor.path())
    else:
        _once(cursor, first, model.sort)
        model.sort = [_sort_key(cursor)]
        while cursor.take(","):
            model.sort.append(_sort_key(cursor))
    if cursor.now.kind != "end":
        raise cursor.fail(
            "unexpected", f"{cursor.found} is too much here", "put a comma between names"
        )


def _once(cursor: Cursor, first: Word, before: object) -> None:
    if before is not None:
        raise cursor.fail(
            "said-twice",
            f"{first.text!r} is said twice in this model",
            "keep one of the two",
            first.span,
        )


def _not_yet(
    cursor: Cursor,
    what: str,
    remedy: str = "take the line out for now",
    span_of: Word | None = None,
) -> Skip:
    span = span_of.span if span_of else cursor.span(cursor.now)
    return cursor.fail("not-yet", f"{what} not supported yet", remedy, span)
