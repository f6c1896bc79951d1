"""Queries for lists: each related row that is shown is joined in, so one query is enough."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field

from ..rules.brought import use
from ..schema.model import AnyMember, Model, Reference, Schema, Sort
from .python import Argument, Call, chain


@dataclass
class Query:
    """A select over a model with aliases for the rows it joins.

    `prefix` begins the aliases' names, `owner` is what columns are taken from.
    """

    schema: Schema
    model: Model
    prefix: str
    owner: str
    aliases: dict[str, str] = field(default_factory=dict)
    joins: list[tuple[str, list[Argument]]] = field(default_factory=list)
    options: list[tuple[str, list[Argument]]] = field(default_factory=list)
    paths: dict[str, str] = field(default_factory=dict)
    _picked: dict[str, dict[str, None]] = field(default_factory=dict)
    _outer: set[str] = field(default_factory=set)

    def __post_init__(self) -> None:
        self._pick(self.owner, key_attribute(self.model))

    def _pick(self, owner: str, attribute: str) -> None:
        self._picked.setdefault(owner, {})[attribute] = None

    def show(self, path: str) -> AnyMember:
        """Joins in and picks what it takes to show what a path leads to; returns that."""
        owner, prefix, way, member = self._reach(path)
        if isinstance(member, Reference):
            self._pick(owner, member.key_attribute)
            self._join(member, owner, prefix, way)
        else:
            self._pick(owner, member.attribute)
        return member

    def name(self) -> None:
        """Picks what the row's own name is made of."""
        for part in self.model.shown_as:
            if part.is_field and part.text in self.model.by_name:
                self.show(part.text)

    def link(self) -> None:
        """Picks what the row's own address is made of."""
        if self.model.address:
            self._pick(self.owner, self.model.stored(self.model.address).attribute)

    def pick(self, *attributes: str) -> None:
        for attribute in attributes:
            self._pick(self.owner, attribute)

    def column(self, path: str) -> tuple[str, AnyMember]:
        """The column that a path leads to, or the relation; what is on its way is joined in."""
        owner, _, _, member = self._reach(path)
        name = member.key_attribute if isinstance(member, Reference) else member.attribute
        return f"{owner}.{name}", member

    def _reach(self, path: str) -> tuple[str, str, tuple[Argument, ...], AnyMember]:
        """Joins in the rows on the way of a path: the alias at its end, and the last member."""
        owner, prefix = self.owner, self.prefix
        way: tuple[Argument, ...] = ()
        model = self.model
        *before, last = path.split(".")
        for name in before:
            reference = model.by_name[name]
            assert isinstance(reference, Reference)
            step = Call(f"{owner}.{reference.attribute}.of_type", [f"{prefix}{reference.name}"])
            owner = self._join(reference, owner, prefix, way)
            way = (*way, step)
            prefix = f"{owner}_"
            model = self.schema.models[reference.target]
        return owner, prefix, way, model.by_name[last]

    def _join(
        self, reference: Reference, owner: str, prefix: str, way: tuple[Argument, ...]
    ) -> str:
        alias = f"{prefix}{reference.name}"
        if alias in self.aliases:
            return alias
        target = self.schema.models[reference.target]
        step = Call(f"{owner}.{reference.attribute}.of_type", [alias])
        self.aliases[alias] = target.name
        above = self.paths.get(owner, "")
        self.paths[alias] = f"{above}.{reference.attribute}" if above else reference.attribute
        self._pick(owner, reference.key_attribute)
        self._pick(alias, key_attribute(target))
        for part in target.shown_as:
            named = target.by_name.get(part.text) if part.is_field else None
            if named is not None and not isinstance(named, Reference):
                self._pick(alias, named.attribute)
        if target.address and "view" in target.pages:
            self._pick(alias, target.stored(target.address).attribute)
        # Below an outer join everything is outer: a missing parent must not hide the row.
        outer = not reference.required or prefix in self._outer
        self.joins.append(("outerjoin" if outer else "join", [step]))
        if outer:
            self._outer.add(f"{alias}_")
        path = (*way, step)
        self.options.append(("options", [_loaded(target, alias, path)]))
        for inner in _shown_references(target):
            self._join(inner, alias, f"{alias}_", path)
        return alias

    def order(self, path: str) -> list[str]:
        """The columns that put rows in the order of what a path leads to."""
        owner, prefix, way, member = self._reach(path)
        if not isinstance(member, Reference):
            return [f"{owner}.{member.attribute}"]
        alias = self._join(member, owner, prefix, way)
        return self._order_of(self.schema.models[member.target], alias)

    def _order_of(self, model: Model, alias: str) -> list[str]:
        found: list[str] = []
        for part in model.shown_as:
            if not part.is_field:
                continue
            member = model.by_name.get(part.text)
            if isinstance(member, Reference):
                found += self._order_of(self.schema.models[member.target], f"{alias}_{member.name}")
            elif member is not None:
                found.append(f"{alias}.{member.attribute}")
        return found

    def by(self, sorts: Iterable[Sort]) -> list[str]:
        """Arguments of order_by for some sort keys."""
        found: list[str] = []
        for sort in sorts:
            columns = self.order(sort.name)
            found += [f"{column}.desc()" for column in columns] if sort.descending else columns
        return found

    def sort_columns(self, path: str) -> list[str]:
        """As `order`, with the key of the last related row: an index can be followed so."""
        owner, prefix, way, member = self._reach(path)
        columns = self.order(path)
        if isinstance(member, Reference):
            owner = self._join(member, owner, prefix, way)
            model = self.schema.models[member.target]
        else:
            model = self.schema.models[member.model]
        if owner != self.owner:
            columns.append(f"{owner}.{key_attribute(model)}")
        return columns

    def columns_source(self, *, removed: bool = False, parts: bool = False) -> str:
        """The statement for just the columns that were picked; its rows are no entities.

        Those of `parts` are shown on the page of what they are part of, which is in no bin.
        """
        picked = [f"{owner}.{name}" for owner, names in self._picked.items() for name in names]
        which = []
        if "bin" in self.model.keeps:
            asked = "is_not" if removed else "is_"
            which.append(f"{self.owner}.removed_at.{asked}(None)")
        owner = self.schema.owner_of(self.model)
        above = self.schema.models[owner.target] if owner else None
        if owner and above and not parts and (hidden := self._hidden(above)):
            which.append(f"{self.owner}.{owner.key_attribute}.not_in({hidden})")
        where = f".where({', '.join(which)})" if which else ""
        return f"{use.sa}.select({', '.join(picked)}){where}"

    def _hidden(self, model: Model) -> str:
        """The keys of rows in the bin, and of what is part of such; empty where none can be."""
        ways = [f"{use.row(model.name)}.removed_at.is_not(None)"] if "bin" in model.keeps else []
        owner = self.schema.owner_of(model)
        if owner and owner.target != model.name:
            above = self._hidden(self.schema.models[owner.target])
            ways += [f"{use.row(model.name)}.{owner.key_attribute}.in_({above})"] if above else []
        if not ways:
            return ""
        which = f"{use.sa}.or_({', '.join(ways)})" if len(ways) > 1 else ways[0]
        return f"{use.sa}.select({use.row(model.name)}.{key_attribute(model)}).where({which})"

    def source(self, head: str, order: list[str] | None = None, *, indent: int = 0) -> str:
        """The statement, with `head` before it."""
        links = [*self.joins, *self.options]
        start = f"{use.sa}.select({self.owner})"
        if self.is_under_bin:
            start = f"{use.live}({start}, {self.owner})"
        elif "bin" in self.model.keeps:
            links.append(("where", [f"{self.owner}.removed_at.is_(None)"]))
        if order:
            links.append(("order_by", [*order]))
        return chain(head, start, links, indent=indent)

    @property
    def is_under_bin(self) -> bool:
        """Whether its rows are part of rows that may lie in the bin."""
        owner = self.schema.owner_of(self.model)
        seen = {self.model.name}
        while owner and owner.target not in seen:
            above = self.schema.models[owner.target]
            if "bin" in above.keeps:
                return True
            seen.add(above.name)
            owner = self.schema.owner_of(above)
        return False

    def alias_lines(self, indent: int = 0) -> list[str]:
        margin = " " * indent
        return [
            f"{margin}{alias} = {use.orm}.aliased({use.row(target)})"
            for alias, target in self.aliases.items()
        ]


def _loaded(target: Model, alias: str, path: tuple[Argument, ...]) -> Argument:
    """The option that takes a joined row along, without what would be worked out in vain."""
    load = Call(f"{use.orm}.contains_eager", path)
    shown = {part.text for part in target.shown_as if part.is_field}
    unseen = [computed for computed in target.computed if computed.name not in shown]
    if not unseen:
        return load
    return str(load) + "".join(f".defer({alias}.{computed.attribute})" for computed in unseen)


def _shown_references(model: Model) -> list[Reference]:
    names = [part.text for part in model.shown_as if part.is_field]
    return [reference for reference in model.references if reference.name in names]


def key_attribute(model: Model) -> str:
    """The attribute that is the key of a model's class."""
    return model.stored(model.key).attribute if model.key else "id"


def by_name(schema: Schema, model: Model) -> tuple[Query, list[str]]:
    """The query for all rows in the order of their names, and that order."""
    query = Query(schema, model, "its_", "cls")
    order: list[str] = []
    for part in model.shown_as:
        member = model.by_name.get(part.text) if part.is_field else None
        if member is not None:
            order += query.order(member.name)
    return query, [*order, f"cls.{key_attribute(model)}"]
