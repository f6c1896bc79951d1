"""The members of a model: fields, relations and clauses."""

from __future__ import annotations

import re
from collections.abc import Sequence

from . import syntax
from .clauses import read_clause
from .cursor import Cursor, Skip
from .diagnostics import Report
from .expressions import expression
from .lexer import Line
from .modifiers import read_modifiers
from .syntax import Word
from .types import read_type
from .words import CLAUSES, may_name_field

_NAME = re.compile(r"[a-z][a-z0-9_]*")


def parse_member(line: Line, model: syntax.Model, report: Report, types: Sequence[str]) -> None:
    """Adds what a line under `model` says; reports what it can't."""
    cursor = Cursor(line, report)
    try:
        first = cursor.word("a field's name or a clause")
        if first.text in CLAUSES and not _looks_like_field(cursor, types):
            read_clause(cursor, first, model)
        elif first.text == "was" and _is_old_model(cursor):
            model.was = cursor.word("the old name")
        else:
            _named(cursor, first, model, types)
    except Skip:
        pass


def _is_old_model(cursor: Cursor) -> bool:
    """`was Beehive`: the model's old name, and nothing behind it."""
    return cursor.now.kind == "word" and cursor.now.text[0].isupper() and cursor.ahead().text == ""


def _looks_like_field(cursor: Cursor, types: Sequence[str]) -> bool:
    """Whether a clause word is used as if it named a field: `list text 80`."""
    if cursor.now.text in ("->", "<-", "<->"):
        return True
    after = cursor.ahead()
    known = cursor.now.text in types
    return known and (after.kind in ("number", "date") or after.text in ("of", "..", "-"))


def _named(cursor: Cursor, name: Word, model: syntax.Model, types: Sequence[str]) -> None:
    _check_name(cursor, name)
    sign = cursor.now.text if cursor.now.kind == "op" else ""
    if sign == "->":
        cursor.step()
        target = cursor.word("a model's name", f"write: {name.text} -> Keeper")
        modifiers = read_modifiers(cursor)
        model.members.append(syntax.Reference(name, target, modifiers, name.span.to(target.span)))
    elif sign == "<-":
        cursor.step()
        model.members.append(_collection(cursor, name))
    elif sign == "<->":
        cursor.step()
        model.members.append(_many(cursor, name))
    else:
        _field(cursor, name, model, types)


def _check_name(cursor: Cursor, name: Word) -> None:
    if not _NAME.fullmatch(name.text):
        snake = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", name.text).lower().strip("_")
        message = f"{name.text!r} can't name a field: names are small letters, digits and _"
        good = snake if _NAME.fullmatch(snake) and may_name_field(snake) else None
        remedy = f"call it {snake}" if good else "begin it with a small letter"
        cursor.report.add("bad-name", message, name.span, remedy, fix=good)
    elif not may_name_field(name.text):
        why = "begins a clause" if name.text in CLAUSES else "is a word of Python"
        message = f"{name.text!r} {why} and can't name a field"
        cursor.report.add(
            "reserved-name", message, name.span, f"call it {name.text}_value, for example"
        )


def _field(cursor: Cursor, name: Word, model: syntax.Model, types: Sequence[str]) -> None:
    try:
        type_ = read_type(cursor, types)
        formula = None
        if cursor.now.text == "=" and cursor.now.kind == "op":
            cursor.step()
            formula = expression(cursor)
    except Skip:
        model.members.append(syntax.Unread(name))
        raise
    modifiers = read_modifiers(cursor)
    span = name.span.to(type_.span)
    model.members.append(syntax.Field(name, type_, modifiers, span, formula))


def _collection(cursor: Cursor, name: Word) -> syntax.Collection:
    remedy = f"name the model and its field: {name.text} <- Hive.apiary"
    model = cursor.word("a model's name", remedy)
    cursor.expect(".", remedy)
    via = cursor.word("the name of a reference", remedy)
    span = name.span.to(via.span)
    sort: list[syntax.SortKey] = []
    modifiers = read_modifiers(cursor, sort)
    return syntax.Collection(name, model, via, tuple(sort), modifiers, span)


def _many(cursor: Cursor, name: Word) -> syntax.Many:
    target = cursor.word("a model's name", f"write: {name.text} <-> Finding")
    via = None
    if cursor.take("."):
        via = cursor.word("the name of the other side", f"{name.text} <-> Inspection.findings")
    span = name.span.to((via or target).span)
    sort: list[syntax.SortKey] = []
    modifiers = read_modifiers(cursor, sort)
    return syntax.Many(name, target, via, tuple(sort), modifiers, span)
