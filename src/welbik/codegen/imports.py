"""The imports of a generated module, told by the names that were marked as it was written."""

from __future__ import annotations

from collections.abc import Iterable, Mapping
from functools import cache
from importlib.resources import files
from typing import NamedTuple

from ..rules.brought import NAME, ROW, TYPE, marked, unmarked
from ..schema.model import Model, Schema
from .python import from_import


class Source(NamedTuple):
    """Where a name comes from: a module itself, or a `part` of it, by another name or its own."""

    module: str
    part: str = ""


_STANDARD = {
    **{name: Source(name) for name in ("contextlib", "html", "itertools", "json", "re")},
    "dt": Source("datetime as dt"),
    "urllib": Source("urllib.parse"),
    "Decimal": Source("decimal", "Decimal"),
    **{name: Source("typing", name) for name in ("Any", "ClassVar", "TYPE_CHECKING")},
    **{name: Source("uuid", name) for name in ("UUID", "uuid4")},
}
_FLASK = ("Blueprint", "flash", "redirect", "render_template", "request", "url_for")
_LIBRARIES = {
    "sa": Source("sqlalchemy as sa"),
    "pytest": Source("pytest"),
    **{name: Source("sqlalchemy", name) for name in ("exc", "orm")},
    **{
        name: Source("sqlalchemy.orm", name)
        for name in ("Mapped", "column_property", "mapped_column", "relationship")
    },
    **{name: Source("flask", name) for name in _FLASK},
    "ResponseReturnValue": Source("flask.typing", "ResponseReturnValue"),
    # Beside a project's tests, where nothing of its package is.
    "Supply": Source("supply", "Supply"),
    **{name: Source("visit", name) for name in ("Visitor", "one", "problem", "ways")},
}
PLACE = "\ue003"
"""Stands in a text where its imports go."""


@cache
def _kit() -> frozenset[str]:
    folder = files("welbik.blueprint").joinpath("kit")
    return frozenset(file.name.removesuffix(".py") for file in folder.iterdir())


class Imports:
    """Brings names into the modules of a package.

    `package` is what the package is called from there, `home` the module of the class of `model`,
    where that is not the module itself; `own` says where names come from that only there are known.
    """

    def __init__(
        self,
        schema: Schema,
        package: str,
        own: Mapping[str, Source],
        model: str = "",
        home: str = "",
    ) -> None:
        self.schema, self.package, self.own = schema, package, own
        self.model, self.home = model, home

    def into(self, text: str) -> str:
        """A module's text with its imports in their place, and without the marks they are told by.

        Raises KeyError where nothing brings in a name that is marked.
        """
        found = marked(text)
        rows = {name for mark, name in found if mark == ROW}
        later = {name for mark, name in found if mark == TYPE and name not in {*rows, self.model}}
        names = {name for mark, name in found if mark == NAME}
        lines = _lines(
            [*map(self._named, names | ({"TYPE_CHECKING"} if later else set()))]
            + [self._row(name) for name in rows if name != self.model or self.home]
        )
        if later:
            inner = _lines([self._row(name) for name in later])
            lines += ["", "if TYPE_CHECKING:", *(f"    {line}" for line in inner)]
        return unmarked(text).replace(PLACE, "\n".join(lines))

    def _named(self, name: str) -> tuple[int, Source]:
        """The block of imports that a name is in, and where it comes from."""
        if name in self.own:
            return 2, self.own[name]
        for block, known in enumerate((_STANDARD, _LIBRARIES)):
            if name in known:
                return block, known[name]
        if name not in _kit():
            raise KeyError(name)
        return 2, Source(f"{self.package}.kit", name)

    def _row(self, model: str) -> tuple[int, Source]:
        if model == self.model:
            return 2, Source(self.home, model)
        return 2, Source(f"{self.package}.{self.schema.models[model].folder}.model", model)


_OWN: Mapping[str, Mapping[str, Source]] = {
    "model": {
        "Base": Source("..kit.database", "Base"),
        "live": Source("..kit.database", "live"),
        "show": Source("..kit.show", "show"),
        "brief": Source("..kit.show", "brief"),
    },
    "form": {"RULES": Source(".rules", "RULES")},
    "controller": {"form": Source(".form", "form")},
}


def imports_of(schema: Schema, model: Model, part: str) -> Imports:
    """What brings names into a module of a model's own folder."""
    home = "" if part == "model" else ".model"
    return Imports(schema, ".", _OWN.get(part, {}), model.name, home)


def tests_imports(schema: Schema, package: str) -> Imports:
    """What brings names into the tests of any model: the forms of all are known there."""
    forms = {}
    for model in schema:
        name = f"{model.endpoint}_form"
        forms[name] = Source(f"{package}.{model.folder}.form", f"form as {name}")
    return Imports(schema, package, forms)


def _lines(sources: Iterable[tuple[int, Source]]) -> list[str]:
    """The statements, those of a block together, as import sorters have them."""
    blocks: tuple[dict[str, set[str]], ...] = ({}, {}, {})
    for block, source in sources:
        blocks[block].setdefault(source.module, set()).update(filter(None, [source.part]))
    lines: list[str] = []
    for modules in filter(None, blocks):
        lines += [""] if lines else []
        whole, parts = ([m for m in sorted(modules) if bool(modules[m]) == told] for told in (0, 1))
        lines += [f"import {module}" for module in whole]
        lines += [from_import(module, modules[module]) for module in parts]
    return lines
