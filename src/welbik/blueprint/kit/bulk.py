"""Several rows at once: removed, compared, or one field set on all, after a page that says what happens."""

from __future__ import annotations

import datetime as dt
from typing import Any

from flask import (
    Response,
    abort,
    current_app,
    flash,
    redirect,
    render_template,
    request,
    stream_template,
    url_for,
)
from flask.typing import ResponseReturnValue

from . import cells, chosen, fragments, links, places, removal
from .forms import Entry, Form
from .lists import List
from .together import AT_ONCE, Together

_COMPARED_MOST, _PAIRS_MOST = 3, 5_000
_PAGE = "look/chosen.html"


def answer(
    form: Form, kind: List | None, *, removes: bool, changes: bool
) -> ResponseReturnValue:
    """The page for chosen rows: what can be done with them, and what that will do.

    `kind` is the list that all of can be chosen from.
    """
    model = form.model
    doing = request.values.get("_do", "")
    sent = request.method == "POST" and fragments.asked() is None
    if sent and doing == "undo" and changes:
        return _undo(form)
    try:
        keys = chosen.keys(model, kind)
    except chosen.TooMany:
        flash(f"At most {chosen.MOST:,} rows are changed at once: filter the list.")
        return redirect(_back(model), 303)
    rows = chosen.rows(model, keys)
    if not rows:
        flash("Choose some rows first.")
        return redirect(_back(model), 303)
    if doing == "compare" and kind is not None:
        return _compare(model, kind, rows)
    settable = _settable(form) if changes else {}
    name = request.values.get("_field", "")
    if sent:
        if doing == "remove" and removes:
            return _remove(model, rows)
        if doing == "set" and name in settable:
            return _set(form, rows, name)
        abort(400)
    field = settable.get(name)
    effects = removal.effects(*rows) if doing == "remove" and removes else None
    part = fragments.asked()
    typed = (
        field.sent(request.form, request.files)
        if field and part and part[0] != "look"
        else None
    )
    return render_template(
        _PAGE,
        **_shown(model, rows),
        entry=_entry(form, name, typed),
        field=field,
        effects=effects,
        settable=settable,
    )


def _back(model: Any) -> str:
    """Where the rows were chosen."""
    endpoint = f"{model.ENDPOINT}.list_page"
    if endpoint in current_app.view_functions:
        return links.asked_return() or places.list_url(endpoint)
    return links.asked_return() or url_for("start_page")


def _shown(model: Any, rows: list[Any]) -> dict[str, Any]:
    """What each of these pages shows."""
    return {
        "model": model,
        "rows": rows,
        "chosen": chosen.told([row.id for row in rows]),
        "back": _back(model),
    }


def _entry(form: Form, name: str, typed: str | None) -> Entry:
    """A form with one field filled in, or as a new row has it."""
    blank = {n: f.first() for n, f in form.fields.items()}
    entry = Entry(form.asked, blank if typed is None else {**blank, name: typed})
    entry.begun = [name] if typed is None else []
    return entry


def _settable(form: Form) -> dict[str, Any]:
    """The fields that several rows may share; what they are part of may be another such row."""
    return {
        name: field
        for name, field in form.fields.items()
        if field.shared and not (field.unique or field.fixed)
    }


def _compare(model: Any, kind: List, rows: list[Any]) -> ResponseReturnValue:
    if not 1 < len(rows) <= _COMPARED_MOST:
        flash("Choose two or three rows to compare.")
        return redirect(_back(model), 303)
    whole = cells.whole(model, [row.id for row in rows], kind.every, shortened=True)
    lines = [(column, cells.differ(column, whole)) for column in kind.every]
    page = {**_shown(model, whole), "lines": lines}
    return render_template("look/compared.html", **page)


def _remove(model: Any, rows: list[Any]) -> ResponseReturnValue:
    effects = removal.effects(*rows)
    count = len(rows)
    if removal.is_done(effects, *rows):
        flash(f"{count:,} {model.SINGULAR if count == 1 else model.PLURAL} removed.")
        return redirect(_back(model), 303)
    page = render_template(_PAGE, **_shown(model, rows), effects=effects, settable={})
    return page, 409


def _set(form: Form, rows: list[Any], name: str) -> ResponseReturnValue:
    """Sets a field on all rows, or says what that would do and stores nothing."""
    typed = form.fields[name].sent(request.form, request.files)
    if form.fields[name].several and len(rows) * len(typed.split()) > _PAIRS_MOST:
        flash(f"At most {_PAIRS_MOST:,} relations are set at once: choose fewer rows.")
        return redirect(_back(form.model), 303)
    sure = bool(request.form.get("_sure"))
    work = Together(form, name, {row.id: typed for row in rows}, sure=sure)
    return _work(work, rows, _entry(form, name, typed))


def _undo(form: Form) -> ResponseReturnValue:
    """Gives each row back what it held before a change of several; not where it changed since."""
    try:
        told = dt.datetime.fromisoformat(request.form.get("_at", ""))
        moment = told.astimezone(dt.UTC)
    except (ValueError, OverflowError):
        abort(400)
    kept = form.model.HISTORY
    found = kept and kept.together(form.model, moment)
    if found is None or found.name not in _settable(form):
        abort(404)
    if found.later:
        flash(f"{found.later:,} of them changed since, and are left as they are.")
    rows = chosen.rows(form.model, list(found.typed))
    if not rows:
        return redirect(_back(form.model), 303)
    typed = {row.id: found.typed[row.id] for row in rows}
    work = Together(form, found.name, typed, sure=True)
    return _work(work, rows, _entry(form, found.name, None), undone=True)


def _work(
    work: Together, rows: list[Any], entry: Entry, *, undone: bool = False
) -> ResponseReturnValue:
    """The page of what is done: at once, or told as it goes on where there are many rows."""
    form = work.form
    shown = {
        **_shown(form.model, rows),
        "field": form.fields[work.name],
        "entry": entry,
        "settable": _settable(form),
        "effects": None,
        "values": request.form.getlist(work.name),
        "history": form.model.HISTORY,
        "done": "is as it was before on" if undone else "is set on",
    }
    if len(rows) > AT_ONCE:
        page = Response(stream_template(_PAGE, **shown, steps=work, work=work))
        # A server in front would keep the news till all is done.
        page.headers["X-Accel-Buffering"] = "no"
        return page
    work.finish()
    if work.stored:
        flash(
            f"{shown['field'].label} {shown['done']} {_count(form.model, len(rows))}."
        )
        if shown["history"]:
            where = f"{form.model.ENDPOINT}.chosen_page"
            told = {
                "where": where,
                "at": work.moment.isoformat(),
                "back": _back(form.model),
            }
            flash(told, "undo-set")  # type: ignore[arg-type]
        return redirect(_back(form.model), 303)
    # What was tried is undone, the rows with it.
    shown |= _shown(form.model, chosen.rows(form.model, list(work.typed)))
    page_text = render_template(_PAGE, **shown, work=work)
    return page_text, 422 if work.refused else 200


def _count(model: Any, number: int) -> str:
    return f"{number:,} {model.SINGULAR if number == 1 else model.PLURAL}"
