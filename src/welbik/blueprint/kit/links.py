"""Addresses that stand on every page, and of rows: what url_for gives, built only once."""

from __future__ import annotations

import hashlib
import re
from collections.abc import Mapping
from pathlib import Path
from typing import Any
from urllib.parse import parse_qs, quote, quote_plus, urlencode, urlsplit

from flask import current_app, g, request, url_for

from . import guard, notes

_MARK = 987654321
_PLAIN = re.compile(r"[A-Za-z0-9_~-]+")
_PLAIN_QUERY = re.compile(r"[A-Za-z0-9_.,:~*-]*")
# By endpoint and file, and without the root that the server may add in front.
_pages: dict[tuple[str, str], str] = {}
_rows: dict[str, tuple[str, str]] = {}


def to_page(endpoint: str, filename: str = "") -> str:
    """The address of a page without a row, or of a file of the site."""
    root = _root()
    path = _pages.get((endpoint, filename))
    if path is None:
        version: dict[str, Any] = {"v": _version(filename)} if filename else {}
        path = url_for(endpoint, filename=filename or None, **version).removeprefix(
            root
        )
        _pages[endpoint, filename] = path
    return f"{root}{path}"


def _root() -> str:
    # Asked for each link of a page, which a look through the proxy would take its time for.
    here: Any = request
    return str(here._get_current_object().script_root)


def _version(filename: str) -> str:
    """Changes whenever the file does, so that browsers may keep it."""
    path = Path(str(current_app.static_folder)) / filename
    return hashlib.sha256(path.read_bytes()).hexdigest()[:8]


def at(part: int | str, endpoint: str) -> str:
    """The address of a row's page: only its number, or its own word, is put in."""
    if isinstance(part, str) and not _PLAIN.fullmatch(part):
        part = quote(part, safe="")
    root = _root()
    path = _rows.get(endpoint)
    if path is None:
        before, _, after = url_for(endpoint, part=_MARK).partition(str(_MARK))
        path = _rows[endpoint] = (before.removeprefix(root), after)
    return f"{root}{path[0]}{part}{path[1]}"


def row_url(row: Any) -> str:
    """The address of a row's own page; empty where its model has none."""
    endpoint = f"{row.ENDPOINT}.view_page"
    known = endpoint in current_app.view_functions
    return at(row.url_part, endpoint) if known else ""


def edit_url(row: Any) -> str:
    """The address of a row's form: under its parent, for one that is part of another."""
    endpoint = f"{row.ENDPOINT}.edit_page"
    if not row.OWNER:
        return at(row.url_part, endpoint)
    parent = getattr(row, row.OWNER)
    return url_for(endpoint, owner=parent.url_part, part=row.url_part)


def copy_url(row: Any) -> str:
    """The address of a new row's form that begins as a copy of one."""
    endpoint = f"{row.ENDPOINT}.edit_page"
    if not row.OWNER:
        return to_page(endpoint) + address({"_copy": str(row.id)})
    owner = getattr(row, row.OWNER).url_part
    return url_for(endpoint, owner=owner, _copy=row.id)


def move_url(row: Any, owner: str) -> str:
    """The address of the page that puts a row under another one than its `owner` is now."""
    here = {"_row": row.id, "_do": "set", "_field": owner, "_return": row_url(row)}
    return url_for(f"{row.ENDPOINT}.chosen_page", **here)


def can_make(model: Any) -> bool:
    """Whether rows of a model are made on a page of their own."""
    rules = current_app.url_map.iter_rules() if not model.OWNER else ()
    endpoint = f"{model.ENDPOINT}.edit_page"
    return any(rule.endpoint == endpoint and not rule.arguments for rule in rules)


def address(asked: Mapping[str, str]) -> str:
    """The query of an address, as short as it may be."""
    pairs = [f"{_quoted(name)}={_quoted(value)}" for name, value in asked.items()]
    return f"?{'&'.join(pairs)}"


def _quoted(text: str) -> str:
    return text if _PLAIN_QUERY.fullmatch(text) else quote_plus(text, safe=",:")


def is_inside(address: str) -> bool:
    """Whether an address stays within this site, whatever a browser makes of it."""
    if not address.startswith("/") or "\\" in address or address.startswith("//"):
        return False
    if any(ord(character) < 33 or ord(character) == 127 for character in address):
        return False
    parts = urlsplit(address)
    return not parts.scheme and not parts.netloc


def asked_return() -> str:
    """Where the visitor came from and wants to go back to; empty if nowhere on this site."""
    wanted = request.form.get("_return") or request.args.get("_return", "")
    return wanted if is_inside(wanted) else ""


def back(otherwise: str, row: Any = None) -> str:
    """Where to go after a form: back to where the visitor came from, if it was on this site.

    A form that was left to make `row` gets it as its choice.
    """
    again = g.pop("again", None)
    if again is not None:
        return f"{request.path}?{urlencode(again)}"
    wanted = asked_return()
    draft = parse_qs(urlsplit(wanted).query).get("_draft", [""])[0]
    kept = notes.read(draft) if draft and row is not None else None
    if kept is not None and kept.get("token") == guard.token():
        others = kept["typed"][kept["field"]].split() if kept["several"] else []
        chosen = dict.fromkeys([*others, str(row.id)])
        kept["typed"][kept["field"]] = " ".join(chosen)
        notes.write(draft, kept)
    return wanted or otherwise
