"""Parts of a schema in which models are called otherwise."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields, is_dataclass, replace
from typing import Any

# The members that hold the name of a model, in the schema and in expressions.
_NAMING = {"model", "target", "child", "owner"}


def told_otherwise(value: Any, names: Mapping[str, str]) -> Any:
    """A part of a schema, or of an expression, in which models are called by new names.

    `names` has these by the ones they have; what is not in it is called as it was.
    """
    if isinstance(value, tuple) and not hasattr(value, "_fields"):
        return tuple(told_otherwise(one, names) for one in value)
    if hasattr(value, "_fields"):
        held = {name: getattr(value, name) for name in value._fields}
        return value._replace(**_changes(held, names))
    if is_dataclass(value) and not isinstance(value, type):
        changes = _changes({f.name: getattr(value, f.name) for f in fields(value)}, names)
        return replace(value, **changes) if changes else value
    return value


def _changes(held: Mapping[str, Any], names: Mapping[str, str]) -> dict[str, Any]:
    found = {}
    for name, value in held.items():
        if isinstance(value, str):
            new: Any = names.get(value, value) if name in _NAMING else value
        else:
            new = told_otherwise(value, names)
        if new is not value:
            found[name] = new
    return found
