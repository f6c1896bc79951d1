"""The words of the language: what begins a block, a clause or a modifier."""

from __future__ import annotations

import keyword

CLAUSES = (
    *("rule", "list", "sort", "search", "filter", "form", "pages", "menu"),
    *("keep", "address", "key", "index", "unique", "shown", "called", "stored"),
)
"""Words that begin a clause of a model, and so can't name a field."""

BLOCKS = ("model", "part", "values", "rows", "seed")

FLAGS = ("required", "unique", "indexed", "internal", "fixed", "owned")
"""Modifiers that stand alone."""

TEXTS = ("matches", "say", "label", "hint", "unit")
"""Modifiers with a text behind them."""

MODIFIERS = (
    *FLAGS,
    *TEXTS,
    *("default", "places", "as", "stored as", "was", "sample", "where", "on removal"),
    *("sorted by", "loops allowed", "empty stored as", "set by database"),
)

COMPARISONS = ("=", "!=", "<", "<=", ">", ">=")
CONTROLS = ("area", "select", "radio", "search", "text")
REMOVALS = ("refuse", "clear", "remove")
PAGES = ("list", "new", "view", "edit", "remove")
KEPT = ("times", "bin", "history")
LENGTHS = ("hour", "hours", "minute", "minutes", "second", "seconds")
"""Units of a length of time."""

SIZES = {"KB": 1000, "MB": 1000**2, "GB": 1000**3}


def may_name_field(word: str) -> bool:
    return word not in CLAUSES and not keyword.iskeyword(word)
