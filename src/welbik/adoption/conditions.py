"""Conditions of a database, in its own words, as expressions of the language.

An operator-precedence parser over the part of SQL that CHECK constraints are written in, as some
databases keep them and others write them out again.
"""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from functools import partial
from typing import NamedTuple

from ..rules.ambiguity import is_slow
from ..rules.patterns import PatternError, parse_pattern

_TOKEN = re.compile(
    r"""\s*(?:
    (?P<string>(?:[EeNn]|_utf8mb4|_latin1|_utf8)?'(?:[^'\\]|''|\\.)*')
    |(?P<number>\d+(?:\.\d*)?(?:[eE][+-]?\d+)?|\.\d+)
    |(?P<quoted>"(?:[^"]|"")+"|`(?:[^`]|``)+`|\[[^\]\d'][^\]]*\])
    |(?P<word>[^\W\d][\w$]*)
    |(?P<op>::|<>|!=|<=|>=|\|\||!?~~(?!\*)|!~\*?|~\*?|[-+*/%=<>(),.\[\]])
    )""",
    re.VERBOSE,
)
_CAST = ("character varying", "double precision", "timestamp", "time")


class Tree(NamedTuple):
    """A node of a condition: `word` is column, number, string, clock, or an operator or function."""

    word: str
    parts: tuple[Tree, ...] = ()
    text: str = ""


class UnreadError(ValueError):
    """A condition that is written in words beyond those that are read here."""


def read_condition(text: str, columns: Callable[[str], str | None]) -> Tree:
    """The tree of a condition; `columns` gives the column that a word names, or None.

    Raises UnreadError.
    """
    reader = _Reader(text, columns)
    tree = reader.expression(0)
    if reader.now[0] != "end":
        raise UnreadError(text)
    return tree


def conjuncts(tree: Tree) -> Iterator[Tree]:
    """The conditions that must all hold."""
    if tree.word == "and":
        for part in tree.parts:
            yield from conjuncts(part)
    else:
        yield _as_list(tree)


def _as_list(tree: Tree) -> Tree:
    """`a = 1 or a = 2` as `a in (1, 2)`: what may be empty keeps a condition then anyhow."""
    parts = list(_alternatives(tree))
    kept = [part for part in parts if part.word != "empty"]
    columns = {part.parts[0] for part in parts if part.parts}
    listed = all(part.word in ("=", "in", "empty") and part.parts for part in parts)
    if len(parts) < 2 or not kept or not listed or len(columns) > 1:
        return tree
    values = [value for part in kept for value in part.parts[1:]]
    (column,) = columns
    plain = column.word == "column" and all(one.word in ("string", "number") for one in values)
    return Tree("in", (column, *values)) if plain else tree


def _alternatives(tree: Tree) -> Iterator[Tree]:
    for part in tree.parts if tree.word == "or" else (tree,):
        yield from _alternatives(part) if part.word == "or" else (part,)


def columns_of(tree: Tree) -> set[str]:
    """The columns that a condition reads."""
    found = {tree.text} if tree.word == "column" else set()
    for part in tree.parts:
        found |= columns_of(part)
    return found


_COMPARED = ("=", "<>", "<", "<=", ">", ">=")
_BINDS = {
    **{"or": 1, "xor": 1, "and": 2},
    **dict.fromkeys(
        (*_COMPARED, "is", "in", "between", "like", "glob", "regexp", "~", "~~", "not"), 4
    ),
    **{"||": 5, "+": 6, "-": 6, "*": 7, "/": 7, "%": 7, "::": 9},
}


_DEEPEST, _LONGEST = 60, 250
"""Expressions within expressions, and operators in a row, that are still read."""


class _Reader:
    def __init__(self, text: str, columns: Callable[[str], str | None]) -> None:
        self.columns = columns
        self.tokens: list[tuple[str, str]] = []
        at = 0
        while at < len(text.rstrip()):
            found = _TOKEN.match(text, at)
            if found is None or not found.lastgroup:
                raise UnreadError(text)
            self.tokens.append((found.lastgroup, found[found.lastgroup]))
            at = found.end()
        self.tokens.append(("end", ""))
        self.at = self.depth = 0

    @property
    def now(self) -> tuple[str, str]:
        kind, text = self.tokens[self.at]
        return kind, text.lower() if kind == "word" else text

    def step(self) -> tuple[str, str]:
        token = self.tokens[self.at]
        self.at += token[0] != "end"
        return token

    def take(self, *texts: str) -> bool:
        """Whether these words or signs stand here; they are passed then."""
        for ahead, text in enumerate(texts):
            kind, found = self.tokens[min(self.at + ahead, len(self.tokens) - 1)]
            if kind in ("string", "quoted") or found.lower() != text:
                return False
        self.at += len(texts)
        return True

    def need(self, text: str) -> None:
        if not self.take(text):
            raise UnreadError(f"{text!r} expected, {self.now[1]!r} found")

    def expression(self, least: int) -> Tree:
        self.depth += 1
        if self.depth > _DEEPEST:
            raise UnreadError("nested too deeply")
        left = self.prefix()
        for _ in range(_LONGEST):
            kind, text = self.now
            binds = _BINDS.get({"!=": "<>"}.get(text, text), 0)
            if kind not in ("op", "word") or not binds or binds <= least:
                self.depth -= 1
                return left
            left = self.infix(left, text, binds)
        raise UnreadError("too long")

    def infix(self, left: Tree, text: str, binds: int) -> Tree:
        if text == "::":
            self.step()
            self.type()
            return left
        if text == "is":
            return self.empty(left)
        negated = self.take("not")
        found = self.compared(left, binds)
        return Tree("not", (found,)) if negated else found

    def empty(self, left: Tree) -> Tree:
        self.step()
        negated = self.take("not")
        kind, text = self.step()
        word = text.lower()
        if word == "null":
            found = Tree("empty", (left,))
        elif word in ("true", "false"):
            found = Tree("=", (left, Tree("boolean", (), word)))
        else:
            raise UnreadError(f"is {text}")
        return Tree("not", (found,)) if negated else found

    def compared(self, left: Tree, binds: int) -> Tree:
        _, text = self.step()
        word = text.lower()
        if word == "between":
            low = self.expression(4)
            self.need("and")
            return Tree("between", (left, low, self.expression(4)))
        if word == "in":
            self.need("(")
            return Tree("in", (left, *self.listed(")")))
        if word in _COMPARED or word == "!=":
            word = "<>" if word == "!=" else word
            if self.take("any"):
                return Tree("in", (left, *self.array()))
            if self.take("all"):
                return Tree("not", (Tree("in", (left, *self.array())),))
            return Tree(word, (left, self.expression(binds)))
        if word in ("like", "glob", "regexp", "~", "~~", "and", "or", "||", "+", "-", "*", "/"):
            return Tree("matches" if word == "~" else word, (left, self.expression(binds)))
        raise UnreadError(text)

    def array(self) -> list[Tree]:
        """`(ARRAY[…])::text[]`, or a literal of one."""
        depth = 0
        while self.take("("):
            depth += 1
        self.need("array")
        self.need("[")
        found = self.listed("]")
        for _ in range(depth):
            while self.take("::"):
                self.type()
            self.need(")")
        return found

    def listed(self, end: str) -> list[Tree]:
        found = [self.expression(0)]
        while self.take(","):
            found.append(self.expression(0))
        self.need(end)
        return found

    def type(self) -> None:
        """Passes the name of a type behind a cast."""
        self.step()
        while self.now[0] == "word" and self.now[1] in (
            *("varying", "precision", "without", "with", "time", "zone", "unsigned", "integer"),
        ):
            self.step()
        if self.take("("):
            self.listed(")")
        while self.take("["):
            self.need("]")

    def prefix(self) -> Tree:
        if self.take("not"):
            return Tree("not", (self.expression(3),))
        if self.take("-"):
            inner = self.expression(8)
            if inner.word == "number":
                return inner._replace(text=f"-{inner.text}")
            return Tree("neg", (inner,))
        if self.take("+"):
            return self.expression(8)
        if self.take("("):
            found = self.expression(0)
            self.need(")")
            return found
        kind, text = self.step()
        if kind == "number":
            return Tree("number", (), text)
        if kind == "string":
            return Tree("string", (), _unquoted(text[text.index("'") :]))
        if kind == "quoted":
            return self.named(_unquoted(text), quoted=text[0] == '"')
        if kind == "word":
            return self.word(text)
        raise UnreadError(text)

    def named(self, name: str, *, quoted: bool) -> Tree:
        column = self.columns(name)
        if self.take("."):
            _, last = self.step()
            if not last:
                raise UnreadError(name)
            column = self.columns(_unquoted(last) if last[:1] in '"`[' else last)
        if column is not None:
            return Tree("column", (), column)
        if quoted:
            # One database takes what names no column for a text.
            return Tree("string", (), name)
        raise UnreadError(name)

    def word(self, text: str) -> Tree:
        word = text.lower()
        if word in ("current_date", "curdate"):
            self.emptied()
            return Tree("clock", (), "today")
        if word in ("current_timestamp", "now", "localtimestamp") and self.columns(text) is None:
            self.emptied()
            return Tree("clock", (), "now")
        if word in ("true", "false"):
            return Tree("boolean", (), word)
        if word in ("date", "timestamp", "time") and self.now[0] == "string":
            return self.prefix()
        if word == "cast" and self.take("("):
            found = self.expression(0)
            self.need("as")
            self.type()
            self.need(")")
            return found
        if self.take("("):
            given = () if self.take(")") else tuple(self.listed(")"))
            return Tree("call", given, word)
        return self.named(text, quoted=False)

    def emptied(self) -> None:
        if self.take("("):
            self.need(")")


def _unquoted(text: str) -> str:
    mark = text[0]
    end = "]" if mark == "[" else mark
    inner = text[1:-1]
    return inner if mark == "[" else inner.replace(end * 2, end)


class Field(NamedTuple):
    """What a column is in declarations: its name, the word of its type, and its choices by value."""

    name: str
    type: str
    choices: dict[str, str]


def form_of(tree: Tree) -> tuple[str, str] | None:
    """The column that a condition wants to have a form as a whole, and that; None where it is none."""
    if [part.word for part in tree.parts] != ["column", "string"]:
        return None
    column, text = (part.text for part in tree.parts)
    if tree.word in _MASKS:
        form = "".join(_MASKS[tree.word](text))
        return (column, form) if _is_pattern(form) else None
    if (
        tree.word not in ("matches", "regexp")
        or not text.startswith("^")
        or not text.endswith("$")
        or text.endswith("\\$")
    ):
        return None
    if not _is_pattern(text):
        return None
    # Of `^a|b$` each way is held to one end alone.
    bare, left = re.sub(r"\\.|\[[^\]]*\]", "", text), ""
    while bare != left:
        bare, left = re.sub(r"\([^()]*\)", "", bare), bare
    return None if "|" in bare else (column, text[1:-1])


def _is_pattern(text: str) -> bool:
    try:
        return not is_slow(parse_pattern(text), None)
    except PatternError:
        return False


def _of_like(text: str, *, exact: bool = False) -> Iterator[str]:
    """The parts of a pattern for a mask of `%` and `_`, which heeds capitals where it is `exact`."""
    for part in re.findall(r"\\.|.", text, re.DOTALL):
        if part in ("%", "_"):
            yield ".*" if part == "%" else "."
        else:
            yield _literal(part[-1], exact=exact)


def _of_glob(text: str) -> Iterator[str]:
    """The parts of a pattern for a mask of `*`, `?` and classes."""
    for part in re.findall(r"\[\^?\]?[^\]]*\]|.", text, re.DOTALL):
        if part in ("*", "?"):
            yield ".*" if part == "*" else "."
        else:
            yield part if len(part) > 1 else _literal(part, exact=True)


def _literal(letter: str, *, exact: bool) -> str:
    both = {letter.lower(), letter.upper()} if letter.isascii() else {letter}
    if len(both) > 1 and not exact:
        return f"[{''.join(sorted(both))}]"
    return letter if letter.isalnum() or letter in " _-,;:@#&%!=<>'\"~`" else f"\\{letter}"


_MASKS: dict[str, Callable[[str], Iterator[str]]] = {
    "like": _of_like,
    "~~": partial(_of_like, exact=True),
    "glob": _of_glob,
}
_CALLS = {
    **{"length": "length", "char_length": "length", "character_length": "length"},
    **{"lower": "lower", "upper": "upper", "trim": "trim", "btrim": "trim", "abs": "abs"},
    "round": "round",
}


def written(tree: Tree, fields: dict[str, Field]) -> str:
    """A condition in the language's words; raises UnreadError where it has none for it."""
    return _Writer(fields).write(tree, 0)


class _Writer:
    def __init__(self, fields: dict[str, Field]) -> None:
        self.fields = fields

    def write(self, tree: Tree, least: int, beside: Field | None = None) -> str:
        text, binds = self._write(tree, beside)
        return f"({text})" if binds < least else text

    def _write(self, tree: Tree, beside: Field | None) -> tuple[str, int]:
        word, parts = tree.word, tree.parts
        if word in ("or", "and"):
            binds = 1 if word == "or" else 2
            return f" {word} ".join(self.condition(part, binds) for part in parts), binds
        if word == "not":
            inner = parts[0]
            if inner.word == "empty":
                return f"{self.write(inner.parts[0], 5)} is given", 4
            return f"not {self.condition(inner, 3)}", 3
        if word == "empty":
            return f"{self.write(parts[0], 5)} is empty", 4
        if word in _COMPARED:
            return self._compared(word, *parts)
        if word == "between":
            field = self._field(parts[0])
            low, high = (self.write(part, 5, field) for part in parts[1:])
            return f"{self.write(parts[0], 5)} between {low} and {high}", 4
        if word == "in":
            field = self._field(parts[0])
            listed = ", ".join(self.write(part, 5, field) for part in parts[1:])
            return f"{self.write(parts[0], 5)} in ({listed})", 4
        if word in ("+", "-", "*", "/", "||"):
            binds = _BINDS[word]
            if word == "/":
                raise UnreadError("each database divides its own way")
            return f"{self.write(parts[0], binds)} {word} {self.write(parts[1], binds + 1)}", binds
        if word == "neg":
            return f"-{self.write(parts[0], 8)}", 8
        if word == "call" and tree.text in _CALLS and parts:
            given = ", ".join(self.write(part, 0) for part in parts)
            return f"{_CALLS[tree.text]}({given})", 9
        return self._value(tree, beside), 9

    def condition(self, tree: Tree, least: int) -> str:
        """What must be true: a column alone is asked whether it says yes."""
        if tree.word == "column":
            if self.fields[tree.text].type != "boolean":
                raise UnreadError("a number is no condition")
            return f"{self.fields[tree.text].name} = yes"
        return self.write(tree, least)

    def _field(self, tree: Tree) -> Field | None:
        return self.fields.get(tree.text) if tree.word == "column" else None

    def _compared(self, word: str, left: Tree, right: Tree) -> tuple[str, int]:
        one, two = self._field(left), self._field(right)
        shown = "!=" if word == "<>" else word
        return f"{self.write(left, 5, two)} {shown} {self.write(right, 5, one)}", 4

    def _value(self, tree: Tree, beside: Field | None) -> str:
        if tree.word == "column":
            if tree.text not in self.fields:
                raise UnreadError(tree.text)
            return self.fields[tree.text].name
        type_ = beside.type if beside else ""
        if tree.word == "clock":
            return "today" if type_ == "date" else tree.text
        if tree.word == "boolean":
            return "yes" if tree.text == "true" else "no"
        if beside is not None and beside.choices:
            if tree.text not in beside.choices:
                raise UnreadError(tree.text)
            return beside.choices[tree.text]
        if tree.word == "number":
            if type_ == "boolean":
                return "no" if float(tree.text) == 0 else "yes"
            return tree.text
        if tree.word == "string":
            return literal(tree.text, type_)
        raise UnreadError(tree.word)


def literal(text: str, type_: str) -> str:
    """A text as the literal of a type; raises UnreadError where it is none."""
    from .drafts import quoted

    forms = {
        "date": (r"(\d{4}-\d\d-\d\d)(?: 00:00:00)?", r"\1"),
        "datetime": (r"(\d{4}-\d\d-\d\d)[ T](\d\d:\d\d)(:\d\d)?.*", r"\1T\2"),
        "time": (r"(\d\d:\d\d)(:\d\d)?.*", r"\1"),
    }
    if type_ in forms:
        pattern, out = forms[type_]
        whole = text + " 00:00" if type_ == "datetime" and len(text) == 10 else text
        found = re.fullmatch(pattern, whole)
        if found is None:
            raise UnreadError(text)
        return found.expand(out)
    if type_ in ("integer", "decimal", "number"):
        if re.fullmatch(r"-?\d+(\.\d+)?", text):
            return text
        raise UnreadError(text)
    if type_ == "boolean":
        if text.lower() in ("t", "true", "1", "y", "yes", "f", "false", "0", "n", "no"):
            return "yes" if text.lower() in ("t", "true", "1", "y", "yes") else "no"
        raise UnreadError(text)
    return quoted(text)
