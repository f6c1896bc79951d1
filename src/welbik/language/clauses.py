"""The clauses of a model: rules, and how its rows are shown and kept."""

from __future__ import annotations

from collections.abc import Callable

from ..problems import did_you_mean, nearest
from . import syntax
from .cursor import Cursor
from .expressions import expression
from .modifiers import sort_key
from .syntax import Word
from .words import KEPT, PAGES

_JOINING = ("and", "or", "when", "is", "in", "between", "matches")


def read_clause(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    """Reads the clause that `first` begins into `model`; raises Skip where it can't."""
    _CLAUSES[first.text](cursor, first, model)
    if cursor.now.kind != "end":
        joined = first.text == "rule" and cursor.now.text.lower() in _JOINING
        remedy = f"write: {cursor.now.text.lower()}" if joined else "put a comma between names"
        if first.text == "rule" and not joined:
            remedy = 'join conditions with and, or, when; words for its failure follow: , say "…"'
        raise cursor.fail("unexpected", f"{cursor.found} is too much here", remedy)


def _rule(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    held = expression(cursor)
    say: Word | None = None
    at: Word | None = None
    while cursor.take(","):
        if cursor.take("say"):
            say = cursor.string("what to say when the rule is broken")
        elif cursor.take("at"):
            at = cursor.path()
        else:
            raise cursor.fail(
                "unexpected",
                f"{cursor.found} does not belong to a rule",
                'write: rule closed >= opened, say "…", at closed',
            )
    span = first.span.to(held.span)
    model.rules.append(syntax.Rule(held, say, at, span))


def _group(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    names, text = [cursor.path()], None
    while cursor.take(","):
        if first.text == "unique" and cursor.now.text == "say" and cursor.now.kind == "word":
            cursor.step()
            text = cursor.string("what to say when it is taken")
            break
        names.append(cursor.path())
    group = syntax.Group(tuple(names), text, first.span.to(names[-1].span))
    (model.uniques if first.text == "unique" else model.indexes).append(group)


def _form(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    title = cursor.string("the title of the group")
    cursor.expect(":", 'write: form "Place": apiary, code')
    names = _names(cursor)
    span = first.span.to(names[-1].span)
    model.groups.append(syntax.Group(tuple(names), title, span))


def _names(cursor: Cursor) -> list[Word]:
    found = [cursor.path()]
    while cursor.take(","):
        found.append(cursor.path())
    return found


def _shown(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    cursor.expect("as", 'write: shown as "{name}"')
    _once(cursor, first, model.shown_as)
    model.shown_as = cursor.string("how a row is shown")


def _stored(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    cursor.expect("as", 'write: stored as "table"')
    _once(cursor, first, model.stored_as)
    model.stored_as = cursor.string("the table's name")
    if cursor.take(","):
        word = cursor.word("as it is", 'write: stored as "table", as it is')
        if word.text != "as" or not cursor.take("it") or not cursor.take("is"):
            raise cursor.fail(
                "unexpected",
                f"{word.text!r} does not belong to the table's name",
                'write: stored as "table", as it is',
                word.span,
            )
        model.as_it_is = word


def _called(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.called)
    one = cursor.string("what one row is called")
    many = cursor.string("what several are called") if cursor.take("|") else None
    model.called = (one, many)


def _list(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.columns)
    model.columns = _names(cursor)


def _search(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.search)
    model.search = _names(cursor)


def _filter(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.filter)
    model.filter = _names(cursor)


def _sort(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.sort)
    model.sort = [sort_key(cursor)]
    while cursor.take(","):
        model.sort.append(sort_key(cursor))


def _closed(cursor: Cursor, known: tuple[str, ...], what: str, code: str) -> list[Word]:
    """Words of a closed list, with commas between them."""
    found: list[Word] = []
    while True:
        word = cursor.word(what, f"known are {', '.join(known)}")
        if word.text not in known:
            raise cursor.fail(
                code,
                f"{word.text!r} is no {what}",
                did_you_mean(word.text, known),
                word.span,
                fix=nearest(word.text, known),
            )
        found.append(word)
        if not cursor.take(","):
            return found


def _pages(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.pages)
    if cursor.take("none"):
        model.pages = []
    else:
        model.pages = _closed(cursor, PAGES, "page", "unknown-page")


def _keep(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.keep)
    model.keep = _closed(cursor, KEPT, "thing to keep", "unknown-keep")


def _menu(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.menu)
    token = cursor.take("none")
    if token is None:
        model.menu = cursor.string('a group of the menu (menu "Bees", or: menu none)')
    else:
        model.menu = Word("", cursor.span(token))


def _address(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.address)
    model.address = cursor.word("a field's name")


def _key(cursor: Cursor, first: Word, model: syntax.Model) -> None:
    _once(cursor, first, model.key)
    if cursor.now.text == "stored" and cursor.ahead().text == "as":
        model.key = _number(cursor, first)
        return
    if cursor.take("none"):
        model.key = syntax.Key((), first.span)
        return
    names = _names(cursor)
    model.key = syntax.Key(tuple(names), first.span.to(names[-1].span))


def _number(cursor: Cursor, first: Word) -> syntax.Key:
    """`key stored as "order_id" of "bigint", handed out`: the column of the row's own number."""
    cursor.step()
    cursor.step()
    column = cursor.string("the column of the key")
    of = cursor.string("the type that the database has for it") if cursor.take("of") else None
    handed = False
    if cursor.take(","):
        cursor.expect("handed", 'write: key stored as "id", handed out')
        cursor.expect("out", 'write: key stored as "id", handed out')
        handed = True
    return syntax.Key((), first.span.to(column.span), column, of, handed)


def _once(cursor: Cursor, first: Word, before: object) -> None:
    if before is not None:
        raise cursor.fail(
            "said-twice",
            f"{first.text!r} is said twice in this model",
            "keep one of the two",
            first.span,
        )


_CLAUSES: dict[str, Callable[[Cursor, Word, syntax.Model], None]] = {
    **{"rule": _rule, "unique": _group, "index": _group, "form": _form, "shown": _shown},
    **{"stored": _stored, "called": _called, "list": _list, "search": _search, "sort": _sort},
    **{"filter": _filter, "pages": _pages, "keep": _keep, "menu": _menu, "address": _address},
    "key": _key,
}
