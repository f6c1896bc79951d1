"""What is stored beside what is declared, on all three databases."""

from __future__ import annotations

import json
import re
from collections.abc import Callable
from html.parser import HTMLParser
from typing import Any

import pytest
from conftest import Project
from PIL import Image

SHOP = """\
model Shop
    name    text 2..40, required, unique
    opened  date 2015-01-01..today, required
    above   -> Shop, sample 30% empty
    size    integer 1..100, required, sample normal(40, 8)
    keep bin
model Item
    shop    -> Shop, required, sample 2..9 per shop
    bought  date, required, >= shop.opened
    price   decimal 0.10..900.00, sample lognormal(20, 1.6) and 10% empty
    kind    one of new "Brand new" | old | broken, required, sample weights(60, 30, 10)
    sure    boolean, required
    secret  text 40, required
    seen    datetime ..now
seed
    60 Shop
    300 Item
"""


def told(project: Project, *options: str) -> dict[str, Any]:
    found = json.loads(project.run("report", "--format", "json", *options).stdout)
    return {
        table["model"]: table | {"members": {m["name"]: m for m in table["members"]}}
        for table in found
    }


def test_what_is_counted_is_what_is_stored(shop: Project) -> None:
    shop.run("fill")
    found = told(shop)
    item, members = found["Item"], found["Item"]["members"]
    assert item["rows"] == item["made_up"] == item["declared"] == 300
    assert item["remarks"] == [] and not (shop.root / "report.html").exists()
    empty = shop.sql("SELECT count(*) FROM item WHERE price IS NULL")[0][0]
    assert members["price"]["empty"] == empty and members["price"]["declared_empty"] == 0.1
    kinds = shop.sql("SELECT count(*) FROM item WHERE kind = 'new'")[0][0]
    assert members["kind"]["counts"]["Brand new"] == kinds
    assert sum(members["sure"]["counts"].values()) == 300
    each = members["shop"]["counts"]
    assert sum(int(n) * parents for n, parents in each.items()) == 300
    assert members["shop"]["fan_out"] == [2, 9] and set(map(int, each)) <= set(range(2, 10))
    above = found["Shop"]["members"]["above"]
    assert sum(above["depths"]) == 60 and above["depths"][0] == 18 == above["empty"]
    low = shop.sql("SELECT min(length(secret)), max(length(secret)) FROM item")[0]
    assert tuple(members["secret"]["lengths"]) == tuple(low)


@pytest.mark.parametrize("shop", ["mariadb"], indirect=True)
def test_what_stands_out_is_said(shop: Project) -> None:
    shop.run("fill")
    shop.sql(
        "UPDATE item SET price = NULL WHERE id % 2 = 0",
        "UPDATE item SET kind = 'old'",
        "UPDATE item SET shop_id = 1 WHERE id < 60",
        "UPDATE item SET bought = (SELECT opened FROM shop WHERE id = shop_id) WHERE id % 3 > 0",
        "UPDATE shop SET removed_at = '2026-01-01 00:00:00' WHERE id = 60",
    )
    found = told(shop)
    said = " / ".join(found["Item"]["remarks"])
    for words in (
        "price is empty in 5",
        "kind is Brand new in 0%",
        "kind is never",
        "only just keep",
    ):
        assert words in said, said
    assert "Shop have another number by shop than 2..9" in said
    assert found["Shop"]["in_bin"] == 1 and "59 rows, 60 are declared" in found["Shop"]["remarks"]
    printed = shop.run("report", "Item").stdout
    assert "price is empty in" in printed and "Shop" not in printed.splitlines()[0]


class _Page(HTMLParser):
    """The links of a page, and the marks that are open at its end."""

    def __init__(self) -> None:
        super().__init__()
        self.links: list[str] = []
        self.ids: list[str] = []

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        for name, value in attrs:
            if name in ("src", "href", "xlink:href") and value:
                self.links.append(value)
            if name == "id" and value:
                self.ids.append(value)


@pytest.mark.parametrize("shop", ["sqlite"], indirect=True)
def test_the_page_stands_alone_and_shows_nobody_s_texts(shop: Project) -> None:
    shop.run("fill")
    shop.sql("UPDATE item SET secret = 'Ludmila <b>', seen = NULL WHERE id < 200")
    assert "wrote report.html" in shop.run("report").stdout
    page = shop.read("report.html")
    assert "Ludmila" not in page and page.count("<svg") >= 9
    read = _Page()
    read.feed(page)
    assert all(link.startswith("#") for link in read.links) and len(set(read.ids)) == len(read.ids)
    assert {link[1:] for link in read.links} <= set(read.ids)
    assert not re.search(r"url\((?!#)|@import|http://(?!www\.w3)", page)
    assert "prefers-color-scheme: dark" in page and "@media print" in page
    shop.run("report", "--values", "-o", "open.html")
    assert "Ludmila &lt;b&gt;" in shop.read("open.html")
    shop.run("report", "-o", "all.png")
    with Image.open(shop.root / "all.png") as picture:
        assert picture.width == 1280 and 300 < picture.height <= 1100
    shop.run("report", "-o", "all.json")
    assert len(json.loads(shop.read("all.json"))) == 2


def test_nothing_stored_and_wrong_words_are_told(make: Callable[[str], Project]) -> None:
    project = make(SHOP)
    assert "welbik migrate" in project.run("report", code=1).stderr
    project.run("migrate")
    assert "0 rows, 300 are declared" in project.run("report").stdout
    assert "No rows" in project.read("report.html")
    project.run("report", "-o", "empty.png")
    assert "did you mean Item" in project.run("report", "Itm", code=2).stderr
    assert "ends in none of" in project.run("report", "-o", "x.pdf", code=2).stderr
    assert "can't be written" in project.run("report", "-o", "no/where.html", code=1).stderr
