"""Any other text as pieces: lines, and what stands in brackets below a line or within one."""

from __future__ import annotations

import re
from dataclasses import replace

from .pieces import Block, Clause, Group, Item, Run, Statement, Word

_WORD = re.compile(r"""\w+|"(?:[^"\\\n]|\\.)*"|'(?:[^'\\\n]|\\.)*'|\s+|.""", re.DOTALL)
_KEY = re.compile(r"""([\w.$"'-]+(?:\s+[\w.$-]+)*)\s*[:=](?!=)""")
_CLOSES = {"(": ")", "[": "]", "{": "}"}


def block_of(source: str) -> Block:
    """A text's lines; below one that ends in a bracket those up to the line that closes it."""
    lines = re.split(r"(?<=\n)", source)
    block, at = _read(lines, 0)
    if at < len(lines):
        # Brackets that don't match say nothing.
        block = Block(tuple(_line(line, n) for n, line in enumerate(lines, 1) if line))
    return block


def _read(lines: list[str], at: int) -> tuple[Block, int]:
    """The lines up to one that closes what was opened before, and where that is."""
    found: list[Statement] = []
    lead = ""
    while at < len(lines):
        line = lines[at]
        if line.lstrip().startswith(tuple(_CLOSES.values())):
            break
        if not line.strip():
            lead += line
            at += 1
            continue
        one = replace(_line(line, at + 1), lead=lead)
        opens = line.rstrip()[-1]
        if opens in _CLOSES:
            block, end = _read(lines, at + 1)
            if end < len(lines) and lines[end].lstrip().startswith(_CLOSES[opens]):
                clause = replace(one.clauses[0], block=block)
                one, at = replace(one, clauses=(clause,), close=lines[end]), end
        found.append(one)
        lead = ""
        at += 1
    return Block(tuple(found), lead), at


def _line(line: str, number: int) -> Statement:
    text = line.rstrip("\r\n")
    words = _WORD.findall(text)
    atoms, at = _atoms(words, 0, "")
    if at < len(words):
        atoms = list(map(Word, words))
    key = _KEY.match(text.strip())
    clause = Clause(Run(tuple(atoms)), line[len(text) :])
    return Statement((clause,), kind="line", key=key[1] if key else "", line=number)


def _atoms(words: list[str], at: int, until: str) -> tuple[list[Word | Group], int]:
    """Words, and what stands in brackets on the same line, up to a closing bracket."""
    found: list[Word | Group] = []
    while at < len(words) and words[at] != until:
        if words[at] in _CLOSES:
            group, end = _group(words, at)
            if group is not None:
                found.append(group)
                at = end
                continue
        found.append(Word(words[at]))
        at += 1
    return found, at


def _group(words: list[str], at: int) -> tuple[Group | None, int]:
    """Items between brackets; nothing where the line ends before they close."""
    closes = _CLOSES[words[at]]
    inner, end = _atoms(words, at + 1, closes)
    if end >= len(words) or not any(isinstance(one, Group) or one.text.strip() for one in inner):
        return None, at
    items: list[Item] = []
    mine: list[Word | Group] = []
    ends = False
    for one in [*inner, None]:
        if one is None or isinstance(one, Word) and one.text == ",":
            if any(isinstance(atom, Group) or atom.text.strip() for atom in mine):
                items.append(_item(mine))
                ends = one is not None
                mine = []
        else:
            mine.append(one)
    after = "".join(one.source for one in mine)
    return Group(words[at], tuple(items), closes, "", ",", ends, after), end + 1


def _item(atoms: list[Word | Group]) -> Item:
    """An item, blanks before it kept with its first word."""
    before = ""
    while isinstance(atoms[0], Word) and not atoms[0].text.strip():
        before += atoms[0].source
        atoms = atoms[1:]
    run = Run((replace(atoms[0], before=before), *atoms[1:]))
    return Item(run, "", ",")
