"""What is asked of the pairs of many-to-many relations."""

from __future__ import annotations

from collections.abc import Iterator

from ..rules.tree import Aggregate, Apply, Const, Node, plain, walk
from .model import Many, Model, Schema


def pairs_read(schema: Schema, node: Node) -> set[str]:
    """The tables of pairs that an expression reads."""
    hops = [hop for part in walk(node) if isinstance(part, Aggregate) for hop in part.hops]
    members = [schema.models[hop.owner].by_name[hop.name] for hop in hops if not hop.via]
    return {member.table for member in members if isinstance(member, Many)}


def is_asked_of(schema: Schema, many: Many) -> bool:
    """Whether any rule reads the pairs of a relation, from whichever side."""
    rules = [rule.node for model in schema for rule in model.rules]
    return any(many.table in pairs_read(schema, node) for node in rules)


def ends_of(model: Model, many: Many) -> tuple[int, int | None]:
    """How many pairs the rules of a model want a row to have at least and at most, as plain numbers say it."""
    low, high = int(many.required), None
    for node in (part for rule in model.rules for part in asked_by(rule.node)):
        least, most = ends_by(node, many) or (None, None)
        low = low if least is None else max(low, least)
        high = high if most is None else min(most, high if high is not None else most)
    return low, high


def ends_by(node: Node, many: Many) -> tuple[int | None, int | None] | None:
    """Between what a comparison keeps the number of a row's pairs; None where it asks something else."""
    if not isinstance(node, Apply) or node.word not in ("<", "<=", "="):
        return None
    for side in (0, 1):
        count, bound = plain(node.operands[side]), plain(node.operands[1 - side])
        if not isinstance(count, Aggregate) or count.function != "count" or count.path:
            continue
        if [hop.name for hop in count.hops] != [many.name] or count.where is not None:
            continue
        if not isinstance(bound, Const) or not isinstance(bound.value, int):
            continue
        strict = int(node.word == "<")
        least = bound.value + strict if side == 1 or node.word == "=" else None
        most = bound.value - strict if side == 0 or node.word == "=" else None
        return least, most
    return None


def asked_by(node: Node) -> Iterator[Node]:
    """The conditions that all must hold for an expression to."""
    if isinstance(node, Apply) and node.word == "and":
        for part in node.operands:
            yield from asked_by(part)
    else:
        yield node
