"""Functions of a value, or of several."""

from __future__ import annotations

from ..language import syntax
from ..rules import tree
from ..rules.tree import Apply, Const, Node
from .coercion import alike, apply, coerced, describe, exact
from .typing import Typing, Wrong


class Functions(Typing):
    """Types calls: length, round, year, least and the others."""

    def function(self, word: str, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        first = nodes[0]
        name = first.type.name
        if word in ("length", "lower", "upper", "trim"):
            if name != "text":
                raise self._no_argument(word, "a text", first, written)
            return apply(word, nodes, tree.INTEGER if word == "length" else tree.TEXT)
        if word == "abs":
            if not first.type.amount:
                raise self._no_argument(word, "a number", first, written)
            return apply(word, nodes, first.type)
        if word == "round":
            return self._round(nodes, written)
        if word == "coalesce":
            return self._coalesce(nodes, written)
        if word == "exchanged":
            return self._exchanged(nodes, written)
        if word in ("year", "month", "day"):
            if name == "datetime":
                nodes = (coerced(first, tree.DATE) or first,)
            elif name != "date":
                raise self._no_argument(word, "a date", first, written)
            return apply(word, nodes, tree.INTEGER)
        return self._extreme(word, nodes, written)

    def _no_argument(self, word: str, wants: str, node: Node, written: syntax.Operation) -> Wrong:
        return self.wrong(
            "wrong-types",
            f"{word} looks at {wants}, not at {describe(node.type)}",
            written.span,
            f"give it {wants}",
        )

    def _round(self, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        first, places = nodes[0], 0
        if not first.type.numeric:
            raise self._no_argument("round", "a number", first, written)
        if len(nodes) == 2:
            given = nodes[1]
            if (
                not isinstance(given, Const)
                or given.type != tree.INTEGER
                or not 0 <= int(given.value) <= 9  # type: ignore[arg-type]
            ):
                raise self.wrong(
                    "wrong-arguments",
                    "round takes a number of places from 0 to 9",
                    written.operands[1].span,
                    "write: round(kg, 2)",
                )
            places = int(given.value)  # type: ignore[arg-type]
        if first.type.name == "number":
            return Apply("round", (first, Const(places, tree.INTEGER)), tree.NUMBER)
        if first.type.places <= places:
            return first
        kind = exact(places, first) if places else tree.INTEGER
        return Apply("round", (first, Const(places, tree.INTEGER)), kind)

    def _changes(self, word: str, written: syntax.Operation, remedy: str) -> None:
        if not self.changes_rows:
            raise self.wrong(
                "wrong-arguments", f"{word} has its place behind 'was' only", written.span, remedy
            )

    def _exchanged(self, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        """A text with others in its place where it is one of some: only where rows are changed."""
        self._changes("exchanged", written, "compare the value with what it may be")
        texts = all(isinstance(n, Const) and n.type.name == "text" for n in nodes[1:])
        if nodes[0].type.name != "text" or not texts or len(nodes) % 2 == 0:
            raise self.wrong(
                "wrong-arguments",
                "exchanged takes a text, and pairs of texts: what it was and what it becomes",
                written.span,
                'write: exchanged(kind, "national", "british")',
            )
        return apply("exchanged", nodes, tree.TEXT)

    def _coalesce(self, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        """The first that is given; only where rows are changed, where nothing is ruled by it."""
        remedy = "say what is to hold where it is empty: … when town is given"
        self._changes("coalesce", written, remedy)
        found = nodes[0]
        for node in nodes[1:]:
            pair = alike(found, node)
            if pair is None or pair[0].type.name == "row":
                raise self.wrong(
                    "wrong-types",
                    f"coalesce takes values of one type, not {describe(found.type)} and {describe(node.type)}",
                    written.span,
                    "give it numbers, or dates, or texts",
                )
            found = apply("coalesce", pair, pair[0].type._replace(choices=()))
        return found

    def _extreme(self, word: str, nodes: tuple[Node, ...], written: syntax.Operation) -> Node:
        found = nodes[0]
        for node in nodes[1:]:
            pair = alike(found, node)
            if pair is None or pair[0].type.name in ("boolean", "row", "other"):
                raise self.wrong(
                    "wrong-types",
                    f"{word} compares values of one type, not {describe(found.type)} and {describe(node.type)}",
                    written.span,
                    "give it numbers, or dates, or texts",
                )
            found = apply(word, pair, pair[0].type._replace(choices=()))
        return found
