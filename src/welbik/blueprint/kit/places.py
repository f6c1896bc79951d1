"""Lists as a visitor left them: the last few are kept in the visitor's own cookie.

So no address has to carry the way back to where one was.
"""

from __future__ import annotations

from typing import Any

from flask import request, session, url_for

# A cookie holds four thousand characters, and its other contents need room too.
_MOST = 5
_LONGEST = 250
_KEPT = "lists"


def remember() -> None:
    """Keeps what is asked of the list that this request shows."""
    query = request.query_string.decode("ascii", "replace")
    endpoint = str(request.endpoint)
    if asked(endpoint) == query or len(query) > _LONGEST:
        return
    kept = {k: v for k, v in session.get(_KEPT, {}).items() if k != endpoint}
    if query:
        kept[endpoint] = query
    session[_KEPT] = dict(list(kept.items())[-_MOST:])


def asked(endpoint: str) -> str:
    """The query of a list as it was left."""
    return str(session.get(_KEPT, {}).get(endpoint, ""))


def list_url(endpoint: str, row: Any = None) -> str:
    """The address of a list as it was left, at a row of it."""
    if endpoint.startswith("."):
        endpoint = f"{request.blueprint}{endpoint}"
    query = asked(endpoint)
    address = url_for(endpoint) + (f"?{query}" if query else "")
    return f"{address}#_row-{row.id}" if row is not None else address
