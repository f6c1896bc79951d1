"""Files written all or nothing, also where the process is killed."""

from __future__ import annotations

import json
import os
import shutil
import tempfile
from collections.abc import Iterable, Mapping, Sequence
from contextlib import suppress
from pathlib import Path

from ..problems import WelbikError
from ..project_files import resolve_below
from .locking import alone
from .machine_state import state_folder

_FOLDER, _STAGING, _JOURNAL = ".welbik", "staging-", "journal.json"


def write_all(root: Path, targets: Mapping[str, str], gone: list[str] | None = None) -> None:
    """Writes and removes files below `root`: all or nothing, also where the process is killed.

    All are ready beside their places before a journal says so; from then on they move, and
    `finish` goes on where that was broken off. Raises WelbikError for a path that leaves `root`.
    """
    with alone(root):
        finish(root)
        _write_all(root, targets, gone or [])


def _write_all(root: Path, targets: Mapping[str, str], gone: Sequence[str]) -> None:
    for name in (*targets, *gone):
        resolve_below(root, name)
    staging = None
    undo: list[tuple[Path, Path | None]] = []
    try:
        journal = state_folder(root, create=True)
        assert journal is not None
        staging = Path(tempfile.mkdtemp(prefix=_STAGING, dir=root / _FOLDER))
        for number, text in enumerate(targets.values()):
            (staging / f"new-{number}").write_bytes(text.encode())
        moves = [(f"new-{number}", name) for number, name in enumerate(targets)]
        moves += [("", name) for name in gone]
        for number, (_, name) in enumerate(moves):
            # What is there is kept till all is done; a folder in the way is found now.
            if (root / name).exists():
                shutil.copy2(root / name, staging / f"old-{number}")
        draft = journal / "draft"
        draft.write_text(json.dumps({"staging": staging.name, "moves": moves}), "utf-8")
        draft.replace(journal / _JOURNAL)
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
            _take_down(root, staging)


def _move(source: Path | None, target: Path) -> None:
    if source is None:
        target.unlink(missing_ok=True)
        return
    target.parent.mkdir(parents=True, exist_ok=True)
    source.replace(target)


def _take_down(root: Path, staging: Path) -> None:
    # Without its journal nobody goes on with it, whatever else is left of it.
    # Where even that fails all is done again by the next command, to the same end.
    folder = state_folder(root)
    if folder is not None:
        with suppress(OSError):
            (folder / _JOURNAL).unlink(missing_ok=True)
    shutil.rmtree(staging, ignore_errors=True)


def finish(root: Path) -> None:
    """Finishes a write that was broken off while its files moved; removes all other staging.

    The journal counts only if this machine wrote it for this checkout. The caller holds the lock.
    """
    staging, moves = _read_journal(root)
    try:
        for source, name in moves:
            target = resolve_below(root, name)
            if not source or (staging / source).exists():
                _move(staging / source if source else None, target)
    except OSError as error:
        raise WelbikError(
            f"{error.filename or root} can't be written: {error.strerror}",
            "it was to be finished: an earlier command was broken off",
        ) from None
    for left in (staging, *_stagings(root)):
        _take_down(root, left)


def _read_journal(root: Path) -> tuple[Path, list[tuple[str, str]]]:
    """The staging folder and the moves of a broken-off write; no moves if there was none."""
    folder = state_folder(root)
    try:
        told = json.loads((folder / _JOURNAL).read_text("utf-8")) if folder else {}
        return root / _FOLDER / told["staging"], [(source, name) for source, name in told["moves"]]
    except (OSError, ValueError, KeyError):
        return root / _FOLDER / _STAGING, []


def _stagings(root: Path) -> list[Path]:
    folder = resolve_below(root, _FOLDER)
    return [path for path in folder.glob(f"{_STAGING}*") if not path.is_symlink()]


def finish_if_free(root: Path) -> None:
    """As `finish`, unless another command is at work here."""
    if _read_journal(root)[1] or _stagings(root):
        with suppress(WelbikError), alone(root, wait=0):
            finish(root)


def prune(root: Path, gone: Iterable[str]) -> None:
    """Takes away the folders that have become empty with files that are gone."""
    for name in gone:
        _prune(resolve_below(root, name).parent, root)


def _prune(folder: Path, root: Path) -> None:
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
