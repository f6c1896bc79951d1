"""The standard layout of declarations: columns aligned, modifiers in order, long lines wrapped.

It works on the tokens of each logical line, so that comments stay where they belong and
nothing is written that was not there. A line that can't be read keeps its own words.
"""

from __future__ import annotations

from dataclasses import dataclass, field

from .diagnostics import Report, width
from .lexer import Line, Token, lines
from .source import Source
from .words import CLAUSES, COMPARISONS, LENGTHS

WIDTH = 100
INDENT = 4
_NARROWEST_NAME, _WIDEST_NAME = 11, 20
_ORDER = (
    *("required", "unique", "indexed", "internal", "fixed", "owned", "places", "default"),
    *("matches", "=", "!=", "<", "<=", ">", ">=", "between", "in", "where", "on", "loops"),
    *("sorted", "unit", "label", "hint", "as", "stored", "empty", "set", "was", "sample"),
)
_COMPARING = {*COMPARISONS, "between", "in"}
_TIGHT_BEFORE = {",", ")", ".", "..", ":"}
_TIGHT_AFTER = {"(", ".", ".."}


@dataclass
class _Entry:
    """A logical line: its tokens, the comments above it and the one behind it."""

    member: bool
    tokens: list[Token] = field(default_factory=list)
    above: list[str] = field(default_factory=list)
    behind: str = ""
    gap: bool = False
    raw: str = ""


def tidy(text: str) -> str:
    """The text in the standard layout: the same declarations, the same comments."""
    marked = text.startswith("\ufeff")
    plain = text.removeprefix("\ufeff").replace("\r\n", "\n").replace("\r", "\n")
    entries, rest = _entries(plain)
    blocks: list[list[_Entry]] = []
    for entry in entries:
        if not entry.member or not blocks:
            blocks.append([])
        blocks[-1].append(entry)
    parts = ["\n".join(_block(block)) for block in blocks]
    out = "\n\n".join(part for part in parts)
    if rest:
        out += ("\n\n" if out else "") + "\n".join(rest)
    out = out.strip("\n") + "\n" if out.strip() else ""
    return ("\ufeff" if marked else "") + out


def _entries(text: str) -> tuple[list[_Entry], list[str]]:
    """The logical lines with their comments, and the comments after the last of them."""
    source = Source("tidy", text)
    found = lines(source, Report())
    starts = {
        piece[0]: (line, number) for line in found for number, piece in enumerate(line.pieces)
    }
    entries: dict[int, _Entry] = {}
    pending: list[str] = []
    offset = 0
    for physical in text.split("\n"):
        stripped = physical.strip()
        begin = offset + len(physical) - len(physical.lstrip(" \t"))
        offset += len(physical) + 1
        if not stripped or stripped.startswith("#"):
            # Several empty lines are one.
            if stripped or pending[-1:] != [""]:
                pending.append(stripped)
        elif begin in starts:
            line, number = starts[begin]
            entry = entries.setdefault(id(line), _entry(line, source))
            if number == 0:
                entry.gap = pending[:1] == [""]
            entry.above += pending[1:] if pending[:1] == [""] else pending
            pending = []
            entry.behind = f"{entry.behind} {_comment(physical)}".strip()
    ordered = [entries[id(line)] for line in found if id(line) in entries]
    return ordered, [comment for comment in pending if comment]


def _entry(line: Line, source: Source) -> _Entry:
    report = Report()
    tokens = line.tokens(report)
    broken = any(p.code in ("open-text", "stray-character") for p in report.problems())
    raw = ""
    if broken:
        pieces = [source.text[start:end].rstrip() for start, end in line.pieces]
        raw = f"\n{' ' * INDENT * 2}".join(_without_comment(piece) for piece in pieces)
    return _Entry(line.member, tokens, raw=raw)


def _comment_at(line: str) -> int:
    """Where a comment begins, quoted # left out; the length where there is none."""
    quoted = False
    skip = False
    for at, character in enumerate(line):
        if skip:
            skip = False
        elif quoted and character == "\\":
            skip = True
        elif character == '"':
            quoted = not quoted
        elif character == "#" and not quoted:
            return at
    return len(line)


def _comment(line: str) -> str:
    return line[_comment_at(line) :].strip()


def _without_comment(line: str) -> str:
    return line[: _comment_at(line)].rstrip()


def _block(entries: list[_Entry]) -> list[str]:
    """The lines of a block: its first line, then its members with their columns aligned."""
    out: list[str] = []
    head, *members = entries
    if head.member:
        members, head = entries, None  # type: ignore[assignment]
    kind = head.tokens[0].text if head and head.tokens else ""
    if head is not None:
        out += head.above
        out += _with_comment(head.raw or _joined(head.tokens), head.behind, "")
    if not members:
        return out
    if kind == "rows":
        return out + _table(members)
    bodies = [_member(entry, kind) for entry in members]
    names = [len(name) for name, _, _ in bodies if name]
    least = 0 if kind == "values" else _NARROWEST_NAME
    column = min(max(names, default=0), _WIDEST_NAME)
    column = max(column, least)
    margin = " " * INDENT
    for number, (entry, (name, body, parts)) in enumerate(zip(members, bodies, strict=True)):
        if entry.gap and number:
            out.append("")
        out += [f"{margin}{comment}".rstrip() for comment in entry.above]
        text = f"{name.ljust(column)} {body}" if name and body else name or body
        out += _wrapped(f"{margin}{text}", parts, entry.behind)
    return out


def _member(entry: _Entry, kind: str) -> tuple[str, str, list[str]]:
    """A member as its name (empty for a clause), what follows it, and its modifiers."""
    if entry.raw:
        return "", entry.raw, []
    tokens = entry.tokens
    if not tokens:
        return "", "", []
    if kind == "seed":
        return "", _joined(tokens), []
    if kind == "values":
        return tokens[0].text, _joined(tokens[1:]), []
    clause = tokens[0].text in CLAUSES and not _is_field(tokens)
    if clause or (tokens[0].text == "was" and len(tokens) == 2):
        head, *parts = _split(tokens)
        return "", _joined(head), [_joined(part) for part in parts]
    head, *parts = _split(tokens[1:]) if len(tokens) > 1 else ([],)
    return tokens[0].text, _joined(head), _ordered(head, parts)


def _is_field(tokens: list[Token]) -> bool:
    return len(tokens) > 1 and tokens[1].text in ("->", "<-", "<->")


def _split(tokens: list[Token]) -> list[list[Token]]:
    """The pieces between commas that stand in no bracket."""
    found: list[list[Token]] = [[]]
    depth = 0
    for token in tokens:
        mark = token.text if token.kind == "op" else ""
        depth += (mark == "(") - (mark == ")")
        if mark == "," and depth <= 0:
            found.append([])
        else:
            found[-1].append(token)
    return found


def _ordered(head: list[Token], parts: list[list[Token]]) -> list[str]:
    """The modifiers in their order; a `say` stays behind the check that it words."""
    groups: list[tuple[int, list[str]]] = []
    known = True
    for at, part in enumerate(parts):
        word = part[0].text if part else ""
        text = _joined(part)
        if word == "say" and (groups or at == 0):
            if groups:
                groups[-1][1].append(text)
            else:
                # It words the range of the type itself, so it stays in front.
                groups.append((-1, [text]))
            continue
        known = known and word in _ORDER
        groups.append((_rank(word), [text]))
    if not known or _is_upload(head):
        return [text for _, texts in groups for text in texts]
    words = [rank for rank, _ in groups]
    if len(set(words)) == len(words) or _repeatable(groups):
        groups.sort(key=lambda group: group[0])
    return [text for _, texts in groups for text in texts]


def _rank(word: str) -> int:
    """The place of a modifier. Comparisons have one: they keep their order, and so their names in tables."""
    if word in _COMPARING:
        return _ORDER.index("=")
    return _ORDER.index(word) if word in _ORDER else len(_ORDER)


def _repeatable(groups: list[tuple[int, list[str]]]) -> bool:
    """Whether what stands twice may: comparisons, and sort keys, whose order is kept."""
    ranks = [rank for rank, _ in groups]
    twice = {_ORDER[rank] for rank in ranks if 0 <= rank < len(_ORDER) and ranks.count(rank) > 1}
    return twice <= {"=", "sorted"}


def _is_upload(head: list[Token]) -> bool:
    """`file of pdf, csv`: the commas belong to the type."""
    words = [token.text for token in head]
    return bool(words) and words[0] in ("file", "image") and "of" in words


def _joined(tokens: list[Token]) -> str:
    """Tokens with one blank between them where one belongs."""
    out = ""
    before: Token | None = None
    for token in tokens:
        if before is not None and _spaced(before, token, tokens):
            out += " "
        out += token.text
        before = token
    return out


def _spaced(before: Token, token: Token, tokens: list[Token]) -> bool:
    one = before.text if before.kind == "op" else ""
    two = token.text if token.kind == "op" else ""
    if one in _TIGHT_AFTER or two in _TIGHT_BEFORE:
        # A range keeps its ends close; an open one stands apart from what is before or behind.
        clock = ("today", "now", "day", "days", "week", "weeks", *LENGTHS)
        if two == "..":
            return before.kind == "word" and before.text not in clock
        return one == ".." and token.kind == "word" and token.text not in clock
    if two == "(":
        return before.kind != "word" or before.text in (
            "in",
            "and",
            "or",
            "not",
            "when",
            "where",
            "between",
            "rule",
        )
    if two == "%":
        return token.start > before.end
    return not (one in ("-", "+") and _is_sign(before, token, tokens))


def _is_sign(sign: Token, token: Token, tokens: list[Token]) -> bool:
    """Whether a minus belongs to what follows it, as its place and the blanks around it say."""
    at = tokens.index(sign)
    if at == 0 or (tokens[at - 1].kind == "op" and tokens[at - 1].text not in (")", "%")):
        return True
    return sign.end == token.start and tokens[at - 1].end < sign.start


def _with_comment(text: str, comment: str, margin: str) -> list[str]:
    if not comment:
        return [text]
    if width(text) + 4 + width(comment) <= WIDTH:
        return [f"{text}    {comment}"]
    return [f"{margin}{comment}", text]


def _wrapped(start: str, parts: list[str], comment: str) -> list[str]:
    """A member on one line, or with its modifiers on lines of their own, indented deeper."""
    whole = ", ".join([start, *parts])
    margin = " " * INDENT
    if width(whole) <= WIDTH or not parts:
        return _with_comment(whole, comment, margin)
    out = [start]
    deeper = " " * INDENT * 2
    for part in parts:
        if width(out[-1]) + 2 + width(part) + 1 <= WIDTH:
            out[-1] += f", {part}"
        else:
            out[-1] += ","
            out.append(f"{deeper}{part}")
    if comment:
        out.insert(0, f"{margin}{comment}")
    return out


def _table(members: list[_Entry]) -> list[str]:
    """Rows with their cells below one another."""
    rows: list[list[str]] = []
    for entry in members:
        cells: list[list[Token]] = [[]]
        for token in entry.tokens:
            if token.kind == "op" and token.text == "|":
                cells.append([])
            else:
                cells[-1].append(token)
        rows.append([_joined(cell) for cell in cells])
    columns = max(map(len, rows))
    widths = [
        max((width(row[n]) for row in rows if n < len(row)), default=0) for n in range(columns)
    ]
    margin = " " * INDENT
    out: list[str] = []
    for entry, row in zip(members, rows, strict=True):
        out += [f"{margin}{comment}".rstrip() for comment in entry.above]
        if entry.raw:
            out += _with_comment(f"{margin}{entry.raw}", entry.behind, margin)
            continue
        shown = [cell + " " * (widths[n] - width(cell)) for n, cell in enumerate(row)]
        # An empty first cell must not make the line look indented deeper.
        text = f"{margin}{' | '.join(shown).strip()}"
        out += _with_comment(text, entry.behind, margin)
    return out
