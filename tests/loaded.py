"""Generated applications imported into the tests' own process, each under a name of its own."""

from __future__ import annotations

import importlib
import importlib.util
import itertools
import py_compile
import re
import sys
from collections.abc import Iterator
from contextlib import contextmanager
from importlib import resources
from pathlib import Path
from tempfile import TemporaryDirectory
from types import ModuleType
from typing import Any
from unittest.mock import patch

import servers
from declared import understand
from sqlalchemy import event

from welbik.codegen.files import application_files
from welbik.data.drawer import Drawer
from welbik.data.fill import fill
from welbik.migrations.difference import difference
from welbik.migrations.plan import statements
from welbik.project.settings import Settings
from welbik.project.writing import write_all
from welbik.schema.model import Model, Schema
from welbik.storage.backend import Database
from welbik.storage.connect import connect
from welbik.storage.tables import fingerprint, tables_of

_numbers = itertools.count(1)


class Application:
    """A generated application on a database of its own, and a visitor that sends its forms."""

    def __init__(self, root: Path, package: str, schema: Schema, address: str) -> None:
        self.root = root
        self.package = package
        self.schema = schema
        self.address = address
        self.flask: Any = importlib.import_module(package).create_app(address)
        # What goes wrong inside shows itself where it happened.
        self.flask.config["PROPAGATE_EXCEPTIONS"] = True
        self.client = self.flask.test_client()

    def module(self, name: str) -> ModuleType:
        return importlib.import_module(f"{self.package}.{name}")

    def form(self, model: Model) -> Any:
        return self.module(f"{model.folder}.form").form

    def row_class(self, model: Model) -> Any:
        module = self.module(f"{model.folder}.model")
        return next(
            v
            for n, v in vars(module).items()
            if n in (model.name, f"{model.name}_")
            and isinstance(v, type)
            and v.__module__ == module.__name__
        )

    def form_of(self, path: str, typed: dict[str, str] | None = None) -> str:
        """Where the form of a path really is: rows that are part of others have theirs there."""
        url, _, rest = path.lstrip("/").partition("/")
        model = next((m for m in self.schema if m.url == url), None)
        owner = self.schema.owner_of(model) if model else None
        if model is None or owner is None or not re.fullmatch("new|[^/]+/edit", rest):
            return path
        with self.flask.test_request_context():
            find = self.module("kit.rows").find
            if rest == "new":
                key = (typed or {}).get(owner.name, "1")
                target = self.row_class(self.schema.models[owner.target])
                parent = (
                    self.module("kit.database")
                    .session()
                    .get(target, int(key) if key.isdigit() else key)
                )
            else:
                row_class, part = self.row_class(model), rest.partition("/")[0]
                by = getattr(row_class, model.address) if model.address else None
                number = int(part) if by is None and part.isdigit() else part
                parent = getattr(find(row_class, number, by), owner.attribute)
            found = f"/{self.schema.models[owner.target].url}/{parent.url_part}/{url}/{rest}"
            self.module("kit.database").close()
        return found

    def post(self, path: str, typed: dict[str, str]) -> Any:
        path = self.form_of(path, typed)
        with self.client.session_transaction() as kept:
            kept["token"] = "test"
        return self.client.post(path, data={**typed, "_token": "test"})

    def change(self, path: str, typed: dict[str, str]) -> Any:
        path = self.form_of(path, typed)
        seen = re.search(r'name="_seen" value="([^"]*)"', self.client.get(path).text)
        return self.post(path, {**typed, "_seen": seen.group(1) if seen else ""})

    def agree(self, path: str, typed: dict[str, Any] | None = None) -> Any:
        """Opens a page that asks whether something is to be done, and agrees to it."""
        shown = re.search(
            r'name="_shown" value="([^"]*)"', self.client.get(path, query_string=typed).text
        )
        path = path.partition("?")[0]
        return self.post(path, {**(typed or {}), "_shown": shown.group(1) if shown else ""})

    @contextmanager
    def database(self) -> Iterator[Database]:
        """Its database, without the application."""
        found = connect(self.address, self.root)
        try:
            found.prepare(tables_of(self.schema), "UTC")
            yield found
        finally:
            found.close()

    def run(self, *statements: str) -> list[tuple[Any, ...]]:
        """Statements straight to the database; the rows that the last one gives."""
        with self.database() as database:
            return [database.run(statement) for statement in statements][-1]

    @contextmanager
    def queries(self) -> Iterator[list[str]]:
        """The statements that the database is asked meanwhile."""
        found: list[str] = []

        def note(connection: Any, cursor: Any, statement: str, *rest: Any) -> None:
            found.append(statement)

        engine = self.flask.extensions["engine"]
        event.listen(engine, "before_cursor_execute", note)
        try:
            yield found
        finally:
            event.remove(engine, "before_cursor_execute", note)


def ask(app: Application, query: str) -> Any:
    """One value straight from the database."""
    return app.run(query)[0][0]


_bytecode: dict[str, bytes] = {}


def _compiled(kit: Path) -> None:
    """Puts the bytecode of the kit beside it: it is the same in every application."""
    (kit / "__pycache__").mkdir()
    for path in kit.glob("*.py"):
        kept = Path(importlib.util.cache_from_source(str(path)))
        text = path.read_text("utf-8")
        if text not in _bytecode:
            py_compile.compile(
                str(path), invalidation_mode=py_compile.PycInvalidationMode.UNCHECKED_HASH
            )
            _bytecode[text] = kept.read_bytes()
        else:
            kept.write_bytes(_bytecode[text])


@contextmanager
def _place(on: str, folder: Path) -> Iterator[str]:
    if on == "sqlite":
        yield f"sqlite:///{folder / 'bees.db'}"
        return
    with servers.database(on, folder) as address:
        yield address


@contextmanager
def application(
    text: str,
    rows: int | None = None,
    timezone: str = "UTC",
    locale: str = "en-GB",
    on: str = "sqlite",
    **more: Any,
) -> Iterator[Application]:
    """The application of some declarations, its tables made and filled."""
    schema, problems = understand(text)
    assert not problems, problems
    package = f"made_{next(_numbers)}"
    with TemporaryDirectory() as folder, _place(on, Path(folder)) as address:
        root = Path(folder)
        settings = Settings(root, package=package, timezone=timezone, locale=locale, **more)
        # How code is laid out is held by test_build: what runs it need not wait for that.
        with patch("welbik.codegen.files.formatted", lambda files, known: dict(files)):
            write_all(root, application_files(schema, settings.for_build()))
        _compiled(root / package / "kit")
        database = connect(address, root, create=True)
        steps = difference({}, schema).steps
        from datetime import UTC, datetime

        made = statements(database.ddl, {}, steps, datetime.now(UTC))
        database.migrate("0001-all", "", fingerprint(tables_of(schema)), lambda: made)
        fill(database, Drawer(schema, 5, timezone), {n: rows or c for n, c in schema.seed.items()})
        database.close()
        sys.path.insert(0, folder)
        try:
            app = Application(root, package, schema, address)
            yield app
            app.flask.extensions["engine"].dispose()
        finally:
            sys.path.remove(folder)
            for name in [name for name in sys.modules if name.split(".")[0] == package]:
                del sys.modules[name]


def kit_module(name: str) -> ModuleType:
    """A module of the kit that needs no other, as it stands."""
    path = Path(str(resources.files("welbik"))) / "blueprint" / "kit" / f"{name}.py"
    spec = importlib.util.spec_from_file_location(f"kit_{name}", path)
    assert spec and spec.loader
    module = importlib.util.module_from_spec(spec)
    spec.loader.exec_module(module)
    return module
