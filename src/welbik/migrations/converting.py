"""Values of one column type as values of another."""

from __future__ import annotations

from dataclasses import dataclass

from ..kinds.base import value_type
from ..rules import tree
from ..rules.patterns import parse_pattern
from ..rules.tree import Apply, Const, Node, Type, Value
from ..storage.tables import Table

_WHOLE = {"integer", "bigint", "reference"}
_DAY = (
    r"(?:\d{4}-(?:(?:0[13578]|1[02])-(?:0[1-9]|[12]\d|3[01])|(?:0[469]|11)-(?:0[1-9]|[12]\d|30)"
    r"|02-(?:0[1-9]|1\d|2[0-8]))"
    r"|(?:\d\d(?:0[48]|[2468][048]|[13579][26])|(?:[02468][048]|[13579][26])00)-02-29)"
)
_CLOCK = r"(?:[01]\d|2[0-3]):[0-5]\d(?::[0-5]\d(?:\.\d{1,6})?)?"
_FORMS = {
    "integer": r"[+\-]?\d{1,18}",
    "double": r"[+\-]?\d{1,17}(?:\.\d{1,17})?(?:[eE][+\-]?\d{1,3})?",
    "seconds": r"-?\d{1,6}:[0-5]\d(?::[0-5]\d)?",
    "boolean": "yes|no|true|false|on|off|y|n|1|0",
    "date": _DAY,
    "time": _CLOCK,
    "timestamp": f"{_DAY}[T ]{_CLOCK}",
    "uuid": r"[0-9a-f]{8}-?[0-9a-f]{4}-?[0-9a-f]{4}-?[0-9a-f]{4}-?[0-9a-f]{12}",
}
"""The texts that stand for a value of a type, as declarations write them."""


@dataclass(frozen=True)
class Converted:
    """A value as one of another type.

    `fits` is true where it can be (None: always), `kept` where nothing is lost by it (None: always).
    """

    node: Node
    fits: Node | None = None
    kept: Node | None = None


def type_of(node: Node, table: Table | None = None) -> str:
    """The neutral type of what an expression gives."""
    if isinstance(node, Value) and table is not None and not node.path:
        column = table.column(node.name)
        if column is not None:
            return column.type
    if isinstance(node, Apply) and node.word == "coalesce":
        return type_of(node.operands[0], table)
    names = {"number": "double", "datetime": "timestamp", "duration": "seconds", "days": "integer"}
    names |= {"row": "reference", "other": "json"}
    if node.type.name == "decimal":
        return f"decimal 38 {node.type.places}"
    return names.get(node.type.name, node.type.name)


def converted(node: Node, have: str, wanted: str, *, asked: bool = False) -> Converted | None:
    """A value of one neutral type as one of another; None where it can't be told from it.

    What can't be told for every value is converted only where somebody `asked` for it.
    """
    old, new = have.split()[0], wanted.split()[0]
    kind = value_type(wanted)
    if old == new and old != "decimal" or {old, new} <= _WHOLE:
        return Converted(node)
    if old in _WHOLE | {"decimal", "double"} and new in _WHOLE | {"decimal", "double"}:
        return _number(node, old, new, kind)
    if old == "date" and new == "timestamp":
        return Converted(Apply("moment", (node,), tree.DATETIME))
    if old == "timestamp" and new == "date":
        day = Apply("local_date", (node,), tree.DATE)
        # A moment is more than its day, whatever the hour.
        return Converted(day, kept=Const(False, tree.BOOLEAN))
    if old == "boolean" and new in _WHOLE:
        return Converted(Apply("number", (node,), tree.INTEGER))
    if new == "text" and old not in ("json", "text"):
        return Converted(Apply("told", (node,), tree.TEXT))
    if not asked:
        return None
    if {old, new} <= _WHOLE | {"seconds"}:
        return Converted(Apply("cast", (node,), kind))
    if old in _WHOLE and new == "boolean":
        zero, one = (Apply("=", (node, Const(n, tree.INTEGER)), tree.BOOLEAN) for n in (0, 1))
        fits = Apply("or", (zero, one), tree.BOOLEAN)
        return Converted(Apply("truth", (node,), tree.BOOLEAN), fits)
    return _read(node, wanted, kind) if old == "text" else None


def _number(node: Node, old: str, new: str, kind: Type) -> Converted:
    if new == "double":
        return Converted(node if old == "double" else Apply("cast", (node,), tree.NUMBER))
    places = kind.places if new == "decimal" else 0
    wanted = Type("decimal", places) if new == "decimal" else tree.INTEGER
    if old in _WHOLE:
        return Converted(Apply("cast", (node,), wanted))
    if old == "double":
        # Decimals are rounded to half away from zero, as everywhere.
        found = Apply("to_exact", (node,), Type("decimal", places))
        back = Apply("cast", (found,), tree.NUMBER)
        return Converted(found, kept=Apply("=", (back, node), tree.BOOLEAN))
    if node.type.places <= places and new == "decimal":
        more = node.type.places < places
        return Converted(Apply("cast", (node,), wanted) if more else node)
    cut = Apply("round", (node, Const(places, tree.INTEGER)), wanted)
    back = Apply("cast", (cut,), node.type)
    return Converted(cut, kept=Apply("=", (back, node), tree.BOOLEAN))


def _read(node: Node, wanted: str, kind: Type) -> Converted | None:
    """A text that is read as a value: what is around it, and how letters are written, is left out."""
    word, *numbers = wanted.split()
    word = "integer" if word in _WHOLE else word
    if word == "decimal":
        places = int(numbers[1])
        before = int(numbers[0]) - places
        # What lies between -1 and 1 has nothing but a nought before its point.
        whole = rf"\d{{1,{before}}}" if before else "0"
        form = rf"[+\-]?{whole}(?:\.\d{{1,{places}}}0*)?"
    elif word in _FORMS:
        form = _FORMS[word]
    else:
        return None
    inner = Apply("trim", (node,), tree.TEXT)
    if word in ("boolean", "uuid"):
        inner = Apply("lower", (inner,), tree.TEXT)
    fits = Apply("matches", (inner,), tree.BOOLEAN, parse_pattern(form))
    # What is nothing but blanks stands for nothing.
    blank = Apply("empty", (inner,), tree.BOOLEAN)
    return Converted(Apply("read", (inner,), kind), Apply("or", (blank, fits), tree.BOOLEAN))
