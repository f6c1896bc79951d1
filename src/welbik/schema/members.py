"""Fields and relations with their modifiers."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from ..kinds.base import Kind
from ..kinds.bounds import exceeds
from ..kinds.decimal import Decimal
from ..kinds.native import is_type
from ..language import syntax
from ..language.diagnostics import Report
from ..language.source import Span
from ..language.words import COMPARISONS
from ..rules.ambiguity import refuse_slow
from ..rules.patterns import Pattern, PatternError, parse_pattern
from ..rules.strings import Strings
from . import names
from .model import Field, Reference, Shape
from .samples import read_sample

_CONDITIONS = {*COMPARISONS, "between", "in"}
_ON_STORED = {
    *("required", "unique", "indexed", "label", "hint", "say", "internal", "fixed"),
    *("stored", "was", "sample", "as", "empty", "set"),
}
_ON_FIELDS = {*_ON_STORED, *_CONDITIONS, "default", "matches", "places", "unit"}
_ON_PARTS = {
    *_CONDITIONS,
    *("required", "default", "matches", "label", "hint", "say", "places", "unit", "as", "sample"),
    "was",
}
_ON_REFERENCES = {*_ON_STORED, "on", "owned", "loops", "where"}
ON_COMPUTED = {"label", "hint", "unit", "places"}
ON_COLLECTIONS = {"label", "hint"}
ON_MANY = {"label", "hint", "required", "say", "sample", "stored", "was"}
_CHECKS = {"required", "unique", "matches", "where"}
_FOR_REFERENCES = {"select", "radio", "search"}


class Modifiers:
    """The modifiers of one member by word; repeated and misplaced ones are reported."""

    def __init__(
        self,
        given: tuple[syntax.Modifier, ...],
        allowed: set[str],
        what: str,
        report: Report,
        checks_first: bool = False,
    ) -> None:
        self.says: dict[str, str] = {}
        self.conditions: list[tuple[syntax.Modifier, syntax.Word | None]] = []
        self._found: dict[str, syntax.Modifier] = {}
        check = "range" if checks_first else ""
        for modifier in given:
            word = modifier.word.text
            if word not in allowed:
                report.add(
                    "misplaced-modifier",
                    f"{_shown(word)!r} does not apply to {what}",
                    modifier.span,
                    "take it out",
                    fix="",
                    fix_from=_comma_before(modifier.span),
                )
                check = word if word in _CHECKS | _CONDITIONS else ""
            elif word == "say":
                self._say(modifier, check, report)
            elif word in _CONDITIONS:
                self.conditions.append((modifier, None))
                check = word
            elif word in self._found:
                report.add(
                    "said-twice",
                    f"{_shown(word)!r} is said twice",
                    modifier.span,
                    "keep one of the two",
                    (("the first", self._found[word].span),),
                    fix="" if modifier.span.text == self._found[word].span.text else None,
                    fix_from=_comma_before(modifier.span),
                )
            else:
                self._found[word] = modifier
                check = word if word in _CHECKS else ""

    def _say(self, modifier: syntax.Modifier, check: str, report: Report) -> None:
        taken = (
            check in self.says
            or check in _CONDITIONS
            and self.conditions[-1:]
            and self.conditions[-1][1]
        )
        if not check or taken:
            message = "'say' words the failure of the check just before it, and there is none"
            report.add(
                "misplaced-modifier",
                message,
                modifier.span,
                'put it after its check: required, say "…"',
            )
        elif check in _CONDITIONS and self.conditions:
            self.conditions[-1] = (self.conditions[-1][0], modifier.text)
        elif modifier.text is not None:
            self.says[check] = modifier.text.text

    def has(self, word: str) -> bool:
        return word in self._found

    def get(self, word: str) -> syntax.Modifier | None:
        return self._found.get(word)

    def text(self, word: str) -> str:
        modifier = self._found.get(word)
        return modifier.text.text if modifier and modifier.text else ""


def _shown(word: str) -> str:
    known = {"on": "on removal", "stored": "stored as", "loops": "loops allowed"}
    return (known | {"empty": "empty stored as", "set": "set by database"}).get(word, word)


def _comma_before(span: Span) -> int:
    """Where the comma before a modifier stands: it goes when the modifier goes."""
    before = span.source.text.rfind(",", 0, span.start)
    between = span.source.text[before + 1 : span.start] if before >= 0 else "x"
    return before if not between.strip() else span.start


def column_name(modifiers: Modifiers, report: Report) -> str:
    """What `stored as` says, checked."""
    given = modifiers.get("stored")
    return checked_name(given.text, report, odd='"') if given and given.text else ""


def checked_name(word: syntax.Word, report: Report, odd: str = '".') -> str:
    """A table's or a column's name as databases take it; empty, and reported, where they don't."""
    if (
        not word.text
        or len(word.text) > 64
        or not word.text.isprintable()
        or set(word.text) & set(odd)
    ):
        report.add(
            "bad-name",
            f"{word.span.text} can't name a table or a column",
            word.span,
            "use 1 to 64 letters, digits and _",
        )
        return ""
    return word.text


def _common(
    node: syntax.Field | syntax.Reference, modifiers: Modifiers, report: Report
) -> dict[str, Any]:
    """What fields and references have alike."""
    if modifiers.has("internal") and modifiers.has("fixed"):
        given = modifiers.get("fixed")
        assert given is not None
        report.add(
            "contradiction",
            "what is internal is on no form, so it can't be fixed there",
            given.span,
            "keep one of the two",
        )
    return {
        "required": modifiers.has("required"),
        "unique": modifiers.has("unique"),
        "indexed": modifiers.has("indexed"),
        "internal": modifiers.has("internal") or modifiers.has("set"),
        "fixed": modifiers.has("fixed"),
        "stored_as": column_name(modifiers, report),
        **_as_stored(modifiers, report),
        "was": modifiers.text("was"),
        "was_value": _was_value(modifiers),
        "was_span": was_span(modifiers),
        "says": modifiers.says,
        "control": modifiers.text("as"),
        "label": modifiers.text("label") or names.label(node.name.text),
        "hint": modifiers.text("hint"),
    }


def _as_stored(modifiers: Modifiers, report: Report) -> dict[str, Any]:
    """How a column that others made holds its values."""
    stored, empty, by = (modifiers.get(word) for word in ("stored", "empty", "set"))
    native = stored.of.text if stored and stored.of and stored.pair is None else ""
    pair: tuple[str, ...] = ()
    if native and stored and stored.of and not is_type(native):
        report.add(
            "bad-name",
            f"{stored.of.span.text} can't be a type of a database",
            stored.of.span,
            'write it as the database does: of "varchar(40)"',
        )
        native = ""
    if stored and stored.pair and stored.pair[0] is not stored.of:
        pair = tuple(word.text for word in stored.pair)
        native = stored.of.text if stored.of else ""
    elif stored and stored.pair:
        report.add(
            "misplaced-modifier",
            "two columns belong to a table of pairs",
            stored.span,
            'write: stored as "column" of "smallint"',
        )
    if by is not None and modifiers.get("fixed") is not None:
        report.add(
            "contradiction",
            "what the database sets is on no form, so it can't be fixed there",
            by.span,
            "take 'fixed' out",
        )
    found: dict[str, Any] = {"native": native, "yes_no": pair, "by_database": by is not None}
    if empty is not None and isinstance(empty.value, syntax.Literal):
        found["empty"] = empty.value.text
    return found


def _was_value(modifiers: Modifiers) -> str:
    """The expression that rows there get their value from, as it is written."""
    given = modifiers.get("was")
    return given.expression.span.text if given and given.expression else ""


def was_span(modifiers: Modifiers) -> Span | None:
    """All that `was` says, with the comma before it."""
    given = modifiers.get("was")
    return given.span._replace(start=_comma_before(given.span)) if given else None


def resolve_field(
    model: str,
    node: syntax.Field,
    kinds: Mapping[str, type[Kind]],
    shapes: Mapping[str, Shape],
    report: Report,
    *,
    in_part: bool = False,
) -> tuple[Field, Modifiers] | None:
    """The field as declared with its modifiers, or nothing when its type is wrong."""
    kind = kinds[node.type.word.text].read(node.type, report)
    allowed, what = (_ON_PARTS, "a field of a part") if in_part else (_ON_FIELDS, "a field")
    modifiers = Modifiers(node.modifiers, allowed, what, report, node.type.range is not None)
    if kind is None:
        return None
    kind = _places(kind, modifiers, report)
    common = _common(node, modifiers, report)
    if common["yes_no"] and kind.labels() == {} and kind.annotation != "bool":
        stored = modifiers.get("stored")
        assert stored is not None
        report.add(
            "misplaced-modifier",
            f"'with' says what stands for yes and no, and this is {kind.describe()!r}",
            stored.span,
            "take it out",
        )
        common["yes_no"] = ()
    if kind.internal and not modifiers.has("internal"):
        common["internal"] = True
    _check_control(kind, modifiers, report)
    exchanged = kind.rows_get(common["was"] or node.name.text)
    if exchanged and in_part:
        report.add(
            "misplaced-modifier",
            "choices of a part can't be called anew",
            node.type.span,
            "add the new one, and change the entries",
        )
    elif exchanged and not common["was_value"]:
        common |= {"was": "", "was_value": exchanged, "was_span": None}
    if in_part and common["was_value"]:
        _refuse_expression(modifiers, report)
    given = modifiers.get("default")
    pattern = _pattern(kind, modifiers, report)
    default = kind.default(given.value, report) if given and given.value else None
    if default is not None and given is not None:
        _check_default(kind, default, pattern, given.span, report)
    for flag in ("unique", "indexed"):
        modifier = modifiers.get(flag)
        if modifier is not None and kind.as_json:
            report.add(
                "misplaced-modifier",
                f"{flag!r} does not apply to {kind.describe()!r}",
                modifier.span,
                "take it out",
                fix="",
                fix_from=_comma_before(modifier.span),
            )
    sample = modifiers.get("sample")
    if in_part and sample is not None and sample.expression is not None:
        report.add(
            "misplaced-sample",
            "'only when' reads a row, and this is a field of a part",
            sample.span,
            "take it out",
        )
    field = Field(
        model=model,
        name=node.name.text,
        kind=kind,
        span=node.span,
        default=default,
        pattern=pattern,
        unit=modifiers.text("unit"),
        shape=shapes.get(kind.part) if kind.part else None,
        sample=read_sample(sample.terms, kind, pattern, report) if sample else (),
        **{**common, "unique": common["unique"] or kind.always_unique},
    )
    return field, modifiers


def _refuse_expression(modifiers: Modifiers, report: Report) -> None:
    """Entries of a part are called anew, and not worked out."""
    given = modifiers.get("was")
    assert given is not None
    report.add(
        "misplaced-modifier",
        "in a part 'was' takes an old name, and no expression",
        given.span,
        "write: was old_name",
    )


def _check_control(kind: Kind, modifiers: Modifiers, report: Report) -> None:
    given = modifiers.get("as")
    if given is None or given.text is None:
        return
    serving = kind.controls
    if given.text.text not in serving:
        report.add(
            "misplaced-modifier",
            f"{kind.describe()!r} is not entered with {given.text.text!r}",
            given.span,
            f"known for it: {', '.join(sorted(serving))}" if serving else "take it out",
            fix="" if not serving else None,
            fix_from=_comma_before(given.span),
        )


def _places(kind: Kind, modifiers: Modifiers, report: Report) -> Kind:
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
        fix="",
        fix_from=_comma_before(given.span),
    )
    return kind


def _pattern(kind: Kind, modifiers: Modifiers, report: Report) -> Pattern | None:
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
            fix="",
            fix_from=_comma_before(given.span),
        )
        return None
    try:
        pattern = parse_pattern(given.text.text)
        longest = getattr(kind, "longest", None)
        strings = Strings(pattern, getattr(kind, "shortest", 1), longest)
        refuse_slow(pattern, longest)
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


def resolve_reference(
    model: str, node: syntax.Reference, report: Report
) -> tuple[Reference, Modifiers]:
    """The reference as declared; its `where` is typed later, when all models are known."""
    modifiers = Modifiers(node.modifiers, _ON_REFERENCES, "a relation", report)
    owned = modifiers.has("owned")
    removal = modifiers.text("on") or ("remove" if owned else "refuse")
    given = modifiers.get("on")
    if given is not None and removal == "clear" and (modifiers.has("required") or owned):
        report.add(
            "contradiction",
            "a required relation can't be cleared",
            given.span,
            "make it optional, or: on removal refuse",
        )
    elif given is not None and owned and removal != "remove":
        report.add(
            "contradiction",
            "what is owned is removed with its parent",
            given.span,
            "take 'owned' or this out",
        )
    loops = modifiers.get("loops")
    if loops is not None and node.target.text != model:
        report.add(
            "misplaced-modifier",
            "only a relation of a model to itself can go in a loop",
            loops.span,
            "take it out",
            fix="",
            fix_from=_comma_before(loops.span),
        )
    control = modifiers.get("as")
    if control is not None and control.text and control.text.text not in _FOR_REFERENCES:
        report.add(
            "misplaced-modifier",
            f"a relation is not entered with {control.text.text!r}",
            control.span,
            f"known for it: {', '.join(sorted(_FOR_REFERENCES))}",
        )
    common = _common(node, modifiers, report)
    sample = modifiers.get("sample")
    reference = Reference(
        model=model,
        name=node.name.text,
        target=node.target.text,
        span=node.span,
        removal=removal,
        owned=owned,
        loops=modifiers.has("loops"),
        sample=read_sample(sample.terms, None, None, report) if sample else (),
        **{**common, "required": common["required"] or owned},
    )
    return reference, modifiers
