"""Of the code that all projects share, what one needs: what its own code reaches."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping

_TEMPLATE = re.compile(r"look/[\w.-]+\.html")
# Imports stand on lines of their own, in what is generated and in the kit.
_IMPORT = re.compile(r"^\s*from (\S+) import (\([^)]*\)|.*)", re.MULTILINE)
_ALWAYS = ("kit/__init__.py", "look/static/")


def needed(copied: Mapping[str, str], named: Iterable[str]) -> dict[str, str]:
    """The files of `copied` that are `named`, and those that these import or show in turn.

    By their path in the application, as `reached` has it.
    """
    todo = {name for name in copied if name.startswith(_ALWAYS)} | {*named} & copied.keys()
    found: set[str] = set()
    while todo:
        name = todo.pop()
        found.add(name)
        todo |= reached({name: copied[name]}, name.startswith("kit/")) & copied.keys() - found
    return {name: text for name, text in copied.items() if name in found}


def reached(files: Mapping[str, str], in_kit: bool = False) -> set[str]:
    """What files name: templates in quotes, and modules of the kit; by their path in the
    application, of which not all need be there. Within the kit modules are named otherwise."""
    found = set()
    for name, text in files.items():
        found |= {*_TEMPLATE.findall(text)}
        if name.endswith(".py"):
            found |= {f"kit/{module}.py" for module in _modules(text, in_kit)}
    return found


def _modules(text: str, in_kit: bool) -> Iterator[str]:
    for path, names in _IMPORT.findall(text):
        parts = path.lstrip(".").split(".")
        if in_kit and path.startswith(".") and not path.startswith(".."):
            inner = parts if parts != [""] else []
        elif "kit" in parts:
            inner = parts[parts.index("kit") + 1 :]
        else:
            continue
        yield from inner[:1] or re.findall(r"(\w+)(?: as \w+)?", names)
