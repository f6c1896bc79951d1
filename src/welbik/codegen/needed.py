"""Of the code that all projects share, what one needs: what its own code reaches."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator, Mapping

_TEMPLATE = re.compile(r"look/[\w.-]+\.html")
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
    if name.endswith(".py") and "import" in text:
        for module in _modules(ast.parse(text), in_kit="/kit/" in name):
            yield f"{package}/kit/{module}.py"


def _modules(tree: ast.Module, in_kit: bool) -> Iterator[str]:
    for node in ast.walk(tree):
        if not isinstance(node, ast.ImportFrom):
            continue
        path = (node.module or "").split(".")
        if in_kit and node.level == 1:
            yield from [path[0]] if node.module else [one.name for one in node.names]
        elif "kit" in path:
            inner = path[path.index("kit") + 1 :]
            yield from inner[:1] or [one.name for one in node.names]
