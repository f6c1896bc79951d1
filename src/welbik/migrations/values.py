"""What stored rows get: expressions over tables as they are before a migration changes them.

In a migration's file a column is called as the rules of its table call it, a reference is
followed by its column's name without `_id`, and the rows of another table that refer to a row
are called as their table is: `apiary.region`, `max(harvest.kg)`.
"""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field, replace

from ..kinds.base import value_type
from ..language.cursor import Cursor, Skip
from ..language.diagnostics import Report
from ..language.expressions import expression
from ..language.lexer import lines
from ..language.source import Source
from ..problems import WelbikError
from ..rules.text import as_text
from ..rules.tree import Aggregate, Apply, Held, Hop, Node, Step, Value
from ..schema.entries import REMOVED, Entry
from ..schema.expressions import change
from ..schema.model import Schema
from ..storage.forms import how
from ..storage.tables import Column, Tables, spelled


@dataclass
class Rows:
    """What the names in an expression stand for, over some tables."""

    tables: Tables
    scope: dict[str, dict[str, Entry]] = field(default_factory=dict)
    columns: dict[tuple[str, str], str] = field(default_factory=dict)
    pairs: dict[tuple[str, str], tuple[str, str, str]] = field(default_factory=dict)

    # Names, as `rules.sql` asks for them.

    def table(self, model: str) -> str:
        return model

    def key(self, model: str) -> str:
        return self.tables[model].own

    def column(self, model: str, name: str) -> str:
        return self.columns.get((model, name), name)

    def how(self, model: str, name: str) -> Held | None:
        return how(self.tables[model].column(self.column(model, name)))

    def joined(self, owner: str, name: str) -> tuple[str, str, str]:
        return self.pairs[owner, name]

    def add(self, table: str, name: str, column: Column, *, path: bool = False) -> None:
        """A name for a column; with `path` one that its reference is followed by."""
        if name in self.scope[table]:
            return
        self.columns[table, name] = column.name
        if path:
            found = Entry("reference", required=column.required, target=column.references)
        else:
            found = Entry("value", value_type(column.type), column.required)
        self.scope[table][name] = found


def followed(column: Column) -> str:
    """What a reference is called in a path: its column without `_id`."""
    name = column.name
    return spelled(name.removesuffix("_id") if name != "_id" else name)


def rows_of(tables: Tables) -> Rows:
    """The names that expressions in migrations have."""
    found = Rows(tables)
    for name, table in tables.items():
        # Keys that are numbers of their own are called id, whatever else there is.
        found.scope[name] = {}
        for column in table.columns:
            if column.name == REMOVED:
                found.scope[name][REMOVED] = Entry("removal")
            elif not (column.references and followed(column) == spelled(column.name)):
                found.add(name, spelled(column.name), column)
    for name, table in tables.items():
        for column in table.columns:
            if column.references in tables:
                found.add(name, followed(column), column, path=True)
    for name, table in tables.items():
        for column in table.columns:
            if column.references in tables:
                _collection(found, column.references, spelled(name), name, followed(column))
    return found


def _collection(found: Rows, owner: str, name: str, child: str, via: str) -> None:
    found.scope[owner].setdefault(name, Entry("collection", target=child, via=via))


def declared(
    tables: Tables, schema: Schema, renamed: Mapping[tuple[str, str], str] | None = None
) -> Rows:
    """The names that declarations have besides: members, collections, and what was renamed.

    `renamed` has the column that a table has now for each that it had.
    """
    found = rows_of(tables)
    for (table, old), now in (renamed or {}).items():
        column = tables[table].column(now)
        if column is not None:
            found.scope[table].pop(spelled(old), None)
            found.add(table, spelled(old), column)
            if column.references:
                was = followed(replace(column, name=old))
                found.scope[table].pop(was, None)
                found.add(table, was, column, path=True)
    for model in schema:
        if model.table not in tables:
            continue
        for member in model.members:
            column = tables[model.table].column(member.column)
            if column is not None:
                found.add(model.table, member.name, column, path=bool(column.references))
        for collection in model.collections:
            child = schema.models[collection.child]
            via = child.by_name[collection.via]
            column = tables[child.table].column(via.column) if child.table in tables else None  # type: ignore[union-attr]
            if column is not None:
                _collection(found, model.table, collection.name, child.table, followed(column))
    return found


def read(rows: Rows, table: str, text: str) -> Node | str:
    """The typed expression of a text over a table's rows; what is wrong with it, where it is none."""
    report = Report()
    try:
        found = lines(Source("value", text), report)
        cursor = Cursor(found[0], report)
        written = expression(cursor)
        node = change(written, table, rows.scope, report) if cursor.now.kind == "end" else None
    except (Skip, IndexError):
        node = None
    if node is not None:
        return node
    said = [f"{p.message}; {p.remedy}" if p.remedy else p.message for p in report.problems()]
    return said[0] if said else f"{text!r} is no expression"


def node_of(rows: Rows, table: str, text: str) -> Node:
    """As `read`; raises WelbikError where a migration's file says what can't be read."""
    found = read(rows, table, text)
    if isinstance(found, str):
        raise WelbikError(
            f"the value {text!r} for rows of {table} makes no sense: {found}",
            "correct it in the newest file of migrations/, or bring it back from version control",
        )
    return found


def in_a_file(rows: Rows, node: Node) -> str:
    """The text of an expression with the names that migrations have."""
    return as_text(_named(rows, node))


def _named(rows: Rows, node: Node) -> Node:
    if isinstance(node, Value):
        path = tuple(_step(rows, step) for step in node.path)
        column = rows.column(node.model, node.name)
        kept = rows.tables[node.model].column(column)
        if node.type.name == "row" and kept is not None:
            name = followed(kept)
        else:
            name = spelled(column)
        return replace(node, path=path, name=name)
    if isinstance(node, Apply):
        return replace(node, operands=tuple(_named(rows, part) for part in node.operands))
    if isinstance(node, Aggregate):
        where = _asked(node.where)
        return replace(
            node,
            path=tuple(_step(rows, step) for step in node.path),
            hops=tuple(_hop(hop) for hop in node.hops),
            value=_named(rows, node.value) if node.value is not None else None,
            where=_named(rows, where) if where is not None else None,
        )
    return node


def _asked(where: Node | None) -> Node | None:
    """A condition as it was written: that rows are not in the bin is said again when it is read."""
    if isinstance(where, Apply) and where.word == "and" and _is_live(where.operands[0]):
        return _asked(where.operands[1])
    return None if where is None or _is_live(where) else where


def _is_live(node: Node) -> bool:
    return (
        isinstance(node, Apply)
        and node.word == "empty"
        and isinstance(node.operands[0], Value)
        and node.operands[0].name == REMOVED
    )


def _step(rows: Rows, step: Step) -> Step:
    column = rows.tables[step.owner].column(rows.column(step.owner, step.reference))
    assert column is not None
    return replace(step, reference=followed(column))


def _hop(hop: Hop) -> Hop:
    return replace(hop, name=spelled(hop.model))


def reads(node: Node) -> Iterable[tuple[str, str]]:
    """The tables and names that an expression reads."""
    if isinstance(node, Value):
        yield node.model, node.name
    elif isinstance(node, Apply):
        for part in node.operands:
            yield from reads(part)
    elif isinstance(node, Aggregate) and node.value is not None:
        yield from reads(node.value)
