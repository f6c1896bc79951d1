"""A project from the tables of a database that is there, or more models in one."""

from __future__ import annotations

import os
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, replace
from pathlib import Path

from ..adoption.adopt import Adopted, Wish, adopt, heal
from ..language.diagnostics import Problem
from ..problems import WelbikError
from ..schema.names import snake
from ..storage.address import read_address
from ..storage.backend import SURVEY_SECONDS, Database
from ..storage.connect import connect, known
from .declarations import read_declarations
from .declared import FOLDER, SUFFIX
from .layout import make_project
from .machine_state import trust_address
from .settings import FILE, read_settings
from .writing import write_all

_SEED = f"{FOLDER}/seed{SUFFIX}"
_MOST_SEEDED = 1_000_000


@dataclass
class Plan:
    """What adopting would write: texts by file name, what was found, and where."""

    folder: Path
    found: Adopted
    files: dict[str, str]
    address: str
    is_new: bool
    where: str

    @property
    def tells_password(self) -> bool:
        """Whether the address that is written down has a password."""
        return bool(read_address(self.address).password)


def plan(
    address: str,
    folder: Path,
    wish: Wish,
    *,
    schema: str = "",
    tell: Callable[[str], None] = lambda table: None,
) -> Plan:
    """Reads the tables at an address and describes them; nothing is written.

    `schema` is where a database that has several keeps its tables. Raises WelbikError.
    """
    is_new = not (folder / FILE).exists()
    address = _with_schema(address, schema) if schema else address
    kept = _from(folder, address)
    taken: list[str] = []
    tables: set[str] = set()
    if not is_new:
        taken, tables = _there(folder, address, kept)
    with _opened(address) as database:
        database.limit_statements(SURVEY_SECONDS)
        wish = replace(wish, without=(*wish.without, *sorted(tables)))
        try:
            found = adopt(database, wish, taken, tell)
        except database.errors as error:
            raise WelbikError(
                f"the database can't be read: {database.told(error)}",
                "let its keeper give the user what is needed to read tables; nothing was written",
            ) from None
        where = database.where
    heal(found, lambda text: problems_of(folder, text, is_new))
    files = files_of(folder, found)
    return Plan(folder, found, files, kept, is_new, where)


def _opened(address: str) -> Database:
    place = Path.cwd()
    kind, _ = known(address)
    if kind.is_missing(read_address(address), place):
        raise WelbikError(
            f"there is no database {kind.place(read_address(address), place)}",
            "correct the address",
        )
    return connect(address, place)


def _with_schema(address: str, schema: str) -> str:
    if not re.fullmatch(r"[\w$-]+", schema):
        raise WelbikError(f"{schema!r} is no schema's name", "name one: --schema shop", status=2)
    kind, _ = known(address)
    if not kind.has_schemas:
        raise WelbikError(f"a {kind.word} database has no schemas", "leave --schema out", status=2)
    sign = "&" if "?" in address else "?"
    return f"{address}{sign}options=-csearch_path%3D{schema}"


def _from(folder: Path, address: str) -> str:
    """An address as the project in a folder writes it: a file's path begins there."""
    found = read_address(address)
    kind, _ = known(address)
    if not kind.in_a_file or Path(found.name).is_absolute():
        return address
    path = os.path.relpath(Path.cwd() / found.name, folder.resolve())
    return f"{address.partition(':')[0]}:///{Path(path).as_posix()}"


def _there(folder: Path, address: str, kept: str) -> tuple[list[str], set[str]]:
    """The models and tables that a project declares; raises WelbikError where its database is another."""
    settings = read_settings(folder)
    if settings.database not in (address, kept) and settings.address not in (address, kept):
        raise WelbikError(
            f"the project in {folder} has another database",
            f"adopt into another folder, or set 'database' in {FILE} to this address",
            status=2,
        )
    declared = read_declarations(folder)
    if declared.problems:
        raise WelbikError(
            "the declarations that are there have problems", "mend those first: welbik check"
        )
    pairs = {many.table for model in declared.schema for many in model.many}
    return list(declared.schema.models), {m.table for m in declared.schema} | pairs


def problems_of(folder: Path, text: str, is_new: bool) -> Sequence[Problem]:
    name = f"{FOLDER}/adopted{SUFFIX}"
    root = folder if not is_new else Path(os.devnull)
    return [p for p in read_declarations(root, {name: text}).problems if p.span.source.name == name]


def files_of(folder: Path, found: Adopted) -> dict[str, str]:
    """A file for each group of the menu, or for each model; none of them is there yet."""
    files: dict[str, str] = {}
    names: dict[str, str] = {}
    for model, text in found.texts().items():
        group = found.drafts[model].group
        key = group or model
        if key not in names:
            begin, number = f"{FOLDER}/{snake(key)}", 2
            name = f"{begin}{SUFFIX}"
            while (folder / name).exists() or name in files:
                name, number = f"{begin}_{number}{SUFFIX}", number + 1
            names[key] = name
        before = files.get(names[key])
        files[names[key]] = f"{before}\n{text}" if before else text
    counts = {name: min(n, _MOST_SEEDED) for name, n in found.counts.items() if n}
    if counts and not (folder / _SEED).exists():
        listed = "".join(f"    {n} {name}\n" for name, n in counts.items() if name in found.drafts)
        files[_SEED] = f"seed    # as many rows as there were\n{listed}"
    return files


def write(planned: Plan, *, title: str = "", package: str = "") -> list[str]:
    """Writes what was planned; the names of the files."""
    if planned.is_new:
        made = make_project(
            planned.folder,
            title=title,
            package=package,
            files=planned.files,
            database=planned.address,
        )
        trust_address(planned.folder, planned.address)
        return made
    write_all(planned.folder, planned.files)
    return list(planned.files)
