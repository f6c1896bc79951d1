"""Building: from declarations to the files of the application."""

from __future__ import annotations

from collections.abc import Iterator
from difflib import unified_diff

from ..codegen.files import application_files
from .declarations import schema_of
from .settings import Settings
from .writing import Plan, carry_out, plan, read


def planned(settings: Settings) -> Plan:
    """What building would write; raises WelbikError where the declarations have problems."""
    return plan(settings.root, application_files(schema_of(settings.root), settings.for_build()))


def build(settings: Settings) -> Plan:
    """Writes what is declared; returns what was done."""
    todo = planned(settings)
    if todo or todo.record:
        carry_out(settings.root, todo)
    return todo


def differences(settings: Settings) -> Iterator[str]:
    """The lines that building would change, and those that edited files lack, as unified diffs."""
    todo = planned(settings)
    for name, text in (todo.write | todo.edited).items():
        old = read(settings.root / name) or ""
        lines = unified_diff(
            old.splitlines(), text.splitlines(), name, f"{name} (as declared)", lineterm=""
        )
        yield "\n".join(lines)
