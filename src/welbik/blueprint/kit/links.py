"""Addresses that stand on every page, and of rows: what url_for gives, built only once."""

from __future__ import annotations

from typing import Any
from urllib.parse import quote

from flask import current_app, request, url_for

_MARK = 987654321
# By endpoint and file, and without the root that the server may add in front.
_pages: dict[tuple[str, str], str] = {}
_rows: dict[str, tuple[str, str]] = {}


def to_page(endpoint: str, filename: str = "") -> str:
    """The address of a page without a row, or of a file of the site."""
    root = request.script_root
    path = _pages.get((endpoint, filename))
    if path is None:
        path = url_for(endpoint, filename=filename or None).removeprefix(root)
        _pages[endpoint, filename] = path
    return f"{root}{path}"


def to_row(endpoint: str, part: int | str) -> str:
    """The address of a row's page: only its number, or its own word, is put in."""
    if isinstance(part, str):
        part = quote(part, safe="")
    root = request.script_root
    path = _rows.get(endpoint)
    if path is None:
        before, _, after = url_for(endpoint, part=_MARK).partition(str(_MARK))
        path = _rows[endpoint] = (before.removeprefix(root), after)
    return f"{root}{path[0]}{part}{path[1]}"


def row_url(row: Any) -> str:
    """The address of a row's own page; empty where its model has none."""
    endpoint = f"{row.ENDPOINT}.view_page"
    known = endpoint in current_app.view_functions
    return to_row(endpoint, row.url_part) if known else ""
