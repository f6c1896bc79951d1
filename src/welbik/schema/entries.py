"""What the names in an expression stand for."""

from __future__ import annotations

from collections.abc import Mapping
from typing import NamedTuple

from ..rules.tree import Node, Type


class Entry(NamedTuple):
    """What a name of a model stands for.

    `what` is value, reference, collection, many or computed; `type` that of a value,
    `target` the model that a relation leads to, `formula` that of a computed field, `longest`
    the most characters of a text.
    """

    what: str
    type: Type = Type("other")
    required: bool = False
    target: str = ""
    via: str = ""
    formula: Node | None = None
    longest: int | None = None


REMOVED = "removed_at"
"""When a row was put into the bin: what is there is counted by no aggregate."""

Scope = Mapping[str, Mapping[str, Entry]]
"""The entries of every model by their names."""
