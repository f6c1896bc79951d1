"""A project from somebody else, a clone or a pull request, reads and writes nothing outside its folder."""

from __future__ import annotations

import base64
import json
import os
import shutil
import socket
import subprocess
import sys
import threading
import zlib
from contextlib import suppress
from pathlib import Path
from tempfile import TemporaryDirectory

import pytest
from conftest import HERE, HIVES, Project
from hypothesis import given, settings
from hypothesis import strategies as st

from welbik.problems import WelbikError
from welbik.project.database import open_database
from welbik.project.machine_state import state_folder
from welbik.project.record import digest_of
from welbik.project.settings import read_settings
from welbik.storage.address import read_address
from welbik.storage.streaming import only_file

ROUNDS = int(os.environ.get("FOLDER_ROUNDS", "15"))
SECRET = "SECRET=hunter2"
COMMANDS = [
    *(["check"], ["check", "--fix"], ["status"], ["show"], ["tidy"], ["tidy", "--check"]),
    *(["build"], ["build", "--preview"], ["build", "--preview", "--diff"], ["build", "--mark"]),
    *(["migrate"], ["migrate", "--preview"], ["migrate", "--sql"], ["migrate", "--undo"]),
    *(["fill"], ["sample", "Hive"], ["peek", "Hive"], ["add", "Hive", "note text 20"]),
    *(["report"], ["diagram", "--output", "models.svg"], ["sync"]),
]  # fmt: skip


class Checkout:
    """A project folder beside a folder that nothing may touch."""

    def __init__(self, folder: Path) -> None:
        self.root, self.victim, self.own = folder / "site", folder / "victim", folder / "own"
        for path in (self.root / "models", self.victim, self.own):
            path.mkdir(parents=True)
        (self.victim / "known.conf").write_text(f"{SECRET}\n")
        (self.victim / "rows.csv").write_text(f"code\n{SECRET}\n")
        self.write("welbik.toml", 'package = "bees"\ndatabase = "sqlite:///bees.db"\n')
        self.write("models/bees.welbik", HIVES)

    def write(self, name: str, text: str) -> None:
        path = self.root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")

    def run(self, *arguments: str, reaches: bool = False) -> subprocess.CompletedProcess[str]:
        """Runs a command in the sandbox; nothing outside was touched or shown, and no traceback.

        It `reaches` a server on this machine only where that is said.
        """
        report = self.own / "report"
        report.unlink(missing_ok=True)
        before = {path: path.read_bytes() for path in self.victim.iterdir()}
        done = subprocess.run(
            [sys.executable, HERE / "sandbox.py", report, self.root, self.own]
            + ["127.0.0.1"] * reaches
            + ["--", *arguments],
            capture_output=True,
            text=True,
            timeout=60,
            stdin=subprocess.DEVNULL,
            env={
                **{k: v for k, v in os.environ.items() if k != "DATABASE_URL"},
                **{"XDG_STATE_HOME": str(self.own), "TMPDIR": str(self.own)},
                **{"HOME": str(self.own)},
                **{"PYTHONDONTWRITEBYTECODE": "1", "MPLCONFIGDIR": str(self.own)},
            },
            check=False,
        )
        said = done.stdout + done.stderr
        assert not report.exists() or not report.read_text(), (arguments, report.read_text(), said)
        assert {path: path.read_bytes() for path in self.victim.iterdir()} == before, arguments
        assert SECRET not in said, said
        assert "Traceback" not in said, (arguments, said)
        assert done.returncode in (0, 1, 2), (arguments, done.returncode, said)
        return done


@pytest.fixture
def checkout(tmp_path: Path) -> Checkout:
    return Checkout(tmp_path)


def _packed(text: str) -> str:
    return base64.b64encode(zlib.compress(text.encode(), 9)).decode()


def _pack_line(name: str, text: str, place: str = "") -> str:
    return "\t".join([name, digest_of(text), _packed(text), *([place] if place else [])]) + "\n"


def test_a_committed_journal_is_never_carried_out(checkout: Checkout) -> None:
    target = str(checkout.victim / "known.conf")
    for name in (target, "../victim/known.conf", "bees.py"):
        for moves in ([["", name]], [["new-0", name]]):
            checkout.write(".welbik/staging-x/new-0", "owned\n")
            text = json.dumps(moves)
            checkout.write(".welbik/staging-x/journal.json", text)
            checkout.write(".welbik/journal.json", json.dumps({"staging": "x", "moves": moves}))
            assert checkout.run("check").returncode == 0
            assert not (checkout.root / "bees.py").exists()
            assert not (checkout.root / ".welbik/staging-x").exists()


def test_a_journal_of_this_machine_stays_below_the_root(
    checkout: Checkout, monkeypatch: pytest.MonkeyPatch
) -> None:
    """Also where the folder of the journal can be written to by others: paths are resolved again."""
    monkeypatch.setenv("XDG_STATE_HOME", str(checkout.own))
    folder = state_folder(checkout.root, create=True)
    assert folder is not None and folder.is_relative_to(checkout.own)
    moves = [["", "../victim/known.conf"]]
    (folder / "journal.json").write_text(json.dumps({"staging": "staging-x", "moves": moves}))
    checkout.write(".welbik/staging-x/new-0", "owned\n")
    checkout.run("check")


@pytest.mark.parametrize("name", ["../../victim/known.conf", "..", ".envrc", "a/../b", ""])
def test_a_record_names_generated_files_alone(checkout: Checkout, name: str) -> None:
    text = f"{SECRET}\n"
    checkout.write(".welbik/base/bees.pack", _pack_line(name, text))
    assert "bees.pack" in checkout.run("build", "--preview", "--diff").stderr
    checkout.write(".welbik/base/bees.pack", _pack_line("__init__.py", text, name or "/etc/hosts"))
    checkout.run("build", "--preview", "--diff")
    checkout.run("build")


def test_a_small_record_does_not_unpack_to_gigabytes(checkout: Checkout) -> None:
    checkout.write(".welbik/base/bees.pack", _pack_line("huge.py", " " * 100_000_000))
    code = "import resource; resource.setrlimit(resource.RLIMIT_AS, (1_500_000_000,) * 2)"
    run = "from welbik.cli.main import main; main()"
    done = subprocess.run(
        [sys.executable, "-c", f"import sys; sys.argv = ['welbik', 'build']; {code}; {run}"],
        cwd=checkout.root,
        env={**os.environ, "OPENBLAS_NUM_THREADS": "1"},
        capture_output=True,
        text=True,
        check=False,
    )
    assert done.returncode == 0, done.stderr


LINKS: list[tuple[str, str]] = [
    ("models/z.welbik", "../../victim/known.conf"),
    ("models", "../victim"),
    ("data", "../victim"),
    ("migrations", "../victim"),
    ("bees", "../victim"),
    ("tests", "../victim"),
    (".welbik", "../victim"),
    (".welbik/base", "../../victim"),
    ("instance", "../victim"),
    ("welbik.toml", "../victim/known.conf"),
    ("migrations/0001-make-hive.toml", "../../victim/known.conf"),
    ("bees.db", "../victim/bees.db"),
    ("models/z.welbik", "/dev/zero"),
    ("data/rows.csv", "/dev/zero"),
    ("welbik.toml", "/dev/zero"),
]


def _place(checkout: Checkout, name: str, target: str) -> None:
    path = checkout.root / name
    path.parent.mkdir(parents=True, exist_ok=True)
    if path.is_dir() and not path.is_symlink():
        shutil.rmtree(path)
    path.unlink(missing_ok=True)
    path.symlink_to(target)


@pytest.mark.parametrize(("name", "target"), LINKS)
def test_links_lead_nowhere(checkout: Checkout, name: str, target: str) -> None:
    with (checkout.root / "models/bees.welbik").open("a") as file:
        file.write('\nmodel Row\n    code text 40, required, unique\n\nrows Row from "rows.csv"\n')
    checkout.write("data/rows.csv", "code\na\n")
    _place(checkout, name, target)
    for arguments in (["check"], ["build"], ["migrate"], ["fill"]):
        checkout.run(*arguments)


def test_devices_pipes_and_huge_files_are_refused_at_once(checkout: Checkout) -> None:
    os.mkfifo(checkout.root / "models/pipe.welbik")
    assert "not a regular file" in checkout.run("check").stderr
    (checkout.root / "models/pipe.welbik").unlink()
    with (checkout.root / "models/huge.welbik").open("wb") as file:
        file.truncate(3_000_000_000)
    assert "more than 4 MB" in checkout.run("check").stderr


def test_a_project_s_address_names_no_file_outside(checkout: Checkout) -> None:
    shutil.copy(checkout.root / "welbik.toml", checkout.victim / "other.db")
    for address in (f"sqlite:///{checkout.victim}/other.db", "sqlite:///../victim/new.db"):
        checkout.write("welbik.toml", f'package = "bees"\ndatabase = "{address}"\n')
        for arguments in (["status"], ["migrate"]):
            said = checkout.run(*arguments)
            assert "outside the project" in said.stdout + said.stderr
    for address in ("postgresql://me@127.0.0.1:1/x?passfile=/etc/passwd",
                    "postgresql://me@127.0.0.1:1/x?service=a",
                    "postgresql://me@127.0.0.1:1/x?sslrootcert=/etc/passwd",
                    "mariadb://me@127.0.0.1:1/x?ssl_key=/etc/passwd"):  # fmt: skip
        checkout.write("welbik.toml", f'package = "bees"\ndatabase = "{address}"\n')
        said = checkout.run("migrate")
        assert "project's database address" in said.stderr


@pytest.mark.parametrize(
    "step",
    [
        "sql = { sqlite = \"ATTACH DATABASE '../victim/a.db' AS a\" }",
        'sql = { sqlite = ["COMMIT", "VACUUM INTO \'../victim/a.db\'"] }',
        'python = "os:getcwd"',
        'python = "shutil:rmtree"',
    ],
)
def test_a_migration_changes_the_database_alone(checkout: Checkout, step: str) -> None:
    checkout.run("migrate")
    first = (checkout.root / "migrations").glob("*.toml").__next__().read_text()
    schema = first.partition('schema = "')[2].partition('"')[0]
    checkout.write("migrations/0002-by-hand.toml", f'schema = "{schema}"\n\n[[step]]\n{step}\n')
    assert checkout.run("migrate").returncode == 1


def test_an_address_that_was_typed_is_remembered_on_this_machine(
    tmp_path: Path, project: Project
) -> None:
    project.run("sync", "--help")
    project.run("migrate")
    os.environ.pop("DATABASE_URL", None)
    made = Project(tmp_path / "elsewhere")
    made.root.mkdir()
    made.run("adopt", f"sqlite:///{project.root}/bees.db", "site")
    (made.root / "site").rename(made.root / "moved")
    told = made.run("status", "--project", "moved", code=1).stdout
    assert "outside the project" in told and "DATABASE_URL" in told
    (made.root / "moved").rename(made.root / "site")
    assert "outside the project" not in made.run("status", "--project", "site", code=1).stdout


def test_a_password_of_this_machine_goes_to_no_server_that_a_project_names(
    project: Project, monkeypatch: pytest.MonkeyPatch
) -> None:
    """The server asks for a password in the clear, and is sent none of the environment's."""
    sent: list[bytes] = []
    listener = socket.create_server(("127.0.0.1", 0))

    def serve() -> None:
        while True:
            try:
                connection, _ = listener.accept()
            except OSError:
                return
            with connection:
                connection.settimeout(3)
                try:
                    first = connection.recv(4096)
                    if len(first) == 8:
                        connection.sendall(b"N")
                        first = connection.recv(4096)
                    connection.sendall(b"R" + (8).to_bytes(4, "big") + (3).to_bytes(4, "big"))
                    sent.append(connection.recv(4096))
                except OSError:
                    continue

    threading.Thread(target=serve, daemon=True).start()
    port = listener.getsockname()[1]
    monkeypatch.setenv("PGPASSWORD", "hunter2")
    address = f"postgresql://me@127.0.0.1:{port}/bees"
    project.write("welbik.toml", f'package = "bees"\ndatabase = "{address}"\n')
    settings = read_settings(project.root)
    with pytest.raises(WelbikError):
        open_database(settings)
    assert not any(b"hunter2" in one for one in sent)
    monkeypatch.setenv("DATABASE_URL", address)
    with pytest.raises(WelbikError):
        open_database(read_settings(project.root))
    assert any(b"hunter2" in one for one in sent)
    listener.close()


class AskingServer:
    """Speaks MariaDB's protocol, and answers each statement by asking for a file of the client's."""

    def __init__(self, asked: str, after: int) -> None:
        self.asked, self.after, self.received = asked.encode(), after, b""
        self.listener = socket.create_server(("127.0.0.1", 0))
        self.port = self.listener.getsockname()[1]
        threading.Thread(target=self._serve, daemon=True).start()

    def _serve(self) -> None:
        while True:
            try:
                connection, _ = self.listener.accept()
            except OSError:
                return
            with connection, suppress(OSError, ValueError):
                connection.settimeout(3)
                self._talk(connection)

    def _talk(self, connection: socket.socket) -> None:
        ok, salt = b"\0\0\0\x02\0\0\0", b"12345678"
        greeting = b"\x0a11.4.2-MariaDB\0" + (1).to_bytes(4, "little") + salt + b"\0"
        greeting += (
            b"\xff\xf7\x2d\x02\0\xff\x81\x15" + bytes(10) + b"123456789012\0mysql_native_password\0"
        )
        self._send(connection, 0, greeting)
        self.received += connection.recv(65536)
        self._send(connection, 2, ok)
        for number in range(1_000):
            told = connection.recv(65536)
            self.received += told
            if not told:
                return
            if number < self.after:
                self._send(connection, 1, ok)
                continue
            self._send(connection, 1, b"\xfb" + self.asked)
            self.received += connection.recv(65536)

    def _send(self, connection: socket.socket, number: int, body: bytes) -> None:
        connection.sendall(len(body).to_bytes(3, "little") + bytes([number]) + body)


@pytest.mark.parametrize("command", ["status", "migrate", "fill", "adopt"])
@pytest.mark.parametrize("after", [0, 1, 2])
def test_a_server_is_sent_no_file(checkout: Checkout, command: str, after: int) -> None:
    server = AskingServer(str(checkout.victim / "known.conf"), after)
    address = f"mariadb://me@127.0.0.1:{server.port}/bees"
    checkout.write("welbik.toml", f'package = "bees"\ndatabase = "{address}"\n')
    wanted = [command, *([address, "made"] if command == "adopt" else [])]
    checkout.run(*wanted, reaches=True)
    assert server.received or command == "fill"
    assert SECRET.encode() not in server.received
    server.listener.close()


def test_the_driver_opens_the_offered_file_alone(tmp_path: Path) -> None:
    offered, other = tmp_path / "rows", tmp_path / "other"
    for path in (offered, other):
        path.write_text("x")
    with only_file(str(offered)):
        assert offered.read_text() == "x"
        with pytest.raises(WelbikError, match="not offered"):
            other.read_text()
    assert other.read_text() == "x"


# What is drawn: trees of hostile files.

NAMES = ["welbik.toml", "models/a.welbik", "models/bees.welbik", "data/rows.csv", "bees/__init__.py",
         "migrations/0001-a.toml", "tests/test_hive.py", ".welbik/built", ".welbik/base/bees.pack",
         ".welbik/base/_.pack", ".welbik/base/../../x.pack", ".welbik/made/a.py", ".gitignore",
         ".welbik/staging-x/journal.json", ".welbik/staging-x/new-0", "pyproject.toml", "instance/files/a",
         ".welbik/base/models.pack", ".welbik/base/.git/hooks.pack", "ruff.toml", "bees.db"]  # fmt: skip
PATHS = ["../../victim/known.conf", "../victim/known.conf", "/etc/passwd", "..", ".", "", "a\0b", "~",
         "bees/../../victim/known.conf", "C:\\x", ".git/config", "bees/hive/model.py", "-", "é" * 90]  # fmt: skip
PIECES = ['package = "../victim"', 'database = "sqlite:///../victim/x.db"', "page = 1e999", "title = 3",
          "[[step]]", 'drop_table = "hive"', 'python = "os:getcwd"', 'sql = { sqlite = "ATTACH DATABASE \'../victim/a.db\' AS a" }',
          'schema = "x"', 'rows Hive from "../../victim/rows.csv"', 'extend = "../victim/known.conf"',
          "version 0.1", "made x\ty\tz", "model Hive", "    code text 7..7, required, unique", "\0", "\ufeff", "a = " + "[" * 900]  # fmt: skip


def _contents() -> st.SearchStrategy[str]:
    texts = st.sampled_from([HIVES, "x\n", SECRET, "", "\ufeffa\r\n"])
    line = st.builds(
        _pack_line, st.sampled_from([*PATHS, "form.py"]), texts, st.sampled_from(PATHS)
    )
    move = st.tuples(st.sampled_from(["", "new-0", "../../x"]), st.sampled_from(PATHS))
    journal = st.lists(move, max_size=3).map(json.dumps)
    pieces = st.lists(st.sampled_from(PIECES), max_size=4).map("\n".join)
    return st.one_of(texts, st.lists(line, max_size=3).map("".join), journal, pieces)


def _trees() -> st.SearchStrategy[list[tuple[str, str, str]]]:
    file = st.tuples(st.just("file"), st.sampled_from(NAMES), _contents())
    link = st.tuples(
        st.just("link"),
        st.sampled_from([*NAMES, "models", "data", "bees", ".welbik", "migrations", "instance"]),
        st.sampled_from(["../victim", "../victim/known.conf", "/dev/zero", "/", ".", "../own"]),
    )
    return st.lists(st.one_of(file, file, link), min_size=1, max_size=4)


def _draw_on(checkout: Checkout, tree: list[tuple[str, str, str]]) -> None:
    for kind, name, what in tree:
        path = checkout.root / name
        try:
            path.parent.mkdir(parents=True, exist_ok=True)
            if not path.parent.resolve().is_relative_to(checkout.root):
                continue
            if kind == "link":
                _place(checkout, name, what)
            elif not path.is_symlink() and not path.is_dir():
                path.write_text(what, "utf-8")
        except (OSError, ValueError):
            continue


@given(_trees(), st.lists(st.sampled_from(COMMANDS), min_size=1, max_size=2))
@settings(max_examples=ROUNDS)
def test_no_tree_leads_a_command_outside(
    tree: list[tuple[str, str, str]], commands: list[list[str]]
) -> None:
    with TemporaryDirectory() as folder:
        checkout = Checkout(Path(folder))
        _draw_on(checkout, tree)
        for arguments in commands:
            checkout.run(*arguments)


def test_a_password_leaves_this_machine_encrypted_unless_told_otherwise() -> None:
    from welbik.storage import mariadb, postgresql

    def asked(address: str) -> dict[str, object]:
        word = postgresql if address.startswith("p") else mariadb
        given = read_address(address)
        return word._given(given, Path()) if word is postgresql else word._given(given)

    assert asked("postgresql://me:pw@db.example/bees")["sslmode"] == "require"
    assert asked("postgresql://me:pw@db.example/bees?sslmode=disable")["sslmode"] == "disable"
    assert "sslmode" not in asked("postgresql://me:pw@127.0.0.1/bees")

    assert asked("mariadb://me:pw@db.example/bees")["ssl"]
    assert "ssl" in asked("mariadb://me:pw@db.example/bees?ssl_ca=/dev/null")
    assert asked("mariadb://me:pw@db.example/bees?ssl_disabled=true")["ssl_disabled"]
    assert asked("mariadb://me:pw@127.0.0.1/bees")["ssl_disabled"]
