"""Two people changing the same row: what each of them changed, field by field."""

from __future__ import annotations

import hashlib
from collections.abc import Mapping
from typing import NamedTuple

from .fields import Field
from .show import NOTHING


class Difference(NamedTuple):
    """A field that others changed; `both` where this form changes it too, to another value."""

    name: str
    label: str
    stored: str
    mine: str
    both: bool


def digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()[:12]


def digests(fields: Mapping[str, Field], typed: Mapping[str, str]) -> str:
    """What each field held, told apart without telling it."""
    return ".".join(digest(fields[name].flat(text)) for name, text in typed.items())


def between(
    fields: Mapping[str, Field],
    mine: Mapping[str, str],
    opened_with: str,
    stored: Mapping[str, str],
) -> list[Difference]:
    """What was stored since a form was opened, and differs from what it holds.

    `opened_with` are the digests of what the fields held then.
    """
    opened = opened_with.split(".")
    if len(opened) != len(fields):
        opened = [""] * len(fields)
    found = []
    for (name, field), before, now in zip(
        fields.items(), opened, digests(fields, stored).split("."), strict=True
    ):
        typed = field.flat(mine[name])
        if before == now or typed == field.flat(stored[name]):
            continue
        both = digest(typed) != before
        told = [field.told(text) or NOTHING for text in (stored[name], mine[name])]
        found.append(Difference(name, field.label, told[0], told[1], both))
    return found
