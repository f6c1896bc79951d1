"""Lists as a visitor left them: the last few are kept in the visitor's own cookie.

So no address has to carry the way back to where one was.
"""

from __future__ import annotations

from typing import Any

from flask import current_app, request, session

from . import links

# A cookie holds four thousand characters, and its other contents need room too.
_MOST = 5
_LONGEST = 250
_KEPT = "lists"
_FROM = "from"


def remember() -> None:
    """Keeps what is asked of the list that this request shows."""
    query = request.query_string.decode("ascii", "replace")
    endpoint = str(request.endpoint)
    come_from(endpoint)
    if asked(endpoint) == query or len(query) > _LONGEST:
        return
    kept = {k: v for k, v in session.get(_KEPT, {}).items() if k != endpoint}
    if query:
        kept[endpoint] = query
    session[_KEPT] = dict(list(kept.items())[-_MOST:])


def come_from(endpoint: str) -> None:
    """Keeps from which page rows are gone to."""
    if session.get(_FROM) != endpoint:
        session[_FROM] = endpoint


def see(row: Any) -> None:
    """A row is looked at, which is where others are gone to from; not from one to the next."""
    if not session.get(_FROM, "").startswith(f"{row.ENDPOINT}."):
        come_from(f"{row.ENDPOINT}.view_page")


def after(row: Any, otherwise: str) -> str:
    """Where a changed row leads: to its list as it was left, for whoever came from there."""
    endpoint = f"{row.ENDPOINT}.list_page"
    known = endpoint in current_app.view_functions
    if "_list" in request.form:
        # A tab with script knows where it was; the cookie is of all tabs.
        left = request.form["_list"]
        path, _, query = left.partition("?")
        ours = known and links.is_inside(left) and path == links.to_page(endpoint)
        return (
            f"{links.to_page(endpoint)}{'?' if query else ''}{query}#_row-{row.id}"
            if ours
            else otherwise
        )
    return (
        list_url(endpoint, row)
        if known and session.get(_FROM) == endpoint
        else otherwise
    )


def asked(endpoint: str) -> str:
    """The query of a list as it was left."""
    return str(session.get(_KEPT, {}).get(endpoint, ""))


def list_url(endpoint: str, row: Any = None) -> str:
    """The address of a list as it was left, at a row of it."""
    if endpoint.startswith("."):
        endpoint = f"{request.blueprint}{endpoint}"
    query = asked(endpoint)
    address = links.to_page(endpoint) + (f"?{query}" if query else "")
    return f"{address}#_row-{row.id}" if row is not None else address
