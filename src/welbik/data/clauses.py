"""Clauses of a rule: what a field must be beside the others, one comparison of it each."""

from __future__ import annotations

from collections.abc import Iterator
from typing import NamedTuple, Protocol

from ..rules.tree import BOOLEAN, NOT_STRICT, Aggregate, Apply, Node, Value, children, strict, walk

_RISING = ("cast", "local_date", "round", "to_exact", "year", "shift", "+", "least", "greatest")


class Sign(Protocol):
    """Tells which sign an amount always has."""

    def __call__(self, node: Node, *, strict: bool = False) -> int:
        """1 where it is never below zero, -1 where never above, else 0; `strict` where never zero either."""

    def fits(self, node: Node) -> bool:
        """Whether what an expression comes to is a number of 64 bits, as far as is known."""


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


def clauses_of(node: Node, model: str, name: str, sign: Sign) -> tuple[tuple[Clause, ...], bool]:
    """The clauses that keep a rule by narrowing a field, and whether they keep all of it."""
    found, whole = _Reading(model, name, sign).clauses(node, True)
    return tuple(found), whole


def direction(node: Node, model: str, name: str, sign: Sign) -> int:
    """1 where an expression never falls as a field rises, -1 where it never rises; else 0."""
    return _Reading(model, name, sign).direction(node)


class _Reading:
    """A rule as it is read for one field."""

    def __init__(self, model: str, name: str, sign: Sign) -> None:
        self.model, self.name, self.sign = model, name, sign

    def clauses(self, node: Node, want: bool) -> tuple[list[Clause], bool]:
        """What makes a condition not come to the opposite of `want`."""
        if not self._has(node) or not isinstance(node, Apply):
            return [], False
        if node.word == "not":
            return self.clauses(node.operands[0], not want)
        if node.word == ("and" if want else "or"):
            parts = [p for p in node.operands if self._has(p)]
            found = [self.clauses(part, want) for part in parts]
            whole = len(parts) == len(node.operands) and all(good for _, good in found)
            return [clause for clauses, _ in found for clause in clauses], whole
        if node.word in ("and", "or"):
            return self._either(node, want)
        if node.word == "empty":
            is_it = _is(node.operands[0], self.name)
            return ([Clause((), node, want=want)], True) if is_it else ([], False)
        return self._compared(node, want)

    def _either(self, node: Apply, want: bool) -> tuple[list[Clause], bool]:
        parts = list(flat(node, node.word))
        guards = tuple(Guard(part, want) for part in parts if not self._has(part))
        tied = [part for part in parts if self._has(part)]
        if len(tied) > 1:
            # `c > 5 or c is empty`: a comparison holds anyhow where the field is empty.
            tied = [part for part in tied if not _says_empty(part, want, self.name)]
        if len(tied) != 1:
            return [], False
        found, whole = self.clauses(tied[0], want)
        return [clause._replace(guards=clause.guards + guards) for clause in found], whole

    def _compared(self, node: Apply, want: bool) -> tuple[list[Clause], bool]:
        if node.word not in ("<", "<=", "="):
            return [], False
        sides = [self._has(part) for part in node.operands]
        if sum(sides) != 1:
            return [], False
        rises = self.direction(node.operands[sides.index(True)])
        if not rises or not self._is_strict(node.operands[sides.index(True)]):
            return [], False
        if node.word == "=":
            if not want:
                return [], False
            one, other = node.operands
            both = Apply("<=", (one, other), BOOLEAN), Apply("<=", (other, one), BOOLEAN)
            return [Clause((), part, self._upper(part, rises)) for part in both], True
        if not want:
            node = Apply("<=" if node.word == "<" else "<", node.operands[::-1], BOOLEAN)
        return [Clause((), node, self._upper(node, rises))], True

    def _is_strict(self, node: Node) -> bool:
        """Whether it is empty just when something it reads is."""
        if (
            isinstance(node, Apply)
            and node.word == "/"
            and self.sign(node.operands[1], strict=True)
        ):
            return all(map(self._is_strict, node.operands))
        if isinstance(node, Apply) and node.word not in NOT_STRICT:
            return all(map(self._is_strict, node.operands))
        return strict(node) or isinstance(node, Aggregate) and node.function == "count"

    def _upper(self, node: Apply, rises: int) -> bool:
        """Whether a comparison holds the field from above."""
        return self._has(node.operands[0]) == (rises > 0)

    def _has(self, node: Node) -> bool:
        """Whether an expression reads the field of its own row."""
        if isinstance(node, Value):
            return not node.path and node.model == self.model and node.name == self.name
        if isinstance(node, Aggregate):
            return False
        return any(map(self._has, children(node)))

    def direction(self, node: Node) -> int:
        """1 where an expression never falls as the field rises, -1 where it never rises; else 0."""
        if _is(node, self.name):
            return 1 if isinstance(node, Value) and node.type.name != "text" else 0
        if not isinstance(node, Apply):
            return 0
        parts = [(at, part) for at, part in enumerate(node.operands) if _holds(part, self.name)]
        if len(parts) != 1:
            return 0
        at, part = parts[0]
        below = self.direction(part)
        if node.word in _RISING:
            return below
        if node.word == "neg":
            return -below
        if node.word in ("-", "days_between"):
            return below if at == 0 else -below
        if node.word == "*" and not self.sign.fits(node):
            return 0
        if node.word == "*":
            return below * self.sign(node.operands[1 - at])
        if node.word == "/" and at == 0:
            return below * self.sign(node.operands[1], strict=True)
        return 0


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


def _is(node: Node, name: str) -> bool:
    return isinstance(node, Value) and not node.path and node.name == name


def _holds(node: Node, name: str) -> bool:
    return any(_is(part, name) for part in walk(node)) and not isinstance(node, Aggregate)
