"""Python source, laid out as the usual formatter leaves it, at 88 columns."""

from __future__ import annotations

from collections.abc import Iterable, Mapping, Sequence
from dataclasses import dataclass
from typing import Union

from ..kinds.literals import escaped, quote
from ..language import diagnostics
from ..rules.brought import unmarked
from .html import title

WIDTH = 88


def width(source: str) -> int:
    """The columns that source takes, once its imports are told."""
    return diagnostics.width(unmarked(source))


Argument = Union[str, "Call"]


@dataclass(frozen=True)
class Call:
    """A call among the arguments of another; long ones are laid out like it."""

    head: str
    arguments: Sequence[Argument]

    def __str__(self) -> str:
        return f"{self.head}({', '.join(map(str, self.arguments))})"


def call(
    head: str,
    arguments: Sequence[Argument],
    *,
    indent: int = 0,
    tail: str = "",
    brackets: str = "()",
) -> str:
    """`head(arguments)` on one line, or on three, or with one argument a line: what fits first.

    `head` holds all that comes before the bracket, `tail` what follows the other one.
    """
    margin = " " * indent
    opening, closing = brackets[0], brackets[1]
    joined = ", ".join(map(str, arguments))
    line = f"{margin}{head}{opening}{joined}{closing}{tail}"
    if width(line) <= WIDTH or not arguments:
        return line
    if len(margin) + 4 + width(joined) <= WIDTH:
        return f"{margin}{head}{opening}\n{margin}    {joined}\n{margin}{closing}{tail}"
    inner = "".join(f"{argument_line(argument, indent + 4)}\n" for argument in arguments)
    return f"{margin}{head}{opening}\n{inner}{margin}{closing}{tail}"


def argument_line(argument: Argument, indent: int) -> str:
    """An argument on a line of its own, or on several, with its comma."""
    if isinstance(argument, Call):
        return call(argument.head, argument.arguments, indent=indent, tail=",")
    return f"{' ' * indent}{argument},"


def chain(
    head: str, root: str, links: Sequence[tuple[str, Sequence[Argument]]], *, indent: int = 0
) -> str:
    """`head root.link(…).link(…)`: on one line, or with one link a line between brackets."""
    margin = " " * indent
    whole = root + "".join(f".{name}({', '.join(map(str, given))})" for name, given in links)
    line = f"{margin}{head}{whole}"
    if width(line) <= WIDTH or not links:
        return line
    if len(links) == 1:
        name, arguments = links[0]
        return call(f"{head}{root}.{name}", arguments, indent=indent)
    inner = "\n".join(call(f".{name}", arguments, indent=indent + 4) for name, arguments in links)
    return f"{margin}{head}(\n{margin}    {root}\n{inner}\n{margin})"


def line(head: str, value: str, *, indent: int = 0) -> str:
    """`head value`, with the value between brackets on a line of its own where it only fits so."""
    margin = " " * indent
    if width(f"{margin}{head}{value}") <= WIDTH or len(margin) + 4 + width(value) > WIDTH:
        return f"{margin}{head}{value}"
    return f"{margin}{head}(\n{margin}    {value}\n{margin})"


def mapping(head: str, items: Iterable[tuple[str, str]], *, indent: int = 0) -> str:
    """A dict with one entry a line; keys and values are source."""
    margin = " " * indent
    inner = "".join(f"{margin}    {key}: {value},\n" for key, value in items)
    return f"{margin}{head}{{\n{inner}{margin}}}" if inner else f"{margin}{head}{{}}"


def tuple_of(items: Sequence[str]) -> str:
    """A tuple of some source; a trailing comma only where it needs one."""
    return f"({items[0]},)" if len(items) == 1 else f"({', '.join(items)})"


def keywords(arguments: Mapping[str, str]) -> list[str]:
    return [f"{name}={value}" for name, value in arguments.items()]


def _import_order(name: str) -> tuple[int, str]:
    """Constants, then classes, then the rest, as import sorters have it."""
    return (0 if name.isupper() else 1 if name[0].isupper() else 2, name.lower())


def from_import(module: str, names: Iterable[str]) -> str:
    """`from module import a, b`, split where it is too long."""
    wanted = sorted(set(names), key=_import_order)
    line = f"from {module} import {', '.join(wanted)}"
    if width(line) <= WIDTH:
        return line
    return f"from {module} import (\n" + "".join(f"    {name},\n" for name in wanted) + ")"


def doc(text: str) -> str:
    """A sentence fit for a docstring."""
    flat = " ".join(text.split()).replace("\\", "\\\\").replace('"""', "'''")
    # What turns a line round or hides in it would make a reader see other code than runs.
    flat = "".join(c if c.isprintable() else quote(c)[1:-1] for c in flat)
    flat = title(flat)
    return flat if flat.endswith((".", "!", "?")) else f"{flat}."


def fstring(*parts: str) -> str:
    """An f-string; parts alternate between plain text and expressions, text first."""
    plain = "".join(parts[::2])
    mark = "'" if plain.count('"') > plain.count("'") else '"'
    out = []
    for number, part in enumerate(parts):
        text = escaped(part.replace("{", "{{").replace("}", "}}"), mark)
        out.append(text if number % 2 == 0 else f"{{{part}}}")
    return f"f{mark}{''.join(out)}{mark}"
