"""Reading all of a project's declarations."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import NamedTuple

from ..kinds import kinds
from ..language.diagnostics import Problem, Report
from ..language.parser import parse
from ..language.source import Source, Span
from ..problems import WelbikError
from ..project_files import DECLARATION_LIMIT, list_files, read_file
from ..schema.model import Schema
from ..schema.resolve import resolve
from .csv_rows import with_csv
from .declared import FOLDER, SUFFIX


class Declarations(NamedTuple):
    """The schema as far as it makes sense, every problem, and how many files there were."""

    schema: Schema
    problems: list[Problem]
    files: int


def read_declarations(root: Path, instead: Mapping[str, str] | None = None) -> Declarations:
    """Reads models/*.welbik together; raises WelbikError where there are none or one can't be read.

    `instead` has texts to take in place of files, by name: what is not written yet.
    """
    names = list_files(root, FOLDER, SUFFIX)
    given = dict(instead or {})
    if not names and not given:
        raise WelbikError(
            f"there are no declarations in {root / FOLDER}",
            f"write the first one in {FOLDER}/{root.name or 'site'}{SUFFIX}",
        )
    report = Report()
    words = tuple(kinds())
    sources = [source for name in names if (source := _source(name, root, report, given))]
    sources += [Source(name, text) for name, text in given.items()]
    trees = [parse(source, report, words) for source in sources]
    for tree in trees:
        tree.rows = [with_csv(rows, root, report) for rows in tree.rows]
    schema = resolve(trees, report)
    return Declarations(schema, report.problems(), len(sources))


def schema_from(texts: Mapping[str, str]) -> Schema | None:
    """The schema of declarations that are written down elsewhere; None where they make no sense."""
    report = Report()
    words = tuple(kinds())
    schema = resolve(
        [parse(Source(name, text), report, words) for name, text in texts.items()], report
    )
    return schema if schema.models else None


def _source(name: str, root: Path, report: Report, given: dict[str, str]) -> Source | None:
    if name in given:
        return Source(name, given.pop(name))
    try:
        data = read_file(root, name, DECLARATION_LIMIT) or b""
    except OSError as error:
        raise WelbikError(
            f"{name} can't be read: {error.strerror}", "check its permissions"
        ) from None
    try:
        return Source(name, data.decode("utf-8-sig"))
    except UnicodeDecodeError as error:
        source = Source(name, data.decode("utf-8-sig", "replace"))
        at = len(data[: error.start].decode("utf-8-sig", "replace"))
        report.add(
            "not-utf-8",
            f"byte {data[error.start]:#04x} is not UTF-8",
            Span(source, at, at + 1),
            "save the file as UTF-8",
        )
        return None


def schema_of(root: Path) -> Schema:
    """The schema of a project without problems; raises WelbikError where there are some."""
    found = read_declarations(root)
    if found.problems:
        count = len(found.problems)
        raise WelbikError(
            f"the declarations have {count} problem{'s' * (count != 1)}",
            "see them with: welbik check",
        )
    if not found.schema.models:
        raise WelbikError("no model is declared yet", f"declare one in {FOLDER}/: model Hive")
    return found.schema
