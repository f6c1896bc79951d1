"""Parts of adopting: conditions, names, files, and what can go wrong."""

from __future__ import annotations

import csv
import html
import re
import sqlite3
from collections.abc import Callable
from contextlib import suppress
from pathlib import Path
from urllib.request import urlopen

import pytest
from adopting import adopted, loaded
from conftest import Project
from hypothesis import given
from hypothesis import strategies as st
from served import served
from servers import WORDS, database

from welbik.adoption import names
from welbik.adoption.conditions import Field, UnreadError, form_of, read_condition, written
from welbik.language.words import may_name_field
from welbik.schema.names import plural
from welbik.storage.connect import connect

FIELDS = {
    "closed": Field("closed", "date", {}),
    "opened": Field("opened", "date", {}),
    "state": Field("state", "one", {"a": "active", "L": "lost"}),
    "price": Field("price", "decimal", {}),
    "done": Field("done", "boolean", {}),
    "code": Field("code", "text", {}),
}


@pytest.mark.parametrize(
    ("sql", "declared"),
    [
        ("closed IS NULL OR closed >= opened", "closed is empty or closed >= opened"),
        ("((closed IS NULL) OR (closed >= opened))", "closed is empty or closed >= opened"),
        ("`closed` is not null and `price` > 0", "closed is given and price > 0"),
        (
            "(state)::text = ANY ((ARRAY['a'::character varying, 'L'::text])::text[])",
            "state in (active, lost)",
        ),
        ("NOT (price < (0)::numeric)", "not price < 0"),
        ("price BETWEEN -1.5 AND 9", "price between -1.5 and 9"),
        ("closed < '2020-01-31'::date", "closed < 2020-01-31"),
        ("done = 1 OR price * 2 + 1 <= 7", "done = yes or price * 2 + 1 <= 7"),
        ('length("code") > 3', "length(code) > 3"),
        ("char_length(trim(code)) <> 0", "length(trim(code)) != 0"),
        (
            "state <> 'L' OR (price > 1 AND (done = 0 OR done IS NULL))",
            "state != lost or price > 1 and (done = no or done is empty)",
        ),
        ("opened <= CURRENT_DATE", "opened <= today"),
        ("code = 'it''s'", 'code = "it\'s"'),
        ("CASE WHEN done THEN price > 1 ELSE 1 END", None),
        ("price / 2 > 1", None),
        ("code GLOB 'a*'", None),
        ("state = 'unknown'", None),
        ("price > 1; DROP TABLE x", None),
        ("exists (select 1)", None),
        ("", None),
        ("((((((", None),
    ],
)
def test_conditions_are_read(sql: str, declared: str | None) -> None:
    """In the words of three databases; what the language has no words for is told, never guessed."""
    try:
        found = written(
            read_condition(sql, lambda n: n.lower() if n.lower() in FIELDS else None), FIELDS
        )
    except UnreadError:
        found = None
    assert found == declared


@given(st.text(max_size=60))
def test_no_condition_ends_in_an_error(text: str) -> None:
    with suppress(UnreadError):
        written(read_condition(text, lambda n: n if n in FIELDS else None), FIELDS)


@given(st.lists(st.text(min_size=1, max_size=70), max_size=6))
def test_whatever_a_column_is_called_it_gets_a_name(columns: list[str]) -> None:
    taken: set[str] = set()
    for column in columns:
        name = names.field_name(column, taken)
        assert name not in taken and len(name) <= 40 and may_name_field(name) and name != "id"
        assert name.isascii() and name[0].isalpha() and name == name.lower()
        taken.add(name)
    models: set[str] = set()
    for table in columns:
        name = names.model_name(table, "", models)
        assert name not in models and name[0].isupper() and name.isidentifier()
        models.add(name)


@pytest.mark.parametrize(
    "word",
    [
        "hive",
        "keeper",
        "category",
        "box",
        "dish",
        "glass",
        "bus",
        "address",
        "status",
        "person",
        "child",
        "wolf",
        "key",
    ],
)
def test_several_are_one(word: str) -> None:
    assert names.singular(plural(word)) == word
    assert names.singular(word) == word


# Files


def test_files_become_models_with_their_rows(empty: Project) -> None:
    """Types from all rows, relations by what they hold, and the rows as data files or stored."""
    with (empty.root / "keepers.csv").open("w", newline="", encoding="utf-8-sig") as file:
        writer = csv.writer(file)
        writer.writerow(["id", "Name", "E-mail", "Joined", "Active"])
        for n in range(30):
            mail = f"k{n}@example.org" if n % 3 else ""
            writer.writerow(
                [n + 5, f"Keeper {n}", mail, f"{n % 28 + 1:02}.02.2021", "yes" if n % 2 else "no"]
            )
    lines = ["Code;Keeper ID;Weight"]
    lines += [f"AB-{n};{n % 30 + 5};{n},{n % 100:02}" for n in range(40)]
    lines[20] = "AB-19;7;about 4"
    (empty.root / "hives.csv").write_text("\n".join(lines), "cp1252")
    told = empty.run("adopt", "keepers.csv", "hives.csv", "site", "--load").stdout
    assert "stored 70 rows" in told
    site = Project(empty.root / "site")
    hives = site.read("models/hive.welbik")
    assert "keeper      -> Keeper, required" in hives
    assert "row 21: about 4" in hives
    keepers = site.read("models/keeper.welbik")
    for declared in (
        "e_mail      email",
        "joined      date, required",
        "active      boolean, required",
    ):
        assert declared in keepers
    site.run("build")
    assert "All in step" in site.run("status").stdout
    with sqlite3.connect(next(site.root.glob("*.db"))) as database:
        asked = "SELECT k.name, k.joined FROM hive h JOIN keeper k ON k.id = h.keeper_id WHERE h.code = 'AB-3'"
        assert database.execute(asked).fetchall() == [("Keeper 3", "2021-02-04")]
    empty.run("adopt", "keepers.csv", "hives.csv", "other")
    other = Project(empty.root / "other")
    assert 'rows Keeper from "keeper.csv"' in other.read("models/keeper.welbik")
    other.run("build")
    other.run("migrate")
    assert "70 rows added" in other.run("fill").stdout
    assert "Keeper 3" in other.run("peek", "Hive", "--where", 'code = "AB-3"').stdout


def test_a_spreadsheet_has_a_model_a_sheet(empty: Project) -> None:
    openpyxl = pytest.importorskip("openpyxl")
    book = openpyxl.Workbook()
    book.active.title = "Hives"
    for row in (["Code", "Frames"], ["AB-1", 11], ["AB-2", 20.0]):
        book.active.append(row)
    more = book.create_sheet("Visits")
    for row in (["Hive Code", "Kg"], ["AB-1", 1.5], ["AB-2", 2.25], ["AB-1", 3]):
        more.append(row)
    book.save(empty.root / "bees.xlsx")
    empty.run("adopt", "bees.xlsx", "site", "--load")
    site = Project(empty.root / "site")
    assert "hive        -> Hive, required" in site.read("models/visit.welbik")
    assert "AB-2" in site.run("peek", "Visit").stdout


# What can go wrong


@pytest.mark.parametrize(
    ("arguments", "said"),
    [
        (("nothing.csv", "site"), "there is no file"),
        (("sqlite:///none.db", "site"), "there is no database"),
        (("empty.csv", "site"), "has no headings"),
        (("wide.csv", "site"), "row 3: it has 3 cells"),
        (("bytes.csv", "site"), "can't be read"),
        (("site",), "adopt takes the address"),
        (("sqlite:///a.db", "sqlite:///b.db"), "adopt takes the address"),
        (("sqlite:///bare.db", "site"), "there is no table to adopt"),
        (("sqlite:///bare.db", "site", "--schema", "x"), "has no schemas"),
        (("sqlite:///wide.csv", "site"), "can't be opened"),
    ],
)
def test_what_cannot_be_adopted_is_said_in_a_line(
    empty: Project, arguments: tuple[str, ...], said: str
) -> None:
    (empty.root / "empty.csv").write_text("\n")
    (empty.root / "bytes.csv").write_bytes(b"a\x81,b\n1,2\n")
    (empty.root / "wide.csv").write_text("a,b\n1,2\n1,2,3\n")
    sqlite3.connect(empty.root / "bare.db").execute("CREATE TABLE welbik_x (a)").connection.close()
    (empty.root / "bare.db").touch()
    done = empty.run(
        "adopt",
        *arguments,
        code=2 if said.startswith(("adopt", "there is no file", "has no s")) else 1,
    )
    assert said in done.stderr
    assert not (empty.root / "site").exists()


def test_only_some_tables_without_their_prefix(empty: Project) -> None:
    with sqlite3.connect(empty.root / "old.db") as database:
        database.executescript(
            "CREATE TABLE shop_hives (id INTEGER PRIMARY KEY, name TEXT);"
            "CREATE TABLE shop_logs (id INTEGER PRIMARY KEY, name TEXT);"
            "CREATE TABLE other (id INTEGER PRIMARY KEY, name TEXT);"
        )
    empty.run(
        *("adopt", "sqlite:///old.db", "site", "--tables", "shop_*"),
        *("--without", "*_logs", "--prefix", "shop_"),
    )
    models = list((empty.root / "site/models").iterdir())
    assert [path.name for path in models] == ["hive.welbik"]
    site = Project(empty.root / "site")
    assert 'stored as "shop_hives", as it is' in site.read("models/hive.welbik")
    site.run("adopt", "sqlite:///../old.db", ".", "--tables", "other")
    site.run("build")
    site.run("migrate")
    assert "All in step" in site.run("status").stdout


# The second week


def test_an_adopted_table_is_changed_like_any_other(tmp_path: Path) -> None:
    """Columns come, are called otherwise and go, and what nobody declared stays; a model that goes
    leaves its table, and taking it all back leaves everything as it was."""
    text = (
        "CREATE TABLE hives (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, photo BLOB,"
        " seen DATETIME, CHECK (length(name) > 2));\n"
        "CREATE TABLE visits (id INTEGER PRIMARY KEY, hive_id INTEGER REFERENCES hives(id));\n"
        "INSERT INTO hives VALUES (1, 'North', x'0102', '2022-01-01T10:00:00Z');\n"
        "INSERT INTO visits VALUES (1, 1)"
    )
    with loaded("sqlite", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        path = Path(address.removeprefix("sqlite:///"))
        site.replace(
            "models/hive.welbik",
            "    name        text 3..40, required",
            "    title       text 3..40, required, was name\n    weight      integer, required, default 3",
        )
        declared = site.read("models/hive.welbik").replace("{name}", "{title}")
        site.write(
            "models/hive.welbik",
            declared.replace("list name", "list title").replace("search name", "search title"),
        )
        site.run("migrate")
        site.run("build", "--allow-loss")
        with sqlite3.connect(path) as database:
            asked = "SELECT title, weight, photo, seen FROM hives"
            assert database.execute(asked).fetchall() == [
                ("North", 3, b"\x01\x02", "2022-01-01T10:00:00Z")
            ]
        site.write(
            "models/hive.welbik",
            "\n".join(
                line for line in site.read("models/hive.welbik").split("\n") if "visits" not in line
            ),
        )
        (site.root / "models/visit.welbik").unlink()
        assert "leave the table visits where it is" in site.run("migrate").stdout
        with sqlite3.connect(path) as database:
            assert database.execute("SELECT count(*) FROM visits").fetchone() == (1,)
        site.run("migrate", "--undo", "--allow-loss")
        site.run("migrate", "--undo", "--allow-loss")
        with sqlite3.connect(path) as database:
            asked = "SELECT name, photo, seen FROM hives"
            assert database.execute(asked).fetchall() == [
                ("North", b"\x01\x02", "2022-01-01T10:00:00Z")
            ]


@pytest.mark.parametrize("word", WORDS)
def test_a_column_under_a_condition_and_a_view_is_called_otherwise(
    word: str, tmp_path: Path
) -> None:
    text = (
        "CREATE TABLE posts (id INTEGER PRIMARY KEY, title VARCHAR(40) NOT NULL, "
        "score INTEGER CHECK (score BETWEEN 0 AND 10));\n"
        "CREATE TABLE people (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);\n"
        "CREATE VIEW titles AS SELECT p.id, title, name FROM posts p JOIN people o ON o.id = p.id;\n"
        "INSERT INTO posts VALUES (1, 'One', 3)"
    )
    with loaded(word, tmp_path, text) as address:
        site = adopted(address, tmp_path)
        declared = site.read("models/post.welbik")
        site.write(
            "models/post.welbik",
            re.sub(r"\bscore( +integer .*)", r"rating\1, was score", declared, count=1).replace(
                "title, score", "title, rating"
            ),
        )
        assert "call the column posts.score rating" in site.run("migrate").stdout
        with connect(address, tmp_path) as database:
            assert database.run("SELECT rating FROM posts") == [(3,)]


_VISIT = """
import importlib, re, tomllib
package = tomllib.load(open("welbik.toml", "rb"))["package"]
client = importlib.import_module(package).create_app().test_client()
for query in ("", "?_sort=-body", "?body=4..", "?body=-", "?_as=csv"):
    print(re.findall(r"(?<=[>,])[35](?=[<,\\r])", client.get(f"/papers{query}").text))
print(re.findall("0?101", client.get("/papers").text))
page = client.get("/papers/1/edit").text
sent = dict(re.findall(r'type="hidden" name="([^"]+)" value="([^"]*)"', page))
print(client.post("/papers/1/edit", data={**sent, "title": "Other"}).status_code)
print(client.post("/papers/new", data={**sent, "title": "New"}).status_code)
"""


@pytest.mark.parametrize("word", WORDS)
def test_data_that_others_read_is_told_by_its_size(word: str, tmp_path: Path) -> None:
    native = {"sqlite": "BLOB", "postgresql": "bytea", "mariadb": "LONGBLOB"}[word]
    some, more = (f"x'{digits}'" for digits in ("000102", "0001020304"))
    if word == "postgresql":
        some, more = ("'\\x000102'", "'\\x0001020304'")
    marks, given = ("TEXT", "'0101'") if word == "sqlite" else ("bit(4)", "B'0101'")
    text = (
        "CREATE TABLE papers (id INTEGER PRIMARY KEY, title VARCHAR(40) NOT NULL, "
        f"body {native}, marks {marks});\n"
        f"INSERT INTO papers VALUES (1, 'One', {some}, {given}), (2, 'Two', NULL, NULL), "
        f"(3, 'Three', {more}, NULL)"
    )
    with loaded(word, tmp_path, text) as address:
        site = adopted(address, tmp_path)
        line = f'body        integer, unit "bytes", stored as "body" of "{native}", set by database'
        declared = site.read("models/paper.welbik")
        assert line.lower() in declared.lower()
        listed = next(one for one in declared.splitlines() if one.startswith("    list "))
        site.write(
            "models/paper.welbik",
            declared.replace(listed, "    list title, body, marks\n    filter body"),
        )
        site.run("sync")
        asked = "--columns title,body,marks --sort=-body --where body>2 --format csv"
        told = site.run("peek", "Paper", *asked.split()).stdout
        bits = "101" if word == "mariadb" else "0101"
        assert told.split() == ["title,body,marks", "Three,5,", f"One,3,{bits}"]
        *lists, bits_shown, changed, made = site.python("-c", _VISIT).stdout.splitlines()
        assert lists == ["['3', '5']", "['5', '3']", "['5']", "[]", "['3', '5']"]
        assert (bits_shown, changed, made) == (f"['{bits}']", "303", "303")
        with connect(address, tmp_path) as database:
            rows = database.run("SELECT title, body FROM papers ORDER BY id")
        assert [(title, body and bytes(body)) for title, body in rows] == [
            *(("Other", b"\0\1\2"), ("Two", None)),
            *(("Three", b"\0\1\2\3\4"), ("New", None)),
        ]


@pytest.mark.parametrize("word", WORDS)
def test_rows_are_described_and_none_of_their_texts_taken_over(word: str, tmp_path: Path) -> None:
    """Shares, weights, amounts and fan-outs as they are; a table that can't be asked stops no other."""
    lines = [
        "CREATE TABLE aaa (id integer PRIMARY KEY, n double precision)",
        *(f"INSERT INTO aaa VALUES ({n}, 1e308)" for n in range(9)),
        "CREATE TABLE keepers (id integer PRIMARY KEY, name varchar(80) NOT NULL)",
        *(f"INSERT INTO keepers VALUES ({n}, 'Zephyrine {n}')" for n in range(1, 11)),
        "CREATE TABLE hives (id integer PRIMARY KEY, keeper_id integer NOT NULL REFERENCES keepers(id),"
        " kind varchar(4) NOT NULL CHECK (kind IN ('a', 'b')), note varchar(90), kg double precision)",
        *(
            f"INSERT INTO hives VALUES ({n}, {n % 10 + 1}, '{'a' if n % 4 else 'b'}',"
            f" {'NULL' if n % 5 else repr('xyzzy ' * 3)}, {30 + n % 3})"
            for n in range(100)
        ),
    ]
    with loaded(word, tmp_path, ";\n".join(lines)) as address:
        site = Project(tmp_path / "site")
        site.root.mkdir()
        site.run("adopt", address, ".", "--samples")
        declared = "".join(path.read_text() for path in (site.root / "models").iterdir())
    assert "sample weights(75, 25)" in declared
    assert "sample 80% empty" in declared
    assert "sample 10..10 per keeper" in declared
    assert re.search(r"sample normal\(31, 0\.8", declared)
    assert "100 Hive" in declared and "10 Keeper" in declared
    assert "Zephyrine" not in declared and "xyzzy" not in declared


def test_rows_that_lead_to_nothing_by_a_number_are_listed_and_filled(
    make: Callable[[str], Project],
) -> None:
    project = make(
        "model Yard\n    name text, required, as text\n"
        '    stored as "yard", as it is\n'
        "model Crate\n    code text 40, required\n"
        '    yard -> Yard, stored as "yard_id", empty stored as "0", sample 40% empty\n'
        '    stored as "crate", as it is\n    list code, yard\nseed\n    6 Yard\n    400 Crate\n'
    )
    with sqlite3.connect(project.root / "bees.db") as connection:
        connection.executescript(
            "CREATE TABLE yard(id INTEGER PRIMARY KEY, name TEXT NOT NULL);"
            "CREATE TABLE crate(id INTEGER PRIMARY KEY, code VARCHAR(40) NOT NULL, "
            "yard_id INTEGER NOT NULL DEFAULT 0)"
        )
    for command in ("build", "migrate", "fill"):
        project.run(command)
    assert "all are as declared" in project.run("check", "--rows").stdout
    with sqlite3.connect(project.root / "bees.db") as connection:
        (none,) = connection.execute("SELECT count(*) FROM crate WHERE yard_id = 0").fetchone()
    assert 100 < none < 220
    with served(project) as address:
        for sort in ("yard", "-yard"):
            names: list[str] = []
            query = f"?_sort={sort}&_size=100"
            while query:
                page = urlopen(f"{address}/crates{query}").read().decode()
                names += re.findall(r'data-label="Yard">(.*?)</td>', page)
                following = re.search(r'rel="next" href="([^"]+)"', page)
                query = html.unescape(following[1]) if following else ""
            # None is lost on the way, and what leads to nothing comes last.
            assert len(names) == 400 and names[-none:] == ["—"] * none, sort
            assert "—" not in names[:-none]


@pytest.mark.parametrize(
    ("sql", "form"),
    [
        ("code ~ '^[0-9]{4,5}$'", "[0-9]{4,5}"),
        ("code ~ '^(a|b)$'", "(a|b)"),
        # Held to one end, or to none; and what is no pattern of the language.
        *((f"code ~ '{text}'", None) for text in ("^a|b$", "^a", "a$", r"^a\$", r"^(?=a)b$")),
        ("code ~* '^a$'", None),
        # Whether that heeds capitals is known where rows are.
        ("code REGEXP '^a$'", "a"),
        ("code GLOB '[A-Z][^0]-?*'", "[A-Z][^0]-..*"),
        ("code LIKE 'a_-%'", "[Aa].-.*"),
        ("code ~~ 'a_.%'::text", r"a.\..*"),
        # One text could be read in too many ways.
        ("code LIKE '% %'", None),
        ("code NOT LIKE 'a%'", None),
    ],
)
def test_a_form_is_read_where_all_of_a_text_has_it(sql: str, form: str | None) -> None:
    try:
        found = form_of(read_condition(sql, lambda name: name))
    except UnreadError:
        found = None
    assert found == (("code", form) if form else None)


@pytest.mark.parametrize("word", WORDS)
def test_what_is_only_ever_yes_or_no_is_that_and_sorted_so(word: str, tmp_path: Path) -> None:
    text = (
        "CREATE TABLE customer (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, "
        "news CHAR(1) NOT NULL CHECK (news IN ('J', 'N')), "
        "way CHAR(1) NOT NULL CHECK (way IN ('S', 'N')));\n"
        "INSERT INTO customer VALUES (1, 'One', 'J', 'S'), (2, 'Two', 'N', 'N'), (3, 'Three', 'J', 'N')"
    )
    with loaded(word, tmp_path, text) as address:
        site = adopted(address, tmp_path)
        declared = site.read("models/customer.welbik")
        assert re.search(r'news +boolean, required, stored as "news".* with "J" \| "N"', declared)
        assert "way " in declared and "one of s stored as" in declared
        for down, shown in (("", "Two One Three"), ("-", "Three One Two")):
            asked = ["--columns", "name", f"--sort={down}news,{down}name", "--format", "csv"]
            assert site.run("peek", "Customer", *asked).stdout.split()[1:] == shown.split()
        assert "passed" in site.python("-m", "pytest", "-q", "-k", "sorting or filter").stdout


def test_what_a_type_asks_of_its_values_is_asked_of_a_column(tmp_path: Path) -> None:
    text = (
        "CREATE DOMAIN few AS integer CHECK (VALUE > 0);\n"
        "CREATE DOMAIN post_code AS varchar(10) NOT NULL CHECK (VALUE ~ '^[0-9]{4,5}$');\n"
        "CREATE DOMAIN near AS post_code DEFAULT '12345' CHECK (length(VALUE) = 5 AND VALUE <> 'VALUE');\n"
        "CREATE TABLE customer (id serial PRIMARY KEY, name varchar(40) NOT NULL, "
        'hives few, code post_code, "the VALUE" near)'
    )
    with loaded("postgresql", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        lines = site.read("models/customer.welbik").splitlines()
        told = [re.sub(" +", " ", line.strip()) for line in lines if line.startswith("    ")]
        assert "hives integer 1.." in told
        assert 'code text 10, required, matches "[0-9]{4,5}"' in told
        whole = 'the_value text 5..5, required, default "12345", matches "[0-9]{4,5}", '
        assert any(line.startswith(whole) for line in told), told
        assert 'rule the_value != "VALUE"' in told
        assert "passed" in site.python("-m", "pytest", "-q", "tests/test_customer.py").stdout


_LED = """\
CREATE TABLE stock (sku VARCHAR(20) PRIMARY KEY, name VARCHAR(40) NOT NULL);
CREATE TABLE tx_cat (uid INTEGER PRIMARY KEY, parent INTEGER NOT NULL DEFAULT 0, title VARCHAR(40) NOT NULL);
CREATE TABLE item (id INTEGER PRIMARY KEY, SKU VARCHAR(20) NOT NULL, cat INTEGER, stock_no INTEGER, author INTEGER);
INSERT INTO stock VALUES ('S1', 'Jar'), ('S2', 'Lid');
INSERT INTO tx_cat VALUES (1, 0, 'All'), (2, 1, 'Honey'), (3, 9, 'Lost'), (4, 2, 'Lime'), (5, 2, 'Oak');
INSERT INTO item VALUES (1, 'S1', 4, 77, 1), (2, 'S2', 5, 78, 2), (3, 'S1', NULL, 79, NULL)"""


@pytest.mark.parametrize("word", WORDS)
def test_what_may_be_a_relation_is_told_by_what_is_stored_and_can_become_one(
    word: str, tmp_path: Path
) -> None:
    with loaded(word, tmp_path, _LED) as address:
        site = adopted(address, tmp_path)
        told = []
        for file in sorted((site.root / "models").iterdir()):
            text = file.read_text("utf-8")
            told += re.findall(r"# This may be a relation: (.*)", text)
            # As its reader would: the line that it is about is taken out for it.
            text = re.sub(
                r"# This may be a relation: (.*?)( \(\d.*\))?\n    .*(\n        .*)*", r"\1", text
            )
            file.write_text(text, "utf-8")
        named = [re.sub(", stored as[^,]*", "", one).lower() for one in told]
        # Neither by name nor by what is stored: stock_no leads to no key of stock, author to nobody.
        assert named == [
            "sku -> stock, required",
            "cat -> txcat",
            'parent -> txcat, empty stored as "0" (1 of 4 lead nowhere)',
        ]
        site.run("check")
        site.run("sync")
        assert "All in step" in site.run("status").stdout
        assert "passed" in site.python("-m", "pytest", "-q").stdout


@pytest.mark.parametrize("word", WORDS)
def test_what_no_database_holds_is_let_go_of_where_a_row_is_removed(
    word: str, make: Callable[[str], Project], tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    project = make(
        "model Cat\n    title text 2..40, required\n"
        '    above -> Cat, empty stored as "0", on removal remove\n    below <- Cat.above\n'
        "model Shelf\n    name text 2..40, required, unique\n"
        "model Thing\n    name text 2..40, required\n"
        '    cat -> Cat, empty stored as "0", on removal clear\n'
        '    shelf -> Shelf, empty stored as "0", on removal remove\n'
        '    other -> Shelf, empty stored as "0"\n    keep bin\n'
        "model Part\n    thing -> Thing, required, owned\n    name text 9\n"
        "seed\n    12 Cat\n    6 Shelf\n    40 Thing\n    60 Part\n"
    )
    with database(word, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        for command in ("build", "migrate", "fill"):
            project.run(command)
        assert "all are as declared" in project.run("check", "--rows").stdout
        # Each way of removal among them.
        assert "passed" in project.python("-m", "pytest", "-q").stdout


_REMOVED = """
import re
from site_site import create_app
client = create_app().test_client()
for number in (2, 3):
    page = client.get(f"/items/{number}/remove").text
    sent = dict(re.findall(r'type="hidden" name="([^"]+)" value="([^"]*)"', page))
    answer = client.post(f"/items/{number}/remove", data=sent)
    print(answer.status_code, "does not know of" in answer.text)
"""


@pytest.mark.parametrize("word", WORDS)
def test_a_row_goes_with_its_pairs_or_says_what_holds_it(word: str, tmp_path: Path) -> None:
    # As most tables of pairs are that others made: nothing in them goes by itself.
    text = (
        "CREATE TABLE tag (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);\n"
        "CREATE TABLE item (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL);\n"
        "CREATE TABLE item_tag (item_id INTEGER NOT NULL, tag_id INTEGER NOT NULL, "
        "PRIMARY KEY (item_id, tag_id), FOREIGN KEY (item_id) REFERENCES item (id), "
        "FOREIGN KEY (tag_id) REFERENCES tag (id));\n"
        "CREATE TABLE hidden (id INTEGER PRIMARY KEY, item_id INTEGER, "
        "FOREIGN KEY (item_id) REFERENCES item (id));\n"
        "INSERT INTO tag VALUES (1, 'Sweet');\n"
        "INSERT INTO item VALUES (2, 'Two'), (3, 'Three');\n"
        "INSERT INTO item_tag VALUES (2, 1), (3, 1);\nINSERT INTO hidden VALUES (1, 3)"
    )
    with loaded(word, tmp_path, text) as address:
        site = adopted(address, tmp_path, "--without", "hidden")
        assert "<-> Tag" in site.read("models/item.welbik")
        package = next(path.parent.name for path in site.root.glob("*/settings.py"))
        script = _REMOVED.replace("site_site", package)
        assert site.python("-c", script).stdout.split() == ["303", "False", "409", "True"]
        with connect(address, tmp_path) as opened:
            # What was held is as it was.
            assert opened.run("SELECT item_id, tag_id FROM item_tag") == [(3, 1)]
