"""The lists of a controller: what they select, are sorted, searched and filtered by."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field

from ..kinds.literals import quote
from ..rules.brought import use
from ..schema.model import (
    Collection,
    Many,
    Model,
    Reference,
    Schema,
    Sort,
)
from ..storage.list_indexes import list_indexes
from .joins import Query
from .page_code import (
    has_bin,
    heading_of,
    is_sortable,
    last_member,
    more_columns,
    path_of,
    section_columns,
    tree_of,
)
from .python import call, keywords, tuple_of


@dataclass
class ListCode:
    """The source of a list, and the aliases it needs."""

    source: str
    aliases: list[str] = field(default_factory=list)


def page_list(schema: Schema, model: Model) -> ListCode:
    """The list page's own."""
    query = Query(schema, model, "its_", use.row(model.name))
    for name in model.columns:
        query.show(name)
    if {"view", "edit", "remove"} & set(model.pages):
        query.link()
    options = _columns(schema, query, model.columns, model.sort)
    if model.search:
        options["search"] = tuple_of([query.column(path)[0] for path in model.search])
    filters = [_filter(query, path) for path in model.filters]
    if any(filters):
        options["filters"] = tuple_of([one for one in filters if one])
    options["form"] = use.form
    more = more_columns(schema, model)
    if more:
        options["more"] = f"{{{', '.join(f'{quote(p)}: {quote(h)}' for p, h in more.items())}}}"
    tree = tree_of(model)
    if tree:
        options["tree"] = f"{use.trees}.Nesting({use.row(model.name)}.{tree.key_attribute})"
    return _list("LIST", query, options)


def section_list(schema: Schema, collection: Collection) -> ListCode:
    """A collection's, on the page of its parent."""
    child = schema.models[collection.child]
    rows = use.row(child.name)
    query = Query(schema, child, f"{collection.name}_", rows)
    names = section_columns(schema, collection)
    for name in names:
        query.show(name)
    if not names:
        query.name()
    query.link()
    options = _columns(schema, query, names, collection.sort or child.sort)
    via = schema.models[collection.child].stored(collection.via)
    assert isinstance(via, Reference)
    found = _list("", query, options, parts=via == schema.owner_of(child))
    arguments = [quote(collection.label), found.source, f"{rows}.{via.key_attribute}"]
    found.source = call(
        f"{quote(collection.name)}: {use.tabs}.Collection", arguments, indent=4, tail=","
    )
    return found


def bin_list(schema: Schema, model: Model) -> ListCode:
    """The bin's: what was removed last comes first."""
    rows = use.row(model.name)
    query = Query(schema, model, "removed_", rows)
    query.name()
    query.pick("removed_at")
    options = {
        "columns": f'{{"removed_at": ("Removed", {rows}.removed_at)}}',
        "first": '"-removed_at"',
    }
    return _list("BIN", query, options, removed=True)


def _list(
    name: str,
    query: Query,
    options: dict[str, str],
    *,
    removed: bool = False,
    parts: bool = False,
) -> ListCode:
    if query.aliases:
        pairs = ", ".join(f"{quote(query.paths[alias])}: {alias}" for alias in query.aliases)
        options["related"] = f"{{{pairs}}}"
    if "filters" in options and _finds_in_order(query.model, query.schema):
        options["narrowing"] = f"{use.narrowing}.by_choice"
    rows = query.columns_source(removed=removed, parts=parts)
    arguments = [query.owner, rows, options.pop("columns"), *keywords(options)]
    head = f"{name} = {use.lists}.List" if name else f"{use.lists}.List"
    return ListCode(call(head, arguments), query.alias_lines())


def _finds_in_order(model: Model, schema: Schema) -> bool:
    """Whether an index has the rows of a choice in the order of the list."""
    return not model.as_it_is and any(ordered for _, ordered in list_indexes(model, schema))


def _columns(
    schema: Schema, query: Query, columns: Sequence[str], first: Sequence[Sort]
) -> dict[str, str]:
    """Headings and what they sort by; what is only sorted by has no heading."""
    model = query.model
    found, leads = [], False
    for name in dict.fromkeys([*columns, *(sort.name for sort in first)]):
        member = last_member(schema, model, name)
        sorts = query.sort_columns(name) if is_sortable(member) else []
        leads |= any(not column.startswith(f"{query.owner}.") for column in sorts)
        told = quote(heading_of(schema, model, name) if name in columns else "")
        found.append(f"{quote(path_of(schema, model, name))}: {tuple_of([told, *sorts])}")
    options = {"columns": f"{{{', '.join(found)}}}"}
    if leads:
        options["through"] = f"{use.leading}.through"
    if first:
        keys = (f"{'-' * sort.descending}{path_of(schema, model, sort.name)}" for sort in first)
        options["first"] = quote(",".join(keys))
    return options


def _filter(query: Query, path: str) -> str:
    """A filter as source; empty where the member's type has none."""
    column, member = query.column(path)
    label = heading_of(query.schema, query.model, path, unit=False)
    head = [quote(path), quote(label), column]
    if isinstance(member, Reference | Many):
        kind = "Linked" if isinstance(member, Many) else "Related"
        told = [*head, f"target={use.row(member.target)}"]
        return f"{use.filters}.{kind}({', '.join(told)})"
    if isinstance(member, Collection):
        return ""
    if member.kind.labels():
        labels = f"{use.row(member.model)}.{member.name.upper()}_LABELS"
        return f"{use.filters}.Choice({', '.join([*head, f'labels={labels}'])})"
    kind = member.kind.filtered
    if kind == "Range" and member.unit:
        head.append(f"unit={quote(member.unit)}")
    return f"{use.filters}.{kind}({', '.join(head)})" if kind else ""


def lists_of(schema: Schema, model: Model) -> tuple[list[ListCode], list[str]]:
    """Every list of a controller, and the statements that make them."""
    made: list[ListCode] = []
    statements: list[str] = []
    if "list" in model.pages:
        made.append(page_list(schema, model))
        statements.append(made[-1].source)
    if "view" in model.pages and model.collections:
        sections = [section_list(schema, collection) for collection in model.collections]
        made += sections
        statements.append("TABS = {\n" + "\n".join(section.source for section in sections) + "\n}")
    if has_bin(model):
        made.append(bin_list(schema, model))
        statements.append(made[-1].source)
    return made, statements
