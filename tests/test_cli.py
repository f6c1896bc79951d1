"""What people do wrong ends in one clear message, and loses nothing."""

from __future__ import annotations

import json
import os
import signal
import socket
import subprocess
import sys
from collections.abc import Callable

import pytest
from conftest import WELBIK, Project

from welbik import __version__
from welbik.cli.main import COMMANDS


def test_the_version_and_help_of_every_command(empty: Project) -> None:
    assert empty.run("--version").stdout == f"welbik {__version__}\n"
    overview = empty.run("--help").stdout
    for name in COMMANDS:
        assert name in overview
        said = empty.run(name, "--help").stdout
        assert "Example:" in said and f"welbik {name}" in said


@pytest.mark.parametrize(
    "command",
    [name for name in COMMANDS if name not in ("init", "adopt", "demo", "sample", "peek")],
)
def test_no_project_here(empty: Project, command: str) -> None:
    more = ["Hive", "code text 7"] if command == "add" else []
    said = empty.run(command, *more, code=2).stderr
    assert "no project here" in said and "welbik init" in said


def test_an_unknown_command_or_option_is_wrong_usage(project: Project) -> None:
    assert "did you mean build?" in project.run("biuld", code=2).stderr
    assert "--preveiw" in project.run("build", "--preveiw", code=2).stderr
    assert "did you mean Hive?" in project.run("sample", "Hives", code=2).stderr
    assert "is no folder" in project.run("check", "--project", "nowhere", code=2).stderr


TOML = [
    ("title = 5", "is not a text"),
    ('page = "5"', "is not a whole number"),
    ("page = 0", "1 to 1000"),
    ("pages = 5", "did you mean page?"),
    ("title = ", "no valid TOML"),
    ('package = "my bees"', "can't be a package's name"),
    ('package = "class"', "can't be a package's name"),
    ('package = "flask"', "taken"),
    ('package = "json"', "taken"),
    ('timezone = "Moon/Base"', "no time zone"),
]


@pytest.mark.parametrize(("line", "message"), TOML)
def test_wrong_settings(project: Project, line: str, message: str) -> None:
    project.write("welbik.toml", line)
    assert message in project.run("build", code=1).stderr


DATABASES = [
    ("sqlite:///no/such/folder/bees.db", "does not exist"),
    ("sqlite:///models", "it is a folder"),
    ("sqlite:///models/bees.welbik", "not a database"),
    ("sqlite://", "names no file"),
    ("bees.db", "no database address"),
    ("oracle://localhost/bees", "no database is called"),
    ("sqlit:///bees.db", "did you mean sqlite?"),
]


@pytest.mark.parametrize(("address", "message"), DATABASES)
def test_a_database_that_can_not_be_opened(project: Project, address: str, message: str) -> None:
    project.run("build")
    before = project.files()
    assert message in project.run("migrate", code=1, DATABASE_URL=address).stderr
    assert "DATABASE_URL" in project.run("migrate", code=1, DATABASE_URL=address).stderr
    assert project.files() == before


def test_files_that_can_not_be_read(project: Project) -> None:
    (project.root / "models/latin.welbik").write_bytes(
        "model Größe\n    a text\n".encode("latin-1")
    )
    said = project.run("check", code=1).stdout
    assert "models/latin.welbik:1:9: byte 0xf6 is not UTF-8" in said
    (project.root / "models/latin.welbik").write_bytes(
        "\ufeffmodel Colour\r\n    a text 9\r\n".encode()
    )
    assert "3 models in 2 files" in project.run("check").stdout


def test_no_declarations(project: Project) -> None:
    project.declare("# nothing yet\n")
    assert "No model is declared yet" in project.run("check").stdout
    assert "no model is declared" in project.run("build", code=1).stderr
    (project.root / "models/bees.welbik").unlink()
    assert "no declarations" in project.run("check", code=1).stderr


def test_commands_stop_at_problems_and_name_the_next_step(project: Project) -> None:
    assert "welbik migrate" in project.run("fill", code=1).stderr
    assert "welbik build" in project.run("serve", "--port", "0", code=1).stderr
    project.declare("model Hive\n    code txt\n")
    for command in ("build", "migrate", "fill"):
        assert "welbik check" in project.run(command, code=1).stderr


def test_init_takes_over_nothing(empty: Project) -> None:
    empty.write("models/mine.welbik", "model Mine\n    a text\n")
    empty.run("init", ".", "--package", "mine", code=2)
    assert not (empty.root / "welbik.toml").exists()
    assert empty.read("models/mine.welbik") == "model Mine\n    a text\n"
    empty.run("init", "new", "--package", "9lives", code=1)
    assert not (empty.root / "new").exists()
    empty.run("init", "new")
    assert "a project in new already" in empty.run("init", "new", code=2).stderr
    assert "not empty" in empty.run("demo", "models", code=2).stderr


def test_a_folder_named_as_no_package_can_be_gets_one_that_can(empty: Project) -> None:
    for folder, package in (("9 lives!", "site_9_lives"), ("json", "json_site"), ("Bees", "bees")):
        empty.run("init", folder)
        assert f'package = "{package}"' in empty.read(f"{folder}/welbik.toml")


def test_a_busy_port(built: Project) -> None:
    with socket.socket() as other:
        other.bind(("127.0.0.1", 0))
        other.listen()
        said = built.run("serve", "--port", str(other.getsockname()[1]), code=2).stderr
    assert "can't serve on" in said and "--port" in said


def test_mistakes_in_the_application_are_placed(built: Project) -> None:
    built.replace("bees/hive/form.py", "form = forms", "form = oops\nform = forms")
    said = built.run("serve", "--port", "0", code=1).stderr
    assert "bees/hive/form.py" in said and "NameError" in said


def test_samples_in_every_format(project: Project) -> None:
    rows = json.loads(project.run("sample", "Hive", "--rows", "4", "--format", "json").stdout)
    assert len(rows) == 4 and set(rows[0]) == {"code", "keeper", "frames", "kind", "opened"}
    assert isinstance(rows[0]["frames"], int) and rows[0]["keeper"].count(" ")
    lines = project.run("sample", "Hive", "--rows", "4", "--format", "csv").stdout.splitlines()
    assert lines[0] == "code,keeper,frames,kind,opened" and len(lines) == 5
    narrow = project.run("sample", "Hive", COLUMNS="50").stdout
    assert max(map(len, narrow.splitlines())) <= 50
    assert "up to 1,000,000" in project.run("sample", "Hive", "--rows", "0", code=2).stderr


def test_plain_output_without_a_terminal_and_with_no_color(project: Project) -> None:
    project.declare("model Hive\n    code txt\n")
    assert "\x1b" not in project.run("check", code=1).stdout


def _interrupted(
    project: Project, *arguments: str, wait_for: str = ""
) -> subprocess.CompletedProcess[str]:
    """Sends Ctrl-C once the command has said something."""
    process = subprocess.Popen(
        [WELBIK, *arguments], cwd=project.root, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True,
        env={**os.environ, "PYTHONUNBUFFERED": "1"},
    )  # fmt: skip
    assert process.stdout
    line = process.stdout.readline()
    assert wait_for in line
    process.send_signal(signal.SIGINT)
    out, error = process.communicate(timeout=60)
    return subprocess.CompletedProcess(arguments, process.returncode, line + out, error)


def test_ctrl_c_stops_serving_quietly(built: Project) -> None:
    done = _interrupted(built, "serve", "--port", "0", wait_for="http://127.0.0.1:")
    assert "Traceback" not in done.stderr and "Stopped." in done.stderr


_SLOW_FILL = """
import os, signal, sys
from welbik.data import making
real = making.Maker.columns
def rows(self, model, *arguments):
    if model.name == "Hive":
        os.kill(os.getpid(), signal.SIGINT)
    return real(self, model, *arguments)
making.Maker.columns = rows
from welbik.cli.main import main
sys.argv = ["welbik", "fill"]
main()
"""


def test_ctrl_c_while_filling_leaves_whole_tables_and_it_goes_on(
    make: Callable[[str], Project],
) -> None:
    from conftest import HIVES

    project = make(HIVES)
    project.run("build")
    project.run("migrate")
    done = subprocess.run(
        [sys.executable, "-c", _SLOW_FILL],
        cwd=project.root,
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 130 and "Stopped." in done.stderr and "Traceback" not in done.stderr
    assert "What is stored stays" in done.stderr
    assert "0 of 40 Hive" in project.run("status", code=1).stdout
    gone_on = project.run("fill").stdout
    assert "Went on" in gone_on and "40 Hive" in gone_on and "Keeper" not in gone_on


def test_a_reader_that_goes_away_is_no_error(project: Project) -> None:
    done = subprocess.run(
        f"{WELBIK} sample Hive --rows 20000 --format csv | head -1", shell=True, cwd=project.root,
        capture_output=True, text=True, check=False,
    )  # fmt: skip
    assert done.stdout.startswith("code,") and "Traceback" not in done.stderr


@pytest.mark.parametrize(
    ("arguments", "spared"),
    [
        (["--version"], ["welbik.language", "tomllib", "sqlite3"]),
        (["check"], ["numpy", "jinja2", "sqlite3", "flask", "sqlalchemy", "pytest"]),
        (["build"], ["numpy", "sqlite3", "flask", "sqlalchemy"]),
        (["migrate"], ["numpy", "jinja2", "flask", "sqlalchemy"]),
        (["sample", "Hive"], ["jinja2", "flask", "sqlalchemy"]),
        (["fill"], ["jinja2", "flask", "sqlalchemy"]),
    ],
)
def test_a_command_imports_only_what_it_needs(
    built: Project, arguments: list[str], spared: list[str]
) -> None:
    done = subprocess.run(
        [sys.executable, "-X", "importtime", "-m", "welbik", *arguments], cwd=built.root,
        capture_output=True, text=True, check=True,
    )  # fmt: skip
    imported = {
        line.rsplit("|", 1)[1].strip()
        for line in done.stderr.splitlines()
        if line.startswith("import time:")
    }
    assert not imported & set(spared)
