"""All files of an application, as text, by their path in the project."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from functools import cache
from importlib.resources import files
from importlib.resources.abc import Traversable
from pathlib import PurePosixPath
from typing import TYPE_CHECKING, Any

from ..kinds.file import File
from ..kinds.literals import quote
from ..problems import WelbikError
from ..rules.brought import NAME, use
from ..schema.model import Model, Schema
from ..storage.connect import known
from ..storage.tables import fingerprint
from .apart import kept_apart
from .column_code import tables_once
from .controller_code import controller_context
from .form_code import form_context
from .formatting import Layouts, formatted
from .html import title
from .imports import PLACE, Imports, imports_of, tests_imports
from .locales import locale_constants
from .made import Files
from .made_from import Digests, Earlier, Watched
from .model_code import model_context
from .needed import needed, reached
from .page_code import has_uploads, pages_context, tree_of
from .python import call, doc, from_import, line
from .rule_code import rules_context
from .tests_code import supply_context, tests_context

if TYPE_CHECKING:
    from jinja2 import Environment

COPIED = ("kit", "look")
_PAGES = ("list", "view", "edit", "remove")


@cache
def _blueprint() -> Traversable:
    return files("welbik.blueprint")


@cache
def _templates() -> Environment:
    from jinja2 import Environment, FunctionLoader, StrictUndefined

    from .bytecode import kept_bytecode

    found = Environment(
        loader=FunctionLoader(_template),
        undefined=StrictUndefined,
        block_start_string="[%",
        block_end_string="%]",
        variable_start_string="[[",
        variable_end_string="]]",
        comment_start_string="[#",
        comment_end_string="#]",
        trim_blocks=True,
        lstrip_blocks=True,
        keep_trailing_newline=True,
        # They are part of the program: looking each time whether one changed costs a tenth.
        auto_reload=False,
        bytecode_cache=kept_bytecode(),
        autoescape=False,
    )
    found.globals["use"] = use
    return found


def _template(name: str) -> str:
    """A template's source; a name behind `§` is one that something has to bring in."""
    return _blueprint().joinpath(name).read_text("utf-8").replace("§", NAME)


def _render(template: str, context: Mapping[str, Any]) -> str:
    return _templates().get_template(f"{template}.jinja").render(context)


def _copied(folder: Traversable, path: str) -> Iterator[tuple[str, str]]:
    for item in sorted(folder.iterdir(), key=lambda item: item.name):
        if item.is_dir() and item.name != "__pycache__":
            yield from _copied(item, f"{path}/{item.name}")
        elif item.is_file() and not item.name.endswith(".pyc"):
            yield f"{path}/{item.name}", item.read_text("utf-8")


def application_files(
    schema: Schema,
    settings: Mapping[str, Any],
    tell: Callable[[], None] = lambda: None,
    known: Layouts | None = None,
    earlier: Earlier | None = None,
) -> Files:
    """Every generated file; `settings` are title, package, database, timezone and page.

    `tell` hears of each model that is done; `known` has what was laid out earlier, and `earlier`
    what was made of models of which nothing changed.
    """
    package = str(settings["package"])
    earlier = earlier or Earlier({}, lambda model, texts: None)
    loose: dict[str, str] = {}
    named: set[str] = set()

    def made(schema: Schema) -> Files:
        # Once more, where models are called otherwise in the code: all of it is noted anew.
        for noted in (loose, earlier.now, named):
            noted.clear()
        loose.update(_project_files(schema, settings, package))
        named.update(reached(loose))
        found = Files()
        found.add(loose)
        tests, tables = tests_imports(schema, package), tables_once(schema)
        digests = Digests(schema, tables, (dict(settings), earlier.besides))
        for model in schema:
            there = earlier.of(model, digests)
            if there is not None:
                found.add(there)
            else:
                watched = Watched(schema, tables)
                files = _model_files(watched, watched.models[model.name], package, tests)
                earlier.note(model, digests, watched.noted, files)
                loose.update(files)
                found.add(files)
            named.update(earlier.now[model.name].reached)
            tell()
        return found

    found = kept_apart(schema, made)
    copied: dict[str, str] = {}
    for name in COPIED:
        copied.update(_copied(_blueprint() / name, name))
    for name, text in needed(copied, named).items():
        loose[f"{package}/{name}"] = text
    found.add(formatted(loose, known))
    return found


PARTS = ("model", "form", "rules", "controller", "pages", *_PAGES, "tests")
"""What of a model can be built by itself."""


def part_of(schema: Schema, package: str, name: str) -> tuple[Model | None, tuple[str, ...]]:
    """The model that a file is of, and which parts it is; no model for what all share."""
    for model in schema:
        folder = f"{package}/{model.folder}/"
        if name == model.tests:
            return model, ("tests",)
        if name.startswith(folder):
            part = PurePosixPath(name).stem
            return model, (part, "pages") if "/pages/" in name else (part,)
    return None, ()


def _model_files(schema: Schema, model: Model, package: str, tests: Imports) -> dict[str, str]:
    folder = f"{package}/{model.folder}"
    common = {"model": model}
    pages = common | pages_context(schema, model)
    made = {f"{folder}/__init__.py": ""}

    def write(part: str, context: dict[str, Any]) -> None:
        source = _render(f"per_model/{part}.py", common | context | {"imports": PLACE})
        made[f"{folder}/{part}.py"] = imports_of(schema, model, part).into(source)

    write("model", model_context(schema, model))
    write("form", form_context(schema, model))
    if model.rules:
        write("rules", rules_context(schema, model))
    if not model.pages:
        return made
    write("controller", controller_context(schema, model))
    held = common | tests_context(schema, model, package) | {"imports": PLACE}
    made[model.tests] = tests.into(_render("per_model/test.py", held))
    for page in _PAGES:
        if page in model.pages or page == "edit" and "new" in model.pages:
            made[f"{folder}/pages/{page}.html"] = _render(f"per_model/{page}.html", pages)
    return made


def _project_files(schema: Schema, settings: Mapping[str, Any], package: str) -> dict[str, str]:
    quoted = {
        name: quote(value) if isinstance(value, str) else value for name, value in settings.items()
    }
    context = quoted | {
        "package": package,
        "title_line": line("TITLE = ", quote(str(settings["title"]))),
        "database_line": line(
            "DATABASE = ", f'os.environ.get("DATABASE_URL") or {quote(str(settings["database"]))}'
        ),
        "driver": quote(requirement) if (requirement := _requirement(settings)) else "",
        "locale_source": quote(str(settings["locale"])),
        "locale_constants": locale_constants(str(settings["locale"])),
        "body_megabytes": 1 + -(-max(map(_largest, schema), default=0) // 1_000_000),
        "fingerprint": fingerprint(tables_once(schema)),
        **_start_context(schema, str(settings["title"])),
    }
    made = {
        f"{package}/{name}": _render(f"per_project/{name}", context)
        for name in ("__init__.py", "models.py", "settings.py", "fingerprint.py")
    }
    supply = context | supply_context(schema, package)
    for name, given in (
        ("visit.py", context),
        ("sound.py", context),
        ("test_kit.py", context),
        ("test_start.py", context),
        ("conftest.py", context),
        ("test_tables.py", context),
        ("supply.py", supply),
    ):
        made[f"tests/{name}"] = _render(f"per_project/tests/{name}", given)
    for name in ("gunicorn.conf.py", "nginx.conf"):
        made[f"serving/{name}"] = _render(f"per_project/serving/{name}", context)
    made["pyproject.toml"] = _render("per_project/pyproject.toml", context)
    return made


def _requirement(settings: Mapping[str, Any]) -> str:
    """The driver of the project's database, as it is installed; empty where Python has it."""
    try:
        return known(str(settings["database"]))[0].requirement
    except WelbikError:
        # What is wrong with the address is told by what opens it.
        return ""


def _largest(model: Model) -> int:
    """The bytes that all uploads of a form may have together."""
    return sum(f.kind.largest for f in model.fields if isinstance(f.kind, File))


def _start_context(schema: Schema, site_title: str) -> dict[str, Any]:
    models = sorted(schema, key=lambda model: model.folder)
    tables = tables_once(schema).values()
    led = [(table, column) for table in tables for column in table.columns if column.references]
    imports = [
        from_import(f".{model.folder}.controller", [f"pages as {model.endpoint}_pages"])
        for model in models
        if model.pages
    ]
    listed = [m for m in schema if "list" in m.pages and m.menu is not None]
    features = ["attachments"] if any(map(has_uploads, schema)) else []
    features += ["trees"] if any(map(tree_of, schema)) else []
    entries = [call("", _menu_entry(model), indent=4, tail=",") for model in listed]
    menu = "MENU = [\n" + "".join(f"{entry}\n" for entry in entries) + "]"
    menu = menu if entries else "MENU: site.Menu = []"
    return {
        "docstring": doc(site_title),
        "features": features,
        "imports": sorted(
            [*imports, from_import(".kit", ["site", *features])], key=lambda line: line.split()[1]
        ),
        "models_imports": [from_import(f".{model.folder}.model", [model.name]) for model in models],
        "model_names": sorted(schema.models),
        "menu": menu,
        "loose": any(table.as_it_is or column not in table.bound for table, column in led),
        "blueprints": [f"{model.endpoint}_pages" for model in models if model.pages],
    }


def _menu_entry(model: Model) -> list[str]:
    return [
        quote(model.menu or ""),
        quote(title(model.plural)),
        quote(f"{model.endpoint}.list_page"),
        quote(model.help),
    ]
