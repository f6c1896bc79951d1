"""Tables that others made: described as they stand, and from then on like any other project."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path

import pytest
from adopting import SCHEMAS, adopted, catalog_of, loaded, statements
from conftest import Project
from servers import WORDS

from welbik.project.declarations import schema_of
from welbik.storage.connect import connect
from welbik.storage.tables import tables_of

# Generated tests of tables with every habit that there is: each of them takes seconds.
_TESTED = {
    "sqlite": ("price", "translation", "customer", "flag", "log"),
    "postgresql": ("hive", "ticket", "keeper", "order_detail"),
    "mariadb": ("shop_customer", "shop_product", "delivery", "registration"),
}
_WALK = """
import re, sys
from html import unescape
from {package} import create_app
app = create_app()
seen, bad = set(), []
todo = ["/"]
with app.test_client() as site:
    while todo:
        page = todo.pop()
        if page in seen or "?" in page:
            continue
        seen.add(page)
        answer = site.get(page)
        if answer.status_code != 200:
            bad.append((page, answer.status_code))
        for link in re.findall(r'href="(/[^"#]*)', answer.text):
            link = unescape(link)
            # A row in which all is empty has no page: nothing tells it.
            empty = re.search(r"/_0(~_0)*$", link)
            if not empty and not link.startswith("/look") and not link.endswith("/remove"):
                todo.append(link)
print(len(seen), bad)
"""
_SAVE = """
import re
from html.parser import HTMLParser
from werkzeug.datastructures import MultiDict
from {package} import create_app


class Form(HTMLParser):
    def __init__(self):
        super().__init__()
        self.typed, self.area, self.choice = MultiDict(), None, None

    def handle_starttag(self, tag, attrs):
        given = {{k: v or "" for k, v in attrs}}
        name = given.get("name")
        if tag == "textarea":
            self.area = name
            self.typed[name] = ""
        elif tag == "select":
            self.choice = name
        elif tag == "option" and "selected" in given:
            self.typed.add(self.choice, given.get("value", ""))
        elif tag == "input" and name:
            if given.get("type") in ("checkbox", "radio"):
                if "checked" in given:
                    self.typed.add(name, given.get("value", "on"))
            else:
                self.typed[name] = given.get("value", "")

    def handle_endtag(self, tag):
        if tag == "textarea":
            self.area = None

    def handle_data(self, data):
        if self.area is not None:
            self.typed[self.area] += data


app = create_app()
saved, bad = 0, []
with app.test_client() as site:
    for rule in sorted(app.url_map.iter_rules(), key=str):
        if not rule.endpoint.endswith(".list_page"):
            continue
        for page in re.findall(r'href="(' + rule.rule + r'/[^"?/#]+)"', site.get(rule.rule).text):
            text = site.get(page).text
            edit = re.search(r'href="(' + re.escape(page) + r'/edit)', text)
            if page.endswith(("/new", "/chosen")) or edit is None:
                continue
            text = site.get(edit[1]).text
            form = Form()
            form.feed(text[text.index('<form', text.index('<main')):])
            answer = site.post(edit[1], data=form.typed)
            saved += 1
            if answer.status_code != 303:
                bad.append((page, answer.status_code))
print(saved, bad)
"""


@pytest.fixture(scope="module", params=WORDS)
def shop(
    request: pytest.FixtureRequest, tmp_path_factory: pytest.TempPathFactory
) -> Iterator[Shop]:
    """Forty tables with the habits of one database, adopted."""
    folder = tmp_path_factory.mktemp("shop")
    text = (SCHEMAS / f"{request.param}.sql").read_text("utf-8")
    with loaded(request.param, folder, text) as address:
        before = catalog_of(address, folder)
        yield Shop(request.param, address, before, adopted(address, folder))


class Shop:
    def __init__(
        self, word: str, address: str, before: dict[str, object], project: Project
    ) -> None:
        self.word, self.address, self.before, self.project = word, address, before, project

    def rows(self) -> dict[str, list[str]]:
        """All rows of all tables, as texts: some values have no order, or equal nothing."""
        with connect(self.address, self.project.root) as database:
            names = [name for name, table in self.before.items() if not table.view]  # type: ignore[attr-defined]
            # As text there: some days are none of Python's.
            what = "CAST(own AS text)" if self.word == "postgresql" else "*"
            asked = {n: f'SELECT {what} FROM "{n}" AS own' for n in names}
            return {n: sorted(map(repr, database.run(query))) for n, query in asked.items()}


def test_nothing_is_written_but_the_books(shop: Shop) -> None:
    """The tables are as they were, column by column; all is in step."""
    assert len(shop.before) >= 40
    assert catalog_of(shop.address, shop.project.root) == shop.before
    with connect(shop.address, shop.project.root) as database:
        ours = {name for name in database.table_names() if name.startswith("welbik_")}
    # One of them needs to know how far a migration came.
    assert ours - {"welbik_progress"} == {"welbik_migration", "welbik_tables", "welbik_sent"}
    assert "All in step" in shop.project.run("status").stdout
    assert "no problems" in shop.project.run("check").stdout
    assert "Nothing to do" in shop.project.run("migrate").stdout


def test_every_table_and_column_is_declared_or_told_of(shop: Shop, tmp_path: Path) -> None:
    """What is not declared is on the list of what can't be, with a reason."""
    shown = shop.project.run("adopt", shop.address, str(tmp_path / "other"), "--preview").stdout
    schema = schema_of(shop.project.root)
    declared = {
        name: {*(c.name for c in table.columns), *([table.number] if table.numbered else [])}
        for name, table in tables_of(schema).items()
    }
    for name, table in shop.before.items():
        for column in table.columns:  # type: ignore[attr-defined]
            told = column.name in declared.get(name, set())
            assert told or re.search(rf"^  {name}\.(.*, )?{column.name}\b", shown, re.M), (
                name,
                column.name,
            )
    assert not (tmp_path / "other").exists()


def test_every_page_answers(shop: Shop) -> None:
    """All lists, rows and forms of what is stored, found by their links."""
    package = "site_site"
    count, bad = shop.project.python("-c", _WALK.format(package=package)).stdout.split(" ", 1)
    assert int(count) > 150
    assert bad.strip() == "[]"


def test_a_form_that_is_saved_as_it_is_changes_nothing(shop: Shop) -> None:
    """However a column holds a value, it is read and written back the same."""
    before = shop.rows()
    count, bad = shop.project.python("-c", _SAVE.format(package="site_site")).stdout.split(" ", 1)
    assert int(count) > 25
    assert bad.strip() == "[]"
    after = shop.rows()
    for name, rows in before.items():
        assert after[name] == rows, name


def test_its_own_tests_pass(shop: Shop) -> None:
    """What is made up, typed, searched and filtered is stored and shown as in any other project."""
    files = [f"tests/test_{name}.py" for name in _TESTED[shop.word]]
    done = shop.project.python("-m", "pytest", "-q", "-p", "no:cacheprovider", *files)
    assert done.returncode == 0, done.stdout[-3000:]


def test_rows_are_shown_by_name_on_the_command_line(shop: Shop) -> None:
    asked = {
        "sqlite": ("OrderLine", "Honey 500 g"),
        "postgresql": ("OrderDetail", "Honey 500 g"),
        "mariadb": ("ShopOrder", "Ada Moss"),
    }
    model, told = asked[shop.word]
    assert told in shop.project.run("peek", model).stdout
    if shop.word == "postgresql":
        # Days without end, and those before our calendar.
        assert "Keepers" in shop.project.run("peek", "Course").stdout
        assert "Keepers" in shop.project.run("peek", "Course", "--sort", "-starts").stdout
    if shop.word == "mariadb":
        # Days without a day or a month.
        said = shop.project.run("peek", "ShopProduct", "--sort", "date_available").stdout
        assert "H-000" in said and "H-001" in said
    shop.project.run("check", "--rows")
    shop.project.run("report", "--format", "json")


def test_an_empty_copy_is_filled(shop: Shop, tmp_path: Path) -> None:
    """The migrations make the same tables elsewhere, and rows are made up in them."""
    from servers import database

    seed = shop.project.root / "models/zz.welbik"
    seed.write_text("seed\n    2 Keeper\n    2 Apiary\n    3 Hive\n    4 Harvest\n")
    try:
        with database(shop.word, tmp_path) as address:
            shop.project.run("migrate", DATABASE_URL=address)
            shop.project.run("fill", DATABASE_URL=address)
            with connect(address, tmp_path) as opened:
                table = "harvest" if shop.word == "postgresql" else "harvests"
                assert opened.run(f'SELECT count(*) FROM "{table}"')[0][0] == 4
    finally:
        seed.unlink()


def test_files_of_schemas_hold_statements() -> None:
    for path in SCHEMAS.glob("*.sql"):
        assert len(statements(path.read_text("utf-8"))) > 60
