"""Expressions as the language's own text, and as a sentence for people."""

from __future__ import annotations

import datetime as dt
from collections.abc import Callable
from decimal import Decimal

from .tree import Aggregate, Apply, Clock, Const, Node, Value, plain

_OR, _AND, _NOT, _COMPARE, _JOIN, _ADD, _TIMES, _SIGN, _ATOM = range(9)
_NEGATED = {"=": "!=", "<": ">=", "<=": ">"}

Named = Callable[[Value], str]


def as_text(node: Node, name: Named | None = None) -> str:
    """The text that reads back as this expression; `name` says what values are called."""
    return _write(node, name or _path)[0]


def _path(node: Value) -> str:
    return ".".join([*(step.reference for step in node.path), node.name])


def _write(node: Node, name: Named) -> tuple[str, int]:
    if isinstance(node, Const):
        return _constant(node)
    if isinstance(node, Clock):
        return node.word, _ATOM
    if isinstance(node, Value):
        return name(node), _ATOM
    if isinstance(node, Aggregate):
        return _aggregate(node, name), _ATOM
    word, parts = node.word, node.operands
    if word in ("cast", "local_date", "to_exact"):
        return _write(parts[0], name)
    if word in ("and", "or"):
        level = _AND if word == "and" else _OR
        # Both group from the left, so only the right side needs brackets for its own kind.
        return f"{_in(parts[0], level, name)} {word} {_in(parts[1], level + 1, name)}", level
    if word == "not":
        return _negation(parts[0], name)
    if word == "empty":
        return f"{_in(parts[0], _JOIN, name)} is empty", _COMPARE
    if word in ("=", "<", "<="):
        return f"{_in(parts[0], _JOIN, name)} {word} {_in(parts[1], _JOIN, name)}", _COMPARE
    if word == "matches":
        assert node.pattern is not None
        return f"{_in(parts[0], _JOIN, name)} matches {_quoted(node.pattern.text)}", _COMPARE
    return _calculated(node, name)


def _negation(node: Node, name: Named) -> tuple[str, int]:
    if isinstance(node, Apply) and node.word == "empty":
        return f"{_in(node.operands[0], _JOIN, name)} is given", _COMPARE
    if isinstance(node, Apply) and node.word == "=":
        left, right = (_in(part, _JOIN, name) for part in node.operands)
        return f"{left} != {right}", _COMPARE
    return f"not {_in(node, _NOT, name)}", _NOT


def _calculated(node: Apply, name: Named) -> tuple[str, int]:
    word, parts = node.word, node.operands
    if word == "||":
        return f"{_in(parts[0], _JOIN, name)} || {_in(parts[1], _ADD, name)}", _JOIN
    if word in ("+", "-"):
        return f"{_in(parts[0], _ADD, name)} {word} {_in(parts[1], _TIMES, name)}", _ADD
    if word == "days_between":
        return f"{_in(parts[0], _ADD, name)} - {_in(parts[1], _TIMES, name)}", _ADD
    if word == "shift":
        days, sign = parts[1], "+"
        if isinstance(days, Apply) and days.word == "neg":
            days, sign = days.operands[0], "-"
        return f"{_in(parts[0], _ADD, name)} {sign} {_in(days, _TIMES, name)}", _ADD
    if word in ("*", "/"):
        return f"{_in(parts[0], _TIMES, name)} {word} {_in(parts[1], _SIGN, name)}", _TIMES
    if word == "neg":
        inner = _in(parts[0], _SIGN, name)
        return f"-{inner}" if not inner.startswith("-") else f"-({inner})", _SIGN
    values = ", ".join(_write(part, name)[0] for part in parts)
    return f"{word}({values})", _ATOM


def _aggregate(node: Aggregate, name: Named) -> str:
    path = [*(step.reference for step in node.path), *(hop.name for hop in node.hops)]
    if isinstance(node.value, Value):
        path.append(name(node.value))
    where = f" where {_write(node.where, name)[0]}" if node.where is not None else ""
    return f"{node.function}({'.'.join(path)}{where})"


def _in(node: Node, level: int, name: Named) -> str:
    text, own = _write(node, name)
    return text if own >= level else f"({text})"


def _constant(node: Const) -> tuple[str, int]:
    value = node.value
    if isinstance(value, bool):
        return ("yes" if value else "no"), _ATOM
    if isinstance(value, str):
        return _quoted(value), _ATOM
    if isinstance(value, dt.datetime):
        return value.isoformat(timespec="seconds" if value.second else "minutes"), _ATOM
    if isinstance(value, dt.date):
        return value.isoformat(), _ATOM
    if isinstance(value, dt.time):
        return value.isoformat("seconds" if value.second else "minutes"), _ATOM
    if isinstance(value, dt.timedelta):
        return _length(value), _ATOM
    if node.type.name == "days":
        return f"{value} days", _ATOM
    if isinstance(value, Decimal):
        return f"{value:f}", _ATOM if value >= 0 else _SIGN
    if isinstance(value, float):
        value = int(value) if value.is_integer() and abs(value) < 2**53 else value
        return (f"{Decimal(repr(value)):f}"), _ATOM if value >= 0 else _SIGN
    return str(value), _ATOM if value >= 0 else _SIGN


def _length(value: dt.timedelta) -> str:
    """A length of time in its largest whole unit, as it is written."""
    seconds = int(value.total_seconds())
    units = (("hour", 3600), ("minute", 60), ("second", 1))
    word, size = next(unit for unit in units if seconds % unit[1] == 0)
    return f"{seconds // size} {word}{'s' * (abs(seconds // size) != 1)}"


def as_hours(value: dt.timedelta) -> str:
    """A length of time as hours and minutes, `1:30`; with its seconds where it has some."""
    seconds = int(abs(value).total_seconds())
    sign = "-" if value < dt.timedelta() else ""
    tail = f":{seconds % 60:02}" if seconds % 60 else ""
    return f"{sign}{seconds // 3600}:{seconds // 60 % 60:02}{tail}"


def _quoted(text: str) -> str:
    inner = text.replace("\\", "\\\\").replace('"', '\\"').replace("\n", "\\n")
    return f'"{inner}"'


def wording(node: Node, at: str) -> str:
    """What to say when a rule is broken and nothing was said: about the field `at`."""
    said = _compared(node, at)
    return said or f"This must hold: {as_text(node, _label)}."


def _label(node: Value) -> str:
    return " of ".join(
        [node.name.replace("_", " "), *(s.reference.replace("_", " ") for s in reversed(node.path))]
    )


def _compared(node: Node, at: str) -> str:
    """`opened <= closed`, said of one of the two."""
    if not isinstance(node, Apply) or node.word not in ("<", "<="):
        return ""
    left, right = (plain(part) for part in node.operands)
    words = {"<": ("more than", "less than", "after", "before")}.get(
        node.word, ("at least", "at most", "on or after", "on or before")
    )
    for side, other, word, dated in (
        (right, left, words[0], words[2]),
        (left, right, words[1], words[3]),
    ):
        if isinstance(side, Value) and not side.path and side.name == at:
            word = dated if side.type.name in ("date", "datetime", "time") else word
            shown = as_text(other, _label)
            if isinstance(other, Value):
                shown = f"{shown[:1].upper()}{shown[1:]}"
            return f"This must be {word} {shown}."
    return ""
