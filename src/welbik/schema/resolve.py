"""Syntax trees to the resolved schema; what does not fit together is reported."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from ..kinds import kinds
from ..kinds.native import is_type
from ..language import syntax
from ..language.diagnostics import Report
from ..language.words import PAGES
from . import names
from .clauses import (
    ModelNames,
    Paths,
    default_columns,
    default_filters,
    default_search,
    resolve_paths,
    resolve_shown_as,
    resolve_sort,
)
from .computed import resolve_computed
from .consistency import check_schema
from .expressions import condition
from .members import ON_COMPUTED, Modifiers, checked_name, resolve_field, resolve_reference
from .model import AnyMember, Computed, Field, Group, Model, Reference, Rule, Schema, Shape, Unique
from .occasions import made_only
from .relations import resolve_collection, resolve_many, unknown_model
from .rows import resolve_rows
from .rules import Written, check_rules, clause_rules, field_rules, named, where_rules
from .scope import Scope
from .seeds import resolve_seeds
from .shapes import resolve_shapes, resolve_values, unknown_part, with_choices

_LONGEST = 40


def resolve(files: Sequence[syntax.File], report: Report) -> Schema:
    """The schema of all files together. What is wrong is reported and left out."""
    nodes: dict[str, syntax.Model] = {}
    for file in files:
        for node in file.models:
            if _model_name(node, nodes, report):
                nodes[node.name.text] = node
    values = resolve_values(files, nodes, report)
    shapes = resolve_shapes(files, nodes, values, report)
    resolver = _Resolver(nodes, values, shapes, report)
    models = {name: resolver.model(name) for name in nodes}
    seed, profiles = resolve_seeds(files, models, report)
    schema = Schema(models, seed, profiles, shapes)
    check_schema(schema, files, report)
    return replace(schema, rows=resolve_rows(files, schema, report))


def _model_name(node: syntax.Model, nodes: dict[str, syntax.Model], report: Report) -> bool:
    name = node.name
    if not name.text[0].isupper() or "_" in name.text or not name.text.isascii():
        camel = "".join(word.capitalize() for word in name.text.split("_"))
        message = f"{name.text!r} can't name a model: names are capitalised, without _"
        report.add("bad-name", message, name.span, f"call it {camel}", fix=camel or None)
        return False
    if len(name.text) > _LONGEST:
        _long_name(name, report)
        return False
    if name.text in nodes:
        first = nodes[name.text].name.span
        message = f"the model {name.text} is declared twice"
        report.add(
            "duplicate-model",
            message,
            name.span,
            "give one of them another name",
            (("first declared here", first),),
        )
        return False
    return True


def _long_name(name: syntax.Word, report: Report) -> None:
    report.add(
        "long-name",
        f"this name has {len(name.text)} letters",
        name.span,
        f"use at most {_LONGEST}: databases cut longer ones",
    )


@dataclass
class _Draft:
    """A model's members, and what stands behind them that other models are needed for."""

    members: list[AnyMember] = field(default_factory=list)
    written: list[Written] = field(default_factory=list)
    computed: dict[str, tuple[syntax.Field, Modifiers]] = field(default_factory=dict)
    unread: set[str] = field(default_factory=set)
    order: list[str] = field(default_factory=list)


class _Resolver:
    """Resolves the members of all models first, then all that may look at other models."""

    def __init__(
        self,
        nodes: dict[str, syntax.Model],
        values: dict[str, tuple[syntax.Choice, ...]],
        shapes: dict[str, Shape],
        report: Report,
    ) -> None:
        self.nodes, self.values, self.shapes, self.report = nodes, values, shapes, report
        self.known = {name: ModelNames.of(node) for name, node in nodes.items()}
        self.paths = Paths(self.known, report)
        self.drafts = {name: self._draft(node) for name, node in nodes.items()}
        self.scope = Scope(report)
        self.computed: dict[str, dict[str, Computed]] = {name: {} for name in nodes}
        for name, draft in self.drafts.items():
            kept = {word.text for word in nodes[name].keep or ()}
            entries = self.scope.add(name, draft.members, draft.unread, has_bin="bin" in kept)
            for node, modifiers in draft.computed.values():
                self._add_formula(name, entries, node, modifiers)

    def _add_formula(
        self, model: str, entries: object, node: syntax.Field, modifiers: Modifiers
    ) -> None:
        def work_out() -> object:
            found = resolve_computed(model, node, modifiers, self.scope, self.report)
            if found is not None:
                self.computed[model][node.name.text] = found
            return found and found.formula

        self.scope.add_formula(entries, model, node.name, work_out)  # type: ignore[arg-type]

    def _draft(self, node: syntax.Model) -> _Draft:
        draft = _Draft()
        seen: dict[str, syntax.Word] = {}
        for member in node.members:
            name = member.name
            if not self._fresh(name, node.name.text, seen):
                continue
            seen[name.text] = name
            draft.order.append(name.text)
            found = self._member(node.name.text, member, draft)
            if found is None and name.text not in draft.computed:
                draft.unread.add(name.text)
            elif found is not None:
                draft.members.append(found)
        return draft

    def _fresh(self, name: syntax.Word, model: str, seen: dict[str, syntax.Word]) -> bool:
        if name.text in seen:
            self.report.add(
                "duplicate-field",
                f"{model} has two members called {name.text!r}",
                name.span,
                "give one of them another name",
                (("first declared here", seen[name.text].span),),
            )
            return False
        if len(name.text) > _LONGEST:
            _long_name(name, self.report)
        if name.text == "id":
            self.report.add(
                "reserved-name",
                "every model has an id of its own",
                name.span,
                "take this line out, or call the field number",
            )
            return False
        return True

    def _member(self, model: str, node: syntax.Member, draft: _Draft) -> AnyMember | None:
        if isinstance(node, syntax.Field):
            chosen = self._with_choices(node)
            if chosen is None:
                return None
            if chosen.formula is not None:
                modifiers = Modifiers(node.modifiers, ON_COMPUTED, "a computed field", self.report)
                draft.computed[node.name.text] = (chosen, modifiers)
                return None
            found = resolve_field(model, chosen, kinds(), self.shapes, self.report)
        elif isinstance(node, syntax.Reference):
            if node.target.text not in self.known:
                unknown_model(node.target, self.known, self.report)
                return None
            reference, modifiers = resolve_reference(model, node, self.report)
            draft.written.append((node, modifiers))
            return reference
        else:
            return self._relation(model, node)
        if found is None:
            return None
        draft.written.append((node, found[1]))
        return found[0]

    def _with_choices(self, node: syntax.Field) -> syntax.Field | None:
        """`one of Severity` with the choices of Severity in it."""
        part = node.type.named if node.type.word.text == "list" else None
        if part is not None and part.text not in self.shapes:
            unknown_part(part, self.shapes, self.report)
            return None
        return with_choices(node, self.values, self.report)

    def _relation(self, model: str, node: syntax.Member) -> AnyMember | None:
        if isinstance(node, syntax.Collection):
            if node.model.text in self.known:
                return resolve_collection(model, node, self.known, self.paths, self.report)
            unknown_model(node.model, self.known, self.report)
        elif isinstance(node, syntax.Many):
            if node.target.text in self.known:
                return resolve_many(model, node, self.nodes, self.paths, self.report)
            unknown_model(node.target, self.known, self.report)
        return None

    def model(self, name: str) -> Model:
        """The model with all that was said of it."""
        node, draft = self.nodes[name], self.drafts[name]
        members = self._everything(name, draft)
        if node.key is not None and self._is_key_of_several(node.key, members):
            # Who changed what a row is told by would make another row of it.
            told = {word.text for word in node.key.names}
            members = tuple(
                replace(m, fixed=True)
                if isinstance(m, Field | Reference) and m.name in told and not m.internal
                else m
                for m in members
            )
        rules = self._rules(node, draft, members)
        if not node.members:
            self.report.add(
                "empty-model",
                f"the model {name} has no fields",
                node.name.span,
                "declare one below it, indented: name text 80, required",
            )
        singular, plural = _called(node, self.report)
        own = self.known[name]
        self._check_order(name, node)
        columns = resolve_paths(node.columns, name, self.paths, self.report)
        shown = self._there(columns, members) or default_columns(members)
        return Model(
            name=name,
            help=node.help.text if node.help else "",
            singular=singular,
            plural=plural,
            everything=members,
            shown_as=resolve_shown_as(node, members, own, singular, self.report),
            columns=shown,
            sort=resolve_sort(node.sort, name, self.paths),
            span=node.name.span,
            rules=rules,
            search=resolve_paths(node.search, name, self.paths, self.report)
            if node.search is not None
            else default_search(members),
            filters=resolve_paths(node.filter, name, self.paths, self.report, many=True)
            if node.filter is not None
            else default_filters(members, shown),
            stored_as=checked_name(node.stored_as, self.report) if node.stored_as else "",
            as_it_is=node.as_it_is is not None,
            was=node.was.text if node.was else "",
            was_span=node.was.span if node.was else None,
            **self._clauses(node, members),
        )

    def _everything(self, name: str, draft: _Draft) -> tuple[AnyMember, ...]:
        found = {member.name: member for member in draft.members}
        for reference in [m for m in draft.members if isinstance(m, Reference)]:
            found[reference.name] = self._with_where(reference, draft)
        found |= made_only(name, draft.members, draft.written, self.scope, self.report)
        for computed in draft.computed:
            self.scope[name].get(computed)
            if computed in self.computed[name]:
                found[computed] = self.computed[name][computed]
        return tuple(found[member] for member in draft.order if member in found)

    def _with_where(self, reference: Reference, draft: _Draft) -> Reference:
        for node, modifiers in draft.written:
            if node.name.text == reference.name:
                given = modifiers.get("where")
                if given is not None and given.expression is not None:
                    where = condition(given.expression, reference.target, self.scope, self.report)
                    return replace(reference, where=where)
        return reference

    def _check_order(self, model: str, node: syntax.Model) -> None:
        """What rows are sorted by must have an order."""
        keys = [(model, key) for key in node.sort or ()]
        for member in node.members:
            if isinstance(member, syntax.Collection | syntax.Many):
                child = member.model if isinstance(member, syntax.Collection) else member.target
                keys += [(child.text, key) for key in member.sort]
        for owner, key in keys:
            found = self._at_end(owner, key.path.text)
            if isinstance(found, Field) and found.kind.as_json:
                self.report.add(
                    "no-order",
                    f"{found.kind.describe()!r} has no order to sort by",
                    key.path.span,
                    "sort by another field",
                    (("it is declared here", found.span),),
                )

    def _at_end(self, model: str, path: str) -> AnyMember | None:
        """The member that a path leads to, as far as it is known."""
        found: AnyMember | None = None
        for name in path.split("."):
            members = self.drafts[model].members if model in self.drafts else []
            found = next((m for m in members if m.name == name), None)
            if isinstance(found, Reference):
                model = found.target
        return found

    def _there(self, columns: tuple[str, ...], members: Sequence[AnyMember]) -> tuple[str, ...]:
        """The columns less those that stand for a member whose declaration is wrong."""
        found = {member.name for member in members}
        return tuple(name for name in columns if name.partition(".")[0] in found)

    def _rules(
        self, node: syntax.Model, draft: _Draft, members: Sequence[AnyMember]
    ) -> tuple[Rule, ...]:
        name = node.name.text
        rules = field_rules(name, draft.written, self.scope, self.report)
        rules += where_rules([m for m in members if isinstance(m, Reference)])
        rules += clause_rules(node, members, self.scope, self.report)
        check_rules(rules, self.report)
        return named(rules)

    def _clauses(self, node: syntax.Model, members: Sequence[AnyMember]) -> dict[str, Any]:
        """The clauses that name members or words of a closed list."""
        stored = [m.name for m in members if isinstance(m, Field | Reference)]
        asked = [m.name for m in members if not isinstance(m, Computed)]
        uniques, indexes = [], []
        for group in node.uniques:
            found = self._names(group.names, stored, node)
            if len(found) > 1:
                say = group.text.text if group.text else ""
                uniques.append(Unique(found, say, group.span))
            elif found and len(group.names) == 1:
                self.report.add(
                    "said-otherwise",
                    "one field alone is unique by its own modifier",
                    group.span,
                    f"write it behind the field: {found[0]} …, unique",
                )
        for group in node.indexes:
            indexes.append(self._names(group.names, stored, node))
        groups: list[Group] = []
        taken: set[str] = set()
        for group in node.groups:
            found = self._names(group.names, asked, node)
            twice = [word for word in group.names if word.text in taken]
            for word in twice:
                self.report.add(
                    "said-twice",
                    f"{word.text!r} is on the form twice",
                    word.span,
                    "keep one of the two",
                )
            names_ = tuple(name for name in found if name not in taken)
            taken |= set(names_)
            groups.append(Group(group.text.text if group.text else "", names_))
        key = self._key(node, members)
        return {
            "uniques": self._uniques(uniques, key, node),
            "indexes": tuple(dict.fromkeys(index for index in indexes if index)),
            "groups": tuple(groups),
            "pages": PAGES if node.pages is None else self._pages(node.pages),
            "menu": "" if node.menu is None else (node.menu.text or None),
            "keeps": frozenset(word.text for word in node.keep or ()),
            "address": self._single(node.address, node, members),
            **key,
        }

    def _key(self, node: syntax.Model, members: Sequence[AnyMember]) -> dict[str, Any]:
        """What tells the rows of a table apart."""
        key = node.key
        if key is None:
            return {}
        if key.stored_as is not None:
            return {
                "number": checked_name(key.stored_as, self.report) or "id",
                "number_native": self._type_of(key),
                "handed_out": key.handed_out,
            }
        references = {m.name for m in members if isinstance(m, Reference)}
        if len(key.names) == 1 and key.names[0].text not in references:
            return {"key": self._single(key.names[0], node, members)}
        plain = [m for m in members if isinstance(m, Field | Reference)]
        if not key.names:
            told = [m.name for m in plain if not (isinstance(m, Field) and m.kind.as_json)]
            # What only the database reads has no order, and nothing equals it.
            own = {m.name for m in plain if m.by_database and m.native}
            told = [name for name in told if name not in own] or told
            self._reads_only(node, key)
            return {"keyless": True, "keys": tuple(told)}
        found = self._names(key.names, [m.name for m in plain], node)
        for member in plain:
            if member.name in found and not member.required:
                self.report.add(
                    "not-unique",
                    f"{member.name!r} is part of the key, so it must be required",
                    key.span,
                    f"write 'required' behind {member.name}",
                    (("it is declared here", member.span),),
                )
        return {"keys": found}

    def _uniques(
        self, found: list[Unique], clauses: dict[str, Any], node: syntax.Model
    ) -> tuple[Unique, ...]:
        """What is unique together: the key too, where it is made of several."""
        keys = clauses.get("keys", ())
        if len(keys) < 2 or clauses.get("keyless") or any(u.names == keys for u in found):
            return tuple(found)
        assert node.key is not None
        return (*found, Unique(keys, "", node.key.span))

    def _type_of(self, key: syntax.Key) -> str:
        if key.of is None or is_type(key.of.text):
            return key.of.text if key.of else ""
        self.report.add(
            "bad-name",
            f"{key.of.span.text} can't be a type of a database",
            key.of.span,
            'write it as the database does: of "bigint"',
        )
        return ""

    @staticmethod
    def _is_key_of_several(key: syntax.Key, members: Sequence[AnyMember]) -> bool:
        """Whether a key is made of several members, or of what leads to another row."""
        references = {member.name for member in members if isinstance(member, Reference)}
        return len(key.names) > 1 or any(word.text in references for word in key.names)

    def _reads_only(self, node: syntax.Model, key: syntax.Key) -> None:
        """Rows that nothing tells apart are only looked at."""
        asked = [word for word in node.pages or () if word.text not in ("list", "view")]
        if node.pages is None or asked:
            self.report.add(
                "contradiction",
                "rows that have no key can't be changed or removed",
                asked[0].span if asked else key.span,
                "write: pages list, view",
            )

    def _pages(self, words: Sequence[syntax.Word]) -> tuple[str, ...]:
        asked = {word.text for word in words}
        return tuple(page for page in PAGES if page in asked)

    def _names(
        self, words: Sequence[syntax.Word], known: Sequence[str], node: syntax.Model
    ) -> tuple[str, ...]:
        own = self.known[node.name.text]
        found: list[str] = []
        for word in words:
            if word.text in found:
                self.report.add(
                    "said-twice", f"{word.text!r} is named twice", word.span, "keep one of the two"
                )
            elif word.text in known:
                found.append(word.text)
            elif (
                word.text not in own.unread and word.text not in self.drafts[node.name.text].unread
            ):
                own._replace(columns=tuple(known)).knows(word, node.name.text, self.report)
        return tuple(found)

    def _single(
        self, word: syntax.Word | None, node: syntax.Model, members: Sequence[AnyMember]
    ) -> str:
        """The field of `address` or `key`: required, unique, and a plain value."""
        if word is None:
            return ""
        fields = {m.name: m for m in members if isinstance(m, Field)}
        if not self._names([word], list(fields), node):
            return ""
        found = fields[word.text]
        if not (found.required or found.kind.self_made) or not found.unique:
            self.report.add(
                "not-unique",
                f"{word.text!r} must be required and unique to tell rows apart",
                word.span,
                f"write: {word.text} {found.kind.describe()}, required, unique",
                (("it is declared here", found.span),),
            )
            return ""
        if not found.kind.addressable:
            self.report.add(
                "not-unique",
                f"a {found.kind.word} makes no address",
                word.span,
                "name a text, a whole number, a slug or a uuid",
            )
            return ""
        return word.text


def _called(node: syntax.Model, report: Report) -> tuple[str, str]:
    if node.called is None:
        singular = " ".join(names.words(node.name.text))
        return singular, names.plural(singular)
    one, many = node.called
    plural = many or syntax.Word(names.plural(one.text), one.span)
    for word in (one, plural):
        if not names.slug(word.text):
            report.add(
                "bad-name",
                f"{word.text!r} has no letters to make an address of",
                word.span,
                "use at least one of a-z or 0-9",
            )
    return one.text, plural.text
