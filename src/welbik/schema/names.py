"""Names made from names: tables, folders, URLs, labels, plurals."""

from __future__ import annotations

import keyword
import re

IRREGULAR = {
    **{"person": "people", "child": "children", "man": "men", "woman": "women", "foot": "feet"},
    **{"tooth": "teeth", "goose": "geese", "mouse": "mice", "datum": "data", "ox": "oxen"},
    **{"leaf": "leaves", "half": "halves", "shelf": "shelves", "life": "lives", "knife": "knives"},
    **{"loaf": "loaves", "wolf": "wolves", "calf": "calves", "index": "indexes", "bus": "buses"},
    **{"hero": "heroes", "potato": "potatoes", "tomato": "tomatoes", "analysis": "analyses"},
    **{"diagnosis": "diagnoses", "crisis": "crises", "basis": "bases", "quiz": "quizzes"},
    **{"series": "series", "species": "species", "news": "news", "sheep": "sheep", "fish": "fish"},
    **{"equipment": "equipment", "information": "information", "staff": "staff"},
}


def words(name: str) -> list[str]:
    """The words of a CamelCase or snake_case name, in small letters."""
    spaced = re.sub(r"(?<=[a-z0-9])(?=[A-Z])|(?<=[A-Z])(?=[A-Z][a-z])", "_", name)
    return [word.lower() for word in spaced.split("_") if word]


def snake(name: str) -> str:
    return "_".join(words(name))


def label(name: str) -> str:
    """A field's name as people read it: `opened_on` is "Opened on"."""
    text = name.replace("_", " ").strip()
    return text[:1].upper() + text[1:]


def plural(noun: str) -> str:
    """Several of what a noun names; only its last word changes."""
    head, space, last = noun.rpartition(" ")
    return head + space + _plural_word(last)


def _plural_word(word: str) -> str:
    lower = word.lower()
    if lower in IRREGULAR:
        many = IRREGULAR[lower]
        return many.capitalize() if word[:1].isupper() else many
    if re.search(r"[^aeiou]y$", lower):
        return word[:-1] + "ies"
    if re.search(r"(s|x|z|ch|sh)$", lower):
        return word + "es"
    return word + "s"


def article(noun: str) -> str:
    """`a` or `an`, by the first letter."""
    return "an" if noun[:1].lower() in "aeio" else "a"


def slug(text: str) -> str:
    """A text as one part of a URL."""
    return re.sub(r"[^a-z0-9]+", "-", text.lower()).strip("-")


def tests_file(name: str, taken: frozenset[str]) -> str:
    """The path in the project of the tests of a model; others have the names that are `taken`."""
    name = snake(name)
    return f"tests/test_{name}{'_' * (name in taken)}.py"


def module(name: str, taken: frozenset[str] = frozenset()) -> str:
    """A name that Python can import: its own words and `taken` get an underscore."""
    return name + "_" if keyword.iskeyword(name) or name in taken else name
