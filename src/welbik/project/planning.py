"""What building would do to each file: nobody's lines lost, and every declaration kept.

A file that is as it was generated last is ours to replace; one that was edited is merged.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterator, Mapping
from dataclasses import dataclass, field, replace
from pathlib import Path, PurePosixPath
from stat import S_ISREG
from typing import TYPE_CHECKING, Literal

from ..merging.clash import Clash
from ..problems import WelbikError
from ..project_files import CODE_LIMIT, read_file
from .record import OUT, Kept, Record, digest_of, kept

if TYPE_CHECKING:
    from ..schema.model import Schema

State = Literal["same", "new", "updated", "merged", "yours", "clash", "gone", "left", "out"]
Layout = Callable[[dict[str, tuple[str, str]]], dict[str, str]]
_FOLLOWED = (".py", ".html", ".css", ".js", ".conf", ".toml", ".svg")
_NOT_OURS = ("node_modules", "instance", "venv", "models", "migrations", "data")
_ALIKE = 0.5


@dataclass(frozen=True)
class Change:
    """What becomes of one file.

    `same`: it is as declared. `new`, `updated`: written as generated. `merged`: edited, and it gets
    what is declared. `yours`: edited, and nothing to bring. `clash`: what was edited is declared
    otherwise now. `gone`: nothing asks for it any more. `left`: so too, but edited. `out`: it was
    taken out by hand.
    """

    name: str
    """Where it is, or will be."""

    state: State
    before: str | None = None
    text: str | None = None
    clashes: tuple[Clash, ...] = ()
    generated: str = ""
    """What it is called where nobody moved it."""

    old: str = ""
    """Where it was, if its model was renamed."""

    told: bool = True
    """Whether it is worth a line: what was taken out is told once."""

    @property
    def writes(self) -> bool:
        return self.text is not None and (self.text != self.before or bool(self.old))

    def counts(self) -> tuple[int, int]:
        """How many lines come and go."""
        from difflib import SequenceMatcher

        before, after = ((text or "").splitlines() for text in (self.before, self.text))
        kept = sum(m.size for m in SequenceMatcher(None, before, after).get_matching_blocks())
        return len(after) - kept, len(before) - kept


@dataclass
class Plan:
    """What building would do, by file, and the record of it."""

    changes: list[Change] = field(default_factory=list)
    record: Record = field(default_factory=Record)
    remembers: bool = False
    """Whether the record changes, be it only that."""

    renamed: dict[str, list[str]] = field(default_factory=dict)
    """By file: what names in it could not be renamed for certain, a line each."""

    news: list[str] = field(default_factory=list)
    """What a newer version changes in code that all projects share."""

    schema: Schema | None = None
    """What it was worked out from, where the declarations had to be read."""

    def of(self, *states: State) -> list[Change]:
        return [one for one in self.changes if one.state in states]

    @property
    def writes(self) -> dict[str, str]:
        """Every text to be written, by its place."""
        return {one.name: one.text for one in self.changes if one.writes and one.text is not None}

    @property
    def removes(self) -> list[str]:
        gone = [one.name for one in self.of("gone")]
        return gone + [one.old for one in self.changes if one.old]

    @property
    def clashes(self) -> list[Change]:
        return self.of("clash")

    @property
    def losses(self) -> list[str]:
        """The folders of models that are gone, whose code would go with them."""
        models = (
            Path(one.name).parent for one in self.of("gone") if one.name.endswith("/model.py")
        )
        return sorted(str(folder) for folder in models)

    def __bool__(self) -> bool:
        """Whether there is anything to be done, or to be told."""
        return bool(self.writes or self.removes or self.clashes or self.of("left")) or any(
            one.told for one in self.of("out")
        )


@dataclass(frozen=True)
class Wishes:
    """What was said about a build: sides for files that clash, names that were renamed."""

    mine: Collection[str] = ()
    theirs: Collection[str] = ()
    mark: bool = False
    folders: Mapping[str, str] = field(default_factory=dict)
    """New paths of files whose model was renamed, by their old ones."""

    rename: Callable[[str, str], str] = lambda name, text: text
    """A file's text with the names that were renamed."""

    earlier: Callable[[str], Collection[str]] = lambda name: ()
    """Digests of what a file that all projects share was in earlier versions."""

    only: Callable[[str], bool] = lambda name: True

    def settled(self, name: str) -> str:
        """Whose version stands where both clash; "mark" where nothing was said."""
        for side, names in (("mine", self.mine), ("theirs", self.theirs)):
            if any(name == one or name.startswith(f"{one}/") or one == "." for one in names):
                return side
        return "mark"


def read(root: Path, name: str) -> str | None:
    """The text of a file of the project, byte for byte; None if there is none or it is not UTF-8."""
    if (root / name).is_dir():
        raise WelbikError(
            f"{root / name} is a folder, and a file of that name is to be written",
            "move the folder away",
        )
    try:
        data = read_file(root, name, CODE_LIMIT)
        return data.decode() if data is not None else None
    except UnicodeDecodeError:
        return None


def plan(
    root: Path,
    wanted: Mapping[str, str],
    record: Record,
    wishes: Wishes | None = None,
    layout: Layout | None = None,
    as_recorded: Collection[str] = (),
) -> Plan:
    """What it takes to have what is `wanted` on disk, and what was edited too.

    `layout` lays out merged files as their edited versions were: name, that version and the
    merged. Files that are known to be on disk just as the record has them and as is wanted may
    be named in `as_recorded`: no text of theirs need be unpacked.
    """
    return _Planner(root, wanted, record, wishes or Wishes(), layout, as_recorded).plan()


@dataclass
class _Planner:
    root: Path
    wanted: Mapping[str, str]
    record: Record
    wishes: Wishes
    layout: Layout | None
    as_recorded: Collection[str]
    loose: dict[str, str] | None = None
    """Files that nothing generated: where one that is missing may have gone."""

    def plan(self) -> Plan:
        found = Plan()
        old_names = {new: old for old, new in self.wishes.folders.items()}
        record = Record(
            files=dict(self.record.files),
            declared=self.record.declared,
            loose=self.record.loose,
        )
        for name in self.wanted:
            if not self.wishes.only(name):
                continue
            if name in self.as_recorded:
                found.changes.append(Change(name, "same", generated=name))
                continue
            text = self.wanted[name]
            old = old_names.get(name, "")
            known = name if name in record.files or old not in record.files else old
            change = self._change(name, known, text)
            if known != name:
                record.files.pop(known)
                if not change.old:
                    change = replace(change, old=known)
            found.changes.append(change)
            record.files[name] = [self._kept(change, known, text)]
        for name in sorted(record.files.keys() - self.wanted.keys()):
            if self.wishes.only(name):
                found.changes += self._unwanted(name, record.files.pop(name)[0])
        self._lay_out(found)
        found.record = record
        found.remembers = record.files != self.record.files or bool(self.record.loose)
        return found

    def _kept(self, change: Change, known: str, text: str) -> Kept:
        if change.state == "out":
            # As it was when it went, for the day that it comes back.
            return replace(self.record.files[known][0], place=OUT)
        place = change.name if change.name != change.generated else ""
        for one in self.record.files.get(known, ()):
            if one.digest == digest_of(text):
                # Packed once already.
                return replace(one, place=place)
        return kept(text, place)

    def _change(self, name: str, known: str, theirs: str) -> Change:
        """What becomes of a file that is wanted; `known` is what it was called when last built."""
        place, base = self._place(known)
        at = name if place in (known, OUT) else place
        taken = at == name != known and (self.root / at).exists()
        if taken and read(self.root, at) != theirs:
            clash = Clash(1, "", f"this file is in the way of {known}, which was renamed", theirs)
            return Change(at, "clash", clashes=(clash,), generated=name)
        before = read(self.root, known if place == OUT else place)
        change = Change(at, "same", before, None, generated=name)
        if base is not None and known != name and place == known:
            change = replace(change, old=known)
        if before is None:
            return self._missing(change, place, base, theirs)
        if before == theirs:
            return replace(change, text=theirs if change.old else None)
        was = self.wishes.rename(known, base.text) if base is not None else None
        mine = self.wishes.rename(known, before)
        if base is not None and digest_of(before) == base.digest or mine == was:
            return replace(change, state="updated", text=theirs)
        if was is None:
            return self._unknown(change, theirs)
        if mine == theirs:
            return replace(change, state="merged", text=mine) if mine != before else change
        from ..merging.files import marks_in

        if (line := marks_in(before)) != 0:
            clash = Clash(line, "", "the marks of a clash are still in it", "")
            return replace(change, state="clash", clashes=(clash,))
        if was == theirs:
            renamed = mine != before or change.old
            return replace(
                change, state="merged" if renamed else "yours", text=mine if renamed else None
            )
        return self._merged(change, was, mine, theirs)

    def _merged(self, change: Change, base: str, mine: str, theirs: str) -> Change:
        from ..merging.files import merged

        side = self.wishes.settled(change.name)
        done = merged(change.name, base, mine, theirs, side)
        if done.clashes and side == "mark":
            text = done.text if self.wishes.mark else None
            return replace(change, state="clash", text=text, clashes=done.clashes)
        state: State = "yours" if done.text == change.before and not change.old else "merged"
        return replace(change, state=state, text=done.text)

    def _missing(self, change: Change, place: str, base: Kept | None, theirs: str) -> Change:
        """Nothing is there: it was never built, or somebody took it out or left no text in it."""
        path = self.root / change.name
        if path.exists():
            if self.wishes.settled(change.name) == "theirs":
                return replace(change, state="updated", text=theirs)
            return replace(change, state="yours")
        if base is None or self.wishes.settled(change.generated) == "theirs":
            return replace(change, name=change.generated, state="new", text=theirs)
        # Said again only where there is something that it would have got.
        return replace(change, name=change.generated, state="out", told=place != OUT)

    def _unknown(self, change: Change, theirs: str) -> Change:
        """A file is there already, and nobody knows what it was when it was generated."""
        before = change.before or ""
        if digest_of(before) in self.wishes.earlier(change.name):
            return replace(change, state="updated", text=theirs)
        side = self.wishes.settled(change.name)
        if side == "mark":
            from ..merging.files import marked

            clash = Clash(1, "", "nothing tells what was generated here and what is yours", "")
            text = marked(before, theirs) if self.wishes.mark else None
            return replace(change, state="clash", text=text, clashes=(clash,))
        if side == "theirs":
            return replace(change, state="updated", text=theirs)
        return replace(change, state="yours")

    def _place(self, name: str) -> tuple[str, Kept | None]:
        """Where a file is now, be it moved by hand, and what it was when it was generated."""
        options = self.record.files.get(name, [])
        place = options[0].place or name if options else name
        if place != name and (self.root / name).exists():
            # It was brought back.
            place = name
        if options and place != OUT and not (self.root / place).exists():
            place = self._followed(name, options[0]) or place
        text = read(self.root, place) if place != OUT else None
        return place, self.record.near(name, text)

    def _followed(self, name: str, was: Kept) -> str | None:
        """Where the content of a file that is missing stands now."""
        suffix = PurePosixPath(name).suffix
        if suffix not in _FOLLOWED or not was.text.strip():
            return None
        from ..merging.aligning import likeness

        base = was.text
        best, found = _ALIKE, None
        for place, text in self._loose().items():
            if place.endswith(suffix) and (score := likeness(base, text)) > best:
                best, found = score, place
        if found is not None:
            # One file is no two others.
            self._loose().pop(found)
        return found

    def _loose(self) -> dict[str, str]:
        if self.loose is None:
            places = {one.place for texts in self.record.files.values() for one in texts}
            known = {*self.wanted, *self.record.files, *places}
            self.loose = {
                name: text
                for name in sorted(_names(self.root))
                if name not in known and (text := read(self.root, name)) is not None
            }
        return self.loose

    def _unwanted(self, name: str, was: Kept) -> Iterator[Change]:
        place = name if was.place in ("", OUT) else was.place
        before = read(self.root, place)
        if before is None and not (self.root / place).exists():
            return
        unedited = before is not None and digest_of(before) == was.digest
        yield Change(place, "gone" if unedited else "left", before, None, generated=name)

    def _lay_out(self, found: Plan) -> None:
        """Gives what was merged the layout that the edited file had."""
        todo = {
            one.name: (one.before or "", one.text)
            for one in found.of("merged")
            if one.text is not None and one.text != one.before
        }
        done = self.layout(todo) if todo and self.layout else {}
        found.changes = [
            replace(one, text=done[one.name]) if one.name in done else one for one in found.changes
        ]


def _names(root: Path) -> Iterator[str]:
    for path in root.iterdir():
        if path.name.startswith(".") or path.name in _NOT_OURS:
            continue
        if path.is_symlink():
            continue
        for inner in path.rglob("*") if path.is_dir() else (path,):
            hidden = any(
                part.startswith((".", "__pycache__")) for part in inner.parts[len(root.parts) :]
            )
            if inner.suffix in _FOLLOWED and not hidden and _is_small_file(inner):
                yield inner.relative_to(root).as_posix()


def _is_small_file(path: Path) -> bool:
    found = path.lstat()
    return S_ISREG(found.st_mode) and found.st_size <= CODE_LIMIT
