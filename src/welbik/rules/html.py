"""Conditions as HTML attributes: the bounds that a browser can hold by itself."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from .tree import Apply, Clock, Const, Node, Value


class Limit(NamedTuple):
    """A bound of a field: the attribute (min, max, minlength, maxlength) and its value."""

    field: str
    attribute: str
    bound: Node


def limits(rule: Node) -> Iterator[Limit]:
    """The bounds that a rule sets to single fields of its own row, whatever else it says.

    Only an end that is part of the range becomes one, and only where it is a constant or
    moves with the clock alone.
    """
    if isinstance(rule, Apply) and rule.word == "and":
        for part in rule.operands:
            yield from limits(part)
    elif isinstance(rule, Apply) and rule.word == "<=":
        low, high = rule.operands
        for value, bound, sides in (
            (high, low, ("min", "minlength")),
            (low, high, ("max", "maxlength")),
        ):
            if not _is_constant(bound):
                continue
            if (
                isinstance(value, Value)
                and not value.path
                and value.type.name not in ("text", "duration")
            ):
                yield Limit(value.name, sides[0], bound)
            elif isinstance(value, Apply) and value.word == "length":
                inner = value.operands[0]
                if isinstance(inner, Value) and not inner.path:
                    yield Limit(inner.name, sides[1], bound)


def _is_constant(node: Node) -> bool:
    if isinstance(node, Const | Clock):
        return True
    return isinstance(node, Apply) and node.word == "shift" and all(map(_is_constant, _parts(node)))


def _parts(node: Apply) -> tuple[Node, ...]:
    """What a shift is made of, a sign taken away."""
    return tuple(
        part.operands[0] if isinstance(part, Apply) and part.word == "neg" else part
        for part in node.operands
    )
