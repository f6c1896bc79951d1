"""Written expressions to typed ones: names are looked up, types checked, sugar taken away."""

from __future__ import annotations

import datetime as dt
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import replace
from decimal import Decimal
from typing import NamedTuple

from ..kinds.bounds import parse_clock
from ..kinds.duration import parsed
from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..problems import did_you_mean, nearest
from ..rules import tree
from ..rules.ambiguity import refuse_slow
from ..rules.patterns import PatternError, parse_pattern
from ..rules.tree import Apply, Const, Node, Step, Type, Value

_TURNED = {">": "<", ">=": "<="}
_FLOAT = 15


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


class _Wrong(Exception):
    """An expression that makes no sense; the problem is already reported."""


def understand(written: syntax.Expression, model: str, scope: Scope, report: Report) -> Node | None:
    """The typed expression, or nothing where it makes no sense (and that is reported)."""
    try:
        return _Typing(scope, report).node(written, model)
    except _Wrong:
        return None


def condition(written: syntax.Expression, model: str, scope: Scope, report: Report) -> Node | None:
    """The same for what must be true or false."""
    try:
        return _Typing(scope, report).truth(written, model)
    except _Wrong:
        return None


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


class _Typing:
    def __init__(self, scope: Scope, report: Report) -> None:
        self.scope = scope
        self.report = report

    def wrong(
        self, code: str, message: str, span: Span, remedy: str, fix: str | None = None
    ) -> _Wrong:
        self.report.add(code, message, span, remedy, fix=fix)
        return _Wrong()

    def truth(self, written: syntax.Expression, model: str) -> Node:
        node = self.node(written, model)
        if node.type.name != "boolean":
            raise self.wrong(
                "no-condition",
                f"this gives {describe(node.type)}, and is neither true nor false",
                written.span,
                "compare it with something: frames > 8",
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
            return self._aggregate(written, model)
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

    def _entry(self, word: syntax.Word, model: str) -> Entry:
        entry = self.scope[model].get(word.text)
        if entry is None or entry.what == "removal":
            known = [name for name in self.scope[model] if name != REMOVED]
            raise self.wrong(
                "unknown-field",
                f"{model} has no field {word.text!r}",
                word.span,
                did_you_mean(word.text, known),
                nearest(word.text, known),
            )
        if entry.what == "unread":
            raise _Wrong
        return entry

    def _steps(self, words: Sequence[syntax.Word], model: str) -> tuple[tuple[Step, ...], str]:
        """The references that some words follow, and the model they lead to."""
        steps: list[Step] = []
        for word in words:
            entry = self._entry(word, model)
            if entry.what != "reference":
                many = entry.what in ("collection", "many")
                raise self.wrong(
                    "bad-path",
                    f"{word.text!r} leads to no single row",
                    word.span,
                    f"say which: count({word.text}), or sum, avg, min, max of a field"
                    if many
                    else "a path follows relations: hive.apiary.keeper",
                )
            steps.append(Step(model, word.text, entry.target, entry.required))
            model = entry.target
        return tuple(steps), model

    def _name(self, written: syntax.Name, model: str) -> Node:
        steps, owner = self._steps(written.path[:-1], model)
        last = written.path[-1]
        if last.text == "id" and "id" not in self.scope[owner]:
            entry = Entry("value", tree.INTEGER, True)
        else:
            entry = self._entry(last, owner)
        if entry.what == "computed":
            if entry.formula is None:
                raise _Wrong
            return tree.reached(entry.formula, steps)
        if entry.what == "reference":
            kind = Type("row", model=entry.target)
            return Value(owner, last.text, kind, steps, not entry.required)
        if entry.what != "value":
            self._steps([last], owner)
        return Value(owner, last.text, entry.type, steps, not entry.required)

    def _operation(self, written: syntax.Operation, model: str) -> Node:
        word = written.word.text
        if word in ("and", "or", "when"):
            left, right = (self.truth(part, model) for part in written.operands)
            if word == "when":
                return _apply("or", (_apply("not", (right,)), left))
            return _apply(word, (left, right))
        if word == "not":
            return _apply("not", (self.truth(written.operands[0], model),))
        if word in ("empty", "given"):
            return self._emptiness(written, model)
        if word == "days":
            number = written.operands[0]
            assert isinstance(number, syntax.Literal)
            return Const(int(number.text), tree.DAYS)
        if word in ("=", "!=", "<", "<=", ">", ">=", "between", "in"):
            return self._comparison(written, model)
        if word == "matches":
            return self._matches(written, model)
        nodes = tuple(self.node(part, model) for part in written.operands)
        if word == "||":
            return self._joined(nodes, written)
        if word in ("+", "-", "*", "/", "neg"):
            return self._arithmetic(word, nodes, written)
        return self._function(word, nodes, written)

    def _emptiness(self, written: syntax.Operation, model: str) -> Node:
        inner = written.operands[0]
        if isinstance(inner, syntax.Name):
            entry = self._last(inner, model)
            if entry.what in ("collection", "many"):
                count = syntax.Aggregate(syntax.Word("count", inner.span), inner, None, inner.span)
                empty = _apply("=", (self.node(count, model), Const(0, tree.INTEGER)))
                return empty if written.word.text == "empty" else _apply("not", (empty,))
        node = _apply("empty", (self.node(inner, model),))
        return node if written.word.text == "empty" else _apply("not", (node,))

    def _last(self, written: syntax.Name, model: str) -> Entry:
        _, owner = self._steps(written.path[:-1], model)
        return self.scope[owner].get(written.path[-1].text, Entry("value"))

    def _comparison(self, written: syntax.Operation, model: str) -> Node:
        word, operands = written.word.text, written.operands
        if word == "between":
            low = self._compare("<=", operands[1], operands[0], model, written)
            high = self._compare("<=", operands[0], operands[2], model, written)
            return _apply("and", (low, high))
        if word == "in":
            found = self._compare("=", operands[0], operands[1], model, written)
            for other in operands[2:]:
                more = self._compare("=", operands[0], other, model, written)
                found = _apply("or", (found, more))
            return found
        left, right = operands
        if word in _TURNED:
            found = self._compare(_TURNED[word], left, right, model, written)
            return replace(found, operands=found.operands[::-1])
        if word == "!=":
            return _apply("not", (self._compare("=", left, right, model, written),))
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
        pair = _alike(first, second)
        if pair is None:
            raise self.wrong(
                "wrong-types",
                f"{describe(first.type)} can't be compared with {describe(second.type)}",
                written.span,
                "compare values of one type",
            )
        return _apply(word, pair)

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
        choices = beside.type.choices
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
                did_you_mean(word, choices),
                nearest(word, choices),
            )
        if not bare and isinstance(written, syntax.Name):
            return self.node(written, model)
        return Const(word, tree.TEXT)

    def _matches(self, written: syntax.Operation, model: str) -> Node:
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

    def _joined(self, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        for node, part in zip(nodes, written.operands, strict=True):
            if node.type.name != "text":
                raise self.wrong(
                    "wrong-types",
                    f"|| joins texts, and this is {describe(node.type)}",
                    part.span,
                    'put text between double quotes, or use: shown as "{code} {frames}"',
                )
        return _apply("||", nodes, tree.TEXT)

    def _arithmetic(self, word: str, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        if word == "neg":
            if not nodes[0].type.amount:
                raise self._not_numbers(nodes[0], nodes[0], written)
            return _apply("neg", nodes, nodes[0].type)
        left, right = nodes
        found = _dated(word, left, right) or _timed(word, left, right)
        if found is not None:
            return found
        if not (left.type.numeric and right.type.numeric):
            raise self._not_numbers(left, right, written)
        if word == "/" or "number" in (left.type.name, right.type.name):
            pair = tuple(coerced(part, tree.NUMBER) or part for part in nodes)
            return _apply(word, pair, tree.NUMBER)
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
            kind = tree.DAYS if "days" in plain else _exact(places, left, right)
            return _apply(word, nodes, kind)
        kind = _wider(left, right)
        pair = tuple(coerced(part, kind) or part for part in nodes)
        return _apply(word, pair, kind)

    def _not_numbers(self, left: Node, right: Node, written: syntax.Operation) -> _Wrong:
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

    def _function(self, word: str, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        first = nodes[0]
        name = first.type.name
        if word in ("length", "lower", "upper", "trim"):
            if name != "text":
                raise self._no_argument(word, "a text", first, written)
            return _apply(word, nodes, tree.INTEGER if word == "length" else tree.TEXT)
        if word == "abs":
            if not first.type.amount:
                raise self._no_argument(word, "a number", first, written)
            return _apply(word, nodes, first.type)
        if word == "round":
            return self._round(nodes, written)
        if word in ("year", "month", "day"):
            if name == "datetime":
                nodes = (coerced(first, tree.DATE) or first,)
            elif name != "date":
                raise self._no_argument(word, "a date", first, written)
            return _apply(word, nodes, tree.INTEGER)
        return self._extreme(word, nodes, written)

    def _no_argument(self, word: str, wants: str, node: Node, written: syntax.Operation) -> _Wrong:
        return self.wrong(
            "wrong-types",
            f"{word} looks at {wants}, not at {describe(node.type)}",
            written.span,
            f"give it {wants}",
        )

    def _round(self, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        first, places = nodes[0], 0
        if not first.type.numeric:
            raise self._no_argument("round", "a number", first, written)
        if len(nodes) == 2:
            given = nodes[1]
            if (
                not isinstance(given, Const)
                or given.type != tree.INTEGER
                or not 0 <= int(given.value) <= 9  # type: ignore[arg-type]
            ):
                raise self.wrong(
                    "wrong-arguments",
                    "round takes a number of places from 0 to 9",
                    written.operands[1].span,
                    "write: round(kg, 2)",
                )
            places = int(given.value)  # type: ignore[arg-type]
        if first.type.name == "number":
            return Apply("round", (first, Const(places, tree.INTEGER)), tree.NUMBER)
        if first.type.places <= places:
            return first
        kind = _exact(places, first) if places else tree.INTEGER
        return Apply("round", (first, Const(places, tree.INTEGER)), kind)

    def _extreme(self, word: str, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        found = nodes[0]
        for node in nodes[1:]:
            pair = _alike(found, node)
            if pair is None or pair[0].type.name in ("boolean", "row", "other"):
                raise self.wrong(
                    "wrong-types",
                    f"{word} compares values of one type, not {describe(found.type)} and {describe(node.type)}",
                    written.span,
                    "give it numbers, or dates, or texts",
                )
            found = _apply(word, pair, pair[0].type._replace(choices=()))
        return found

    def _aggregate(self, written: syntax.Aggregate, model: str) -> Node:
        steps, hops, owner, rest = self._hops(written, model)
        function = written.function.text
        where = self.truth(written.where, owner) if written.where is not None else None
        for live in self._live(hops):
            where = live if where is None else _apply("and", (live, where))
        if function == "count":
            if rest:
                raise self.wrong(
                    "bad-path",
                    "count counts rows, not a field of them",
                    rest[0].span,
                    "end at the collection: count(hives)",
                )
            return tree.Aggregate("count", steps, hops, None, where, tree.INTEGER)
        if not rest:
            raise self.wrong(
                "bad-path",
                f"{function} needs a field of these rows",
                written.path.span,
                f"name it: {function}({written.path.text}.kg)",
            )
        name = syntax.Name(tuple(rest), rest[0].span.to(rest[-1].span))
        value = self.node(name, owner)
        kind = self._aggregated(function, value, written)
        return tree.Aggregate(function, steps, hops, value, where, kind)

    def _live(self, hops: tuple[tree.Hop, ...]) -> Iterator[Node]:
        """That the rows counted, and those on the way to them, are not in the bin."""
        back: tuple[Step, ...] = ()
        for hop in reversed(hops):
            if self._entry_of(hop.model, REMOVED) == "removal":
                moment = Value(hop.model, REMOVED, tree.DATETIME, back)
                yield _apply("empty", (moment,))
            if not hop.via:
                return
            back = (*back, Step(hop.model, hop.via, hop.owner, True))

    def _entry_of(self, model: str, name: str) -> str:
        entry = self.scope[model].get(name)
        return entry.what if entry is not None else ""

    def _aggregated(self, function: str, value: Node, written: syntax.Aggregate) -> Type:
        kind = value.type
        if function in ("sum", "avg"):
            if not kind.numeric and (function, kind.name) != ("sum", "duration"):
                raise self.wrong(
                    "wrong-types",
                    f"{function} needs numbers, not {describe(kind)}",
                    written.span,
                    "name a field with numbers",
                )
            return tree.NUMBER if function == "avg" else kind
        if kind.name in ("boolean", "row", "other"):
            raise self.wrong(
                "wrong-types",
                f"{function} compares values, and {describe(kind)} has no order",
                written.span,
                "name a field with numbers, dates or texts",
            )
        return kind._replace(choices=())

    def _hops(
        self, written: syntax.Aggregate, model: str
    ) -> tuple[tuple[Step, ...], tuple[tree.Hop, ...], str, list[syntax.Word]]:
        """References first, then collections, then what is left of the path."""
        steps: list[Step] = []
        hops: list[tree.Hop] = []
        rest = list(written.path.path)
        owner = model
        while rest:
            entry = self._entry(rest[0], owner)
            if entry.what == "reference" and not hops:
                steps.append(Step(owner, rest[0].text, entry.target, entry.required))
            elif entry.what in ("collection", "many"):
                via = entry.via if entry.what == "collection" else ""
                hops.append(tree.Hop(rest[0].text, owner, entry.target, via))
            else:
                break
            owner = entry.target
            del rest[0]
        if not hops:
            raise self.wrong(
                "bad-path",
                f"{written.path.text!r} leads to no collection",
                written.path.span,
                "name the other side of a relation: count(hives)",
            )
        return tuple(steps), tuple(hops), owner, rest


def _apply(word: str, operands: tuple[Node, ...], kind: Type = tree.BOOLEAN) -> Apply:
    return Apply(word, operands, kind)


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


def _exact(places: int, *nodes: Node) -> Type:
    names = {node.type.name for node in nodes}
    if names == {"integer"}:
        return tree.INTEGER
    return Type("decimal", places) if places or "decimal" in names else tree.INTEGER


def _wider(left: Node, right: Node) -> Type:
    if "decimal" in (left.type.name, right.type.name):
        return Type("decimal", max(left.type.places, right.type.places))
    return tree.DAYS if "days" in (left.type.name, right.type.name) else tree.INTEGER


def _alike(left: Node, right: Node) -> tuple[Node, Node] | None:
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
        kind = tree.NUMBER if "number" in (first.name, second.name) else _wider(left, right)
        pair = coerced(left, kind), coerced(right, kind)
        return (pair[0] or left, pair[1] or right)
    if "duration" in (first.name, second.name):
        one, two = coerced(left, tree.DURATION), coerced(right, tree.DURATION)
        return (one, two) if one is not None and two is not None else None
    if {first.name, second.name} == {"date", "datetime"}:
        pair = coerced(left, tree.DATE), coerced(right, tree.DATE)
        return (pair[0] or left, pair[1] or right)
    return None


def _dated(word: str, left: Node, right: Node) -> Node | None:
    """Days added to a date, taken from it, or between two."""
    first, second = left.type.name, right.type.name
    if word in ("+", "-") and first in ("date", "datetime") and second in ("days", "integer"):
        days = coerced(right, tree.DAYS) or right
        if word == "-":
            days = _apply("neg", (days,), tree.DAYS)
        return _apply("shift", (left, days), left.type)
    if word == "+" and second in ("date", "datetime") and first in ("days", "integer"):
        return _apply("shift", (right, coerced(left, tree.DAYS) or left), right.type)
    if word == "-" and {first, second} <= {"date", "datetime"}:
        pair = tuple(coerced(part, tree.DATE) or part for part in (left, right))
        return _apply("days_between", pair, tree.INTEGER)
    return None


def _timed(word: str, left: Node, right: Node) -> Node | None:
    """Lengths of time added, taken from each other, or some times over."""
    names = left.type.name, right.type.name
    if "duration" not in names:
        return None
    if word in ("+", "-"):
        pair = _alike(left, right)
        return _apply(word, pair, tree.DURATION) if pair else None
    if word == "*" and "integer" in names:
        return _apply(word, (left, right), tree.DURATION)
    return None


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
