"""controller.py and the pages of a model."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..kinds.literals import quote
from ..schema.model import AnyMember, Collection, Computed, Field, Many, Model, Reference, Schema
from . import html
from .joins import Query
from .model_code import import_model
from .python import call, doc, from_import, fstring

_NOTHING = "—"


@dataclass(frozen=True)
class Column:
    """A column of a table on a page; `value` is a template expression."""

    name: str
    label: str
    label_source: str
    value: str
    cell: str
    numeric: bool
    sortable: bool = True


def _value(member: AnyMember, row: str) -> str:
    if isinstance(member, Field | Computed) and member.kind.labels():
        labels = f"{row}.{member.name.upper()}_LABELS"
        return f"{labels}[{row}.{member.attribute}]"
    return f"{row}.{member.attribute}"


def _filter(member: AnyMember) -> str:
    """The filter that shows a value, with its unit."""
    unit = member.unit if isinstance(member, Field | Computed) else ""
    return f"show({quote(html.text(unit))})" if unit else "show"


def _shown(schema: Schema, member: AnyMember, row: str, *, whole: bool = False) -> str:
    """A value on a page: a related row by its name, with a link to it; `whole` on its own page."""
    if isinstance(member, Reference):
        return _related(schema, member, row)
    if isinstance(member, Many):
        return f"{{{{ parts.names({row}.{member.attribute}) }}}}"
    if isinstance(member, Field) and member.kind.word in ("file", "image"):
        shown = "image" if member.kind.word == "image" and whole else "upload"
        return f"{{{{ parts.{shown}({row}.{member.attribute}) }}}}"
    if isinstance(member, Field) and member.shape is not None:
        if not whole:
            return f"{{{{ {row}.{member.attribute} | default([], true) | length }}}}"
        return f'{{{{ parts.entries(form.fields["{member.name}"], {row}.{member.attribute}) }}}}'
    value = f"{{{{ {_value(member, row)} | {_filter(member)} }}}}"
    word = member.kind.word if isinstance(member, Field) else ""
    if word == "url":
        plain = f"{row}.{member.attribute}"
        return f'{{% if {plain} %}}<a href="{{{{ {plain} }}}}" rel="noopener">{value}</a>{{% else %}}{_NOTHING}{{% endif %}}'
    return value


def _related(schema: Schema, member: Reference, row: str) -> str:
    target = schema.models[member.target]
    value = f"{{{{ {_value(member, row)} | show }}}}"
    if "view" not in target.pages:
        return value
    part = f"{row}.{member.column}"
    if target.address and target.address != target.key:
        part = f"{row}.{member.attribute}.url_part"
    link = f"<a href=\"{{{{ to_row('{target.endpoint}.view_page', {part}) }}}}\">{value}</a>"
    if member.required:
        return link
    return f"{{% if {row}.{member.column} %}}{link}{{% else %}}{_NOTHING}{{% endif %}}"


def _heading(member: AnyMember) -> str:
    """A column's label with its unit, so that cells hold numbers alone."""
    unit = member.unit if isinstance(member, Field | Computed) else ""
    told = unit.lower() == member.label.lower()
    return f"{member.label} ({unit})" if unit and not told else member.label


def _column(schema: Schema, model: Model, path: str, row: str) -> Column:
    """A column of a list; a path across relations shows what stands at its end."""
    *before, last = path.split(".")
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
    label = html.text(_heading(member))
    shown = _shown(schema, member, row)
    if numeric or not isinstance(member, Field | Computed):
        shown = shown.replace(f"| {_filter(member)} ", "| show ")
    if guards:
        shown = f"{{% if {' and '.join(guards)} %}}{shown}{{% else %}}{_NOTHING}{{% endif %}}"
    cell = f'<td{mark} data-label="{label}">{shown}</td>'
    value = _value(member, row)
    if guards:
        value = f"({value} if {' and '.join(guards)})"
    sortable = not isinstance(member, Many | Collection) and not _is_json(member)
    return Column(path, label, quote(_heading(member)), value, cell, numeric, sortable)


@dataclass(frozen=True)
class Section:
    """A collection on its parent's page."""

    name: str
    label: str
    label_source: str
    singular: str
    variable: str
    via: str
    child: Model
    columns: list[Column]


def _section(schema: Schema, collection: Collection) -> Section:
    child = schema.models[collection.child]
    names = [name for name in child.columns if name != collection.via]
    columns = [_column(schema, child, name, "child") for name in names]
    if not columns:
        columns = [Column("", html.text(html.title(child.singular)), "", "child", "", False)]
    label = html.text(collection.label)
    return Section(
        collection.name,
        label,
        quote(collection.label),
        html.text(child.singular),
        f"its_{collection.name}",
        collection.via,
        child,
        columns,
    )


def pages_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What the page templates are filled with."""
    members = [
        {"name": m.name, "label": html.text(m.label), "shown": _shown(schema, m, "row", whole=True)}
        for m in model.everything
        if not isinstance(m, Collection)
    ]
    if "times" in model.keeps:
        members += [
            {"name": name, "label": label, "shown": f"{{{{ row.{name} | show }}}}"}
            for name, label in (("created_at", "Made"), ("updated_at", "Last changed"))
        ]
    return {
        "columns": [_column(schema, model, name, "row") for name in model.columns],
        "members": members,
        "groups": _groups(model),
        "sections": [_section(schema, collection) for collection in model.collections],
        "singular": html.text(model.singular),
        "plural": html.text(model.plural),
        "plural_source": quote(model.plural),
        "plural_title": html.text(html.title(model.plural)),
        "new_title": quote(f"New {model.singular}"),
        "help": html.text(model.help),
        "uploads": any(f.kind.word in ("file", "image") for f in model.fields),
        "shapes": any(f.shape is not None for f in model.fields),
        "bin": _has_bin(model),
        "singular_title": html.text(html.title(model.singular)),
        "history": "history" in model.keeps,
        "page": model.pages,
    }


def _groups(model: Model) -> list[dict[str, Any]]:
    """The groups of the form; what is in none comes last, under no title."""
    grouped = {name for group in model.groups for name in group.names}
    asked = {member.name for member in model.entered}
    found = [
        {"title": html.text(group.title), "names": [n for n in group.names if n in asked]}
        for group in model.groups
    ]
    rest = [member.name for member in model.entered if member.name not in grouped]
    return [*found, {"title": "", "names": rest}] if rest else found


def controller_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `controller.py.jinja` is filled with."""
    query = Query(schema, model, "its_", model.name)
    for name in model.columns:
        query.show(name)
    sortable = dict.fromkeys([*model.columns, *(sort.name for sort in model.sort)])
    sorts = [
        call(f"{quote(name)}: ", query.order(name), indent=4, tail=",", brackets="[]")
        for name in sortable
        if not isinstance(_last(schema, model, name), Many | Collection)
        and not _is_json(_last(schema, model, name))
    ]
    sections = [_section_query(schema, collection) for collection in model.collections]
    listed, viewed = "list" in model.pages, "view" in model.pages
    if not viewed:
        sections = []
    aliases = query.alias_lines() if listed else []
    aliases += [line for _, lines, _ in sections for line in lines]
    statements = [statement for statement, _, _ in sections]
    used = {target for _, _, targets in sections for target in targets}
    used |= set(query.aliases.values()) if listed else set()
    changed = {"new", "edit"} & set(model.pages)
    return {
        "doc": doc(f"the pages of {model.plural}: {', '.join(model.pages)}"),
        "imports": _imports(schema, model, used, bool(aliases)),
        "blueprint": call(
            "pages = Blueprint", [quote(model.endpoint), "__name__", f'url_prefix="/{model.url}"']
        ),
        "aliases": aliases,
        "rows": query.source("ROWS = "),
        "sorts": "SORTS: lists.Sorts = {\n" + "\n".join(sorts) + "\n}"
        if sorts
        else "SORTS: lists.Sorts = {}",
        "sections": statements,
        "listing": _listing(model),
        "view": _view(schema, model),
        "edit": _template(model, "page = render_template", "edit", ["entry=entry", "row=row"]),
        "remove": _template(
            model, "page = render_template", "remove", ["row=row", "effects=effects"]
        ),
        "list": _template(model, "return render_template", "list", ["listing=listing"]),
        "page": model.pages,
        "changed": changed,
        "part": _part(model),
        "find": _find(model),
        "saved": 'url_for(".view_page", part=row.url_part)' if viewed else _without_view(model),
        "removed": 'url_for(".list_page")' if listed else 'url_for("start_page")',
        "bin": _has_bin(model),
        "bin_key": _bin_key(model),
        **{
            f"{done}_flash": _flash(model, name, done)
            for done, name in (("saved", "row"), ("removed", "name"), ("restored", "row"))
        },
    }


def _has_bin(model: Model) -> bool:
    """Whether removed rows can be looked at: what nobody can remove has no bin page."""
    return "bin" in model.keeps and "remove" in model.pages


def _bin_key(model: Model) -> str:
    """The key that the bin's form sends, as the key's own type."""
    key = model.stored(model.key) if model.key else None
    if isinstance(key, Field) and key.kind.annotation == "str":
        return 'request.form.get("row", "")'
    return 'request.form.get("row", 0, int)'


def _without_view(model: Model) -> str:
    if "list" in model.pages:
        return 'url_for(".list_page")'
    return (
        'url_for(".edit_page", part=row.url_part)'
        if "edit" in model.pages
        else 'url_for("start_page")'
    )


def _part(model: Model) -> dict[str, str]:
    """What a row's address ends in: how it is declared in routes, and its type."""
    key = model.address or model.key
    field = model.stored(key) if key else None
    number = field is None or isinstance(field, Field) and field.kind.annotation == "int"
    if number:
        return {"route": "<int:part>", "type": "int"}
    uuid = isinstance(field, Field) and field.kind.annotation == "UUID"
    return {"route": "<uuid:part>" if uuid else "<part>", "type": "UUID" if uuid else "str"}


def _find(model: Model) -> str:
    by = ""
    if model.address and model.address != model.key:
        by = f", {model.name}.{model.stored(model.address).attribute}"
    return f"rows.find({model.name}, part{by})"


def _is_json(member: AnyMember) -> bool:
    return isinstance(member, Field) and member.kind.stored().type == "json"


def _last(schema: Schema, model: Model, path: str) -> AnyMember:
    *before, last = path.split(".")
    for name in before:
        reference = model.by_name[name]
        assert isinstance(reference, Reference)
        model = schema.models[reference.target]
    return model.by_name[last]


def _imports(schema: Schema, model: Model, used: set[str], aliased: bool) -> list[str]:
    pages = set(model.pages)
    changed = bool({"new", "edit", "remove"} & pages)
    flask = ["Blueprint", "render_template"]
    flask += ["flash", "redirect", "request", "url_for"] if changed else []
    lines = (
        ["from uuid import UUID", ""]
        if _part(model)["type"] == "UUID" and pages - {"list", "new"}
        else []
    )
    lines += ["import sqlalchemy as sa"] if "list" in pages or used or _has_bin(model) else []
    lines += [from_import("flask", flask)]
    lines += ["from flask.typing import ResponseReturnValue"] if changed else []
    lines += ["from sqlalchemy import orm"] if aliased else []
    local = [import_model(schema, name) for name in used - {model.name}]
    kit = ["lists"] if "list" in pages or used or _has_bin(model) else []
    kit += ["removal"] if "remove" in pages else []
    kit += ["rows"] if pages - {"list", "new"} else []
    local += [from_import("..kit", kit)] if kit else []
    local.append(from_import(".model", [model.name]))
    shaped = "view" in pages and any(f.shape is not None for f in model.fields)
    forms = ["from .form import form"] if {"new", "edit"} & pages or shaped else []
    ordered = sorted(local, key=lambda line: (line.split()[1].startswith("."), line.split()[1]))
    outer = [line for line in ordered if line.startswith("from ..")]
    return [*lines, "", *outer, *forms, *(line for line in ordered if line not in outer)]


def _section_query(schema: Schema, collection: Collection) -> tuple[str, list[str], set[str]]:
    """A collection's statement, its aliases, and the models it needs."""
    child = schema.models[collection.child]
    query = Query(schema, child, f"{collection.name}_", child.name)
    for name in child.columns:
        if name != collection.via:
            query.show(name)
    order = query.by(collection.sort or child.sort)
    statement = query.source(f"ITS_{collection.name.upper()} = ", order)
    return statement, query.alias_lines(), {child.name, *query.aliases.values()}


def _listing(model: Model) -> str:
    first = ",".join(map(str, model.sort))
    arguments = ["ROWS", "SORTS", *([f"first={quote(first)}"] if first else [])]
    return call("listing = lists.page", arguments, indent=4)


def _template(model: Model, head: str, page: str, arguments: list[str]) -> str:
    return call(head, [quote(f"{model.folder}/pages/{page}.html"), *arguments], indent=4)


def _flash(model: Model, name: str, done: str) -> str:
    return call(
        "flash", [fstring(f"{html.title(model.singular)} ", name, f" is {done}.")], indent=8
    )


def _view(schema: Schema, model: Model) -> str:
    lines = []
    arguments = ["row=row"]
    if any(f.shape is not None for f in model.fields):
        arguments.append("form=form")
    for collection in model.collections:
        name = collection.name
        via = schema.models[collection.child].stored(collection.via)
        own = f"ITS_{name.upper()}.where({collection.child}.{via.column} == row.id)"
        lines.append(call(f"its_{name} = lists.page", [own, "{}", f'name="{name}-"'], indent=4))
        arguments.append(f"its_{name}=its_{name}")
    return "\n".join([*lines, _template(model, "return render_template", "view", arguments)])
