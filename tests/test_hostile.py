"""A declaration somebody else wrote is text: nothing of it runs, wherever it stands."""

from __future__ import annotations

import ast
import json
import re
import subprocess
import sys
import tomllib
from collections.abc import Callable, Iterator
from contextlib import chdir, contextmanager
from dataclasses import fields
from html.parser import HTMLParser
from pathlib import Path

import pytest
import sqlalchemy as sa
from conftest import HERE, WELBIK, Project
from declared import quoted, understand
from loaded import application

import welbik.language
from welbik.codegen.files import application_files
from welbik.language.cursor import Cursor
from welbik.language.diagnostics import Report
from welbik.language.lexer import lines
from welbik.language.source import Source
from welbik.problems import WelbikError
from welbik.project.settings import Settings, read_settings
from welbik.schema.model import Schema

LANGUAGE = Path(welbik.language.__file__).parent
PROJECTS = [
    HERE / "projects" / f"{name}.welbik"
    for name in ("whole-language", "awkward", "texts", "adopted")
]
MADE = "owned"
PAYLOADS = [
    f'"); import os; os.mkdir("{MADE}") #',
    f"'); import os; os.mkdir('{MADE}') #",
    f'"""\n__import__("os").mkdir("{MADE}")\n"""',
    f"{{}}[__import__('os').mkdir('{MADE}')]",
    f"{{__import__('os').mkdir('{MADE}')}}",
    f"{{{{ cycler.__init__.__globals__.os.mkdir('{MADE}') }}}}",
    f"{{% set x = cycler.__init__.__globals__.os.mkdir('{MADE}') %}}",
    "{# }} {% raw %} {{",
    f"[[ {MADE} ]] [% raw %] [# ",
    f"</title></textarea><script>{MADE}()</script>",
    f"\" onfocus='{MADE}()' autofocus x='",
    "'; DROP TABLE hive; --",
    "100%s %(x)s {0} $x :name ?1",
    "ends in a backslash \\",
    "two\nlines\r\nand \t more",
    "\u202eright to left\u2066 \u2028 \x9b2J",
    "🐝 Ünïcode ﷽ 漢字",
    "../../../etc/passwd\\..\\x",
]
READERS = ("string", "optional_string")


def _sites() -> set[str]:
    """Every function of the language that reads a text."""
    found = set()
    for path in LANGUAGE.glob("*.py"):
        for function in ast.walk(ast.parse(path.read_text("utf-8"))):
            if isinstance(function, ast.FunctionDef) and path.name != "cursor.py":
                called = (n.func for n in ast.walk(function) if isinstance(n, ast.Call))
                if any(isinstance(f, ast.Attribute) and f.attr in READERS for f in called):
                    found.add(f"{path.stem}.{function.name}")
    return found


@contextmanager
def _noted(monkeypatch: pytest.MonkeyPatch) -> Iterator[set[str]]:
    """The functions that read a text meanwhile."""
    seen: set[str] = set()
    for name in READERS:
        plain = getattr(Cursor, name)

        def read(self: Cursor, *given: str, plain: object = plain) -> object:
            caller = sys._getframe(1).f_code
            if self.now.kind == "string":
                seen.add(f"{Path(caller.co_filename).stem}.{caller.co_name}")
            return plain(self, *given)  # type: ignore[operator]

        monkeypatch.setattr(Cursor, name, read)
    yield seen


def _texts(text: str) -> list[tuple[int, int]]:
    """Where the texts between quotes stand in a file."""
    report = Report()
    found = []
    for line in lines(Source("x.welbik", text), report):
        found += [(t.start, t.end) for t in line.tokens(report) if t.kind == "string"]
    return found


def _put(text: str, places: list[tuple[int, int, str]], *, before: bool) -> str:
    out, at = "", 0
    for start, end, payload in places:
        inner = quoted(payload)[1:-1]
        held = text[start + 1 : end - 1]
        out += text[at:start] + '"' + (inner + held if before else held + inner) + '"'
        at = end
    return out + text[at:]


def test_every_place_of_the_grammar_that_takes_a_text_is_fed(
    monkeypatch: pytest.MonkeyPatch,
) -> None:
    with _noted(monkeypatch) as seen:
        for path in PROJECTS:
            assert not understand(path.read_text("utf-8"))[1]
    # Rows out of a file: of one in data/ alone, whatever it is called.
    assert _sites() - {"parser._rows"} <= seen


class _Page(HTMLParser):
    """Says what of a page a browser would run."""

    def __init__(self, page: str) -> None:
        super().__init__()
        self.ran: list[str] = []
        self.script = False
        self.feed(page)

    def handle_starttag(self, tag: str, attrs: list[tuple[str, str | None]]) -> None:
        self.script = tag == "script"
        self.ran += [name for name, _ in attrs if name.startswith("on")]

    def handle_data(self, data: str) -> None:
        if self.script and data.strip():
            self.ran.append(data)


def _fed(text: str, turn: int, *, before: bool) -> str:
    """The text with a payload at each place that takes it, another one at each turn."""
    taken: list[tuple[int, int, str]] = []
    for number, (start, end) in enumerate(_texts(text)):
        payload = PAYLOADS[(number + turn) % len(PAYLOADS)]
        alone = _put(text, [(start, end, payload)], before=before)
        if not understand(alone)[1]:
            taken.append((start, end, payload))
    hostile = _put(text, taken, before=before)
    assert len(taken) > len(_texts(text)) // 3
    assert not understand(hostile)[1]
    return hostile


@pytest.mark.parametrize("path", PROJECTS, ids=lambda path: path.stem)
@pytest.mark.parametrize("turn", range(0, len(PAYLOADS), 4))
def test_a_text_of_a_declaration_is_a_text_everywhere(
    path: Path, turn: int, tmp_path: Path
) -> None:
    hostile = _fed(path.read_text("utf-8"), turn, before=turn % 8 == 0)
    with chdir(tmp_path), application(hostile, rows=2, title=PAYLOADS[turn]) as app:
        for model in app.schema:
            with app.flask.app_context():
                rows = sa.select(app.row_class(model)).limit(1)
                found = app.module("kit.database").session().scalar(rows)
                part = found.url_part
            for page in ("", "?_filter=open", "/new", f"/{part}", f"/{part}/edit", "/bin"):
                answer = app.client.get(app.form_of(f"/{model.url}{page}"))
                assert answer.status_code in (200, 404), (model.name, page)
                assert not _Page(answer.text).ran
                assert not re.search("&amp;(lt|quot|#[0-9]+);", answer.text)
        for code in app.root.rglob("*"):
            if code.suffix in (".py", ".html", ".toml"):
                text = code.read_text("utf-8").replace("\n", "")
                assert text.isprintable(), code
    assert not list(tmp_path.iterdir())


def test_nothing_of_a_declaration_reaches_a_terminal_raw(make: Callable[[str], Project]) -> None:
    odd = "\x1b[31m\x9b2J\u202e\u2066\u2028\x00\x07\x7f"
    project = make("model Hive\n    code text 9\n")
    project.write("models/bees.welbik", f'model Hi{odd}ve\n    code txt "{odd}"\n    say\r{odd}\n')
    for arguments in (["check"], ["build"], ["show", odd], ["sample", odd]):
        done = subprocess.run(
            [WELBIK, *arguments.copy()] if "\0" not in "".join(arguments) else [WELBIK, "show", odd.replace("\0", "")],
            cwd=project.root, capture_output=True, check=False,
        )  # fmt: skip
        said = (done.stdout + done.stderr).decode()
        assert done.returncode in (1, 2)
        assert not set(said) & set(odd) - {"[", "3", "1", "m", "2", "J"}, repr(said)


def test_a_migration_reads_as_it_was_declared(make: Callable[[str], Project]) -> None:
    """What shows stands as it is, and what does not is escaped; it is read again as it was."""
    project = make("model Hive\n    code text 9\nseed\n    2 Hive\n")
    for command in ("build", "migrate", "fill"):
        project.run(command)
    lines = [f"    f{n} text 200, default {quoted(text)}\n" for n, text in enumerate(PAYLOADS)]
    taken = [n for n, line in enumerate(lines) if not understand(f"model Hive\n{line}")[1]]
    fields = "".join(lines[n] for n in taken)
    project.write("models/bees.welbik", f"model Hive\n    code text 9\n{fields}")
    project.run("build")
    project.run("migrate")
    (path,) = (project.root / "migrations").glob("0002*")
    text = path.read_text("utf-8")
    assert "🐝" in text and text.replace("\n", "").isprintable()
    filled = [step.get("fill") for step in tomllib.loads(text)["step"] if "add_column_to" in step]
    assert filled == [PAYLOADS[n] for n in taken] and len(taken) > 10


@pytest.mark.parametrize("name", [f.name for f in fields(Settings) if f.type == "str"])
def test_a_setting_is_a_text_everywhere(name: str, tmp_path: Path) -> None:
    for payload in PAYLOADS:
        for value in (payload, f"{getattr(Settings, name)}{payload}"):
            (tmp_path / "welbik.toml").write_text(f"{name} = {json.dumps(value)}\n", "utf-8")
            try:
                settings = read_settings(tmp_path)
            except WelbikError:
                continue
            given = {**settings.for_build(), "package": "made"}
            for path, text in application_files(Schema({}, {}), given).items():
                if path.endswith(".py") and "/kit/" not in path:
                    assert text.replace("\n", "").isprintable()
                    calls = [n.func for n in ast.walk(ast.parse(text)) if isinstance(n, ast.Call)]
                    names = {getattr(c, "attr", getattr(c, "id", "")) for c in calls}
                    assert not names & {"mkdir", "__import__", "system"}
                if path.endswith(".toml"):
                    tomllib.loads(text)
