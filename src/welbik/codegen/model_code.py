"""model.py: the table class of a model."""

from __future__ import annotations

from typing import Any

from ..kinds.literals import quote
from ..rules.brought import use
from ..schema.model import Collection, Computed, Field, Many, Model, Reference, Schema, Sort
from ..storage.tables import Column
from .column_code import TableCode, column_type, is_wide
from .joins import Query, by_name
from .python import (
    Call,
    argument_line,
    call,
    doc,
    fstring,
    keywords,
    line,
    mapping,
)
from .query_code import Queries

_CONSTANTS = {"SINGULAR", "PLURAL", "ENDPOINT", "OWNER", "HISTORY", "KEY"}


def _own_constants(model: Model) -> set[str]:
    """What a model's module and class call labels and tables of pairs."""
    pairs = {_pairs_name(many) for many in model.many if many.declares}
    return pairs | {field.labels_name for field in model.fields if field.kind.labels()}


def _pairs_name(many: Many) -> str:
    return f"{many.name.upper()}_PAIRS"


def model_context(schema: Schema, model: Model) -> dict[str, Any]:
    """What `model.py.jinja` is filled with."""
    query, order = by_name(schema, model)
    in_order = _in_order(model, query, order) if schema.is_chosen(model.name) else []
    queries = Queries(schema, "", _CONSTANTS | _own_constants(model))
    computed = [_computed(queries, member) for member in model.computed]
    table = TableCode(schema, model.table)
    needed = queries.used | set(_key_names(model))
    attributes = [
        line for member in model.members for line in _attribute(schema, table, member, needed)
    ]
    attributes += _kept(table, model)
    attributes += [_collection(schema, collection) for collection in model.collections]
    attributes += [_many(schema, many) for many in model.many]
    attributes += [*computed, *_keys(schema, model)]
    tables = [line for many in model.many if many.declares for line in _pairs(table, many)]
    tables += [table.source() for table in queries.stand_ins.values()]
    history = (
        f"HISTORY = {use.history}.table({quote(model.table)})" if "history" in model.keeps else ""
    )
    url_part = _url_part(model)
    more = _more(table)
    owner = schema.owner_of(model)
    labels = [(f.labels_name, _labels(f)) for f in model.fields if f.kind.labels()]
    return {
        "docstring": _docstring(model),
        "tables": tables,
        "key": _key(model),
        "history": history,
        "owner": owner.attribute if owner else "",
        "url_part": url_part,
        "endpoint": model.endpoint if model.endpoint != model.table else "",
        "tablename": line("__tablename__ = ", quote(model.table), indent=4),
        "singular": line("SINGULAR = ", quote(model.singular), indent=4),
        "plural": line("PLURAL = ", quote(model.plural), indent=4),
        "labels": labels,
        "attributes": attributes,
        "more": more,
        "shown": line("return ", _shown(model), indent=8),
        "in_order": "\n".join(in_order),
    }


def _in_order(model: Model, query: Query, order: list[str]) -> list[str]:
    """The body of the method that gives rows to choose from."""
    own = [
        f"cls.{model.stored(n).attribute}"
        for n in model.search
        if "." not in n and n in _texts(model)
    ]
    words = list(dict.fromkeys([*order[:-1], *own])) or order
    rows = query.source("rows = ", order, indent=8)
    return [
        *query.alias_lines(indent=8),
        rows,
        call(f"return {use.words}.having", ["rows", "find", f"[{', '.join(words)}]"], indent=8),
    ]


def _texts(model: Model) -> set[str]:
    return {f.name for f in model.fields if f.kind.annotation == "str"}


def _docstring(model: Model) -> str:
    return doc(
        f"{model.singular}: {model.help[:1].lower()}{model.help[1:]}" if model.help else model.a_row
    )


def _labels(field: Field) -> str:
    items = [(quote(name), quote(label)) for name, label in field.kind.labels().items()]
    return mapping(f"{field.labels_name}: {use.ClassVar}[dict[str, str]] = ", items, indent=4)


def _attribute(
    schema: Schema, table: TableCode, member: Field | Reference, needed: set[str]
) -> list[str]:
    """The lines of a member; one that a formula names needs a value in the class's body."""
    if isinstance(member, Reference):
        return _reference(schema, table, member)
    column = table.column(member)
    arguments = table.arguments(column, member.attribute)
    arguments += [type_] if (type_ := column_type(member)) else []
    arguments += _told(table, column)
    if member.by_database:
        arguments += _BY_DATABASE
    elif member.default is not None:
        arguments.append(f"default={member.kind.source(member.default)}")
    elif member.kind.made():
        arguments.append(f"default={member.kind.made()}")
    head = f"{member.attribute}: {use.Mapped}[{member.kind.annotation}{table.optional(column)}]"
    if not arguments and member.attribute not in needed:
        return [f"    {head}"]
    return [call(f"{head} = {use.mapped_column}", arguments, indent=4)]


_BY_DATABASE = [
    f"server_default={use.sa}.FetchedValue()",
    f"server_onupdate={use.sa}.FetchedValue()",
]


def _told(table: TableCode, column: Column) -> list[str]:
    """What a column says of its part in the key, of indexes, and of being never empty."""
    keyed = not table.table.keyless and column.name in (table.table.key, *table.table.keys)
    found = ["primary_key=True"] if keyed else table.found_by(column)
    return [*found, *(["nullable=False"] if column.empty is not None else [])]


def _keys(schema: Schema, model: Model) -> list[str]:
    """What tells rows by several columns, behind all of these."""
    if not model.keys:
        return []
    members = [model.stored(name) for name in model.keys]
    names = _key_names(model)
    reads = [
        (quote(name), "None" if model.keyless else _reader(schema, member))
        for name, member in zip(names, members, strict=True)
    ]
    found = [call(f"id: {use.Mapped}[str] = {use.adopted}.key", names, indent=4)]
    found.append(mapping(f"KEY: {use.ClassVar}[dict[str, {use.Any}]] = ", reads, indent=4))
    if model.keyless:
        found.append(call(f"__mapper_args__ = {use.adopted}.told_by", names, indent=4))
    return found


def _key_names(model: Model) -> list[str]:
    """The attributes that are the key together."""
    members = [model.stored(name) for name in model.keys]
    return [m.key_attribute if isinstance(m, Reference) else m.attribute for m in members]


def _reader(schema: Schema, member: Field | Reference) -> str:
    """What reads a value from its text, as source."""
    if isinstance(member, Reference):
        annotation = _key_annotation(schema, schema.models[member.target])
    else:
        annotation = member.kind.annotation
    if annotation == f"{use.dt}.date" and isinstance(member, Field) and not member.native:
        return f"{use.dt}.date.fromisoformat"
    return annotation if annotation in ("str", "int", use.UUID) else "None"


def _key(model: Model) -> list[str]:
    """The primary key: a number of its own, or another name for the field that is it."""
    if model.keys:
        return []
    if not model.key:
        told = [quote(model.number)] if model.number != "id" else []
        told += [f"{use.sa}.BigInteger()"] if is_wide(model.number_native) else []
        handed = (
            ["autoincrement=False", f"default={use.adopted}.next_number"]
            if model.handed_out
            else []
        )
        return [
            call(
                f"id: {use.Mapped}[int] = {use.mapped_column}",
                [*told, "primary_key=True", *handed],
                indent=4,
            )
        ]
    key = model.stored(model.key)
    assert isinstance(key, Field)
    return [
        f"    id: {use.Mapped}[{key.kind.annotation}] = {use.orm}.synonym({quote(key.attribute)})"
    ]


_SET = {
    "created_at": [f"default={use.clock}.now"],
    "updated_at": [f"default={use.clock}.now", f"onupdate={use.clock}.now"],
}


def _kept(table: TableCode, model: Model) -> list[str]:
    """What is kept of every row without being asked for: the moments that no member is."""
    asked = {member.column for member in model.members}
    return [
        call(
            f"{column.name}: {use.Mapped}[{use.dt}.datetime{table.optional(column)}] = {use.mapped_column}",
            [f"{use.columns}.Moment()", *table.found_by(column), *_SET.get(column.name, [])],
            indent=4,
        )
        for column in table.table.columns
        if column.name not in asked
    ]


def _url_part(model: Model) -> str:
    """The expression of what its address ends in, where that is not its key."""
    if not model.address or model.address == model.key:
        return ""
    field = model.stored(model.address)
    plain = isinstance(field, Field) and field.kind.annotation == "str"
    return f"self.{field.attribute}" if plain else f"str(self.{field.attribute})"


def _computed(queries: Queries, member: Computed) -> str:
    formula = queries.value(member.formula)
    head = f"{member.attribute}: {use.Mapped}[{member.kind.annotation} | None]"
    return f"    {head} = {use.column_property}({formula})"


def _more(table: TableCode) -> str:
    """What the table has besides its columns."""
    found = table.more()
    if not found:
        return ""
    inner = "".join(f"{argument_line(one, 8)}\n" for one in found)
    return f"    __table_args__ = (\n{inner}    )"


def _pairs(table: TableCode, many: Many) -> list[str]:
    """The table of a many-to-many relation."""
    pairs = table.of(many.table)
    parts: list[str | Call] = [quote(many.table), f"{use.Base}.metadata"]
    if pairs.table.numbered:
        parts.append(f'{use.sa}.Column("id", {use.sa}.Integer(), primary_key=True)')
    end = "nullable=False" if pairs.table.numbered else "primary_key=True"
    for column in pairs.table.columns:
        told = [quote(column.name), pairs.foreign_key(column), *pairs.found_by(column)]
        parts.append(f"{use.sa}.Column({', '.join([*told, end])})")
    constant = _pairs_name(many)
    made = call(f"{constant} = {use.sa}.Table", [*parts, *pairs.more()])
    return [made, f"{use.tables}.ready({constant})"]


def _many(schema: Schema, many: Many) -> str:
    options = {}
    # Never as a text: the library would run it as code to find out what it names.
    pairs = f"{use.Base}.metadata.tables[{quote(many.table)}]"
    options["secondary"] = _pairs_name(many) if many.declares else f"lambda: {pairs}"
    if many.other:
        other = schema.models[many.target].by_name[many.other]
        options["back_populates"] = quote(other.attribute)
    if many.target == many.model:
        key = f"{many.model}.{_key_attribute(schema, many.model)}"
        mine, theirs = (f"{pairs}.c[{quote(c)}]" for c in (many.column, many.target_column))
        options["primaryjoin"] = f"lambda: {key} == {mine}"
        options["secondaryjoin"] = f"lambda: {key} == {theirs}"
    options["order_by"] = _order_of_pairs(schema, many)
    head = f"{many.attribute}: {use.Mapped}[list[{use.type(many.target)}]] = {use.relationship}"
    return call(head, keywords(options), indent=4)


def _order_of_pairs(schema: Schema, many: Many) -> str:
    """What the rows of a relation are sorted by, or what they are called by; at last their key."""
    target = schema.models[many.target]
    columns = f"{use.Base}.metadata.tables[{quote(target.table)}].c"
    found = []
    names = [Sort(piece.text) for piece in target.shown_as if piece.is_field]
    for key in many.sort or names:
        member = target.by_name.get(key.name)
        # Names of what they lead to stand in other tables.
        if not isinstance(member, Field) or member.kind.as_json:
            break
        found.append(f"{columns}[{quote(member.column)}]{'.desc()' if key.descending else ''}")
    keys = [target.stored(target.key).column] if target.key else [target.number or "id"]
    found += [f"{columns}[{quote(key)}]" for key in target.keys or keys]
    return f"lambda: [{', '.join(dict.fromkeys(found))}]"


def _key_attribute(schema: Schema, model: str) -> str:
    found = schema.models[model]
    if len(found.keys) == 1:
        member = found.stored(found.keys[0])
        return member.key_attribute if isinstance(member, Reference) else member.attribute
    return found.stored(found.key).attribute if found.key else "id"


def _reference(schema: Schema, table: TableCode, member: Reference) -> list[str]:
    target = schema.models[member.target]
    column = table.column(member)
    arguments = table.arguments(column, member.key_attribute)
    if member.empty is not None:
        # Behind what it refers to it would be no type.
        kept = f"{use.adopted}.Never({use.sa}.Integer(), {member.empty})"
        arguments.insert(len(arguments) - 1, kept)
    arguments += _told(table, column)
    arguments += _BY_DATABASE if member.by_database else []
    optional = table.optional(column)
    kind = _key_annotation(schema, target)
    other = _other_side(schema, member)
    options = {"back_populates": quote(other.attribute)} if other else {}
    if _is_ambiguous(schema, member):
        options["foreign_keys"] = member.key_attribute
    if member.target == member.model:
        options["remote_side"] = _key_attribute(schema, member.model)
    head = f"{member.attribute}: {use.Mapped}[{use.type(member.target)}{optional}]"
    return [
        call(
            f"{member.key_attribute}: {use.Mapped}[{kind}{optional}] = {use.mapped_column}",
            arguments,
            indent=4,
        ),
        call(f"{head} = {use.relationship}", keywords(options), indent=4),
    ]


def _is_ambiguous(schema: Schema, reference: Reference) -> bool:
    """Whether two tables refer to each other in more ways than one."""
    both = {reference.model, reference.target}
    ways = [
        other
        for name in both
        for other in schema.models[name].references
        if {other.model, other.target} == both
    ]
    return len(ways) > 1 or len(both) == 1


def _key_annotation(schema: Schema, model: Model) -> str:
    key = schema.key_of(model)
    return key.kind.annotation if isinstance(key, Field) else "int"


def _other_side(schema: Schema, reference: Reference) -> Collection | None:
    parent = schema.models[reference.target]
    pair = (reference.model, reference.name)
    return next((c for c in parent.collections if (c.child, c.via) == pair), None)


def _collection(schema: Schema, collection: Collection) -> str:
    via = schema.models[collection.child].by_name[collection.via]
    assert isinstance(via, Reference)
    # The database itself refuses, clears or removes the rows of a removed parent.
    options = {"back_populates": quote(via.attribute), "passive_deletes": '"all"'}
    if _is_ambiguous(schema, via):
        options["foreign_keys"] = quote(f"{via.model}.{via.key_attribute}")
    head = f"{collection.attribute}: {use.Mapped}[list[{use.type(collection.child)}]] = {use.relationship}"
    return call(head, keywords(options), indent=4)


def _shown(model: Model) -> str:
    """The expression that gives a row's name."""
    pieces: list[str] = []
    for part in model.shown_as:
        # Text stands at even places, expressions at odd ones.
        if part.is_field == (len(pieces) % 2 == 0):
            pieces.append("")
        pieces.append(_value(model, part.text) if part.is_field else part.text)
    if len(pieces) == 2 and not pieces[0]:
        return (
            pieces[1]
            if _is_plain_text(model)
            else f"str({pieces[1]})"
            if not pieces[1].startswith((use.show, use.brief))
            else pieces[1]
        )
    return fstring(*pieces)


def _is_plain_text(model: Model) -> bool:
    member = model.by_name.get(next(part.text for part in model.shown_as if part.is_field))
    return isinstance(member, Field) and member.required and member.kind.plain_text


def _value(model: Model, name: str) -> str:
    member = model.by_name.get(name)
    if isinstance(member, Field) and member.is_long:
        # A row's name stands among others: a long text is cut there.
        return f"{use.brief}(self.{member.attribute})"
    if isinstance(member, Field) and member.kind.labels():
        value = f"self.{member.attribute}"
        label = f"self.{member.labels_name}[{value}]"
        return label if member.required else f"{use.show}({value} and {label})"
    if member is None:
        return "self.id"
    plain = (
        isinstance(member, Reference)
        and member.required
        or isinstance(member, Field)
        and member.required
        and member.kind.annotation in ("str", "int")
    )
    return f"self.{member.attribute}" if plain else f"{use.show}(self.{member.attribute})"
