"""Of the code that all projects share, what one needs: what its own code reaches."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping

_TEMPLATE = re.compile(r"look/[\w.-]+\.html")
# Imports stand on lines of their own, in what is generated and in the kit.
_IMPORT = re.compile(r"^\s*from (\S+) import (\([^)]*\)|.*)", re.MULTILINE)
_ALWAYS = ("kit/__init__.py", "look/static/")


def needed(copied: Mapping[str, str], made: Mapping[str, str], package: str) -> dict[str, str]:
    """The files of `copied` that those `made` import or show, and what these do in turn."""
    found = {name for name in copied if name.removeprefix(f"{package}/").startswith(_ALWAYS)}
    todo = [*made.items(), *((name, copied[name]) for name in found)]
    while todo:
        name, text = todo.pop()
        for other in _reached(name, text, package):
            if other in copied and other not in found:
                found.add(other)
                todo.append((other, copied[other]))
    return {name: text for name, text in copied.items() if name in found}


def _reached(name: str, text: str, package: str) -> Iterator[str]:
    """What a file names: templates in quotes, and modules of the kit."""
    for template in _TEMPLATE.findall(text):
        yield f"{package}/{template}"
    if name.endswith(".py"):
        for module in _modules(text, in_kit="/kit/" in name):
            yield f"{package}/kit/{module}.py"


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
