"""Dates, times and numbers as the site's locale writes them."""

from __future__ import annotations

import datetime as dt
from decimal import Decimal

import pytest
from conftest import Project
from loaded import application

CRATES = 'model Crate\n    weight decimal 0.0..99999.9, unit "kg"\n    seen datetime\n    begun date\n    at time\nseed\n    1 Crate\n'
DAY = dt.date(2026, 3, 9)
MOMENT = dt.datetime(2026, 3, 9, 16, 5, 7, tzinfo=dt.UTC)


@pytest.mark.parametrize(
    ("locale", "shown"),
    [
        ("en-GB", ["12,345.60\xa0kg", "9 Mar 2026", "9 Mar 2026, 17:05", "06:07:08", "2026", "0.1"]),
        ("en-US", ["12,345.60\xa0kg", "Mar 9, 2026", "Mar 9, 2026, 5:05\xa0PM", "6:07:08\xa0AM", "2026", "0.1"]),
        ("de", ["12.345,60\xa0kg", "09.03.2026", "09.03.2026, 17:05", "06:07:08", "2026", "0,1"]),
        ("fr", ["12\u202f345,60\xa0kg", "9 mars 2026", "9 mars 2026, 17:05", "06:07:08", "2026", "0,1"]),
        ("ja", ["12,345.60\xa0kg", "2026/03/09", "2026/03/09, 17:05", "6:07:08", "2026", "0.1"]),
    ],
)  # fmt: skip
def test_values_are_shown_as_the_locale_has_them(locale: str, shown: list[str]) -> None:
    with application(CRATES, timezone="Europe/Berlin", locale=locale) as app:
        show = app.module("kit.show").show
        values = (DAY, MOMENT, dt.time(6, 7, 8), 2026, 0.1)
        assert [show(Decimal("12345.60"), "kg"), *map(show, values)] == shown
        # What is typed stays as the controls of browsers have it.
        typed = {"weight": "12.5", "begun": "2026-03-09", "seen": "2026-03-09T17:05"}
        made = app.post("/crates/new", typed)
        assert made.status_code == 303
        page = app.client.get(made.location).text
        assert shown[1] in page and shown[2] in page
        assert 'value="12.5"' in app.client.get(f"{made.location}/edit").text


@pytest.mark.parametrize("locale", ["xx-YY", "nonsense!", ""])
def test_what_is_no_locale_is_said(project: Project, locale: str) -> None:
    project.write("welbik.toml", f'package = "bees"\nlocale = "{locale}"\n')
    said = project.run("check", code=1).stderr
    assert "is no locale" in said and 'write one such as "en-GB"' in said


def test_what_is_worked_out_is_an_amount_and_measured_numbers_show_three_digits() -> None:
    text = "model Crate\n    year integer 0..9999\n    share number 0..100000\n    sum integer = year * 1\nseed\n    1 Crate\n"
    with application(text, locale="de") as app:
        made = app.post("/crates/new", {"year": "1987", "share": "12.34567"})
        for page in (made.location, "/crates"):
            shown = app.client.get(page).text
            assert ">1987<" in shown and "1.987" in shown and "12,3" in shown
            assert "12,34" not in shown
        assert 'value="12.34567"' in app.client.get(f"{made.location}/edit").text
        assert "12.34567" in app.client.get("/crates?_as=csv").text
