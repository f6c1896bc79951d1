"""A wrong address costs a minute: each mistake is told with its place and its remedy."""

from __future__ import annotations

import socket
import ssl
from collections.abc import Iterator
from pathlib import Path

import pytest
import servers
from conftest import Project
from hypothesis import given
from hypothesis import strategies as st
from loaded import application

from welbik.storage.address import read_address, renamed
from welbik.storage.connect import connect

SERVERS = ("postgresql", "mariadb")
ODD = "p@ss/w:rd%?#"
QUOTED = "p%40ss%2Fw%3Ard%25%3F%23"


def _said(project: Project, command: str, address: str) -> str:
    """What a command says of an address, on one line."""
    said = project.run(command, code=1, DATABASE_URL=address)
    assert "Traceback" not in said.stderr
    return " ".join((said.stderr + said.stdout).replace("→", "").split())


@pytest.fixture
def closed() -> Iterator[int]:
    """A port at which nobody listens."""
    with socket.socket() as one:
        one.bind(("127.0.0.1", 0))
        yield one.getsockname()[1]


@pytest.mark.parametrize("word", SERVERS)
def test_each_mistake_has_a_message_of_its_own(built: Project, word: str, closed: int) -> None:
    own = renamed(servers.server(word), "bees")
    other = renamed(servers.server(next(w for w in SERVERS if w != word)), "bees")
    here = read_address(own)
    wrong = {
        f"{word}://me:secret@127.0.0.1:{closed}/bees": f"no server listens at 127.0.0.1, port {closed}",
        f"{word}://me:secret@no-such.invalid/bees": "no machine is called 'no-such.invalid'",
        own: "the server has no database 'bees' make it: CREATE DATABASE bees",
        own.replace(f"{here.user}@", "nobody:secret@"): "the server does not let 'nobody' in",
        f"{word}://{other.partition('://')[2]}": f"is no {word} server correct the port",
        f"{word}://me:secret@a@b/bees": "more than one @",
        f"{word}://me:secret@127.0.0.1:port/bees": "a port that is no number",
    }
    for address, message in wrong.items():
        for command in ("migrate", "fill", "status") if address == own else ("migrate",):
            said = _said(built, command, address)
            assert message in said and "secret" not in said, said
            assert "comes from DATABASE_URL in the environment" in said
    built.replace("welbik.toml", "sqlite:///bees.db", own)
    assert "'database' in welbik.toml, line 3" in _said(built, "fill", "")


@pytest.mark.parametrize("word", SERVERS)
def test_a_password_may_hold_any_character(word: str, tmp_path: Path) -> None:
    with servers.database(word, tmp_path) as address:
        name = read_address(address).name
        with connect(address, tmp_path) as database:
            made = "CREATE ROLE {} LOGIN PASSWORD '{}'"
            if word == "mariadb":
                made = "CREATE USER {}@'%' IDENTIFIED BY '{}'"
            database.run(made.format(name, ODD))
            if word == "mariadb":
                database.run(f"GRANT ALL ON {name}.* TO {name}@'%'")
            server = read_address(address)
            own = f"{word}://{name}:{QUOTED}@{server.host}:{server.port}/{name}"
            # What the driver is told besides may say again what it is told anyway.
            own += "?connect_timeout=7" if word == "postgresql" else ""
            assert read_address(own).password == ODD and ODD not in read_address(own).shown
            with connect(own, tmp_path) as mine:
                assert mine.run("SELECT 1") == [(1,)]
            database.run(f"DROP {'ROLE' if word == 'postgresql' else 'USER'} {name}")


@pytest.mark.parametrize("word", SERVERS)
def test_who_may_not_make_tables_is_told_what_to_ask_for(built: Project, word: str) -> None:
    with servers.database(word, built.root) as address:
        name = read_address(address).name
        server = read_address(address)
        with connect(address, built.root) as database:
            if word == "postgresql":
                database.run(f"CREATE ROLE {name} LOGIN")
            else:
                database.run(f"CREATE USER {name}@'%'")
                database.run(f"GRANT SELECT ON {name}.* TO {name}@'%'")
            weak = f"{word}://{name}@{server.host}:{server.port}/{name}"
            said = _said(built, "migrate", weak)
            assert "lacks a privilege" in said and "GRANT" in said
            assert not database.table_names()
            database.run(f"DROP {'ROLE' if word == 'postgresql' else 'USER'} {name}")


@pytest.mark.parametrize(("word", "module"), [("postgresql", "psycopg"), ("mariadb", "pymysql")])
def test_a_missing_driver_is_told_with_the_line_that_installs_it(
    built: Project, word: str, module: str
) -> None:
    (built.root / "less" / module).mkdir(parents=True)
    built.write(f"less/{module}/__init__.py", "raise ImportError('not here')\n")
    said = built.run(
        "migrate",
        code=1,
        DATABASE_URL=f"{word}://x@localhost/x",
        PYTHONPATH=str(built.root / "less"),
    ).stderr
    assert "need a driver" in said and "pip install" in said


@pytest.mark.parametrize("word", SERVERS)
def test_a_missing_database_is_made_where_somebody_agrees(built: Project, word: str) -> None:
    address = renamed(servers.server(word), "welbik_agreed")
    try:
        said = built.at_terminal("migrate", typed="y\n", DATABASE_URL=address)
        assert "no database 'welbik_agreed'" in said and "as declared" in said
        assert "45 rows added" in built.run("fill", DATABASE_URL=address).stdout
    finally:
        servers.remove(address)


_plain = st.text(st.characters(min_codepoint=33, max_codepoint=126), min_size=1, max_size=12)


@given(user=_plain, password=_plain, name=_plain)
def test_an_address_is_read_as_it_was_written(user: str, password: str, name: str) -> None:
    from urllib.parse import quote

    text = f"mariadb://{quote(user, '')}:{quote(password, '')}@host:3307/{quote(name, '')}?a=b%20c"
    found = read_address(text)
    assert (found.user, found.password, found.name) == (user, password, name)
    assert (found.host, found.port, found.options) == ("host", 3307, {"a": "b c"})
    assert read_address(renamed(text, "other")).name == "other"
    if len(password) > 4:
        assert quote(password, "") not in found.shown.replace(f"{user}@", "").replace(
            f"/{name}", ""
        )


def test_no_certificates_are_read_for_a_server_on_this_machine(
    tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    def refuse(*arguments: object, **options: object) -> object:
        raise AssertionError("the certificates of all the world were read")

    with application("model Hive\n    name text\n", on="mariadb") as app:
        app.flask.extensions["engine"].dispose()
        monkeypatch.setattr(ssl, "create_default_context", refuse)
        with app.database() as database:
            assert database.count("hive") == 0
        assert app.client.get("/hives").status_code == 200
