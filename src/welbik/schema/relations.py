"""Collections and many-to-many relations: both need the other model."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..language import syntax
from ..language.diagnostics import Report
from ..problems import did_you_mean, nearest
from . import names
from .clauses import ModelNames, Paths, resolve_sort
from .members import ON_COLLECTIONS, ON_MANY, Modifiers, checked_name, was_span
from .model import Collection, Many
from .samples import read_sample

Nodes = Mapping[str, syntax.Model]


def unknown_model(word: syntax.Word, known: Mapping[str, object], report: Report) -> None:
    report.add(
        "unknown-model",
        f"there is no model {word.text!r}",
        word.span,
        did_you_mean(word.text, list(known)),
        fix=nearest(word.text, list(known)),
    )


def resolve_collection(
    model: str,
    node: syntax.Collection,
    known: Mapping[str, ModelNames],
    paths: Paths,
    report: Report,
) -> Collection | None:
    modifiers = Modifiers(node.modifiers, ON_COLLECTIONS, "a collection", report)
    via, child = node.via.text, known[node.model.text]
    target = child.references.get(via)
    if target is not None and target not in known:
        return None  # The reference itself is reported already.
    if target != model:
        if via in child.unread:
            return None
        _wrong_via(model, node, child, target, report)
        return None
    return Collection(
        model=model,
        name=node.name.text,
        span=node.span,
        label=modifiers.text("label") or names.label(node.name.text),
        hint=modifiers.text("hint"),
        child=node.model.text,
        via=via,
        sort=resolve_sort(node.sort, node.model.text, paths),
    )


def once_each(found: Sequence[Collection], report: Report) -> None:
    """A relation has one other side: a second one is reported."""
    taken: dict[tuple[str, str], Collection] = {}
    for collection in found:
        first = taken.setdefault((collection.child, collection.via), collection)
        if first is not collection:
            report.add(
                "duplicate-collection",
                f"{collection.child}.{collection.via} has its other side already",
                collection.span,
                "keep one of the two",
                (("the other one", first.span),),
            )


def _wrong_via(
    model: str, node: syntax.Collection, child: ModelNames, target: str | None, report: Report
) -> None:
    via, name = node.via.text, node.model.text
    fix = None
    if target is None:
        message = f"{name} has no reference {via!r}"
        fitting = [ref for ref, to in child.references.items() if to == model]
        fix = nearest(via, fitting) or (fitting[0] if len(fitting) == 1 else None)
        remedy = did_you_mean(via, fitting) if fitting else f"declare it there: {via} -> {model}"
    else:
        message = f"{name}.{via} refers to {target}, not to {model}"
        remedy = "name a reference to this model"
    report.add("unknown-reference", message, node.via.span, remedy, fix=fix)


def resolve_many(
    model: str, node: syntax.Many, nodes: Nodes, paths: Paths, report: Report
) -> Many | None:
    """A side of a many-to-many relation; the one without `via` declares it and owns the table."""
    what, said = "a many-to-many relation", ON_MANY
    if node.via is not None:
        # Its pairs are called by the side that declares them.
        what, said = "the other side of a many-to-many relation", ON_MANY - {"was"}
    modifiers = Modifiers(node.modifiers, said, what, report)
    target = node.target.text
    other = ""
    if node.via is not None:
        other = node.via.text
        declaring = _side(nodes[target], other)
        if declaring is None or declaring.target.text != model or declaring.via is not None:
            report.add(
                "unknown-reference",
                f"{target} declares no relation {other!r} with many {model}",
                node.via.span,
                f"declare it there: {other} <-> {model}",
            )
            return None
        owner, name, far = target, other, model
    else:
        for member in nodes[target].members:
            if (
                isinstance(member, syntax.Many)
                and member.via is not None
                and member.target.text == model
                and member.via.text == node.name.text
            ):
                other = member.name.text
        owner, name, far = model, node.name.text, target
    first, second = (_table(nodes[side]) for side in (owner, far))
    columns = f"{first}_id", f"{second}_id" if first != second else f"{names.snake(name)}_id"
    mine, theirs = columns if node.via is None else columns[::-1]
    table = f"{first}_{name}"
    told = _said_of_pairs(nodes[owner], name)
    if told is not None and told.text is not None:
        table = checked_name(told.text, report)
        if told.pair:
            columns = told.pair[0].text, told.pair[1].text
            mine, theirs = columns if node.via is None else columns[::-1]
    sample = modifiers.get("sample")
    return Many(
        model=model,
        name=node.name.text,
        span=node.span,
        label=modifiers.text("label") or names.label(node.name.text),
        hint=modifiers.text("hint"),
        target=target,
        declares=node.via is None,
        other=other,
        required=modifiers.has("required"),
        sort=resolve_sort(node.sort, target, paths),
        sample=read_sample(sample.terms, None, None, report) if sample else (),
        was=_was(modifiers, report),
        was_span=was_span(modifiers),
        says=modifiers.says,
        table=table,
        as_it_is=told is not None,
        column=mine,
        target_column=theirs,
    )


def _was(modifiers: Modifiers, report: Report) -> str:
    """What a relation was called."""
    given = modifiers.get("was")
    if given is not None and given.expression is not None:
        report.add(
            "misplaced-modifier",
            "pairs can be called anew, and are not worked out",
            given.span,
            "write the old name of the relation behind 'was'",
        )
    return modifiers.text("was")


def _said_of_pairs(node: syntax.Model, name: str) -> syntax.Modifier | None:
    """What the side that declares a relation says of the table of its pairs."""
    side = _side(node, name)
    return next((m for m in side.modifiers if m.word.text == "stored"), None) if side else None


def _table(node: syntax.Model) -> str:
    return node.stored_as.text if node.stored_as else names.snake(node.name.text)


def _side(node: syntax.Model, name: str) -> syntax.Many | None:
    return next(
        (m for m in node.members if isinstance(m, syntax.Many) and m.name.text == name), None
    )
