"""What holds between models: no name made twice, no circle that can't be filled or shown."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence

from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..rules.tree import extent
from .contradictions import check_contradictions
from .model import AnyMember, Field, Many, Model, Reference, Schema
from .relations import once_each

_MOST_SHOWN, _MOST_PARTS, _MOST_RULES = 30, 5_000, 200
_TAKEN_URLS = {"look", "files"}


def check_schema(schema: Schema, files: Sequence[syntax.File], report: Report) -> None:
    _clashes(schema, report)
    _circles(schema, report)
    _long_names(schema, report)
    _long_models(schema, report)
    for model in schema:
        _slugs(model, report)
        once_each(model.collections, report)
        _led_to(schema, model, report)
    check_contradictions(schema, files, report)


def _long_names(schema: Schema, report: Report) -> None:
    """How a row is shown, with the rows it is shown by, has at most so many parts."""
    counts: dict[str, int] = {}

    def count(model: Model) -> int:
        if model.name not in counts:
            counts[model.name] = 1
            members = [model.by_name.get(piece.text) for piece in model.shown_as if piece.is_field]
            targets = [
                schema.models.get(one.target) if isinstance(one, Reference) else None
                for one in members
            ]
            counts[model.name] = sum(count(one) if one is not None else 1 for one in targets)
        return counts[model.name]

    for model in schema:
        before = len(counts)
        if count(model) > _MOST_SHOWN and len(counts) > before:
            report.add(
                "too-long-name",
                f"a row of {model.name} is shown by {counts[model.name]:,} values of other rows",
                model.span,
                f'say it with at most {_MOST_SHOWN}: shown as "…"',
            )


def _long_models(schema: Schema, report: Report) -> None:
    """All the expressions of a model or part together have at most so many parts."""
    for model in (*schema, *schema.parts.values()):
        nodes = [rule.node for rule in model.rules]
        nodes += [one.formula for one in getattr(model, "computed", ())]
        total = sum(extent(node)[0] for node in nodes)
        if len(model.rules) > _MOST_RULES:
            report.add(
                "too-many-rules",
                f"{model.name} has {len(model.rules):,} rules",
                model.span,
                f"at most {_MOST_RULES}: take some of them out",
            )
        if total > _MOST_PARTS:
            report.add(
                "too-long-expression",
                f"the rules and computed fields of {model.name} have {total:,} parts together",
                model.span,
                f"at most {_MOST_PARTS:,}: take some of them out",
            )


def _slugs(model: Model, report: Report) -> None:
    for field in model.fields:
        source = model.by_name.get(field.kind.made_from)
        text = isinstance(source, Field) and source.kind.plain_text
        if field.kind.made_from and not text:
            report.add(
                "bad-slug",
                f"{field.kind.made_from!r} is no text of {model.name} to make a slug from",
                field.span,
                "name a text field of the same model",
            )


def _led_to(schema: Schema, model: Model, report: Report) -> None:
    """One column leads to a row, so one must tell it from others."""
    members: list[Reference | Many] = [*model.references, *model.many]
    for member in members:
        target = schema.models.get(member.target)
        if target is None or len(target.keys) < 2 and not target.keyless:
            continue
        told = f"by {' and '.join(target.keys)} together" if not target.keyless else "by nothing"
        names = ", ".join(target.keys)
        report.add(
            "no-single-key",
            f"{target.name} is told apart {told}, and one column can't lead to it",
            member.span,
            f"take 'key {names}' from {target.name}, and write there: unique {names}"
            if not target.keyless
            else f"give {target.name} a key",
            ((f"{target.name} is declared here", target.span),),
        )


def _clashes(schema: Schema, report: Report) -> None:
    """Two models must not share a table, an address or the name of a class."""
    urls: dict[str, Model] = {}
    tables: dict[str, Model] = {}
    for model in schema:
        for made, what, taken in ((model.url, "address", urls), (model.table, "table", tables)):
            if made in taken:
                other = taken[made]
                message = f"{other.name} and {model.name} would have the same {what}, {made!r}"
                remedy = (
                    'tell them apart with: called "one" | "several"'
                    if what == "address"
                    else "rename one of them"
                )
                report.add(
                    "same-name", message, model.span, remedy, (("the other one", other.span),)
                )
            taken[made] = model
        # Its indexes, and the tables of its pairs, begin with its name and a line.
        if f"{model.table}_".lower().startswith(("welbik_", "sqlite_")):
            report.add(
                "reserved-name",
                f"the table {model.table!r} would have a name that is kept for bookkeeping",
                model.span,
                'choose another: stored as "…"',
            )
        for made in _besides(model):
            if made in tables:
                same = tables[made]
                report.add(
                    "same-name",
                    f"{model.name} would have a table {made!r} besides, and {same.name} has one",
                    model.span,
                    'rename one of them, or say: stored as "…"',
                    (("the other one", same.span),),
                )
            tables[made] = model
        if model.url in _TAKEN_URLS:
            report.add(
                "reserved-name",
                f"the address /{model.url} is the site's own",
                model.span,
                'choose another: called "one" | "several"',
            )
        _attributes(model, report)


def _besides(model: Model) -> list[str]:
    """The tables of pairs and of the history of a model."""
    found = [many.table for many in model.many if many.declares]
    return [*found, f"{model.table}_history"] if "history" in model.keeps else found


def _attributes(model: Model, report: Report) -> None:
    """Every attribute of the table class stands for one member; relations have a column too."""
    kept = {"times": ("created_at", "updated_at"), "bin": ("removed_at",), "history": ()}
    words = [word for keep in sorted(model.keeps) for word in kept[keep]]
    attributes = {word: (word, model.span) for word in words}
    columns = dict(attributes)
    for member in model.everything:
        made = {member.attribute}
        if isinstance(member, Reference):
            made.add(member.key_attribute)
        clear = [_once(attributes, name, member, "code", report) for name in sorted(made)]
        if isinstance(member, Field | Reference) and all(clear):
            # Databases see no difference between large and small letters.
            _once(columns, member.column.lower(), member, "table", report)


def _once(
    taken: dict[str, tuple[str, Span]], name: str, member: AnyMember, where: str, report: Report
) -> bool:
    """Whether no other member has a name already in the code or the table; reported if one has."""
    clear = name not in taken
    if not clear:
        other, span = taken[name]
        report.add(
            "duplicate-column",
            f"{other!r} and {member.name!r} would both be called {name!r} in the {where}",
            member.span,
            "give one of them another name",
            (("the other one", span),),
        )
    taken[name] = (member.name, member.span)
    return clear


def _circles(schema: Schema, report: Report) -> None:
    def required(model: Model) -> Iterable[tuple[str, Span]]:
        return ((r.target, r.span) for r in model.references if r.required)

    def shown(model: Model) -> Iterable[tuple[str, Span]]:
        names = {part.text for part in model.shown_as if part.is_field}
        return ((r.target, r.span) for r in model.references if r.name in names)

    for span, path in _find_circles(schema, required):
        message = f"{path} must each exist before the other: no first row can be made"
        report.add("contradiction", message, span, "make one of these relations optional")
    for span, path in _find_circles(schema, shown):
        message = f"{path}: the way these rows are shown goes round in a circle"
        report.add("circle", message, span, "leave the relation out of one 'shown as'")


def _find_circles(
    schema: Schema, steps: Callable[[Model], Iterable[tuple[str, Span]]]
) -> list[tuple[Span, str]]:
    """One place and the way round for each circle."""
    found: list[tuple[Span, str]] = []
    done: set[str] = set()

    def visit(model: Model, way: list[str]) -> None:
        for target, span in steps(model):
            if target in way:
                circle = way[way.index(target) :]
                found.append(
                    (span, " and ".join(circle) if len(circle) > 1 else f"{target} and itself")
                )
            elif target not in done and target in schema.models:
                visit(schema.models[target], [*way, target])
        done.add(model.name)

    for model in schema:
        if model.name not in done:
            visit(model, [model.name])
    return found
