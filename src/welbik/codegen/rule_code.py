"""rules.py: what must not be false, asked of a filled-in form and of stored rows."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

from ..kinds.literals import quote
from ..rules.brought import use
from ..rules.python import Python
from ..rules.tree import Aggregate, Apply, Hop, Node, Step, Value, reads_others, walk
from ..schema.model import Model, Reference, Rule, Schema, Shape
from .python import doc, tuple_of
from .query_code import Queries

Link = Step | Hop


def attribute_of(schema: Schema, model: str, name: str) -> str:
    """The attribute of a model's class that a member is."""
    member = schema.models[model].by_name.get(name) if model in schema.models else None
    return member.attribute if member is not None else name


def rules_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `rules.py.jinja` is filled with."""
    queries = Queries(schema, use.row(model.name), {"RULES"})
    writer = Python(lambda owner, name: attribute_of(schema, owner, name))
    functions: list[str] = []
    entries: list[str] = []
    for rule in model.rules:
        entries.append(_entry(schema, model, rule, queries, writer, functions))
    return {
        "doc": doc(f"what must hold for {model.a_row}"),
        "stand_ins": [table.source() for table in queries.stand_ins.values()],
        "functions": functions,
        "entries": entries,
    }


def _entry(
    schema: Schema,
    model: Model,
    rule: Rule,
    queries: Queries,
    writer: Python,
    functions: list[str],
) -> str:
    arguments = [f"says={quote(rule.say)}"]
    arguments += [f"at={quote(rule.at)}"] if rule.at else []
    if not any(isinstance(part, Aggregate) for part in walk(rule.node)):
        name = f"breaks_{rule.name}"
        functions.append(
            f"def {name}(row: {use.row(model.name)}) -> bool:\n    return {writer.false(rule.node)}"
        )
        arguments.append(f"broken={name}")
    if reads_others(rule.node):
        arguments.append(f"rows={queries.negated(rule.node)}")
        watches = list(_watches(schema, model, rule.node))
        if watches:
            arguments.append(f"watches={tuple_of(watches)}")
    return f"{use.rules}.Rule({', '.join(arguments)})"


def _watches(schema: Schema, model: Model, node: Node) -> Iterator[str]:
    """The other rows that a rule reads: each way to them once, with the fields at its end."""
    ways: dict[tuple[Link, ...], set[str]] = {}
    for way, name in _read(node, ()):
        for length in range(1, len(way) + 1):
            ways.setdefault(way[:length], set())
        if way:
            ways[way].add(name)
    for way, reads in ways.items():
        names = [name for name in sorted(reads) if name]
        shown = f", reads={tuple_of([quote(name) for name in names])}" if names else ""
        condition = _linked(schema, model.name, way)
        yield f"{use.rules}.Watch({use.row(way[-1].model)}, lambda row: {condition}{shown})"


def _read(node: Node, way: tuple[Link, ...]) -> Iterator[tuple[tuple[Link, ...], str]]:
    """Every field that an expression reads: the way to its row, and its name."""
    if isinstance(node, Value):
        yield (*way, *node.path), node.name
    elif isinstance(node, Aggregate):
        inner = (*way, *node.path, *node.hops)
        yield inner, ""
        for part in (node.value, node.where):
            if part is not None:
                yield from _read(part, inner)
    elif isinstance(node, Apply):
        for part in node.operands:
            yield from _read(part, way)


def _key_of(schema: Schema, model: str, name: str) -> str:
    """The attribute of a model's class that holds the key which a reference leads to."""
    reference = schema.models[model].by_name[name]
    assert isinstance(reference, Reference)
    return reference.key_attribute


def _linked(schema: Schema, owner: str, way: tuple[Link, ...]) -> str:
    """The condition on rows of `owner` that the way leads from them to `row`."""
    link, rest = way[0], way[1:]
    rows, linked = use.row(owner), use.row(link.model)
    if isinstance(link, Step):
        column = f"{rows}.{_key_of(schema, owner, link.reference)}"
        if not rest:
            return f"{column} == row.id"
        return (
            f"{column}.in_({use.sa}.select({linked}.id).where({_linked(schema, link.model, rest)}))"
        )
    if not link.via:
        inner = _linked(schema, link.model, rest) if rest else f"{linked}.id == row.id"
        return f"{rows}.{attribute_of(schema, owner, link.name)}.any({inner})"
    column = _key_of(schema, link.model, link.via)
    if not rest:
        return f"{rows}.id == row.{column}"
    inner = _linked(schema, link.model, rest)
    return f"{rows}.id.in_({use.sa}.select({linked}.{column}).where({inner}))"


def shape_rules(shape: Shape) -> list[str]:
    """The rules of a part as arguments of its form field: where, what it says, what breaks it."""
    writer = Python(lambda owner, name: name)
    return [
        f"({quote(rule.at)}, {quote(rule.say)}, lambda row: {writer.false(rule.node)})"
        for rule in shape.rules
    ]
