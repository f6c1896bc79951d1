"""Functions over the rows of a collection."""

from __future__ import annotations

from collections.abc import Iterator

from ..language import syntax
from ..rules import tree
from ..rules.tree import Node, Step, Type, Value
from .coercion import apply, describe
from .entries import REMOVED
from .typing import Typing


class Aggregates(Typing):
    """Types count, sum, avg, min and max; what is in the bin is left out."""

    def aggregate(self, written: syntax.Aggregate, model: str) -> Node:
        steps, hops, owner, rest = self._hops(written, model)
        function = written.function.text
        where = self.truth(written.where, owner) if written.where is not None else None
        for live in self._live(hops):
            where = live if where is None else apply("and", (live, where))
        if function == "count":
            if rest:
                raise self.wrong(
                    "bad-path",
                    "count counts rows, not a field of them",
                    rest[0].span,
                    "end at the collection: count(hives)",
                )
            return tree.Aggregate("count", steps, hops, None, where, tree.INTEGER)
        if not rest:
            raise self.wrong(
                "bad-path",
                f"{function} needs a field of these rows",
                written.path.span,
                f"name it: {function}({written.path.text}.kg)",
            )
        name = syntax.Name(tuple(rest), rest[0].span.to(rest[-1].span))
        value = self.node(name, owner)
        kind = self._aggregated(function, value, written)
        return tree.Aggregate(function, steps, hops, value, where, kind)

    def _live(self, hops: tuple[tree.Hop, ...]) -> Iterator[Node]:
        """That the rows counted, and those on the way to them, are not in the bin."""
        back: tuple[Step, ...] = ()
        for hop in reversed(hops):
            if self._entry_of(hop.model, REMOVED) == "removal":
                moment = Value(hop.model, REMOVED, tree.DATETIME, back)
                yield apply("empty", (moment,))
            if not hop.via:
                return
            back = (*back, Step(hop.model, hop.via, hop.owner, True))

    def _entry_of(self, model: str, name: str) -> str:
        entry = self.scope[model].get(name)
        return entry.what if entry is not None else ""

    def _aggregated(self, function: str, value: Node, written: syntax.Aggregate) -> Type:
        kind = value.type
        if function in ("sum", "avg"):
            if not kind.numeric and (function, kind.name) != ("sum", "duration"):
                raise self.wrong(
                    "wrong-types",
                    f"{function} needs numbers, not {describe(kind)}",
                    written.span,
                    "name a field with numbers",
                )
            return tree.NUMBER if function == "avg" else kind
        if kind.name in ("boolean", "row", "other"):
            raise self.wrong(
                "wrong-types",
                f"{function} compares values, and {describe(kind)} has no order",
                written.span,
                "name a field with numbers, dates or texts",
            )
        return kind._replace(choices=())

    def _hops(
        self, written: syntax.Aggregate, model: str
    ) -> tuple[tuple[Step, ...], tuple[tree.Hop, ...], str, list[syntax.Word]]:
        """References first, then collections, then what is left of the path."""
        steps: list[Step] = []
        hops: list[tree.Hop] = []
        rest = list(written.path.path)
        owner = model
        while rest:
            entry = self.entry(rest[0], owner)
            if entry.what == "reference" and not hops:
                steps.append(Step(owner, rest[0].text, entry.target, entry.required))
            elif entry.what in ("collection", "many"):
                via = entry.via if entry.what == "collection" else ""
                hops.append(tree.Hop(rest[0].text, owner, entry.target, via))
            else:
                break
            owner = entry.target
            del rest[0]
        if not hops:
            raise self.wrong(
                "bad-path",
                f"{written.path.text!r} leads to no collection",
                written.path.span,
                "name the other side of a relation: count(hives)",
            )
        return tuple(steps), tuple(hops), owner, rest
