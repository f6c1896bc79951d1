"""The words of the language: what begins a clause, and what is still to come."""

from __future__ import annotations

import keyword

CLAUSES = (
    *("rule", "list", "sort", "search", "filter", "form", "pages", "menu"),
    *("keep", "address", "key", "index", "unique", "shown", "called", "stored"),
)
"""Words that begin a clause of a model, and so can't name a field."""

CLAUSES_NOW = ("list", "sort", "shown", "called")

BLOCKS = ("model", "part", "values", "rows", "seed")

MODIFIERS_NOW = ("required", "unique", "default", "matches", "label", "hint", "say", "places")
MODIFIERS_LATER = (
    *("indexed", "unit", "as", "internal", "fixed", "stored", "was", "sample"),
    *("owned", "where", "loops", "between", "in", "is", "at"),
)
COMPARISONS = ("=", "!=", "<", "<=", ">", ">=")

TYPES_LATER = ("time", "slug", "uuid", "image", "file", "url", "phone", "list")
"""Types of the language without a file in `kinds/` yet."""


def may_name_field(word: str) -> bool:
    return word not in CLAUSES and not keyword.iskeyword(word)
