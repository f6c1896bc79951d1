"""What a merged module imports: all that it uses, and nothing that is used no more.

Either side takes imports out and puts them in for its own lines alone; brought together, a
name may be used that only the other side had, or be left that nothing uses.
"""

from __future__ import annotations

import ast
import builtins
from collections.abc import Iterator
from dataclasses import dataclass


@dataclass(frozen=True)
class Bound:
    """A name that an import brings into a module."""

    module: str
    """What it is of, dots for packages above first; empty for `import x`."""

    name: str
    called: str
    for_types: bool
    """Whether it stands below `if TYPE_CHECKING`."""

    @property
    def here(self) -> str:
        """What it is called here."""
        return self.called or (self.name if self.module else self.name.partition(".")[0])

    def line(self) -> str:
        name = f"{self.name} as {self.called}" if self.called else self.name
        return f"from {self.module} import {name}" if self.module else f"import {name}"


def settled(base: str, mine: str, theirs: str, merged: str) -> str:
    """The merged module with its imports right; all four are Python."""
    trees = [ast.parse(text) for text in (base, mine, theirs, merged)]
    used_base, used_mine, _, used = map(_used, trees)
    _, bound_mine, bound_theirs, bound = ({one.here: one for one in _bound(t)} for t in trees)
    defined = _defined(trees[3])
    missing = [
        one
        for name, one in (bound_mine | bound_theirs).items()
        if name in used and name not in bound and name not in defined
    ]
    # What somebody imports without using it has a reason of its own.
    kept = {name for name in bound_mine if name not in used_mine | used_base}
    surplus = {
        one
        for name, one in bound.items()
        if name not in used and name not in kept and one.module != "__future__"
    }
    if not missing and not surplus:
        return merged
    return _with(_without(merged, trees[3], surplus), missing)


def _imports(tree: ast.Module) -> Iterator[tuple[ast.Import | ast.ImportFrom, bool]]:
    for node in tree.body:
        if isinstance(node, ast.Import | ast.ImportFrom):
            yield node, False
        elif isinstance(node, ast.If) and "TYPE_CHECKING" in ast.dump(node.test):
            for inner in node.body:
                if isinstance(inner, ast.Import | ast.ImportFrom):
                    yield inner, True


def _bound(tree: ast.Module) -> Iterator[Bound]:
    for node, for_types in _imports(tree):
        module = ""
        if isinstance(node, ast.ImportFrom):
            module = "." * node.level + (node.module or "")
        for alias in node.names:
            if alias.name != "*":
                yield Bound(module, alias.name, alias.asname or "", for_types)


def _used(tree: ast.Module) -> set[str]:
    """Every name that is read, also those in `__all__` and in annotations within quotes."""
    found = {node.id for node in ast.walk(tree) if isinstance(node, ast.Name)}
    texts = (node.value for node in ast.walk(tree) if isinstance(node, ast.Constant))
    return found | {text for text in texts if isinstance(text, str) and text.isidentifier()}


def _defined(tree: ast.Module) -> set[str]:
    found = {*dir(builtins)}
    for node in ast.walk(tree):
        if isinstance(node, ast.FunctionDef | ast.AsyncFunctionDef | ast.ClassDef):
            found.add(node.name)
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            found.add(node.id)
        elif isinstance(node, ast.arg):
            found.add(node.arg)
        elif isinstance(node, ast.Import | ast.ImportFrom):
            # Also within a function, where somebody keeps modules from importing in a circle.
            found |= {one.asname or one.name.partition(".")[0] for one in node.names}
    return found


def _without(text: str, tree: ast.Module, surplus: set[Bound]) -> str:
    lines = text.splitlines(keepends=True)
    nodes = [node for node, _ in _imports(tree)]
    for node in reversed(nodes):
        module = "." * node.level + (node.module or "") if isinstance(node, ast.ImportFrom) else ""
        gone = {(one.name, one.called) for one in surplus if one.module == module}
        left = [alias for alias in node.names if (alias.name, alias.asname or "") not in gone]
        if len(left) == len(node.names):
            continue
        stretch = slice(node.lineno - 1, node.end_lineno)
        if "#" in "".join(lines[stretch]):
            # Somebody said something about it there.
            continue
        indent = " " * node.col_offset
        alone = isinstance(node, ast.ImportFrom) or len(nodes) > 0
        names = ", ".join(f"{a.name} as {a.asname}" if a.asname else a.name for a in left)
        start = f"from {module} import " if module else "import "
        lines[stretch] = [f"{indent}{start}{names}\n"] if left and alone else []
        if not left and indent and _is_only(tree, node):
            lines[node.lineno - 1 : node.lineno - 1] = [f"{indent}pass\n"]
    return "".join(lines)


def _is_only(tree: ast.Module, node: ast.stmt) -> bool:
    """Whether a block below an `if` has nothing else."""
    return any(isinstance(one, ast.If) and one.body == [node] for one in tree.body)


def _with(text: str, missing: list[Bound]) -> str:
    """The module with more imports, behind those that it has."""
    for one in missing:
        tree = ast.parse(text)
        lines = text.splitlines(keepends=True)
        found = [node for node, for_types in _imports(tree) if for_types == one.for_types]
        if not found and one.for_types:
            found = [node for node, _ in _imports(tree)]
        if found:
            at, indent = found[-1].end_lineno or 0, " " * found[-1].col_offset
        else:
            first = tree.body[0] if tree.body and ast.get_docstring(tree) is not None else None
            at, indent = (first.end_lineno or 0) if first else 0, ""
        lines.insert(at, f"{indent}{one.line()}\n")
        text = "".join(lines)
    return text
