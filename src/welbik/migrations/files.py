"""Migration files: numbered TOML under migrations/, written once and then only read."""

from __future__ import annotations

import hashlib
import json
import re
import tomllib
from collections.abc import Sequence
from dataclasses import dataclass, fields, replace
from pathlib import Path
from typing import Any

from ..kinds.literals import toml
from ..problems import WelbikError
from ..project_files import MIGRATION_LIMIT, list_files, read_file
from ..storage.connect import WORDS
from ..storage.tables import Check, Column, Index, Table
from .steps import (
    AddColumn,
    AddIndex,
    ChangeColumn,
    ChangeEntries,
    ChangeKey,
    CopyRows,
    CreateTable,
    DropColumn,
    DropIndex,
    DropTable,
    MakeRows,
    RenameColumn,
    RenameTable,
    Run,
    SetPromises,
    SetRules,
    Step,
    after,
)

_NAME = re.compile(r"(\d{4})-[a-z0-9-]+\.toml")
_TEXT_KEYS = ("type", "range", "length", "references", "removal", "native", "empty")
_FLAGS = ("required", "unique", "by_database")


@dataclass(frozen=True)
class Migration:
    """One file: its number and name, its steps, and the fingerprint of the tables after it.

    `digest` tells what it says, whatever its line endings; `older` are digests that earlier
    versions wrote down for it.
    """

    name: str
    steps: tuple[Step, ...]
    schema: str
    digest: str
    older: tuple[str, ...] = ()

    @property
    def number(self) -> int:
        return int(self.name[:4])


def _column_lines(column: Column) -> list[str]:
    lines = [f"name = {toml(column.name)}"]
    for key in (f.name for f in fields(column) if f.name != "name"):
        value = getattr(column, key)
        if value or (key == "empty" and value is not None):
            lines.append(f"{key} = {toml(value)}")
    return lines


def to_toml(steps: Sequence[Step], schema: str) -> str:
    """The text of a migration file."""
    lines = [
        "# Written by `welbik migrate`. Run once on every database, then never changed.",
        f'schema = "{schema}"',
    ]
    for step in steps:
        lines += ["", "[[step]]", *_step_lines(step)]
    return "\n".join(lines) + "\n"


def _step_lines(step: Step) -> list[str]:
    if isinstance(step, CreateTable):
        return _table_lines(step.table)
    if isinstance(step, AddColumn):
        return [f"add_column_to = {toml(step.table)}", *_given(step), *_of_column(step.column)]
    if isinstance(step, ChangeColumn):
        head = f"change_column_of = {toml(step.table)}"
        return [head, *_given(step), *_of_column(step.column)]
    if isinstance(step, MakeRows):
        into = toml(f"{step.table}.{step.column}")
        lines = [f"make_rows_of = {into}", f"for_each_of = {toml(step.of)}"]
        return [*lines, f"value = {toml(step.value)}", *_pairs("fills", step.fills)]
    if isinstance(step, CopyRows):
        lines = [f"copy_rows_to = {toml(step.table)}", f"for_each_of = {toml(step.of)}"]
        lines += _pairs("values", step.values)
        lines += [f"given = {toml(step.least)}"] if step.least else []
        return [*lines, *_pairs("was", step.was)]
    if isinstance(step, ChangeEntries):
        head = f"change_entries_of = {toml(f'{step.table}.{step.column}')}"
        return [head, *_pairs("called", step.called), *_pairs("fills", step.fills)]
    if isinstance(step, Run):
        sql = ", ".join(f"{word} = {toml(said)}" for word, said in step.sql)
        return [f"python = {toml(step.python)}"] if step.python else [f"sql = {{ {sql} }}"]
    if isinstance(step, RenameTable):
        return [f"rename_table = {toml(step.table)}", f"to = {toml(step.name)}"]
    if isinstance(step, RenameColumn):
        old = toml(f"{step.table}.{step.old}")
        return [f"rename_column = {old}", f"to = {toml(step.name)}"]
    if isinstance(step, DropTable):
        left = ["leave = true"] if step.leave else []
        return [f"drop_table = {toml(step.table)}", *left, *_given(step)]
    if isinstance(step, SetPromises):
        return [f"promises_of = {toml(step.table)}", *_listed("keep", step.promises)]
    if isinstance(step, ChangeKey):
        told = ("key", "keys", "keyless", "number")
        usual = ChangeKey(step.table)
        said = [n for n in told if getattr(step, n) != getattr(usual, n)]
        head = f"change_key_of = {toml(step.table)}"
        return [head, *(f"{name} = {toml(getattr(step, name))}" for name in said)]
    if isinstance(step, SetRules):
        lines = [f"set_rules_of = {toml(step.table)}"]
        return lines + _check_lines(step.checks)
    if isinstance(step, AddIndex | DropIndex):
        word = "add_index_to" if isinstance(step, AddIndex) else "drop_index_of"
        return [f"{word} = {toml(step.table)}", *_index_lines(step.index)]
    return [f"drop_column = {toml(f'{step.table}.{step.name}')}", *_given(step)]


def _pairs(key: str, pairs: Sequence[tuple[str, str]]) -> list[str]:
    listed = ", ".join(f"{toml(name)} = {toml(value)}" for name, value in pairs)
    return [f"{key} = {{ {listed} }}"] if listed else []


def _given(step: AddColumn | ChangeColumn | DropColumn | DropTable) -> list[str]:
    """What a step says besides, each thing only where it says it."""
    lines = []
    for key in ("fill", "made", "value", "find", "was"):
        value = getattr(step, key, "")
        if value and not (key == "was" and value == getattr(step, "value", "")):
            lines.append(f"{key} = {toml(value)}")
    return [*lines, *(['loss = "allowed"'] if getattr(step, "loss", False) else [])]


def _of_column(column: Column) -> list[str]:
    return ["", "[step.column]", *_column_lines(column)]


def _table_lines(table: Table) -> list[str]:
    lines = [f"create_table = {toml(table.name)}"]
    lines += [f"key = {toml(table.key)}"] if table.key else []
    usual = Table("", ())
    for name in _OF_KEY:
        value = getattr(table, name)
        if value != getattr(usual, name):
            lines.append(f"{name} = {toml(value)}")
    lines += _listed("promises", table.promises) if table.promises else []
    for column in table.columns:
        lines += ["", "[[step.column]]", *_column_lines(column)]
    lines += _check_lines(table.checks)
    for index in table.indexes:
        lines += ["", "[[step.index]]", *_index_lines(index)]
    return lines


_OF_KEY = ("number", "native", "keys", "keyless", "as_it_is")


def _listed(key: str, texts: Sequence[str]) -> list[str]:
    """Texts one below another, so that a change of one is a line."""
    return (
        [f"{key} = [", *(f"    {toml(text)}," for text in texts), "]"] if texts else [f"{key} = []"]
    )


def _check_lines(checks: Sequence[Check]) -> list[str]:
    lines: list[str] = []
    for check in checks:
        lines += ["", "[[step.rule]]", f"name = {toml(check.name)}"]
        lines.append(f"holds = {toml(check.rule)}")
    return lines


def _index_lines(index: Index) -> list[str]:
    lines = [f"columns = {toml(index.columns)}"]
    lines += ["unique = true"] if index.unique else []
    lines += ["live = true"] if index.live else []
    return lines + ([f"ordered = {index.ordered}"] if index.ordered else [])


def _column(data: dict[str, Any]) -> Column:
    values: dict[str, Any] = {"name": str(data["name"])}
    values |= {key: str(data[key]) for key in _TEXT_KEYS if key in data}
    values |= {key: bool(data[key]) for key in _FLAGS if key in data}
    for key in ("among", "yes_no"):
        if key in data:
            values[key] = tuple(map(str, data[key]))
    return Column(**values)


def _checks(data: dict[str, Any]) -> tuple[Check, ...]:
    return tuple(Check(str(c["name"]), str(c["holds"])) for c in data.get("rule", []))


def _index(data: dict[str, Any]) -> Index:
    columns = tuple(map(str, data["columns"]))
    unique, live = bool(data.get("unique")), bool(data.get("live"))
    return Index(columns, unique, live, int(data.get("ordered", 0)))


def _step(data: dict[str, Any]) -> Step:
    if "create_table" in data:
        return CreateTable(
            Table(
                str(data["create_table"]),
                tuple(_column(c) for c in data.get("column", [])),
                _checks(data),
                tuple(_index(i) for i in data.get("index", [])),
                str(data.get("key", "")),
                tuple(map(str, data.get("promises", []))),
                number=str(data.get("number", "id")),
                native=str(data.get("native", "")),
                keys=tuple(map(str, data.get("keys", []))),
                keyless=bool(data.get("keyless")),
                as_it_is=bool(data.get("as_it_is")),
            )
        )
    if "add_column_to" in data:
        return AddColumn(
            str(data["add_column_to"]),
            _column(data["column"]),
            **{key: str(data[key]) for key in ("fill", "made", "value", "find") if key in data},
            was=str(data.get("was", data.get("value", ""))),
        )
    if "change_column_of" in data:
        return ChangeColumn(
            str(data["change_column_of"]),
            _column(data["column"]),
            **{key: str(data[key]) for key in ("value", "find") if key in data},
            loss=_loss(data),
            was=str(data.get("was", data.get("value", ""))),
        )
    if "make_rows_of" in data:
        table, _, name = str(data["make_rows_of"]).partition(".")
        fills = _read_pairs(data, "fills")
        return MakeRows(table, name, str(data["for_each_of"]), str(data["value"]), fills)
    if "copy_rows_to" in data:
        least = tuple(map(str, data.get("given", [])))
        values, was = (_read_pairs(data, key) for key in ("values", "was"))
        return CopyRows(str(data["copy_rows_to"]), str(data["for_each_of"]), values, least, was)
    if "change_entries_of" in data:
        table, _, name = str(data["change_entries_of"]).partition(".")
        return ChangeEntries(table, name, _read_pairs(data, "called"), _read_pairs(data, "fills"))
    if "python" in data or "sql" in data:
        return _run(data)
    if "rename_table" in data:
        return RenameTable(str(data["rename_table"]), str(data["to"]))
    if "rename_column" in data:
        table, _, name = str(data["rename_column"]).partition(".")
        return RenameColumn(table, name, str(data["to"]))
    if "drop_table" in data:
        return DropTable(str(data["drop_table"]), _loss(data), bool(data.get("leave")))
    if "promises_of" in data:
        return SetPromises(str(data["promises_of"]), tuple(map(str, data["keep"])))
    if "change_key_of" in data:
        return ChangeKey(
            str(data["change_key_of"]),
            str(data.get("key", "")),
            tuple(map(str, data.get("keys", []))),
            bool(data.get("keyless")),
            str(data.get("number", "id")),
        )
    if "set_rules_of" in data:
        return SetRules(str(data["set_rules_of"]), _checks(data))
    if "add_index_to" in data:
        return AddIndex(str(data["add_index_to"]), _index(data))
    if "drop_index_of" in data:
        return DropIndex(str(data["drop_index_of"]), _index(data))
    table, _, name = str(data["drop_column"]).partition(".")
    return DropColumn(table, name, _loss(data))


def _read_pairs(data: dict[str, Any], key: str) -> tuple[tuple[str, str], ...]:
    return tuple((str(name), str(value)) for name, value in data.get(key, {}).items())


def _loss(data: dict[str, Any]) -> bool:
    return data.get("loss") == "allowed"


def _run(data: dict[str, Any]) -> Run:
    """A step written by hand: one statement or several for each database, or a function."""
    if "python" in data:
        if not re.fullmatch(r"[\w.]+:\w+", str(data["python"])):
            raise ValueError("python")
        return Run(python=str(data["python"]))
    given = data["sql"]
    # What is no table of databases is meant for each of them.
    given = given if isinstance(given, dict) else dict.fromkeys(WORDS, given)
    sql = {
        str(word): (said,) if isinstance(said, str) else tuple(map(str, said))
        for word, said in given.items()
    }
    return Run(tuple(sql.items()))


def as_migration(name: str, text: str) -> Migration:
    """What the text of a migration's file says; errors are those of its parts."""
    data = tomllib.loads(text)
    steps = tuple(_step(step) for step in data["step"])
    # A file of SQL alone leaves the tables as they are declared: it need not say so.
    schema = str(data.get("schema", ""))
    said = json.dumps([schema, data["step"]], sort_keys=True, default=str)
    return Migration(name, steps, schema, _digest(said), (_digest(text),))


def read_migration(path: Path) -> Migration:
    """A migration from its file, which is below the project's folder `migrations`."""
    try:
        data = read_file(path.parent.parent, f"{path.parent.name}/{path.name}", MIGRATION_LIMIT)
        return as_migration(path.stem, (data or b"").replace(b"\r\n", b"\n").decode())
    except (OSError, UnicodeDecodeError, tomllib.TOMLDecodeError) as error:
        raise WelbikError(
            f"migrations/{path.name} can't be read: {error}",
            "bring back the file as it was, from version control",
        ) from None
    except (KeyError, TypeError, AttributeError, ValueError) as error:
        raise WelbikError(
            f"migrations/{path.name} has a step without {error}",
            "bring back the file as it was, from version control",
        ) from None


def _digest(text: str) -> str:
    return hashlib.sha256(text.encode()).hexdigest()


def read_migrations(folder: Path) -> list[Migration]:
    """All migrations in order; raises WelbikError for gaps, doubles and unreadable files."""
    root = folder.parent
    paths = [root / name for name in list_files(root, folder.name, ".toml", deep=False)]
    for expected, path in enumerate(paths, 1):
        if not _NAME.fullmatch(path.name):
            raise WelbikError(
                f"migrations/{path.name} is not named like a migration",
                "migrations are called 0001-what-changed.toml",
            )
        if expected > 1 and path.name[:4] == paths[expected - 2].name[:4]:
            raise DoubledError((paths[expected - 2], path), len(paths))
        if int(path.name[:4]) != expected:
            raise WelbikError(
                f"migrations/{path.name} should have the number {expected:04}",
                "numbers go up by one: two branches may have made the same one",
            )
    found: list[Migration] = []
    for path in paths:
        migration = read_migration(path)
        if not migration.schema and found:
            migration = replace(migration, schema=found[-1].schema)
        found.append(migration)
    return found


class DoubledError(WelbikError):
    """Two migrations with one number, as two branches made them.

    `files` are both, and `number` is what the one gets that has run nowhere.
    """

    def __init__(self, files: tuple[Path, Path], number: int) -> None:
        first, second = files
        self.files, self.number = files, number
        super().__init__(
            f"migrations/{first.name} and migrations/{second.name} have one number",
            f"the one that has run nowhere yet gets the number {number:04}: rename its file, or run "
            "welbik migrate at a terminal, which asks",
        )


def tables_after(migrations: Sequence[Migration]) -> dict[str, Table]:
    """The tables that all the migrations lead to."""
    return after({}, [step for migration in migrations for step in migration.steps])


def migration_name(number: int, steps: Sequence[Step]) -> str:
    """`0002-add-hive-colour`: the number, and what changes first."""
    made = [step.table.name for step in steps if isinstance(step, CreateTable)]
    over = [s for s in steps if isinstance(s, CreateTable) and s.table.as_it_is]
    what: list[str] = []
    if len(over) > 3:
        what = ["take", "over", str(len(over)), "tables"]
    elif made:
        what = ["make", *made[:3], *([f"and {len(made) - 3} more"] if len(made) > 3 else [])]
    else:
        first = next((step for step in steps if isinstance(step, ChangeKey)), steps[0])
        if isinstance(first, AddColumn | ChangeColumn):
            word = "add" if isinstance(first, AddColumn) else "change"
            what = [word, first.table, first.column.name]
        elif isinstance(first, DropColumn):
            what = ["drop", first.table, first.name]
        elif isinstance(first, Run):
            what = ["by", "hand"]
        elif not isinstance(first, CreateTable):
            word = re.sub(r"(?<=[a-z])(?=[A-Z])", "-", type(first).__name__).lower()
            what = [word.removeprefix("set-"), first.table]
        what += [f"and {len(steps) - 1} more"] if len(steps) > 1 else []
    slug = re.sub(r"[^a-z0-9]+", "-", " ".join(what).lower()).strip("-")
    return f"{number:04}-{slug}"
