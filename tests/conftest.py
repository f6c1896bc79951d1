"""Projects in temporary folders, and the installed command run on them."""

from __future__ import annotations

import gc
import os
import pty
import re
import shutil
import signal
import subprocess
import sys
from collections.abc import Callable, Iterator
from contextlib import suppress
from functools import cache
from pathlib import Path
from typing import TYPE_CHECKING, Any

import pytest
import servers
from hypothesis import HealthCheck, settings
from warm import Warm

if TYPE_CHECKING:
    from playwright.sync_api import Browser

# A tenth of the suite's time went to looking for garbage, of which there is little.
gc.set_threshold(50_000, 20, 50)
settings.register_profile(
    "welbik",
    deadline=None,
    # CI says the same of the same commit; on a developer's machine every run looks further.
    derandomize=bool(os.environ.get("CI")),
    max_examples=60 if os.environ.get("CI") else 100,
    suppress_health_check=[HealthCheck.too_slow, HealthCheck.function_scoped_fixture],
)
settings.load_profile("welbik")

# A shell's background jobs ignore Ctrl-C, and so would every command that is started here.
signal.signal(signal.SIGINT, signal.default_int_handler)

WELBIK = str(Path(sys.executable).parent / "welbik")
HERE = Path(__file__).parent
CHROMIUM = (
    shutil.which("chromium") or shutil.which("chromium-browser") or shutil.which("google-chrome")
)


@cache
def warmed() -> Warm:
    return Warm()


class Project:
    """A project's folder, and `welbik` run in it."""

    def __init__(self, root: Path) -> None:
        self.root = root

    def run(
        self, *arguments: str, code: int = 0, typed: str = "", **environment: str
    ) -> subprocess.CompletedProcess[str]:
        """Runs the command; its exit code must be `code`, and it must never show a traceback."""
        done = self._run([WELBIK, *arguments], {"COLUMNS": "100", **environment}, typed)
        assert "Traceback" not in done.stderr, done.stderr
        assert done.returncode == code, f"{done.returncode}\n{done.stdout}\n{done.stderr}"
        return done

    def at_terminal(self, *arguments: str, typed: str, **environment: str) -> str:
        """Runs the command at a terminal of its own; what is seen there. It must succeed."""
        ours, theirs = pty.openpty()
        done = subprocess.Popen(
            [WELBIK, *arguments],
            cwd=self.root,
            stdin=theirs,
            stdout=theirs,
            stderr=theirs,
            env={**os.environ, "COLUMNS": "100", **environment},
            start_new_session=True,
        )
        os.close(theirs)
        os.write(ours, typed.encode())
        seen = b""
        # Reading fails once nobody holds the other end.
        with suppress(OSError):
            while part := os.read(ours, 65536):
                seen += part
        os.close(ours)
        assert done.wait() == 0, seen.decode()
        return seen.decode()

    def sql(self, *statements: str) -> list[tuple[Any, ...]]:
        """Runs statements in the database that DATABASE_URL names; the rows of the last."""
        from welbik.storage.connect import connect

        found: list[tuple[Any, ...]] = []
        with connect(os.environ["DATABASE_URL"], self.root) as database:
            for statement in statements:
                found = database.run(statement)
        return found

    def read(self, name: str) -> str:
        return (self.root / name).read_text("utf-8")

    def write(self, name: str, text: str) -> None:
        path = self.root / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(text, "utf-8")

    def declare(self, text: str) -> None:
        self.write("models/bees.welbik", text)

    def replace(self, name: str, old: str, new: str) -> None:
        text = self.read(name)
        assert old in text
        self.write(name, text.replace(old, new))

    def files(self) -> dict[str, bytes]:
        """Every file's bytes, the database's own apart."""
        return {
            str(path.relative_to(self.root)): path.read_bytes()
            for path in sorted(self.root.rglob("*"))
            if path.is_file() and ".db" not in path.name and "__pycache__" not in path.parts
        }

    def python(self, *arguments: str, **more: str) -> subprocess.CompletedProcess[str]:
        """Runs Python in the project's folder, with `more` in its environment; it must succeed."""
        done = self._run([sys.executable, *arguments], more)
        assert done.returncode == 0, done.stdout + done.stderr
        return done

    def _run(
        self, words: list[str], more: dict[str, str], typed: str = ""
    ) -> subprocess.CompletedProcess[str]:
        environment = {**os.environ, **more}
        warm = warmed()
        if warm.serves(environment):
            return warm.run(words, self.root, environment, typed)
        return subprocess.run(
            words,
            cwd=self.root,
            input=typed,
            capture_output=True,
            text=True,
            env=environment,
            check=False,
        )


HIVES = """\
model Keeper "Looks after hives"
    name    text 2..40, required
    email   email, required, unique
    hives   <- Hive.keeper, sorted by code

model Hive
    code    text 7..7, required, unique, matches "[A-Z]{2}-[0-9]{4}", hint "Such as AB-1234"
    keeper  -> Keeper, required
    frames  integer 4..24, required, default 11
    kind    one of national | long "Long hive", default national
    opened  date 2015-01-01..today, required
    list code, keeper, frames

seed
    5 Keeper
    40 Hive
"""


def pytest_configure(config: pytest.Config) -> None:
    if not hasattr(config, "workerinput"):
        quick = servers.quick_folder()
        servers.begin(quick)
        os.environ.setdefault("PYTEST_DEBUG_TEMPROOT", quick)
        # What Welbik remembers of a checkout goes with the tests' folders.
        os.environ["XDG_STATE_HOME"] = f"{quick}/state"


def pytest_unconfigure(config: pytest.Config) -> None:
    if warmed.cache_info().currsize:
        warmed().end()
    if not hasattr(config, "workerinput"):
        servers.end()


@pytest.fixture
def empty(tmp_path: Path) -> Project:
    """A folder without a project."""
    return Project(tmp_path)


@pytest.fixture
def project(tmp_path: Path) -> Project:
    """A small project, nothing built yet."""
    made = Project(tmp_path)
    made.write("welbik.toml", 'title = "Bees"\npackage = "bees"\ndatabase = "sqlite:///bees.db"\n')
    made.declare(HIVES)
    return made


@pytest.fixture(scope="session")
def built_once(tmp_path_factory: pytest.TempPathFactory) -> Path:
    made = Project(tmp_path_factory.mktemp("built"))
    made.write("welbik.toml", 'title = "Bees"\npackage = "bees"\ndatabase = "sqlite:///bees.db"\n')
    made.declare(HIVES)
    for command in ("build", "migrate", "fill"):
        made.run(command)
    return made.root


@pytest.fixture
def built(built_once: Path, tmp_path: Path) -> Project:
    """The small project, built, migrated and filled."""
    shutil.copytree(built_once, tmp_path / "bees")
    return Project(tmp_path / "bees")


@pytest.fixture(params=servers.WORDS)
def shop(
    request: pytest.FixtureRequest,
    make: Callable[[str], Project],
    tmp_path: Path,
    monkeypatch: pytest.MonkeyPatch,
) -> Iterator[Project]:
    """A project with the module's `SHOP`, and its tables in each of the databases."""
    with servers.database(request.param, tmp_path) as address:
        monkeypatch.setenv("DATABASE_URL", address)
        project = make(request.module.SHOP)
        project.run("migrate")
        yield project


@pytest.fixture
def make(tmp_path_factory: pytest.TempPathFactory) -> Callable[[str], Project]:
    """A project made of some declarations."""

    def made(declarations: str) -> Project:
        project = Project(tmp_path_factory.mktemp("made"))
        project.write("welbik.toml", 'package = "bees"\ndatabase = "sqlite:///bees.db"\n')
        project.declare(declarations)
        return project

    return made


@pytest.fixture(scope="session")
def browser() -> Iterator[Browser]:
    from playwright.sync_api import sync_playwright

    with sync_playwright() as playwright:
        flags = [
            "--no-sandbox",
            "--disable-quic",
            "--disable-background-networking",
            "--disable-component-update",
        ]
        opened = playwright.chromium.launch(executable_path=CHROMIUM, args=flags)
        yield opened
        opened.close()


@pytest.fixture(scope="module")
def register(tmp_path_factory: pytest.TempPathFactory) -> Iterator[str]:
    """The beekeepers' register with a few rows, served."""
    from served import served

    text = (HERE / "projects" / "whole-language.welbik").read_text("utf-8")
    text = re.sub(r"(?ms)^seed$.*", "", text)
    text = re.sub(r"sample \d+\.\.\d+ per \w+", "sample skewed", text)
    project = Project(tmp_path_factory.mktemp("register"))
    project.write("welbik.toml", 'package = "bees"\ndatabase = "sqlite:///bees.db"\n')
    project.declare(
        f"{text}\nseed\n    60 Keeper\n    5 Apiary\n    9 Queen\n    6 Hive\n    30 Inspection\n    9 Harvest\n"
    )
    for command in ("build", "migrate", "fill"):
        project.run(command)
    with served(project) as address:
        yield address
