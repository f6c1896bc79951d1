"""Forms left for a moment, to make a row that they choose, and come back to."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from flask import abort, request, url_for

from . import guard, links, notes
from .entries import Filled


def leave(entry: Filled, name: str) -> str:
    """Keeps a form as it is, and gives the address where a row for a field of it is made."""
    field: Any = entry.form.fields.get(name)
    related = field is not None and (field.refers or field.several)
    if not related or not links.can_make(field.target):
        abort(400)
    draft = notes.new_name()
    kept = {
        "typed": entry.typed,
        "seen": entry.seen,
        "path": request.path,
        "field": name,
    }
    notes.write(draft, {**kept, "token": guard.token(), "several": field.several})
    here = f"{request.path}?_draft={draft}"
    if links.asked_return():
        # This form was come to from another, which waits for its row.
        here += f"&_return={quote(links.asked_return(), safe='')}"
    back: dict[str, Any] = {"_return": here}
    return url_for(f"{field.target.ENDPOINT}.edit_page", **back)


def come_back(entry: Filled) -> None:
    """Fills a form in as it was left, where its visitor comes back to it."""
    kept = notes.read(request.args.get("_draft", ""))
    if (
        kept is not None
        and kept.get("token") == guard.token()
        and kept["path"] == request.path
    ):
        entry.typed |= {k: v for k, v in kept["typed"].items() if k in entry.typed}
        entry.seen = kept["seen"]
        entry.begun = [kept["field"]]
