"""Building: from declarations to the files of the application, and what was edited in them."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, replace
from functools import cache
from hashlib import sha256
from pathlib import Path
from typing import TYPE_CHECKING

from .. import __version__
from ..problems import WelbikError, no_model
from ..project_files import ROWS_LIMIT, list_files, read_file
from .declared import declared_texts
from .locking import alone
from .planning import Plan, Wishes, plan, read
from .record import OUT, Kept, Record, changes_of, digest_of, inputs_of, read_record
from .remade import Remade, all_recorded
from .writing import finish, prune, write_all

if TYPE_CHECKING:
    from ..codegen.made import Files, Made
    from ..schema.model import Schema
    from .renaming import Renaming
    from .settings import Settings

Tell = Callable[[int], None]
"""Hears of each model that is done, and how many there are."""


@dataclass(frozen=True)
class Asked:
    """What was said on the command line of a build."""

    mine: tuple[str, ...] = ()
    theirs: tuple[str, ...] = ()
    mark: bool = False
    models: tuple[str, ...] = ()
    parts: tuple[str, ...] = ()
    """Of each model only these: model, form, controller, list, view, edit, remove, pages, tests."""

    @property
    def whole(self) -> bool:
        return not self.models and not self.parts


def planned(
    settings: Settings,
    schema: Schema | None = None,
    tell: Tell = lambda models: None,
    asked: Asked | None = None,
) -> Plan:
    """What building would write; raises WelbikError where the declarations have problems."""
    from .declarations import schema_of

    asked = asked or Asked()
    record = read_record(settings.root)
    declared = declared_texts(settings.root)
    inputs = _inputs(settings, declared)
    if record.inputs == inputs and not asked.theirs and not _is_back(settings, record):
        # Nothing that it is built from changed: what was generated is what would be.
        wanted = all_recorded(record)
        same = record.as_recorded(settings.root, record.files)
        renaming = None
        loose: Mapping[str, str] = {}
        told = None
    else:
        schema = schema or schema_of(settings.root)
        remade = Remade(record, settings.package, settings.root)
        wanted, renaming, loose, told = _generated(settings, schema, remade, tell)
        # Some may have been made after all, where a model came to be called otherwise in the code.
        same = remade.as_recorded & wanted.packed
    wishes = Wishes(
        _in_project(settings, asked.mine),
        _in_project(settings, asked.theirs),
        asked.mark,
        _package_moved(settings, record, wanted) | (renaming.paths(wanted) if renaming else {}),
        renaming.text if renaming else lambda name, text: text,
        _earlier(settings.package),
        _selection(settings, schema, asked),
    )
    todo = plan(settings.root, wanted, record, wishes, _layout(settings.root), same)
    todo.schema, found = schema, todo.record
    found.version, found.inputs = __version__, inputs if asked.whole else ""
    found.declared = declared if asked.whole else record.declared
    said = (record.version, record.inputs, record.declared)
    todo.remembers |= (found.version, found.inputs, found.declared) != said
    found.layout = record.layout
    found.made = told(found) if told else record.made
    found.made = found.made if asked.whole else {}
    todo.remembers |= found.made != record.made
    if renaming:
        _note_layouts(found, wanted, loose)
        todo.remembers |= found.files != record.files
        todo.renamed = renaming.left(todo)
        todo.news = _news(record, todo)
    return todo


def _package_moved(settings: Settings, record: Record, wanted: Mapping[str, str]) -> dict[str, str]:
    """The new paths by the old ones, where the application is called otherwise in welbik.toml."""
    kit, package = "/kit/__init__.py", settings.package
    before = {name.removesuffix(kit) for name in record.files if name.endswith(kit)}
    if len(before) != 1 or package in before:
        return {}
    (old,) = before
    inner = (name.removeprefix(f"{package}/") for name in wanted if name.startswith(f"{package}/"))
    return {f"{old}/{name}": f"{package}/{name}" for name in inner}


def _is_back(settings: Settings, record: Record) -> bool:
    """Whether a file is there that was taken out: its record is of the day that it went."""
    return any(
        one.place == OUT and (settings.root / name).exists()
        for name, texts in record.files.items()
        for one in texts
    )


def _generated(
    settings: Settings, schema: Schema, remade: Remade, tell: Tell
) -> tuple[Files, Renaming, Mapping[str, str], Callable[[Record], dict[str, Made]]]:
    """Every file as it is declared, what was renamed since the last build, and for the next one
    digests of what was laid out, and what tells what models were made from."""
    from ..codegen.files import application_files
    from ..codegen.formatting import Layouts, version
    from ..codegen.made_from import Earlier
    from .renaming import renaming_of

    record = remade.record
    known = Layouts(_known(record) if record.layout == version() else {})
    besides = (_generator(), version(), _sheets(settings))
    earlier = Earlier(record.made, remade.texts, besides)
    files = application_files(
        schema, settings.for_build(), lambda: tell(len(schema.models)), known, earlier
    )

    def told(found: Record) -> dict[str, Made]:
        after = Remade(found, settings.package, settings.root)
        return after.told(earlier.now, earlier.places)

    return files, renaming_of(settings, schema, record), known.made, told


def _note_layouts(record: Record, wanted: Mapping[str, str], loose: Mapping[str, str]) -> None:
    """Says of each file what it was before it was laid out: that is not done again then."""
    from ..codegen.formatting import version

    record.layout = version()
    for name, digest in loose.items():
        texts = record.files.get(name, [])
        if len(texts) == 1 and texts[0].loose != digest:
            is_made = texts[0].digest == digest_of(wanted[name])
            record.files[name] = [replace(texts[0], loose=digest if is_made else "")]


def _known(record: Record) -> dict[str, Callable[[], str]]:
    """What was laid out for the last build, by what it was before; unpacked when it is asked for."""

    def unpacked(one: Kept) -> Callable[[], str]:
        return lambda: one.text

    return {
        one.loose: unpacked(one) for texts in record.files.values() for one in texts if one.loose
    }


def _news(record: Record, todo: Plan) -> list[str]:
    if not record.version or not todo.writes:
        return []
    from ..codegen.versions import news

    return news(record.version, {one.generated for one in todo.of("updated", "merged")})


def _inputs(settings: Settings, declared: Mapping[str, str]) -> str:
    told = {name: str(value) for name, value in settings.for_build().items()}
    return inputs_of(declared, told, _sheets(settings), _generator())


def _sheets(settings: Settings) -> dict[str, str]:
    """A digest of each file of rows."""
    root = settings.root
    return {
        name: sha256(read_file(root, name, ROWS_LIMIT) or b"").hexdigest()
        for name in list_files(root, "data", ".csv")
    }


@cache
def _generator() -> str:
    from ..codegen.versions import generator_digest

    return generator_digest()


def _earlier(package: str) -> Callable[[str], tuple[str, ...]]:
    from ..codegen.versions import earlier

    return lambda name: earlier(name.removeprefix(f"{package}/"))


def _layout(root: Path) -> Callable[[dict[str, tuple[str, str]]], dict[str, str]]:
    def layout(texts: dict[str, tuple[str, str]]) -> dict[str, str]:
        from ..codegen.formatting import laid_out_like

        return laid_out_like(texts, root)

    return layout


def _in_project(settings: Settings, names: tuple[str, ...]) -> tuple[str, ...]:
    """Files as they are named in the project, wherever one stands."""
    found = []
    for name in names:
        path = Path(name) if Path(name).is_absolute() else Path.cwd() / name
        if not path.exists() and (settings.root / name).exists():
            path = settings.root / name
        try:
            found.append(path.resolve().relative_to(settings.root).as_posix())
        except ValueError:
            raise WelbikError(f"{name} is not in {settings.root}", "name a file of it") from None
    return tuple(found)


def _selection(settings: Settings, schema: Schema | None, asked: Asked) -> Callable[[str], bool]:
    """Which files a build is about."""
    if asked.whole:
        return lambda name: True
    from ..codegen.files import part_of
    from .declarations import schema_of

    schema = schema or schema_of(settings.root)
    for name in asked.models:
        if name not in schema.models:
            raise no_model(name, schema.models)
    own = {schema.models[name] for name in asked.models} or {*schema}

    def wanted(name: str) -> bool:
        model, part = part_of(schema, settings.package, name)
        return model in own and (not asked.parts or bool({*part} & {*asked.parts}))

    return wanted


def build(
    settings: Settings,
    schema: Schema | None = None,
    tell: Tell = lambda models: None,
    agreed: Callable[[Plan], bool] = lambda todo: True,
    asked: Asked | None = None,
) -> Plan:
    """Writes what is declared; returns what was done.

    `agreed` is asked before the code of models goes that are not declared any more; where it
    is not agreed to, nothing is written and WelbikError raised. So it is where lines clash that
    nobody settled.
    """
    todo = ready(settings, schema, tell, agreed, asked)
    carry_out(settings.root, todo)
    return todo


def ready(
    settings: Settings,
    schema: Schema | None = None,
    tell: Tell = lambda models: None,
    agreed: Callable[[Plan], bool] = lambda todo: True,
    asked: Asked | None = None,
) -> Plan:
    """What `build` is about to write, agreed to: nothing is written yet."""
    todo = planned(settings, schema, tell, asked)
    losses = todo.losses
    if losses and not agreed(todo):
        raise WelbikError(
            f"no model asks for {', '.join(losses)} any more: that code would go",
            "bring the model back, or allow it: welbik build --allow-loss; nothing was written",
        )
    if any(one.text is None for one in todo.clashes):
        from .clashing import told_clashes

        raise told_clashes(settings.root, todo, read_record(settings.root))
    return todo


def carry_out(root: Path, todo: Plan) -> None:
    """Does what a plan says: either all of it, or nothing and a WelbikError."""
    if not todo and not todo.remembers:
        return
    with alone(root):
        finish(root)
        _still_so(root, todo)
        write, gone = changes_of(root, todo.record)
        gone += [name for name in todo.removes if name not in todo.writes]
        write_all(root, {**todo.writes, **write}, gone)
        prune(root, gone)


def _still_so(root: Path, todo: Plan) -> None:
    """Whoever saves a file while it is worked out what becomes of it loses nothing."""
    for one in todo.changes:
        touched = one.writes or one.state == "gone"
        if touched and read(root, one.old or one.name) != one.before:
            raise WelbikError(
                f"{one.old or one.name} was changed while this was built; nothing was written",
                "build again",
            )


def differences(settings: Settings, asked: Asked | None = None) -> Iterator[str]:
    """The lines that building would change, as unified diffs; of clashes, both versions."""
    from difflib import unified_diff

    todo = planned(settings, asked=replace(asked or Asked(), mark=True))
    for one in todo.changes:
        if not one.writes or one.text is None:
            continue
        old = one.old or one.name
        lines = unified_diff(
            (one.before or "").splitlines(), one.text.splitlines(), old, one.name, lineterm=""
        )
        yield "\n".join(lines)
    for name in todo.removes:
        if name not in {one.old for one in todo.changes}:
            yield f"--- {name}\n+++ (taken away)"
