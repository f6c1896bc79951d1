"""The pages of a model: what the templates of its list, view and form are filled with."""

from __future__ import annotations

from dataclasses import dataclass, replace
from typing import Any

from ..kinds.literals import quote
from ..schema.model import AnyMember, Collection, Computed, Field, Many, Model, Reference, Schema
from . import html

_NOTHING = "—"


@dataclass(frozen=True)
class Column:
    """A column of a table on a page; `value` is a template expression.

    `head` is its cell where it stands first, and leads to the row itself; `macros` is the file
    of `look/` that shows it, if any.
    """

    name: str
    label: str
    label_source: str
    value: str
    cell: str
    numeric: bool
    sortable: bool = True
    head: str = ""
    macros: str = ""


def _value(member: AnyMember, row: str) -> str:
    if isinstance(member, Field | Computed) and member.kind.labels():
        labels = f"{row}.{member.name.upper()}_LABELS"
        return f"{labels}[{row}.{member.attribute}]"
    return f"{row}.{member.attribute}"


def shown_with(member: AnyMember) -> str:
    """The function of the kit that tells a value."""
    # What is worked out is an amount, and never a year or a code.
    return "amount" if isinstance(member, Computed) and member.kind.amount else "show"


def _filter(member: AnyMember) -> str:
    """The filter that shows a value, with its unit."""
    unit = member.unit if isinstance(member, Field | Computed) else ""
    name = shown_with(member)
    return f"{name}({quote(unit)})" if unit else name


def _shown(
    schema: Schema, member: AnyMember, row: str, *, whole: bool = False, unit: bool = True
) -> str:
    """A value on a page, with its `unit`: a related row by its name, with a link to it.

    It is `whole` on the page of its own row.
    """
    if isinstance(member, Reference):
        return _related(schema, member, row)
    if isinstance(member, Many):
        return f"{{{{ pieces.names({row}.{member.attribute}) }}}}"
    if isinstance(member, Field) and member.kind.upload:
        shown = member.kind.shown if whole else "upload"
        return f"{{{{ uploads.{shown}({row}.{member.attribute}) }}}}"
    if isinstance(member, Field) and member.shape is not None:
        if not whole:
            return f"{{{{ {row}.{member.attribute} | default([], true) | length }}}}"
        return f'{{{{ pieces.entries(form.fields["{member.name}"], {row}.{member.attribute}) }}}}'
    told = _filter(member) if unit else shown_with(member)
    value = f"{{{{ {_value(member, row)} | {told} }}}}"
    if isinstance(member, Field) and member.kind.shown == "link":
        plain = f"{row}.{member.attribute}"
        # What others stored there may be code, which no link runs.
        link = f'<a href="{{{{ {plain} }}}}" rel="noopener">{value}</a>'
        return f"{{% if {plain} | web_address %}}{link}{{% else %}}{value}{{% endif %}}"
    return value


def _macros(member: AnyMember) -> str:
    """The file of macros that shows a member in a list; empty where none is needed."""
    if isinstance(member, Many):
        return "pieces"
    return "uploads" if isinstance(member, Field) and member.kind.upload else ""


def _related(schema: Schema, member: Reference, row: str) -> str:
    target = schema.models[member.target]
    value = f"{{{{ {_value(member, row)} | show }}}}"
    if "view" not in target.pages:
        return value
    part = f"{row}.{member.key_attribute}"
    if target.address and target.address != target.key:
        part = f"{row}.{member.attribute}.url_part"
    link = f"<a href=\"{{{{ {part} | at('{target.endpoint}.view_page') }}}}\">{value}</a>"
    if member.required:
        return link
    return f"{{% if {row}.{member.key_attribute} %}}{link}{{% else %}}{_NOTHING}{{% endif %}}"


def heading(member: AnyMember) -> str:
    """A column's label with its unit, so that cells hold numbers alone."""
    unit = member.unit if isinstance(member, Field | Computed) else ""
    told = unit.lower() == member.label.lower()
    return f"{member.label} ({unit})" if unit and not told else member.label


def heading_of(schema: Schema, model: Model, path: str, *, unit: bool = True) -> str:
    """What a column or filter of a list is headed by, with its unit or without.

    What a related row has is told by the relation too, where something else is called alike.
    """

    def called(one: str) -> str:
        member = last_member(schema, model, one)
        return heading(member) if unit else member.label

    *before, _ = path.split(".")
    others = {*model.columns, *model.filters, *model.by_name} - {path}
    if not before or called(path) not in map(called, others):
        return called(path)
    steps = [".".join(before[: n + 1]) for n in range(len(before))]
    labels = [last_member(schema, model, step).label for step in steps]
    return " · ".join([*labels, called(path)])


def _column(schema: Schema, model: Model, path: str, row: str) -> Column:
    """A column of a list; a path across relations shows what stands at its end."""
    first = row
    *before, last = path.split(".")
    owner = model
    guards = []
    for name in before:
        reference = model.by_name[name]
        assert isinstance(reference, Reference)
        row = f"{row}.{reference.attribute}"
        if not reference.required:
            guards.append(row)
        model = schema.models[reference.target]
    member = model.by_name[last]
    numeric = isinstance(member, Field | Computed) and member.kind.numeric
    mark = ' class="number"' if numeric else ""
    told = heading_of(schema, owner, path)
    label = html.text(told)
    # Of numbers the heading has the unit.
    shown = _shown(schema, member, row, unit=not numeric)
    if guards:
        shown = f"{{% if {' and '.join(guards)} %}}{shown}{{% else %}}{_NOTHING}{{% endif %}}"
    cell = f'<td{mark} data-label="{label}">{shown}</td>'
    value = _value(member, row)
    if guards:
        value = f"({value} if {' and '.join(guards)})"
    column = Column(
        path_of(schema, owner, path),
        label,
        quote(told),
        value,
        cell,
        numeric,
        is_sortable(member),
    )
    head = _head(schema, owner, first, column, member, shown)
    return replace(column, head=head, macros=_macros(member))


def _is_apart(path: str, member: AnyMember) -> bool:
    """Whether what is shown is another row, or leads elsewhere than to the row it stands in."""
    if "." in path or not isinstance(member, Field | Computed):
        return True
    return bool(member.kind.shown) or isinstance(member, Field) and member.shape is not None


def _head(
    schema: Schema, model: Model, row: str, column: Column, member: AnyMember, shown: str
) -> str:
    """The first cell of a row: it leads to the row, and says so where it shows another one."""
    told = f"{{{{ {column.value} | show }}}}"
    page = next((page for page in ("view", "edit") if page in model.pages), "")
    apart = _is_apart(column.name, member)
    bare = shown if apart else told
    if not page or page == "edit" and schema.owner_of(model):
        return f'<th scope="row">{bare}</th>'
    url = f"{{{{ {row}.url_part | at('{model.endpoint}.{page}_page') }}}}"
    own = html.text(html.title(model.singular))
    if apart:
        return f'<th scope="row">{bare} <a class="own" href="{url}">{own}</a></th>'
    if not getattr(member, "required", False):
        given = f"{row}.{member.attribute} is not none"
        told = f"{{% if {given} %}}{told}{{% else %}}{own}{{% endif %}}"
    return f'<th scope="row"><a href="{url}">{told}</a></th>'


@dataclass(frozen=True)
class Section:
    """A collection on its parent's page; `make` is the template expression of where one is made."""

    name: str
    label: str
    label_source: str
    singular: str
    child: Model
    columns: list[Column]
    make: str
    chosen: bool


def section_columns(schema: Schema, collection: Collection) -> list[str]:
    """The members that a collection shows of its rows: all that are listed but the way back."""
    child = schema.models[collection.child]
    return [name for name in child.columns if name != collection.via]


def _named(model: Model, row: str) -> Column:
    """The column of a list that has no other: what its rows are shown as."""
    named = Column("", html.text(html.title(model.singular)), "", row, "", False)
    head = f'<th scope="row">{{{{ {row} | show }}}}</th>'
    if "view" in model.pages:
        url = f"{{{{ {row}.url_part | at('{model.endpoint}.view_page') }}}}"
        head = f'<th scope="row"><a href="{url}">{{{{ {row} | show }}}}</a></th>'
    return replace(named, head=head)


def _section(schema: Schema, model: Model, collection: Collection) -> Section:
    child = schema.models[collection.child]
    columns = [
        _column(schema, child, name, "child") for name in section_columns(schema, collection)
    ]
    columns = columns or [_named(child, "child")]
    return Section(
        collection.name,
        html.text(collection.label),
        quote(collection.label),
        html.text(child.singular),
        child,
        columns,
        _make(schema, model, child, collection),
        is_chosen(child),
    )


def _make(schema: Schema, model: Model, child: Model, collection: Collection) -> str:
    """Where a row of a collection is made, to come back to this page after it."""
    if "new" not in child.pages:
        return ""
    back = f"(row.url_part | at('{model.endpoint}.view_page')) ~ '?_tab={collection.name}'"
    way = f"url_for('{child.endpoint}.edit_page', **{{'_return': {back}"
    owner = schema.owner_of(child)
    if owner is None:
        return f"{way}, '{collection.via}': row.id}})"
    return f"{way}, 'owner': row.url_part}})" if owner.name == collection.via else ""


def tree_of(model: Model) -> Reference | None:
    """The reference to rows of the same model, where it can't go in circles."""
    own = (r for r in model.references if r.target == model.name and not r.loops)
    return next(own, None)


def has_bin(model: Model) -> bool:
    """Whether removed rows can be looked at: what nobody can remove has no bin page."""
    return "bin" in model.keeps and "remove" in model.pages


def has_uploads(model: Model) -> bool:
    """Whether its form sends files."""
    return any(field.kind.upload for field in model.fields)


def is_placed(model: Model) -> bool:
    """Whether the form of a row shows where it stands in its list."""
    return {"list", "edit"} <= set(model.pages)


def is_chosen(model: Model) -> bool:
    """Whether rows of a table can be chosen, to do something with several."""
    pages = set(model.pages)
    return bool({"edit", "remove"} & pages) or {"list", "view"} <= pages


def more_columns(schema: Schema, model: Model) -> dict[str, str]:
    """What a list can show besides its own columns and what the form asks for: headings by path."""
    shown = {path_of(schema, model, name) for name in model.columns}
    entered = {member.name for member in model.entered}
    found = {
        member.attribute: heading(member)
        for member in model.everything
        if not isinstance(member, Collection)
        and not _is_hidden(member)
        and member.attribute not in shown
        and member.name not in entered
    }
    if "times" in model.keeps:
        found |= {"created_at": "Made", "updated_at": "Last changed"}
    return found


def pages_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What the page templates are filled with."""
    sections = [_section(schema, model, collection) for collection in model.collections]
    owner = schema.owner_of(model)
    tree = tree_of(model)
    columns = [_column(schema, model, name, "row") for name in model.columns]
    # Of what has nothing but relations to many only its name is left.
    columns = columns or [_named(model, "row")]
    return {
        "columns": columns,
        "macros": {column.macros for column in columns},
        "more": bool(more_columns(schema, model))
        or any(path_of(schema, model, m.name) not in model.columns for m in model.entered),
        "shown_groups": _shown_groups(schema, model),
        "groups": _groups(model, owner),
        "sections": sections,
        "tree": tree,
        "tabs": bool(sections or tree or "history" in model.keeps),
        "owner": owner,
        "singular": html.text(model.singular),
        "plural": html.text(model.plural),
        "singular_source": quote(model.singular),
        "plural_source": quote(model.plural),
        "plural_title": html.text(html.title(model.plural)),
        "new_title": quote(f"New {model.singular}"),
        "help": html.text(model.help),
        "uploads": has_uploads(model),
        "shows_uploads": has_uploads(model)
        or any(c.macros == "uploads" for section in sections for c in section.columns),
        "placed": is_placed(model) and owner is None,
        "bin": has_bin(model),
        "blockable": _may_be_refused(schema, model),
        "chosen": is_chosen(model),
        "history": "history" in model.keeps,
        "page": model.pages,
        "made": () if owner else model.pages,
    }


def _may_be_refused(schema: Schema, model: Model) -> bool:
    """Whether rows can stand in the way of a removal, of the row or of what goes along with it."""
    todo, seen = [model.name], set()
    while todo:
        name = todo.pop()
        seen.add(name)
        for reference in schema.referring(name):
            if reference.removal == "refuse":
                return True
            if reference.removal == "remove" and reference.model not in seen:
                todo.append(reference.model)
    return False


def _is_hidden(member: AnyMember) -> bool:
    """Whether no page shows a member by itself: what is internal may be a secret."""
    return isinstance(member, Field) and member.internal and not member.by_database


def _shown_groups(schema: Schema, model: Model) -> list[dict[str, Any]]:
    """The values of a row, grouped as its form is; what is on no form comes last."""
    grouped = {name for group in model.groups for name in group.names}
    single: list[AnyMember] = [m for m in model.everything if not isinstance(m, Collection)]
    rest = [m for m in single if m.name not in grouped]
    groups: list[tuple[str, list[AnyMember]]] = [
        (group.title, [model.by_name[name] for name in group.names]) for group in model.groups
    ]
    found = []
    for title, members in [*groups, ("Besides" if groups else "", rest)]:
        shown = [
            {"label": html.text(m.label), "shown": _shown(schema, m, "row", whole=True)}
            for m in members
            if not isinstance(m, Collection) and not _is_hidden(m)
        ]
        if members is rest and "times" in model.keeps:
            shown += [
                {"label": label, "shown": f"{{{{ row.{name} | show }}}}"}
                for name, label in (("created_at", "Made"), ("updated_at", "Last changed"))
            ]
        if shown:
            found.append({"title": html.text(title), "members": shown})
    return found


def _groups(model: Model, owner: Reference | None) -> list[dict[str, Any]]:
    """The groups of the form; what is in none comes last, under no title."""
    grouped = {name for group in model.groups for name in group.names}
    asked = {member.name for member in model.entered if member is not owner}
    found = [
        {"title": html.text(group.title), "names": [n for n in group.names if n in asked]}
        for group in model.groups
    ]
    rest = [m.name for m in model.entered if m.name not in grouped and m.name in asked]
    found = [group for group in found if group["names"]]
    return [*found, {"title": "", "names": rest}] if rest else found


def _is_json(member: AnyMember) -> bool:
    return isinstance(member, Field) and member.kind.as_json


def is_sortable(member: AnyMember) -> bool:
    return not isinstance(member, Many | Collection) and not _is_json(member)


def path_of(schema: Schema, model: Model, path: str) -> str:
    """A path as the attributes of rows that lead to its end."""
    found = []
    for name in path.split("."):
        member = model.by_name[name]
        found.append(member.attribute)
        if isinstance(member, Reference):
            model = schema.models[member.target]
    return ".".join(found)


def last_member(schema: Schema, model: Model, path: str) -> AnyMember:
    """The member that a path leads to."""
    *before, last = path.split(".")
    for name in before:
        reference = model.by_name[name]
        assert isinstance(reference, Reference)
        model = schema.models[reference.target]
    return model.by_name[last]
