"""Members as typed expressions."""

from __future__ import annotations

from ..rules.tree import Type, Value
from .model import Field, Reference
from .scope import value_type


def of_reference(reference: Reference) -> Value:
    """The row that a reference leads to."""
    kind = Type("row", model=reference.target)
    return Value(reference.model, reference.name, kind, (), not reference.required)


def of_field(field: Field) -> Value:
    """What a field holds."""
    return Value(field.model, field.name, value_type(field), (), not field.required)
