"""Sums and products of numbers, days and lengths of time; texts that are joined."""

from __future__ import annotations

from ..language import syntax
from ..rules import tree
from ..rules.tree import Node
from .coercion import alike, apply, coerced, describe, exact, wider
from .typing import Typing, Wrong


class Arithmetic(Typing):
    """Types `+ - * /` and `||`."""

    def joined(self, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        for node, part in zip(nodes, written.operands, strict=True):
            if node.type.name != "text":
                raise self.wrong(
                    "wrong-types",
                    f"|| joins texts, and this is {describe(node.type)}",
                    part.span,
                    'put text between double quotes, or use: shown as "{code} {frames}"',
                )
        return apply("||", nodes, tree.TEXT)

    def arithmetic(self, word: str, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        if word == "neg":
            if not nodes[0].type.amount:
                raise self._not_numbers(nodes[0], nodes[0], written)
            return apply("neg", nodes, nodes[0].type)
        left, right = nodes
        found = _dated(word, left, right) or _timed(word, left, right)
        if found is not None:
            return found
        if not (left.type.numeric and right.type.numeric):
            raise self._not_numbers(left, right, written)
        if word == "/" or "number" in (left.type.name, right.type.name):
            pair = tuple(coerced(part, tree.NUMBER) or part for part in nodes)
            return apply(word, pair, tree.NUMBER)
        if word == "*":
            places = left.type.places + right.type.places
            if places > 12:
                raise self.wrong(
                    "too-many-places",
                    f"this product has {places} places, and 12 are kept",
                    written.span,
                    "round one of the two: round(kg, 2)",
                )
            plain = {left.type.name, right.type.name}
            if plain == {"days"}:
                raise self._not_numbers(left, right, written)
            kind = tree.DAYS if "days" in plain else exact(places, left, right)
            return apply(word, nodes, kind)
        kind = wider(left, right)
        pair = tuple(coerced(part, kind) or part for part in nodes)
        return apply(word, pair, kind)

    def _not_numbers(self, left: Node, right: Node, written: syntax.Operation) -> Wrong:
        shown = "-" if written.word.text == "neg" else written.word.text
        names = describe(left.type)
        if right is not left:
            names += f" and {describe(right.type)}"
        return self.wrong(
            "wrong-types",
            f"{shown} does not work on {names}",
            written.span,
            "use numbers, days, or lengths of time",
        )


def _dated(word: str, left: Node, right: Node) -> Node | None:
    """Days added to a date, taken from it, or between two."""
    first, second = left.type.name, right.type.name
    if word in ("+", "-") and first in ("date", "datetime") and second in ("days", "integer"):
        days = coerced(right, tree.DAYS) or right
        if word == "-":
            days = apply("neg", (days,), tree.DAYS)
        return apply("shift", (left, days), left.type)
    if word == "+" and second in ("date", "datetime") and first in ("days", "integer"):
        return apply("shift", (right, coerced(left, tree.DAYS) or left), right.type)
    if word == "-" and {first, second} <= {"date", "datetime"}:
        pair = tuple(coerced(part, tree.DATE) or part for part in (left, right))
        return apply("days_between", pair, tree.INTEGER)
    return None


def _timed(word: str, left: Node, right: Node) -> Node | None:
    """Lengths of time added, taken from each other, or some times over."""
    names = left.type.name, right.type.name
    if "duration" not in names:
        return None
    if word in ("+", "-"):
        pair = alike(left, right)
        return apply(word, pair, tree.DURATION) if pair else None
    if word == "*" and "integer" in names:
        return apply(word, (left, right), tree.DURATION)
    return None
