"""tests/: factories, and tests of every page, check and relation."""

from __future__ import annotations

from typing import Any

from ..blueprint import taken
from ..kinds.base import Case
from ..kinds.literals import quote
from ..rules.brought import use
from ..rules.tree import Aggregate, Node, Value, own, walk
from ..schema import names as naming
from ..schema.contradictions import can_break
from ..schema.model import Collection, Field, Many, Model, Reference, Schema
from ..schema.pairs import ends_of, is_asked_of
from .apart import declared
from .page_code import has_uploads, heading, is_chosen
from .promise_code import met, promises_context, told_in_docstring
from .python import call, doc, from_import, fstring, line


def supply_context(schema: Schema, package: str) -> dict[str, Any]:
    """What `supply.py.jinja` is filled with."""
    plurals = _plurals(schema)
    factories = [_factory(schema, model, plurals[model.name]) for model in schema]
    kit = ["entries", "fields"] if any(f["unique"] for f in factories) else ["fields"]
    imports = [from_import(f"{package}.kit", kit)]
    for model in sorted(schema, key=lambda model: model.folder):
        imports.append(
            from_import(f"{package}.{model.folder}.form", [f"form as {model.endpoint}_form"])
        )
        imports.append(from_import(f"{package}.{model.folder}.model", [model.name]))
    imports.sort(key=lambda line: line.split()[1])
    typed_keys = any(_types_key(model) and "edit" in model.pages for model in schema)
    return {"imports": imports, "factories": factories, "typed_keys": typed_keys}


def _types_key(model: Model) -> bool:
    """Whether a form that changes a row may give it another key."""
    key = model.by_name.get(model.key)
    made = isinstance(key, Field) and (key.kind.self_made or key.internal or key.fixed)
    return isinstance(key, Field) and not (made or key.by_database)


def _factory(schema: Schema, model: Model, plural: str) -> dict[str, Any]:
    needs = [
        {
            "column": r.key_attribute,
            "factory": schema.models[r.target].factory,
            "unique": r.unique,
            "name": r.name,
            "meets": bool(model.asked_of(r)) or bool(model.tied_to(r)),
            "beside": _beside(model, r),
            "same": bool(_same(model, r)),
        }
        for r in model.references
        if r.required
    ]
    many = [
        {
            "attribute": m.attribute,
            "rows": ", ".join([f"self.{schema.models[m.target].factory}()"] * ends_of(model, m)[0]),
        }
        for m in model.many
        if m.declares and ends_of(model, m)[0]
    ]
    values = [p for rule in model.rules for p in own(rule.node) if isinstance(p, Value)]
    # A related row may be compared itself, and not only what it holds.
    read = {p.path[0].reference if p.path else p.name for p in values}
    optional = [
        r for r in model.references if r.name in read and not r.required and r.where is None
    ]
    parents = [
        f'"{r.attribute}": self.find({r.target}, given["{r.key_attribute}"])'
        for r in model.references
        if r.required and r.name in read
    ]
    parents += [
        f'"{r.attribute}": self.find({r.target}, given.get("{r.key_attribute}"))' for r in optional
    ]
    several = [
        {
            "name": one.attribute,
            "factory": schema.models[one.child].factory,
            "column": _reference(schema, one).key_attribute,
        }
        for one in model.collections
    ]
    names = [str(one["name"]) for one in several]
    return {
        "several": several,
        "refers": bool(model.references),
        "several_names": f"({', '.join(map(quote, names))},)",
        "several_told": " or ".join(f"`{name}`" for name in names),
        "key": model.key or "id",
        "plural": plural,
        "broken": [
            {
                "name": quote(rule.name),
                "at": quote(rule.at if any(m.name == rule.at for m in model.entered) else ""),
                "says": quote(rule.say),
                "text": quote(rule.text),
            }
            for rule in model.rules
            if rule.name in {one["name"] for one in _rules(schema, model)}
        ],
        "unique": _taken(model),
        "name": model.factory,
        "model": model.name,
        "declared": declared(model.name),
        "form": f"{model.endpoint}_form",
        "needs": needs,
        "many": many,
        "optional": [
            {
                "column": r.key_attribute,
                "name": r.name,
                "factory": schema.models[r.target].factory,
                "beside": _beside(model, r),
            }
            for r in model.references
            if not r.required
        ],
        "linked": [
            {
                "attribute": m.attribute,
                "factory": schema.models[m.target].factory,
                # Any two may break what a rule asks of those that a row leads to, or they.
                "free": not is_asked_of(schema, m),
            }
            for m in model.many
            if m.declares
        ],
        "parents": f"{{{', '.join(parents)}}}" if model.rules and parents else "",
        "rules": bool(_rules(schema, model)),
        "uploads": has_uploads(model),
        "sent": "typing.Any" if has_uploads(model) else "str",
        "reads": [
            {
                "column": r.key_attribute,
                "factory": schema.models[r.target].factory,
                "name": r.name,
                "meets": bool(model.asked_of(r)) or bool(model.tied_to(r)),
                "beside": _beside(model, r),
            }
            for r in optional
        ],
    }


def _taken(model: Model) -> list[dict[str, str]]:
    """What no two rows may have alike, where it is typed, and what is said of that."""
    typed = {m.name for m in model.entered if not isinstance(m, Many)}
    members = [m for m in model.members if m.unique and m.name in typed]
    own = [((m.name,), "", f"{m.name} is unique") for m in members]
    groups = [(u.names, u.say, f"unique {', '.join(u.names)}") for u in model.uniques]
    return [
        {
            "names": f"({', '.join(map(quote, names))},)",
            "says": quote(say) if say else "",
            "why": quote(why),
        }
        for names, say, why in [*own, *groups]
        if set(names) <= typed
    ]


def _reference(schema: Schema, one: Collection) -> Reference:
    found = schema.models[one.child].by_name[one.via]
    assert isinstance(found, Reference)
    return found


def _plurals(schema: Schema) -> dict[str, str]:
    """What makes several rows of each model; empty where another maker has that name."""
    known, found = {model.factory for model in schema}, {}
    for model in schema:
        name = naming.module(naming.slug(model.plural).replace("-", "_"), taken.FACTORIES)
        wrong = name.startswith(taken.BEFORE_FACTORIES) or name.endswith(taken.AFTER_FACTORIES)
        found[model.name] = "" if name in known or wrong or not name.isidentifier() else name
        known.add(name)
    return found


def _same(model: Model, reference: Reference) -> set[str]:
    """The relations that a rule wants to lead to the same row as this one."""
    pairs = [pair for pairs in model.same_rows() for pair in pairs if reference.name in pair]
    return {name for pair in pairs for name in pair} - {reference.name}


def _beside(model: Model, reference: Reference) -> str:
    """The rows that a rule compares with those of a relation, as source; empty where there are none."""
    tied = [model.stored(name) for name in model.tied_to(reference)]
    rows = [
        f'"{r.name}": self.find({r.target}, given.get("{r.key_attribute}"))'
        for r in tied
        if isinstance(r, Reference)
    ]
    return f"{{{', '.join(rows)}}}" if rows else ""


def tests_context(schema: Schema, model: Model, package: str) -> dict[str, Any]:
    """What `test.py.jinja` is filled with."""
    owner = schema.owner_of(model)
    asked = {m.name for m in model.entered if m is not owner}
    return {
        "doc": doc(
            f"{model.plural}: every page, every check just inside and outside, every relation"
        ),
        "sent": use.Any if has_uploads(model) else "str",
        "name": model.factory,
        "page": model.pages,
        "url_line": line("URL = ", quote(f"/{model.url}")),
        "owner": _owner(schema, owner) if owner else None,
        "bin": "bin" in model.keeps,
        **{f"page_for_{typed}": _new_page(owner, typed) for typed in _TYPED},
        "answers": _answers(model, owner),
        "answer_row": f"    row = supply.{model.factory}()"
        if {"view", "edit", "remove"} & {*model.pages}
        else f"    supply.{model.factory}()",
        "nothing": "00000000-0000-4000-8000-000000000000" if _by_uuid(model) else "999999",
        **_checked(schema, model, asked if "new" in model.pages else set()),
        **_shown(schema, model),
        "removals": _removals(schema, model),
        **_promised(schema, model, owner),
    }


def _checked(schema: Schema, model: Model, asked: set[str]) -> dict[str, Any]:
    """What is held of a new row's form: nothing, where none is `asked` for."""
    required = [m.name for m in model.entered if m.name in asked and m.required and _is_typed(m)]
    unique = [m.name for m in model.members if m.unique and m.name in asked and _is_repeatable(m)]
    return {
        "cases": _cases(model, asked),
        "required": _parametrize(required),
        "unique": _parametrize(unique),
        "references": _parametrize([r.name for r in model.references if r.name in asked]),
        "rules": _rules(schema, model) if asked else [],
        "chosen_from": [
            {"name": r.name, "factory": schema.models[r.target].factory}
            for r in model.references
            if r.name in asked and r.where is None and r.control in ("", "select", "radio")
        ],
        "kept_for_next": [
            r.name for r in model.references if r.name in asked and not r.unique and r.required
        ],
        "on_the_way": _on_the_way(schema, model, asked),
        "unique_groups": _unique_groups(model) if asked else [],
        "unique_given": _unique_given(schema, model, asked),
    }


def _on_the_way(schema: Schema, model: Model, asked: set[str]) -> list[dict[str, str]]:
    """The relations whose rows may be made while a form is filled in, and chosen whatever they hold."""
    ruled = {
        part.path[0].reference
        for rule in model.rules
        for part in walk(rule.node)
        if isinstance(part, Value) and part.path
    }
    ruled |= {p.name for r in model.rules for p in walk(r.node) if isinstance(p, Value)}
    return [
        {
            "name": r.name,
            "model": use.row(target.name),
            "factory": target.factory,
            "url": target.url,
        }
        for r in model.references
        if r.name in asked - ruled
        and r.where is None
        and r.target != model.name
        and "new" in (target := schema.models[r.target]).pages
        and schema.owner_of(target) is None
    ]


def _cases(model: Model, asked: set[str]) -> list[str]:
    """The edges of each field.

    What a rule reads may be refused for another reason, but not beside itself; where a rule is
    told there, its edges are tested with the rule.
    """
    ruled = {p.name for rule in model.rules for p in walk(rule.node) if isinstance(p, Value)}
    told = {rule.at for rule in model.rules}
    found = [
        _case(field, case, ruled=case.accepted and field.name in ruled)
        for field in model.fields
        if field.name in asked
        for case in field.kind.cases(field)
        if not (case.accepted and field.name in ruled and field.name in told)
    ]
    return list(dict.fromkeys(found))


def _shown(schema: Schema, model: Model) -> dict[str, Any]:
    """The relations that the list and the page of a row show by name."""
    both = {"list", "view"} <= {*model.pages}
    shown = [r for r in model.references if r.name in model.columns and both]
    shown = [r for r in shown if "view" in schema.models[r.target].pages]
    given: list[Reference] = []
    others: list[Reference] = []
    for r in shown:
        # Of those that a rule compares the first is given, and others are made to go with it.
        if {*model.tied_to(r), *_same(model, r)} & {one.name for one in given}:
            others += [r] if r.required else []
        else:
            given.append(r)
    keys = [f"{r.key_attribute}={_local(r)}.id" for r in given]
    return {
        "shown": [
            f"    {_local(r)} = supply.{schema.models[r.target].factory}({met(schema, r)})"
            for r in given
        ],
        "shown_row": call(f"row = supply.{model.factory}", keys, indent=4),
        "shown_after": [f"    {_local(r)} = row.{r.attribute}" for r in others],
        "shown_listed": [_local(r) for r in (*given, *others)],
    }


def _promised(schema: Schema, model: Model, owner: Reference | None) -> dict[str, Any]:
    """What is held of values: each test that the model's pages allow, with what it needs."""
    found = promises_context(schema, model)
    pages = set(model.pages)
    makes, edits, views, lists = ({p} <= pages for p in ("new", "edit", "view", "list"))
    listed = ("sorts", "searched", "ranges", "choices", "answers_filters", "related_filters")
    tables = [found[name] for name in ("columns", *listed) if found[name]] if lists else []
    together = found["together"] if edits else None
    wrong = ""
    if together:
        field = model.stored(together["name"])
        assert isinstance(field, Field)
        wrong = next((c.typed for c in field.kind.cases(field) if not c.accepted), "")
    return found | {
        "makes": makes,
        "edits": edits,
        "views": views,
        "lists": lists,
        "tables": tables,
        "together": together,
        "wrong": wrong,
        "optional": found["optional"] if makes else [],
        "history": "history" in model.keeps,
        "keyed": not model.numbered,
        "model_class": use.row(model.name),
        "given_names": f'(*FIELDS, "{owner.key_attribute}")' if owner else "FIELDS",
        "form_name": use.named(f"{model.endpoint}_form"),
        "singular": told_in_docstring(model.singular),
        "singular_source": quote(model.singular),
        "plural_source": quote(model.plural),
        "declared_name": declared(model.name),
        "search": model.search,
        "referred": bool(schema.referring(model.name)),
        "placed": {"list", "edit", "view"} <= pages and not owner,
        "collections": found["collections"] if views else [],
        "changed_name": "CHANGED" if found["fixed_apart"] else "FIELDS",
        # With a key that was typed it is a row of another key.
        "read_changed": "row = supply.moved(row, other)"
        if _types_key(model)
        else "supply.again(row)",
        "csv_column": _csv_column(model) if lists else None,
    }


def _csv_column(model: Model) -> dict[str, str] | None:
    """A listed column whose values are saved as they are."""
    for path in model.columns:
        member = model.by_name.get(path)
        if (
            isinstance(member, Field)
            and member.kind.annotation in ("str", "int")
            and not member.kind.labels()
        ):
            return {"attribute": member.attribute, "heading": quote(heading(member))}
    return None


def _unique_groups(model: Model) -> list[dict[str, Any]]:
    """What must differ together, where all of it is typed and nothing of it must differ by itself."""
    typed = {m.name for m in model.entered if not isinstance(m, Many) and not m.unique}
    return [
        {
            "name": "_and_".join(unique.names),
            "declared": ", ".join(unique.names),
            "last": unique.names[-1],
            "fields": f"({', '.join(map(quote, unique.names))},)",
            "say": quote(unique.say) if unique.say else "",
            "optional": any(r.name in unique.names for r in model.references if not r.required),
        }
        for unique in model.uniques
        if set(unique.names) <= typed
    ]


def _by_uuid(model: Model) -> bool:
    key = model.address or model.key
    field = model.stored(key) if key else None
    return isinstance(field, Field) and field.kind.annotation == use.UUID


_TYPED = ("typed", "first", "second", "inside", "outside")


def _new_page(owner: Reference | None, typed: str) -> str:
    """Where what is typed is sent to make a row, as source."""
    return f"new_page(supply, {typed})" if owner else 'f"{URL}/new"'


def _owner(schema: Schema, owner: Reference) -> dict[str, str]:
    """The model that a row is made under, and how its key is typed."""
    parent = schema.models[owner.target]
    key = schema.key_of(parent)
    plain = isinstance(key, Field) and key.kind.annotation == "str"
    typed = f'typed["{owner.name}"]'
    return {
        "name": owner.name,
        "attribute": owner.key_attribute,
        "factory": parent.factory,
        "model": use.row(parent.name),
        "url": parent.url,
        "key": typed if plain else f"int({typed})",
        "edit_made": 'new_page(supply, typed).replace("/new", made.location.removeprefix(URL) + "/edit")',
    }


def _answers(model: Model, owner: Reference | None) -> str:
    """The pages of a row as a tuple."""
    if owner:
        names = [page for page in model.pages if page not in ("new", "edit")]
    else:
        names = list(model.pages)
    known = {
        "list": '""',
        "new": '"/new"',
        "view": 'f"/{row.url_part}"',
        "edit": 'f"/{row.url_part}/edit"',
        "remove": 'f"/{row.url_part}/remove"',
    }
    found = [known[page] for page in names]
    if is_chosen(model):
        found.append('f"/chosen?{visitor.asked_for(row)}"')
    return f"({', '.join(found)}{',' if len(found) == 1 else ''})"


def _is_typed(member: Field | Reference | Many) -> bool:
    """Whether leaving it out of a request leaves it empty."""
    if not isinstance(member, Field):
        return True
    return member.kind.blank_is_empty and member.shape is None


def _is_repeatable(member: Field | Reference) -> bool:
    """Whether a test can type the same value twice."""
    if isinstance(member, Reference):
        return member.where is None or not member.required
    return not member.kind.made_from


def _rules(schema: Schema, model: Model) -> list[dict[str, Any]]:
    """The rules that a form alone can break: those over other rows need those rows first.

    `outside` is whether a row can break it at all; what the bounds of fields hold already
    has no edge to be tried.
    """
    asked = {member.name for member in model.entered}
    return [
        {
            "name": rule.name,
            "at": rule.at,
            "say": quote(rule.say),
            "outside": can_break(schema, model, rule),
        }
        for rule in model.rules
        if not any(isinstance(part, Aggregate) for part in walk(rule.node))
        and any(
            isinstance(part, Value) and not part.path and part.name in asked
            for part in walk(rule.node)
        )
        and breakable(rule.node)
    ]


def breakable(node: Node) -> bool:
    """Whether values of fields alone can make it false, whatever the rows around are."""
    return not any(isinstance(p, Value) and p.type.name == "row" for p in walk(node))


def _removals(schema: Schema, model: Model) -> list[dict[str, Any]]:
    """A test for each relation to the model: what its removal does to the rows that refer to it."""
    if "remove" not in model.pages or "view" not in model.pages or "bin" in model.keeps:
        return []
    return [
        _removal(schema, reference)
        for reference in schema.referring(model.name)
        if "view" in schema.models[reference.model].pages
        # Another relation leads to the same row, and may refuse.
        and (reference.removal == "refuse" or not _same(schema.models[reference.model], reference))
    ]


def _local(reference: Reference) -> str:
    return f"its_{reference.name}"


def _case(field: Field, case: Case, *, ruled: bool) -> str:
    accepted = "None" if ruled else str(case.accepted)
    return call("", [quote(field.name), case.typed, accepted], indent=8, tail=",")


def _parametrize(names: list[str]) -> str:
    if not names:
        return ""
    values = f"[{', '.join(map(quote, names))}]"
    line = call(f"@{use.pytest}.mark.parametrize", ['"field"', values])
    if "\n" not in line:
        return line
    inner = "".join(f"        {quote(name)},\n" for name in names)
    return f'@{use.pytest}.mark.parametrize(\n    "field",\n    [\n{inner}    ],\n)'


def _unique_given(schema: Schema, model: Model, asked: set[str]) -> list[str]:
    """Unique relations that a factory leaves empty get a row, so that there is one to repeat."""
    found = []
    for r in model.references:
        if not r.unique or r.required or r.name not in asked:
            continue
        made = f"supply.{schema.models[r.target].factory}"
        given = f"{made}().id"
        if r.where is not None:
            form = use.named(f"{model.endpoint}_form")
            arguments = [quote(declared(model.name)), form, quote(r.name), made]
            given = f"supply.fitting({', '.join(arguments)})"
        found.append(f'    first["{r.name}"] = str({given})')
    return found


def _removal(schema: Schema, reference: Reference) -> dict[str, Any]:
    child = schema.models[reference.model]
    ways = {"refuse": "is_refused_for", "clear": "leaves", "remove": "takes_along"}
    return {
        "test": call(
            f"def test_removal_{ways[reference.removal]}_{child.endpoint}_{reference.name}",
            [f"visitor: {use.Visitor}", f"supply: {use.Supply}"],
            tail=" -> None:",
        ),
        "child": call(
            f"child = supply.{child.factory}", [f"{reference.key_attribute}=row.id"], indent=4
        ),
        "like": child.factory if child.tied_to(reference) else "",
        "attribute": reference.attribute,
        "required": reference.required,
        "met": met(schema, reference),
        "way": reference.removal,
        "page": line("page = ", fstring(f"/{child.url}/", "child.url_part"), indent=4),
        "column": reference.key_attribute,
    }
