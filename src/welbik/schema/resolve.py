"""Syntax trees to the resolved schema; what does not fit together is reported."""

from __future__ import annotations

from collections.abc import Sequence

from ..kinds import kinds
from ..language import syntax
from ..language.diagnostics import Report
from ..problems import did_you_mean
from . import names
from .clauses import ModelNames, resolve_columns, resolve_shown_as, resolve_sort
from .consistency import check_schema
from .members import resolve_collection, resolve_field, resolve_reference
from .model import Collection, Field, Model, Reference, Schema

_TAKEN_MODELS = (
    *(
        "Any",
        "Base",
        "ClassVar",
        "Mapped",
        "Decimal",
        "Blueprint",
        "ResponseReturnValue",
        "Supply",
        "Visitor",
        "WelbikMigration",
    ),
    *("None", "True", "False"),
)
_LONGEST = 40


def resolve(files: Sequence[syntax.File], report: Report) -> Schema:
    """The schema of all files together. What is wrong is reported and left out."""
    nodes: dict[str, syntax.Model] = {}
    for file in files:
        for node in file.models:
            if _model_name(node, nodes, report):
                nodes[node.name.text] = node
    later = {word.text for file in files for word in file.later}
    known = {name: ModelNames.of(node) for name, node in nodes.items()}
    models = {name: _model(node, known, later, report) for name, node in nodes.items()}
    schema = Schema(models, _seed(files, models, report))
    check_schema(schema, files, report)
    return schema


def _model_name(node: syntax.Model, nodes: dict[str, syntax.Model], report: Report) -> bool:
    name = node.name
    if not name.text[0].isupper() or "_" in name.text or not name.text.isascii():
        camel = "".join(word.capitalize() for word in name.text.split("_"))
        message = f"{name.text!r} can't name a model: names are capitalised, without _"
        report.add("bad-name", message, name.span, f"call it {camel}")
        return False
    if name.text in _TAKEN_MODELS:
        message = f"{name.text!r} is a name that the generated code needs itself"
        report.add("reserved-name", message, name.span, f"call it {name.text}Entry, for example")
        return False
    if len(name.text) > _LONGEST:
        report.add(
            "long-name",
            f"this name has {len(name.text)} letters",
            name.span,
            f"use at most {_LONGEST}: databases cut longer ones",
        )
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


def _model(
    node: syntax.Model, known: dict[str, ModelNames], later: set[str], report: Report
) -> Model:
    name = node.name.text
    members = _members(node, known, later, report)
    collections = _collections(node, known, report)
    singular, plural = _called(node, report)
    own = known[name]
    if not node.members:
        report.add(
            "empty-model",
            f"the model {name} has no fields",
            node.name.span,
            "declare one below it, indented: name text 80, required",
        )
    return Model(
        name=name,
        help=node.help.text if node.help else "",
        singular=singular,
        plural=plural,
        members=tuple(members),
        collections=tuple(collections),
        shown_as=resolve_shown_as(node, members, own, singular, report),
        columns=resolve_columns(node, members, own, report),
        sort=resolve_sort(node.sort, own, report),
        span=node.name.span,
    )


def _members(
    node: syntax.Model, known: dict[str, ModelNames], later: set[str], report: Report
) -> list[Field | Reference]:
    model = node.name.text
    seen: dict[str, syntax.Word] = {}
    found: list[Field | Reference] = []
    for member in node.members:
        name = member.name
        if name.text in seen:
            message = f"{model} has two members called {name.text!r}"
            report.add(
                "duplicate-field",
                message,
                name.span,
                "give one of them another name",
                (("first declared here", seen[name.text].span),),
            )
            continue
        seen[name.text] = name
        if len(name.text) > _LONGEST:
            report.add(
                "long-name",
                f"this name has {len(name.text)} letters",
                name.span,
                f"use at most {_LONGEST}: databases cut longer ones",
            )
        if name.text == "id":
            report.add(
                "reserved-name",
                "every model has an id of its own",
                name.span,
                "take this line out, or call the field number",
            )
        elif isinstance(member, syntax.Field):
            field = resolve_field(model, member, kinds(), report)
            if field is not None:
                found.append(field)
        elif isinstance(member, syntax.Reference):
            if member.target.text in known:
                found.append(resolve_reference(model, member, report))
            elif member.target.text not in later:
                _unknown_model(member.target, known, report)
    return found


def _unknown_model(word: syntax.Word, known: dict[str, ModelNames], report: Report) -> None:
    report.add(
        "unknown-model",
        f"there is no model {word.text!r}",
        word.span,
        did_you_mean(word.text, list(known)),
    )


def _collections(
    node: syntax.Model, known: dict[str, ModelNames], report: Report
) -> list[Collection]:
    found: list[Collection] = []
    taken: dict[tuple[str, str], syntax.Collection] = {}
    for member in node.members:
        if not isinstance(member, syntax.Collection):
            continue
        if member.model.text not in known:
            _unknown_model(member.model, known, report)
            continue
        collection = resolve_collection(node.name.text, member, known, report)
        if collection is None:
            continue
        key = (collection.child, collection.via)
        if key in taken:
            message = f"{collection.child}.{collection.via} has its other side already"
            report.add(
                "duplicate-collection",
                message,
                member.span,
                "keep one of the two",
                (("the other one", taken[key].span),),
            )
            continue
        taken[key] = member
        found.append(collection)
    return found


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


def _seed(files: Sequence[syntax.File], models: dict[str, Model], report: Report) -> dict[str, int]:
    found: dict[str, int] = {}
    blocks = [seed for file in files for seed in file.seeds]
    for extra in blocks[1:]:
        report.add(
            "said-twice",
            "there are two 'seed' blocks",
            extra.span,
            "keep one",
            (("the first", blocks[0].span),),
        )
    for count in blocks[0].counts if blocks else ():
        name = count.model.text
        if name not in models:
            report.add(
                "unknown-model",
                f"there is no model {name!r}",
                count.model.span,
                did_you_mean(name, list(models)),
            )
        elif name in found:
            report.add(
                "said-twice", f"{name} is counted twice", count.model.span, "keep one of the two"
            )
        else:
            found[name] = count.number
    return found
