"""controller.py: the pages of a model."""

from __future__ import annotations

from typing import Any

from ..kinds.literals import quote
from ..schema.model import Field, Model, Reference, Schema
from . import html
from .list_code import lists_of
from .model_code import import_model
from .page_code import has_bin, is_chosen, is_placed, tree_of
from .python import call, doc, from_import, fstring, names_used


def controller_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `controller.py.jinja` is filled with."""
    made, statements = lists_of(schema, model)
    listed, viewed = "list" in model.pages, "view" in model.pages
    changed = {"new", "edit"} & set(model.pages)
    owner = schema.owner_of(model)
    aliases = [line for one in made for line in one.aliases]
    under = _under(schema, model, owner) if owner else ""
    own = [f'url_prefix="/{model.url}"'] if not owner else []
    context = {
        "doc": doc(f"the pages of {model.plural}: {', '.join(model.pages)}"),
        "blueprint": call("pages = Blueprint", [quote(model.endpoint), "__name__", *own]),
        "at": f"/{model.url}" if owner else "",
        "under": under,
        "owner": _owner(schema, model, owner) if owner else None,
        "aliases": aliases,
        "statements": statements,
        "sections": viewed and model.collections,
        "chosen": _chosen(model) if is_chosen(model) else "",
        "view": _view(model),
        "edit": _template(model, "page = render_template", "edit", _edit_arguments(model, owner)),
        "remove": _template(
            model, "page = render_template", "remove", ["row=row", "effects=effects"]
        ),
        "page": model.pages,
        "changed": changed,
        "part": part_of(model),
        "find": find(model),
        "saved": 'url_for(".view_page", part=row.url_part)' if viewed else _without_view(model),
        "removed": _removed(owner, listed),
        "bin": has_bin(model),
        **{
            f"{done}_flash": call(
                "flash", [fstring(f"{html.title(model.singular)} ", name, f" is {done}.")], indent=8
            )
            for done, name in (("saved", "row"), ("removed", "name"))
        },
    }
    context["imports"] = _imports(schema, model, context, {m for one in made for m in one.models})
    return context


def _edit_arguments(model: Model, owner: Reference | None) -> list[str]:
    if owner:
        return ["entry=entry", "row=row", "parent=parent"]
    return ["entry=entry", "row=row", *([_PLACE] if is_placed(model) else [])]


def _removed(owner: Reference | None, listed: bool) -> str:
    if owner:
        return f"links.row_url(row.{owner.attribute})"
    return 'places.list_url(".list_page")' if listed else 'url_for("start_page")'


def _under(schema: Schema, model: Model, owner: Reference) -> str:
    """The address of a row's parent, and of the rows below it."""
    parent = schema.models[owner.target]
    return f"/{parent.url}/{part_of(parent, 'owner')['route']}/{model.url}"


def _owner(schema: Schema, model: Model, owner: Reference) -> dict[str, str]:
    """How a row is made and found under its parent."""
    parent = schema.models[owner.target]
    kind, part = part_of(parent)["type"], part_of(model)["type"]
    new = call(model.name, [f"{owner.key_attribute}=parent.id"])
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
        "signature": call("def edit_page", arguments, tail=" -> ResponseReturnValue:"),
        "find": find(parent, "owner"),
        "row": f"    row = {row}",
        "model": parent.name,
    }


def _chosen(model: Model) -> str:
    """What several rows at once may have done to them."""
    may = [
        f"{what}={page in model.pages}"
        for what, page in (("removes", "remove"), ("changes", "edit"))
    ]
    kind = "LIST" if "list" in model.pages else "None"
    return call("return bulk.answer", ["form", kind, *may], indent=4)


def _without_view(model: Model) -> str:
    if "list" in model.pages:
        return 'url_for(".list_page")'
    return "links.edit_url(row)" if "edit" in model.pages else 'url_for("start_page")'


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
    uuid = isinstance(field, Field) and field.kind.annotation == "UUID"
    if uuid:
        return {"route": f"<uuid:{name}>", "type": "UUID"}
    # What others made a key of may hold what parts addresses.
    whole = "path:" if model.as_it_is and not model.address else ""
    return {"route": f"<{whole}{name}>", "type": "str"}


def find(model: Model, name: str = "part", under: str = "") -> str:
    """The call that finds a row by what its address ends in; one `under` a parent, where named."""
    arguments = [model.name, name]
    if model.address and model.address != model.key:
        arguments.append(f"{model.name}.{model.stored(model.address).attribute}")
    way = f"rows.find_under({under}, " if under else "rows.find("
    return f"{way}{', '.join(arguments)})"


def _template(model: Model, head: str, page: str, arguments: list[str]) -> str:
    return call(head, [quote(f"{model.folder}/pages/{page}.html"), *arguments], indent=4)


def _view(model: Model) -> str:
    lines = []
    arguments = ["row=row", *([_PLACE] if "list" in model.pages else [])]
    if any(f.shape is not None for f in model.fields):
        arguments.append("form=form")
    others = [
        ('"all-below": "All below"', tree_of(model)),
        ('"its-history": "History"', "history" in model.keeps),
    ]
    shown = [source for source, there in others if there]
    if model.collections or shown:
        collections = "TABS" if model.collections else "{}"
        lines.append(
            call("its = tabs.Tabs", ["row", collections, f"{{{', '.join(shown)}}}"], indent=4)
        )
        arguments.append("its=its")
    return "\n".join([*lines, _template(model, "return render_template", "view", arguments)])


_KIT = (
    *("beside", "bins", "bulk", "filters", "links", "lists"),
    *("places", "removal", "rows", "tabs", "trees"),
)
_PLACE = "place=beside.here(LIST, row)"


def _imports(schema: Schema, model: Model, context: dict[str, Any], models: set[str]) -> list[str]:
    pages = set(model.pages)
    owner = context["owner"]
    changed = bool({"new", "edit"} & pages)
    flask = ["Blueprint"]
    flask += ["render_template"] if pages - {"list"} else []
    flask += ["flash", "redirect", "request"] if changed or "remove" in pages else []
    written = "\n".join([*context["aliases"], *context["statements"], context["chosen"] and "form"])
    body = "\n".join(
        [context["saved"] if changed else "", context["removed"] if "remove" in pages else ""]
        + [context["view"] if "view" in pages else ""]
        + [context["edit"] if changed else ""]
    )
    used = names_used(written) | names_used(
        "\n".join(map(str.strip, body.splitlines())).replace("return ", "")
    )
    flask += ["url_for"] if "url_for" in used else []
    kit = {name for name in _KIT if name in used}
    kit |= {"removal"} if "remove" in pages else set()
    kit |= {"rows"} if pages - {"list", "new"} or owner else set()
    kit |= {"listing"} if "list" in pages else set()
    kit |= {"bulk"} if context["chosen"] else set()
    kit |= {"bins"} if context["bin"] else set()
    uuids = [context["part"]["type"]] if pages - {"list", "new"} else []
    uuids += [part_of(schema.models[schema.owner_of(model).target])["type"]] if owner else []  # type: ignore[union-attr]
    lines = ["from uuid import UUID", ""] if "UUID" in uuids else []
    lines += ["import sqlalchemy as sa"] if "sa" in used else []
    lines += [from_import("flask", flask)]
    answers = changed or {"remove", "list"} & pages
    lines += ["from flask.typing import ResponseReturnValue"] if answers else []
    lines += ["from sqlalchemy import orm"] if "orm" in used else []
    named = models | ({owner["model"]} if owner and changed else set())
    local = [import_model(schema, name) for name in named - {model.name}]
    local += [from_import("..kit", kit)] if kit else []
    shaped = "view" in pages and any(f.shape is not None for f in model.fields)
    needs_form = changed or shaped or context["chosen"] or "list" in pages
    forms = ["from .form import form"] if needs_form else []
    needs_model = model.name in models or pages - {"list"}
    own = [from_import(".model", [model.name])] if needs_model else []
    return [*lines, "", *sorted(local, key=lambda line: line.split()[1]), *forms, *own]
