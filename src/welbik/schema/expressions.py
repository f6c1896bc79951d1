"""Written expressions to typed ones: names are looked up, types checked, sugar taken away."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

from ..kinds.bounds import parse_clock
from ..kinds.duration import parsed
from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..rules import tree
from ..rules.tree import Const, Node, Type, Value
from .aggregates import Aggregates
from .arithmetic import Arithmetic
from .coercion import apply
from .comparisons import Comparisons
from .entries import Entry, Scope
from .functions import Functions
from .typing import Wrong

_FLOAT = 15
_LARGEST, _DEEPEST = 2_000, 120
"""How many parts an expression may have, and how deep: databases and Python have their ends too."""


def understand(written: syntax.Expression, model: str, scope: Scope, report: Report) -> Node | None:
    """The typed expression, or nothing where it makes no sense (and that is reported)."""
    try:
        typing = _Typing(scope, report)
        return typing.bounded(typing.node(written, model), written.span)
    except Wrong:
        return None


def change(written: syntax.Expression, model: str, scope: Scope, report: Report) -> Node | None:
    """The same for what stored rows get: `coalesce` has its place there."""
    typing = _Typing(scope, report)
    typing.changes_rows = True
    try:
        return typing.bounded(typing.node(written, model), written.span)
    except Wrong:
        return None


def condition(written: syntax.Expression, model: str, scope: Scope, report: Report) -> Node | None:
    """The same for what must be true or false."""
    try:
        typing = _Typing(scope, report)
        return typing.bounded(typing.truth(written, model), written.span)
    except Wrong:
        return None


class _Typing(Comparisons, Arithmetic, Functions, Aggregates):
    """Types whole expressions: literals, names and operations."""

    def bounded(self, node: Node, span: Span) -> Node:
        """The node; a problem if it is too large with the computed fields it reads."""
        size, depth = tree.extent(node)
        if size > _LARGEST or depth > _DEEPEST:
            raise self.wrong(
                "too-long-expression",
                f"with the computed fields that it reads this has {size:,} parts, {depth} deep",
                span,
                f"shorten it: at most {_LARGEST:,} parts, {_DEEPEST} deep",
            )
        return node

    def node(self, written: syntax.Expression, model: str) -> Node:
        if isinstance(written, syntax.Literal):
            return self._literal(written)
        if isinstance(written, syntax.Clock):
            kind = tree.DATE if written.word == "today" else tree.DATETIME
            return tree.Clock(written.word, kind)
        if isinstance(written, syntax.Name):
            return self._name(written, model)
        if isinstance(written, syntax.Aggregate):
            return self.aggregate(written, model)
        return self._operation(written, model)

    def _literal(self, written: syntax.Literal) -> Const:
        kind, text = written.kind, written.text
        try:
            if kind == "number":
                return _number(text)
            if kind == "date":
                return Const(dt.date.fromisoformat(text), tree.DATE)
            if kind == "datetime":
                return Const(dt.datetime.fromisoformat(text), tree.DATETIME)
            if kind == "time":
                return Const(parse_clock(text), tree.TIME)
            if kind == "length":
                return self._length(written)
        except (ValueError, OverflowError):
            raise self.wrong(
                "no-such-date", f"{text} is not in the calendar", written.span, "check its digits"
            ) from None
        if kind == "boolean":
            return Const(text == "yes", tree.BOOLEAN)
        if kind == "string":
            if not text:
                raise self.wrong(
                    "empty-text", "no value is ever an empty text", written.span, "write: is empty"
                )
            return Const(text, tree.TEXT)
        raise self.wrong(
            "unexpected", f"{written.span.text} is no value here", written.span, "write a number"
        )

    def _length(self, written: syntax.Literal) -> Const:
        length = parsed(written.text)
        if length is None:
            raise self.wrong(
                "wrong-value",
                "a length of time is counted in whole seconds",
                written.span,
                "write: 90 minutes",
            )
        return Const(length, tree.DURATION)

    def _name(self, written: syntax.Name, model: str) -> Node:
        steps, owner = self.steps(written.path[:-1], model)
        last = written.path[-1]
        if last.text == "id" and "id" not in self.scope[owner]:
            entry = Entry("value", tree.INTEGER, True)
        else:
            entry = self.entry(last, owner)
        if entry.what == "computed":
            if entry.formula is None:
                raise Wrong
            return tree.reached(entry.formula, steps)
        if entry.what == "reference":
            kind = Type("row", model=entry.target)
            return Value(owner, last.text, kind, steps, not entry.required)
        if entry.what != "value":
            self.steps([last], owner)
        return Value(owner, last.text, entry.type, steps, not entry.required)

    def _operation(self, written: syntax.Operation, model: str) -> Node:
        word = written.word.text
        if word in ("and", "or", "when"):
            left, right = (self.truth(part, model) for part in written.operands)
            if word == "when":
                return apply("or", (apply("not", (right,)), left))
            return apply(word, (left, right))
        if word == "not":
            return apply("not", (self.truth(written.operands[0], model),))
        if word in ("empty", "given"):
            return self._emptiness(written, model)
        if word == "days":
            number = written.operands[0]
            assert isinstance(number, syntax.Literal)
            return Const(int(number.text), tree.DAYS)
        if word in ("=", "!=", "<", "<=", ">", ">=", "between", "in"):
            return self.comparison(written, model)
        if word == "matches":
            return self.matches(written, model)
        nodes = tuple(self.node(part, model) for part in written.operands)
        if word == "||":
            return self.joined(nodes, written)
        if word in ("+", "-", "*", "/", "neg"):
            return self.arithmetic(word, nodes, written)
        return self.function(word, nodes, written)

    def _emptiness(self, written: syntax.Operation, model: str) -> Node:
        inner = written.operands[0]
        if isinstance(inner, syntax.Name):
            entry = self._last(inner, model)
            if entry.what in ("collection", "many"):
                count = syntax.Aggregate(syntax.Word("count", inner.span), inner, None, inner.span)
                empty = apply("=", (self.node(count, model), Const(0, tree.INTEGER)))
                return empty if written.word.text == "empty" else apply("not", (empty,))
        node = apply("empty", (self.node(inner, model),))
        return node if written.word.text == "empty" else apply("not", (node,))

    def _last(self, written: syntax.Name, model: str) -> Entry:
        _, owner = self.steps(written.path[:-1], model)
        return self.scope[owner].get(written.path[-1].text, Entry("value"))


def _number(text: str) -> Const:
    value = Decimal(text)
    exponent = value.as_tuple().exponent
    places = -exponent if isinstance(exponent, int) and exponent < 0 else 0
    if not places:
        if abs(value) >= 2**63:
            raise OverflowError
        return Const(int(value), tree.INTEGER)
    if len(value.as_tuple().digits) > _FLOAT or places > 12:
        return Const(float(value), tree.NUMBER)
    return Const(value, Type("decimal", places))
