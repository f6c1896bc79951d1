"""controller.py and the pages of a model."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from ..kinds.literals import quote
from ..schema.model import Collection, Field, Model, Reference, Schema
from . import html
from .joins import Query
from .model_code import import_model
from .python import call, doc, from_import, fstring


@dataclass(frozen=True)
class Column:
    """A column of a table on a page; `value` is a template expression."""

    name: str
    label: str
    label_source: str
    value: str
    cell: str
    numeric: bool


def _value(member: Field | Reference, row: str) -> str:
    if isinstance(member, Field) and member.kind.labels():
        return f"{row}.{member.labels_name}[{row}.{member.attribute}]"
    return f"{row}.{member.attribute}"


def _shown(schema: Schema, member: Field | Reference, row: str) -> str:
    """A value on a page: a related row by its name, with a link to it."""
    value = f"{{{{ {_value(member, row)} | show }}}}"
    if isinstance(member, Field):
        return value
    table = schema.models[member.target].table
    link = f"<a href=\"{{{{ to_row('{table}.view_page', {row}.{member.column}) }}}}\">{value}</a>"
    if member.required:
        return link
    return f"{{% if {row}.{member.column} %}}{link}{{% else %}}—{{% endif %}}"


def _column(schema: Schema, member: Field | Reference, row: str) -> Column:
    numeric = isinstance(member, Field) and member.kind.numeric
    mark = ' class="number"' if numeric else ""
    label = html.text(member.label)
    cell = f'<td{mark} data-label="{label}">{_shown(schema, member, row)}</td>'
    return Column(member.name, label, quote(member.label), _value(member, row), cell, numeric)


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
    columns = [_column(schema, child.by_name[name], "child") for name in names]
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
        {"name": m.name, "label": html.text(m.label), "shown": _shown(schema, m, "row")}
        for m in model.members
    ]
    return {
        "columns": [_column(schema, model.by_name[name], "row") for name in model.columns],
        "members": members,
        "sections": [_section(schema, collection) for collection in model.collections],
        "singular": html.text(model.singular),
        "plural": html.text(model.plural),
        "plural_source": quote(model.plural),
        "plural_title": html.text(html.title(model.plural)),
        "new_title": quote(f"New {model.singular}"),
        "help": html.text(model.help),
    }


def controller_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `controller.py.jinja` is filled with."""
    query = Query(schema, model, "its_", model.name)
    for name in model.columns:
        member = model.by_name[name]
        if isinstance(member, Reference):
            query.show(member)
    sortable = dict.fromkeys([*model.columns, *(sort.name for sort in model.sort)])
    sorts = [
        call(
            f"{quote(name)}: ", query.order(model.by_name[name]), indent=4, tail=",", brackets="[]"
        )
        for name in sortable
    ]
    sections = [_section_query(schema, collection) for collection in model.collections]
    aliases = query.alias_lines() + [line for _, lines, _ in sections for line in lines]
    statements = [statement for statement, _, _ in sections]
    used = {target for _, _, targets in sections for target in targets} | set(
        query.aliases.values()
    )
    return {
        "doc": doc(f"the pages of {model.plural}: list, view, new, edit, remove"),
        "imports": _imports(schema, model, used, bool(aliases)),
        "blueprint": call(
            "pages = Blueprint", [quote(model.table), "__name__", f'url_prefix="/{model.url}"']
        ),
        "aliases": aliases,
        "rows": query.source("ROWS = "),
        "sorts": "SORTS: lists.Sorts = {\n" + "\n".join(sorts) + "\n}",
        "sections": statements,
        "listing": _listing(model),
        "view": _view(model),
        "edit": _template(model, "page = render_template", "edit", ["entry=entry", "row=row"]),
        "remove": _template(
            model, "page = render_template", "remove", ["row=row", "effects=effects"]
        ),
        "list": _template(model, "return render_template", "list", ["listing=listing"]),
        **{
            f"{done}_flash": _flash(model, name, done)
            for done, name in (("saved", "row"), ("removed", "name"))
        },
    }


def _imports(schema: Schema, model: Model, used: set[str], aliased: bool) -> list[str]:
    flask = ["Blueprint", "flash", "redirect", "render_template", "request", "url_for"]
    lines = [
        "import sqlalchemy as sa",
        from_import("flask", flask),
        "from flask.typing import ResponseReturnValue",
    ]
    lines += ["from sqlalchemy import orm"] if aliased else []
    local = [import_model(schema, name) for name in used - {model.name}]
    local.append("from ..kit import lists, removal, rows")
    return [
        *lines,
        "",
        *sorted(local, key=lambda line: line.split()[1]),
        "from .form import form",
        from_import(".model", [model.name]),
    ]


def _section_query(schema: Schema, collection: Collection) -> tuple[str, list[str], set[str]]:
    """A collection's statement, its aliases, and the models it needs."""
    child = schema.models[collection.child]
    query = Query(schema, child, f"{collection.name}_", child.name)
    for name in child.columns:
        member = child.by_name[name]
        if isinstance(member, Reference) and name != collection.via:
            query.show(member)
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


def _view(model: Model) -> str:
    lines = []
    arguments = ["row=row"]
    for collection in model.collections:
        name = collection.name
        own = f"ITS_{name.upper()}.where({collection.child}.{collection.via}_id == id)"
        lines.append(call(f"its_{name} = lists.page", [own, "{}", f'name="{name}-"'], indent=4))
        arguments.append(f"its_{name}=its_{name}")
    return "\n".join([*lines, _template(model, "return render_template", "view", arguments)])
