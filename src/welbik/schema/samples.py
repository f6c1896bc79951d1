"""`sample`: how made-up values look, checked against the field they are for."""

from __future__ import annotations

import datetime as dt

from ..kinds.base import Kind
from ..kinds.duration import parsed
from ..kinds.text import POOLS
from ..language import syntax
from ..language.diagnostics import Report
from ..problems import did_you_mean, nearest
from ..rules.patterns import Pattern
from .model import Term

_ARGUMENTS = {
    **{"normal": ("numbers", 2), "lognormal": ("numbers", 2), "uniform": ("none", 0)},
    **{"weights": ("numbers", None), "words": ("range", 1), "sentences": ("range", 1)},
    **{"from": ("values", None), "within": ("days", 1), "pattern": ("none", 0)},
    **dict.fromkeys(POOLS, ("none", 0)),
    **{"evenly": ("none", 0), "skewed": ("none", 0)},
}
_FOR_REFERENCES = ("evenly", "skewed")
KNOWN = tuple(_ARGUMENTS)
"""Every way to make up values by its word."""


def read_sample(
    terms: tuple[syntax.Term, ...], kind: Kind | None, pattern: Pattern | None, report: Report
) -> tuple[Term, ...]:
    """The terms that make sense for a field of a kind, or for a relation where it is None."""
    found: list[Term] = []
    for term in terms:
        made = _term(term, kind, pattern, report)
        if made is not None and any(made.word == other.word for other in found):
            report.add(
                "said-twice", f"{made.word!r} is said twice", term.span, "keep one of the two"
            )
        elif made is not None:
            found.append(made)
    return tuple(found)


def _term(
    term: syntax.Term, kind: Kind | None, pattern: Pattern | None, report: Report
) -> Term | None:
    word = term.word.text
    if word == "empty" and term.arguments:
        return _share(term, report)
    if word == "per" and len(term.arguments) == 2 and isinstance(term.arguments[0], syntax.Range):
        return _per(term, kind, report)
    if word not in _ARGUMENTS:
        known = list(_FOR_REFERENCES if kind is None else _ARGUMENTS)
        report.add(
            "unknown-sample",
            f"{word!r} is no way to make up values",
            term.word.span,
            did_you_mean(word, known),
            fix=nearest(word, known),
        )
        return None
    if not _serves(word, kind, pattern):
        what = "a relation" if kind is None else repr(kind.describe())
        report.add(
            "misplaced-sample",
            f"{word!r} makes no values for {what}",
            term.span,
            "see 'How rows are made up' in docs/language.md",
        )
        return None
    return _arguments(term, kind, report)


def _serves(word: str, kind: Kind | None, pattern: Pattern | None) -> bool:
    if kind is None:
        return word in _FOR_REFERENCES
    if word == "pattern":
        return pattern is not None
    # What a pattern says is how a text looks: no list of names keeps to it.
    beside_pattern = pattern is None or word in ("from", "uniform")
    return word in kind.samples and beside_pattern


def _share(term: syntax.Term, report: Report) -> Term | None:
    given = term.arguments[0]
    assert isinstance(given, syntax.Literal)
    share = float(given.text.replace("_", "")) / 100
    if not 0 <= share <= 1:
        report.add("bad-share", "a share lies between 0% and 100%", given.span, "write: 15% empty")
        return None
    return Term("empty", (share,))


def _per(term: syntax.Term, kind: Kind | None, report: Report) -> Term | None:
    range_, named = term.arguments
    assert isinstance(range_, syntax.Range) and isinstance(named, syntax.Literal)
    if kind is not None:
        report.add(
            "misplaced-sample",
            "'per' says how many rows a relation gets, and this is a field",
            term.span,
            "put it on the relation",
        )
        return None
    ends = [range_.low or range_.high, range_.high]
    if not all(isinstance(e, syntax.Literal) and e.text.isdigit() for e in ends):
        report.add(
            "wrong-arguments", "counts are whole numbers", range_.span, "write: 2..12 per apiary"
        )
        return None
    low, high = (int(e.text) for e in ends if isinstance(e, syntax.Literal))
    if low > high:
        report.add(
            "empty-range",
            f"the range {range_.span.text} is empty: its first end is the larger one",
            range_.span,
            f"write {high}..{low}",
            fix=f"{high}..{low}",
        )
        return None
    return Term("per", (low, high, named.text))


def _arguments(term: syntax.Term, kind: Kind | None, report: Report) -> Term | None:
    if term.word.text == "from" and kind is not None and term.arguments:
        return _listed(term, kind, report)
    wanted, count = _ARGUMENTS[term.word.text]
    values = [_value(argument) for argument in term.arguments]
    good = {
        "numbers": all(isinstance(v, float) for v in values),
        "range": all(isinstance(v, tuple | float) for v in values),
        "days": all(isinstance(v, dt.timedelta) for v in values),
        "values": bool(values) and not any(isinstance(v, tuple) for v in values),
        "none": True,
    }[wanted]
    if term.word.text == "weights" and kind is not None:
        count = len(kind.labels()) or 2
        good = good and sum(v for v in values if isinstance(v, float)) > 0
    if not good or (count is not None and len(values) != count):
        shown = {"none": "nothing", "values": "values"}.get(wanted, f"{count} {wanted}")
        report.add(
            "wrong-arguments",
            f"{term.word.text!r} takes {shown} between its brackets",
            term.span,
            _EXAMPLES.get(term.word.text, f"write: sample {term.word.text}"),
        )
        return None
    if term.word.text in ("normal", "lognormal") and not _spread(term.word.text, values):
        report.add(
            "wrong-arguments",
            "the spread of values is above 0 (above 1 where it is a factor)",
            term.span,
            _EXAMPLES[term.word.text],
        )
        return None
    return Term(term.word.text, tuple(values))


def _listed(term: syntax.Term, kind: Kind, report: Report) -> Term | None:
    """The values of `from`, each one that the field can hold."""
    given = [part for part in term.arguments if isinstance(part, syntax.Literal)]
    if len(given) < len(term.arguments):
        report.add("wrong-arguments", "'from' lists single values", term.span, _EXAMPLES["from"])
        return None
    values = [kind.default(literal, report) for literal in given]
    return None if None in values else Term("from", tuple(values))


def _spread(word: str, values: list[object]) -> bool:
    middle, spread = (v for v in values if isinstance(v, float))
    return spread > 0 if word == "normal" else spread > 1 and middle > 0


_MOST_WORDS, _MOST_DAYS = 20_000, 1_000_000
"""How long a made-up text may be, and how far back a day."""

_EXAMPLES = {
    "normal": "write: sample normal(10, 2), the mean and the standard deviation",
    "lognormal": "write: sample lognormal(12, 1.6), the median and the spread factor",
    "weights": "write one number for each choice: sample weights(70, 20, 10)",
    "words": f"write: sample words(3..8), {_MOST_WORDS:,} at most",
    "sentences": f"write: sample sentences(2..5), {_MOST_WORDS:,} at most",
    "from": 'write: sample from("a", "b")',
    "within": f"write: sample within(90 days), {_MOST_DAYS:,} days at most",
}


def _value(argument: syntax.Literal | syntax.Range) -> object:
    if isinstance(argument, syntax.Range):
        ends = [e.text for e in (argument.low, argument.high) if isinstance(e, syntax.Literal)]
        if len(ends) == 2 and all(e.isdigit() for e in ends):
            low, high = map(int, ends)
            return (low, high) if 0 < low <= high <= _MOST_WORDS else None
        return None
    if argument.kind == "days":
        days = int(argument.text) if argument.text.isdigit() else _MOST_DAYS + 1
        return dt.timedelta(days=days) if days <= _MOST_DAYS else None
    if argument.kind == "number":
        return float(argument.text)
    if argument.kind == "length":
        length = parsed(argument.text)
        return None if length is None else length.total_seconds()
    return argument.text
