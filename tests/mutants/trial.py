"""Whether a project's own tests notice a breakage of its code."""

from __future__ import annotations

import json
import os
import random
import re
import shutil
import subprocess
import sys
from collections.abc import Callable, Iterator, Mapping, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass
from pathlib import Path
from queue import Queue

from .mutations import Mutation, of

_TOO_LONG = 180


@dataclass(frozen=True)
class Mutant:
    """A breakage of a file of a project."""

    path: str
    mutation: Mutation

    @property
    def name(self) -> str:
        """What it is known by, whatever stands around it."""
        one = self.mutation
        return f"{self.path}: {one.what}: {one.was}: {one.within}"

    def __str__(self) -> str:
        one = self.mutation
        return f"{self.path}:{one.line}: {one.what}: {one.was}"


def mutants(root: Path, paths: Sequence[str]) -> list[Mutant]:
    """All breakages of some files."""
    return [Mutant(p, m) for p in paths for m in of(p, (root / p).read_text("utf-8"))]


def unbroken(root: Path, path: str) -> Mutant:
    """No breakage of a file at all."""
    return Mutant(path, Mutation("nothing", 1, "", "", (root / path).read_text("utf-8")))


def sample(
    groups: Mapping[str, Sequence[Mutant]], counts: Mapping[str, int], seed: int
) -> list[Mutant]:
    """So many of each group, the same each time."""
    found = []
    for name, count in counts.items():
        some = sorted(groups[name], key=str)
        found += random.Random(f"{seed} {name}").sample(some, min(count, len(some)))
    return found


def outcomes(
    root: Path,
    tried: Sequence[Mutant],
    tests: Callable[[Mutant], Sequence[str]],
    workers: int = 2,
    source: str = "",
) -> Iterator[tuple[Mutant, bool]]:
    """Each breakage, and whether a test notices it.

    It is tried in a copy of the project; `tests` says in what order they are run, `source` where
    packages are that tests import instead of those that are installed.
    """
    folders: Queue[Path] = Queue()
    for number in range(workers):
        folder = root.parent / f"{root.name}-mutants-{number}"
        shutil.rmtree(folder, ignore_errors=True)
        shutil.copytree(root, folder, ignore=shutil.ignore_patterns("*.db", "__pycache__", ".*"))
        folders.put(folder)

    def try_one(mutant: Mutant) -> tuple[Mutant, bool]:
        folder = folders.get()
        file = folder / mutant.path
        whole = file.read_text("utf-8")
        try:
            file.write_text(mutant.mutation.text, "utf-8")
            shutil.rmtree(file.parent / "__pycache__", ignore_errors=True)
            caught = not passes(folder, tests(mutant), source)
        finally:
            file.write_text(whole, "utf-8")
            folders.put(folder)
        return mutant, caught

    with ThreadPoolExecutor(workers) as pool:
        yield from pool.map(try_one, tried)


def passes(folder: Path, tests: Sequence[str], source: str = "") -> bool:
    """Whether a project's tests pass; what goes on for ever does not."""
    command = [sys.executable, "-B", "-m", "pytest", "-x", "-q", "-p", "no:cacheprovider", *tests]
    packages = {"PYTHONPATH": str(folder / source)} if source else {}
    try:
        done = subprocess.run(
            command,
            cwd=folder,
            capture_output=True,
            timeout=_TOO_LONG if not source else 4 * _TOO_LONG,
            check=False,
            env=os.environ | packages,
        )
    except subprocess.TimeoutExpired:
        return False
    return done.returncode == 0


def harmless(path: Path) -> Callable[[Mutant], bool]:
    """Whether a breakage can't matter; why not is written beside its name.

    A name that begins with `~` is a pattern, for many of one kind.
    """
    known: dict[str, str] = json.loads(path.read_text("utf-8"))
    patterns = [re.compile(name[1:]) for name in known if name.startswith("~")]
    return lambda mutant: (
        mutant.name in known or any(one.fullmatch(mutant.name) for one in patterns)
    )
