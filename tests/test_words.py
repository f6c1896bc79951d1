"""Made-up words: believable for the field's name, nobody's address, no text twice in a list."""

from __future__ import annotations

import re
import unicodedata
from importlib.resources import files

import pytest
from declared import understand

from welbik.data.supply import Supply
from welbik.data.wordlists import listed, options

LISTS = sorted(
    path.name.removesuffix(".txt") for path in (files("welbik.data") / "words").iterdir()
)

# The field as declared in a model, and the form of what is made up for it.
BELIEVABLE = [
    ("Keeper", "name text 80", r"[A-ZÅÖÉ]\w+ [A-Z]\w+"),
    ("Apiary", "name text 60", r"[A-Z][a-z]+"),
    ("Supplier", "name text 80", r"[A-Z]\w+ (& )?\w+"),
    ("Tool", "name text 80", r"[A-Z][a-z]+ [a-z]+"),
    ("Visit", "given_name text 40", r"[A-ZÅÖÉ]\w+"),
    ("Visit", "keeper_name text 40", r"\w+ \w+"),
    ("Visit", "phone text 20", r"01632 960\d{3}"),
    ("Visit", "postcode text 5", r"[1-9]\d{4}"),
    ("Visit", "website text 80", r"https://[a-z]+\.example\.org"),
    ("Visit", "code text 7", r"[A-Z]{2}-\d{4}"),
    ("Visit", "town text 40", r"[A-Z][a-z]+"),
    ("Visit", "home_address text 60", r"\d+ [A-Z]\w+ [A-Z]\w+"),
    ("Visit", "colour text 20", r"[a-z]+"),
    ("Visit", "country text 40", r"[A-Z][\w ]+"),
    ("Visit", "title text 60", r"The [a-z]+ [a-z]+"),
    ("Visit", "notes text", r"([A-Z].*\.)+"),
    ("Visit", "wood text 30", r"[a-z]+( [a-z]+)?"),
]


@pytest.mark.parametrize(("model", "field", "form"), BELIEVABLE)
def test_values_suit_the_name(model: str, field: str, form: str) -> None:
    schema, problems = understand(f"model {model}\n    {field}, required\n")
    assert not problems
    rows = Supply(schema, 4).rows(model, 0, 60)
    values = [row[field.split()[0]] for row in rows]
    assert all(re.fullmatch(form, value) for value in values), values[:5]
    assert len(set(values)) > 15


@pytest.mark.parametrize("name", LISTS)
def test_a_list_holds_each_word_once_and_tidily(name: str) -> None:
    words = listed(name)
    assert len(set(words)) == len(words) >= 8
    assert all(word == word.strip() and word for word in words)
    # A number behind a name sets repeated ones apart, so none may end in one.
    assert not [word for word in words if word[-1].isdigit()]


def test_addresses_are_the_rows_own_name_at_a_reserved_domain() -> None:
    schema = understand(
        "model Keeper\n    name text 80, required\n    email email, required, unique\n"
    )[0]
    rows = Supply(schema, 2).rows("Keeper", 0, 3000)
    for row in rows:
        last = row["name"].split()[-1].lower()
        assert last in row["email"] or not last.isascii()
        assert re.fullmatch(r"[a-z.]+@example\.(org|com|net)", row["email"])
    assert len({row["email"] for row in rows}) == 3000


def test_names_that_must_differ_go_on_when_the_list_is_used_up() -> None:
    schema = understand("model Colour\n    colour text 20, required, unique\n")[0]
    values = [row["colour"] for row in Supply(schema, 1).rows("Colour", 0, 200)]
    assert len(set(values)) == 200 and max(map(len, values)) <= 20
    assert set(values[: len(options("colour", 1, 12))]) == set(options("colour", 1, 12))


def address_word(text: str) -> str:
    plain = unicodedata.normalize("NFKD", text).encode("ascii", "ignore").decode().lower()
    return re.sub("[^a-z0-9]+", "-", plain).strip("-")


@pytest.mark.parametrize("pool", ["thing", "title", "company"])
def test_what_things_are_called_differs_in_addresses_too(pool: str) -> None:
    names = options(pool, 1, 10_000)
    assert len({address_word(name) for name in names}) == len(names) > 2_000


@pytest.mark.parametrize("model", ["Route", "Shop"])
def test_words_of_addresses_have_a_number_only_where_a_name_comes_again(model: str) -> None:
    field = "name" if model == "Shop" else "title"
    declared = f"model {model}\n    {field} text 3..40, required\n    word slug from {field}\n"
    schema = understand(declared)[0]
    rows = Supply(schema, 1).rows(model, 0, 9000)
    names = [row[field] for row in rows]
    words = [row["word"] for row in rows]
    assert len(set(words)) == 9000
    seen: set[str] = set()
    for name, word in zip(names, words, strict=True):
        plain = address_word(name)
        assert word == plain if name not in seen else re.fullmatch(rf"{plain}-\d+", word)
        seen.add(name)
    # A name that a rule may move is not known to differ.
    ruled = declared + f"    rule length({field}) > 9\n"
    again = Supply(understand(ruled)[0], 1).rows(model, 0, 600)
    assert len({row["word"] for row in again}) == 600


@pytest.mark.parametrize(
    ("low", "high"), [(2, 60), (100, 100), (300, 305), (4990, 5000), (20_000, 20_010)]
)
def test_long_texts_that_must_differ_keep_their_lengths(low: int, high: int) -> None:
    schema = understand(f"model Visit\n    notes text {low}..{high}, required, unique\n")[0]
    values = [row["notes"] for row in Supply(schema, 3).rows("Visit", 0, 150)]
    assert len(set(values)) == 150
    assert all(low <= len(value) <= high and value == value.strip() for value in values)
