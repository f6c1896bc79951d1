"""What commands share: the project option, and how things are said."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

if TYPE_CHECKING:
    from ..project.settings import Settings

_COLOURS = {
    "problem": "bright_red",
    "place": "bright_black",
    "caret": "bright_red",
    "remedy": "green",
    "command": "cyan",
    "good": "green",
    "warning": "yellow",
    "muted": "bright_black",
}


def paint(role: str, text: str) -> str:
    """A text dressed for its role; plain where the output is no terminal."""
    return click.style(text, fg=_COLOURS[role])


def project_option(function: Callable[..., Any]) -> Callable[..., Any]:
    """`--project DIR`, given to the command as its settings."""
    option = click.option(
        "--project",
        "settings",
        default=".",
        metavar="DIR",
        help="The project's folder; this one or one above it, unless said.",
        callback=_settings,
    )
    return option(function)


def _settings(context: click.Context, parameter: click.Parameter, value: str) -> Settings:
    from ..project.settings import read_settings
    from ..project.writing import finish_if_free

    settings = read_settings(Path(value))
    finish_if_free(settings.root)
    return settings


def count(number: int, noun: str, plural: str = "") -> str:
    return f"{number:,} {noun if number == 1 else plural or noun + 's'}"
