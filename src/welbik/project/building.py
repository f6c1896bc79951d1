"""Building: from declarations to the files of the application."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from difflib import unified_diff
from pathlib import Path

from ..codegen.files import application_files
from ..problems import WelbikError
from ..schema.model import Schema
from ..schema.names import snake
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


def build(
    settings: Settings,
    schema: Schema | None = None,
    tell: Tell = lambda: None,
    agreed: Callable[[Plan], bool] = lambda todo: True,
) -> Plan:
    """Writes what is declared; returns what was done.

    `agreed` is asked before the code of models goes that are not declared any more; where it
    is not agreed to, nothing is written and WelbikError raised.
    """
    todo = ready(settings, schema, tell, agreed)
    carry_out_plan(settings, todo)
    return todo


def ready(
    settings: Settings,
    schema: Schema | None = None,
    tell: Tell = lambda: None,
    agreed: Callable[[Plan], bool] = lambda todo: True,
) -> Plan:
    """What `build` is about to write, agreed to: nothing is written yet."""
    todo = planned(settings, schema, tell)
    # What was renamed is not lost.
    renamed = {snake(model.was) for model in schema or schema_of(settings.root) if model.was}
    losses = [folder for folder in todo.losses if Path(folder).name not in renamed]
    if losses and not agreed(todo):
        raise WelbikError(
            f"no model asks for {', '.join(losses)} any more: that code would go",
            "bring the model back, or allow it: welbik build --allow-loss; nothing was written",
        )
    return todo


def carry_out_plan(settings: Settings, todo: Plan) -> None:
    """Writes what is ready to be written."""
    if todo or todo.record:
        carry_out(settings.root, todo)


def differences(settings: Settings) -> Iterator[str]:
    """The lines that building would change, and those that edited files lack, as unified diffs."""
    todo = planned(settings)
    for name, text in (todo.write | todo.edited).items():
        old = read(settings.root / name) or ""
        lines = unified_diff(
            old.splitlines(), text.splitlines(), name, f"{name} (as declared)", lineterm=""
        )
        yield "\n".join(lines)
