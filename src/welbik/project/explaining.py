"""Which declarations the parts of a generated file come from."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator
from dataclasses import dataclass
from itertools import groupby
from pathlib import Path

from ..codegen.files import COPIED, part_of
from ..language.source import Span
from ..merging.files import pieces_of
from ..merging.pieces import Block, Group, Run, Statement, Word
from ..problems import WelbikError
from ..schema.model import Field, Model, Reference, Schema
from .declarations import schema_of
from .planning import read
from .settings import FILE, Settings

Mentions = Callable[[str], frozenset[str]]


@dataclass(frozen=True)
class Part:
    """Some lines of a file: what they begin with, and the declarations that they come from."""

    first: int
    last: int
    what: str
    declared: tuple[str, ...]
    """Each with its place: `models/hives.welbik:12  frames integer 4..24`."""

    @property
    def lines(self) -> str:
        return f"{self.first}" if self.first == self.last else f"{self.first}-{self.last}"


def explained(settings: Settings, name: str) -> list[Part]:
    """The parts of a generated file as it is, in their order; raises WelbikError for others."""
    path = Path(name) if Path(name).is_absolute() else Path.cwd() / name
    path = path if path.exists() else settings.root / name
    inside = path.is_file() and path.resolve().is_relative_to(settings.root)
    inner = path.resolve().relative_to(settings.root).as_posix() if inside else ""
    text = read(settings.root, inner) if inside else None
    if text is None:
        raise WelbikError(f"there is no file {name} with text in it", "name one that is built")
    schema = schema_of(settings.root)
    if inner.removeprefix(f"{settings.package}/").partition("/")[0] in COPIED:
        said = "the same in every project: nothing of it is declared"
        return [Part(1, text.count("\n"), inner, (said,))]
    known = dict(_declared(schema, part_of(schema, settings.package, inner)[0]))
    mentions = _mentions(known)
    return list(_parts(pieces_of(inner, text), mentions, known))


def _declared(schema: Schema, own: Model | None) -> Iterator[tuple[str, tuple[str, ...]]]:
    """What can be meant: each declaration as it is told, with the words that mean it."""
    for model in schema:
        words = [model.name, model.folder, f"its_{model.folder}"]
        if own is None:
            words.append(model.factory)
        yield _told(model.span), (*words, model.plural) if model is own else (*words,)
    for member in own.everything if own else ():
        words = [member.name, member.attribute]
        if isinstance(member, Reference):
            words += [member.key_attribute, f"its_{member.name}"]
        if isinstance(member, Field):
            words.append(member.labels_name)
        yield _told(member.span), tuple(words)
    for rule in own.rules if own else ():
        yield _told(rule.span), (f"breaks_{rule.name}", rule.name)
    if own is None:
        yield f"{FILE}  title, package, database, locale, page", ("TITLE", "DATABASE", "PAGE")


def _told(span: Span) -> str:
    line, _ = span.place
    text = span.source.text.splitlines()[line - 1].strip()
    return f"{span.source.name}:{line}  {text if len(text) <= 70 else text[:69] + '…'}"


def _mentions(known: dict[str, tuple[str, ...]]) -> Mentions:
    by_word: dict[str, list[str]] = {}
    for told, words in known.items():
        for word in words:
            by_word.setdefault(word, []).append(told)

    def mentions(text: str) -> frozenset[str]:
        return frozenset(
            told for word in {*re.findall(r"\w+", text)} for told in by_word.get(word, ())
        )

    return mentions


def _parts(block: Block, mentions: Mentions, known: dict[str, tuple[str, ...]]) -> Iterator[Part]:
    order = {told: n for n, told in enumerate(known)}
    line, placed = 1, []
    for text in _stretches(block, mentions):
        inner = text.strip()
        if inner:
            begin = line + text.count("\n", 0, text.index(inner))
            placed.append((begin, begin + inner.count("\n"), inner, mentions(text)))
        line += text.count("\n")
    for found, group in groupby(placed, key=lambda one: one[3]):
        if not found:
            continue
        several = list(group)
        what = several[0][2].splitlines()[0]
        declared = tuple(sorted(found, key=lambda told: order[told]))
        yield Part(
            several[0][0], several[-1][1], what if len(what) < 70 else what[:69] + "…", declared
        )


def _stretches(block: Block, mentions: Mentions) -> Iterator[str]:
    """The whole text in stretches, each as large as one declaration's share of it."""
    for statement in block.statements:
        yield from _statement(statement, mentions)
    yield block.tail


def _statement(one: Statement, mentions: Mentions) -> Iterator[str]:
    if len(mentions(one.source)) < 2:
        yield one.source
        return
    yield one.lead + "".join(decorator.source for decorator in one.decorators)
    for clause in one.clauses:
        yield clause.lead
        yield from _run(clause.run, mentions)
        yield clause.end
        if clause.block is not None:
            yield from _stretches(clause.block, mentions)
    yield one.close


def _run(run: Run, mentions: Mentions) -> Iterator[str]:
    if len(mentions(run.source)) < 2 or len(run.source) < 80:
        yield run.source
        return
    for atom in run.atoms:
        if isinstance(atom, Word):
            yield atom.source
            continue
        yield atom.before + atom.open
        yield from _items(atom, mentions)
        yield atom.after + atom.close


def _items(group: Group, mentions: Mentions) -> Iterator[str]:
    for n, item in enumerate(group.items):
        yield from _run(item.run, mentions)
        yield (item.joint if n + 1 < len(group.items) or group.ends else "") + item.behind
