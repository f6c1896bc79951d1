"""What is declared of rows and no table can hold, each as a text that tells it from others.

Migrations keep these texts, so that a new one is known, and asked of the rows that are stored.
"""

from __future__ import annotations

from collections.abc import Iterator

from ..kinds.bounds import FromNow
from ..rules.tree import fits_check
from ..schema.model import Field, Many, Model, Reference, Rule


def promises_of(model: Model) -> Iterator[str]:
    """All of a model's, in the order of its declaration."""
    for field in model.fields:
        yield from of_field(field)
    for reference in model.references:
        if reference.target == model.name and not reference.loops:
            yield of_tree(reference)
    for many in model.many:
        if many.required and many.declares:
            yield of_many(many)
    for rule in model.rules:
        if not fits_check(rule.node):
            yield of_rule(rule)


def of_field(field: Field) -> Iterator[str]:
    """A pattern, bounds that move with the clock, and what the entries of a list are."""
    if field.pattern is not None:
        yield of_pattern(field)
    if moves(field):
        yield of_bounds(field)
    if field.kind.part:
        yield of_list(field)


def of_pattern(field: Field) -> str:
    assert field.pattern is not None
    return f'{field.name} matches "{field.pattern.text}"'


def moves(field: Field) -> bool:
    """Whether an end of a field's range moves with the clock."""
    bounds = getattr(field.kind, "bounds", None)
    return bounds is not None and any(isinstance(end, FromNow) for end in bounds)


def of_bounds(field: Field) -> str:
    return f"{field.name} {field.kind.describe()}"


def of_list(field: Field) -> str:
    """All that is declared of the entries."""
    shape = field.shape
    said = []
    for part in shape.fields if shape is not None else ():
        words = [part.name, part.kind.describe(), *(["required"] if part.required else [])]
        words += [f'matches "{part.pattern.text}"'] if part.pattern is not None else []
        said.append(" ".join(words))
    said += [f"rule {rule.text}" for rule in (shape.rules if shape is not None else ())]
    return f"{field.name} {field.kind.describe()}: {'; '.join(said)}"


def fields_in(promise: str) -> set[str]:
    """The fields of entries that the promise of their list names."""
    said = promise.partition(": ")[2].split("; ")
    return {part.split(" ")[0] for part in said if part and not part.startswith("rule ")}


def of_tree(reference: Reference) -> str:
    return f"{reference.name} without loops"


def of_many(many: Many) -> str:
    return f"{many.name} required"


def of_rule(rule: Rule) -> str:
    return f"rule {rule.text}"


def is_rule(promise: str) -> bool:
    """Whether a promise is a rule, which may read rows of other tables."""
    return promise.startswith("rule ")
