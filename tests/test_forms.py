"""What forms say and how they read what was typed: each control, each check, in words."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import pytest
from loaded import Application, application

DECLARED = """\
model Thing
    name    text 2..9, say "Two to nine letters", required, say "Name it"
    code    text 4..4, unique, say "Gone already", matches "[a-z]+", say "Small letters"
    ref     text 4..4, matches "[a-z]+", hint "Four small letters"
    notes   text
    size    integer 4..24
    any     integer
    above   integer 3..
    price   decimal 0..99.99, say "Not that much"
    ratio   number ..1
    open    boolean, required
    known   boolean
    born    date 2020-01-01..today
    met     datetime 2020-01-01T08:00..
    mail    email
    few     one of a | b
    many    one of a | b | c | d | e, required
    friend  -> Thing
"""

GOOD = {"name": "Bob", "many": "c"}

# What is typed into one field, and what the form says; nothing where it is accepted.
SAID = [
    ("name", "", "Name it"),
    ("name", "   ", "Name it"),
    ("name", "b", "Two to nine letters"),
    ("name", "  Bob  ", None),
    ("name", "b\x00b", "a character that can't be kept"),
    ("code", "ABCD", "Small letters"),
    ("ref", "abc", "Exactly 4 characters, please; this has 3."),
    ("ref", "1234", "Four small letters"),
    ("notes", "x\r\ny", None),
    ("size", "3", "Between 4 and 24, please."),
    ("size", "4.0", "Write a whole number"),
    ("size", "+7", None),
    ("size", "٧", "Write a whole number"),
    ("any", "2147483648", "Between -2,147,483,648 and 2,147,483,647"),
    ("above", "-9999", "Between 3 and 2,147,483,647"),
    ("price", "100", "Not that much"),
    ("price", "1.234", "Not that much"),
    ("price", "1e3", "Not that much"),
    ("price", "12.", None),
    ("ratio", "1.5", "1 at the most, please."),
    ("ratio", "nan", "Write a number"),
    ("ratio", "1e-3", None),
    ("open", "maybe", "Answer yes or no."),
    ("known", "", None),
    ("born", "01/02/2021", "Write a day of the calendar"),
    ("born", "2019-12-31", "Between 1 Jan 2020 and"),
    ("met", "2020-01-01T07:59", "1 Jan 2020, 08:00 at the least"),
    ("met", "2020-01-01 09:00", "Write a date and a time"),
    ("mail", "bob@", "Write an e-mail address"),
    ("mail", "bob+tag@mail.example.org", None),
    ("few", "c", "Choose one of the list."),
    ("few", "", None),
    ("many", "", "Choose one."),
    ("friend", "abc", "this one is gone"),
    ("friend", "999999999999999999999", "this one is gone"),
]  # fmt: skip


@pytest.fixture(scope="module")
def app() -> Iterator[Application]:
    with application(DECLARED) as app:
        yield app


@pytest.mark.parametrize(("field", "typed", "said"), SAID)
def test_what_is_typed_is_read_or_explained(
    app: Application, field: str, typed: str, said: str | None
) -> None:
    entry = _read(app, {**GOOD, field: typed})
    assert list(entry.problems) == ([field] if said else [])
    if said:
        assert said in entry.problems[field]


def _read(app: Application, typed: dict[str, str]) -> Any:
    model = app.schema.models["Thing"]
    with app.flask.test_request_context(method="POST", data=typed):
        entry = app.form(model).read(app.row_class(model)())
        app.module("kit.database").session().close()
    return entry


def test_what_is_left_empty_is_empty_never_an_empty_text(app: Application) -> None:
    values = _read(app, {**GOOD, "notes": " ", "code": ""}).values
    assert {name for name, value in values.items() if value is None} == values.keys() - {
        "name",
        "many",
        "open",
    }
    assert values["open"] is False and values["name"] == "Bob"


def test_a_taken_value_is_said_in_the_declared_words(app: Application) -> None:
    assert app.post("/things/new", {**GOOD, "code": "abcd"}).status_code == 303
    answer = app.post("/things/new", {**GOOD, "code": "abcd"})
    assert answer.status_code == 422 and answer.text.count("Gone already") == 1


CONTROLS = [
    ('name="name" type="text"', 'minlength="2" maxlength="9"'),
    ('<textarea id="notes"', ""),
    ('name="size" type="number"', 'min="4" max="24" step="1"'),
    ('name="any" type="number"', 'step="1"'),
    ('name="price" type="number"', 'min="0" max="99.99" step="0.01"'),
    ('name="ratio" type="number"', 'max="1.0" step="any"'),
    ('name="open" type="checkbox"', ""),
    ('type="radio" name="known" value="yes"', ""),
    ('name="born" type="date"', 'min="2020-01-01"'),
    ('name="met" type="datetime-local"', 'min="2020-01-01T08:00"'),
    ('name="mail" type="email"', 'maxlength="254"'),
    ('type="radio" name="few" value="a"', ""),
    ('<select id="many" name="many" required', ""),
    ('<select id="friend" name="friend"', ""),
]


@pytest.mark.parametrize(("control", "limits"), CONTROLS)
def test_each_type_has_its_control_with_the_declared_limits(
    app: Application, control: str, limits: str
) -> None:
    page = app.client.get("/things/new").text
    assert control in page
    assert limits in page[page.index(control) :].split(">")[0]
