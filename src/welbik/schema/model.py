"""Resolved, immutable models, fields and relations."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from functools import cached_property
from typing import NamedTuple

from ..blueprint import taken
from ..kinds.base import Kind
from ..language.source import Span
from ..rules.patterns import Pattern
from ..rules.tree import Node, Value, behind, equals, own
from . import names


class Term(NamedTuple):
    """A part of `sample`, its numbers and texts as Python values."""

    word: str
    arguments: tuple[object, ...] = ()


@dataclass(frozen=True, eq=False)
class Member:
    """What every member of a model has."""

    model: str
    name: str
    span: Span
    label: str = ""
    hint: str = ""

    @property
    def attribute(self) -> str:
        return names.module(self.name, taken.ATTRIBUTES)


@dataclass(frozen=True, eq=False)
class Stored(Member):
    """A member with a column of its own. `says` words the failure of a check by its name."""

    required: bool = False
    unique: bool = False
    indexed: bool = False
    internal: bool = False
    fixed: bool = False
    stored_as: str = ""
    native: str = ""
    """The type that the database has for it, where that is not what Welbik would choose."""
    yes_no: tuple[str, ...] = ()
    """What stands for yes and no, where the database has other values for them."""
    empty: str | None = None
    """What stands for an empty value where the column always holds something, as neutral text."""
    by_database: bool = False
    """Whether the database gives it its value, and nobody else."""
    was: str = ""
    was_value: str = ""
    """What rows that are there get, over the row as it was before: an expression."""
    was_span: Span | None = None
    sample: tuple[Term, ...] = ()
    says: Mapping[str, str] = field(default_factory=dict)
    control: str = ""


MOST_SHOWN = 200
"""Characters of a long text that stand in a row's name."""


@dataclass(frozen=True, eq=False, kw_only=True)
class Field(Stored):
    """A typed value of a row. `shape` is the part whose values a list holds."""

    kind: Kind
    default: object | None = None
    pattern: Pattern | None = None
    unit: str = ""
    shape: Shape | None = None
    only: Node | None = None
    """What must hold of a row whose value is made up; else it is left empty."""

    @property
    def column(self) -> str:
        return self.stored_as or self.name

    @property
    def is_long(self) -> bool:
        """Whether it may hold a long text: such is cut to `MOST_SHOWN` where several rows stand.

        As in `kit/texts.py`.
        """
        longest = getattr(self.kind, "longest", None)
        return self.kind.plain_text and (longest is None or longest > 1_000)

    @property
    def labels_name(self) -> str:
        """The constant that holds the labels of its choices."""
        return f"{self.name.upper()}_LABELS"


@dataclass(frozen=True, eq=False, kw_only=True)
class Reference(Stored):
    """Many rows of `model` to one row of `target`; one to one where it is unique.

    `removal` says what happens to the row when its target is removed: refuse, clear, remove.
    `where` is a condition that the target's row must meet.
    """

    target: str
    removal: str = "refuse"
    owned: bool = False
    loops: bool = False
    where: Node | None = None

    @property
    def column(self) -> str:
        return self.stored_as or self.key_attribute

    @property
    def key_attribute(self) -> str:
        """The attribute that holds the key of the other row."""
        return f"{self.name}_id"


@dataclass(frozen=True, eq=False, kw_only=True)
class Computed(Member):
    """A value worked out by the database whenever the row is read."""

    kind: Kind
    formula: Node
    unit: str = ""


class Sort(NamedTuple):
    """A path of names with dots between them, and its direction."""

    name: str
    descending: bool = False

    def __str__(self) -> str:
        return f"-{self.name}" if self.descending else self.name


@dataclass(frozen=True, eq=False, kw_only=True)
class Collection(Member):
    """The other side of `child.via`, shown on the parent's page."""

    child: str
    via: str
    sort: tuple[Sort, ...] = ()


@dataclass(frozen=True, eq=False, kw_only=True)
class Many(Member):
    """Many to many. The side that declares it has the form's control; `other` names the other side."""

    target: str
    declares: bool
    other: str = ""
    required: bool = False
    sort: tuple[Sort, ...] = ()
    sample: tuple[Term, ...] = ()
    was: str = ""
    was_span: Span | None = None
    says: Mapping[str, str] = field(default_factory=dict)
    table: str = ""
    column: str = ""
    target_column: str = ""
    as_it_is: bool = False
    """Whether the table of pairs was made by others: both columns are its key."""


class Piece(NamedTuple):
    """A piece of `shown as`: a plain text, or the name of a field between braces."""

    text: str
    is_field: bool


@dataclass(frozen=True, eq=False)
class Rule:
    """A condition that must never be false. `text` is as it was written, `at` a member's name."""

    name: str
    node: Node
    say: str
    at: str
    text: str
    span: Span


class Unique(NamedTuple):
    """Members whose values together differ from row to row."""

    names: tuple[str, ...]
    say: str
    span: Span


class Group(NamedTuple):
    """A group of the form: its title and its members."""

    title: str
    names: tuple[str, ...]


@dataclass(frozen=True, eq=False)
class Shape:
    """A part: a shape that lives inside a model's row."""

    name: str
    help: str
    fields: tuple[Field, ...]
    rules: tuple[Rule, ...]
    span: Span


AnyMember = Field | Reference | Computed | Collection | Many


@dataclass(frozen=True, eq=False)
class Model:
    """A model with everything that was said of it, and what holds where nothing was."""

    name: str
    help: str
    singular: str
    plural: str
    everything: tuple[AnyMember, ...]
    shown_as: tuple[Piece, ...]
    columns: tuple[str, ...]
    sort: tuple[Sort, ...]
    span: Span
    rules: tuple[Rule, ...] = ()
    uniques: tuple[Unique, ...] = ()
    indexes: tuple[tuple[str, ...], ...] = ()
    search: tuple[str, ...] = ()
    filters: tuple[str, ...] = ()
    groups: tuple[Group, ...] = ()
    pages: tuple[str, ...] = ("list", "new", "view", "edit", "remove")
    menu: str | None = ""
    keeps: frozenset[str] = frozenset()
    address: str = ""
    key: str = ""
    keys: tuple[str, ...] = ()
    """The members that are the key together; all that have a value of their own without any key."""
    keyless: bool = False
    number: str = "id"
    """The column of its own number, where no member is the key."""
    number_native: str = ""
    handed_out: bool = False
    """Whether the application gives its number, and not the database."""
    as_it_is: bool = False
    """Whether its table was made by others: nothing is added to it that is not declared."""
    stored_as: str = ""
    was: str = ""
    was_span: Span | None = None

    @cached_property
    def members(self) -> tuple[Field | Reference, ...]:
        """What has a column, in the order of declaration."""
        return tuple(m for m in self.everything if isinstance(m, Field | Reference))

    @cached_property
    def fields(self) -> tuple[Field, ...]:
        return tuple(m for m in self.everything if isinstance(m, Field))

    @cached_property
    def references(self) -> tuple[Reference, ...]:
        return tuple(m for m in self.everything if isinstance(m, Reference))

    @cached_property
    def computed(self) -> tuple[Computed, ...]:
        return tuple(m for m in self.everything if isinstance(m, Computed))

    @cached_property
    def collections(self) -> tuple[Collection, ...]:
        return tuple(m for m in self.everything if isinstance(m, Collection))

    @cached_property
    def many(self) -> tuple[Many, ...]:
        return tuple(m for m in self.everything if isinstance(m, Many))

    @cached_property
    def entered(self) -> tuple[Field | Reference | Many, ...]:
        """What the form asks for, in the order of its groups and then of declaration."""
        wanted = [name for group in self.groups for name in group.names]
        asked: list[Field | Reference | Many] = [
            m
            for m in self.everything
            if isinstance(m, Field | Reference)
            and not m.internal
            or isinstance(m, Many)
            and m.declares
        ]
        order = {name: at for at, name in enumerate(wanted)}
        return tuple(sorted(asked, key=lambda m: order.get(m.name, len(order))))

    @cached_property
    def by_name(self) -> Mapping[str, AnyMember]:
        return {member.name: member for member in self.everything}

    def asked_of(self, reference: Reference, beside: Sequence[str] = ()) -> Mapping[str, Node]:
        """What a row must meet that a relation leads to: rules that read it alone, by their names,
        and by none what the relation itself says.

        Rules that read rows that relations `beside` lead to are among them."""
        found = {rule.name: behind(rule.node, reference.name, beside) for rule in self.rules}
        found[""] = reference.where
        return {name: node for name, node in found.items() if node is not None}

    def tied_to(self, reference: Reference) -> tuple[str, ...]:
        """The relations whose rows a rule compares with that of another, in order."""
        found: set[str] = set()
        for rule in self.rules:
            ways = [one.path if isinstance(one, Value) else () for one in own(rule.node)]
            names = {way[0].reference for way in ways if way}
            if all(ways) and reference.name in names:
                found |= names - {reference.name}
        return tuple(r.name for r in self.references if r.name in found)

    def same_rows(self) -> Sequence[Sequence[tuple[str, str]]]:
        """For each rule that wants two relations to lead to the same row: those of which some must."""
        found = (tuple(equals(rule.node)) for rule in self.rules)
        names = {reference.name for reference in self.references}
        return [pairs for pairs in found if pairs and all(names.issuperset(p) for p in pairs)]

    @property
    def numbered(self) -> bool:
        """Whether its key is a number of its own."""
        return not (self.key or self.keys or self.keyless)

    def stored(self, name: str) -> Field | Reference:
        """The member with a column of that name; KeyError where there is none."""
        member = self.by_name[name]
        if isinstance(member, Field | Reference):
            return member
        raise KeyError(name)

    @property
    def table(self) -> str:
        return self.stored_as or names.snake(self.name)

    @property
    def folder(self) -> str:
        """The folder and the variable of the generated code."""
        return names.module(names.snake(self.name), taken.FOLDERS)

    @property
    def endpoint(self) -> str:
        """What begins the names of its pages in the application."""
        return names.snake(self.name)

    @property
    def tests(self) -> str:
        """The file of its tests, by its path in the project."""
        return names.tests_file(self.name, taken.TESTS)

    @property
    def factory(self) -> str:
        """What makes a row of it in tests."""
        name = names.module(names.snake(self.name), taken.FACTORIES)
        mistaken = name.startswith(taken.BEFORE_FACTORIES) or name.endswith(taken.AFTER_FACTORIES)
        return f"{name}_" if mistaken else name

    @property
    def url(self) -> str:
        return names.slug(self.plural)

    @property
    def a_row(self) -> str:
        return f"{names.article(self.singular)} {self.singular}"


class FixedRows(NamedTuple):
    """Rows that are always there: by member name, None where a cell is empty.

    A relation's value is the text that its row is shown as, or its unique text.
    """

    names: tuple[str, ...]
    rows: tuple[tuple[object, ...], ...]


@dataclass(frozen=True, eq=False)
class Schema:
    """All models by name, in the order of declaration, and how many rows a fill makes."""

    models: Mapping[str, Model]
    seed: Mapping[str, int]
    profiles: Mapping[str, Mapping[str, int]] = field(default_factory=dict)
    parts: Mapping[str, Shape] = field(default_factory=dict)
    rows: Mapping[str, FixedRows] = field(default_factory=dict)

    def __iter__(self) -> Iterator[Model]:
        return iter(self.models.values())

    @cached_property
    def _referring(self) -> Mapping[str, list[Reference]]:
        found: dict[str, list[Reference]] = {name: [] for name in self.models}
        for model in self:
            for reference in model.references:
                found[reference.target].append(reference)
        return found

    def referring(self, name: str) -> list[Reference]:
        """The references to a model, from any model."""
        return self._referring[name]

    def key_of(self, model: Model) -> Field | Model:
        """What tells the rows of a model apart, or begins to: a field, also where that is the key
        of a row that it leads to, or the model whose own number it is."""
        seen = {""}
        while model.name not in seen and (name := model.key or next(iter(model.keys), "")):
            seen.add(model.name)
            member = model.stored(name)
            if isinstance(member, Field):
                return member
            model = self.models[member.target]
        return model

    def owner_of(self, model: Model) -> Reference | None:
        """The reference to the row that a row of a model is made under, where there is one.

        A parent needs a page of its own for that; where it has none, its children are made
        as all other rows are.
        """
        for reference in model.references:
            if reference.owned and "view" in self.models[reference.target].pages:
                return reference if reference.target != model.name else None
        return None

    def is_chosen(self, name: str) -> bool:
        """Whether rows of a model are chosen by their names: in forms, filters or their list."""
        pages = set(self.models[name].pages)
        if "list" in pages and {"edit", "remove", "view"} & pages:
            return True
        many = (m.target for model in self for m in model.many)
        return bool(self.referring(name)) or name in many

    @cached_property
    def parents_first(self) -> tuple[Model, ...]:
        """Models so that those a row refers to come before it.

        Where optional references go in a circle, only the required ones decide.
        """
        placed: dict[str, Model] = {}
        todo = dict(self.models)
        while todo:
            ready = [m for m in todo.values() if _free(m, placed, needed_only=False)]
            if not ready:
                ready = [m for m in todo.values() if _free(m, placed, needed_only=True)][:1]
            for model in ready or [next(iter(todo.values()))]:
                placed[model.name] = model
                del todo[model.name]
        return tuple(placed.values())


def _free(model: Model, placed: Mapping[str, Model], *, needed_only: bool) -> bool:
    return all(
        r.target in placed or r.target == model.name
        for r in model.references
        if r.required or not needed_only
    )
