"""Declaring from the command line: a new model, or more members of one that is there."""

from __future__ import annotations

import re
from collections.abc import Sequence
from pathlib import Path

from ..kinds import kinds
from ..language.diagnostics import Problem, Report
from ..language.layout import INDENT, tidy
from ..language.parser import parse
from ..language.source import Source
from ..problems import WelbikError, nearest
from ..project_files import DECLARATION_LIMIT, list_files, read_file
from .declarations import read_declarations
from .declared import FOLDER, SUFFIX
from .tidying import tidied
from .writing import write_all

_NEAR = 0.7
"""How alike two names are so that one may be a slip for the other."""


class Refused(WelbikError):
    """What was to be added makes problems; nothing was written."""

    def __init__(self, problems: Sequence[Problem]) -> None:
        super().__init__("this can't be added as it is", "nothing was written")
        self.problems = problems


def add(
    root: Path, model: str, members: Sequence[str], about: str = "", *, new: bool = False
) -> tuple[str, bool]:
    """Writes members into their model, new or there already, once all is well.

    A model whose name is nearly that of another is only made where `new` says so.

    Returns the file's name and whether the model is new. Raises Refused with the problems
    that the additions would make.
    """
    for member in members:
        if "\n" in member or not member.strip():
            raise WelbikError(f"{member!r} is no field", 'write: "frames integer 4..24"', status=2)
    name, text, line = _found(root, model)
    is_new = line is None
    declared = read_declarations(root) if list_files(root, FOLDER, SUFFIX) else None
    before = declared.problems if declared else []
    near = nearest(model, list(declared.schema.models), _NEAR) if declared else None
    if is_new and near and not new:
        raise WelbikError(
            f"there is no model {model!r}: did you mean {near}?",
            f"say {near}, or add --new to make another model",
            status=2,
        )
    if before:
        raise WelbikError(
            f"the declarations have {len(before)} problem{'s' * (len(before) != 1)} already",
            "mend those first: welbik check",
        )
    lines = [f"{' ' * INDENT}{member.strip()}" for member in members]
    if is_new:
        head = f"model {model}" + (f" {_quoted(about)}" if about else "")
        block = tidy(f"{head}\n" + "\n".join(lines) + "\n")
        changed = f"{text.rstrip()}\n\n{block}" if text.strip() else block
    else:
        assert line is not None
        physical = text.split("\n")
        indent = re.match(r"[ \t]*", physical[line - 1])
        margin = indent.group() if indent and indent.group() else " " * INDENT
        physical[line:line] = [f"{margin}{member.strip()}" for member in members]
        changed = "\n".join(physical)
    found = read_declarations(root, {name: changed})
    if found.problems:
        raise Refused(found.problems)
    write_all(root, {name: tidied(changed, name) if tidied(text, name) == text else changed})
    return name, is_new


def _quoted(text: str) -> str:
    return '"' + text.replace("\\", "\\\\").replace('"', '\\"') + '"'


def _found(root: Path, model: str) -> tuple[str, str, int | None]:
    """The file to write to, its text, and the line of the model's last field; None if it is new.

    A new model goes into the only file there is, or into one of its own.
    """
    texts = {
        name: (read_file(root, name, DECLARATION_LIMIT) or b"").decode("utf-8", "replace")
        for name in list_files(root, FOLDER, SUFFIX)
    }
    for name, text in texts.items():
        source = Source(name, text)
        for node in parse(source, Report(), tuple(kinds())).models:
            if node.name.text == model:
                spans = [member.name.span for member in node.members] or [node.name.span]
                return name, text, _end_of(text, max(span.place[0] for span in spans))
    if len(texts) == 1:
        return *texts.popitem(), None
    words = re.sub(r"(?<=[a-z0-9])(?=[A-Z])", "_", model).lower()
    return f"{FOLDER}/{words}{SUFFIX}", "", None


def _end_of(text: str, number: int) -> int:
    """The last physical line of the member that begins in a line: deeper ones continue it."""
    lines = text.split("\n")

    def depth(line: str) -> int:
        return len(line) - len(line.lstrip(" \t"))

    end = number
    while (
        end < len(lines) and lines[end].strip() and depth(lines[end]) > depth(lines[number - 1]) > 0
    ):
        end += 1
    return end
