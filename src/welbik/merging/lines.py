"""Any other text as pieces: lines, and what stands in braces below a line."""

from __future__ import annotations

import re
from dataclasses import replace

from .pieces import Block, Clause, Run, Statement, Word

_WORD = re.compile(r"""\w+|"(?:[^"\\\n]|\\.)*"|'(?:[^'\\\n]|\\.)*'|\s+|.""", re.DOTALL)
_KEY = re.compile(r"""([\w.$"'-]+(?:\s+[\w.$-]+)*)\s*[:=](?!=)""")


def block_of(source: str) -> Block:
    """A text's lines; those between one that ends in `{` and one that begins with `}` below it."""
    lines = re.split(r"(?<=\n)", source)
    block, at = _read(lines, 0, False)
    if at < len(lines):
        # Braces that don't match say nothing.
        block = Block(tuple(_line(line, n) for n, line in enumerate(lines, 1) if line))
    return block


def _read(lines: list[str], at: int, within: bool) -> tuple[Block, int]:
    found: list[Statement] = []
    lead = ""
    while at < len(lines):
        line = lines[at]
        if line.lstrip().startswith("}"):
            if within:
                return Block(tuple(found), lead), at
            return Block(tuple(found), lead), at
        if not line.strip():
            lead += line
            at += 1
            continue
        one = replace(_line(line, at + 1), lead=lead)
        if line.rstrip().endswith("{"):
            block, end = _read(lines, at + 1, True)
            if end < len(lines):
                clause = replace(one.clauses[0], block=block)
                one, at = replace(one, clauses=(clause,), close=lines[end]), end
        found.append(one)
        lead = ""
        at += 1
    return Block(tuple(found), lead), at


def _line(line: str, number: int) -> Statement:
    text = line.rstrip("\r\n")
    words = Run(tuple(Word(word) for word in _WORD.findall(text)))
    key = _KEY.match(text.strip())
    return Statement(
        (Clause(words, line[len(text) :]),), kind="line", key=key[1] if key else "", line=number
    )
