"""Files written all or nothing, and never over somebody's own lines.

`.welbik/made/` keeps what was generated last, byte for byte. A file that still equals
its copy there is ours to replace; one that does not was edited, and is left alone.
"""

from __future__ import annotations

import os
import shutil
import tempfile
from collections.abc import Mapping
from dataclasses import dataclass, field
from pathlib import Path

from ..problems import WelbikError

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
    """Writes and removes files below `root`: all are ready beside their places before one moves."""
    staging = None
    undo: list[tuple[Path, Path | None]] = []
    try:
        (root / ".welbik").mkdir(parents=True, exist_ok=True)
        staging = Path(tempfile.mkdtemp(prefix="staging-", dir=root / ".welbik"))
        for number, text in enumerate(targets.values()):
            (staging / f"new-{number}").write_bytes(text.encode())
        moves: list[tuple[Path | None, Path]] = [
            (staging / f"new-{n}", root / name) for n, name in enumerate(targets)
        ]
        moves += [(None, root / name) for name in gone or ()]
        for number, (source, target) in enumerate(moves):
            _replace(source, target, staging / f"old-{number}", undo)
    except BaseException as error:
        for target, old in reversed(undo):
            if old is None:
                target.unlink(missing_ok=True)
            else:
                old.replace(target)
        if isinstance(error, OSError):
            raise WelbikError(
                f"{error.filename or root} can't be written: {error.strerror}",
                "nothing was changed",
            ) from None
        raise
    finally:
        if staging is not None:
            shutil.rmtree(staging, ignore_errors=True)


def _replace(
    source: Path | None, target: Path, old: Path, undo: list[tuple[Path, Path | None]]
) -> None:
    target.parent.mkdir(parents=True, exist_ok=True)
    there = target.exists()
    if there:
        shutil.copy2(target, old)
    if source is not None or there:
        undo.append((target, old if there else None))
    if source is not None:
        source.replace(target)
    elif there:
        target.unlink()


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
    handle, draft = tempfile.mkstemp(dir=path.absolute().parent, prefix=f".{path.name}-")
    try:
        with os.fdopen(handle, "wb") as file:
            file.write(data)
        Path(draft).chmod(0o644)
        Path(draft).replace(path)
    except OSError as error:
        Path(draft).unlink(missing_ok=True)
        raise WelbikError(
            f"{path} can't be written: {error.strerror}", "check the folder's permissions"
        ) from None
