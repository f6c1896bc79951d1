"""What was generated last, kept as the base of the next merge.

`.welbik/base/` has one file a folder of the application, with a line for each file of that
folder: its name, a digest, its text packed, and where somebody moved it. Lines are sorted, and
one that two branches changed may stand there twice after they were brought together: either
is a base that can be merged from.
"""

from __future__ import annotations

import base64
import zlib
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from hashlib import sha256
from pathlib import Path, PurePosixPath

from ..codegen.made import Made

FOLDER = Path(".welbik")
EARLIER = FOLDER / "made"
"""Where the first versions kept it, a file for each."""

_BASE, _PACK, _BUILT = FOLDER / "base", ".pack", FOLDER / "built"
_SAYS = "# What `welbik build` generated last: the next build merges from it. Commit it as it is.\n"
_ATTRIBUTES = "* -diff linguist-generated merge=union\n"
_DIGESTS = 3
OUT = "-"
"""The place of a file that somebody took out."""


@dataclass(frozen=True)
class Kept:
    """A file as it was generated: `place` is where it is now, if it was moved or taken out."""

    digest: str
    packed: str
    place: str = ""
    loose: str = ""
    """A digest of what it was before it was laid out."""

    @cached_property
    def text(self) -> str:
        """Its text; empty where the line was damaged."""
        try:
            text = zlib.decompress(base64.b64decode(self.packed)).decode()
        except (ValueError, zlib.error):
            return ""
        return text if digest_of(text) == self.digest else ""

    @property
    def is_sound(self) -> bool:
        return bool(self.text) or self.digest == _NOTHING


@dataclass
class Record:
    """What was built last: by which version, from which declarations, and each file of it."""

    version: str = ""
    inputs: str = ""
    """A digest of all that was built from; empty where that is not known."""

    layout: str = ""
    """What laid the files out."""

    files: dict[str, list[Kept]] = field(default_factory=dict)
    declared: dict[str, str] = field(default_factory=dict)
    """The declarations that it was built from, by file."""

    made: dict[str, Made] = field(default_factory=dict)
    """What the files of each model were made from, where that is known."""

    loose: list[str] = field(default_factory=list)
    """Files of the form that the first versions kept."""

    @property
    def is_empty(self) -> bool:
        return not self.files

    def as_recorded(self, root: Path, names: Iterable[str]) -> set[str]:
        """Those of some files that are on disk just as they were when they were built."""
        found = set()
        for name in names:
            one, *others = self.files[name]
            if not others and not one.place and _digest_at(f"{root}/{name}") == one.digest:
                found.add(name)
        return found

    def near(self, name: str, text: str | None) -> Kept | None:
        """What a file was; of several bases the one that is nearest to its text now."""
        found = self.files.get(name, [])
        digest = digest_of(text) if text is not None else ""
        if len(found) == 1 and found[0].digest == digest:
            return found[0]
        found = [one for one in found if one.is_sound]
        if len(found) < 2 or text is None:
            return found[0] if found else None
        lines = {*text.splitlines()}
        return min(
            found,
            key=lambda one: (one.digest != digest, len(lines ^ {*one.text.splitlines()})),
        )


def kept(text: str, place: str = "") -> Kept:
    """A text as it is kept."""
    packed = base64.b64encode(zlib.compress(text.encode(), 9)).decode()
    return Kept(digest_of(text), packed, place)


def digest_of(text: str | bytes) -> str:
    data = text.encode() if isinstance(text, str) else text
    return sha256(data).hexdigest()[:16]


_NOTHING = digest_of("")


def _digest_at(path: str) -> str:
    try:
        # A path object for each of thousands of files takes longer than reading them.
        with open(path, "rb") as file:  # noqa: PTH123
            return digest_of(file.read())
    except OSError:
        return ""


def read_record(root: Path) -> Record:
    """The record of a project; an empty one where there is none, or nothing to be read of it."""
    record = Record()
    for path in sorted((root / _BASE).rglob(f"*{_PACK}")):
        place = path.relative_to(root / _BASE).with_suffix("")
        folder = "" if place == Path("_") else place.as_posix()
        for name, one in _lines(path):
            where = record.declared if folder == "models" else record.files
            if where is record.declared:
                record.declared[f"models/{name}"] = one.text
            else:
                record.files.setdefault(f"{folder}/{name}" if folder else name, []).append(one)
    doubtful = set()
    for key, value in _facts(root / _BUILT):
        if key == "made" and len(told := value.split("\t")) > _DIGESTS:
            name, of, texts, reached, *notes = told
            made = Made(of, texts, tuple(reached.split()), tuple(notes))
            # Two of them are of two branches.
            if record.made.setdefault(name, made) != made:
                doubtful.add(name)
        if key == "inputs":
            # Two of them are of two branches: what is here was built from neither.
            record.inputs = "" if record.inputs else value
        elif key == "layout":
            record.layout = value
        elif key == "version":
            # Of two branches the one that is further behind has more to be told.
            record.version = min(filter(None, (record.version, value)), key=_numbers, default="")
    record.made = {name: one for name, one in record.made.items() if name not in doubtful}
    for path in (root / EARLIER).rglob("*"):
        if path.is_file() and (text := _text(path)) is not None:
            name = path.relative_to(root / EARLIER).as_posix()
            record.loose.append((EARLIER / name).as_posix())
            record.files.setdefault(name, [kept(text)])
    if record.loose and not record.version:
        record.version = "0"
    return record


def _lines(path: Path) -> Iterable[tuple[str, Kept]]:
    seen = set()
    for line in (_text(path) or "").splitlines():
        parts = line.split("\t")
        if len(parts) not in (3, 4, 5) or line in seen or line.startswith("#"):
            continue
        seen.add(line)
        yield parts[0], Kept(*parts[1:])


def _facts(path: Path) -> Iterable[tuple[str, str]]:
    for line in (_text(path) or "").splitlines():
        key, _, value = line.partition(" ")
        yield key, value


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split(".") if part.isdigit()]


def _text(path: Path) -> str | None:
    try:
        return path.read_bytes().decode()
    except (OSError, UnicodeDecodeError):
        return None


def as_files(record: Record) -> dict[str, str]:
    """The files that say what a record says, by path in the project."""
    folders: dict[str, list[str]] = defaultdict(list)
    for name, texts in record.files.items():
        path = PurePosixPath(name)
        for one in texts:
            folders[str(path.parent)].append(_line(path.name, one))
    for name, text in record.declared.items():
        folders["models"].append(_line(PurePosixPath(name).name, kept(text)))
    found = {
        (_BASE / ("_" if folder == "." else folder)).as_posix() + _PACK: _SAYS
        + "".join(sorted(lines))
        for folder, lines in folders.items()
    }
    found[(FOLDER / ".gitattributes").as_posix()] = _ATTRIBUTES
    facts = {"version": record.version, "inputs": record.inputs, "layout": record.layout}
    lines = [f"{key} {value}\n" for key, value in facts.items()]
    for name, by in sorted(record.made.items()):
        told = [name, by.of, by.texts, " ".join(by.reached), *by.notes]
        lines.append("made {}\n".format("\t".join(told)))
    found[_BUILT.as_posix()] = "".join(lines)
    return found


def _line(name: str, one: Kept) -> str:
    parts = [name, one.digest, one.packed, one.place, one.loose]
    while not parts[-1]:
        parts.pop()
    return "\t".join(parts) + "\n"


def changes_of(root: Path, record: Record) -> tuple[dict[str, str], list[str]]:
    """What must be written and taken away so that the record on disk says the same."""
    wanted = as_files(record)
    write = {name: text for name, text in wanted.items() if _text(root / name) != text}
    there = {path.relative_to(root).as_posix() for path in (root / _BASE).rglob(f"*{_PACK}")}
    return write, [*sorted(there - wanted.keys()), *record.loose]


def inputs_of(*texts: Mapping[str, str] | str) -> str:
    """A digest of all that files are built from."""
    found = sha256()
    for one in texts:
        pairs = sorted(one.items()) if isinstance(one, Mapping) else [("", one)]
        for name, text in pairs:
            found.update(f"{name}\0{text}\0".encode())
    return found.hexdigest()[:16]
