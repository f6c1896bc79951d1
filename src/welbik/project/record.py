"""What was generated last, kept as the base of the next merge.

`.welbik/base/` has one file a folder of the application, with a line for each file of that
folder: its name, a digest, its text packed, and where somebody moved it. Lines are sorted, and
one that two branches changed may stand there twice after they were brought together: either
is a base that can be merged from.
"""

from __future__ import annotations

import base64
import os
import zlib
from collections import defaultdict
from collections.abc import Iterable, Mapping
from dataclasses import dataclass, field
from functools import cached_property
from hashlib import sha256
from pathlib import Path, PurePosixPath
from stat import S_ISREG

from ..codegen.made import Made
from ..problems import WelbikError
from ..project_files import CODE_LIMIT, PACK_LIMIT, list_files, read_file, resolve_below

FOLDER = Path(".welbik")
EARLIER = FOLDER / "made"
"""Where the first versions kept it, a file for each."""

_BASE, _PACK, _BUILT = FOLDER / "base", ".pack", FOLDER / "built"
_SAYS = "# What `welbik build` generated last: the next build merges from it. Commit it as it is.\n"
_ATTRIBUTES = "* -diff linguist-generated merge=union\n"
_DIGESTS = 3
_RATIO = 200
"""How many times its size a packed text may have at most."""
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
            unpacking, packed = zlib.decompressobj(), base64.b64decode(self.packed)
            # A few bytes can unpack to gigabytes.
            text = unpacking.decompress(packed, min(CODE_LIMIT, _RATIO * len(packed))).decode()
        except (ValueError, zlib.error):
            return ""
        return text if unpacking.eof and digest_of(text) == self.digest else ""

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
        folders: dict[str, bool] = {}
        for name in names:
            one, *others = self.files[name]
            folder = name.rpartition("/")[0]
            if folder not in folders:
                folders[folder] = not folder or resolve_below(root, folder).is_dir()
            if others or one.place or not folders[folder]:
                continue
            if _digest_at(f"{root}/{name}") == one.digest:
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
        found = os.lstat(path)
        if not S_ISREG(found.st_mode) or found.st_size > CODE_LIMIT:
            return ""
        with open(path, "rb") as file:  # noqa: PTH123
            return digest_of(file.read())
    except OSError:
        return ""


def read_record(root: Path) -> Record:
    """The record of a project; an empty one where there is none, or nothing to be read of it."""
    record = Record()
    for pack in list_files(root, _BASE.as_posix(), _PACK):
        place = PurePosixPath(pack).relative_to(_BASE.as_posix()).with_suffix("")
        if not _can_be_generated(place.as_posix()):
            raise WelbikError(f"{pack} is not one of Welbik's files", "remove it")
        folder = "" if place == PurePosixPath("_") else place.as_posix()
        for name, one in _lines(root, pack):
            where = record.declared if folder == "models" else record.files
            if where is record.declared:
                record.declared[f"models/{name}"] = one.text
            else:
                record.files.setdefault(f"{folder}/{name}" if folder else name, []).append(one)
    doubtful = set()
    for key, value in _facts(root, _BUILT.as_posix()):
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
    for earlier in list_files(root, EARLIER.as_posix(), ""):
        name = PurePosixPath(earlier).relative_to(EARLIER.as_posix()).as_posix()
        text = _text(root, earlier) if _can_be_generated(name) else None
        if text is not None:
            record.loose.append(earlier)
            record.files.setdefault(name, [kept(text)])
    if record.loose and not record.version:
        record.version = "0"
    return record


def _lines(root: Path, pack: str) -> Iterable[tuple[str, Kept]]:
    """The files of a pack. A name that could lead out of the project is refused."""
    seen = set()
    for line in (_text(root, pack) or "").splitlines():
        parts = line.split("\t")
        if len(parts) not in (3, 4, 5) or line in seen or line.startswith("#"):
            continue
        name, *rest = parts
        one = Kept(*rest)
        if "/" in name or not _can_be_generated(name):
            raise WelbikError(f"{pack} names the file {name!r}", "restore it from version control")
        if one.place not in ("", OUT) and not _can_be_generated(one.place):
            raise WelbikError(
                f"{pack} says that {name} was moved to {one.place!r}",
                "restore it from version control",
            )
        seen.add(line)
        yield name, one


def _can_be_generated(name: str) -> bool:
    """Whether a path can be one of a generated file: below the root, and nothing hidden."""
    parts = name.split("/")
    return "\\" not in name and all(part and not part.startswith(".") for part in parts)


def _facts(root: Path, name: str) -> Iterable[tuple[str, str]]:
    for line in (_text(root, name) or "").splitlines():
        key, _, value = line.partition(" ")
        yield key, value


def _numbers(version: str) -> list[int]:
    return [int(part) for part in version.split(".") if part.isdigit()]


def _text(root: Path, name: str) -> str | None:
    try:
        data = read_file(root, name, PACK_LIMIT)
        return data.decode() if data is not None else None
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
    write = {name: text for name, text in wanted.items() if _text(root, name) != text}
    there = {*list_files(root, _BASE.as_posix(), _PACK)}
    return write, [*sorted(there - wanted.keys()), *record.loose]


def inputs_of(*texts: Mapping[str, str] | str) -> str:
    """A digest of all that files are built from."""
    found = sha256()
    for one in texts:
        pairs = sorted(one.items()) if isinstance(one, Mapping) else [("", one)]
        for name, text in pairs:
            found.update(f"{name}\0{text}\0".encode())
    return found.hexdigest()[:16]
