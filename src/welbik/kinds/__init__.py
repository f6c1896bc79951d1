"""One file per field type. A file that defines a `Kind` with a `word` is found here."""

from __future__ import annotations

from functools import cache
from importlib import import_module
from pkgutil import iter_modules

from .base import Kind

_HELPERS = {"base", "bounds", "formed", "literals"}


@cache
def kinds() -> dict[str, type[Kind]]:
    """Every field type by the word that names it, in alphabetical order."""
    found: dict[str, type[Kind]] = {}
    for module in iter_modules(__path__):
        if module.name in _HELPERS:
            continue
        for value in vars(import_module(f"{__name__}.{module.name}")).values():
            if (
                isinstance(value, type)
                and issubclass(value, Kind)
                and value.__module__.endswith("." + module.name)
            ):
                found[value.word] = value
    return dict(sorted(found.items()))
