"""Files written all or nothing, and never over somebody's own lines.

`.welbik/made/` keeps what was generated last, byte for byte. A file that still equals
its copy there is ours to replace; one that does not was edited, and is left alone.
"""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Mapping, Sequence
from contextlib import suppress
from dataclasses import dataclass, field
from pathlib import Path

from ..problems import WelbikError
from .locking import alone

_STAGING, _JOURNAL = "staging-", "journal.json"
MADE = Path(".welbik") / "made"


@dataclass
class Plan:
    """What building would do, by path in the project."""

    write: dict[str, str] = field(default_factory=dict)
    """New and changed files, with their text."""

    new: set[str] = field(default_factory=set)
    remove: list[str] = field(default_factory=list)
    """Files that nothing declared asks for any more."""

    edited: dict[str, str] = field(default_factory=dict)
    """Files edited by hand that would change, with the text they do not get."""

    forget: list[str] = field(default_factory=list)
    """Edited files that nothing asks for any more: kept, and no longer ours."""

    record: dict[str, str] = field(default_factory=dict)
    """Files that are right on disk already, but not in the record."""

    @property
    def losses(self) -> list[str]:
        """The folders of models that are gone, whose code would go with them."""
        models = (Path(name).parent for name in self.remove if Path(name).name == "model.py")
        return sorted(str(folder) for folder in models)

    def __bool__(self) -> bool:
        return bool(self.write or self.remove or self.edited or self.forget)


def read(path: Path) -> str | None:
    """A file's text, byte for byte; None where there is none or it is not UTF-8."""
    try:
        return path.read_bytes().decode()
    except (FileNotFoundError, NotADirectoryError, UnicodeDecodeError):
        return None
    except IsADirectoryError:
        raise WelbikError(
            f"{path} is a folder, and a file of that name is to be written", "move the folder away"
        ) from None


def plan(root: Path, wanted: Mapping[str, str]) -> Plan:
    """What it takes to have `wanted` on disk, without touching what was edited."""
    found = Plan()
    for name, text in wanted.items():
        now, made = read(root / name), read(root / MADE / name)
        if now is None and not (root / name).exists():
            found.write[name] = text
            found.new.add(name)
        elif now == text:
            if made != text:
                found.record[name] = text
        elif now is not None and now == made:
            found.write[name] = text
        elif made != text:
            found.edited[name] = text
    for name in sorted(_recorded(root) - wanted.keys()):
        now = read(root / name)
        if now is None:
            found.forget.append(name)
        elif now == read(root / MADE / name):
            found.remove.append(name)
        else:
            found.forget.append(name)
    return found


def _recorded(root: Path) -> set[str]:
    folder = root / MADE
    return {str(path.relative_to(folder)) for path in folder.rglob("*") if path.is_file()}


def carry_out(root: Path, todo: Plan) -> None:
    """Does what a plan says: either all of it, or nothing and a WelbikError."""
    targets = dict(todo.write)
    targets |= {str(MADE / name): text for name, text in (todo.write | todo.record).items()}
    gone = [*todo.remove, *(str(MADE / name) for name in (*todo.remove, *todo.forget))]
    write_all(root, targets, gone)
    for name in gone:
        _prune((root / name).parent, root)


def write_all(root: Path, targets: Mapping[str, str], gone: list[str] | None = None) -> None:
    """Writes and removes files below `root`: all or nothing, also where the process is killed.

    All are ready beside their places before a journal says so; from then on they move, and
    `finish` goes on where that was broken off.
    """
    with alone(root):
        finish(root)
        _write_all(root, targets, gone or [])


def _write_all(root: Path, targets: Mapping[str, str], gone: Sequence[str]) -> None:
    staging = None
    undo: list[tuple[Path, Path | None]] = []
    try:
        staging = Path(tempfile.mkdtemp(prefix=_STAGING, dir=root / ".welbik"))
        for number, text in enumerate(targets.values()):
            (staging / f"new-{number}").write_bytes(text.encode())
        moves = [(f"new-{number}", name) for number, name in enumerate(targets)]
        moves += [("", name) for name in gone]
        for number, (_, name) in enumerate(moves):
            # What is there is kept till all is done; a folder in the way is found now.
            if (root / name).exists():
                shutil.copy2(root / name, staging / f"old-{number}")
        draft = staging / "draft"
        draft.write_text(json.dumps(moves), "utf-8")
        draft.replace(staging / _JOURNAL)
        for number, (source, name) in enumerate(moves):
            old = staging / f"old-{number}"
            undo.append((root / name, old if old.exists() else None))
            _move(staging / source if source else None, root / name)
    except BaseException as error:
        for target, kept in reversed(undo):
            with suppress(OSError):
                if kept is None:
                    target.unlink(missing_ok=True)
                else:
                    kept.replace(target)
        if isinstance(error, OSError):
            raise WelbikError(
                f"{error.filename or root} can't be written: {error.strerror}",
                "nothing was changed",
            ) from None
        raise
    finally:
        if staging is not None:
            _take_down(staging)


def _move(source: Path | None, target: Path) -> None:
    if source is None:
        target.unlink(missing_ok=True)
        return
    target.parent.mkdir(parents=True, exist_ok=True)
    source.replace(target)


def _take_down(staging: Path) -> None:
    # Without its journal nobody goes on with it, whatever else is left of it.
    (staging / _JOURNAL).unlink(missing_ok=True)
    shutil.rmtree(staging, ignore_errors=True)


def finish(root: Path) -> None:
    """Goes on with what was broken off while its files moved; clears away all else that is left.

    The caller holds the lock of the project.
    """
    for staging in (root / ".welbik").glob(f"{_STAGING}*"):
        try:
            moves = json.loads((staging / _JOURNAL).read_text("utf-8"))
        except (OSError, ValueError):
            moves = []
        try:
            for source, name in moves:
                if not source or (staging / source).exists():
                    _move(staging / source if source else None, root / name)
        except OSError as error:
            raise WelbikError(
                f"{error.filename or root} can't be written: {error.strerror}",
                "it was to be finished: an earlier command was broken off",
            ) from None
        _take_down(staging)


def finish_if_free(root: Path) -> None:
    """As `finish`, unless another command is at work here."""
    if any((root / ".welbik").glob(f"{_STAGING}*")):
        with suppress(WelbikError), alone(root, wait=0):
            finish(root)


def _prune(folder: Path, root: Path) -> None:
    """Takes away folders that have become empty."""
    while (
        folder != root
        and folder.is_dir()
        and not any(p.name != "__pycache__" for p in folder.iterdir())
    ):
        shutil.rmtree(folder)
        folder = folder.parent


def write_bytes(path: Path, data: bytes) -> None:
    """Writes one file whole or not at all."""
    draft = ""
    try:
        handle, draft = tempfile.mkstemp(dir=path.absolute().parent, prefix=f".{path.name[:60]}-")
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        Path(draft).chmod(0o644)
        Path(draft).replace(path)
    except OSError as error:
        if draft:
            Path(draft).unlink(missing_ok=True)
        raise WelbikError(
            f"{path} can't be written: {error.strerror}",
            "check the folder, its permissions and the room on the disk",
        ) from None
