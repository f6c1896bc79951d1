"""Values of one type as values of another, where nothing is lost by it."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from ..rules import tree
from ..rules.tree import Apply, Const, Node, Type


def apply(word: str, operands: tuple[Node, ...], kind: Type = tree.BOOLEAN) -> Apply:
    return Apply(word, operands, kind)


def coerced(node: Node, wanted: Type) -> Node | None:
    """The node as a value of another type, where nothing is lost by it; else nothing."""
    have = node.type
    if have.name == wanted.name and (have.name != "decimal" or have.places == wanted.places):
        return node
    if have.name == "integer" and wanted.name in ("decimal", "days"):
        if isinstance(node, Const) and wanted.name == "decimal":
            return Const(Decimal(int(node.value)), wanted)  # type: ignore[arg-type]
        return Apply("cast", (node,), wanted)
    if have.name == "decimal" and wanted.name == "decimal" and have.places < wanted.places:
        return Apply("cast", (node,), wanted)
    if have.exact and wanted.name == "number":
        return Apply("cast", (node,), wanted)
    if wanted.name == "duration" and isinstance(node, Const):
        return _as_duration(node)
    if have.name == "datetime" and wanted.name == "date":
        if isinstance(node, tree.Clock):
            return tree.Clock("today", tree.DATE)
        return Apply("local_date", (node,), wanted)
    return None


def alike(left: Node, right: Node) -> tuple[Node, Node] | None:
    """Both as values of one type, where they can be compared."""
    first, second = left.type, right.type
    if first.name == second.name == "row":
        return (left, right) if first.model == second.model else None
    if first.name == second.name != "decimal":
        return left, right
    if first.numeric and second.numeric:
        if isinstance(right, Const) and first.name == "number" and second.exact:
            return left, Const(float(right.value), tree.NUMBER)  # type: ignore[arg-type]
        if isinstance(left, Const) and second.name == "number" and first.exact:
            return Const(float(left.value), tree.NUMBER), right  # type: ignore[arg-type]
        kind = tree.NUMBER if "number" in (first.name, second.name) else wider(left, right)
        pair = coerced(left, kind), coerced(right, kind)
        return (pair[0] or left, pair[1] or right)
    if "duration" in (first.name, second.name):
        one, two = coerced(left, tree.DURATION), coerced(right, tree.DURATION)
        return (one, two) if one is not None and two is not None else None
    if {first.name, second.name} == {"date", "datetime"}:
        pair = coerced(left, tree.DATE), coerced(right, tree.DATE)
        return (pair[0] or left, pair[1] or right)
    return None


def wider(left: Node, right: Node) -> Type:
    if "decimal" in (left.type.name, right.type.name):
        return Type("decimal", max(left.type.places, right.type.places))
    return tree.DAYS if "days" in (left.type.name, right.type.name) else tree.INTEGER


def exact(places: int, *nodes: Node) -> Type:
    names = {node.type.name for node in nodes}
    if names == {"integer"}:
        return tree.INTEGER
    return Type("decimal", places) if places or "decimal" in names else tree.INTEGER


def _as_duration(node: Const) -> Const | None:
    """`2 days` or `1:30` as a length of time."""
    value = node.value
    if node.type.name == "days":
        assert isinstance(value, int)
        return Const(dt.timedelta(days=value), tree.DURATION)
    if isinstance(value, dt.time) and node.type.name == "time":
        length = dt.timedelta(hours=value.hour, minutes=value.minute, seconds=value.second)
        return Const(length, tree.DURATION)
    return None


_DESCRIBED = {
    **{"integer": "a whole number", "decimal": "a decimal", "number": "a number"},
    **{"text": "a text", "boolean": "yes or no", "date": "a date", "time": "a time"},
    **{
        "datetime": "a datetime",
        "days": "a number of days",
        "duration": "a length of time",
        "other": "such a value",
    },
}


def describe(kind: Type) -> str:
    """A type in words."""
    if kind.name == "row":
        return f"a row of {kind.model}"
    return _DESCRIBED[kind.name]
