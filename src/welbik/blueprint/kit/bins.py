"""The bin: removed rows, brought back one by one, or removed for good."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from flask import (
    abort,
    current_app,
    flash,
    redirect,
    render_template,
    request,
    url_for,
)
from flask.typing import ResponseReturnValue

from . import links, places, removal
from .database import fetch, session
from .listing import Listing
from .lists import List
from .rows import key_of
from .show import upper

_NAMED = 5
_MOST = 200


def answer(kind: List) -> ResponseReturnValue:
    """The page of a bin, and what its buttons ask for. `kind` lists what is in it."""
    model = kind.model
    if request.method == "POST":
        doing = request.form.get("_do", "")
        if doing == "restore":
            return _restore(kind)
        if doing == "empty":
            return _empty(model)
        abort(400)
    if request.args.get("_do") == "empty" and _any(model):
        return _confirm(model)
    return render_template("look/bin.html", model=model, listing=Listing(kind))


def _restore(kind: List) -> ResponseReturnValue:
    model = kind.model
    keys = [key_of(model, text) for text in request.form.getlist("_row")[:_MOST]]
    found = [fetch(model, key) for key in keys if key is not None]
    rows = [row for row in found if row is not None and row.removed_at is not None]
    if not rows:
        abort(404)
    row = rows[0]
    if removal.restore(*rows):
        if len(rows) == 1:
            flash(f"{upper(model.SINGULAR)} {row} is restored.")
        else:
            flash(f"{len(rows)} {model.PLURAL} are restored.")
        return redirect(_shown(model, rows), 303)
    page = render_template(
        "look/bin.html", model=model, listing=Listing(kind), refused=row
    )
    return page, 409


def _shown(model: Any, rows: list[Any]) -> str:
    """Where rows are seen again: in the bin's page, or where they were before."""
    endpoint = f"{model.ENDPOINT}.list_page"
    if not request.form.get("_open"):
        return url_for(f"{model.ENDPOINT}.bin_page")
    if len(rows) > 1 and endpoint in current_app.view_functions:
        return places.list_url(endpoint)
    return links.row_url(rows[0]) or url_for(f"{model.ENDPOINT}.bin_page")


def _confirm(model: Any, effects: removal.Effects | None = None) -> str:
    """The page that says what goes for good."""
    which = _may_go(model)
    rows = sa.select(model).where(which).order_by(model.id)
    named = session().scalars(rows.limit(_NAMED)).all()
    kept = session().scalar(_count(model, _binned(model), sa.not_(which)))
    return render_template(
        "look/empty.html",
        model=model,
        rows=named,
        count=session().scalar(_count(model, which)),
        kept=kept,
        effects=effects or removal.effects_of(model, which),
    )


def _any(model: Any) -> bool:
    return (
        session().scalar(sa.select(model.id).where(_binned(model)).limit(1)) is not None
    )


def _binned(model: Any) -> Any:
    return model.removed_at.is_not(None)


def _may_go(model: Any) -> Any:
    """The condition that a row lies in the bin, and nothing that stays refers to it."""
    blocked = [
        sa.exists().where(column == model.id)
        for _, column, parent, does in removal.references()
        if parent is model and does not in ("CASCADE", "SET NULL")
    ]
    return sa.and_(_binned(model), *(sa.not_(one) for one in blocked))


def _count(model: Any, *which: Any) -> Any:
    return sa.select(sa.func.count()).select_from(model).where(*which)


def _empty(model: Any) -> ResponseReturnValue:
    """Removes for good whatever nothing else refers to; all of that, or nothing."""
    which = _may_go(model)
    effects = removal.effects_of(model, which)
    gone = session().scalar(_count(model, which)) or 0
    kept = (session().scalar(_count(model, _binned(model))) or 0) - gone
    agreed = effects.is_agreed(request.form.get("_shown", ""))
    if not agreed or effects.blocking or not removal.remove_all(effects, model, which):
        return _confirm(model, effects), 409
    stay = f" {kept} stay: others refer to them." if kept else ""
    flash(f"{gone} removed for good.{stay}")
    return redirect(url_for(f"{model.ENDPOINT}.bin_page"), 303)
