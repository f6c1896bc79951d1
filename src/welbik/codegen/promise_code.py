"""What generated tests hold of stored and shown values: fields, columns, sorts, searches, filters."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from ..kinds.literals import quote
from ..rules.brought import use
from ..rules.text import as_text
from ..rules.tree import Aggregate, Value, reads_clock, walk
from ..schema.model import AnyMember, Computed, Field, Many, Model, Reference, Rule, Schema
from ..schema.pairs import ends_of, is_asked_of
from .apart import declared
from .page_code import heading, heading_of, is_chosen, is_sortable, path_of, shown_with, tree_of
from .python import call, tuple_of


def promises_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What the tests of a model's stored and shown values are filled with."""
    owner = schema.owner_of(model)
    asked = [member for member in model.entered if member is not owner]
    ruled = _ruled(model)
    kept = [m for m in asked if not (isinstance(m, Field) and m.kind.made_from)]
    # Pairs that a rule reads are given to no row that is made up: any might break it.
    kept = [
        m
        for m in kept
        if not isinstance(m, Many) or ends_of(model, m)[0] or not is_asked_of(schema, m)
    ]
    changed = [m for m in kept if not getattr(m, "fixed", False)]
    ruled |= {m.name for m in changed if isinstance(m, Many) and ends_of(model, m)[0]}
    optional = [m.name for m in changed if m.name not in ruled and _may_be_left_out(m)]
    together = next((m for m in changed if m.name not in ruled and _is_shared(m)), None)
    return {
        "fields": _names("FIELDS", [_attribute(m) for m in kept]),
        "changed_fields": _names("CHANGED", [_attribute(m) for m in changed]),
        "fixed_apart": len(kept) != len(changed),
        "same_fixed": _same_fixed(owner, [m for m in asked if m.name in ruled]),
        "begins": _begins(asked),
        "labels": _labels(asked),
        "hints": _hints(asked),
        "optional": optional,
        "optional_mark": call(
            f"@{use.pytest}.mark.parametrize", ['"field"', f"[{', '.join(map(quote, optional))}]"]
        ),
        "columns": _table("COLUMNS", _columns(schema, model, asked)),
        "column_paths": ",".join(path_of(schema, model, path) for path in model.columns),
        "sorts": _table("SORTED", _sorts(schema, model)),
        "searched": _table("SEARCHED", _searched(schema, model)),
        "ranges": _table("RANGES", _filters(schema, model, "Range")),
        "choices": _table("CHOICES", _filters(schema, model, "Choice")),
        "answers_filters": _table("ANSWERS", _filters(schema, model, "Answer")),
        "related_filters": _table("RELATED", _filters(schema, model, "Related")),
        "together": {"name": together.name, "attribute": _attribute(together)}
        if together
        else None,
        "uploads_shown": [
            {"label": quote(f.label), "attribute": f.attribute}
            for f in model.fields
            if f.kind.upload
        ],
        "owned": _owned(schema, model) if "bin" in model.keeps else [],
        "uploads_optional": _uploads_optional([m for m in asked if m.name not in ruled]),
        "sides": _sides(schema, model),
        "collections": _collections(schema, model),
        "computed": _worked_out(model),
        "below": [
            {"factory": schema.models[c.child].factory, "key": via.key_attribute}
            for c in model.collections
            if model.computed
            and isinstance(via := schema.models[c.child].by_name[c.via], Reference)
        ],
        "tree": _tree(model),
        "besides": _besides(model),
        "offered": _offered(model),
        "panel": list(dict.fromkeys(_said(schema, model, path) for path in model.filters)),
        "copied": [m.name for m in asked if _is_copied(m)],
        "copied_changed": [m.name for m in changed if _is_copied(m)],
        "compared": [
            (quote(" ".join(label.split())), name[1:-1])
            for label, name in _columns(schema, model, asked).items()
        ],
        "entries": _entries(asked),
        "declared_rules": {
            rule.name: told_in_docstring(as_text(rule.node)) for rule in model.rules
        },
    }


def told_in_docstring(text: str) -> str:
    """A text that ends no docstring and escapes nothing in it."""
    shown = "".join(letter if letter.isprintable() else " " for letter in text)
    return shown.replace("\\", "/").replace('"', "'")


def _begins(asked: list[Any]) -> str:
    """What the controls of a new form hold, where that is said, as source."""
    found = {
        member.name: str(member.default)
        for member in asked
        if isinstance(member, Field)
        and member.shape is None
        and (member.kind.labels() or member.kind.annotation == "int")
        and member.attribute == member.name
        and isinstance(member.default, int | str)
    }
    pairs = ", ".join(f"{quote(name)}: {quote(text)}" for name, text in found.items())
    return f"{{{pairs}}}" if pairs else ""


def _labels(asked: list[Any]) -> str:
    """What choices are called, as source."""
    found = [
        label
        for member in asked
        if isinstance(member, Field) and member.shape is None
        for label in member.kind.labels().values()
    ]
    # Each control under its label, too.
    found = [" ".join(m.label.split()) for m in asked] + found
    return tuple_of([quote(label) for label in dict.fromkeys(found)]) if found else ""


def _hints(asked: list[Any]) -> str:
    """The lines of help that a form has, as source."""
    found = [" ".join(m.hint.split()) for m in asked if m.hint]
    return tuple_of([quote(hint) for hint in dict.fromkeys(found)]) if found else ""


def _ruled(model: Model) -> set[str]:
    """The fields that a rule reads, or that are unique only with others."""
    read = {p.name for rule in model.rules for p in walk(rule.node) if isinstance(p, Value)}
    firsts = {
        p.path[0].reference
        for rule in model.rules
        for p in walk(rule.node)
        if isinstance(p, Value) and p.path
    }
    return read | firsts | {name for unique in model.uniques for name in unique.names}


def _same_fixed(owner: Reference | None, ruled: Sequence[Field | Reference | Many]) -> str:
    """What a row that another is changed to has from it: no form changes that, and rules read it."""
    fixed = [m for m in ruled if isinstance(m, Field | Reference) and m.fixed]
    names = [m.key_attribute if isinstance(m, Reference) else m.attribute for m in fixed]
    names += [owner.key_attribute] if owner else []
    return ", ".join(f"{name}=row.{name}" for name in dict.fromkeys(names))


def _attribute(member: Field | Reference | Many) -> str:
    return member.key_attribute if isinstance(member, Reference) else member.attribute


def _may_be_left_out(member: Field | Reference | Many) -> bool:
    """Whether an empty control is stored as nothing."""
    if member.required or getattr(member, "key", False):
        return False
    if isinstance(member, Many):
        return True
    if isinstance(member, Reference):
        return True
    if not member.kind.blank_is_empty or member.shape is not None:
        return False
    return not member.kind.self_made and member.default is None


def _is_shared(member: Field | Reference | Many) -> bool:
    """Whether a test can set it on several rows at once."""
    if not isinstance(member, Field):
        return False
    if member.unique or not member.kind.blank_is_empty or member.shape is not None:
        return False
    return not member.kind.self_made


def _names(name: str, names: list[str]) -> str:
    if not names:
        return f"{name}: tuple[str, ...] = ()"
    return f"{name} = ({', '.join(map(quote, names))},)"


def _table(name: str, entries: dict[str, str]) -> str:
    """A constant that maps names to expressions, as source; empty where there are none."""
    if not entries:
        return ""
    inner = "".join(f"    {quote(key)}: {value},\n" for key, value in entries.items())
    return f"{name}: dict[str, {use.Any}] = {{\n{inner}}}"


def _columns(schema: Schema, model: Model, asked: list[Any]) -> dict[str, str]:
    """The headings of listed columns whose fields the form has: the field's name."""
    names = {member.name for member in asked}
    found = {}
    for path in model.columns:
        member = model.by_name[path] if "." not in path else None
        if member is None or path not in names or isinstance(member, Many):
            continue
        if isinstance(member, Field) and (member.kind.upload or member.shape is not None):
            continue
        found[heading(member)] = quote(path)
    return found


def _sorts(schema: Schema, model: Model) -> dict[str, str]:
    found = {}
    for path in dict.fromkeys(model.columns):
        if "." in path:
            continue
        member = model.by_name[path]
        if not is_sortable(member):
            continue
        value = _value(schema, member, "row")
        if value:
            found[path_of(schema, model, path)] = f"lambda row: {value}"
    return found


def _value(schema: Schema, member: AnyMember, row: str) -> str:
    """What a member is sorted by, as Python; empty where that is not plain."""
    if isinstance(member, Reference):
        target = schema.models[member.target]
        first = next((p for p in target.shown_as if p.is_field), None)
        inner = target.by_name.get(first.text) if first else None
        if not isinstance(inner, Field) or inner.kind.labels():
            return ""
        told = _value(schema, inner, f"{row}.{member.attribute}")
        if not told:
            return ""
        return told if member.required else f"{told} if {row}.{member.attribute} else None"
    if not isinstance(member, Field | Computed):
        return ""
    if isinstance(member, Field) and member.kind.labels():
        labels = f"{row}.{member.name.upper()}_LABELS"
        place = f"[*{labels}].index({row}.{member.attribute})"
        if member.required:
            return place
        return f"{place} if {row}.{member.attribute} is not None else None"
    return (
        f"{row}.{member.attribute}"
        if not member.kind.as_json and member.kind.annotation != use.UUID
        else ""
    )


def _searched(schema: Schema, model: Model) -> dict[str, str]:
    """Each column that is searched, if all of them are plain."""
    found = {}
    for path in model.search:
        *before, last = path.split(".")
        row, at = "row", model
        guard = []
        for name in before:
            reference = at.by_name[name]
            assert isinstance(reference, Reference)
            row = f"{row}.{reference.attribute}"
            if not reference.required:
                guard.append(row)
            at = schema.models[reference.target]
        member = at.by_name[last]
        if not isinstance(member, Field) or not member.kind.plain_text:
            return {}
        told = f"{row}.{member.attribute}"
        found[path] = (
            f"lambda row: {f'{told} if {chr(32).join(guard[:1])} else None' if guard else told}"
        )
    return found


def _filters(schema: Schema, model: Model, wanted: str) -> dict[str, str]:
    found = {}
    for path in model.filters:
        if "." in path:
            continue
        member = model.by_name[path]
        if _filter_class(member) != wanted:
            continue
        if isinstance(member, Reference):
            value = (
                f"[row.{member.key_attribute}] if row.{member.key_attribute} is not None else []"
            )
        elif isinstance(member, Many):
            value = f"[other.id for other in row.{member.attribute}]"
        else:
            value = f"row.{member.attribute}"
        found[path] = f"lambda row: {value}"
    return found


def _filter_class(member: AnyMember) -> str:
    """The class of the filter that a member has in lists."""
    if isinstance(member, Reference | Many):
        return "Related"
    return member.kind.filtered if isinstance(member, Field | Computed) else ""


def _sides(schema: Schema, model: Model) -> dict[str, Any] | None:
    """How the rows around a row can break its rules: edges of what they hold, more rows below."""
    across = [rule for rule in model.rules if _is_across(rule)]
    if not across:
        return None
    edges: dict[tuple[str, str], None] = {}
    children: dict[tuple[str, str], None] = {}
    for rule in across:
        for part in walk(rule.node):
            if isinstance(part, Value) and len(part.path) == 1:
                edges[part.path[0].reference, part.name] = None
            if isinstance(part, Value) and not part.path:
                edges["", part.name] = None
            # What is counted of a related row is not led to this one.
            if isinstance(part, Aggregate) and part.hops[0].via and not part.path:
                children[part.hops[0].model, part.hops[0].via] = None
    changes = [one for way, name in edges if (one := _edge(schema, model, way, name))]
    made = [one for name, via in children if (one := _child(schema, name, via))]
    if not changes and not made:
        return None
    return {
        "rules": [told_in_docstring(as_text(rule.node)) for rule in across],
        "says": tuple_of([quote(rule.say) for rule in across]),
        "changes": changes,
        "children": made,
    }


def _collections(schema: Schema, model: Model) -> list[dict[str, Any]]:
    """The collections of a row's page whose rows have a page of their own: what is shown of each."""
    found = []
    for collection in model.collections:
        child = schema.models[collection.child]
        via = child.by_name[collection.via]
        assert isinstance(via, Reference)
        owner = schema.owner_of(child)
        if "view" not in child.pages or via.unique or owner not in (None, via):
            continue
        asked = [m for m in child.entered if m is not owner and m is not via]
        columns = _columns(schema, child, asked)
        found.append(
            {
                "name": collection.name,
                "label": quote(" ".join(collection.label.split())),
                "child": child.name,
                "url": child.url,
                "via": via.name,
                "key": via.key_attribute,
                "met": met(schema, via),
                "factory": child.factory,
                "form": use.named(f"{child.endpoint}_form"),
                "columns": f"{{{', '.join(f'{quote(k)}: {v}' for k, v in columns.items())}}}",
                "new": quote(" ".join(f"New {child.singular}".split()))
                if "new" in child.pages
                else "",
                "chooses": owner is None and not via.internal,
            }
        )
    return found


def met(schema: Schema, reference: Reference) -> str:
    """What a row is made with so that a relation may lead to it, as source; empty where any will do."""
    if not schema.models[reference.model].asked_of(reference):
        return ""
    return f"**supply.meeting({quote(declared(reference.model))}, {quote(reference.name)})"


def _worked_out(model: Model) -> list[dict[str, Any]]:
    """The computed fields, and whether they are exact on every way to them."""
    return [
        {
            "name": member.name,
            "attribute": member.attribute,
            "told": told_in_docstring(f"{member.name} = {as_text(member.formula)}"),
            "rough": member.kind.value_type().name == "number",
        }
        for member in model.computed
        if member.kind.value_type().name != "time"
        and not any(reads_clock(part) for part in walk(member.formula))
    ]


def _owned(schema: Schema, model: Model) -> list[dict[str, Any]]:
    """The models whose rows are part of rows of this one, and have pages of their own."""
    return [
        {
            "local": f"its_{child.endpoint}",
            "factory": child.factory,
            "key": owner.key_attribute,
            "met": met(schema, owner),
            "url": child.url,
            "lists": "list" in child.pages,
        }
        for owner in schema.referring(model.name)
        if schema.owner_of(child := schema.models[owner.model]) is owner and "view" in child.pages
    ]


def _uploads_optional(asked: list[Any]) -> str:
    """The uploads that need not be there, as source; empty where there are none."""
    uploads = [m for m in asked if isinstance(m, Field) and m.kind.upload]
    names = [m.name for m in uploads if not (m.required or m.fixed)]
    return tuple_of([quote(name) for name in names]) if names else ""


def _entries(asked: list[Any]) -> str:
    """The fields that hold entries of a part, as source; empty where there are none."""
    names = [m.name for m in asked if isinstance(m, Field) and m.shape is not None]
    return tuple_of([quote(name) for name in names]) if names else ""


def _tree(model: Model) -> dict[str, str] | None:
    """The optional reference to rows of the same model, where those are shown below a row."""
    tree = tree_of(model)
    if tree is None or tree.required or tree.name in _ruled(model):
        return None
    return {"name": tree.name, "key": tree.key_attribute}


def _besides(model: Model) -> list[tuple[str, str]]:
    """What a row's page shows though no form asks for it: labels and values, as source."""
    found = []
    for m in model.computed:
        shown = f"{use.show}.{shown_with(m)}(row.{m.attribute}, {quote(m.unit)})"
        # A value and its unit stay on one line of the page, where spaces are looked at as one.
        shown += '.replace("\\N{NO-BREAK SPACE}", " ")' if m.unit else ""
        found.append((quote(m.label), shown))
    if "times" in model.keeps:
        found += [
            ('"Made"', f"{use.show}.show(row.created_at)"),
            ('"Last changed"', f"{use.show}.show(row.updated_at)"),
        ]
    return found


def _offered(model: Model) -> str:
    """What the buttons under a list do with rows that were chosen, as source."""
    if not is_chosen(model):
        return "set()"
    pages = set(model.pages)
    ways = [("", "edit" in pages), ("compare", "view" in pages), ("remove", "remove" in pages)]
    return f"{{{', '.join(quote(way) for way, there in ways if there)}}}"


def _said(schema: Schema, model: Model, path: str) -> str:
    """What a path is called by as a filter, as source."""
    return quote(" ".join(heading_of(schema, model, path, unit=False).split()))


def _is_copied(member: Field | Reference | Many) -> bool:
    """Whether a copy begins with the same, in one control that is plainly read."""
    return (
        isinstance(member, Field)
        and not member.unique
        and not member.fixed
        and not member.kind.upload
        and member.shape is None
        and not member.kind.long
        and not member.kind.labels()
        and member.kind.blank_is_empty
        and not member.kind.self_made
    )


def _is_across(rule: Rule) -> bool:
    return any(
        isinstance(part, Aggregate) or isinstance(part, Value) and part.path
        for part in walk(rule.node)
    )


def _edge(schema: Schema, model: Model, way: str, name: str) -> dict[str, Any] | None:
    """The ends of what a field of a row, or of the row that it refers to, may be."""
    at = model
    row = "row"
    if way:
        reference = next(r for r in model.references if r.name == way)
        at = schema.models[reference.target]
        row = f"row.{reference.attribute}"
    field = at.by_name.get(name)
    if not isinstance(field, Field) or not {"edit", "view"} <= set(at.pages) or field.fixed:
        return None
    typed = [case.typed for case in field.kind.cases(field) if case.accepted]
    if not typed or field not in at.entered:
        return None
    return {
        "row": row,
        "given": not way or next(r for r in model.references if r.name == way).required,
        "url": at.url,
        "factory": at.factory,
        "field": field.name,
        "typed": f"({', '.join(typed)},)",
    }


def _child(schema: Schema, name: str, via: str) -> dict[str, str] | None:
    child = schema.models[name]
    reference = child.by_name.get(via)
    if not isinstance(reference, Reference) or "new" not in child.pages:
        return None
    owner = schema.owner_of(child)
    if owner is not None and owner is not reference:
        return None
    parent = schema.models[reference.target]
    page = quote(f"/{child.url}/new")
    if owner is reference:
        page = f'f"/{parent.url}/{{row.url_part}}/{child.url}/new"'
    return {"factory": child.factory, "key": reference.key_attribute, "page": page}
