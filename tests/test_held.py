"""What the whole language declares, held by the generated application: rules from every side,
computed fields, relations of all kinds, uploads, lists, and how rows are kept."""

from __future__ import annotations

import datetime as dt
import html
import io
import re
import sqlite3
from html.parser import HTMLParser
from pathlib import Path
from typing import Any

import pytest
from loaded import Application, application

WHOLE = (Path(__file__).parent / "projects" / "whole-language.welbik").read_text("utf-8")
# The smallest PNG there is: one pixel.
PNG = bytes.fromhex(
    "89504e470d0a1a0a0000000d4948445200000001000000010806000000"
    "1f15c4890000000d49444154789c6360606060000000050001a5f64540"
    "0000000049454e44ae426082"
)


@pytest.fixture(scope="module")
def bees() -> Any:
    """The register of the beekeepers, with a few rows of each."""
    text = re.sub(
        r"(?ms)^seed$.*",
        "seed\n    9 Keeper\n    9 Apiary\n    20 Queen\n    30 Hive\n    100 Inspection\n    40 Harvest\n",
        WHOLE,
    )
    text = re.sub(r"sample \d+\.\.\d+ per \w+", "sample skewed", text)
    with application(text) as app:
        yield app


def ask(app: Application, query: str, *values: object) -> list[Any]:
    """Rows straight from the database."""
    with sqlite3.connect(app.root / "bees.db") as connection:
        return connection.execute(query, values).fetchall()


class _Form(HTMLParser):
    """Gathers what a browser would send of the form on a page, left as it is."""

    def __init__(self) -> None:
        super().__init__()
        self.found: dict[str, str] = {}
        self._open = ""

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        given = {name: value or "" for name, value in attrs}
        name, kind = given.get("name", ""), given.get("type", "")
        if tag == "option" and self._open:
            if "selected" in given or self._open not in self.found:
                self.found[self._open] = given.get("value", "")
        elif tag in ("select", "textarea"):
            self._open = name
            if tag == "textarea":
                self.found[name] = ""
        elif (
            tag == "input"
            and name
            and kind != "file"
            and (kind not in ("radio", "checkbox") or "checked" in given)
        ):
            self.found[name] = given.get("value", "on")

    def handle_data(self, data: str) -> None:
        if self._open and self.lasttag == "textarea":
            self.found[self._open] += data

    def handle_endtag(self, tag: str) -> None:
        if tag in ("select", "textarea"):
            self._open = ""


def typed(app: Application, path: str) -> dict[str, str]:
    """What the form at an address holds, as a browser would send it."""
    form = _Form()
    form.feed(app.client.get(app.form_of(path)).text)
    return {name: text for name, text in form.found.items() if not name.startswith("_")}


def problem(text: str, field: str) -> str:
    found = re.search(rf'id="{field}-problem"[^>]*>([^<]*)<', text)
    return html.unescape(found.group(1)) if found else ""


def test_a_rule_across_a_relation_is_held_from_both_sides(bees: Application) -> None:
    (hive, code, brood) = ask(
        bees,
        "SELECT h.id, h.code, max(i.brood) FROM hive h JOIN inspection i ON i.hive_id = h.id GROUP BY h.id HAVING max(i.brood) > 4 LIMIT 1",
    )[0]
    page = f"/hives/{code}/edit"
    refused = bees.change(page, {**typed(bees, page), "frames": str(brood - 1)})
    assert refused.status_code == 422
    assert problem(refused.text, "frames").startswith(
        "The hive has fewer frames than that (inspection"
    )
    worst = ask(bees, "SELECT id FROM inspection WHERE hive_id = ? AND brood > ?", hive, brood - 1)
    assert f'href="/inspections/{worst[0][0]}"' in refused.text
    assert ask(bees, "SELECT frames FROM hive WHERE id = ?", hive)[0][0] >= brood
    assert bees.change(page, {**typed(bees, page), "frames": str(max(brood, 4))}).status_code == 303
    page = f"/inspections/{worst[0][0]}/edit"
    refused = bees.change(page, {**typed(bees, page), "brood": "24"})
    assert problem(refused.text, "brood") == "The hive has fewer frames than that"


def test_a_count_is_held_from_the_parent_and_from_the_child(bees: Application) -> None:
    apiary, open_hives = ask(
        bees,
        "SELECT apiary_id, count(*) FROM hive WHERE closed IS NULL GROUP BY 1 ORDER BY 2 DESC LIMIT 1",
    )[0]
    page = f"/apiaries/{apiary}/edit"
    said = "More hives stand here than it has room for"
    if open_hives > 1:
        refused = bees.change(page, {**typed(bees, page), "capacity": str(open_hives - 1)})
        assert problem(refused.text, "capacity") == said
    assert bees.change(page, {**typed(bees, page), "capacity": str(open_hives)}).status_code == 303
    new = typed(bees, "/hives/new") | {
        "code": "ZZ-0001",
        "apiary": str(apiary),
        "opened": "2024-05-01",
    }
    refused = bees.post("/hives/new", new)
    assert refused.status_code == 422 and said in html.unescape(refused.text)
    assert not ask(bees, "SELECT 1 FROM hive WHERE code = 'ZZ-0001'")
    closed = new | {"closed": "2024-06-01", "reason": "Sold"}
    assert bees.post("/hives/new", closed).status_code == 303
    page = "/hives/ZZ-0001/edit"
    refused = bees.change(page, {**typed(bees, page), "closed": "", "reason": ""})
    assert said in html.unescape(problem(refused.text, "closed") or refused.text)


def test_what_may_be_chosen_is_offered_and_accepted_alone(bees: Application) -> None:
    page = bees.client.get("/hives/new").text
    offered = set(
        map(
            int,
            re.findall(
                r'value="(\d+)"', re.search(r'name="queen".*?</select>', page, re.S).group()
            ),
        )
    )  # type: ignore[union-attr]
    free = {number for (number,) in ask(bees, "SELECT id FROM queen WHERE retired IS NULL")}
    assert offered == free
    retired = ask(bees, "SELECT id FROM queen WHERE retired IS NOT NULL")[0][0]
    answer = bees.post("/hives/new", typed(bees, "/hives/new") | {"queen": str(retired)})
    assert problem(answer.text, "queen")
    queen, code = ask(
        bees, "SELECT q.id, h.code FROM hive h JOIN queen q ON q.id = h.queen_id LIMIT 1"
    )[0]
    page_url = f"/queens/{queen}/edit"
    refused = bees.change(
        page_url, {**typed(bees, page_url), "retired": dt.date.today().isoformat()}
    )
    assert refused.status_code == 422 and f'href="/hives/{code}"' in refused.text


def test_computed_fields_come_with_the_row_and_sort(bees: Application) -> None:
    code, grams = ask(
        bees,
        "SELECT h.code, sum(kg) FROM hive h JOIN harvest v ON v.hive_id = h.id GROUP BY h.id ORDER BY 2 DESC LIMIT 1",
    )[0]
    shown = f"{grams / 10:.1f}"
    assert f"{shown}\xa0kg" in bees.client.get(f"/hives/{code}").text
    with bees.queries() as asked:
        listed = bees.client.get("/hives?_sort=-total_kg").text
    # What has no value comes by a query of its own.
    assert len([q for q in asked if 'FROM "hive"' in q]) <= 3
    first = re.search(r"<tbody>.*?</tr>", listed, re.S)
    assert first and code in first.group() and shown in first.group()
    assert "Honey so far (kg)" in listed


def test_many_to_many_from_both_sides(bees: Application) -> None:
    page = "/inspections/1/edit"
    answer = bees.change(page, {**typed(bees, page), "findings": "2 4"})
    assert answer.status_code == 303
    assert {
        f
        for (f,) in ask(bees, "SELECT finding_id FROM inspection_findings WHERE inspection_id = 1")
    } == {2, 4}
    assert "Chalk brood" in bees.client.get("/inspections/1").text
    assert 'href="/inspections/1"' in bees.client.get("/findings/2").text
    assert 'value="2" checked' in bees.client.get(bees.form_of(page)).text
    assert bees.change(page, {**typed(bees, page), "findings": "2 99"}).status_code == 422


def test_fixed_rows_are_there_once(bees: Application) -> None:
    names = [name for (name,) in ask(bees, "SELECT name FROM finding ORDER BY id")]
    assert names == ["Varroa mites", "Chalk brood", "Foul brood signs", "Wax moth", "Queen cells"]


def test_a_list_of_parts_is_entered_and_shown(bees: Application) -> None:
    code = ask(bees, "SELECT code FROM hive WHERE closed IS NULL LIMIT 1")[0][0]
    page = f"/hives/{code}/edit"
    plain = {k: v for k, v in typed(bees, page).items() if not k.startswith("layout-")}
    frames = {
        "layout-0-position": "3",
        "layout-0-comb": "empty",
        "layout-0-brood": "yes",
        "layout-5-position": "4",
        "layout-5-comb": "drawn",
    }
    assert bees.change(page, plain | frames).status_code == 303
    stored = ask(bees, "SELECT layout FROM hive WHERE code = ?", code)[0][0]
    assert (
        stored
        == '[{"position": 3, "comb": "empty", "brood": true}, {"position": 4, "comb": "drawn", "brood": null}]'
    )
    assert re.search(
        r"<td>3</td>\s*<td>Empty</td>\s*<td>Yes</td>", bees.client.get(f"/hives/{code}").text
    )
    wrong = bees.change(page, plain | frames | {"layout-5-position": "40"})
    assert problem(wrong.text, "layout") == "2. Position: Between 1 and 24, please."
    assert 'value="40"' in wrong.text


def _send(app: Application, path: str, fields: dict[str, Any]) -> Any:
    with app.client.session_transaction() as kept:
        kept["token"] = "test"
    return app.client.post(
        path, data={**fields, "_token": "test"}, content_type="multipart/form-data"
    )


def test_an_upload_is_told_by_its_bytes_and_kept_while_a_form_is_mended(bees: Application) -> None:
    code = ask(bees, "SELECT code FROM hive WHERE closed IS NULL LIMIT 1")[0][0]
    page = f"/hives/{code}/edit"
    plain = typed(bees, page) | {
        "_seen": re.search(r'name="_seen" value="([^"]*)"', bees.client.get(page).text).group(1)
    }  # type: ignore[union-attr]
    fake = _send(bees, page, plain | {"photo": (io.BytesIO(b"<script>"), "x.png")})
    assert "no image" in problem(fake.text, "photo")
    large = _send(bees, page, plain | {"photo": (io.BytesIO(PNG + b"0" * 4_000_001), "x.png")})
    assert "At most 4 MB" in problem(large.text, "photo")
    failed = _send(
        bees, page, plain | {"frames": "99", "photo": (io.BytesIO(PNG), "../../hive.png")}
    )
    note = re.search(r'name="photo" value="([^"]+)"', failed.text)
    assert failed.status_code == 422 and note
    assert _send(bees, page, plain | {"photo": note.group(1)}).status_code == 303
    link = re.search(r'<img src="([^"]+)" alt="hive.png"', bees.client.get(f"/hives/{code}").text)
    assert link
    answer = bees.client.get(link.group(1))
    assert (
        answer.data == PNG
        and answer.mimetype == "image/png"
        and "sandbox" in answer.headers["Content-Security-Policy"]
    )
    seen = re.search(r'name="_seen" value="([^"]*)"', bees.client.get(page).text)
    assert seen
    made_up = _send(bees, page, plain | {"_seen": seen.group(1), "photo": "forged.note"})
    assert problem(made_up.text, "photo") == "Choose the file again."
    assert (
        _send(bees, page, plain | {"_seen": seen.group(1), "photo-remove": "yes"}).status_code
        == 303
    )
    assert ask(bees, "SELECT photo FROM hive WHERE code = ?", code) == [(None,)]
    assert bees.client.get("/files/../../settings.py").status_code == 404


def test_what_belongs_together_is_unique_together(bees: Application) -> None:
    hive, taken = ask(bees, "SELECT hive_id, taken FROM harvest LIMIT 1")[0]
    answer = bees.post("/harvests/new", {"hive": str(hive), "taken": taken, "kg": "3.5"})
    assert "That day's harvest is already entered" in html.unescape(answer.text)


def test_removal_goes_to_the_bin_and_history_is_kept(bees: Application) -> None:
    new = typed(bees, "/hives/new") | {
        "code": "YY-0007",
        "apiary": _roomy(bees),
        "opened": "2024-05-01",
    }
    assert bees.post("/hives/new", new).status_code == 303
    page = "/hives/YY-0007/edit"
    assert (
        bees.change(page, {**typed(bees, page), "kind": "long", "frames": "20"}).status_code == 303
    )
    shown = bees.client.get("/hives/YY-0007?_tab=its-history").text
    assert (
        re.search(r"Kind: <del>National</del> <ins>Long</ins>", shown)
        and "<del>11</del> <ins>20</ins>" in shown
    )
    (visited,) = ask(bees, "SELECT hive_id FROM inspection LIMIT 1")[0]
    (code,) = ask(bees, "SELECT code FROM hive WHERE id = ?", visited)[0]
    asked = bees.client.get(f"/hives/{code}/remove").text
    assert "out of sight as long as it lies there" in asked and "removed with it" not in asked
    assert bees.post("/hives/YY-0007/remove", {}).status_code == 303
    assert bees.client.get("/hives/YY-0007").status_code == 410
    assert "YY-0007" not in bees.client.get("/hives?_sort=-code").text
    # What lies in the bin is counted nowhere, and can't be chosen.
    counted = ask(
        bees, "SELECT count(*) FROM hive WHERE removed_at IS NULL AND apiary_id = ?", new["apiary"]
    )[0][0]
    with bees.flask.app_context():
        keeper = bees.row_class(bees.schema.models["Keeper"])
        apiary = bees.row_class(bees.schema.models["Apiary"])
        session = bees.module("kit.database").session()
        owner = session.get(apiary, int(new["apiary"])).keeper_id
        of_keeper = ask(
            bees,
            "SELECT count(*) FROM hive h JOIN apiary a ON a.id = h.apiary_id WHERE a.keeper_id = ? AND h.removed_at IS NULL",
            owner,
        )[0][0]
        assert session.get(keeper, owner).hive_count == of_keeper >= counted
    gone = ask(bees, "SELECT id FROM hive WHERE code = 'YY-0007'")[0][0]
    chosen = typed(bees, "/inspections/new") | {"hive": str(gone)}
    assert bees.post("/inspections/new", chosen).status_code == 410
    assert ask(
        bees, "SELECT count(*) FROM hive WHERE code = 'YY-0007' AND removed_at IS NOT NULL"
    ) == [(1,)]
    listed = bees.client.get("/hives/bin").text
    number = ask(bees, "SELECT id FROM hive WHERE code = 'YY-0007'")[0][0]
    assert "YY-0007" in listed and f'name="_row" value="{number}"' in listed
    assert bees.post("/hives/bin", {"_do": "restore", "_row": str(number)}).status_code == 303
    assert bees.client.get("/hives/YY-0007").status_code == 200
    assert bees.post("/hives/YY-0007/remove", {}).status_code == 303
    # Unique among those that are not in the bin: the code is free again.
    assert bees.post("/hives/new", new).status_code == 303
    assert "can't be brought back" in html.unescape(
        bees.post("/hives/bin", {"_do": "restore", "_row": str(number)}).text
    )
    assert bees.post("/hives/bin", {"_do": "restore", "row": "999999"}).status_code == 404
    made, changed = ask(
        bees,
        "SELECT created_at, updated_at FROM hive WHERE code = 'YY-0007' AND removed_at IS NULL",
    )[0]
    assert made and changed >= made


def _roomy(app: Application) -> str:
    """An apiary with room for more hives."""
    query = "SELECT a.id FROM apiary a WHERE capacity > 3 + (SELECT count(*) FROM hive WHERE apiary_id = a.id) LIMIT 1"
    return str(ask(app, query)[0][0])


def test_nobody_becomes_their_own_ancestor(bees: Application) -> None:
    for number, mentor in ((1, ""), (2, "1"), (3, "2")):
        page = f"/keepers/{number}/edit"
        assert bees.change(page, {**typed(bees, page), "mentor": mentor}).status_code == 303
    refused = bees.change("/keepers/1/edit", {**typed(bees, "/keepers/1/edit"), "mentor": "3"})
    assert problem(refused.text, "mentor") == "This would make it its own ancestor."


OTHERS = """\
values Size
    small "Small one"
    large

part Note
    said    text 40, required
    on_day  date ..today

model Shop "Where honey is sold"
    title       text 2..60, required, unique, stored as "shop_title"
    word        slug from title
    code        text 4..4, required, unique, fixed, matches "[A-Z]{4}"
    token       uuid
    secret      text 20, internal, default "hidden"
    site        url
    call        phone
    opens       time 06:00..12:00
    size        one of Size, default small, as select
    about       text 90, as area
    tags        list of text 12
    notes       list of Note
    deal        file up to 1 KB of txt
    price       decimal 0.00..99.99, between 1 and 50
    worth       decimal = price * 2 + 0.5, unit "€"
    wide_name   text = upper(title) || "!"
    sales       <- Sale.shop
    address word
    stored as "shops"
    menu "Trade"
    index size, opens

model Sale
    shop        -> Shop, required, owned
    helper      -> Person
    sold        date ..today, required
    pages list, new, view
    shown as "{sold}"
    list sold, shop.title, helper.mail

model Person
    mail        email, required, unique
    name        text 2..40, required
    boss        -> Person
    key mail
    pages list, view, new, edit, remove
    menu none

model Log
    what        text 40
    pages none

seed
    6 Shop
    8 Sale
    5 Person
    3 Log
"""


@pytest.fixture(scope="module")
def shops() -> Any:
    with application(OTHERS) as app:
        yield app


def test_every_type_is_entered_and_kept(shops: Application) -> None:
    new = typed(shops, "/shops/new")
    assert "secret" not in new and "token" not in new and new["size"] == "small"
    values = {"title": "Böhm & Söhne", "code": "ABCD", "site": "https://example.org/a?b", "call": "+44 1632 960123",
              "opens": "07:30", "about": "Two\nlines", "tags": "one\n\n two ", "price": "3.20",
              "notes-0-said": "Good", "notes-0-on_day": "2024-02-29"}  # fmt: skip
    made = shops.post("/shops/new", new | values)
    assert made.status_code == 303 and made.location.endswith("/shops/bohm-sohne")
    page = html.unescape(shops.client.get("/shops/bohm-sohne").text)
    for text in (
        "07:30",
        "one, two",
        "6.90\xa0€",
        "BöHM & SöHNE!",
        "Small one",
        "Good",
        "2024-02-29",
    ):
        assert text in page, text
    (row,) = ask(
        shops, "SELECT shop_title, word, length(token), secret, tags FROM shops WHERE code = 'ABCD'"
    )
    assert row == ("Böhm & Söhne", "bohm-sohne", 32, "hidden", '["one", "two"]')
    assert shops.post(
        "/shops/new", new | values | {"title": "Bohm Sohne", "code": "ABCE"}
    ).location.endswith("bohm-sohne-2")
    for field, value in (
        ("site", "javascript:1"),
        ("call", "ring"),
        ("opens", "13:00"),
        ("price", "0.5"),
        ("word", "A b"),
        ("tags", "x" * 13),
    ):
        answer = shops.post(
            "/shops/new", new | values | {"title": "Other", "code": "QQQQ", field: value}
        )
        assert problem(answer.text, field), field


def test_fixed_and_internal_fields_are_never_changed_by_a_request(shops: Application) -> None:
    ((word, before),) = ask(shops, "SELECT word, code FROM shops LIMIT 1")
    page = f"/shops/{word}/edit"
    assert 'name="code"' not in shops.client.get(page).text
    sent = typed(shops, page) | {"code": "WXYZ", "secret": "told", "token": "0" * 32}
    assert shops.change(page, sent).status_code == 303
    assert ask(shops, "SELECT secret != 'told' FROM shops WHERE code = ?", before) == [(1,)]


def test_only_the_declared_pages_are_there(shops: Application) -> None:
    assert shops.client.get("/sales/1").status_code == 200
    assert shops.client.get("/sales/1/edit").status_code == 404
    assert shops.client.get("/logs").status_code == 404
    start = shops.client.get("/").text
    assert (
        "Trade" in start
        and "/people" not in start
        and shops.client.get("/people").status_code == 200
    )
    assert ask(shops, "SELECT count(*) FROM log") == [(3,)]


def test_a_field_can_be_the_key(shops: Application) -> None:
    new = {"mail": "a@example.org", "name": "Ada", "boss": ""}
    assert shops.post("/people/new", new).location.endswith("/people/a@example.org")
    assert (
        shops.post(
            "/people/new", new | {"mail": "b@example.org", "boss": "a@example.org"}
        ).status_code
        == 303
    )
    assert shops.post("/people/new", new).status_code == 422
    assert 'href="/people/a%40example.org"' in shops.client.get("/people/b@example.org").text
    assert ask(shops, "SELECT boss_id FROM person WHERE mail = 'b@example.org'") == [
        ("a@example.org",)
    ]
    page = "/people/a@example.org/remove"
    assert "can't be removed" in shops.client.get(page).text.replace("&#39;", "'")
    shown = shops.client.get("/sales").text
    assert "@" in shown or "—" in shown


def test_a_column_of_a_list_may_lie_across_relations(shops: Application) -> None:
    titles = {title for (title,) in ask(shops, "SELECT shop_title FROM shops")}
    page = html.unescape(shops.client.get("/sales?_sort=-shop.title").text)
    cells = re.findall(r'data-label="Title">([^<]*)<', page)
    assert cells and set(cells) <= titles and cells == sorted(cells, reverse=True)


TAGGED = """\
model Visit
    day     date, required
    marks   <-> Mark
    rule count(marks where heavy) < 2, say "One heavy mark is enough"
model Mark
    name    text 9, required, unique
    heavy   boolean, required
    visits  <-> Visit.marks
seed
    1 Visit
"""


def test_a_rule_over_many_to_many_is_held_from_both_sides() -> None:
    with application(TAGGED) as app:
        for name in ("a", "b", "c"):
            assert (
                app.post(
                    "/marks/new", {"name": name, "heavy": "yes" if name == "a" else ""}
                ).status_code
                == 303
            )
        assert (
            app.change(
                "/visits/1/edit", {**typed(app, "/visits/1/edit"), "marks": "1 2"}
            ).status_code
            == 303
        )
        refused = app.change("/marks/2/edit", {"name": "b", "heavy": "yes"})
        assert refused.status_code == 422 and "One heavy mark is enough" in refused.text
        assert 'href="/visits/1"' in refused.text
        assert app.change("/marks/3/edit", {"name": "c", "heavy": "yes"}).status_code == 303
        both = {**typed(app, "/visits/1/edit"), "marks": "1 3"}
        assert "One heavy mark is enough" in app.change("/visits/1/edit", both).text
