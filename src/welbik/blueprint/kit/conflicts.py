"""Two people changing the same row: what each of them changed, field by field."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import TYPE_CHECKING, NamedTuple

from .fields import Field
from .show import NOTHING

if TYPE_CHECKING:
    from .forms import Entry


class Difference(NamedTuple):
    """A field that others changed; `both` where this form changes it too, to another value."""

    name: str
    label: str
    stored: str
    mine: str
    both: bool


def digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:12]


def between(
    fields: Mapping[str, Field], mine: Entry, stored: Entry
) -> list[Difference]:
    """What was stored since a form was opened, and differs from what it holds."""
    opened = mine.seen.split(".")
    if len(opened) != len(fields):
        opened = [""] * len(fields)
    found = []
    for (name, field), before, now in zip(
        fields.items(), opened, stored.seen.split("."), strict=True
    ):
        typed = field.tidy(mine.typed[name])
        if before == now or typed == stored.typed[name]:
            continue
        both = digest(typed) != before
        told = [field.told(text) or NOTHING for text in (stored.typed[name], typed)]
        found.append(Difference(name, field.label, told[0], told[1], both))
    return found
