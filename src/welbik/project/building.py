"""Building: from declarations to the files of the application."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from difflib import unified_diff

from ..codegen.files import application_files
from ..schema.model import Schema
from .declarations import schema_of
from .settings import Settings
from .writing import Plan, carry_out, plan, read

Tell = Callable[[], None]


def planned(settings: Settings, schema: Schema | None = None, tell: Tell = lambda: None) -> Plan:
    """What building would write; raises WelbikError where the declarations have problems.

    `tell` hears of each model that is done.
    """
    schema = schema or schema_of(settings.root)
    return plan(settings.root, application_files(schema, settings.for_build(), tell))


def build(settings: Settings, schema: Schema | None = None, tell: Tell = lambda: None) -> Plan:
    """Writes what is declared; returns what was done."""
    todo = planned(settings, schema, tell)
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
