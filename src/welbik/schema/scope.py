"""What every name of every model stands for, so that expressions can be typed."""

from __future__ import annotations

from collections.abc import Callable, Mapping

from ..language import syntax
from ..language.diagnostics import Report
from ..rules.tree import Node, Type
from .entries import REMOVED, Entry
from .model import AnyMember, Collection, Computed, Field, Many, Reference, Schema

Formula = Callable[[], Node | None]


class _Entries(dict[str, Entry]):
    """The entries of one model; those of computed fields are worked out when asked for."""

    def __init__(self) -> None:
        super().__init__()
        self.formulas: dict[str, Formula] = {}

    def get(self, name: str, default: Entry | None = None) -> Entry | None:  # type: ignore[override]
        if name in self.formulas:
            return Entry("computed", formula=self.formulas[name]())
        return super().get(name, default)

    def __contains__(self, name: object) -> bool:
        return super().__contains__(name) or name in self.formulas


class Scope(dict[str, Mapping[str, Entry]]):
    """The entries of all models; a computed field is typed when it is first read."""

    def __init__(self, report: Report) -> None:
        super().__init__()
        self.report = report
        self._open: list[str] = []

    def add(
        self,
        model: str,
        members: list[AnyMember],
        unread: frozenset[str] | set[str],
        *,
        has_bin: bool = False,
    ) -> _Entries:
        """A model by its members; one with a bin has a moment of removal besides."""
        entries = _Entries()
        if has_bin:
            entries[REMOVED] = Entry("removal")
        for member in members:
            entries[member.name] = _entry(member)
        for name in unread:
            entries.setdefault(name, Entry("unread"))
        self[model] = entries
        return entries

    def add_formula(
        self, entries: _Entries, model: str, name: syntax.Word, work_out: Formula
    ) -> None:
        """A computed field; `work_out` is called at most once."""
        key = f"{model}.{name.text}"
        done: list[Node | None] = []

        def formula() -> Node | None:
            if done:
                return done[0]
            if key in self._open:
                way = " and ".join([*self._open[self._open.index(key) :]])
                self.report.add(
                    "circle",
                    f"{way}: what is computed here needs itself",
                    name.span,
                    "take it out of one of these formulas",
                )
                done.append(None)
                return None
            self._open.append(key)
            found = work_out()
            self._open.remove(key)
            if not done:
                done.append(found)
            return done[0]

        entries.formulas[name.text] = formula


def _entry(member: AnyMember) -> Entry:
    if isinstance(member, Field):
        longest = getattr(member.kind, "longest", None)
        return Entry("value", value_type(member), member.required, longest=longest)
    if isinstance(member, Reference):
        return Entry("reference", required=member.required, target=member.target)
    if isinstance(member, Collection):
        return Entry("collection", target=member.child, via=member.via)
    if isinstance(member, Many):
        return Entry("many", target=member.target)
    raise TypeError(member)


def value_type(field: Field) -> Type:
    """What an expression gets from a field."""
    kind = field.kind.value_type()
    labels = tuple(field.kind.labels())
    return kind._replace(choices=labels, words=field.kind.words) if labels else kind


def scope_of(schema: Schema, report: Report) -> Scope:
    """What every name of a schema stands for, once it is understood."""
    scope = Scope(report)
    for model in schema:
        members: list[AnyMember] = [m for m in model.everything if not isinstance(m, Computed)]
        entries = scope.add(model.name, members, set(), has_bin="bin" in model.keeps)
        for computed in model.computed:
            entries[computed.name] = Entry("computed", formula=computed.formula)
    return scope
