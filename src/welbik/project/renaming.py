"""What was renamed since the last build, and where hand-written lines still say the old names."""

from __future__ import annotations

from collections import Counter
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field

from ..blueprint.taken import TESTS
from ..merging.renaming import Renamed, left, renamed
from ..schema.model import Many, Model, Reference, Schema, Stored
from ..schema.names import snake, tests_file
from .declarations import schema_from
from .planning import Plan
from .record import Record
from .settings import Settings


@dataclass(frozen=True)
class Renaming:
    """The models of which something was renamed, and the folders of those that were themselves."""

    models: list[Renamed] = field(default_factory=list)
    package: str = ""

    def paths(self, wanted: Mapping[str, str]) -> dict[str, str]:
        """The new path of each file whose model was renamed, by the old one."""
        found: dict[str, str] = {}
        for one in self.models:
            if not one.moved:
                continue
            old, new = f"{self.package}/{one.module}/", f"{self.package}/{one.new_module}/"
            found |= {old + name.removeprefix(new): name for name in wanted if name.startswith(new)}
            test = tests_file(one.new_name, TESTS)
            if test in wanted:
                found[tests_file(one.name, TESTS)] = test
        return found

    def text(self, path: str, text: str) -> str:
        """A file's text with what was renamed."""
        return renamed(path, text, self.models)

    def left(self, todo: Plan) -> dict[str, list[str]]:
        """By file: the lines of somebody's that may mean an old name."""
        found: dict[str, list[str]] = {}
        for one in todo.of("merged", "yours", "left") if self.models else ():
            texts = todo.record.files.get(one.generated, [])
            generated = texts[0].text if texts else ""
            text = one.text if one.text is not None else one.before or ""
            lines = [
                f"{one.name}:{n}  {line}"
                for n, line in left(one.name, text, generated, self.models)
            ]
            if lines:
                found[one.name] = lines
        return found


def renaming_of(settings: Settings, schema: Schema, record: Record) -> Renaming:
    """What `was` says that the last build did not know yet."""
    if not any(model.was or any(_was(m) for m in model.everything) for model in schema):
        return Renaming()
    before = schema_from(record.declared) if record.declared else None
    return Renaming(list(_renamed(settings.package, schema, before, record)), settings.package)


def _renamed(
    package: str, schema: Schema, before: Schema | None, record: Record
) -> Iterator[Renamed]:
    for model in schema:
        old = _old(package, model, before, record)
        members = dict(_members(model, old)) if old is not None else {}
        name = (
            old.name if old is not None else model.was if old is None and model.was else model.name
        )
        if old is None and not _had(package, model, record):
            continue
        if name != model.name or members:
            module = old.folder if old is not None else snake(name)
            yield Renamed(
                name, model.name, module, model.folder, members, frozenset(_owners(before, name))
            )


def _old(package: str, model: Model, before: Schema | None, record: Record) -> Model | None:
    if before is None:
        return None
    if model.name in before.models:
        return before.models[model.name]
    return before.models.get(model.was)


def _had(package: str, model: Model, record: Record) -> bool:
    """Whether files of a model are there under the name that it had, of a record that says no more."""
    names = record.files
    return (
        bool(model.was)
        and not record.declared
        and (
            f"{package}/{snake(model.was)}/model.py" in names
            and f"{package}/{model.folder}/model.py" not in names
        )
    )


def _members(model: Model, old: Model) -> Iterator[tuple[str, str]]:
    """The attributes that are called otherwise, by what they were called."""
    for member in model.everything:
        was = _was(member)
        if not was or was not in old.by_name or member.name in old.by_name:
            continue
        before = old.by_name[was]
        yield before.attribute, member.attribute
        if isinstance(member, Reference) and isinstance(before, Reference):
            yield before.key_attribute, member.key_attribute
        if hasattr(before, "labels_name") and hasattr(member, "labels_name"):
            yield before.labels_name, member.labels_name


def _was(member: object) -> str:
    """What a member was called before; empty where nothing says so."""
    return member.was if isinstance(member, Stored | Many) else ""


def _owners(before: Schema | None, name: str) -> Iterator[str]:
    """References that lead to a model, and are called as none that leads to another."""
    if before is None:
        return
    targets: dict[str, set[str]] = {}
    for model in before:
        for reference in model.references:
            targets.setdefault(reference.name, set()).add(reference.target)
    names = Counter(member.name for model in before for member in model.fields)
    yield from (own for own, found in targets.items() if found == {name} and own not in names)
