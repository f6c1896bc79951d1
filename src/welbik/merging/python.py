"""Python as pieces: statements with their decorators and blocks, brackets with their items."""

from __future__ import annotations

import io
import keyword
import tokenize
from collections.abc import Sequence
from dataclasses import dataclass, replace
from token import COMMENT, DEDENT, ENDMARKER, INDENT, NEWLINE, NL, OP

from .pieces import Block, Clause, Group, Item, Run, Statement, Word

_CLOSES = {"(": ")", "[": "]", "{": "}"}
_FOLLOWS = {"else", "elif", "except", "finally"}
_SETS = {"=", ":", "+=", "-=", "|=", "*=", "/=", "@=", "&=", "//=", "%=", "**=", "^=", ">>=", "<<="}


class Unreadable(Exception):
    """What is no Python."""


@dataclass(frozen=True)
class _Token:
    type: int
    text: str
    before: str
    line: int


def block_of(source: str) -> Block:
    """A module's statements; raises Unreadable where it is no Python."""
    return _Reader(_tokens(source)).module()


def run_of(source: str) -> Run:
    """An expression, which may go over lines; raises Unreadable where its brackets don't match."""
    tokens = [
        one
        for one in _tokens(f"({source}\n)")
        if one.type not in (NEWLINE, ENDMARKER, INDENT, DEDENT)
    ]
    group = _Reader(tokens).group()
    atoms = [atom for item in group.items for atom in _with_comma(item, group)]
    return Run(tuple(atoms))


def _with_comma(item: Item, group: Group) -> Sequence[Word | Group]:
    last = item is group.items[-1] and not group.ends
    return item.run.atoms if last else (*item.run.atoms, Word(",", item.joint[:-1]))


def _tokens(source: str) -> list[_Token]:
    """All tokens, each with what stands between it and the one before."""
    starts = [0]
    # Only these end a line for the tokens: a form feed does not.
    for line in source.split("\n"):
        starts.append(starts[-1] + len(line) + 1)
    found: list[_Token] = []
    last = depth = opened = 0
    try:
        raw = list(tokenize.generate_tokens(io.StringIO(source).readline))
    except (tokenize.TokenError, IndentationError, SyntaxError) as error:
        raise Unreadable(str(error)) from None
    for one in raw:
        begin, end = (
            starts[min(row - 1, len(starts) - 1)] + col for row, col in (one.start, one.end)
        )
        name = tokenize.tok_name[one.type]
        # Since 3.12 a string with expressions in it comes in parts.
        if name.endswith("STRING_START"):
            opened, depth = (begin if depth == 0 else opened), depth + 1
            continue
        if depth:
            depth -= name.endswith("STRING_END")
            if depth:
                continue
            begin, kind = opened, tokenize.STRING
        else:
            kind = one.type
        if one.type == tokenize.ERRORTOKEN and one.string.strip():
            raise Unreadable(f"line {one.start[0]}: {one.string}")
        if kind in (INDENT, DEDENT, ENDMARKER):
            found.append(
                _Token(kind, "", source[last:begin] if kind == ENDMARKER else "", one.start[0])
            )
            continue
        if kind in (COMMENT, NL):
            continue
        kind = OP if one.type == OP else kind
        text = source[begin:end]
        found.append(
            _Token(
                kind,
                text,
                source[last:begin],
                source.count("\n", 0, begin) + 1 if depth else one.start[0],
            )
        )
        last = end
    return found


class _Reader:
    """Reads tokens from the left to the right."""

    def __init__(self, tokens: list[_Token]) -> None:
        self.tokens = tokens
        self.at = 0

    @property
    def next(self) -> _Token:
        return self.tokens[self.at]

    def take(self) -> _Token:
        self.at += 1
        return self.tokens[self.at - 1]

    def module(self) -> Block:
        statements = self.statements(ENDMARKER)
        return Block(statements, self.next.before)

    def statements(self, until: int) -> tuple[Statement, ...]:
        found: list[Statement] = []
        while self.next.type != until:
            if self.next.type in (INDENT, DEDENT):
                raise Unreadable(f"line {self.next.line}: not indented as the lines before")
            found.append(self.statement())
        return tuple(found)

    def statement(self) -> Statement:
        line = self.next.line
        decorators: list[Statement] = []
        while self.next.text == "@":
            at = self.next.line
            decorators.append(_decorator(self.clause(), at))
        first = self.clause()
        clauses = [first]
        while first.block and self.next.type == tokenize.NAME and self.next.text in _FOLLOWS:
            clauses.append(self.clause())
        kind, key = _told(first.run)
        lead = first.lead
        clauses[0] = replace(first, lead="")
        if decorators:
            lead, decorators[0] = decorators[0].lead, replace(decorators[0], lead="")
            clauses[0] = first
        return Statement(tuple(clauses), lead, key, kind, tuple(decorators), line=line)

    def clause(self) -> Clause:
        """A logical line, and what is indented below it."""
        atoms: list[Word | Group] = []
        while self.next.type not in (NEWLINE, ENDMARKER):
            atoms.append(
                self.group() if self.next.text in _CLOSES and self.next.type == OP else self.word()
            )
        lead = atoms[0].before if atoms else ""
        if atoms:
            atoms[0] = replace(atoms[0], before="")
        run = Run(tuple(_names_apart(atoms)))
        end = ""
        if self.next.type == NEWLINE:
            token = self.take()
            end = token.before + (token.text or "\n")
        block = None
        if self.next.type == INDENT:
            self.take()
            statements = self.statements(DEDENT)
            self.take()
            block = Block(statements)
        return Clause(run, end, block, lead)

    def word(self) -> Word:
        token = self.take()
        return Word(token.text, token.before)

    def group(self) -> Group:
        """From an opening bracket to the one that closes it."""
        opening = self.take()
        closes = _CLOSES[opening.text]
        items: list[Item] = []
        atoms: list[Word | Group] = []
        ends = False
        while self.next.text != closes or self.next.type != OP:
            if self.next.type in (NEWLINE, ENDMARKER) or self.next.text in _CLOSES.values():
                raise Unreadable(f"line {self.next.line}: a bracket is not closed")
            if self.next.text == "," and atoms:
                comma = self.take()
                behind = self._behind()
                items.append(_item(atoms, comma.before + ",", behind))
                atoms, ends = [], True
            else:
                atoms.append(self.group() if self.next.text in _CLOSES else self.word())
                ends = False
        if atoms:
            items.append(_item(atoms, ",", ""))
        closing = self.take()
        return Group(opening.text, tuple(items), closes, opening.before, ",", ends, closing.before)

    def _behind(self) -> str:
        """A comment on the line of the comma just taken: it belongs to the item before it."""
        before = self.next.before
        first, feed, rest = before.partition("\n")
        if not first.strip():
            return ""
        self.tokens[self.at] = replace(self.next, before=feed + rest)
        return first


def _item(atoms: list[Word | Group], joint: str, behind: str) -> Item:
    run = Run(tuple(atoms))
    return Item(run, _item_key(run), joint, behind, _subject(run))


def _subject(run: Run) -> str:
    """What a call is given first, where that is a text."""
    last = run.atoms[-1]
    if not isinstance(last, Group) or last.open != "(" or not last.items:
        return ""
    first = last.items[0].run.source.strip()
    return first if first[:1] in "\"'" else ""


def _item_key(run: Run) -> str:
    """The name of a keyword argument, the key of an entry, what a call is given first."""
    texts = [atom.text if isinstance(atom, Word) else atom.open for atom in run.atoms]
    if len(texts) > 2 and texts[1] in ("=", ":"):
        return texts[0] + texts[1]
    if subject := _subject(run):
        # Fields and the like: told apart by their name, which comes first.
        return f"{''.join(texts[:-1])}({subject}"
    if len(texts) == 1 or texts[1:2] == ["as"]:
        return texts[0] if texts[0].isidentifier() else ""
    return ""


def _names_apart(atoms: list[Word | Group]) -> list[Word | Group]:
    """The names that `from … import` brings as a group, with brackets round them or without."""
    texts = [atom.text if isinstance(atom, Word) else atom.open for atom in atoms]
    if texts[:1] != ["from"] or "import" not in texts or isinstance(atoms[-1], Group):
        return atoms
    at = texts.index("import") + 1
    items: list[Item] = []
    mine: list[Word | Group] = []
    for atom in atoms[at:]:
        if isinstance(atom, Word) and atom.text == ",":
            items.append(_item(mine, atom.before + ",", ""))
            mine = []
        else:
            mine.append(atom)
    items.append(_item(mine, ",", ""))
    return [*atoms[:at], Group("", tuple(items), "")]


def _decorator(clause: Clause, line: int) -> Statement:
    texts = [atom.text for atom in clause.run.atoms if isinstance(atom, Word)]
    return Statement(
        (replace(clause, lead=""),), clause.lead, "".join(texts), "decorator", line=line
    )


def _told(run: Run) -> tuple[str, str]:
    """What kind of statement begins so, and the name that tells it apart, if it has one."""
    texts = [atom.text if isinstance(atom, Word) else atom.open for atom in run.atoms]
    if texts[:1] == ["async"]:
        texts = texts[1:]
    first = texts[0] if texts else ""
    if first in ("def", "class"):
        return first, texts[1] if len(texts) > 1 else ""
    if first in ("from", "import"):
        until = texts.index("import") if first == "from" and "import" in texts else len(texts)
        return first, "".join(texts[1:until])
    if keyword.iskeyword(first):
        return first, ""
    place = next((n for n, text in enumerate(texts) if text in _SETS), 0)
    if place and all(text not in _CLOSES for text in texts[:place]):
        return "set", "".join(texts[:place])
    if "(" in texts:
        return "call", ""
    return "other", ""
