"""Laying out declarations in the standard way, without ever changing what they mean."""

from __future__ import annotations

from pathlib import Path
from typing import Any

from ..kinds import kinds
from ..language.diagnostics import Report
from ..language.layout import tidy
from ..language.parser import parse
from ..language.source import Source, Span
from ..problems import WelbikError
from ..project_files import DECLARATION_LIMIT, list_files, read_file
from .declared import FOLDER, SUFFIX
from .writing import write_all


def tidied(text: str, name: str) -> str:
    """The text in the standard layout; WelbikError where it can't be read well enough."""
    laid_out = tidy(text)
    before, after = meaning(text), meaning(laid_out)
    if before != after:
        raise WelbikError(
            f"{name} can't be laid out: some of it can't be read", "mend it first: welbik check"
        )
    return laid_out


def meaning(text: str) -> tuple[Any, list[str]]:
    """What a file's text says: its tree without places, and the problems of reading it."""
    report = Report()
    tree = parse(Source("tidy", text), report, tuple(kinds()))
    return _plain(tree), sorted(problem.code for problem in report.problems())


def _plain(node: Any) -> Any:
    """A tree as plain values, places left out; modifiers that may stand in any order are sorted."""
    if isinstance(node, Span):
        return None
    if hasattr(node, "__dataclass_fields__"):
        return [(name, _plain(getattr(node, name))) for name in node.__dataclass_fields__]
    if isinstance(node, tuple) and hasattr(node, "_fields"):
        found = [(name, _plain(value)) for name, value in zip(node._fields, node, strict=True)]
        return [(n, _sorted(v) if n == "modifiers" else v) for n, v in found]
    if isinstance(node, list | tuple):
        return [_plain(part) for part in node]
    return node


def _sorted(modifiers: list[Any]) -> list[str]:
    """Modifiers in one order, each `say` with the check before it."""
    groups: list[str] = []
    for modifier in modifiers:
        text = repr(modifier)
        if dict(modifier)["word"][0][1] == "say" and groups:
            groups[-1] += text
        else:
            groups.append(text)
    return sorted(groups)


def tidy_project(root: Path, *, write: bool) -> dict[str, tuple[str, str]]:
    """The files that are laid out otherwise, as they are and as they should be.

    With `write` they are written so, all or none.
    """
    found: dict[str, tuple[str, str]] = {}
    for name in list_files(root, FOLDER, SUFFIX):
        try:
            text = (read_file(root, name, DECLARATION_LIMIT) or b"").decode("utf-8")
        except (OSError, UnicodeDecodeError) as error:
            raise WelbikError(f"{name} can't be read: {error}", "see: welbik check") from None
        laid_out = tidied(text, name)
        if laid_out != text:
            found[name] = (text, laid_out)
    if write and found:
        write_all(root, {name: after for name, (_, after) in found.items()})
    return found
