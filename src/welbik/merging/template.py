"""A page's template as pieces: elements with their attributes, statements with their blocks."""

from __future__ import annotations

import re
from dataclasses import dataclass, field, replace

from .pieces import Block, Clause, Group, Item, Run, Statement, Word
from .python import Unreadable, run_of

_VOID = {
    "area",
    "base",
    "br",
    "col",
    "embed",
    "hr",
    "img",
    "input",
    "link",
    "meta",
    "source",
    "track",
    "wbr",
}
_BLOCKS = {"block", "if", "for", "macro", "call", "filter", "with", "autoescape", "raw", "trans"}
_ELSE = {"else", "elif", "pluralize"}
_CODE = r"\{\{.*?\}\}|\{%.*?%\}|\{\#.*?\#\}"
_TOKEN = re.compile(
    rf"""(?P<note>\{{\#.*?\#\}}|<!--.*?-->|<![^>]*>)
    |(?P<code>\{{%.*?%\}})
    |(?P<value>\{{\{{.*?\}}\}})
    |(?P<end></[A-Za-z][\w:-]*\s*>)
    |(?P<raw><(?P<rawtag>script|style|textarea|pre)\b(?:{_CODE}|"[^"]*"|'[^']*'|[^<>"'])*>.*?</(?P=rawtag)\s*>)
    |(?P<tag><[A-Za-z][\w:-]*(?:{_CODE}|"(?:{_CODE}|[^"])*"|'(?:{_CODE}|[^'])*'|[^<>"'])*>)
    |(?P<text>(?:[^<{{]|<(?![A-Za-z/!])|\{{(?![{{%\#]))+)
    |(?P<other>.)""",
    re.DOTALL | re.VERBOSE,
)
_ATTRIBUTE = re.compile(
    rf"""(?P<before>\s*)(?:(?P<code>{_CODE})|(?P<name>[^\s=<>"'{{]+)
    (?:(?P<is>\s*=\s*)(?P<value>"(?:{_CODE}|[^"])*"|'(?:{_CODE}|[^'])*'|(?:{_CODE}|[^\s>"'])+))?)""",
    re.DOTALL | re.VERBOSE,
)
_PART = re.compile(rf"{_CODE}|\w+|\s+|.", re.DOTALL)
_TELLING = ("id", "name", "data-label", "for", "href", "class")


@dataclass
class _Token:
    kind: str
    text: str
    line: int
    name: str = ""
    mate: int = -1
    """Where the tag is that ends it, or the next `else` of the same statement."""

    opens: bool = field(default=False)


def block_of(source: str) -> Block:
    """A template's elements and statements; raises Unreadable where statements don't match."""
    tokens = _matched(_tokens(source))
    block, _ = _read(tokens, 0, len(tokens))
    return block


def _tokens(source: str) -> list[_Token]:
    found = []
    line = 1
    for match in _TOKEN.finditer(source):
        kind, text = str(match.lastgroup), match.group()
        kind = "raw" if match["raw"] else kind
        name = ""
        if kind == "code":
            words = re.findall(r"\w+", text)
            name = words[0] if words else ""
            if name == "set" and "=" not in text or name in _BLOCKS:
                kind = "opening"
            elif name.startswith("end"):
                kind, name = "closing", name[3:]
            elif name in _ELSE:
                kind = "else"
        elif kind in ("tag", "end"):
            name = re.findall(r"[\w:-]+", text)[0].lower()
        found.append(_Token(kind, text, line, name))
        line += text.count("\n")
    return found


def _matched(tokens: list[_Token]) -> list[_Token]:
    """Says of each token that opens something where that ends."""
    stack: list[int] = []
    for at, token in enumerate(tokens):
        if token.kind == "opening" or token.kind == "tag" and _is_open(token):
            stack.append(at)
        elif token.kind == "end":
            # An element ends within the statement that it begins in, or is not taken for one.
            for depth in range(len(stack) - 1, -1, -1):
                if tokens[stack[depth]].kind != "tag":
                    break
                if tokens[stack[depth]].name == token.name:
                    _pair(tokens, stack[depth], at)
                    del stack[depth:]
                    break
        elif token.kind in ("closing", "else"):
            while stack and tokens[stack[-1]].kind == "tag":
                stack.pop()
            fits = stack and (token.kind == "else" or _first(tokens, stack[-1]) == token.name)
            if not fits:
                raise Unreadable(f"line {token.line}: {token.text} ends nothing")
            _pair(tokens, stack.pop(), at)
            if token.kind == "else":
                stack.append(at)
    left = [tokens[at] for at in stack if tokens[at].kind != "tag"]
    if left:
        raise Unreadable(f"line {left[-1].line}: {left[-1].text} is not ended")
    return tokens


def _pair(tokens: list[_Token], opening: int, end: int) -> None:
    tokens[opening].mate, tokens[opening].opens = end, True


def _first(tokens: list[_Token], at: int) -> str:
    """The statement that a token belongs to: for an `else`, what it is the else of."""
    while tokens[at].kind == "else":
        at = next(n for n in range(at - 1, -1, -1) if tokens[n].mate == at)
    return tokens[at].name


def _is_open(token: _Token) -> bool:
    return token.name not in _VOID and not token.text.endswith("/>")


def _read(tokens: list[_Token], at: int, until: int) -> tuple[Block, int]:
    statements: list[Statement] = []
    lead = ""
    while at < until:
        token = tokens[at]
        if token.kind == "text":
            found, lead = _text(token, lead)
            statements += found
            at += 1
            continue
        if not token.opens:
            clause = Clause(_run(token), "")
            one, at = Statement((clause,), line=token.line), at + 1
        else:
            one, at = _opened(tokens, at)
        kind, key = _told(token)
        statements.append(replace(one, lead=lead, kind=kind, key=key, line=token.line))
        lead = ""
    return Block(tuple(statements), lead), at


def _opened(tokens: list[_Token], at: int) -> tuple[Statement, int]:
    """An element, or a statement with all its clauses."""
    clauses = []
    while tokens[at].opens:
        mate = tokens[at].mate
        block, _ = _read(tokens, at + 1, mate)
        clauses.append(Clause(_run(tokens[at]), "", block))
        at = mate
    return Statement(tuple(clauses), close=tokens[at].text), at + 1


def _text(token: _Token, lead: str) -> tuple[list[Statement], str]:
    """Each line of a text by itself; returns what leads to whatever comes next too."""
    found = []
    for number, line in enumerate(re.split(r"(?<=\n)", token.text)):
        if not line.strip():
            lead += line
            continue
        inner = line.strip()
        begin = line.index(inner)
        words = tuple(Word(part) for part in _PART.findall(inner))
        clause = Clause(Run(words), "")
        found.append(
            Statement((clause,), lead + line[:begin], kind="text", line=token.line + number)
        )
        lead = line[begin + len(inner) :]
    return found, lead


def _run(token: _Token) -> Run:
    if token.kind == "tag":
        return _tag(token.text)
    if token.text[:2] in ("{{", "{%"):
        opening, inner, closing = re.fullmatch(
            r"(\{[{%][-+]?)(.*?)([-+]?[%}]\})", token.text, re.DOTALL
        ).groups()  # type: ignore[union-attr]
        try:
            atoms = run_of(inner.rstrip()).atoms
        except Unreadable:
            atoms = (Word(inner.rstrip()),)
        trailing = inner[len(inner.rstrip()) :]
        return Run((Word(opening), *atoms, Word(closing, trailing)))
    return Run(tuple(map(Word, _PART.findall(token.text))))


def _tag(text: str) -> Run:
    name, inner, close = re.fullmatch(r"(<[\w:-]+)(.*?)(\s*/?>)", text, re.DOTALL).groups()  # type: ignore[union-attr]
    items: list[Item] = []
    at = 0
    while at < len(inner):
        match = _ATTRIBUTE.match(inner, at)
        if match is None or match.end() == at:
            return Run((Word(name), Word(inner), Word(close)))
        items.append(_attribute(match))
        at = match.end()
    return Run((Word(name), Group("", tuple(items), close, joint="")))


def _attribute(match: re.Match[str]) -> Item:
    if match["code"] or match["value"] is None:
        word = match["code"] or match["name"]
        return Item(Run((Word(word, match["before"]),)), word, "")
    words = [match["name"], match["is"], *_PART.findall(match["value"])]
    first, *rest = (Word(word) for word in words)
    return Item(Run((replace(first, before=match["before"]), *rest)), match["name"] + "=", "")


def _told(token: _Token) -> tuple[str, str]:
    """What a piece is, and what tells it apart among its like, if anything does."""
    if token.kind == "tag":
        for name in _TELLING:
            if found := re.search(rf"""\s{name}=("[^"]*"|'[^']*')""", token.text):
                return token.name, name + found[1]
        return token.name, ""
    if token.kind in ("code", "opening"):
        if token.name in ("block", "macro", "set", "import", "from", "extends"):
            words = re.findall(r'\w+|"[^"]*"', token.text)
            return token.name, words[1] if len(words) > 1 else ""
        return token.name, ""
    if token.kind == "value":
        # A call is told apart by what it is given first in quotes.
        found = re.match(r"""\{\{-?\s*([\w.]+)\([^"']*("[^"]*"|'[^']*')""", token.text)
        return "value", f"{found[1]}({found[2]}" if found else ""
    return token.kind, ""
