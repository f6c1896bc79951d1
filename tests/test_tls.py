"""Servers that nobody reaches without TLS: the tool and the site do, and say what is wanted."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from pathlib import Path

import pytest
from conftest import Project
from servers import secured

from welbik.storage.address import renamed
from welbik.storage.connect import connect

SIGNED = {"postgresql": "sslmode=verify-full&sslrootcert={}", "mariadb": "ssl_ca={}"}
CIPHER = {
    "postgresql": "SELECT cipher FROM pg_stat_ssl WHERE pid = pg_backend_pid()",
    "mariadb": "SELECT variable_value FROM information_schema.session_status "
    "WHERE variable_name = 'ssl_cipher'",
}


@pytest.fixture(scope="module", params=SIGNED)
def safe(request: pytest.FixtureRequest) -> Iterator[tuple[str, str, Path]]:
    with secured(request.param) as (address, signer):
        yield request.param, address, signer


def test_a_server_is_reached_by_tls_and_by_nothing_else(
    safe: tuple[str, str, Path], make: Callable[[str], Project], tmp_path: Path
) -> None:
    word, address, signer = safe
    project = make("model Hive\n    code text 7, required, unique\nseed\n    3 Hive\n")
    plain = renamed(address, "bees" if word == "mariadb" else "postgres")
    if word == "mariadb":
        with connect(f"{renamed(address, 'mysql')}?ssl_ca={signer}", tmp_path) as database:
            database.run("CREATE DATABASE bees")
    asked = "?sslmode=disable" if word == "postgresql" else ""
    said = project.run("migrate", DATABASE_URL=f"{plain}{asked}", code=1).stderr
    assert "the server wants" in said and "Traceback" not in said
    there = f"{plain}?{SIGNED[word].format(signer)}"
    project.run("sync", DATABASE_URL=there)
    assert "All in step" in project.run("status", DATABASE_URL=there).stdout
    page = (
        "import bees; client = bees.create_app().test_client(); "
        "print(client.get('/hives').text.count('_row-'))"
    )
    assert project.python("-c", page, DATABASE_URL=there).stdout.split() == ["3"]
    with connect(there, project.root) as database:
        assert database.run(CIPHER[word])[0][0]
    # Somebody else signed for a server: it is not talked to, and what to do is said.
    other = tmp_path / "other.pem"
    other.write_text(signer.with_name("server.pem").read_text())
    wrong = f"{plain}?{SIGNED[word].format(other)}"
    said = status(project, wrong)
    option = SIGNED[word].rpartition("&")[2].partition("=")[0]
    assert "certificate is not trusted" in said and f"?{option}=FILE" in said
    opened = page.replace("text.count('_row-')", "status_code")
    served = project.python("-c", opened, DATABASE_URL=wrong)
    assert served.stdout.split()[-1] == "503" and "certificate" in served.stderr + served.stdout
    nowhere = f"{plain}?{SIGNED[word].format(tmp_path / 'none.pem')}"
    said = status(project, nowhere)
    assert "none.pem" in said and "certificate is not trusted" not in said
    assert project.python("-c", opened, DATABASE_URL=nowhere).stdout.split()[-1] == "503"


def status(project: Project, address: str) -> str:
    answer = project.run("status", DATABASE_URL=address, code=1)
    assert "Traceback" not in answer.stdout + answer.stderr
    return answer.stdout
