"""What developers do to generated files: a line, an argument, a method, a column, a style.

Every edit can be undone by what it says of itself, so that what a merge made of it and of a change of
the declarations must be exactly that change once the edit is taken out again.
"""

from __future__ import annotations

import ast
import re
from collections.abc import Callable
from dataclasses import dataclass, replace
from random import Random

MARK = "mine_"


@dataclass(frozen=True)
class Edit:
    """A text with something done to it: `undo` takes it out of any text that has it."""

    what: str
    text: str
    undo: Callable[[str], str]
    kept: Callable[[str], bool]
    """Whether a text has it."""

    within: str = ""
    """What it was done to: once that is declared no more, nobody can have both."""

    on: Callable[[str], str] = lambda text: text
    """What the same does to a text where nothing can be undone: something was taken out."""


def edit(name: str, text: str, random: Random) -> Edit | None:
    """Some edit of a file; None where it has nothing for the one that came up."""
    ways = _PYTHON if name.endswith(".py") else _TEMPLATE if name.endswith(".html") else _LINES
    return random.choice(ways)(text, random)


def _lines_with(word: str) -> Callable[[str], str]:
    return lambda text: "".join(line for line in text.splitlines(keepends=True) if word not in line)


def _put_in(what: str, text: str, at: int, line: str, within: str = "") -> Edit:
    """An edit that is a line of its own, before the line `at`, from 1 on."""
    lines = text.splitlines(keepends=True)
    lines.insert(at - 1, line)
    word = re.search(rf"{MARK}\d+", line)[0]  # type: ignore[index]
    return Edit(what, "".join(lines), _lines_with(word), lambda found: word in found, within)


def _number(random: Random) -> str:
    return f"{MARK}{random.randrange(10**6)}"


def _statement(text: str, random: Random) -> Edit | None:
    """A statement more in a function."""
    functions = [f for f in ast.walk(ast.parse(text)) if isinstance(f, ast.FunctionDef)]
    if not functions:
        return None
    function = random.choice(functions)
    one = random.choice(function.body)
    if one.lineno == function.lineno:
        return None
    line = f"{' ' * one.col_offset}{_number(random)} = 1\n"
    return _put_in("statement", text, one.lineno, line, f"def {function.name}(")


def _method(text: str, random: Random) -> Edit | None:
    """A method more in a class, before one that is there."""
    places = [
        (one, inner)
        for one in ast.walk(ast.parse(text))
        if isinstance(one, ast.ClassDef)
        for inner in one.body
        if isinstance(inner, ast.FunctionDef)
    ]
    if not places:
        return None
    one, inner = random.choice(places)
    at = min([inner.lineno, *(d.lineno for d in inner.decorator_list)])
    line = f"    def {_number(random)}(self) -> int: return 1\n"
    return _put_in("method", text, at, line, f"class {one.name}")


def _function(text: str, random: Random) -> Edit:
    """A function more, between two statements or at the end."""
    body = ast.parse(text).body
    places = [one.end_lineno or 0 for one in body]
    at = random.choice(places) + 1
    return _put_in("function", text, at, f"def {_number(random)}() -> int: return 1\n")


def _remark(text: str, random: Random) -> Edit:
    body = ast.parse(text).body[1:] or ast.parse(text).body
    one = random.choice(body)
    at = min([one.lineno, *(d.lineno for d in getattr(one, "decorator_list", []))])
    return _put_in("comment", text, at, f"# {_number(random)}\n")


def _item(text: str, random: Random) -> Edit | None:
    """An item more in a list that has a line for each."""
    fits = _items(text)
    if not fits:
        return None
    line, match = random.choice(fits)
    word = _number(random)
    found = _put_in("item", text, line, f'{match[1]}"{word}",\n')
    out = re.compile(rf'"{word}",\s*|,\s*"{word}"')
    return replace(found, undo=lambda one: out.sub("", one))


def _out(text: str, random: Random) -> Edit | None:
    """An item less."""
    lines = text.splitlines(keepends=True)
    fits = [line for line, _ in _items(text) if lines.count(lines[line - 1]) == 1]
    return _taken_out("out", text, lines[random.choice(fits) - 1]) if fits else None


def _element_out(text: str, random: Random) -> Edit | None:
    """An element less: a cell, a field of the form."""
    lines = text.splitlines(keepends=True)
    fits = [
        line
        for line in lines
        if re.match(r" *(<td.*</td>|\{\{ .* \}\}|<p.*</p>|<h1.*</h1>)$", line)
        and lines.count(line) == 1
    ]
    return _taken_out("out", text, random.choice(fits)) if fits else None


def _taken_out(what: str, text: str, line: str) -> Edit:
    def without(one: str) -> str:
        return "".join(other for other in one.splitlines(keepends=True) if other != line)

    return Edit(what, without(text), lambda one: one, lambda one: line not in one, line, without)


def _items(text: str) -> list[tuple[int, re.Match[str]]]:
    """The items of lists and calls that have a line of their own, with where that is."""
    places = [
        (line, match)
        for line, match in enumerate(map(_ITEM.match, text.splitlines()), 1)
        if match and not match[2].startswith(("def ", "@", "#"))
    ]
    tree = ast.parse(text)
    inner = [
        (item.lineno, item.col_offset)
        for node in ast.walk(tree)
        if isinstance(node, ast.Tuple | ast.List)
        for item in node.elts
    ]
    inner += [
        (item.lineno, item.col_offset)
        for node in ast.walk(tree)
        if isinstance(node, ast.Call)
        for item in node.args[1:]
    ]
    return [(line, m) for line, m in places if (line, len(m[1])) in inner]


_ITEM = re.compile(r"( +)(.*),$")


def _argument(text: str, random: Random) -> Edit | None:
    """A keyword argument more in a call."""
    calls = [
        node
        for node in ast.walk(ast.parse(text))
        if isinstance(node, ast.Call) and node.keywords and node.keywords[-1].arg
    ]
    if not calls:
        return None
    last = random.choice(calls).keywords[-1]
    word = _number(random)
    lines = text.splitlines(keepends=True)
    offset = len("".join(lines[: (last.end_lineno or 1) - 1]).encode()) + (last.end_col_offset or 0)
    data = text.encode()
    new = (data[:offset] + f", {word}=1".encode() + data[offset:]).decode()
    # All others may be gone since.
    out = re.compile(rf",\s*{word}=1|\b{word}=1(,\s*)?")
    return Edit("argument", new, lambda found: out.sub("", found), lambda found: word in found)


def _words(text: str, random: Random) -> Edit | None:
    """A label called otherwise."""
    texts = re.findall(r"\"([A-Z][a-z]+ ?[a-z]*)\"", text)
    if not texts:
        return None
    old = random.choice(texts)
    word = _number(random)
    new = text.replace(f'"{old}"', f'"{old} {word}"', 1)
    return Edit(
        "label", new, lambda found: found.replace(f" {word}", ""), lambda found: word in found, old
    )


def _element(text: str, random: Random) -> Edit | None:
    """An element more, on a line of its own."""
    found = [m.start() for m in re.finditer(r"(?m)^ *<(?:h1|p|td|div|tr|dt|dd|a)\b.*$", text)]
    if not found:
        return None
    start = random.choice(found)
    at = text.count("\n", 0, start) + 1
    return _put_in("element", text, at, f"      <p>{_number(random)}</p>\n")


def _wrapped(text: str, random: Random) -> Edit | None:
    """Something put round an element."""
    lines = text.splitlines(keepends=True)
    fits = [
        line
        for line in lines
        if re.match(r" *(<(p|td|dt|dd|h1|a|th)\b.*</(p|td|dt|dd|h1|a|th)>|\{\{ .* \}\})$", line)
        and lines.count(line) == 1
    ]
    if not fits:
        return None
    line, word = random.choice(fits), _number(random)
    indent, inner = line[: len(line) - len(line.lstrip())], line.strip()
    new = text.replace(line, f'{indent}<div class="{word}">{inner}</div>\n')
    out = re.compile(rf'<div class="{word}">(.*?)</div>')
    return Edit("wrapped", new, lambda one: out.sub(r"\1", one), lambda one: word in one, line)


def _attribute(text: str, random: Random) -> Edit | None:
    found = [m.end() for m in re.finditer(r"<(?:h1|p|td|th|div|form|a)\b", text)]
    if not found:
        return None
    at, word = random.choice(found), _number(random)
    new = f'{text[:at]} data-{word}="1"{text[at:]}'
    return Edit(
        "attribute",
        new,
        lambda one: one.replace(f' data-{word}="1"', ""),
        lambda one: word in one,
    )


def _style(text: str, random: Random) -> Edit | None:
    found = [m.end(1) for m in re.finditer(r'class="(\w+)"', text)]
    if not found:
        return None
    at, word = random.choice(found), _number(random)
    new = f"{text[:at]} {word}{text[at:]}"
    return Edit("style", new, lambda one: one.replace(f" {word}", ""), lambda one: word in one)


def _line(text: str, random: Random) -> Edit | None:
    at = random.randrange(text.count("\n")) + 1
    return _put_in("line", text, at, f"# {_number(random)}\n")


_Way = Callable[[str, Random], "Edit | None"]
_PYTHON: list[_Way] = [_statement, _method, _function, _remark, _item, _argument, _words, _out]
_TEMPLATE: list[_Way] = [_element, _attribute, _style, _element_out, _wrapped]
_LINES: list[_Way] = [_line]
