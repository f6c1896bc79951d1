"""Several rows at once: removed, or one field set on all, after a page that says what happens."""

from __future__ import annotations

from typing import Any, NamedTuple

from flask import abort, flash, redirect, render_template, request
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import IntegrityError

from . import parts, places, removal
from .attachments import File
from .database import live, session
from .embedded import Parts
from .forms import Entry, Form
from .relations import key_of
from .show import NOTHING

_MOST = 200


class Outcome(NamedTuple):
    """What becomes of a row: the value it has and gets, or what is wrong with that."""

    row: str
    url_part: str
    before: str
    after: str
    problem: str


def answer(form: Form, *, removes: bool, changes: bool) -> ResponseReturnValue:
    """The page for chosen rows: what can be done with them, and what that will do."""
    model = form.model
    keys = request.values.getlist("_row")[:_MOST]
    rows = _rows(model, keys)
    if not rows:
        flash("Choose some rows first.")
        return redirect(places.list_url(f"{model.ENDPOINT}.list_page"))
    settable = _settable(form) if changes else {}
    name = request.values.get("_field", "")
    doing = request.values.get("_do", "")
    if request.method == "POST" and not parts.asked():
        if doing == "remove" and removes:
            return _remove(model, rows)
        if doing == "set" and name in settable:
            return _set(form, rows, name)
        abort(400)
    field = settable.get(name)
    effects = removal.effects(*rows) if doing == "remove" and removes else None
    shown = {
        "field": field,
        "effects": effects,
        "settable": settable,
        "removes": removes,
    }
    typed = field.sent(request.form, request.files) if field and parts.asked() else None
    entry = _entry(form, name, typed)
    return render_template(
        "look/chosen.html", model=model, rows=rows, entry=entry, **shown
    )


def _entry(form: Form, name: str, typed: str | None) -> Entry:
    """A form with one field filled in, or as a new row has it."""
    blank = {n: f.first() for n, f in form.fields.items()}
    return Entry(form, blank if typed is None else {**blank, name: typed})


def _rows(model: Any, keys: list[str]) -> list[Any]:
    """The rows of some keys that are there, in the order of their names."""
    known = [key for key in (key_of(model, text) for text in keys) if key is not None]
    rows = live(model.in_order(), model).where(model.id.in_(known))
    return list(session().scalars(rows))


def _settable(form: Form) -> dict[str, Any]:
    """The fields that several rows may share."""
    return {
        name: field
        for name, field in form.fields.items()
        if not (
            field.unique
            or field.fixed
            or field.owned
            or isinstance(field, File | Parts)
        )
    }


def _remove(model: Any, rows: list[Any]) -> ResponseReturnValue:
    effects = removal.effects(*rows)
    count = len(rows)
    if removal.is_done(effects, *rows):
        flash(f"{count} {model.SINGULAR if count == 1 else model.PLURAL} removed.")
        return redirect(places.list_url(f"{model.ENDPOINT}.list_page"), 303)
    page = render_template(
        "look/chosen.html",
        model=model,
        rows=rows,
        effects=effects,
        removes=True,
        settable={},
    )
    return page, 409


def _set(form: Form, rows: list[Any], name: str) -> ResponseReturnValue:
    """Sets a field on all rows, or says what that would do and stores nothing."""
    model, field = form.model, form.fields[name]
    typed = field.sent(request.form, request.files)
    sure = bool(request.form.get("_sure"))
    outcomes = _try(form, rows, name, typed)
    refused = sum(bool(one.problem) for one in outcomes)
    if sure and not refused:
        session().commit()
        flash(f"{field.label} is set on {len(rows)} {model.PLURAL}.")
        return redirect(places.list_url(f"{model.ENDPOINT}.list_page"), 303)
    session().rollback()
    entry = _entry(form, name, typed)
    page = render_template(
        "look/chosen.html",
        model=model,
        rows=_rows(model, request.form.getlist("_row")[:_MOST]),
        field=field,
        entry=entry,
        outcomes=outcomes,
        refused=refused,
        settable=_settable(form),
        removes=False,
    )
    return page, 422 if refused else 200


def _try(form: Form, rows: list[Any], name: str, typed: str) -> list[Outcome]:
    """What setting a field does to each row, done in the transaction until one is refused."""
    field = form.fields[name]
    found = []
    keys = [row.id for row in rows]
    for key in keys:
        row: Any = session().get(form.model, key)
        entry = form.of(row)
        told, part = str(row), str(row.id)
        before = field.told(entry.typed[name]) or NOTHING
        entry.typed[name] = typed
        entry.check(row)
        if not entry.problems:
            try:
                entry.store(row)
            except IntegrityError:
                session().rollback()
                entry.problems[name] = "Another row has these values already."
        problem = " ".join(dict.fromkeys(entry.problems.values()))
        after = field.told(typed) or NOTHING
        found.append(Outcome(told, part, before, after, problem))
    return found
