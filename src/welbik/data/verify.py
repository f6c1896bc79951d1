"""Rules told by the database itself: the last word on every row that was made up."""

from __future__ import annotations

from collections.abc import Iterator, Set
from dataclasses import dataclass, replace
from functools import partial

from ..problems import WelbikError
from ..rules.tree import Aggregate, Apply, Const, Node, Value, mapped, walk
from ..schema.model import Field, Model, Reference, Rule, Schema
from ..schema.pairs import pairs_read
from ..schema.tables import SchemaNames
from ..storage.backend import Database
from ..storage.neutral import decode
from .world import has_bin


@dataclass(frozen=True)
class Broken:
    """Rows of a model, by their keys, that break a rule and did not before."""

    model: Model
    rule: Rule
    keys: frozenset[object]

    def __str__(self) -> str:
        keys = ", ".join(map(str, sorted(map(str, self.keys))[:5]))
        return f"{self.model.name} {keys}: {self.rule.text}"

    def error(self, added: str) -> WelbikError:
        if added == self.model.name:
            what = f"no {added} could be made up that keeps: {self.rule.text}"
        else:
            what = f"more rows of {added} would break a rule of {self.model.name}: {self.rule.text}"
        remedy = "widen the fields that the rule reads, or ask for fewer rows in 'seed'"
        return WelbikError(what, f"{remedy}; nothing was added")


class Verifier:
    """Asks the rules of a schema of stored rows; `accept` leaves out those broken before."""

    def __init__(
        self, database: Database, schema: Schema, timezone: str, *, accept: bool = True
    ) -> None:
        self.database, self.schema = database, schema
        self.timezone = timezone
        self._before: dict[tuple[str, str], set[object]] = {}
        for model in schema:
            if accept and database.count(model.table):
                self.accept(model)

    def accept(self, model: Model) -> None:
        """Takes what is stored of a model as it is: nothing of it counts as broken from now on."""
        for rule in model.rules:
            self._before[model.name, rule.name] = self._keys(model, rule)

    def broken(
        self,
        added: set[str],
        known: set[str],
        owed: Set[str] = frozenset(),
        pairs: str = "",
    ) -> Iterator[Broken]:
        """What is broken of the rules that read models with new rows, of `known` models alone.

        Rules over pairs of tables that are `owed` are asked when those are there; with `pairs` only those
        that read this table of pairs.
        """
        for model in self.schema:
            for rule in model.rules:
                read, paired = reads(model, rule.node), pairs_read(self.schema, rule.node)
                if not read & added or not read <= known:
                    continue
                if paired & owed or pairs and pairs not in paired:
                    continue
                keys = self._keys(model, rule) - self._before.get((model.name, rule.name), set())
                if keys:
                    yield Broken(model, rule, frozenset(keys))

    def rooms(self, broken: Broken, reference: Reference, most: int) -> dict[object, int]:
        """How many more rows may lead to rows of a model by a reference before a rule that counts them breaks.

        Those that `most` may lead to are left out, and all where the rule counts something else.
        """
        found: dict[object, int] = {}
        rule, held, more = broken.rule, 0, 1
        rows = self.database.count(broken.model.table)
        counts = any(_counts(part, reference) for part in walk(rule.node))
        while counts and more <= most and len(found) < rows:
            node = mapped(rule.node, partial(_with, reference=reference, more=more))
            for key in self._keys(broken.model, replace(rule, node=node)):
                found.setdefault(key, held)
            # One by one where rows are few; no more than a fifth is left unused where they are many.
            held, more = more, more + max(1, more // 5)
        return found

    def _keys(self, model: Model, rule: Rule) -> set[object]:
        names = SchemaNames(self.schema)
        sql = self.database.sql(names, zone=self.timezone)
        condition = sql.write(rule.node, model.table)
        return self.database.breaking_keys(
            model.table, names.key(model.name), condition, live=has_bin(model)
        )


def _counts(part: Node, reference: Reference) -> bool:
    """Whether it is how many rows lead to a row by a reference."""
    if not isinstance(part, Aggregate) or part.function != "count" or part.path:
        return False
    return [(hop.model, hop.via) for hop in part.hops] == [(reference.model, reference.name)]


def _with(part: Node, reference: Reference, more: int) -> Node:
    """A count of rows as it is with some more of them; all else as it is."""
    if not _counts(part, reference):
        return part
    assert isinstance(part, Aggregate)
    return Apply("+", (part, Const(more, part.type)), part.type)


def worked_out(
    database: Database, schema: Schema, model: Model, timezone: str
) -> dict[str, dict[object, object]]:
    """What the computed fields of stored rows come to, by the database: values by key, by field."""
    names = SchemaNames(schema)
    keys = database.values(model.table, names.key(model.name))
    key = schema.key_of(model)
    if isinstance(key, Field):
        keys = key.kind.held(decode(key.kind.stored().type, keys)[0].tolist())
    found = {}
    for member in model.computed:
        formula = database.sql(names, zone=timezone).write(member.formula, model.table)
        type_ = member.kind.stored().type
        values, empty = decode(type_, database.computed(model.table, formula, type_))
        held = member.kind.held(values.tolist())
        told = [None if nothing else one for one, nothing in zip(held, empty, strict=True)]
        found[member.name] = dict(zip(keys, told, strict=True))
    return found


def reads(model: Model, node: Node) -> set[str]:
    """The models whose rows an expression of a model reads; pairs count as both of theirs."""
    found = {model.name}
    for part in walk(node):
        if isinstance(part, Value | Aggregate):
            found |= {step.model for step in part.path}
        if isinstance(part, Aggregate):
            found |= {hop.model for hop in part.hops}
    return found
