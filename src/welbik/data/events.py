"""What is drawn, told by model and member, and what of it an expression reads."""

from __future__ import annotations

from collections.abc import Iterator

from ..rules.tree import Aggregate, Hop, Node, Value, walk

Event = tuple[str, str]
"""A member of a model: all that is drawn is drawn by these."""


def reads(node: Node) -> set[Event]:
    """The members that an expression reads, of its own row and of others."""
    found: set[Event] = set()
    for part in walk(node):
        if isinstance(part, Value):
            found |= {(step.owner, step.reference) for step in part.path}
            found.add((part.model, part.name))
        elif isinstance(part, Aggregate):
            found |= {(step.owner, step.reference) for step in part.path}
            found |= {(hop.model, hop.via) for hop in part.hops if hop.via}
    return found


def hops(node: Node) -> Iterator[Hop]:
    """The ways to many rows that an expression takes."""
    for part in walk(node):
        if isinstance(part, Aggregate):
            yield from part.hops
