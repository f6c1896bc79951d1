"""Where a row stands in its list as that was left: the way back, the rows before and after."""

from __future__ import annotations

from typing import Any, NamedTuple

from flask import request

from . import fragments, places
from .listing import Listing
from .lists import List
from .show import upper


class Place(NamedTuple):
    """The address of a row's list and what that is called; the row's neighbours in it."""

    back: str
    label: str
    before: Any
    after: Any


def here(kind: List, row: Any) -> Place | None:
    """The place of a row; None where it is new."""
    if row.id is None or fragments.asked():
        return None
    if str(request.endpoint).endswith(".view_page"):
        places.see(row)
    endpoint = f"{kind.model.ENDPOINT}.list_page"
    listing = Listing(kind, asked=places.asked(endpoint))
    before, after = listing.beside(row)
    narrowed = ", filtered" if listing.search or listing.conditions else ""
    label = f"{upper(kind.model.PLURAL)}{narrowed}"
    return Place(places.list_url(endpoint, row), label, before, after)
