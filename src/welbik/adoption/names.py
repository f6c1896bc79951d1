"""Good names for what others called otherwise: remembered in `stored as`."""

from __future__ import annotations

import keyword
import re
import unicodedata
from collections.abc import Container, Set

from ..language.words import may_name_field
from ..schema import names

LONGEST = 40
_LETTERS = str.maketrans(
    {"ä": "ae", "ö": "oe", "ü": "ue", "ß": "ss", "æ": "ae", "ø": "oe", "å": "aa", "œ": "oe"}
    | {"ł": "l", "đ": "d", "ð": "d", "þ": "th", "ı": "i"}
    | {"Ä": "Ae", "Ö": "Oe", "Ü": "Ue", "Æ": "Ae", "Ø": "Oe", "Å": "Aa", "Œ": "Oe"}
    | {"Ł": "L", "Đ": "D", "Þ": "Th"}
)
_ONE = {many: one for one, many in names.IRREGULAR.items() if one != many}
_BOTH = frozenset(one for one, many in names.IRREGULAR.items() if one == many)
# What ends as several do, and is one.
_SINGLE = re.compile(r"(ss|us|is|ous|ics|as)$")
_TAKEN = frozenset(
    ("None", "True", "False", "Base", "Any", "Mapped", "ClassVar", "Decimal", "UUID")
)


def plain(text: str) -> str:
    """A name in letters of ASCII; what has none there is left out."""
    told = unicodedata.normalize("NFC", text).translate(_LETTERS)
    return unicodedata.normalize("NFKD", told).encode("ascii", "ignore").decode()


def words_of(name: str) -> list[str]:
    """The words of a table's or column's name, in small letters."""
    spaced = re.sub(r"[^A-Za-z0-9]+", "_", plain(name))
    return names.words(spaced)


def singular(word: str) -> str:
    """One of what a word names several of; the word itself where it names one."""
    if word in _ONE:
        return _ONE[word]
    if word in _BOTH or len(word) < 4 or not word.endswith("s"):
        return word
    tries = [word[:-3] + "y"] if word.endswith("ies") else []
    tries += [word[:-2]] if re.search(r"(ss|[^oa]us|x|z|ch|sh|o)es$", word) else []
    tries += [] if _SINGLE.search(word) else [word[:-1]]
    return next((one for one in tries if names.plural(one) == word), word)


def model_name(table: str, prefix: str, taken: Container[str]) -> str:
    """A name for the model of a table: capitalised words, the last of them in the singular."""
    stripped = table[len(prefix) :] if table.lower().startswith(prefix.lower()) else table
    words = words_of(stripped) or words_of(table) or ["table"]
    words = [*words[:-1], singular(words[-1])]
    name = "".join(word.capitalize() for word in words)
    name = name if name[:1].isalpha() else f"T{name}"
    if keyword.iskeyword(name) or name in _TAKEN:
        name += "Row"
    return _free(name[:LONGEST], taken, "")


def field_name(column: str, taken: Container[str]) -> str:
    """A name for the field of a column."""
    name = "_".join(words_of(column)) or "column"
    name = name if name[0].isalpha() else f"n{name}"
    if not may_name_field(name) or name in ("id", "was"):
        name = f"{name}_value"
    return _free(name[:LONGEST].strip("_"), taken, "_")


def choice_name(value: str, taken: Container[str]) -> str:
    """A word for a value that stands for a choice."""
    name = "_".join(words_of(value))
    if not name:
        name = "empty" if not value.strip() else "other"
    name = name if name[0].isalpha() else f"n{name}"
    if keyword.iskeyword(name) or name in ("yes", "no", "today", "now", "empty", "given", "stored"):
        name = f"{name}_value"
    return _free(name[:LONGEST].strip("_"), taken, "_")


def reference_name(column: str, target: str, taken: Container[str]) -> str:
    """What a relation is called: its column without what says that it holds a key."""
    words = words_of(column)
    ends: Set[str] = {"id", "fk", "key", "ref", "no", "nr", "num", "code", "uuid"}
    while len(words) > 1 and words[-1] in ends:
        words = words[:-1]
    if len(words) > 1 and words[0] in ("fk", "id", "ref"):
        words = words[1:]
    joined = "_".join(words)
    if len(words) == 1 and joined.endswith("id") and joined[:-2] and joined[:-2] in target.lower():
        joined = joined[:-2]
    return field_name(joined or names.snake(target), taken)


def collection_name(child: str, via: str, parent: str, taken: Container[str]) -> str:
    """What the other side of a relation is called."""
    many = "_".join(names.plural(" ".join(names.words(child))).split())
    if via and via not in (names.snake(parent), *names.words(parent)):
        by = f"{many}_as_{via}"
        if many in taken:
            many = by
    return field_name(many, taken)


def _free(name: str, taken: Container[str], between: str) -> str:
    """A name that nothing else has: numbers tell those apart that would be the same."""
    found, number = name, 2
    while found in taken:
        end = f"{between}{number}"
        found, number = f"{name[: LONGEST - len(end)]}{end}", number + 1
    return found
