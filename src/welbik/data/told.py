"""Which rules values of one row break, told by the rules' own Python."""

from __future__ import annotations

import datetime as dt
import re
from collections.abc import Callable, Iterator, Mapping
from decimal import Decimal
from types import SimpleNamespace
from typing import Any
from zoneinfo import ZoneInfo

from ..blueprint.kit import logic
from ..rules.brought import unmarked
from ..rules.python import Python
from ..rules.tree import Aggregate, Apply, Node, Value, plain, walk
from ..schema.model import Field, Model, Reference, Schema

Broken = Callable[[Any], bool]


class Told:
    """Asks the rules of a schema's models; those over collections hold for a row that is new."""

    def __init__(self, schema: Schema, timezone: str) -> None:
        self.schema = schema
        zone = ZoneInfo(timezone)
        clock = SimpleNamespace(
            now=lambda: dt.datetime.now(dt.UTC),
            today=lambda: dt.datetime.now(zone).date(),
            day=lambda moment: moment.astimezone(zone).date(),
            local=lambda text: dt.datetime.fromisoformat(text).replace(tzinfo=zone),
        )
        self._space = {"dt": dt, "Decimal": Decimal, "re": re, "logic": logic, "clock": clock}
        self._rules: dict[str, list[tuple[str, frozenset[str], Broken]]] = {}

    def broken(self, model: Model, values: Mapping[str, Any]) -> list[str]:
        """The names of the rules that a row with these attributes breaks.

        Those that read a related row which it must have are asked where that is given.
        """
        if not model.rules:
            return []
        if model.name not in self._rules:
            self._rules[model.name] = self._written(model)
        row = _Row(values)
        return [
            name
            for name, needs, breaks in self._rules[model.name]
            if needs <= values.keys() and breaks(row)
        ]

    def condition(self, node: Node) -> Callable[[Mapping[str, Any]], bool]:
        """What tells whether a row with some attributes meets a condition; one over collections is met."""
        if any(isinstance(part, Aggregate) for part in walk(node)):
            return lambda values: True
        text = f"lambda row: {Python(self._attribute).false(node)}"
        fails: Broken = eval(unmarked(text), self._space)
        return lambda values: not fails(_Row(values))

    def worked_out(self, source: str) -> Any:
        """What a case of a kind comes to, from its Python source."""
        return eval(unmarked(source), self._space)

    def _written(self, model: Model) -> list[tuple[str, frozenset[str], Broken]]:
        writer = Python(self._attribute)
        found = []
        for rule in model.rules:
            parts = list(walk(rule.node))
            if any(isinstance(part, Aggregate) for part in parts):
                continue
            text = f"lambda row: {writer.false(rule.node)}"
            read = [part for part in parts if isinstance(part, Value)]
            steps = [part.path[0] for part in read if part.path]
            needs = [model.stored(step.reference) for step in steps if step.required]
            # A related row may be compared itself, and not only what it holds.
            own = [model.by_name.get(part.name) for part in read if not part.path]
            needs += [one for one in own if isinstance(one, Reference) and one.required]
            names = frozenset(one.attribute for one in needs)
            found.append((rule.name, names, eval(unmarked(text), self._space)))
        return found

    def at_edge(
        self,
        model: Model,
        name: str,
        values: Mapping[str, Any],
        *,
        outside: bool,
        turn: int = 0,
        but: str = "",
    ) -> dict[str, Any]:
        """One value that puts a row just inside or outside a comparison; nothing where it is none.

        Of several comparisons joined by `and` the one whose turn it is. The field `but` is not
        moved.
        """
        rule = next(rule for rule in model.rules if rule.name == name)
        compared = list(_comparisons(rule.node))
        if not compared:
            return {}
        node = compared[turn % len(compared)]
        writer = Python(self._attribute)
        for side, sign in ((0, 1), (1, -1)):
            value = plain(node.operands[side])
            if not isinstance(value, Value) or value.path or value.name == but:
                continue
            source = writer.value(node.operands[1 - side])
            other = eval(unmarked(f"lambda row: {source}"), self._space)(_Row(values))
            field = model.by_name.get(value.name)
            if other is None or not isinstance(field, Field):
                continue
            steps = int(outside) if node.word == "<=" else int(outside) - 1
            moved = _moved(field, other, sign * steps)
            return {} if moved is None else {field.attribute: moved}
        return {}

    def _attribute(self, owner: str, name: str) -> str:
        member = self.schema.models[owner].by_name.get(name)
        return member.attribute if member is not None else name


def _comparisons(node: Node) -> Iterator[Apply]:
    """A comparison, or those that `and` joins."""
    if isinstance(node, Apply) and node.word == "and":
        for part in node.operands:
            yield from _comparisons(part)
    elif isinstance(node, Apply) and node.word in ("<", "<="):
        yield node


def _moved(field: Field, value: Any, steps: int) -> Any:
    """A value so many of a field's smallest steps further; nothing where it has no steps."""
    kind = field.kind.value_type()
    if kind.name == "integer":
        return int(value) + steps
    if kind.name == "decimal":
        return Decimal(value) + steps * Decimal(1).scaleb(-kind.places)
    if kind.name == "number":
        return float(value) + steps
    if kind.name == "duration":
        moved: dt.timedelta = value + dt.timedelta(minutes=steps)
        return moved
    if kind.name == "date":
        return value + dt.timedelta(days=steps)
    if kind.name == "time":
        minutes = value.hour * 60 + value.minute + steps
        return dt.time(minutes // 60, minutes % 60) if 0 <= minutes < 24 * 60 else None
    if kind.name == "datetime" and not isinstance(value, dt.datetime):
        noon = dt.datetime.combine(value, dt.time(12), dt.UTC)
        return noon + dt.timedelta(days=steps)
    if kind.name == "datetime":
        return value.replace(second=0, microsecond=0) + dt.timedelta(minutes=steps)
    return None


class _Row:
    """Values as attributes; what was not given is empty."""

    def __init__(self, values: Mapping[str, Any]) -> None:
        self._values = values

    def __getattr__(self, name: str) -> Any:
        return self._values.get(name)
