"""The bin: removed rows, brought back one by one, or removed for good."""

from __future__ import annotations

from typing import Any

import sqlalchemy as sa
from flask import abort, flash, redirect, render_template, request, url_for
from flask.typing import ResponseReturnValue
from sqlalchemy.exc import IntegrityError

from . import removal
from .database import session
from .listing import Listing
from .lists import List
from .relations import key_of

_AT_ONCE = 200


def answer(kind: List) -> ResponseReturnValue:
    """The page of a bin, and what its buttons ask for. `kind` lists what is in it."""
    model = kind.model
    if request.method == "POST":
        doing = request.form.get("do", "")
        if doing == "restore":
            return _restore(kind)
        if doing == "empty":
            return _empty(model)
        abort(400)
    if request.args.get("do") == "empty":
        return _confirm(model)
    return render_template("look/bin.html", model=model, listing=Listing(kind))


def _restore(kind: List) -> ResponseReturnValue:
    model = kind.model
    key = key_of(model, request.form.get("row", ""))
    row = None if key is None else session().get(model, key)
    if row is None or row.removed_at is None:
        abort(404)
    if removal.restore(row):
        called = f"{model.SINGULAR[:1].upper()}{model.SINGULAR[1:]}"
        flash(f"{called} {row} is restored.")
        return redirect(url_for(f"{model.ENDPOINT}.bin_page"), 303)
    page = render_template(
        "look/bin.html", model=model, listing=Listing(kind), refused=row
    )
    return page, 409


def _removed(model: Any) -> Any:
    return sa.select(model).where(model.removed_at.is_not(None)).order_by(model.id)


def _confirm(model: Any) -> ResponseReturnValue:
    rows = session().scalars(_removed(model).limit(_AT_ONCE)).all()
    if not rows:
        return redirect(url_for(f"{model.ENDPOINT}.bin_page"))
    count = session().scalar(
        sa.select(sa.func.count()).select_from(_removed(model).subquery())
    )
    effects = removal.effects(*rows)
    return render_template(
        "look/empty.html", model=model, rows=rows, count=count, effects=effects
    )


def _empty(model: Any) -> ResponseReturnValue:
    """Removes for good whatever nothing else refers to; all of that, or nothing."""
    gone = kept = 0
    for row in session().scalars(_removed(model)).all():
        try:
            with session().begin_nested():
                session().delete(row)
            gone += 1
        except IntegrityError:
            kept += 1
    session().commit()
    stay = f" {kept} stay: others refer to them." if kept else ""
    flash(f"{gone} removed for good.{stay}")
    return redirect(url_for(f"{model.ENDPOINT}.bin_page"), 303)
