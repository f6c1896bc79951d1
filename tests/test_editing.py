"""Forms of the generated application while they are filled in: parts, leaving and coming back,
two people at once, several rows at once, and what belongs to a row."""

from __future__ import annotations

import html
import re
import sqlite3
from collections.abc import Iterator
from concurrent.futures import ThreadPoolExecutor
from typing import Any

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application, ask

CLUB = """\
model Member
    name    text 2..40, required, unique
    guide   -> Member, on removal clear
    pupils  <- Member.guide, sorted by name
    boxes   <- Box.member, sorted by code
    shown as "{name}"

part Slot
    place   integer 1..9, required
    full    boolean, default no

model Box
    code    text 4..4, required, unique, matches "[A-Z]{2}[0-9]{2}"
    member  -> Member, required
    second  -> Member, on removal clear
    room    integer 1..24, required, default 11
    used    integer 0..24, required, default 0
    begun   date 2020-01-01..today
    note    text 200
    slots   list of Slot
    tags    <-> Tag
    visits  <- Visit.box, sorted by -day
    address code
    keep bin, history
    rule used <= room, say "There is not that much room", at used

model Tag
    name    text 2..20, required, unique
    boxes   <-> Box.tags

model Visit
    box     -> Box, required, owned
    day     date 2020-01-01..today, required
    rule count(box.visits) <= 100
seed
    60 Member
    30 Box
    20 Tag
    40 Visit
""".replace("    rule count(box.visits) <= 100\n", "")
BOX = {"code": "ZZ99", "member": "1", "room": "12", "used": "3"}


@pytest.fixture
def app() -> Iterator[Application]:
    with application(CLUB) as app:
        yield app


@pytest.fixture(scope="module")
def club() -> Iterator[Application]:
    """For many examples, each of which begins by setting the first row anew."""
    with application(CLUB, 3) as app:
        yield app


def hidden(page: str) -> dict[str, str]:
    """The hidden fields of a form that tell when it was opened, and who by."""
    found = re.findall(r'type="hidden" name="(_\w+)" value="([^"]*)"', page)
    return {name: html.unescape(value) for name, value in found}


def problems(page: str) -> dict[str, str]:
    return dict(re.findall(r'id="([\w-]+)-problem"[^>]*>([^<]+)<', page))


def first(app: Application) -> str:
    return str(ask(app, "SELECT code FROM box ORDER BY id LIMIT 1"))


def test_a_field_is_checked_as_one_types_by_the_same_code(app: Application) -> None:
    """What a partial check says of a field is what saving says of it; it stores nothing."""
    before = ask(app, "SELECT count(*) FROM box")
    for name, text in (("code", "abc"), ("room", "99"), ("begun", "2999-01-01"), ("used", "20")):
        sent = {**BOX, "code": "", name: text}
        whole = problems(app.post("/boxes/new", {**BOX, name: text}).text)
        part = app.post("/boxes/new", {**sent, "_part": f"check:{name}"})
        assert part.status_code == 200
        assert problems(part.text) == {name: whole[name]}
    fine = app.post("/boxes/new", {**BOX, "_part": "check:code"})
    assert problems(fine.text) == {} and ask(app, "SELECT count(*) FROM box") == before
    taken = app.post("/boxes/new", {**BOX, "code": first(app), "_part": "check:code"})
    assert "taken already" in problems(taken.text)["code"]


def test_many_rows_are_found_by_a_part_of_their_name_and_the_form_stays(app: Application) -> None:
    page = app.client.get("/boxes/new").text
    assert 'id="member-find"' in page and "<option" not in page.split('id="second-field"')[0]
    name, key = ask(app, "SELECT name FROM member WHERE id = 7"), "7"
    found = app.post(
        "/boxes/new",
        {**BOX, "member": "3", "member-find": name[:4].upper(), "_part": "find:member"},
    )
    assert found.status_code == 200 and problems(found.text) == {}
    offered = found.text.split('id="member-found"')[1].split("</fieldset>")[0]
    assert f'value="{key}"' in offered and re.search(r'value="3" checked', offered)
    assert 'name="code" type="text" value="ZZ99"' in found.text
    # What can't be chosen by typing can't be chosen by sending.
    assert "member" in problems(app.post("/boxes/new", {**BOX, "member": "999"}).text)


def test_a_long_list_of_many_is_searched_and_what_is_ticked_stays(app: Application) -> None:
    code, name = first(app), ask(app, "SELECT name FROM tag WHERE id = 9")
    page = app.client.get(f"/boxes/{code}/edit").text
    assert 'id="tags-find"' in page
    sent = {**BOX, "code": code, "tags": "4", "tags-find": name[:5], "_part": "find:tags"}
    found = (
        app.post(f"/boxes/{code}/edit", sent)
        .text.split('id="tags-found"')[1]
        .split("</fieldset>")[0]
    )
    assert re.search(r'type="checkbox" name="tags" value="4" checked', found)
    assert re.search(r'type="checkbox" name="tags" value="9"(?! checked)', found)


def test_entries_are_added_and_taken_out_one_by_one(app: Application) -> None:
    sent = {**BOX, "slots-0-place": "1", "slots-1-place": "2", "slots-1-full": "yes"}
    more = app.post("/boxes/new", {**sent, "_part": "more:slots"}).text
    assert [f'name="slots-{n}-place"' in more for n in range(5)] == [True] * 3 + [False] * 2
    assert 'name="slots-1-place" type="number" value="2"' in more
    made = app.post("/boxes/new", {**sent, "slots-0-_remove": "yes"})
    assert made.status_code == 303
    assert ask(app, "SELECT slots FROM box WHERE code = 'ZZ99'") == '[{"place": 2, "full": true}]'


def test_a_related_row_is_made_without_losing_the_form(app: Application) -> None:
    sent = {**BOX, "note": "As it was", "slots-0-place": "4", "_part": "new:second"}
    left = app.post("/boxes/new", sent)
    assert left.status_code == 303 and left.location.startswith("/members/new?_return=")
    form = app.client.get(left.location)
    kept = hidden(form.text)
    made = app.post("/members/new", {**kept, "name": "Newly Come"})
    assert made.status_code == 303 and made.location.startswith("/boxes/new?_draft=")
    back = app.client.get(made.location).text
    new = ask(app, "SELECT id FROM member WHERE name = 'Newly Come'")
    assert re.search(rf'name="second" value="{new}" checked', back) and "Newly Come" in back
    assert 'value="As it was"' in back and 'name="slots-0-place" type="number" value="4"' in back
    # It is for this visitor alone.
    assert "As it was" not in app.flask.test_client().get(made.location).text


def test_forms_left_one_from_another_are_found_again_in_turn(app: Application) -> None:
    left = app.post("/boxes/new", {**BOX, "note": "First", "_part": "new:second"})
    form = hidden(app.client.get(left.location).text)
    deeper = app.post("/members/new", {**form, "name": "Second", "_part": "new:guide"})
    guide = hidden(app.client.get(deeper.location).text)
    back = app.post("/members/new", {**guide, "name": "Third"})
    page = app.client.get(back.location).text
    assert 'value="Second"' in page and "Third" in page
    guided = ask(app, "SELECT id FROM member WHERE name = 'Third'")
    made = app.post("/members/new", {**hidden(page), "name": "Second", "guide": str(guided)})
    whole = app.client.get(made.location).text
    assert made.location.startswith("/boxes/new?_draft=") and 'value="First"' in whole
    second = ask(app, "SELECT id FROM member WHERE name = 'Second'")
    assert re.search(rf'name="second" value="{second}" checked', whole)


def test_a_double_click_makes_one_row(app: Application) -> None:
    sent = {**hidden(app.client.get("/boxes/new").text), **BOX}
    with app.client.session_transaction() as kept:
        token = kept["token"]

    def click(_: int) -> Any:
        client = app.flask.test_client()
        with client.session_transaction() as own:
            own["token"] = token
        return client.post("/boxes/new", data={**sent, "_token": token})

    with ThreadPoolExecutor(4) as pool:
        answers = list(pool.map(click, range(4)))
    assert {(a.status_code, a.location) for a in answers} == {(303, "/boxes/ZZ99")}
    assert ask(app, "SELECT count(*) FROM box WHERE code = 'ZZ99'") == 1
    # A form that is opened anew makes another row, or says why not.
    again = app.post(
        "/boxes/new", {**BOX, "_once": hidden(app.client.get("/boxes/new").text)["_once"]}
    )
    assert again.status_code == 422


FIELDS = {
    "room": ("12", "15"),
    "used": ("1", "2"),
    "note": ("Mine", "Theirs"),
    "begun": ("2021-02-03", "2022-02-03"),
}


@given(
    st.sets(st.sampled_from(sorted(FIELDS)), min_size=1),
    st.sets(st.sampled_from(sorted(FIELDS)), min_size=1),
    st.sets(st.sampled_from(sorted(FIELDS))),
)
@settings(max_examples=25, phases=[Phase.explicit, Phase.reuse, Phase.generate])
def test_two_who_change_a_row_lose_neither_version(
    club: Application, mine: set[str], theirs: set[str], taken: set[str]
) -> None:
    """Whatever both changed: first nothing of either is lost, then what was chosen is stored."""
    app = club
    page = f"/boxes/{first(app)}/edit"
    with sqlite3.connect(app.root / "bees.db") as connection:
        connection.execute("UPDATE box SET room = 20, used = 0, note = 'Old', begun = '2020-05-05'")
    opened = hidden(app.client.get(page).text)
    start = {
        "code": first(app),
        "member": "1",
        "room": "20",
        "used": "0",
        "note": "Old",
        "begun": "2020-05-05",
    }
    assert app.change(page, start | {n: FIELDS[n][1] for n in theirs}).status_code == 303
    sent = start | {n: FIELDS[n][0] for n in mine}
    answer = app.post(page, {**opened, **sent})
    assert answer.status_code == 409
    shown = answer.text.split('class="versions"')[1].split("</table>")[0]
    labels = {n for n in FIELDS if f'scope="row">{n.title()}<' in shown}
    assert labels == theirs
    both = mine & theirs
    assert set(re.findall(r'name="_take" value="(\w+)"', shown)) == both
    stored = {n: ask(app, f"SELECT {n} FROM box ORDER BY id LIMIT 1") for n in FIELDS}
    assert {n: str(v) for n, v in stored.items()} == {
        n: FIELDS[n][1] if n in theirs else start[n] for n in FIELDS
    }
    # The form holds mine where I changed something, and theirs where only they did.
    merged = {
        n: FIELDS[n][0] if n in mine else FIELDS[n][1] if n in theirs else start[n] for n in FIELDS
    }
    for name, value in merged.items():
        assert re.search(rf'name="{name}" type="\w+" value="{value}"', answer.text), name
    chosen = taken & both
    again = {**hidden(answer.text), **start, **merged, "_take": next(iter(sorted(chosen)), "")}
    assert app.post(page, again).status_code == 303
    one = {next(iter(sorted(chosen)))} if chosen else set()
    for name in FIELDS:
        expected = FIELDS[name][1] if name in one else merged[name]
        assert str(ask(app, f"SELECT {name} FROM box ORDER BY id LIMIT 1")) == expected


def test_what_was_typed_for_a_row_that_is_gone_is_not_lost(app: Application) -> None:
    page = f"/boxes/{first(app)}/edit"
    opened = hidden(app.client.get(page).text)
    assert app.post(f"/boxes/{first(app)}/remove", {}).status_code == 303
    answer = app.post(page, {**opened, **BOX, "note": "A long <b>story</b>"})
    assert answer.status_code == 410 and "is in the bin" in answer.text
    assert "<dd>A long &lt;b&gt;story&lt;/b&gt;</dd>" in answer.text
    assert opened["_seen"] not in answer.text


def _chosen(app: Application, count: int = 3) -> dict[str, Any]:
    return {"_row": [str(n) for n in range(1, count + 1)]}


def test_several_rows_are_removed_after_a_page_that_says_so(app: Application) -> None:
    page = app.client.get("/boxes/chosen", query_string={**_chosen(app), "_do": "remove"})
    assert (
        page.status_code == 200 and "Remove 3 boxes?" in page.text and "into the bin" in page.text
    )
    assert ask(app, "SELECT count(*) FROM box WHERE removed_at IS NULL") == 30
    assert app.post("/boxes/chosen", {**_chosen(app), "_do": "remove"}).status_code == 303
    assert ask(app, "SELECT count(*) FROM box WHERE removed_at IS NOT NULL") == 3
    # Where something stands in the way nothing is removed.
    keeper = ask(app, "SELECT member_id FROM box WHERE removed_at IS NULL LIMIT 1")
    some = {"_row": [str(keeper), "60", "59"], "_do": "remove"}
    asked = app.client.get("/members/chosen", query_string=some)
    assert "can't be removed while these refer" in html.unescape(asked.text)
    before = ask(app, "SELECT count(*) FROM member")
    assert app.post("/members/chosen", some).status_code == 409
    assert ask(app, "SELECT count(*) FROM member") == before


def test_one_field_is_set_on_several_rows_or_on_none(app: Application) -> None:
    with sqlite3.connect(app.root / "bees.db") as connection:
        connection.execute("UPDATE box SET room = 20, used = 9 WHERE id < 4")
        connection.execute("UPDATE box SET used = 15 WHERE id = 2")
    sent = {**_chosen(app), "_do": "set", "_field": "room", "room": "10"}
    shown = app.post("/boxes/chosen", sent)
    assert shown.status_code == 422
    assert "1 of them can't have this" in html.unescape(shown.text)
    assert "There is not that much room" in shown.text
    assert app.post("/boxes/chosen", {**sent, "_sure": "yes"}).status_code == 422
    assert ask(app, "SELECT count(*) FROM box WHERE room = 10 AND id < 4") == 0
    rest = {**sent, "_row": ["1", "3"]}
    told = app.post("/boxes/chosen", rest)
    assert (
        told.status_code == 200
        and ask(app, "SELECT count(*) FROM box WHERE room = 10 AND id < 4") == 0
    )
    assert app.post("/boxes/chosen", {**rest, "_sure": "yes"}).status_code == 303
    assert ask(app, "SELECT count(*) FROM box WHERE room = 10 AND id IN (1, 3)") == 2
    assert (
        "<del>20</del> <ins>10</ins>"
        in app.client.get(f"/boxes/{first(app)}?_tab=its-history").text
    )
    for field in ("code", "slots", "id", "removed_at"):
        assert app.post("/boxes/chosen", {**rest, "_field": field}).status_code == 400


def test_the_bin_is_emptied_of_what_nothing_refers_to(app: Application) -> None:
    visited = {
        n
        for (n,) in sqlite3.connect(app.root / "bees.db").execute(
            "SELECT DISTINCT box_id FROM visit"
        )
    }
    app.post("/boxes/chosen", {**_chosen(app, 6), "_do": "remove"})
    asked = app.client.get("/boxes/bin?_do=empty").text
    count = ask(app, "SELECT count(*) FROM visit WHERE box_id < 7")
    assert "6 boxes" in asked and f"{count} visits" in asked
    code = first(app)
    gone = app.client.get(f"/boxes/{code}")
    assert gone.status_code == 410 and "in the bin" in gone.text
    assert app.post("/boxes/bin", {"_do": "empty"}).status_code == 409
    assert app.agree("/boxes/bin", {"_do": "empty"}).status_code == 303
    assert ask(app, "SELECT count(*) FROM box") == 24
    assert ask(app, "SELECT count(*) FROM visit WHERE box_id < 7") == 0 != len(visited)
    assert app.client.get(f"/boxes/{code}").status_code == 404


def test_what_belongs_to_a_row_is_made_under_it_and_comes_back_there(app: Application) -> None:
    code = first(app)
    page = app.client.get(f"/boxes/{code}").text
    assert 'href="/visits/new' not in page and app.client.get("/visits/new").status_code == 404
    assert 'href="/visits/new' not in app.client.get("/visits").text
    new = html.unescape(re.search(r'href="(/boxes/\w+/visits/new[^"]*)"', page)[1])  # type: ignore[index]
    form = app.client.get(new).text
    assert f">{code}</a>" in form and 'name="box"' not in form
    made = app.post(new, {**hidden(form), "day": "2024-05-06", "box": "2"})
    assert made.status_code == 303 and made.location == f"/boxes/{code}?_tab=visits"
    assert ask(app, "SELECT box_id FROM visit ORDER BY id DESC LIMIT 1") == 1
    number = ask(app, "SELECT max(id) FROM visit")
    edit = f"/boxes/{code}/visits/{number}/edit"
    assert f'href="{edit}"' in app.client.get(f"/visits/{number}").text
    assert app.client.get(edit).status_code == 200
    other = ask(app, "SELECT code FROM box WHERE id = 2")
    assert app.client.get(f"/boxes/{other}/visits/{number}/edit").status_code == 404
    assert app.post(f"/visits/{number}/remove", {}).location == f"/boxes/{code}"


def test_tabs_count_and_show_short_lists_and_a_tree_its_branch(app: Application) -> None:
    with sqlite3.connect(app.root / "bees.db") as connection:
        connection.execute("UPDATE member SET guide_id = NULL")
        connection.executemany(
            "UPDATE member SET guide_id = ? WHERE id = ?", [(1, 2), (2, 3), (3, 4), (3, 5), (1, 6)]
        )
        names = dict(connection.execute("SELECT id, name FROM member"))
        connection.execute("UPDATE box SET member_id = 3")
    page = html.unescape(app.client.get("/members/3").text)
    assert re.search(r'Pupils <span class="unit">2<', page) and re.search(
        r'Boxes <span class="unit">30<', page
    )
    above = page.split('aria-label="Above"')[1].split("</nav>")[0]
    assert re.findall(r">([^<>]+)</a>", above) == [names[1], names[2]]
    tab = html.unescape(app.client.get("/members/1?_tab=all-below").text)
    branch = re.sub(
        r"\s+",
        "",
        re.sub(
            r' class="branch"|</?a[^>]*>|</?details[^>]*>|<summary>.*?</summary>',
            "",
            tab.split('class="branch"', 1)[1].split("</section>")[0],
        ),
    )
    told = "{}<ul><li>{}<ul><li>{}</li><li>{}</li></ul></li></ul></li><li>{}</li></ul>"
    assert told.format(*(names[n].replace(" ", "") for n in (2, 3, 4, 5, 6))) in branch
    boxes = app.client.get("/members/3?_tab=boxes").text
    assert boxes.count('<th scope="row">') == 10 and "1–10 of 30" in boxes
    further = html.unescape(re.search(r'rel="next" href="([?][^"]+)"', boxes)[1])  # type: ignore[index]
    assert "tab=boxes" in further and "11–20 of 30" in app.client.get(f"/members/3{further}").text
