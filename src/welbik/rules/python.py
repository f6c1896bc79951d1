"""Expressions as Python source, written as one would by hand.

A condition has two forms, when it is true and when it is false, each plain two-valued
Python: what may be empty is asked for first. So `closed >= opened` is broken when
`row.closed is not None and row.closed < row.opened`.
"""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable, Iterable
from decimal import Decimal
from itertools import count
from typing import NamedTuple

from .brought import use
from .tree import Aggregate, Apply, Clock, Const, Node, Value, maybe_empty, strict

Attribute = Callable[[str, str], str]
"""The attribute of a model's class that a member is."""

_TERNARY, _OR, _AND, _NOT, _COMPARE, _ADD, _TIMES, _SIGN, _ATOM = range(9)
_OPPOSITE = {"<": ">=", "<=": ">", "=": "!="}
_SIGNS = {"=": "==", "<": "<", "<=": "<="}


class _Text(NamedTuple):
    """Source, and how loosely its outermost operator binds."""

    text: str
    level: int = _ATOM


class Python:
    """Writes expressions over a row called `row`."""

    def __init__(self, attribute: Attribute, row: str = "row") -> None:
        self.attribute = attribute
        self.row = row
        self._numbers = count(1)

    def true(self, node: Node) -> str:
        """Source that is true just when the condition is."""
        return self._true(node, self.row).text

    def false(self, node: Node) -> str:
        """Source that is true just when the condition is false: neither true nor unknown."""
        return self._false(node, self.row).text

    def value(self, node: Node) -> str:
        """Source of what an expression gives, None where that is nothing."""
        return self._value(node, self.row).text

    def _true(self, node: Node, row: str) -> _Text:
        if isinstance(node, Const):
            return _Text(str(bool(node.value)))
        if isinstance(node, Apply):
            if node.word == "and":
                return _both(self._true(part, row) for part in node.operands)
            if node.word == "or":
                return _either(self._true(part, row) for part in node.operands)
            if node.word == "not":
                return self._false(node.operands[0], row)
            if node.word == "empty":
                return self._empty(node.operands[0], row)
            return self._compared(node, row, negated=False)
        value = self._bare(node, row)
        optional = isinstance(node, Value) and node.optional
        given = _Text(f"{value.text} is True", _COMPARE) if optional else value
        return _both([*self._guards(node, row, own=False), given])

    def _false(self, node: Node, row: str) -> _Text:
        if isinstance(node, Const):
            return _Text(str(not node.value))
        if isinstance(node, Apply):
            if node.word == "and":
                return _either(self._false(part, row) for part in node.operands)
            if node.word == "or":
                return _both(self._false(part, row) for part in node.operands)
            if node.word == "not":
                return self._true(node.operands[0], row)
            if node.word == "empty":
                return self._given(node.operands[0], row)
            return self._compared(node, row, negated=True)
        value = self._bare(node, row)
        optional = isinstance(node, Value) and node.optional
        given = _Text(f"{value.text} is False", _COMPARE)
        given = given if optional else _Text(f"not {value.text}", _NOT)
        return _both([*self._guards(node, row, own=False), given])

    def _empty(self, node: Node, row: str) -> _Text:
        if not maybe_empty(node):
            return _Text("False")
        if not strict(node):
            return _Text(f"{_in(self._value(node, row), _ADD)} is None", _COMPARE)
        return _either(
            _Text(f"{guard.text.removesuffix(' is not None')} is None", _COMPARE)
            for guard in self._guards(node, row)
        )

    def _given(self, node: Node, row: str) -> _Text:
        if not maybe_empty(node):
            return _Text("True")
        if not strict(node):
            return _Text(f"{_in(self._value(node, row), _ADD)} is not None", _COMPARE)
        return _both(self._guards(node, row))

    def _guards(self, node: Node, row: str, own: bool = True) -> list[_Text]:
        """What must not be None for a strict expression to have a value, in order."""
        if isinstance(node, Value):
            guards, at = [], row
            for step in node.path:
                at += f".{self.attribute(step.owner, step.reference)}"
                if not step.required:
                    guards.append(_Text(f"{at} is not None", _COMPARE))
            if own and node.optional:
                guards.append(
                    _Text(f"{at}.{self.attribute(node.model, node.name)} is not None", _COMPARE)
                )
            return guards
        if isinstance(node, Apply):
            found = [guard for part in node.operands for guard in self._guards(part, row)]
            return list(dict.fromkeys(found))
        return []

    def _compared(self, node: Apply, row: str, *, negated: bool) -> _Text:
        guards: list[_Text] = []
        shown: list[_Text] = []
        for part in node.operands:
            if strict(part) or not maybe_empty(part):
                guards += self._guards(part, row) if strict(part) else []
                shown.append(self._bare(part, row))
            else:
                name = f"v{next(self._numbers)}"
                guards.append(
                    _Text(f"({name} := {self._value(part, row).text}) is not None", _COMPARE)
                )
                shown.append(_Text(name))
        if node.word == "matches":
            assert node.pattern is not None
            found = f"{use.re}.fullmatch({_quote(node.pattern.text)}, {shown[0].text})"
            sign = "is" if negated else "is not"
            return _both([*guards, _Text(f"{found} {sign} None", _COMPARE)])
        sign = _OPPOSITE[node.word] if negated else _SIGNS[node.word]
        left, right = shown
        if isinstance(node.operands[0], Const) and not isinstance(node.operands[1], Const):
            # `row.brood >= 3` reads better than `3 <= row.brood`.
            left, right = right, left
            sign = {"<": ">", "<=": ">=", ">": "<", ">=": "<="}.get(sign, sign)
        text = f"{_in(left, _ADD)} {sign} {_in(right, _ADD)}"
        return _both([*guards, _Text(text, _COMPARE)])

    def _value(self, node: Node, row: str) -> _Text:
        """An expression that is None where it gives nothing."""
        if node.type.name == "boolean" and isinstance(node, Apply):
            true, false = self._true(node, row), self._false(node, row)
            if not maybe_empty(node):
                return _Text(f"bool({true.text})")
            return _Text(
                f"True if {_in(true, _OR)} else False if {_in(false, _OR)} else None", _TERNARY
            )
        if not maybe_empty(node) or isinstance(node, Value) and not node.path:
            return self._bare(node, row)
        if strict(node):
            guards = _both(self._guards(node, row, own=not isinstance(node, Value)))
            if guards.text == "True":
                return self._bare(node, row)
            return _Text(f"{_in(self._bare(node, row), _OR)} if {guards.text} else None", _TERNARY)
        return self._loose(node, row)

    def _loose(self, node: Node, row: str) -> _Text:
        """What can come to nothing though all it reads is there."""
        if isinstance(node, Aggregate):
            return self._aggregate(node, row)
        assert isinstance(node, Apply)
        names: list[_Text] = []
        guards: list[_Text] = []
        for part in node.operands:
            if not maybe_empty(part):
                names.append(self._bare(part, row))
                continue
            name = f"v{next(self._numbers)}"
            guards.append(_Text(f"({name} := {self._value(part, row).text}) is not None", _COMPARE))
            names.append(_Text(name))
        result = self._applied(node, names)
        guard = _both(guards)
        if guard.text == "True":
            return result
        return _Text(f"{_in(result, _OR)} if {guard.text} else None", _TERNARY)

    def _bare(self, node: Node, row: str) -> _Text:
        """An expression whose parts are known to be there."""
        if isinstance(node, Const):
            return _constant(node)
        if isinstance(node, Clock):
            return _Text(f"{use.clock}.{node.word}()")
        if isinstance(node, Value):
            at = row
            for step in node.path:
                at += f".{self.attribute(step.owner, step.reference)}"
            return _Text(f"{at}.{self.attribute(node.model, node.name)}")
        if isinstance(node, Aggregate):
            return self._aggregate(node, row)
        if node.type.name == "boolean":
            return self._value(node, row)
        return self._applied(node, [self._bare(part, row) for part in node.operands])

    def _applied(self, node: Apply, parts: list[_Text]) -> _Text:
        first, word = parts[0], node.word
        if word in ("+", "-", "||"):
            sign = "+" if word == "||" else word
            return _Text(f"{_in(first, _ADD)} {sign} {_in(parts[1], _TIMES)}", _ADD)
        if word == "*":
            return _Text(f"{_in(first, _TIMES)} * {_in(parts[1], _SIGN)}", _TIMES)
        if word == "neg":
            return _Text(f"-{_in(first, _SIGN)}", _SIGN)
        if word == "/":
            return _Text(f"{use.logic}.divide({first.text}, {parts[1].text})")
        if word == "cast":
            exact = node.type.name == "number" and node.operands[0].type.name == "decimal"
            return _Text(f"float({first.text})") if exact else first
        if word == "shift":
            return _shifted(first, parts[1], node.operands[1])
        if word == "days_between":
            return _Text(f"({_in(first, _ADD)} - {_in(parts[1], _TIMES)}).days")
        if word in ("year", "month", "day"):
            return _Text(f"{_in(first, _ATOM)}.{word}")
        if word == "length":
            return _Text(f"len({first.text})")
        if word == "trim":
            return _Text(f'{_in(first, _ATOM)}.strip(" ") or None', _OR)
        if word in ("least", "greatest"):
            function = "min" if word == "least" else "max"
            return _Text(f"{function}({first.text}, {parts[1].text})")
        if word == "abs":
            return _Text(f"abs({first.text})")
        if word == "local_date":
            return _Text(f"{use.clock}.day({first.text})")
        return _Text(f"{use.logic}.{word}({', '.join(part.text for part in parts)})")

    def _aggregate(self, node: Aggregate, row: str) -> _Text:
        at, guards = row, []
        for step in node.path:
            at += f".{self.attribute(step.owner, step.reference)}"
            if not step.required:
                guards.append(_Text(f"{at} is not None", _COMPARE))
        loops, here = [], at
        for hop in node.hops:
            name = f"r{next(self._numbers)}"
            loops.append(f"for {name} in {here}.{self.attribute(hop.owner, hop.name)}")
            here = name
        if node.where is not None:
            loops.append(f"if {_in(self._true(node.where, here), _OR)}")
        one = "1" if node.value is None else self._value(node.value, here).text
        rows = f"{one} {' '.join(loops)}"
        function = {"count": "sum", "sum": f"{use.logic}.total", "avg": f"{use.logic}.mean"}.get(
            node.function, f"{use.logic}.{node.function}imum"
        )
        found = _Text(f"{function}({rows})")
        guard = _both(guards)
        if guard.text == "True":
            return found
        return _Text(f"{found.text} if {guard.text} else None", _TERNARY)


def _shifted(first: _Text, days: _Text, node: Node) -> _Text:
    sign, number = "+", days.text
    if isinstance(node, Apply) and node.word == "neg" and days.text.startswith("-"):
        sign, number = "-", days.text[1:]
    return _Text(f"{_in(first, _ADD)} {sign} {use.dt}.timedelta(days={number})", _ADD)


def _in(part: _Text, level: int) -> str:
    """A part's source inside an operator of a level."""
    return part.text if part.level >= level and part.level != _TERNARY else f"({part.text})"


def _both(parts: Iterable[_Text]) -> _Text:
    return _chained(parts, "and", "True", "False", _AND)


def _either(parts: Iterable[_Text]) -> _Text:
    return _chained(parts, "or", "False", "True", _OR)


def _chained(parts: Iterable[_Text], word: str, nothing: str, all_: str, level: int) -> _Text:
    """Parts joined by a word, each once; `nothing` adds nothing, `all_` settles it."""
    kept = [part for part in dict.fromkeys(parts) if part.text != nothing]
    if any(part.text == all_ for part in kept):
        return _Text(all_)
    if len(kept) < 2:
        return kept[0] if kept else _Text(nothing)
    flat: list[str] = []
    for part in kept:
        pieces = (
            part.text.split(f" {word} ") if _flat(part, word, level) else [_in(part, level + 1)]
        )
        flat += [piece for piece in pieces if piece not in flat]
    return _Text(f" {word} ".join(flat), level)


def _flat(part: _Text, word: str, level: int) -> bool:
    """Whether a part is a plain chain of the same word, so that repeats in it can be seen."""
    return (
        part.level == level
        and not any(mark in part.text for mark in "()'\"")
        and " for " not in part.text
    )


def _quote(text: str) -> str:
    mark = "'" if text.count('"') > text.count("'") else '"'
    plain = "\\" not in text and mark not in text and text.isprintable()
    if plain:
        return mark + text + mark
    if mark not in text and text.isprintable() and not text.endswith("\\"):
        return "r" + mark + text + mark
    return repr(text)


def length_source(value: dt.timedelta) -> str:
    """A length of time as Python source, in its largest whole unit."""
    seconds = int(value.total_seconds())
    units = (("hours", 3600), ("minutes", 60), ("seconds", 1))
    unit, size = next(unit for unit in units if seconds % unit[1] == 0)
    return f"{use.dt}.timedelta({unit}={seconds // size})"


def _constant(node: Const) -> _Text:
    value = node.value
    if isinstance(value, Decimal):
        if value == value.to_integral_value():
            return _Text(str(int(value)), _ATOM if value >= 0 else _SIGN)
        return _Text(f'{use.Decimal}("{value:f}")')
    if isinstance(value, dt.datetime):
        return _Text(f'{use.clock}.local("{value.isoformat(timespec="minutes")}")')
    if isinstance(value, dt.date):
        return _Text(f"{use.dt}.date({value.year}, {value.month}, {value.day})")
    if isinstance(value, dt.time):
        return _Text(
            f"{use.dt}.time({value.hour}, {value.minute}, {value.second})".replace(", 0)", ")")
        )
    if isinstance(value, dt.timedelta):
        return _Text(length_source(value))
    if isinstance(value, str):
        return _Text(_quote(value) if "\\" not in value else repr(value))
    return _Text(repr(value), _ATOM if isinstance(value, bool) or value >= 0 else _SIGN)
