"""Value lists and parts: blocks that stand beside the models."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..kinds import kinds
from ..language import syntax
from ..language.diagnostics import Report
from ..problems import did_you_mean, nearest
from .members import resolve_field
from .model import Field, Shape
from .rules import clause_rules, field_rules, named
from .scope import Scope

_NO_PART = {"slug", "image", "file", "list", "uuid"}


def resolve_values(
    files: Sequence[syntax.File], taken: Mapping[str, object], report: Report
) -> dict[str, tuple[syntax.Choice, ...]]:
    """The choices of every named list; those with none are reported."""
    found: dict[str, tuple[syntax.Choice, ...]] = {}
    places: dict[str, syntax.Word] = {}
    for values in (values for file in files for values in file.values):
        name = values.name
        if not _is_fresh(name, taken, places, "values", report):
            continue
        places[name.text] = name
        if not values.choices:
            report.add(
                "empty-values",
                f"{name.text} lists no values",
                name.span,
                'write one a line below it: low "Minor"',
            )
        found[name.text] = tuple(values.choices)
    return found


def _is_fresh(
    name: syntax.Word,
    taken: Mapping[str, object],
    places: Mapping[str, syntax.Word],
    what: str,
    report: Report,
) -> bool:
    if not name.text[0].isupper():
        camel = "".join(word.capitalize() for word in name.text.split("_"))
        message = f"{name.text!r} can't name {what}: names are capitalised"
        report.add("bad-name", message, name.span, f"call it {camel}", fix=camel or None)
        return False
    if name.text in places:
        report.add(
            "duplicate-model",
            f"{name.text} is declared twice",
            name.span,
            "give one of them another name",
            (("first declared here", places[name.text].span),),
        )
        return False
    if name.text in taken:
        report.add(
            "duplicate-model",
            f"there is a model called {name.text} too",
            name.span,
            "give one of them another name",
        )
        return False
    return True


def resolve_shapes(
    files: Sequence[syntax.File],
    taken: Mapping[str, object],
    values: dict[str, tuple[syntax.Choice, ...]],
    report: Report,
) -> dict[str, Shape]:
    """Every part with its fields and rules."""
    found: dict[str, Shape] = {}
    places: dict[str, syntax.Word] = {}
    for node in (part for file in files for part in file.parts):
        if _is_fresh(node.name, {**taken, **values}, places, "a part", report):
            places[node.name.text] = node.name
            found[node.name.text] = _shape(node, values, report)
    return found


def _shape(
    node: syntax.Model, values: dict[str, tuple[syntax.Choice, ...]], report: Report
) -> Shape:
    fields: list[Field] = []
    written = []
    unread: set[str] = set()
    seen: dict[str, syntax.Word] = {}
    for member in node.members:
        if member.name.text in seen:
            report.add(
                "duplicate-field",
                f"{node.name.text} has two fields called {member.name.text!r}",
                member.name.span,
                "give one of them another name",
                (("first declared here", seen[member.name.text].span),),
            )
            continue
        seen[member.name.text] = member.name
        given = _plain_field(member, node, report)
        chosen = given and with_choices(given, values, report)
        made = chosen and resolve_field(node.name.text, chosen, kinds(), {}, report, in_part=True)
        if chosen and made:
            fields.append(made[0])
            written.append((chosen, made[1]))
        else:
            unread.add(member.name.text)
    if not node.members:
        report.add(
            "empty-model",
            f"the part {node.name.text} has no fields",
            node.name.span,
            "declare one below it, indented: position integer 1..24",
        )
    scope = Scope(report)
    scope.add(node.name.text, list(fields), unread)
    rules = field_rules(node.name.text, written, scope, report)
    rules += clause_rules(node, fields, scope, report)
    help_ = node.help.text if node.help else ""
    return Shape(node.name.text, help_, tuple(fields), named(rules), node.name.span)


def _plain_field(member: syntax.Member, node: syntax.Model, report: Report) -> syntax.Field | None:
    """The member if a part may have it: a field with a value of its own."""
    if isinstance(member, syntax.Unread):
        return None
    if (
        isinstance(member, syntax.Field)
        and member.formula is None
        and member.type.word.text not in _NO_PART
    ):
        return member
    report.add(
        "bad-part",
        f"a part has fields with a plain value, and {member.name.text!r} is none",
        member.span,
        f"put it into a model, or make {node.name.text} a model of its own",
    )
    return None


def with_choices(
    node: syntax.Field, values: dict[str, tuple[syntax.Choice, ...]], report: Report
) -> syntax.Field | None:
    """A field whose type names a list of values, with those values in it."""
    named_list = node.type.named
    if node.type.word.text != "one" or named_list is None:
        return node
    if named_list.text not in values:
        report.add(
            "unknown-values",
            f"there are no values called {named_list.text!r}",
            named_list.span,
            did_you_mean(named_list.text, list(values))
            or f"declare them: values {named_list.text}",
            fix=nearest(named_list.text, list(values)),
        )
        return None
    choices = values[named_list.text]
    return node._replace(type=node.type._replace(choices=choices)) if choices else None


def unknown_part(word: syntax.Word, shapes: dict[str, Shape], report: Report) -> None:
    report.add(
        "unknown-part",
        f"there is no part {word.text!r}",
        word.span,
        did_you_mean(word.text, list(shapes)) or f"declare it: part {word.text}",
        fix=nearest(word.text, list(shapes)),
    )
