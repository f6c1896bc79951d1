"""Fields and relations with their modifiers."""

from __future__ import annotations

from collections.abc import Mapping

from ..kinds.base import Kind
from ..kinds.bounds import exceeds
from ..kinds.decimal import Decimal
from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..problems import did_you_mean
from ..rules.patterns import Pattern, PatternError, parse_pattern
from ..rules.strings import Strings
from . import names
from .clauses import ModelNames
from .model import Collection, Field, Reference, Sort

_ON_FIELDS = {"required", "unique", "default", "matches", "label", "hint", "say", "places"}
_ON_REFERENCES = {"required", "unique", "on", "label", "hint", "say"}
_ON_COLLECTIONS = {"label"}
_CHECKS = {"required", "unique", "matches"}


class _Modifiers:
    """The modifiers of one member by word; repeated and misplaced ones are reported."""

    def __init__(
        self,
        given: tuple[syntax.Modifier, ...],
        allowed: set[str],
        what: str,
        checks_first: bool,
        report: Report,
    ) -> None:
        self.says: dict[str, str] = {}
        self._found: dict[str, syntax.Modifier] = {}
        check = "range" if checks_first else ""
        for modifier in given:
            word = modifier.word.text
            if word not in allowed:
                shown = "on removal" if word == "on" else word
                report.add(
                    "misplaced-modifier",
                    f"{shown!r} does not apply to {what}",
                    modifier.span,
                    "take it out",
                )
            elif word == "say":
                self._say(modifier, check, report)
            elif word in self._found:
                report.add(
                    "said-twice", f"{word!r} is said twice", modifier.span, "keep one of the two"
                )
            else:
                self._found[word] = modifier
                check = word if word in _CHECKS else ""

    def _say(self, modifier: syntax.Modifier, check: str, report: Report) -> None:
        if not check or check in self.says:
            message = "'say' words the failure of the check just before it, and there is none"
            report.add(
                "misplaced-modifier",
                message,
                modifier.span,
                'put it after its check: required, say "…"',
            )
        elif modifier.text is not None:
            self.says[check] = modifier.text.text

    def has(self, word: str) -> bool:
        return word in self._found

    def get(self, word: str) -> syntax.Modifier | None:
        return self._found.get(word)

    def text(self, word: str) -> str:
        modifier = self._found.get(word)
        return modifier.text.text if modifier and modifier.text else ""


def resolve_field(
    model: str, node: syntax.Field, kinds: Mapping[str, type[Kind]], report: Report
) -> Field | None:
    """The field as declared, or nothing when its type is wrong."""
    kind = kinds[node.type.word.text].read(node.type, report)
    modifiers = _Modifiers(
        node.modifiers, _ON_FIELDS, "a field", node.type.range is not None, report
    )
    if kind is None:
        return None
    kind = _places(kind, modifiers, report)
    given = modifiers.get("default")
    pattern = _pattern(kind, modifiers, report)
    default = kind.default(given.value, report) if given and given.value else None
    if default is not None and given is not None:
        _check_default(kind, default, pattern, given.span, report)
    return Field(
        model=model,
        name=node.name.text,
        kind=kind,
        span=node.span,
        required=modifiers.has("required"),
        unique=modifiers.has("unique"),
        default=default,
        pattern=pattern,
        label=modifiers.text("label") or names.label(node.name.text),
        hint=modifiers.text("hint"),
        says=modifiers.says,
    )


def _places(kind: Kind, modifiers: _Modifiers, report: Report) -> Kind:
    given = modifiers.get("places")
    if given is None or not isinstance(given.value, syntax.Literal):
        return kind
    if isinstance(kind, Decimal):
        return kind.with_places(given.value, report)
    report.add(
        "misplaced-modifier",
        f"'places' applies to a decimal, not to {kind.word!r}",
        given.span,
        "take it out",
    )
    return kind


def _pattern(kind: Kind, modifiers: _Modifiers, report: Report) -> Pattern | None:
    given = modifiers.get("matches")
    if given is None or given.text is None:
        return None
    span = given.text.span
    if not kind.textual:
        report.add(
            "misplaced-modifier",
            f"'matches' applies to a text, not to {kind.word!r}",
            given.span,
            "take it out",
        )
        return None
    try:
        pattern = parse_pattern(given.text.text)
        strings = Strings(pattern, getattr(kind, "shortest", 1), getattr(kind, "longest", None))
    except PatternError as error:
        at = Span(
            span.source,
            min(span.start + 1 + error.at, span.end - 1),
            min(span.start + 2 + error.at, span.end),
        )
        report.add("bad-pattern", error.message, at, error.remedy)
        return None
    if not strings.size:
        report.add(
            "contradiction",
            f"no text that {kind.describe()!r} allows matches this",
            span,
            "change the length or the pattern",
        )
        return None
    return pattern


def _check_default(
    kind: Kind, default: object, pattern: Pattern | None, span: Span, report: Report
) -> None:
    bounds = getattr(kind, "bounds", None)
    low, high = getattr(bounds, "low", None), getattr(bounds, "high", None)
    if (low is not None and exceeds(low, default)) or (high is not None and exceeds(default, high)):
        report.add(
            "contradiction",
            f"this default is outside {bounds}",
            span,
            "change the default or the range",
        )
    elif pattern is not None and not Strings(
        pattern, 1, None if len(str(default)) > 4000 else len(str(default))
    ).matches(str(default)):
        report.add(
            "contradiction",
            f"this default does not match {pattern.text}",
            span,
            "change the default or the pattern",
        )


def resolve_reference(model: str, node: syntax.Reference, report: Report) -> Reference:
    modifiers = _Modifiers(node.modifiers, _ON_REFERENCES, "a relation", False, report)
    removal = modifiers.text("on") or "refuse"
    given = modifiers.get("on")
    if given is not None and removal == "clear" and modifiers.has("required"):
        report.add(
            "contradiction",
            "a required relation can't be cleared",
            given.span,
            "make it optional, or: on removal refuse",
        )
    return Reference(
        model=model,
        name=node.name.text,
        target=node.target.text,
        span=node.span,
        required=modifiers.has("required"),
        unique=modifiers.has("unique"),
        removal=removal,
        label=modifiers.text("label") or names.label(node.name.text),
        hint=modifiers.text("hint"),
        says=modifiers.says,
    )


def resolve_collection(
    model: str, node: syntax.Collection, known: Mapping[str, ModelNames], report: Report
) -> Collection | None:
    modifiers = _Modifiers(node.modifiers, _ON_COLLECTIONS, "a collection", False, report)
    via, child = node.via.text, known[node.model.text]
    target = child.references.get(via)
    if target is not None and target not in known:
        return None  # The reference itself is reported already.
    if target != model:
        if target is None:
            message = f"{node.model.text} has no reference {via!r}"
            fitting = [name for name, to in child.references.items() if to == model]
            remedy = (
                did_you_mean(via, fitting) if fitting else f"declare it there: {via} -> {model}"
            )
        else:
            message = f"{node.model.text}.{via} refers to {target}, not to {model}"
            remedy = "name a reference to this model"
        report.add("unknown-reference", message, node.via.span, remedy)
        return None
    sort = []
    for key in node.sort:
        if child.knows(key.path, node.model.text, report):
            sort.append(Sort(key.path.text, key.descending))
    label = modifiers.text("label") or names.label(node.name.text)
    return Collection(node.name.text, node.model.text, via, label, tuple(sort), node.span)
