"""Generated Python laid out as the usual formatter does it."""

from __future__ import annotations

import subprocess
import tempfile
from collections.abc import Callable, Mapping
from dataclasses import dataclass, field
from difflib import SequenceMatcher
from hashlib import sha256
from importlib import metadata
from pathlib import Path

from ..problems import WelbikError


@dataclass
class Layouts:
    """What was laid out earlier: by a digest of the text before, the text after.

    `made` has the digest of each file that is laid out now, or was and is the same.
    """

    known: Mapping[str, Callable[[], str]] = field(default_factory=dict)
    made: dict[str, str] = field(default_factory=dict)


def version() -> str:
    """What lays out, for whoever keeps what it made."""
    return f"ruff-{metadata.version('ruff')}"


def formatted(files: Mapping[str, str], layouts: Layouts | None = None) -> dict[str, str]:
    """The files, all that is Python and not copied laid out anew in one run.

    What `layouts` knows already is taken from there.
    """
    loose = {name: text for name, text in files.items() if _is_made(name, text)}
    layouts = layouts or Layouts()
    done: dict[str, str] = {}
    for name, text in loose.items():
        layouts.made[name] = digest = sha256(text.encode()).hexdigest()[:16]
        # Nothing where what was kept of it is damaged.
        if digest in layouts.known and (kept := layouts.known[digest]()):
            done[name] = kept
    return {**files, **done, **_laid_out({n: t for n, t in loose.items() if n not in done})}


def _laid_out(loose: Mapping[str, str]) -> dict[str, str]:
    if not loose:
        return {}
    from ruff import find_ruff_bin  # type: ignore[import-untyped]

    with tempfile.TemporaryDirectory() as folder:
        places = {name: Path(folder) / f"{n}.py" for n, name in enumerate(loose)}
        for name, text in loose.items():
            places[name].write_text(text, "utf-8", newline="\n")
        done = subprocess.run(
            [find_ruff_bin(), "format", "--isolated", "--no-cache", "--quiet", folder],
            capture_output=True,
            text=True,
            check=False,
        )
        if done.returncode:
            raise WelbikError(f"the generated code could not be laid out: {done.stderr.strip()}")
        return {name: place.read_text("utf-8") for name, place in places.items()}


def _is_made(name: str, text: str) -> bool:
    # What is copied is laid out already, and most of what there is.
    return name.endswith(".py") and bool(text) and "/kit/" not in name


def laid_out_like(texts: Mapping[str, tuple[str, str]], root: Path) -> dict[str, str]:
    """Merged texts laid out as each file was before: by its path, that text and the merged one.

    By the rules of the project at `root`. What a developer laid out some other way stays so: there the
    lines that are new are laid out alone.
    """
    return {
        name: _like(root, name, before, text) if name.endswith(".py") else text
        for name, (before, text) in texts.items()
    }


def _like(root: Path, name: str, before: str, text: str) -> str:
    text = _sorted_imports(root, name, before, text)
    if _ruff(root, name, before, "format") == before:
        return _ruff(root, name, text, "format")
    old, new = before.splitlines(), text.splitlines()
    stretches = [
        (start + 1, end)
        for tag, _, _, start, end in SequenceMatcher(None, old, new, False).get_opcodes()
        if tag in ("insert", "replace")
    ]
    for start, end in reversed(stretches):
        text = _ruff(root, name, text, "format", f"--range={start}-{end}")
    return text


def _sorted_imports(root: Path, name: str, before: str, text: str) -> str:
    sort = ("check", "--select=I", "--fix")
    is_sorted = _ruff(root, name, before, *sort) == before
    return _ruff(root, name, text, *sort) if is_sorted else text


def _ruff(root: Path, name: str, text: str, *words: str) -> str:
    """What ruff makes of a text by a project's rules; the text where it can't read it."""
    from ruff import find_ruff_bin

    command = [find_ruff_bin(), *words, "--quiet", "--no-cache", f"--stdin-filename={root / name}"]
    # From the project's folder: which modules are its own is looked for there.
    # As bytes: line ends stay as they are.
    done = subprocess.run(
        [*command, "-"], input=text.encode(), capture_output=True, check=False, cwd=root
    )
    return done.stdout.decode() if done.returncode == 0 and done.stdout else text
