"""A column that is there as a field of the language."""

from __future__ import annotations

import re
from dataclasses import dataclass, field
from decimal import Decimal, InvalidOperation

from ..kinds.native import family
from ..storage.catalog import FoundColumn, FoundTable
from ..storage.ddl import Ddl
from . import names
from .conditions import UnreadError, literal
from .drafts import Line, Note, quoted, whole
from .facts import Fact

_LARGEST = 2**31 - 1
_MOST_DIGITS, _FLOATING = 18, 15
"""Digits of a decimal, and those that a floating point number holds."""
_ONE_LINE = 255
_ADDRESS = 2000
"""Letters of a web address, which no other type of ours has just so many of in one line."""
_UNSEEN = ("geometry", "point", "linestring", "polygon", "multipoint", "geography", "tsvector")
_ASKS = re.compile(
    r"^(is|has|can|may|was|are|allow|allows|enable|enabled|use|uses|show|hide)_|"
    r"(^|_)(active|enabled|disabled|deleted|visible|hidden|locked|verified|confirmed|published|"
    r"archived|paid|public|private|approved|discontinued|default|flag)$"
)
_MOMENT = re.compile(
    r"(^|_)(time|timestamp|tstamp|ts|stamp|epoch|unixtime|crdate|dateline|date|created|updated|"
    r"modified|changed|added|posted|opened|closed|started|ended|joined|registered|sent|seen|since|"
    r"until|login|activity|expires|expiry|endtime|starttime)(_|$)|(^|_)(at|on|when)$"
)
_SINCE, _UNTIL = 10**8, 2**32
_CODES = re.compile(r"(?:^|[\s,;(|/])(-?\w{1,12})\s*(?:=|:|->|=>)\s*([^,;|/()=:]{1,40})")
_NOW = re.compile(
    r"\(*(current_timestamp|now|localtimestamp|getdate|sysdate|datetime\('now'(, *'localtime')?\)|"
    r"strftime\('[^']*', *'now'\)|timezone\('utc'(::text)?, *now\(\)\))(\(\d*\))?\)*(::.*)?",
    re.IGNORECASE,
)
_SECONDS = re.compile(
    r"\(*(cast\()?(strftime\('%s', *'now'\)|unixepoch\(('now')?\)|unix_timestamp\(\)|"
    r"(extract\(epoch from|date_part\('epoch'(::text)?,) *\(*(now\(\)|current_timestamp)\)*)"
    r"( as (integer|int|bigint|signed)( integer)?\))?\)*(::.*)?",
    re.IGNORECASE,
)
_TODAY = re.compile(
    r"\(*(current_date|curdate\(\)|date\('now'\)|\(?now\(\)\)?::date)\)*(::.*)?", re.IGNORECASE
)


@dataclass
class Context:
    """What is known beside a column when it is declared."""

    ddl: Ddl
    table: FoundTable
    facts: dict[str, Fact]
    notes: list[Note]
    checks: dict[str, Bounds]
    natural: bool = False
    """Whether the columns are those that Welbik itself would have made."""

    def note(self, column: str, what: str, then: str) -> None:
        self.notes.append(Note(self.table.name, column, what, then))


@dataclass
class Bounds:
    """What conditions say of a column alone: its ends, its only values, its length."""

    low: str = ""
    high: str = ""
    among: tuple[str, ...] = ()
    shortest: int = 0
    longest: int | None = None


@dataclass
class _Read:
    """A column as it is read: the type's words, and what stands behind them."""

    type: str
    neutral: str
    modifiers: list[str] = field(default_factory=list)
    pair: tuple[str, str] | None = None
    choices: dict[str, str] = field(default_factory=dict)
    by_database: bool = False


def field_line(context: Context, column: FoundColumn, taken: set[str]) -> Line | None:
    """The line of a column; None where it is left where it is, and noted."""
    read = _read(context, column)
    if read is None:
        return None
    name = names.field_name(column.name, taken)
    taken.add(name)
    line = Line(name, read.type, column=column.name)
    by_database = column.made or column.renewed or read.by_database
    empty = None if by_database else _empty(context, column, read)
    if column.required and empty is None and not by_database:
        line.modifiers.append("required")
    if context.table.key != (column.name,) and context.table.is_unique((column.name,)):
        line.modifiers.append("unique")
    elif _is_indexed(context.table, column.name):
        line.modifiers.append("indexed")
    if not by_database and empty is None:
        line.modifiers += _default(context, column, read)
    line.modifiers += read.modifiers
    line.modifiers += _words(column, name, read)
    line.modifiers += _stored(context, column, name, read)
    if empty is not None:
        line.modifiers.append(f"empty stored as {empty}")
    if by_database:
        line.modifiers.append("set by database")
    return line


def _is_indexed(table: FoundTable, name: str) -> bool:
    return any(i.columns == (name,) and not i.unique and not i.special for i in table.indexes)


def _words(column: FoundColumn, name: str, read: _Read) -> list[str]:
    """What people read: a label where the name lost letters, and the comment as a hint."""
    found = []
    if not column.name.isascii() or re.search(r"[^\w]", column.name):
        label = whole(column.name.replace("_", " "), 60)
        found.append(f"label {quoted(label)}") if label else None
    comment = whole(column.comment)
    if comment and not (read.choices and _CODES.search(comment)):
        found.append(f"hint {quoted(comment)}")
    return found


def _stored(context: Context, column: FoundColumn, name: str, read: _Read) -> list[str]:
    same = context.ddl.is_same(read.neutral, column.native)
    if same and not context.natural and read.neutral.split()[0] in context.ddl.own_forms:
        same = False
    native = "" if same else column.native
    if not native and not read.pair and column.name == name:
        return []
    said = f"stored as {quoted(column.name)}"
    said += f" of {quoted(native)}" if native else ""
    said += f" with {quoted(read.pair[0])} | {quoted(read.pair[1])}" if read.pair else ""
    return [said]


def _read(context: Context, column: FoundColumn) -> _Read | None:
    kind = family(column.native)
    bounds = context.checks.get(column.name, Bounds())
    fact = context.facts.get(column.name, Fact())
    values = column.choices or bounds.among
    letters = kind in ("text", "padded", "")
    pair = next((pair for pair in _SURE if {*pair} == {*values}), None)
    # A type of its own with choices takes no other texts than those that are cast to it.
    words = letters and not column.choices or _is_enum(column)
    if pair and words and not _codes(column.comment):
        return _Read("boolean", "boolean", pair=pair)
    if values and (letters or (kind == "whole" and _codes(column.comment))):
        return _choices(column, values)
    if column.choices or (kind and not column.plain and kind == ""):
        return _choices(column, column.choices)
    readers = {
        **{"whole": _whole, "exact": _exact, "text": _text, "padded": _text},
        **{"truth": _truth, "bits": _bits},
    }
    if not context.ddl.exact and not _holds(kind, fact):
        # One database lets anything into any column: what is there is shown as it is.
        context.note(column.name, f"not all that it holds is {column.native}", "it is read as text")
        return _Read("text", "text", ["as text"])
    if kind in readers:
        return readers[kind](context, column, bounds, fact)
    simple = {"floating": ("number", "double"), "date": ("date", "date")}
    simple |= {"time": ("time", "time"), "moment": ("datetime", "timestamp")}
    simple |= {"zoned": ("datetime", "timestamp"), "uuid": ("uuid", "uuid")}
    if kind in simple:
        word, neutral = simple[kind]
        ranged = _range(bounds, word) if word != "uuid" else ""
        return _Read(f"{word}{ranged}", neutral)
    return _beyond(context, column, kind, fact)


def _is_enum(column: FoundColumn) -> bool:
    """Whether its choices are named in its type, and stored as texts."""
    return column.native.lower().startswith("enum(")


_ISO_DAY = re.compile(r"\d{4}-\d\d-\d\d")
_ISO_MOMENT = re.compile(r"\d{4}-\d\d-\d\d[ T]\d\d:\d\d(:\d\d(\.\d+)?)?(Z|[+-]\d\d:?\d\d)?")


def _holds(kind: str, fact: Fact) -> bool:
    """Whether the least and the most of what is stored are of a kind: what is none comes last."""
    ends = [str(end) for end in (fact.least, fact.most) if end is not None]
    if kind in ("whole", "exact", "floating"):
        return all(re.fullmatch(r"-?\d+(\.\d*)?([eE][-+]?\d+)?", end) for end in ends)
    if kind == "date":
        return all(_ISO_DAY.match(end) for end in ends)
    if kind == "moment":
        return all(_ISO_MOMENT.fullmatch(end) or _ISO_DAY.fullmatch(end) for end in ends)
    return True


def _beyond(context: Context, column: FoundColumn, kind: str, fact: Fact) -> _Read | None:
    """A column of a type that the language has no word for."""
    word = column.native.lower().split("(")[0]
    scaled = re.fullmatch(r"SCALED_INTEGER\((\d+), (\d+)\)", column.native)
    if scaled:
        bounds = context.checks.get(column.name, Bounds())
        places = int(scaled[2])
        ends = [_unscaled(end, places) for end in (bounds.low, bounds.high)]
        return _open_decimal(ends[0], ends[1], places, f"decimal {scaled[1]} {scaled[2]}")
    if kind == "" and not column.native:
        # One database has columns without any type: what is in them decides.
        if fact.given and fact.wholes + fact.floats == fact.given:
            return _Read("number", "double") if fact.floats else _Read("integer", "integer")
        return _Read("text", "text", ["as text"])
    if kind == "bytes" and not context.natural:
        then = "its size is shown, and it is never changed"
        context.note(column.name, f"{column.native} has no type in the language", then)
        return _Read("integer", "integer", ['unit "bytes"'], by_database=True)
    if kind == "bytes" or word in _UNSEEN or (kind == "json" and context.natural):
        then = "it stays as it is, and the site does not show it"
        context.note(column.name, f"{column.native} has no type in the language", then)
        return None
    then = "it is shown as the database tells it, and never changed"
    context.note(column.name, f"{column.native} has no type in the language", then)
    return _Read("text", "text", by_database=True)


def _open_decimal(low: str, high: str, places: int, neutral: str) -> _Read:
    """A decimal that Welbik itself made: an end that is open stands for nothing."""
    if low or high:
        return _Read(f"decimal {low}..{high}", neutral)
    return _Read("decimal", neutral, [] if places == 2 else [f"places {places}"])


def _unscaled(end: str, places: int) -> str:
    """An end of decimals that are kept as whole numbers of their smallest place."""
    try:
        return f"{Decimal(end).scaleb(-places):.{places}f}" if end else ""
    except InvalidOperation:
        return ""


def _range(bounds: Bounds, type_: str) -> str:
    try:
        low, high = (literal(end, type_) if end else "" for end in (bounds.low, bounds.high))
    except UnreadError:
        return ""
    return f" {low}..{high}" if low or high else ""


def _choices(column: FoundColumn, values: tuple[str, ...]) -> _Read:
    labels = _codes(column.comment)
    values = tuple(value for value in values if value.strip()) or values
    known: dict[str, str] = {}
    written = []
    for value in values:
        label = labels.get(value, "")
        name = names.choice_name(label or value, set(known.values()))
        known[value] = name
        told = name if name == value else f"{name} stored as {quoted(value)}"
        usual = name.replace("_", " ").capitalize()
        shown = whole(label or (value if re.search(r"[^\W\d_]", value) else ""), 60)
        if shown and shown != usual and (label or name != value):
            told += f" {quoted(shown[:1].upper() + shown[1:])}"
        written.append(told)
    width = max(map(len, values))
    return _Read(f"one of {' | '.join(written)}", f"text {width}", choices=known)


def _codes(comment: str) -> dict[str, str]:
    """What a comment says that codes stand for: `0 = draft, 1 = sent`."""
    found = {code: label.strip(" .") for code, label in _CODES.findall(comment)}
    return found if len(found) > 1 and all(found.values()) else {}


def _truth(context: Context, column: FoundColumn, bounds: Bounds, fact: Fact) -> _Read:
    return _Read("boolean", "boolean")


def _bits(context: Context, column: FoundColumn, bounds: Bounds, fact: Fact) -> _Read | None:
    if re.fullmatch(r"bit(\(1\))?", column.native.lower()):
        return _Read("boolean", "boolean")
    return _beyond(context, column, "", fact)


def _whole(context: Context, column: FoundColumn, bounds: Bounds, fact: Fact) -> _Read:
    native = column.native.lower()
    name = "_".join(names.words_of(column.name))
    codes = _codes(column.comment)
    sure = {*bounds.among} == {"0", "1"} and not codes
    if sure or _says_yes(column, native, name, fact):
        return _Read("boolean", "boolean")
    if codes and _covers(codes, fact) and context.table.key != (column.name,):
        return _choices(column, tuple(codes))
    small = native.startswith(_SMALL)
    since = bool(_SECONDS.fullmatch((column.default or "").strip()))
    told = _is_seconds(fact) if fact.given else since
    if not small and told and (since or _MOMENT.search(name)):
        return _Read("datetime", "timestamp")
    if native.startswith("year"):
        return _Read("integer 1901..2155", "integer")
    low, high = _ends(native) if context.ddl.exact else ("", "")
    only = sorted(int(value) for value in bounds.among if _are_whole(value))
    if only and only == list(range(only[0], only[-1] + 1)):
        low, high = str(only[0]), str(only[-1])
    elif only:
        return _Read("integer", "integer", [f"in ({', '.join(map(str, only))})"])
    low, high = bounds.low or low, bounds.high or high
    if not (low or high) and _exceeds(fact):
        high = str(2**63 - 1)
    wide = any(abs(int(float(end))) > _LARGEST + 1 for end in (low, high) if end)
    ranged = f" {low}..{high}" if low or high else ""
    if ranged and not _are_whole(low, high):
        ranged = ""
    return _Read(f"integer{ranged}", "bigint" if wide else "integer")


_SMALL = ("tinyint", "smallint", "int2")


def _says_yes(column: FoundColumn, native: str, name: str, fact: Fact) -> bool:
    """Whether whole numbers say yes and no."""
    if fact.given and not (_is(fact.least, 0, 1) and _is(fact.most, 0, 1)):
        return False
    if native.startswith("tinyint(1)"):
        return "unsigned" not in native or bool(fact.given)
    small, usual = native.startswith(_SMALL), column.default in ("0", "1")
    if _ASKS.search(name):
        return small or bool(fact.given) or usual
    return small and bool(fact.given) and column.required and usual


def _are_whole(*ends: str) -> bool:
    return all(re.fullmatch(r"-?\d{1,19}", end) for end in ends if end)


def _is(value: object, *allowed: int) -> bool:
    try:
        return value is not None and int(str(value)) in allowed
    except ValueError:
        return False


def _covers(codes: dict[str, str], fact: Fact) -> bool:
    """Whether codes may be all that is stored."""
    ends = [str(end) for end in (fact.least, fact.most) if end is not None]
    return all(end in codes for end in ends) and fact.different <= len(codes)


def _is_seconds(fact: Fact) -> bool:
    """Whether whole numbers are seconds since 1970, but for zeros that stand for nothing."""
    try:
        most, least = int(str(fact.most)), int(str(fact.least))
    except ValueError:
        return False
    return _SINCE < most < _UNTIL and (least > _SINCE or (least == 0 and fact.zeros > 0))


def _exceeds(fact: Fact) -> bool:
    try:
        return any(abs(int(str(v))) > _LARGEST for v in (fact.least, fact.most) if v is not None)
    except ValueError:
        return False


def _ends(native: str) -> tuple[str, str]:
    """What a type of whole numbers holds, where that is less than usual."""
    unsigned = "unsigned" in native
    bits = {"tinyint": 8, "smallint": 16, "int2": 16, "mediumint": 24, "smallserial": 16}
    word = re.match(r"[a-z0-9]+", native)
    width = bits.get(word[0] if word else "")
    if width is None:
        return ("0", "") if unsigned else ("", "")
    if unsigned:
        return "0", str(2**width - 1)
    return "", str(2 ** (width - 1) - 1)


def _exact(context: Context, column: FoundColumn, bounds: Bounds, fact: Fact) -> _Read:
    told = re.search(r"\((\d+)(?:\s*,\s*(\d+))?\)", column.native)
    digits, places = (int(told[1]), int(told[2] or 0)) if told else (0, 0)
    if told is None:
        digits, places = 15, max(_places(fact.least), _places(fact.most), 2)
    if told and places == 0 and digits <= _MOST_DIGITS and not context.natural:
        low, high = bounds.low, bounds.high or str(10**digits - 1)
        ranged = f" {low}..{high}" if _are_whole(low, high) else ""
        return _Read(f"integer{ranged}", "bigint" if digits > 9 else "integer")
    most_digits = _MOST_DIGITS if context.ddl.exact or context.natural else _FLOATING
    if digits > most_digits:
        # As much as can be said, half of it before the point where there is so much.
        places = min(places, most_digits - min(digits - places, most_digits // 2))
    digits = min(digits, most_digits)
    places = min(places, digits)
    if context.natural:
        ends = [f"{Decimal(end):.{places}f}" if end else "" for end in (bounds.low, bounds.high)]
        return _open_decimal(ends[0], ends[1], places, f"decimal {digits} {places}")
    step = Decimal(1).scaleb(-places)
    most = f"{Decimal(10**digits - 1).scaleb(-places):f}"
    low, high = bounds.low, bounds.high or most
    if "unsigned" in column.native.lower():
        low = low or "0"
    try:
        low, high = (f"{Decimal(end).quantize(step):f}" if end else "" for end in (low, high))
    except InvalidOperation:
        low, high = "", most
    return _Read(f"decimal {low}..{high}", f"decimal {digits} {places}")


def _places(value: object) -> int:
    _, point, behind = str(value if value is not None else "").partition(".")
    return min(len(behind.rstrip("0")), 6) if point and behind.isdigit() else 0


def _text(context: Context, column: FoundColumn, bounds: Bounds, fact: Fact) -> _Read:
    told = re.search(r"\((\d+)\)", column.native)
    native = column.native.lower()
    if context.natural and native == "char(32)":
        return _Read("uuid", "uuid")
    if context.natural and told and int(told[1]) == _ADDRESS:
        return _Read("url", f"text {_ADDRESS}")
    longest = int(told[1]) if told else None
    if native in ("char", "character", "nchar", "bpchar"):
        longest = 1
    if native == "name":
        longest = 63
    asks = _ASKS.search(_plain(column)) or fact.different == 2 or _constant(column.default) in _PAIR
    if longest == 0:
        context.note(
            column.name, f"{column.native} holds nothing", "it is shown, and never changed"
        )
        return _Read("text", "text", by_database=True)
    if longest == 1 and fact.given and fact.different <= 2 and asks:
        pair = _pair(fact)
        if pair:
            return _Read("boolean", "boolean", pair=pair)
    if longest is not None and (longest > 100_000 or fact.longest > longest):
        # One database takes a length for a remark.
        longest = None
    if bounds.longest is not None:
        longest = min(longest or bounds.longest, bounds.longest)
    if _is_mail(column, fact) and (longest is None or longest >= 254):
        return _Read("email", "text 254")
    if longest is not None:
        first = f"{bounds.shortest}.." if bounds.shortest > 1 else ""
        neutral = f"text {longest}" if longest <= _ONE_LINE else "text"
        return _Read(f"text {first}{max(longest, bounds.shortest, 1)}", neutral)
    if longest is None and _moment_text(column, fact):
        return _Read("datetime", "timestamp")
    day = fact.longest == len("2026-01-01") and _holds("date", fact)
    if longest is None and fact.given and day:
        return _Read("date", "date")
    if bounds.shortest > 1:
        return _Read(f"text {bounds.shortest}..", "text")
    short = fact.given > 0 and fact.longest <= 120 and not fact.lines
    named = not fact.given and not re.search(
        r"text|note|description|comment|body|content|bio|about|memo|html|json|xml|details",
        _plain(column),
    )
    return _Read("text", "text", ["as text"] if short or named else [])


def _moment_text(column: FoundColumn, fact: Fact) -> bool:
    """Whether texts are moments: all from the least to the most look so, or the default is now."""
    ends = [str(end) for end in (fact.least, fact.most) if end is not None]
    told = all(_ISO_MOMENT.fullmatch(end) for end in ends)
    return told and bool(ends or (column.default and _NOW.fullmatch(column.default.strip())))


def _plain(column: FoundColumn) -> str:
    return "_".join(names.words_of(column.name))


_SURE = (
    *(("Y", "N"), ("y", "n"), ("J", "N"), ("j", "n")),
    *(("T", "F"), ("t", "f"), ("1", "0"), ("yes", "no"), ("Yes", "No"), ("YES", "NO")),
    *(("true", "false"), ("True", "False"), ("TRUE", "FALSE"), ("on", "off"), ("ON", "OFF")),
    *(("ja", "nein"), ("ja", "nee"), ("oui", "non"), ("sim", "nao"), ("tak", "nie")),
)
"""What is never anything else than yes and no."""
_PAIR = ("Y", "N", "y", "n", "T", "F", "t", "f", "J", "S")


def _pair(fact: Fact) -> tuple[str, str] | None:
    """What stands for yes and no among single letters."""
    found = {str(value) for value in (fact.least, fact.most) if value not in (None, "", " ")}
    known = (("Y", "N"), ("y", "n"), ("T", "F"), ("t", "f"), ("J", "N"), ("S", "N"), ("1", "0"))
    return next((pair for pair in known if found and found <= set(pair)), None)


def _is_mail(column: FoundColumn, fact: Fact) -> bool:
    named = re.search(r"(^|_)(e?mail|email_address)($|_)", _plain(column))
    return bool(named) and fact.mails == fact.given - fact.blank


def _empty(context: Context, column: FoundColumn, read: _Read) -> str | None:
    """What stands for nothing in a column that always holds something."""
    if column.name in context.table.key:
        return None
    if read.choices:
        known = column.choices or context.checks.get(column.name, Bounds()).among
        return '""' if column.required and "" in known and "" not in read.choices else None
    fact = context.facts.get(column.name, Fact())
    default = _constant(column.default)
    word = read.neutral.split()[0]
    if word == "text" and (default == "" or fact.blank):
        return '""'
    if not column.required:
        return None
    if word == "timestamp" and family(column.native) == "whole" and (default == "0" or fact.zeros):
        return "0"
    if (
        word in ("date", "timestamp")
        and default
        and default.startswith(("0000-00-00", "0001-01-01"))
    ):
        return quoted(default)
    return None


def _constant(default: str | None) -> str | None:
    """A constant among the expressions that defaults are; None where it is none."""
    if default is None:
        return None
    text = default.strip()
    while text.startswith("(") and text.endswith(")"):
        text = text[1:-1].strip()
    text = re.sub(r"::[\w ]+(\([\d, ]+\))?(\[\])?$", "", text).strip()
    while text.startswith("(") and text.endswith(")"):
        text = text[1:-1].strip()
    found = re.fullmatch(r"[bB]?'((?:[^']|'')*)'", text)
    if found:
        return found[1].replace("''", "'")
    found = re.fullmatch(r'"([^"]*)"', text)
    if found:
        return found[1]
    plain = re.fullmatch(r"[-+]?\d+(\.\d*)?|true|false", text, re.IGNORECASE)
    return text.lower().lstrip("+") if plain else None


def _default(context: Context, column: FoundColumn, read: _Read) -> list[str]:
    """The default of a column in the language's words, where it has any for it."""
    default = column.default
    if default is None or default.strip().upper() in ("NULL", "") or default.startswith("NULL::"):
        return []
    word = read.type.split()[0]
    bare = default.strip()
    if _NOW.fullmatch(bare) or _SECONDS.fullmatch(bare):
        if word == "datetime":
            return ["default now"]
        if word == "date":
            return ["default today"]
    elif _TODAY.fullmatch(bare) and word == "date":
        return ["default today"]
    elif word == "uuid":
        return []
    else:
        constant = _constant(default)
        said = None if constant is None else _said(constant, word, read)
        if said is not None:
            return [f"default {said}"] if said else []
    then = "rows that others add get it; on the form nothing is filled in"
    context.note(column.name, f"its default {whole(default, 60)} can't be said", then)
    return []


def _said(constant: str, word: str, read: _Read) -> str | None:
    """A constant as a default; empty where it says nothing, None where it is none of the type."""
    if read.choices:
        return read.choices.get(constant)
    if read.pair:
        return "yes" if constant == read.pair[0] else "no" if constant == read.pair[1] else None
    if word in ("text", "email"):
        return quoted(constant) if constant and constant.isprintable() else ""
    try:
        if word in ("integer", "decimal", "number"):
            return literal(_shortened(constant, read), word)
        return literal(constant, word)
    except UnreadError:
        return None


def _shortened(constant: str, read: _Read) -> str:
    """A number with no more places than its type has."""
    try:
        value = Decimal(constant)
    except InvalidOperation:
        return constant
    if read.neutral.startswith("decimal"):
        return f"{value.quantize(Decimal(1).scaleb(-int(read.neutral.split()[2]))):f}"
    if read.type.startswith("integer") and value == value.to_integral_value():
        return f"{value:.0f}"
    return f"{value:f}"
