"""controller.py: the pages of a model."""

from __future__ import annotations

from typing import Any

from ..kinds.literals import quote
from ..rules.brought import use
from ..schema.model import Field, Model, Reference, Schema
from . import html
from .list_code import lists_of
from .page_code import has_bin, is_chosen, is_placed, tree_of
from .python import call, doc, fstring


def controller_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `controller.py.jinja` is filled with."""
    made, statements = lists_of(schema, model)
    listed, viewed = "list" in model.pages, "view" in model.pages
    changed = {"new", "edit"} & set(model.pages)
    owner = schema.owner_of(model)
    aliases = [line for one in made for line in one.aliases]
    under = _under(schema, model, owner) if owner else ""
    own = [f'url_prefix="/{model.url}"'] if not owner else []
    return {
        "doc": doc(f"the pages of {model.plural}: {', '.join(model.pages)}"),
        "blueprint": call(f"pages = {use.Blueprint}", [quote(model.endpoint), "__name__", *own]),
        "at": f"/{model.url}" if owner else "",
        "under": under,
        "owner": _owner(schema, model, owner) if owner else None,
        "aliases": aliases,
        "statements": statements,
        "sections": viewed and model.collections,
        "chosen": _chosen(model) if is_chosen(model) else "",
        "view": _view(model),
        "edit": _template(
            model, f"page = {use.render_template}", "edit", _edit_arguments(model, owner)
        ),
        "remove": _template(
            model, f"page = {use.render_template}", "remove", ["row=row", "effects=effects"]
        ),
        "page": model.pages,
        "changed": changed,
        "part": part_of(model),
        "find": find(model),
        "shown": find(model, way="find" if model.keys else "shown"),
        "saved": f'{use.url_for}(".view_page", part=row.url_part)'
        if viewed
        else _without_view(model),
        "removed": _removed(owner, listed),
        "bin": has_bin(model),
        **{
            f"{done}_flash": call(
                use.flash,
                [fstring(f"{html.title(model.singular)} ", name, f" is {done}.")],
                indent=8,
            )
            for done, name in (("saved", "row"), ("removed", "name"))
        },
    }


def _edit_arguments(model: Model, owner: Reference | None) -> list[str]:
    if owner:
        return ["entry=entry", "row=row", "parent=parent"]
    return ["entry=entry", "row=row", *([_PLACE] if is_placed(model) else [])]


def _removed(owner: Reference | None, listed: bool) -> str:
    if owner:
        return f"{use.links}.row_url(row.{owner.attribute})"
    return f'{use.places}.list_url(".list_page")' if listed else f'{use.url_for}("start_page")'


def _under(schema: Schema, model: Model, owner: Reference) -> str:
    """The address of a row's parent, and of the rows below it."""
    parent = schema.models[owner.target]
    return f"/{parent.url}/{part_of(parent, 'owner')['route']}/{model.url}"


def _owner(schema: Schema, model: Model, owner: Reference) -> dict[str, str]:
    """How a row is made and found under its parent."""
    parent = schema.models[owner.target]
    kind, part = part_of(parent)["type"], part_of(model)["type"]
    new = call(use.row(model.name), [f"{owner.key_attribute}=parent.id"])
    under = find(model, under="parent")
    pages = {"new", "edit"} & set(model.pages)
    if pages == {"new"}:
        arguments, row = [f"owner: {kind}"], new
    elif pages == {"edit"}:
        arguments, row = [f"owner: {kind}", f"part: {part}"], under
    else:
        arguments = [f"owner: {kind}", f"part: {part} | None = None"]
        row = f"{new} if part is None else {under}"
    return {
        "signature": call("def edit_page", arguments, tail=f" -> {use.ResponseReturnValue}:"),
        "find": find(parent, "owner"),
        "row": f"    row = {row}",
    }


def _chosen(model: Model) -> str:
    """What several rows at once may have done to them."""
    may = [
        f"{what}={page in model.pages}"
        for what, page in (("removes", "remove"), ("changes", "edit"))
    ]
    kind = "LIST" if "list" in model.pages else "None"
    return call(f"return {use.bulk}.answer", [use.form, kind, *may], indent=4)


def _without_view(model: Model) -> str:
    if "list" in model.pages:
        return f'{use.url_for}(".list_page")'
    return f"{use.links}.edit_url(row)" if "edit" in model.pages else f'{use.url_for}("start_page")'


def part_of(model: Model, name: str = "part") -> dict[str, str]:
    """What a row's address ends in: how it is declared in routes, by a name, and its type."""
    key = model.address or model.key
    field = model.stored(key) if key else None
    if field is None and model.keys:
        return {"route": f"<{name}>", "type": "str"}
    number = field is None or isinstance(field, Field) and field.kind.annotation == "int"
    if number:
        # What others count may begin below nothing.
        kind = "int(signed=True)" if model.as_it_is else "int"
        return {"route": f"<{kind}:{name}>", "type": "int"}
    uuid = isinstance(field, Field) and field.kind.annotation == use.UUID
    if uuid:
        return {"route": f"<uuid:{name}>", "type": use.UUID}
    # What others made a key of may hold what parts addresses.
    whole = "path:" if model.as_it_is and not model.address else ""
    return {"route": f"<{whole}{name}>", "type": "str"}


def find(model: Model, name: str = "part", under: str = "", way: str = "find") -> str:
    """The call that finds a row by what its address ends in; one `under` a parent, where named."""
    rows = use.row(model.name)
    arguments = [rows, name]
    if model.address and model.address != model.key:
        arguments.append(f"{rows}.{model.stored(model.address).attribute}")
    begin = f"{use.rows}.find_under({under}, " if under else f"{use.rows}.{way}("
    return f"{begin}{', '.join(arguments)})"


def _template(model: Model, head: str, page: str, arguments: list[str]) -> str:
    return call(head, [quote(f"{model.folder}/pages/{page}.html"), *arguments], indent=4)


def _view(model: Model) -> str:
    lines = []
    arguments = ["row=row", *([_PLACE] if "list" in model.pages else [])]
    if any(f.shape is not None for f in model.fields):
        arguments.append(f"form={use.form}")
    others = [
        ('"all-below": "All below"', tree_of(model)),
        ('"its-history": "History"', "history" in model.keeps),
    ]
    shown = [source for source, there in others if there]
    if model.collections or shown:
        collections = "TABS" if model.collections else "{}"
        lines.append(
            call(
                f"its = {use.tabs}.Tabs", ["row", collections, f"{{{', '.join(shown)}}}"], indent=4
            )
        )
        arguments.append("its=its")
    return "\n".join([*lines, _template(model, f"return {use.render_template}", "view", arguments)])


_PLACE = f"place={use.beside}.here(LIST, row)"
