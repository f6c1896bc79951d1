"""Tables as many are: conditions in every form, engines without transactions, texts compared in their own way."""

from __future__ import annotations

import re
from pathlib import Path

import pytest
from adopting import adopted, loaded
from conftest import Project
from servers import WORDS

from welbik.storage.connect import connect


def _told(site: Project, model: str) -> list[str]:
    """The lines of a model, each with single blanks."""
    text = re.sub(r"\n {8}", " ", site.read(f"models/{model}.welbik"))
    return [re.sub(" +", " ", line.strip()) for line in text.splitlines()]


_MASK = {
    "sqlite": "GLOB '[A-Z][A-Z]-*'",
    "postgresql": "LIKE 'AB-%'",
    "mariadb": "REGEXP '^AB-.*$'",
}
_SINCE = {
    "sqlite": "(strftime('%s','now'))",
    "postgresql": "extract(epoch from now())::integer",
    "mariadb": "(unix_timestamp())",
}
_ROLE = {"mariadb": "ENUM('1', '0')"}


@pytest.mark.parametrize("word", WORDS)
def test_conditions_and_defaults_say_what_a_column_is(word: str, tmp_path: Path) -> None:
    text = (
        "CREATE TABLE customer (id INTEGER PRIMARY KEY, name VARCHAR(40) NOT NULL, "
        f"code VARCHAR(9) NOT NULL CHECK (code {_MASK[word]}), "
        "state VARCHAR(9) NOT NULL DEFAULT 'new' CHECK (state = 'new' OR state = 'paid' OR state = 'sent'), "
        "grade VARCHAR(2) CHECK (grade = 'A1' OR grade IN ('A2', 'B1') OR grade IS NULL), "
        "mails INTEGER NOT NULL DEFAULT 0 CHECK (mails IN (0, 1)), "
        f"ours {_ROLE.get(word, 'CHAR(1)')} NOT NULL DEFAULT '1' CHECK (ours IN ('1', '0')), "
        "either INTEGER CHECK (either = 3 OR mails = 1), "
        f"met INTEGER NOT NULL DEFAULT {_SINCE[word]});\n"
        "INSERT INTO customer (id, name, code, mails, ours, met) VALUES "
        "(1, 'One', 'AB-1', 1, '0', 1700000000), (2, 'Two', 'AB-', 0, '1', 1600000000)"
    )
    with loaded(word, tmp_path, text) as address:
        site = adopted(address, tmp_path)
        told = _told(site, "customer")
        mask = "[A-Z][A-Z]-.*" if word == "sqlite" else "AB-.*"
        for begin in (
            f'code text 9, required, matches "{mask}"',
            "state one of new | paid | sent, required, default new",
            'grade one of a1 stored as "A1" | a2',
            "mails boolean, required, default no",
            "ours boolean, required, default yes",
            "either integer",
            "met datetime, required, default now",
            "rule either = 3 or mails = yes",
        ):
            assert any(line.startswith(begin) for line in told), (begin, told)
        shown = site.run("peek", "Customer", "--columns", "ours,met", "--format", "csv").stdout
        assert "no,2023-11-14" in shown and "yes,2020-09-13" in shown
        assert "passed" in site.python("-m", "pytest", "-q", "tests/test_customer.py").stdout
        site.run("fill", "--add", "30", "Customer")
        with connect(address, tmp_path) as opened:
            assert opened.run("SELECT min(met) > 1000000000 FROM customer") in ([(1,)], [(True,)])


def test_a_form_that_only_capitals_keep_is_not_taken_over_from_who_heeds_none(
    tmp_path: Path,
) -> None:
    text = (
        "CREATE TABLE part (id INTEGER PRIMARY KEY, code VARCHAR(9) COLLATE utf8mb4_general_ci NOT NULL, CHECK (code REGEXP '^[A-Z]+$'));\n"
        "INSERT INTO part VALUES (1, 'AB'), (2, 'cd')"
    )
    with loaded("mariadb", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        assert "matches" not in site.read("models/part.welbik")
        with connect(address, tmp_path) as opened:
            opened.run("UPDATE part SET code = 'CD' WHERE id = 2")
        other = Project(tmp_path / "other")
        other.root.mkdir()
        other.run("adopt", address, ".")
        assert 'matches "[A-Z]+"' in other.read("models/part.welbik")


def test_tables_without_transactions_leave_the_others_as_they_are(tmp_path: Path) -> None:
    """What is stored is looked at in all tables, and rows can be made up beside it."""
    text = (
        "CREATE TABLE a_counter (name VARCHAR(9) PRIMARY KEY, hits INTEGER NOT NULL DEFAULT 0) ENGINE = MyISAM;\n"
        "CREATE TABLE b_log (at DATETIME, line VARCHAR(99)) ENGINE = Aria;\n"
        "CREATE TABLE stock (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL);\n"
        "CREATE TABLE visit (id INTEGER PRIMARY KEY, stock_id INTEGER NOT NULL, seen INTEGER NOT NULL, paid BIT(1) NOT NULL DEFAULT b'0');\n"
        "INSERT INTO a_counter VALUES ('x', 1);\nINSERT INTO b_log VALUES (now(), 'x');\n"
        "INSERT INTO stock VALUES (1, 'One');\nINSERT INTO visit VALUES (1, 1, 1700000000, b'1')"
    )
    with loaded("mariadb", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        told = _told(site, "visit")
        assert any(line.startswith("seen datetime") for line in told)
        assert any(line.startswith("# This may be a relation: stock -> Stock") for line in told)
        for model in ("ACounter", "Stock", "Visit"):
            site.run("fill", "--add", "40", model)
        with connect(address, tmp_path) as opened:
            found = opened.run("SELECT count(*), sum(paid = b'1'), sum(paid = b'0') FROM visit")
            assert found[0][0] == 41 and min(found[0][1:]) > 5
            assert opened.run("SELECT count(*) FROM a_counter") == [(41,)]


def test_texts_that_are_compared_in_their_own_way_are_read(tmp_path: Path) -> None:
    text = (
        "CREATE EXTENSION citext;\n"
        "CREATE COLLATION no_case (provider = icu, locale = 'und-u-ks-level2', deterministic = false);\n"
        "CREATE TABLE yard (code varchar(9) COLLATE no_case PRIMARY KEY, name citext NOT NULL UNIQUE, mail varchar(254));\n"
        "CREATE TYPE answer AS ENUM ('yes', 'no');\n"
        "CREATE TABLE hive (id serial PRIMARY KEY, yard varchar(9) COLLATE no_case NOT NULL REFERENCES yard, "
        "seen integer NOT NULL, sold answer NOT NULL DEFAULT 'no');\n"
        "INSERT INTO yard VALUES ('AB', 'North', 'a@example.org'), ('CD', 'South', NULL);\n"
        "INSERT INTO hive (yard, seen) VALUES ('ab', 1700000000), ('CD', 1700000001)"
    )
    with loaded("postgresql", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        assert any(line.startswith("seen datetime") for line in _told(site, "hive"))
        # A type of its own stays what its choices are.
        told = _told(site, "hive")
        assert any(line.startswith("sold one of ") for line in told), told
        assert "all are as declared" in site.run("check", "--rows").stdout
        shown = site.run("peek", "Hive", "--columns", "yard", "--format", "csv").stdout
        assert shown.split() == ["yard", "North", "South"]
        # In a database of their own, where nobody has installed that type.
        assert "passed" in site.python("-m", "pytest", "-q", "tests/test_yard.py").stdout


def test_a_reference_is_found_as_its_key_is_compared(tmp_path: Path) -> None:
    text = (
        "CREATE TABLE land (code TEXT PRIMARY KEY COLLATE NOCASE, name TEXT NOT NULL) WITHOUT ROWID;\n"
        "CREATE TABLE town (id INTEGER PRIMARY KEY, name TEXT NOT NULL, land TEXT NOT NULL REFERENCES land);\n"
        "CREATE VIEW summary AS SELECT l.name, count(*) AS many, avg(t.id) AS middle FROM land l JOIN town t ON t.land = l.code GROUP BY 1;\n"
        "INSERT INTO land VALUES ('DE', 'Germany'), ('FR', 'France');\n"
        "INSERT INTO town VALUES (1, 'Ulm', 'de'), (2, 'Lyon', 'FR')"
    )
    with loaded("sqlite", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        assert "all are as declared" in site.run("check", "--rows").stdout
        told = _told(site, "summary")
        assert "many integer" in told and "middle number" in told
        site.run("fill", "--add", "20", "Land")
        site.run("fill", "--add", "20", "Town")
        assert "all are as declared" in site.run("check", "--rows").stdout


@pytest.mark.parametrize("word", WORDS)
def test_rows_are_made_that_lead_by_several_columns(word: str, tmp_path: Path) -> None:
    text = (
        "CREATE TABLE yard (id INTEGER PRIMARY KEY, name VARCHAR(20) NOT NULL);\n"
        "CREATE TABLE place (yard_id INTEGER NOT NULL REFERENCES yard (id), no INTEGER NOT NULL, PRIMARY KEY (yard_id, no));\n"
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, yard_id INTEGER NOT NULL, no INTEGER NOT NULL, "
        "FOREIGN KEY (yard_id) REFERENCES yard (id), FOREIGN KEY (yard_id, no) REFERENCES place (yard_id, no));\n"
        "CREATE TABLE sign (yard INTEGER NOT NULL, no INTEGER NOT NULL, word VARCHAR(3) NOT NULL, "
        "PRIMARY KEY (yard, no), FOREIGN KEY (yard, no) REFERENCES place (yard_id, no));\n"
        "CREATE TABLE trip (id INTEGER PRIMARY KEY, yard INTEGER, no INTEGER, "
        "FOREIGN KEY (yard, no) REFERENCES place (yard_id, no));\n"
        "INSERT INTO yard VALUES (1, 'A'), (2, 'B'), (3, 'C');\n"
        "INSERT INTO place VALUES (1, 5), (1, 6), (2, 5), (3, 7), (3, 8), (3, 9)"
    )
    with loaded(word, tmp_path, text) as address:
        site = adopted(address, tmp_path)
        for model, rows in (("Hive", 40), ("Trip", 40), ("Sign", 6)):
            site.run("fill", "--add", str(rows), model)
        told = site.run("fill", "--add", "1", "Sign", code=1).stderr
        assert re.search("no (more )?Signs? (can|could) be made up", told), told
        with connect(address, tmp_path) as opened:
            led = "SELECT DISTINCT yard_id, no FROM hive"
            assert len(opened.run(led)) == 6
            assert opened.run("SELECT count(*) FROM sign") == [(6,)]
            assert opened.run("SELECT count(*) FROM trip WHERE yard IS NOT NULL")[0][0] > 5


def test_rows_that_would_lead_to_none_say_what_to_make_first(tmp_path: Path) -> None:
    text = (
        "CREATE TABLE place (yard INTEGER NOT NULL, no INTEGER NOT NULL, PRIMARY KEY (yard, no));\n"
        "CREATE TABLE hive (id INTEGER PRIMARY KEY, yard INTEGER NOT NULL, no INTEGER NOT NULL, "
        "FOREIGN KEY (yard, no) REFERENCES place (yard, no))"
    )
    with loaded("sqlite", tmp_path, text) as address:
        site = adopted(address, tmp_path)
        told = site.run("fill", "--add", "3", "Hive", code=1).stderr
        assert "every Hive leads to a Place by yard and no, and there is none" in told
        assert "welbik fill --add 10 Place" in told
