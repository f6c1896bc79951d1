"""Small breakages of a source text, found by its own syntax: each is another text that still parses."""

from __future__ import annotations

import ast
import re
from collections.abc import Iterator
from dataclasses import dataclass

_TURNED: dict[type[ast.cmpop], type[ast.cmpop]] = {
    **{ast.Lt: ast.LtE, ast.LtE: ast.Lt, ast.Gt: ast.GtE, ast.GtE: ast.Gt},
    **{ast.Eq: ast.NotEq, ast.NotEq: ast.Eq, ast.Is: ast.IsNot, ast.IsNot: ast.Is},
    **{ast.In: ast.NotIn, ast.NotIn: ast.In},
}


@dataclass(frozen=True)
class Mutation:
    """One breakage: what was done, in which line, what stood there, and the whole text after it.

    `within` is the line, by which it is known wherever that stands.
    """

    what: str
    line: int
    was: str
    within: str
    text: str


def of_python(source: str) -> Iterator[Mutation]:
    """Comparisons turned, conditions turned round, constants moved, statements and arguments left out."""
    tree = ast.parse(source)
    found = _Finder(source)
    found.visit(tree)
    lines = source.splitlines()
    for what, node, instead in found.found:
        text = found.replaced(node, instead)
        was = found.segment(node).split("\n")[0].strip()
        within = lines[node.lineno - 1].strip()
        yield Mutation(what, node.lineno, was, within, text)


class _Finder(ast.NodeVisitor):
    """Collects nodes of a tree with the text to stand in their place."""

    def __init__(self, source: str) -> None:
        self.whole = source.encode()
        self.before = [0]
        for line in self.whole.splitlines(keepends=True):
            self.before.append(self.before[-1] + len(line))
        self.found: list[tuple[str, ast.stmt | ast.expr, str]] = []

    def segment(self, node: ast.stmt | ast.expr) -> str:
        start, end = self._span(node)
        return self.whole[start:end].decode()

    def replaced(self, node: ast.stmt | ast.expr, instead: str) -> str:
        start, end = self._span(node)
        return (self.whole[:start] + instead.encode() + self.whole[end:]).decode()

    def _span(self, node: ast.stmt | ast.expr) -> tuple[int, int]:
        assert node.end_lineno is not None and node.end_col_offset is not None
        start = self.before[node.lineno - 1] + node.col_offset
        return start, self.before[node.end_lineno - 1] + node.end_col_offset

    def _add(self, what: str, node: ast.stmt | ast.expr, instead: ast.AST | str) -> None:
        text = instead if isinstance(instead, str) else f"({ast.unparse(instead)})"
        self.found.append((what, node, text))

    def visit_JoinedStr(self, node: ast.JoinedStr) -> None:
        """Places inside are not told rightly by every version."""

    def visit_AnnAssign(self, node: ast.AnnAssign) -> None:
        if node.value is not None:
            self.visit(node.value)

    def visit_FunctionDef(self, node: ast.FunctionDef) -> None:
        self._body(node.body)
        for default in (*node.args.defaults, *node.args.kw_defaults):
            if default is not None:
                self.visit(default)

    def visit_ClassDef(self, node: ast.ClassDef) -> None:
        self._body(node.body)

    def visit_Module(self, node: ast.Module) -> None:
        self._body(node.body)

    def _body(self, body: list[ast.stmt]) -> None:
        for statement in body:
            if isinstance(statement, ast.Expr) and isinstance(statement.value, ast.Constant):
                continue
            self.visit(statement)

    def visit_Import(self, node: ast.Import) -> None:
        """What is not imported is missed at once."""

    def visit_ImportFrom(self, node: ast.ImportFrom) -> None:
        """As above."""

    def visit_Assert(self, node: ast.Assert) -> None:
        """It says what holds anyway."""

    def visit_Expr(self, node: ast.Expr) -> None:
        if isinstance(node.value, ast.Call | ast.Yield | ast.YieldFrom):
            self._add("a statement is left out", node, "pass")
        self.generic_visit(node)

    def visit_AugAssign(self, node: ast.AugAssign) -> None:
        self._add("a statement is left out", node, "pass")
        self.generic_visit(node)

    def visit_Return(self, node: ast.Return) -> None:
        if node.value is not None and not isinstance(node.value, ast.Constant):
            self._add("nothing is returned", node, "return None")
        self.generic_visit(node)

    def visit_If(self, node: ast.If) -> None:
        name = node.test.id if isinstance(node.test, ast.Name) else ""
        if name != "TYPE_CHECKING":
            turned = ast.UnaryOp(ast.Not(), node.test)
            self._add("a condition is turned", node.test, turned)
            self.generic_visit(node)

    def visit_IfExp(self, node: ast.IfExp) -> None:
        self._add("a condition is turned", node.test, ast.UnaryOp(ast.Not(), node.test))
        self.generic_visit(node)

    def visit_Compare(self, node: ast.Compare) -> None:
        if len(node.ops) == 1 and type(node.ops[0]) in _TURNED:
            turned = ast.Compare(node.left, [_TURNED[type(node.ops[0])]()], node.comparators)
            self._add("a comparison is turned", node, turned)
        self.generic_visit(node)

    def visit_BoolOp(self, node: ast.BoolOp) -> None:
        other = ast.Or() if isinstance(node.op, ast.And) else ast.And()
        self._add("and is or", node, ast.BoolOp(other, node.values))
        self.generic_visit(node)

    def visit_UnaryOp(self, node: ast.UnaryOp) -> None:
        if isinstance(node.op, ast.Not):
            self._add("not is left out", node, node.operand)
        self.generic_visit(node)

    def visit_Constant(self, node: ast.Constant) -> None:
        if isinstance(node.value, bool):
            self._add("a constant is moved", node, repr(not node.value))
        elif isinstance(node.value, int):
            self._add("a constant is moved", node, repr(node.value + 1))
        elif isinstance(node.value, str) and node.value.isidentifier():
            self._add("a word is another", node, repr(f"{node.value}x"))

    def visit_Call(self, node: ast.Call) -> None:
        for keyword in node.keywords:
            if keyword.arg is not None:
                rest = [one for one in node.keywords if one is not keyword]
                less = ast.Call(node.func, node.args, rest)
                self._add(f"the argument {keyword.arg} is left out", node, less)
        if len(node.args) > 1 and not node.keywords:
            self._add("an argument is left out", node, ast.Call(node.func, node.args[:-1], []))
        self.generic_visit(node)

    def visit_Tuple(self, node: ast.Tuple) -> None:
        if len(node.elts) > 1 and isinstance(node.ctx, ast.Load):
            self._add("the last of several is left out", node, ast.Tuple(node.elts[:-1], node.ctx))
        self.generic_visit(node)


_IF = re.compile(r"\{% (?:el)?if (.+?) %\}")
_SHOWN = re.compile(r"\{\{ (.+?) \}\}")
_SAID = re.compile(r" (name|value|href|action|id|method)=\"([^\"]+)\"")


def of_template(source: str) -> Iterator[Mutation]:
    """Conditions turned, values not shown, attributes left out."""
    for pattern, what in (
        (_IF, "a condition is turned"),
        (_SHOWN, "a value is not shown"),
        (_SAID, "an attribute is left out"),
    ):
        for match in pattern.finditer(source):
            if pattern is _IF:
                word = match[0].split()[1]
                instead = f"{{% {word} not ({match[1]}) %}}"
            else:
                instead = ""
            line = source.count("\n", 0, match.start()) + 1
            text = f"{source[: match.start()]}{instead}{source[match.end() :]}"
            within = source.splitlines()[line - 1].strip()
            yield Mutation(what, line, match[0], within, text)


def of(path: str, source: str) -> list[Mutation]:
    """All breakages of a file."""
    return list(of_python(source) if path.endswith(".py") else of_template(source))
