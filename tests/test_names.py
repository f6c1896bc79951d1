"""Names keep out of each other's way: models and fields called like anything the code is made of."""

from __future__ import annotations

import builtins
import keyword
import re
from pathlib import Path

import flask
import pytest
import sqlalchemy
from declared import understand
from hypothesis import HealthCheck, Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application
from servers import WORDS as DATABASES
from sqlalchemy import orm
from sqlalchemy.dialects.mysql.reserved_words import RESERVED_WORDS_MYSQL
from sqlalchemy.dialects.postgresql.base import RESERVED_WORDS as RESERVED_WORDS_POSTGRESQL

from welbik.codegen.files import application_files
from welbik.language.words import may_name_field

BLUEPRINT = Path(__file__).parent.parent / "src" / "welbik" / "blueprint"
SQL = {*RESERVED_WORDS_MYSQL, *RESERVED_WORDS_POSTGRESQL, "rowid", "oid", "abort", "glob", "pragma"}


def _every_word() -> set[str]:
    """All words of the kit and the generated code, Flask, SQLAlchemy, Python and SQL."""
    found = {*SQL, *keyword.kwlist, *keyword.softkwlist, *dir(builtins)}
    for module in (flask, sqlalchemy, orm, orm.DeclarativeBase, orm.Session):
        found |= set(dir(module))
    for path in BLUEPRINT.rglob("*"):
        if path.suffix in (".py", ".jinja", ".html"):
            found |= set(re.findall(r"[A-Za-z][A-Za-z0-9_]*", path.read_text("utf-8")))
    return {word.strip("_") for word in found if len(word.strip("_")) in range(2, 40)}


WORDS = sorted(_every_word())
_SHORT = {word for word in WORDS if "_" not in word}
MODELS = sorted(
    {word for word in _SHORT if word[0].isupper()}
    | {word.capitalize() for word in _SHORT}
    | {word.upper() for word in _SHORT}
)
# Their tables would begin as those of SQLite's own bookkeeping, and ours: said by check.
MODELS = [word for word in MODELS if word.lower() not in ("sqlite", "welbik")]
FIELDS = sorted(
    {w for w in map(str.lower, WORDS) if re.fullmatch(r"[a-z][a-z0-9_]*", w)}
    - {"id", "removed_at", "created_at", "updated_at", "low", "high"}
)


def _project(models: list[str], names: list[str]) -> str:
    """Models of some names, each with all that code is generated for."""
    a, b, c, d, e, f, g, h = names
    text = ""
    for number, model in enumerate(models):
        other = models[number - 1]
        text += (
            f"model {model}\n    {a} text 1..20, required\n    {b} integer 0..9, required\n"
            f"    {c} date\n    {d} -> {other}\n    {e} one of low | high\n    {f} decimal 0.00..9.99\n"
            f'    {g} <-> {other}\n    {h} integer = {b} + 1\n    called "thing {number}" | "things {number}"\n'
            f"    rule {b} < 9 when {e} = high\n    list {a}, {b}, {c}, {d}, {e}, {h}\n    search {a}\n"
            f"    filter {b}, {c}, {d}, {e}\n    keep times, bin, history\n"
        )
    return text + "seed\n" + "".join(f"    3 {model}\n" for model in models)


def _opened(app: Application) -> None:
    for model in app.schema:
        for page in ("", "/new", "/1", "/1/edit", "/1/remove", "/bin", "?_filter=open", "?_as=csv"):
            answer = app.client.get(f"/{model.url}{page}")
            assert answer.status_code == 200, (model.name, page)
        made = app.post(f"/{model.url}/new", {model.fields[0].name: "x", model.fields[1].name: "1"})
        assert made.status_code == 303, made.text


@given(
    st.lists(st.sampled_from(MODELS), min_size=3, max_size=3, unique_by=str.lower),
    st.lists(st.sampled_from(FIELDS).filter(may_name_field), min_size=8, max_size=8, unique=True),
)
@settings(
    max_examples=9,
    phases=[Phase.explicit, Phase.generate],
    suppress_health_check=list(HealthCheck),
)
def test_any_word_names_a_model_or_a_field(models: list[str], names: list[str]) -> None:
    with application(_project(models, names)) as app:
        _opened(app)


@pytest.mark.parametrize("word", DATABASES)
@pytest.mark.parametrize("models", [["Nothing", "Value", "Lateral"], ["Returning", "Portion", "Collation"]])  # fmt: skip
def test_words_that_only_a_database_reserves_name_anything(models: list[str], word: str) -> None:
    names = ["value", "portion", "lateral", "collation", "nothing", "returning", "concurrently", "tablesample"]  # fmt: skip
    with application(_project(models, names), on=word) as app:
        _opened(app)


AWKWARD = ["LIST", "TABS", "BIN", "RULES", "Uploads", "Chosen", "OWNER", "PLURAL", "Base", "Any",
           "Decimal", "Mapped", "None", "True", "Supply", "Visitor", "Blueprint", "ValueError", "Kit",
           "Models", "Settings", "Store", "Session", "Find", "Test", "URL", "VALUES", "Row", "Form",
           "ROOT", "HIVES"]  # fmt: skip


@pytest.mark.parametrize("start", range(0, len(AWKWARD), 3))
def test_a_model_may_be_called_like_what_the_code_has(start: int) -> None:
    names = ["hives", "list_value", "sqlite", "owner", "tabs", "rules", "uploads", "bin"]
    with application(_project((AWKWARD + AWKWARD)[start : start + 3], names)) as app:
        _opened(app)


def test_makers_of_rows_keep_out_of_each_other_s_way() -> None:
    """A model may be called like anything that a maker of rows for tests does with others."""
    supply = (BLUEPRINT / "per_project/tests/supply.py.jinja").read_text("utf-8")
    own = set(re.findall(r"    def ([a-z_]+)\(", supply)) | {"path", "session"}
    names = [*(name.title().replace("_", "") for name in own), "Hive", "NewHive", "HiveLike"]
    names += ["HiveBeside", "TypeHive", "TypedHive", "TypedHiveAt"]
    models = "\n".join(f"model {name}\n    name text 9, required, unique" for name in names)
    schema, problems = understand(f"{models}\n")
    assert not problems
    settings = {"title": "T", "package": "made", "database": "", "timezone": "UTC", "page": 25}
    files = application_files(schema, {**settings, "locale": "en-GB", "seed": 1})
    made = re.findall(r"    def ([a-z_]+)\(", files["tests/supply.py"])
    assert len(made) == len(set(made)) and len(made) > 4 * len(names)


def test_the_tests_of_a_model_take_the_place_of_no_others() -> None:
    shared = {path.name.removesuffix(".py.jinja"): path for path in _shared_tests()}
    models = "".join(
        f"model {name.removeprefix('test_').title()}\n    name text 9\n" for name in shared
    )
    schema, problems = understand(models)
    assert not problems
    settings = {"title": "T", "package": "made", "database": "", "timezone": "UTC", "page": 25}
    files = application_files(schema, {**settings, "locale": "en-GB", "seed": 1})
    beside = {name for name in files if name.startswith("tests/test_")}
    assert len(beside) == len(schema.models) + len(shared)
    for name, path in shared.items():
        first = path.read_text("utf-8").splitlines()[0]
        assert files[f"tests/{name}.py"].splitlines()[0] == first


def _shared_tests() -> list[Path]:
    return sorted((BLUEPRINT / "per_project/tests").glob("test_*.jinja"))
