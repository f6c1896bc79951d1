"""Comparisons: what can be beside what, choices, and patterns."""

from __future__ import annotations

import re
from dataclasses import replace

from ..language import syntax
from ..problems import did_you_mean, nearest
from ..rules import tree
from ..rules.ambiguity import refuse_slow
from ..rules.patterns import PatternError, parse_pattern
from ..rules.tree import Apply, Const, Node, Value
from .coercion import alike, apply, describe
from .typing import Typing

_TURNED = {">": "<", ">=": "<="}
_PLAIN = re.compile(r"[-+]?[0-9][0-9.:T-]*")


class Comparisons(Typing):
    """Types `=`, `<`, `between`, `in` and `matches`."""

    def comparison(self, written: syntax.Operation, model: str) -> Node:
        word, operands = written.word.text, written.operands
        if word == "between":
            low = self._compare("<=", operands[1], operands[0], model, written)
            high = self._compare("<=", operands[0], operands[2], model, written)
            return apply("and", (low, high))
        if word == "in":
            found = self._compare("=", operands[0], operands[1], model, written)
            for other in operands[2:]:
                more = self._compare("=", operands[0], other, model, written)
                found = apply("or", (found, more))
            return found
        left, right = operands
        if word in _TURNED:
            found = self._compare(_TURNED[word], left, right, model, written)
            return replace(found, operands=found.operands[::-1])
        if word == "!=":
            return apply("not", (self._compare("=", left, right, model, written),))
        return self._compare(word, left, right, model, written)

    def _compare(
        self,
        word: str,
        left: syntax.Expression,
        right: syntax.Expression,
        model: str,
        written: syntax.Operation,
    ) -> Apply:
        first, second = self._sides(left, right, model)
        if word != "=" and first.type.name in ("boolean", "row", "other"):
            raise self.wrong(
                "no-order",
                f"{describe(first.type)} is neither less nor more than another",
                written.span,
                "compare with = or !=",
            )
        if word != "=" and (first.type.choices or second.type.choices):
            raise self.wrong(
                "no-order", "choices have no order", written.span, "compare with =, != or in (…)"
            )
        if first.type.name == "other" or second.type.name == "other":
            raise self.wrong(
                "wrong-types",
                "such a value is not compared",
                written.span,
                "ask whether it is given, or is empty",
            )
        pair = alike(first, second)
        if pair is None:
            raise self.wrong(
                "wrong-types",
                f"{describe(first.type)} can't be compared with {describe(second.type)}",
                written.span,
                self._unquoted(first, second) or "compare values of one type",
            )
        return apply(word, pair)

    def _unquoted(self, *sides: Node) -> str:
        """What to write where a day or a number was put between quotes; empty where none was."""
        texts = [side.value for side in sides if isinstance(side, Const)]
        plain = [text for text in texts if isinstance(text, str) and _PLAIN.fullmatch(text)]
        return f"without quotes: {plain[0]}" if plain else ""

    def _sides(
        self, left: syntax.Expression, right: syntax.Expression, model: str
    ) -> tuple[Node, Node]:
        """Both sides of a comparison: a word beside choices is one of them."""
        if self._is_bare(left, model) and not self._is_bare(right, model):
            second = self.node(right, model)
            return self._choice(left, second, model), second
        first = self.node(left, model)
        if self._is_bare(right, model) or first.type.choices:
            return first, self._choice(right, first, model)
        second = self.node(right, model)
        if second.type.choices:
            return self._choice(left, second, model), second
        return first, second

    def _is_bare(self, written: syntax.Expression, model: str) -> bool:
        return (
            isinstance(written, syntax.Name)
            and len(written.path) == 1
            and written.path[0].text not in self.scope[model]
            and written.path[0].text != "id"
        )

    def _choice(self, written: syntax.Expression, beside: Node, model: str) -> Node:
        stored = beside.type.choices
        choices = dict(zip(beside.type.words or stored, stored, strict=True))
        word = ""
        if isinstance(written, syntax.Name) and len(written.path) == 1:
            word = written.path[0].text
        elif isinstance(written, syntax.Literal) and written.kind in ("string", "boolean"):
            word = written.text
        bare = self._is_bare(written, model)
        if not choices or (not bare and word not in choices) or not word:
            return self.node(written, model)
        if word not in choices:
            raise self.wrong(
                "unknown-choice",
                f"{word!r} is none of the choices",
                written.span,
                did_you_mean(word, list(choices)),
                nearest(word, list(choices)),
            )
        if not bare and isinstance(written, syntax.Name):
            # A field of that name is meant only where it can be compared.
            field = self.node(written, model)
            if field.type.name == "text":
                return field
        return Const(choices[word], tree.TEXT)

    def matches(self, written: syntax.Operation, model: str) -> Node:
        node = self.node(written.operands[0], model)
        given = written.operands[1]
        assert isinstance(given, syntax.Literal)
        if node.type.name != "text":
            raise self.wrong(
                "wrong-types",
                f"'matches' looks at a text, not at {describe(node.type)}",
                written.span,
                "compare it otherwise",
            )
        try:
            pattern = parse_pattern(given.text)
            refuse_slow(pattern, self._longest(node))
        except PatternError as error:
            start = min(given.span.start + 1 + error.at, given.span.end - 1)
            at = given.span._replace(start=start, end=start + 1)
            raise self.wrong("bad-pattern", error.message, at, error.remedy) from None
        return Apply("matches", (node,), tree.BOOLEAN, pattern)

    def _longest(self, node: Node) -> int | None:
        entry = self.scope[node.model].get(node.name) if isinstance(node, Value) else None
        return entry.longest if entry else None
