"""Names that changed, followed through lines that were written by hand.

Only what is certainly that name is changed: an attribute of something known to be a row, a
keyword of a call that makes one, a class, a module that is imported, an address of a page.
"""

from __future__ import annotations

import io
import re
import tokenize
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

_PAGE = re.compile(r"(?P<quote>[\"'])(?P<name>\w+)(?P<rest>\.\w+_page|/pages/\w+\.html)(?P=quote)")
_QUOTE = re.compile("[\"']")
_CODE = re.compile(r"\{\{.*?\}\}|\{%.*?%\}", re.DOTALL)
_ATTRIBUTE = re.compile(r"\b(\w+)\.(\w+)\b(?!\s*\()")
_BEFORE, _AFTER = "new_|type_|typed_|_more_", "_like|_beside|_at"
_OWN = {"row", "self", "cls"}


@dataclass(frozen=True)
class Renamed:
    """One model as it was, and what of it is called otherwise now."""

    name: str
    new_name: str
    module: str
    """Its folder, which is also what a variable with a row of it is called."""

    new_module: str
    members: Mapping[str, str] = field(default_factory=dict)
    """The new attributes by the old ones."""

    owners: frozenset[str] = frozenset()
    """What else certainly is a row of it: the names of references that lead to it alone."""

    @property
    def moved(self) -> bool:
        return self.name != self.new_name

    def owns(self, owner: str, path: str) -> bool:
        """Whether what a name stands for in a file is this model or a row of it."""
        if owner in {self.name, self.module, f"its_{self.module}", *self.owners}:
            return True
        return owner in _OWN and f"/{self.module}/" in f"/{path}"


def renamed(path: str, text: str, models: list[Renamed]) -> str:
    """A file's text with every name that is certainly one of those changed."""
    if not models or not any(word in text for word in _words(models)):
        return text
    if path.endswith(".py"):
        return _python(path, text, models)
    if path.endswith(".html"):
        return _CODE.sub(lambda match: _expression(path, match.group(), models), text)
    return text


def left(path: str, text: str, generated: str, models: list[Renamed]) -> Iterator[tuple[int, str]]:
    """The lines that still say an old name, apart from those that are generated so."""
    words = _words(models)
    if not words:
        return
    says = re.compile(rf"(?<!\w)({'|'.join(map(re.escape, sorted(words)))})(?!\w)")
    known = {line.strip() for line in generated.splitlines()}
    for number, line in enumerate(text.splitlines(), 1):
        if line.strip() not in known and says.search(line):
            yield number, line.strip()


def _words(models: list[Renamed]) -> set[str]:
    found = {old for one in models for old, new in one.members.items() if old != new}
    for one in models:
        if one.moved:
            found |= {one.name, one.module}
    return found


def _python(path: str, text: str, models: list[Renamed]) -> str:
    try:
        tokens = list(tokenize.generate_tokens(io.StringIO(text).readline))
    except (tokenize.TokenError, IndentationError, SyntaxError):
        return text
    starts = [0]
    for line in text.split("\n"):
        starts.append(starts[-1] + len(line) + 1)
    told = [t for t in tokens if t.type not in (tokenize.NL, tokenize.COMMENT)]
    found: list[tuple[int, int, str]] = []
    for token, new in zip(told, _renamed_tokens(path, told, models), strict=True):
        if new != token.string:
            begin = starts[token.start[0] - 1] + token.start[1]
            found.append((begin, begin + len(token.string), new))
    for begin, end, new in reversed(found):
        text = text[:begin] + new + text[end:]
    return text


def _renamed_tokens(
    path: str, tokens: list[tokenize.TokenInfo], models: list[Renamed]
) -> Iterator[str]:
    """What each token is to be."""
    calls: list[str] = []
    statement = ""
    for at, token in enumerate(tokens):
        text = token.string
        before = [t.string for t in tokens[max(at - 2, 0) : at]]
        before = [""] * (2 - len(before)) + before
        after = tokens[at + 1].string if at + 1 < len(tokens) else ""
        if not statement and text.strip():
            statement = text
        if token.type in (tokenize.NEWLINE, tokenize.INDENT, tokenize.DEDENT):
            statement = ""
        if text in "([{" and token.type == tokenize.OP:
            calls.append(before[1])
        elif text in ")]}" and token.type == tokenize.OP and calls:
            calls.pop()
        if token.type == tokenize.NAME:
            call = calls[-1] if calls else ""
            if statement in ("from", "import"):
                yield _imported(text, before[1], models)
            elif after == "=" and before[1] in ("(", ",") and calls:
                yield _keyword(text, call, models)
            elif before[1] == ".":
                yield _attribute(path, before[0], text, models)
            else:
                yield _name(path, text, after, calls, models)
        elif token.type == tokenize.STRING:
            yield _page(_formatted(path, text, models), models)
        else:
            yield text


def _imported(text: str, before: str, models: list[Renamed]) -> str:
    for one in models:
        if text == one.name:
            return one.new_name
        if text == one.module and before in (".", "..", "..."):
            return one.new_module
    return text


def _keyword(text: str, call: str, models: list[Renamed]) -> str:
    for one in models:
        makes = call in (one.name, one.new_name) or _factory(call, one.module) is not None
        if makes and text in one.members:
            return one.members[text]
    return text


def _attribute(path: str, owner: str, text: str, models: list[Renamed]) -> str:
    for one in models:
        if text in one.members and one.owns(owner, path):
            return one.members[text]
        if one.moved and owner in ("supply", "self") and (rest := _factory(text, one.module)):
            return f"{rest[0]}{one.new_module}{rest[1]}"
    return text


def _factory(name: str, module: str) -> tuple[str, str] | None:
    match = re.fullmatch(rf"({_BEFORE})?{module}({_AFTER})?", name)
    return (match[1] or "", match[2] or "") if match else None


def _name(path: str, text: str, after: str, calls: list[str], models: list[Renamed]) -> str:
    for one in models:
        if text == one.name:
            return one.new_name
        declares = path.endswith(f"{one.module}/model.py") and after == ":" and not calls
        if declares and text in one.members:
            return one.members[text]
    return text


def _page(text: str, models: list[Renamed]) -> str:
    """An address or a template in quotes: `"hive.view_page"`, `"hive/pages/view.html"`."""

    def new(match: re.Match[str]) -> str:
        for one in models:
            if match["name"] == one.module:
                return f"{match['quote']}{one.new_module}{match['rest']}{match['quote']}"
        return match.group()

    return _PAGE.sub(new, text)


def _formatted(path: str, text: str, models: list[Renamed]) -> str:
    """A text in quotes with the expressions that stand between its braces, where it has such."""
    if "f" not in _QUOTE.split(text)[0].lower():
        return text
    found, begin, deep, at = "", 0, 0, 0
    while at < len(text):
        if not deep and text[at : at + 2] in ("{{", "}}"):
            at += 1
        elif text[at] == "{":
            if not deep:
                found, begin = found + text[begin : at + 1], at + 1
            deep += 1
        elif text[at] == "}" and deep:
            deep -= 1
            if not deep:
                found, begin = found + _python(path, text[begin:at], models), at
        at += 1
    return found + text[begin:]


def _expression(path: str, text: str, models: list[Renamed]) -> str:
    def new(match: re.Match[str]) -> str:
        return f"{match[1]}.{_attribute(path, match[1], match[2], models)}"

    return _page(_ATTRIBUTE.sub(new, text), models)
