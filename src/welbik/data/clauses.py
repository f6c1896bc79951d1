"""Clauses of a rule: what a field must be beside the others, one comparison of it each."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple

from ..rules.tree import BOOLEAN, Aggregate, Apply, Node, Value, children, strict, walk

_RISING = ("cast", "local_date", "round", "to_exact", "year", "shift", "+", "least", "greatest")


class Guard(NamedTuple):
    """A condition that settles a clause where it does not come to the opposite of `want`."""

    node: Node
    want: bool


class Clause(NamedTuple):
    """What a field must meet where no guard holds.

    `node` is `<` or `<=` with the field on one side, `upper` where that is the smaller one; or
    `empty` of the field, which must come to `want`.
    """

    guards: tuple[Guard, ...]
    node: Apply
    upper: bool = False
    want: bool = True


def clauses_of(node: Node, model: str, name: str) -> tuple[tuple[Clause, ...], bool]:
    """The clauses that keep a rule by narrowing a field, and whether they keep all of it."""
    found, whole = _clauses(node, True, model, name)
    return tuple(found), whole


def _clauses(node: Node, want: bool, model: str, name: str) -> tuple[list[Clause], bool]:
    """What makes a condition not come to the opposite of `want`."""
    if not _has(node, model, name) or not isinstance(node, Apply):
        return [], False
    if node.word == "not":
        return _clauses(node.operands[0], not want, model, name)
    if node.word == ("and" if want else "or"):
        parts = [p for p in node.operands if _has(p, model, name)]
        found = [_clauses(part, want, model, name) for part in parts]
        whole = len(parts) == len(node.operands) and all(good for _, good in found)
        return [clause for clauses, _ in found for clause in clauses], whole
    if node.word in ("and", "or"):
        return _either(node, want, model, name)
    if node.word == "empty":
        return ([Clause((), node, want=want)], True) if _is(node.operands[0], name) else ([], False)
    return _compared(node, want, model, name)


def _either(node: Apply, want: bool, model: str, name: str) -> tuple[list[Clause], bool]:
    parts = list(flat(node, node.word))
    guards = tuple(Guard(part, want) for part in parts if not _has(part, model, name))
    tied = [part for part in parts if _has(part, model, name)]
    if len(tied) > 1:
        # `c > 5 or c is empty`: a comparison holds anyhow where the field is empty.
        tied = [part for part in tied if not _says_empty(part, want, name)]
    if len(tied) != 1:
        return [], False
    found, whole = _clauses(tied[0], want, model, name)
    return [clause._replace(guards=clause.guards + guards) for clause in found], whole


def flat(node: Node, word: str) -> Iterator[Node]:
    if isinstance(node, Apply) and node.word == word:
        for part in node.operands:
            yield from flat(part, word)
    else:
        yield node


def _says_empty(node: Node, want: bool, name: str) -> bool:
    if isinstance(node, Apply) and node.word == "not":
        return _says_empty(node.operands[0], not want, name)
    return want and isinstance(node, Apply) and node.word == "empty" and _is(node.operands[0], name)


def _compared(node: Apply, want: bool, model: str, name: str) -> tuple[list[Clause], bool]:
    if node.word not in ("<", "<=", "="):
        return [], False
    sides = [_has(part, model, name) for part in node.operands]
    if sum(sides) != 1:
        return [], False
    rises = direction(node.operands[sides.index(True)], name)
    if not rises or not strict(node.operands[sides.index(True)]):
        return [], False
    if node.word == "=":
        if not want:
            return [], False
        one, other = node.operands
        both = Apply("<=", (one, other), BOOLEAN), Apply("<=", (other, one), BOOLEAN)
        return [Clause((), part, _upper(part, model, name, rises)) for part in both], True
    if not want:
        node = Apply("<=" if node.word == "<" else "<", node.operands[::-1], BOOLEAN)
    return [Clause((), node, _upper(node, model, name, rises))], True


def _upper(node: Apply, model: str, name: str, rises: int) -> bool:
    """Whether a comparison holds the field from above."""
    return _has(node.operands[0], model, name) == (rises > 0)


def _is(node: Node, name: str) -> bool:
    return isinstance(node, Value) and not node.path and node.name == name


def _has(node: Node, model: str, name: str) -> bool:
    """Whether an expression reads the field of its own row."""
    if isinstance(node, Value):
        return not node.path and node.model == model and node.name == name
    if isinstance(node, Aggregate):
        return False
    return any(_has(part, model, name) for part in children(node))


def direction(node: Node, name: str) -> int:
    """1 where an expression never falls as the field rises, -1 where it never rises; else 0."""
    if _is(node, name):
        return 1 if isinstance(node, Value) and node.type.name != "text" else 0
    if not isinstance(node, Apply):
        return 0
    parts = [(at, part) for at, part in enumerate(node.operands) if _holds(part, name)]
    if len(parts) != 1:
        return 0
    at, part = parts[0]
    below = direction(part, name)
    if node.word in _RISING:
        return below
    if node.word in ("neg",):
        return -below
    if node.word in ("-", "days_between"):
        return below if at == 0 else -below
    return 0


def _holds(node: Node, name: str) -> bool:
    return any(_is(part, name) for part in walk(node)) and not isinstance(node, Aggregate)
