"""Requests that cost far more than they look, on every database: answered within bounds, and never by a 500."""

from __future__ import annotations

import base64
import json
import resource
from collections.abc import Iterator
from io import BytesIO
from typing import Any

import pytest
from loaded import Application, application, ask
from servers import WORDS

SHOP = """\
part Step
    note    text 40
    kind    one of low | high, required

model Item
    title   text, required
    code    text 4..4, required, unique, fixed
    about   text
    kind    one of low | high
    price   decimal 0.00..99999.99
    exact   decimal 0..9.999999999999
    span    duration
    clock   time
    day     date
    at      datetime
    site    url
    licence file up to 20 MB
    steps   list of Step
    owner   -> Owner
    tags    <-> Tag
    keep history, bin
    shown as "{title}"
    list title, owner.name, kind, about
    sort title
    filter kind, owner, tags, price, day, at, span, clock, title
    search title, about

model Owner "=cmd"
    name    text 40, required, unique
    label   text 40, label "=HYPERLINK(1)"
    items   <- Item.owner

model Tag
    name    text 1..20, required
    items   <-> Item.tags

model Place
    mark    text 3..8, required, unique
    key mark
    keep bin

seed
    9 Item
    5 Owner
    20 Tag
    3 Place
"""
SECONDS, MEGABYTES, BYTES = 1.0, 100, 5_000_000
LARGE = 1_000_000


@pytest.fixture(scope="module", params=WORDS)
def app(request: pytest.FixtureRequest) -> Iterator[Application]:
    with application(SHOP, on=request.param) as app:
        app.flask.config["PROPAGATE_EXCEPTIONS"] = False
        with app.client.session_transaction() as kept:
            kept["token"] = "test"
        yield app


def asked(app: Application, method: str, path: str, **sent: Any) -> Any:
    """An answer within bounds of the site's processor time, memory and bytes, and no failure."""
    before = resource.getrusage(resource.RUSAGE_SELF)
    answer = app.client.open(path, method=method, **sent)
    size = len(answer.get_data())
    after = resource.getrusage(resource.RUSAGE_SELF)
    cost = after.ru_utime - before.ru_utime, (after.ru_maxrss - before.ru_maxrss) // 1024, size
    said = (method, path[:200], answer.status_code, cost)
    assert answer.status_code < 500, (*said, answer.text[:2_000])
    assert cost[0] < SECONDS and cost[1] < MEGABYTES and cost[2] < BYTES, said
    return answer


def token(*values: Any) -> str:
    return base64.urlsafe_b64encode(json.dumps(values).encode()).decode().rstrip("=")


def raw(text: str) -> str:
    return base64.urlsafe_b64encode(text.encode("utf-8", "surrogatepass")).decode().rstrip("=")


FILTERS = [
    *("kind=,", "kind=%22%22", "owner=,", "owner=%22%22", "tags=,", "tags=-,-", "title=%0a", "title=%00"),
    *("title=a%00b", "title=%E2%80%AE", "span=999999:59", "span=..999999:59", "span=-999999:59", "clock=12:00Z"),
    *("clock=12:00%2B02:00", "day=0001-01-01", "day=9999-12-31", "at=0001-01-01", "at=9999-12-31T23:59"),
    *("at=0001-01-01T00:00..9999-12-31", "day=today%20-%20999999%20days", "price=9223372036854775807"),
    *("price=1e30", "owner=9223372036854775807", "owner=99999999999999999999", "tags=2147483648", "kind=-"),
    *("owner=-", "tags=-", "title=-", "owner=1,-", "tags=1,-", "_sort=title&_after=" + raw("[" * 3_000)),
    *("_sort=title&_after=" + raw('[2,"\\ud800",1]'), "_sort=title&_after=" + token(2, "a\0b", 1)),
    *("_sort=at&_after=" + token(2, "0001-01-01T00:00:00", 1), "_sort=at&_after=" + token(2, "9999-12-31T23:59:59", 1)),
    *("_sort=kind&_after=" + token(2, "low", 2**62), "_sort=title&_after=" + token(2, "x", 2**40)),
    *("_search=%00", "_search=" + "%25" * 400, "_search=%F0%9F%90%9D", "_columns=%00", "_chosen=all", "_all=%00"),
    *("_size=99999999999", "_as=tree", "tags=" + ",".join("123" * 80), "tags=" + ",".join(map(str, range(120)))),
]  # fmt: skip


@pytest.mark.parametrize("query", FILTERS)
def test_no_filter_breaks_a_list(app: Application, query: str) -> None:
    for path in ("/items", "/items/chosen"):
        assert asked(app, "GET", f"{path}?{query}").status_code in (200, 303, 302), query
    asked(app, "GET", f"/items?{query}&_as=csv")


@pytest.mark.parametrize(
    "header", ["http://[", "http://]x", "//[", "\x7f", "a" * 60_000, "http://x/?_search=%"]
)
def test_no_header_breaks_a_page(app: Application, header: str) -> None:
    for name in (
        "HX-Current-URL",
        "Referer",
        "Accept-Language",
        "HX-Request",
        "Range",
        "If-None-Match",
    ):
        asked(app, "GET", "/items?_search=a", headers={name: header})


DIGEST = "0" * 64
ADDRESSES = [
    *("/items/99999999999999999999", "/items/9223372036854775807", "/items/2147483648", "/items/%00"),
    *("/items/99999999999999999999/edit", "/places/%00", "/places/a%00b/edit", "/places/" + "x" * 9_000),
    *(f"/files/{DIGEST}/txt/%00", f"/files/{DIGEST}/txt/a%0d%0ab", "/files/%00/txt/a", "/places/%ED%A0%80"),
    *("/items/new?_copy=9223372036854775808", "/items/new?owner=9223372036854775807", "/items/1/edit?_version=" + "9" * 15),
    *("/items/new?_draft=%00", "/items/new?_return=/[", "/items/chosen?_rows=" + "9" * 7_000, "/look/%00"),
]  # fmt: skip


@pytest.mark.parametrize("path", ADDRESSES)
def test_no_address_breaks_the_site(app: Application, path: str) -> None:
    assert asked(app, "GET", path).status_code in (200, 303, 404, 400)


def typed(**more: Any) -> dict[str, Any]:
    return {"title": "x", "code": "AAAA", "_token": "test", **more}


WHOLE = {
    "empty": "[" + ",".join(["{}"] * 20_000) + "]",
    "wide": json.dumps([{f"n{n}": "x" for n in range(5_000)}]),
    "deep": "[" * 100_000,
    "long": json.dumps([{"note": "x" * 900_000, "kind": "low"}]),
    "nested": json.dumps([{"note": ["x"] * 50_000}] * 3),
}


@pytest.mark.parametrize("name", WHOLE)
@pytest.mark.parametrize("secret", ["test", "another", ""])
def test_a_list_sent_whole_costs_little(app: Application, name: str, secret: str) -> None:
    answer = asked(app, "POST", "/items/new", data=typed(steps=WHOLE[name], _token=secret))
    assert answer.status_code in (403, 413, 422)
    for part in ("more:steps", "check:steps", "look:steps"):
        asked(app, "POST", "/items/new", data=typed(steps=WHOLE[name], _token=secret, _part=part))


@pytest.mark.parametrize(
    "name", ["tags", "owner", "_row", "_rows", "title", "kind", "at", "span", "price"]
)
@pytest.mark.parametrize("separator", [" ", ",", "\n", '"', ""])
def test_very_many_ids_in_one_value_cost_little(
    app: Application, name: str, separator: str
) -> None:
    value = separator.join(str(n) for n in range(20_000))
    for path in ("/items/new", "/items/chosen"):
        for more in ({}, {"_part": f"find:{name}"}, {"_do": "set", "_field": name}):
            with app.queries() as queries:
                answer = asked(app, "POST", path, data=typed(**{name: value}, **more))
            assert answer.status_code != 500 and len(queries) < 120, (path, more, len(queries))


def test_a_number_with_very_many_digits_is_no_failure(app: Application) -> None:
    for text in ("1" * 20, "0." + "1" * 20, "9" * 20 + "." + "9" * 20, "1e400"):
        for name in ("price", "exact"):
            assert asked(app, "POST", "/items/new", data=typed(**{name: text})).status_code == 422


def test_a_chunked_form_is_whole_or_refused(app: Application) -> None:
    def chunked(body: bytes, kind: str) -> Any:
        environment = {"wsgi.input_terminated": True, "HTTP_TRANSFER_ENCODING": "chunked"}
        return asked(app, "POST", "/items/new", input_stream=BytesIO(body), content_type=kind, environ_overrides=environment)  # fmt: skip

    before = ask(app, 'SELECT count(*) FROM "item"')
    head = b"_token=test&title=cut&code=CUTT&about="
    answer = chunked(head + b"x" * 2 * LARGE, "application/x-www-form-urlencoded")
    assert answer.status_code == 413
    parts = b"".join(
        b'--b\r\nContent-Disposition: form-data; name="%s"\r\n\r\n%s\r\n' % pair
        for pair in (
            (b"_token", b"test"),
            (b"title", b"cut"),
            (b"code", b"CUTT"),
            (b"about", b"x" * 2 * LARGE),
        )
    )
    assert chunked(parts + b"--b--\r\n", "multipart/form-data; boundary=b").status_code == 413
    assert ask(app, 'SELECT count(*) FROM "item"') == before
    whole = chunked(b"_token=test&title=cut&code=CUTT", "application/x-www-form-urlencoded")
    assert whole.status_code == 303


def test_an_upload_without_the_secret_is_never_kept(app: Application) -> None:
    def waiting() -> int:
        return sum(path.is_file() for path in (app.root / "instance").rglob("files/waiting/*/*"))

    before = waiting()
    for secret in ("another", ""):
        data = typed(_token=secret, licence=(BytesIO(b"x" * 10_000), "a.txt"))
        assert asked(app, "POST", "/items/new", data=data).status_code == 403
    other = app.flask.test_client()
    sent = {"licence": (BytesIO(b"x" * 10_000), "a.txt"), "_token": "test"}
    assert other.post("/items/new", data=sent).status_code == 403
    assert waiting() == before


def test_a_key_of_a_row_in_the_bin_is_taken(app: Application) -> None:
    assert app.post("/places/new", {"mark": "gone"}).status_code == 303
    assert app.agree("/places/gone/remove").status_code == 303
    answer = app.post("/places/new", {"mark": "gone"})
    assert answer.status_code == 422 and "taken already" in answer.text


def test_what_is_fixed_is_not_undone(app: Application) -> None:
    app.post("/items/new", {"title": "fixed", "code": "FIXD"})
    for (moment,) in app.run('SELECT "changed_at" FROM "item_history"'):
        for at in (str(moment), f"{moment}+00:00"):
            asked(app, "POST", "/items/chosen", data={"_do": "undo", "_at": at, "_token": "test"})
    assert ask(app, """SELECT count(*) FROM "item" WHERE "code" = 'FIXD'""") == 1


def test_a_table_to_save_runs_nothing(app: Application) -> None:
    app.post("/owners/new", {"name": "=1+cmd"})
    key = ask(app, """SELECT max("id") FROM "owner" """)
    app.post("/items/new", {"title": "sold", "code": "SOLD", "owner": str(key)})
    text = app.client.get("/items?_as=csv&_columns=*").text
    assert "'=1+cmd" in text and ",=1+cmd" not in text
    heading = app.client.get("/owners?_as=csv&_columns=*").text
    assert "'=HYPERLINK(1)" in heading and ",=HYPERLINK" not in heading


@pytest.fixture(scope="module")
def full(app: Application) -> Application:
    """The same site with a hundred texts of a megabyte each, and changes of them."""
    values = ", ".join(f"""('{"y" * 50} {n}', 'L{n:03}')""" for n in range(100))
    app.run(f'INSERT INTO "item" ("title", "code") VALUES {values}')
    repeated = {"sqlite": "replace(hex(zeroblob(500000)), '0', 'a')"}.get(
        app.address.split(":")[0], "repeat('a', 1000000)"
    )
    app.run(f"""UPDATE "item" SET "about" = {repeated} WHERE "code" LIKE 'L0%' """)
    app.run(f"""UPDATE "item" SET "title" = {repeated} WHERE "code" LIKE 'L01%' """)
    return app


@pytest.mark.parametrize(
    "path",
    [
        *("/items?_size=100", "/items?_size=200&_sort=-title", "/items?_columns=*&_size=200", "/items?_as=tree"),
        *("/items/new", "/items/chosen?_do=remove&_row=20&_row=21&_row=22", "/", "/?_search=aaa", "/tags/1", "/owners/1"),
        *("/items/chosen?_do=compare&_row=20&_row=21&_row=22", "/items/bin", "/items?title=aaaa&_size=100"),
        "/items/chosen?_do=set&_field=kind&_all=%3F_size%3D200",
    ],
)  # fmt: skip
def test_long_texts_are_shortened_where_several_stand(full: Application, path: str) -> None:
    assert asked(full, "GET", path).status_code in (200, 303, 404)


def test_a_list_of_long_texts_is_paged_to_its_end(full: Application) -> None:
    import re

    seen, path = set(), "/items?_size=25&_sort=title"
    for _ in range(20):
        page = asked(full, "GET", path).text
        seen |= set(re.findall(r'name="_row" value="(\d+)"', page))
        further = re.search(r'rel="next" href="([^"]*)"', page)
        if not further:
            break
        assert len(further[1]) < 2_000
        path = "/items" + further[1].replace("&amp;", "&")
    assert len(seen) == ask(full, 'SELECT count(*) FROM "item" WHERE "removed_at" IS NULL')


def test_changes_of_long_texts_are_told_in_brief(full: Application) -> None:
    key = ask(full, """SELECT min("id") FROM "item" WHERE "code" LIKE 'L00%' """)
    for n in range(6):
        answer = full.change(f"/items/{key}/edit", {"title": f"t{n}", "about": f"{n}" * 900_000})
        assert answer.status_code == 303
    assert len(asked(full, "GET", f"/items/{key}?_tab=its-history").get_data()) < 2 * LARGE


def test_a_link_of_others_runs_nothing(app: Application) -> None:
    app.run("""UPDATE "item" SET "site" = 'javascript:alert(1)' WHERE "id" = 1""")
    page = app.client.get("/items/1").text
    assert 'href="javascript:' not in page and "javascript:alert(1)" in page
    app.run("""UPDATE "item" SET "site" = 'https://example.org' WHERE "id" = 1""")
    assert 'href="https://example.org"' in app.client.get("/items/1").text


def test_relations_of_very_many_rows_are_not_set_at_once(full: Application) -> None:
    full.run(*(f"""INSERT INTO "tag" ("name") VALUES ('more {n}')""" for n in range(60)))
    sent = {
        "_row": [str(number) for (number,) in full.run('SELECT "id" FROM "item"')],
        "tags": [str(number) for (number,) in full.run('SELECT "id" FROM "tag"')],
        **{"_do": "set", "_field": "tags", "_sure": "1", "_token": "test"},
    }
    assert asked(full, "POST", "/items/chosen", data=sent).status_code == 303
    assert "relations are set at once" in full.client.get("/items").text
