"""The indexes that lists ask for: their pages stay quick in long tables."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from ..schema.model import Field, Model, Reference, Schema

# No database takes much more than 2,700 bytes, of texts four a letter.
_WIDEST = 2_000
_WHOLE = 4 * 255
_MOST_BESIDE = 4


def list_indexes(model: Model, schema: Schema) -> Iterable[tuple[tuple[str, ...], int]]:
    """The columns of each index that the list of a model is sorted and filtered by, and behind
    how many of them the key stands.

    A filter by choices has the order of the list behind it, and what else may be filtered by:
    such rows are then read in their order, and met with the other filters, in the index alone.
    """
    if "list" not in model.pages:
        return
    sort = [model.by_name.get(key.name) for key in model.sort]
    if len(sort) > 1 and all(_has_order(member) for member in sort):
        yield tuple(m.column for m in sort if isinstance(m, Field | Reference)), 0
    order = _order(model)
    for name in dict.fromkeys((*(key.name for key in model.sort), *model.columns, *model.filters)):
        member = model.by_name.get(name)
        # References have an index anyway, and so has what is unique among all rows.
        unique = isinstance(member, Field) and member.unique and "bin" not in model.keeps
        if not isinstance(member, Field) or not _has_order(member) or unique:
            continue
        in_order = order and name in model.filters and _is_choice(member)
        yield _chosen(member, order, model, schema) if in_order else ((member.column,), 0)


def _has_order(member: object) -> bool:
    if isinstance(member, Reference):
        return True
    if not isinstance(member, Field):
        return False
    word, *numbers = member.kind.stored().type.split()
    return word != "json" and (word != "text" or bool(numbers))


def _is_choice(member: Field) -> bool:
    stored = member.kind.stored()
    return bool(stored.among) or stored.type == "boolean"


def _order(model: Model) -> list[Field]:
    """What a list is sorted by, where an index has rows in that order; else nothing."""
    found: list[Field] = []
    for key in model.sort:
        member = model.by_name.get(key.name)
        # Empty values come last in a list, and choices in the order that they were declared in.
        if not isinstance(member, Field) or not _has_order(member) or _is_choice(member):
            return []
        # Of long texts some databases index the beginning alone.
        if _width(member) > _WHOLE:
            return []
        if key.descending != model.sort[0].descending or found and not member.required:
            return []
        found.append(member)
    return [] if model.keyless else found


def _chosen(
    choice: Field, order: Sequence[Field], model: Model, schema: Schema
) -> tuple[tuple[str, ...], int]:
    """The index of a filter by choices: the choice, the order, the key, and what else is asked."""
    if sum(map(_width, (choice, *order))) > _WIDEST:
        return (choice.column,), 0
    first = [choice.column, *(field.column for field in order)]
    others = [model.by_name.get(name) for name in model.filters]
    beside = [m.column for m in others if isinstance(m, Field) and _is_short(m)]
    beside = [column for column in beside if column not in first][:_MOST_BESIDE]
    owner = schema.owner_of(model)
    beside += [owner.column] if owner else []
    return tuple(dict.fromkeys([*first, *beside])), len(first)


def _is_short(member: Field) -> bool:
    return _has_order(member) and (
        _is_choice(member) or not member.kind.stored().type.startswith("text")
    )


def _width(member: Field) -> int:
    """The bytes that a column takes in an index, at most."""
    word, *numbers = member.kind.stored().type.split()
    return 4 * int(numbers[0]) if word == "text" else 8
