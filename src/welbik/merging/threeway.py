"""Three versions of a text become one: what was generated, what is mine, what is generated now.

A piece that one side alone changed is taken from that side. What both changed is gone into:
blocks by their statements, calls and lists by their items, everything else by its words. What both
sides changed differently, word beside word, is a clash.
"""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, field, replace
from typing import TypeVar

from .aligning import T, aligned, common
from .clash import Clash
from .pieces import Block, Clause, Group, Item, Run, Statement, Word
from .wrapping import exchanged, nearest

Atom = Word | Group
P = TypeVar("P", bound=Word | Group | Run | Item | Clause | Statement | Block)
_SHORT = 300
OPENING, MIDDLE, CLOSING = "<<<<<<< yours", "=======", ">>>>>>> as declared"


@dataclass
class Merge:
    """One merge of a file: how clashes are settled, and those that were found.

    `settle` is "mine", "theirs", or "mark", which leaves both in the text between marks.
    """

    settle: str = "mark"
    clashes: list[Clash] = field(default_factory=list)
    hidden: set[int] = field(default_factory=set)
    """Which of the clashes have no marks in the text yet."""

    near: int = 1

    def block(self, base: Block, mine: Block, theirs: Block) -> Block:
        """Statements brought together."""
        if (one := _alone(base, mine, theirs)) is not None:
            return one
        new = (_new(base, mine), _new(base, theirs))
        within: dict[int, Statement] = {}

        def gone(
            was: Statement, here: Statement | None, there: Statement | None
        ) -> Statement | None:
            # Perhaps it only stands within something now that was put round it.
            changed, wrappers = (there, new[0]) if here is None else (here, new[1])
            if here is None and there is None:
                for wrapper in (*new[0], *new[1]):
                    outer = within.get(id(wrapper), wrapper)
                    inner = nearest(was, outer)
                    if inner is not None and inner.says == was.says:
                        # One side put something round it, and the other took it out.
                        within[id(wrapper)] = exchanged(outer, inner, None)
                return None
            for wrapper in wrappers:
                outer = within.get(id(wrapper), wrapper)
                inner = nearest(was, outer) or (nearest(changed, outer) if changed else None)
                if inner is not None and changed is not None:
                    sides = (inner, changed) if here is None else (changed, inner)
                    whole = self._statement(was, *sides)
                    within[id(wrapper)] = exchanged(outer, inner, replace(whole, lead=inner.lead))
                    return None
            return self._statement_gone(was, here, there)

        statements = [
            within.get(id(one), one)
            for one in _listed(
                base.statements, mine.statements, theirs.statements,
                lambda one: (one.kind,), self._statement, gone,
            )
        ]  # fmt: skip
        tail = self._between(base.tail, mine.tail, theirs.tail)
        return Block(tuple(_apart(statements, (base, mine, theirs))), tail)

    def _statement(self, base: Statement | None, mine: Statement, theirs: Statement) -> Statement:
        self.near = mine.line
        if (one := _alone(base, mine, theirs)) is not None:
            return one
        first, base = len(self.clashes), base or _nothing(theirs)
        lead = self._between(base.lead, mine.lead, theirs.lead)
        decorators = _listed(
            base.decorators, mine.decorators, theirs.decorators,
            lambda one: (one.kind,), self._statement, self._statement_gone,
        )  # fmt: skip
        sides = (base.clauses, mine.clauses, theirs.clauses)
        if len({len(one) for one in sides}) > 1:
            clauses = self._clauses(*sides)
        else:
            clauses = tuple(map(self._clause, *sides))
        if not any(clause.block for clause in clauses):
            self._place(first, base.body, mine, theirs)
        if self.settle == "mark" and any(n >= first for n in self.hidden):
            self.hidden -= {*range(first, len(self.clashes))}
            return _both(mine, mine.body, theirs.body)
        return replace(mine, lead=lead, decorators=tuple(decorators), clauses=clauses)

    def _place(self, first: int, base: str, mine: Statement, theirs: Statement) -> None:
        """Says of clashes in a statement on which of its lines they are."""
        for n in range(first, len(self.clashes)):
            at = mine.body.find(self.clashes[n].mine.strip())
            line = mine.line + mine.body.count("\n", 0, max(at, 0))
            self.clashes[n] = replace(self.clashes[n], line=line)
        self._within(first, base, mine.body, theirs.body)

    def _statement_gone(
        self, base: Statement, mine: Statement | None, theirs: Statement | None
    ) -> Statement | None:
        """One side took it out, and the other changed it."""
        left = mine or theirs
        if left is None:
            return None
        if left.says == base.says:
            # Only what stands above it was changed: that is kept where it is mine.
            return Statement((), _above(mine.lead), line=mine.line) if mine else None
        texts = (mine.body if mine else "", theirs.body if theirs else "")
        line = mine.line if mine else self.near
        self.clashes.append(Clash(line, base.body, *texts, texts[1] or base.body))
        if self.settle != "mark":
            return mine if self.settle == "mine" else theirs
        return _both(mine or theirs or base, *texts)

    def _clauses(
        self, base: Sequence[Clause], mine: Sequence[Clause], theirs: Sequence[Clause]
    ) -> tuple[Clause, ...]:
        """Clauses of which one side has more, behind those that both have."""
        for less, more in ((mine, theirs), (theirs, mine)):
            same = [c.content for c in base] == [c.content for c in more[: len(base)]]
            if same and len(less) == len(base):
                return (*less, *more[len(base) :])
        self._clash(
            "".join(c.source for c in base),
            "".join(c.source for c in mine),
            "".join(c.source for c in theirs),
        )
        return tuple(theirs if self.settle == "theirs" else mine)

    def _clause(self, base: Clause, mine: Clause, theirs: Clause) -> Clause:
        if (one := _alone(base, mine, theirs)) is not None:
            return one
        if (mine.block is None) != (theirs.block is None):
            # A line and a block: head and body of one side belong together.
            self._clash(base.source, mine.source, theirs.source)
            return theirs if self.settle == "theirs" else mine
        first = len(self.clashes)
        run = self._run(base.run, mine.run, theirs.run)
        if mine.block is not None:
            self._within(first, base.run.source, mine.run.source, theirs.run.source)
        end = self._between(base.end, mine.end, theirs.end)
        lead = self._between(base.lead, mine.lead, theirs.lead)
        block = mine.block
        if base.block and mine.block and theirs.block:
            block = self.block(base.block, mine.block, theirs.block)
        elif mine.block and theirs.block:
            block = self.block(Block(()), mine.block, theirs.block)
        return Clause(run, end, block, lead)

    def _run(self, base: Run, mine: Run, theirs: Run) -> Run:
        """Words brought together: what both sides have as it was holds the rest apart."""
        if (one := _alone(base, mine, theirs)) is not None:
            return one
        found: list[Atom] = []
        for stretch in _stretches(base, mine, theirs):
            was, here, there = stretch
            contents = [[atom.content for atom in side] for side in stretch]
            by_hand = [a.source for a in was] != [a.source for a in here]
            if contents[0] == contents[1] == contents[2]:
                found += here if by_hand else there
            elif contents[0] == contents[1] and by_hand and all(len(s) == 1 for s in stretch):
                found.append(self._atom(was[0], here[0], there[0]))
            elif contents[0] == contents[1] or contents[1] == contents[2]:
                found += there
            elif contents[0] == contents[2]:
                found += here
            elif all(len(side) == 1 for side in stretch):
                found.append(self._atom(was[0], here[0], there[0]))
            elif not was and _is_link(here) and _is_link(there):
                # Both hung another call behind.
                found += [*there, *here]
            else:
                texts = ["".join(atom.source for atom in side) for side in stretch]
                self._clash(*texts)
                found += there if self.settle == "theirs" else here
        return Run(tuple(found))

    def _atom(self, base: Atom, mine: Atom, theirs: Atom) -> Atom:
        if isinstance(base, Group) and isinstance(mine, Group) and isinstance(theirs, Group):
            if base.open == mine.open == theirs.open:
                return self._group(base, mine, theirs)
        elif isinstance(base, Word) and isinstance(mine, Word) and isinstance(theirs, Word):
            if base.likeness == mine.likeness:
                return theirs
            if base.likeness == theirs.likeness or mine.likeness == theirs.likeness:
                return mine
            if (text := _by_lines(base.text, mine.text, theirs.text)) is not None:
                return replace(mine, text=text)
        self._clash(base.source, mine.source, theirs.source)
        return theirs if self.settle == "theirs" else mine

    def _group(self, base: Group, mine: Group, theirs: Group) -> Group:
        items = _listed(
            base.items, mine.items, theirs.items,
            _item_kind, self._item, self._item_gone,
        )  # fmt: skip
        ends = theirs.ends if base.ends == mine.ends else mine.ends
        after = mine.after if mine.ends == ends else theirs.after
        before = self._between(base.before, mine.before, theirs.before)
        return _joined(replace(mine, items=tuple(items), ends=ends, after=after, before=before))

    def _item(self, base: Item | None, mine: Item, theirs: Item) -> Item:
        if (one := _alone(base, mine, theirs)) is not None:
            return one
        first = len(self.clashes)
        was = base.run if base else Run(())
        run = self._run(was, mine.run, theirs.run)
        behind = self._between(base.behind if base else "", mine.behind, theirs.behind)
        self._within(first, base.source if base else "", mine.source, theirs.source)
        if any(n >= first for n in self.hidden) and self._shows(mine, first):
            return _both_items(mine, theirs)
        return replace(mine, run=run, behind=behind)

    def _item_gone(self, base: Item, mine: Item | None, theirs: Item | None) -> Item | None:
        if mine is None and theirs is None:
            return None
        texts = [one.source.strip() if one else "" for one in (base, mine, theirs)]
        was, here, there = texts
        first = len(self.clashes)
        self.clashes.append(Clash(self.near, was, here, there, there or was))
        self.hidden.add(first)
        if self._shows(mine or theirs or base, first):
            return _both_items(mine, theirs)
        return theirs if self.settle == "theirs" else mine

    def _within(self, first: int, base: str, mine: str, theirs: str) -> None:
        """Says of clashes what they are a part of, while that is short."""
        for n in range(first, len(self.clashes)):
            one = self.clashes[n]
            if not one.around:
                # `high=25` says more than `25`.
                was, here, there = (text.strip() for text in (base, mine, theirs))
                self.clashes[n] = Clash(one.line, was, here, there, there)
            elif len(theirs) <= _SHORT:
                self.clashes[n] = replace(one, around=theirs.strip())

    def _shows(self, item: Item, first: int) -> bool:
        """Whether marks can stand round an item alone: it has lines of its own."""
        own = self.settle == "mark" and item.source.startswith("\n") and item.joint == ","
        if own:
            self.hidden -= {*range(first, len(self.clashes))}
        return own

    def _between(self, base: str, mine: str, theirs: str) -> str:
        """Comments and blank lines brought together: comments count, blank lines give way."""
        if base == mine or mine == theirs:
            return theirs
        if base == theirs or theirs.strip() == base.strip():
            return mine
        if mine.strip() == base.strip():
            return theirs
        found = _by_lines(base, mine, theirs)
        if found is None:
            self._clash(base, mine, theirs)
            return theirs if self.settle == "theirs" else mine
        return found

    def _clash(self, base: str, mine: str, theirs: str) -> None:
        self.hidden.add(len(self.clashes))
        self.clashes.append(Clash(self.near, base, mine, theirs))


def _alone(base: P | None, mine: P, theirs: P) -> P | None:
    """The version to take where one side alone changed something, or both the same."""
    if base is not None and base.content == mine.content:
        # What is laid out by hand stays so, as far as it is not changed besides.
        if base.source == mine.source:
            return theirs
        return mine if base.content == theirs.content else None
    if base is not None and base.content == theirs.content or mine.content == theirs.content:
        return mine
    return None


def _listed(
    base: Sequence[T],
    mine: Sequence[T],
    theirs: Sequence[T],
    kind: Callable[[T], object],
    both: Callable[[T | None, T, T], T],
    gone: Callable[[T, T | None, T | None], T | None],
) -> list[T]:
    """Pieces in a row brought together: kept, taken out, put in, moved, each by itself."""
    here, there = aligned(base, mine, kind), aligned(base, theirs, kind)
    _agree(here, there, base, mine, theirs)
    new_here = [n for n in range(len(mine)) if n not in {*here.values()}]
    new_there = [n for n in range(len(theirs)) if n not in {*there.values()}]
    twins = _twins(mine, theirs, new_here, new_there, kind)
    ids: dict[tuple[str, int], T] = {}
    """What stands in the end, by the side that it is called after: base, or one side's own."""
    for n, was in enumerate(base):
        m = mine[here[n]] if n in here else None
        t = theirs[there[n]] if n in there else None
        if m is not None and t is not None:
            ids["base", n] = both(was, m, t)
        elif (m is None and t is None or (m or t or was).content != was.content) and (
            left := gone(was, m, t)
        ) is not None:
            ids["base", n] = left
    ids.update({("theirs", n): theirs[n] for n in new_there})
    ids.update({("mine", n): mine[n] for n in new_here if n not in twins})
    for m_at, t_at in twins.items():
        ids["theirs", t_at] = both(None, mine[m_at], theirs[t_at])
    twin_ids = {m: ("theirs", t) for m, t in twins.items()}
    of_mine = {place: ("base", n) for n, place in here.items()}
    of_theirs = {place: ("base", n) for n, place in there.items()}
    in_mine = [of_mine.get(n) or twin_ids.get(n) or ("mine", n) for n in range(len(mine))]
    in_theirs = [of_theirs.get(n) or ("theirs", n) for n in range(len(theirs))]
    return [ids[one] for one in _ordered(in_theirs, in_mine) if one in ids]


Id = tuple[str, int]


def _ordered(theirs: Sequence[Id], mine: Sequence[Id]) -> list[Id]:
    """All pieces of both sides: in my order where I moved any, else in theirs."""
    both = {*theirs} & {*mine}
    moved = [n for side, n in mine if side == "base"]
    first, second = (theirs, mine) if moved == sorted(moved) else (mine, theirs)
    found = list(first)
    known = {*found}
    last: Id | None = None
    for one in second:
        if one not in known:
            at = found.index(last) + 1 if last is not None else 0
            # Behind what the other side put in at the same place.
            while (
                last is not None and at < len(found) and found[at] not in both and one[0] != "base"
            ):
                at += 1
            found.insert(at, one)
            known.add(one)
        last = one
    return found


def _item_kind(item: Item) -> str:
    """What an item can be a version of: a keyword of its own name, a text of a text, a call of a call."""
    if item.key.endswith("="):
        return item.key
    if item.key.endswith(":"):
        return ":"
    last = item.run.atoms[-1]
    if isinstance(last, Group):
        return last.open
    first = item.run.atoms[0].likeness[:1]
    return "text" if first in "\"'" else "number" if first.isdigit() else "name"


def _agree(
    here: dict[int, int],
    there: dict[int, int],
    base: Sequence[T],
    mine: Sequence[T],
    theirs: Sequence[T],
) -> None:
    """What both sides have alike and the base has not is one thing: what it was there, it was here.

    So a change that was made by hand already, or merged already, is found again.
    """
    known = {one.content for one in base}
    places: dict[str, list[int]] = {}
    for n, one in enumerate(mine):
        if one.content not in known:
            places.setdefault(one.content, []).append(n)
    was_here = {place: n for n, place in here.items()}
    was_there = {place: n for n, place in there.items()}
    for place, one in enumerate(theirs):
        if not places.get(one.content):
            continue
        at = places[one.content].pop(0)
        if was_here.get(at) == was_there.get(place):
            continue
        if at in was_here and here.get(was_here[at]) == at:
            del here[was_here[at]]
        if place in was_there:
            here[was_there[place]] = at


def _follow(
    here: dict[int, int], there: dict[int, int], mine: Sequence[T], theirs: Sequence[T]
) -> None:
    """What looks taken out here, and stands here as the other side changed it, was changed so here."""
    taken = {*here.values()}
    new = {one.content: n for n, one in enumerate(mine) if n not in taken}
    for n, place in there.items():
        if n not in here and theirs[place].content in new:
            here[n] = new.pop(theirs[place].content)


def _twins(
    mine: Sequence[T],
    theirs: Sequence[T],
    new_here: Sequence[int],
    new_there: Sequence[int],
    kind: Callable[[T], object],
) -> dict[int, int]:
    """What both sides put in: the same text, or the same name."""
    found: dict[int, int] = {}
    taken: set[int] = set()

    def pair(same: Callable[[T, T], bool]) -> None:
        for m in new_here:
            for t in new_there:
                if m not in found and t not in taken and same(mine[m], theirs[t]):
                    found[m] = t
                    taken.add(t)

    pair(lambda m, t: m.content == t.content)
    pair(lambda m, t: bool(m.key) and m.key == t.key and kind(m) == kind(t))
    return found


def _stretches(
    base: Run, mine: Run, theirs: Run
) -> list[tuple[Sequence[Atom], Sequence[Atom], Sequence[Atom]]]:
    """The three runs cut where all three have the same atom; such atoms stand by themselves."""
    was = [atom.likeness for atom in base.atoms]
    here = dict(common(was, [atom.likeness for atom in mine.atoms]))
    there = dict(common(was, [atom.likeness for atom in theirs.atoms]))
    found: list[tuple[Sequence[Atom], Sequence[Atom], Sequence[Atom]]] = []
    b = m = t = 0
    for n in range(len(was)):
        if n in here and n in there:
            found.append((base.atoms[b:n], mine.atoms[m : here[n]], theirs.atoms[t : there[n]]))
            b, m, t = n + 1, here[n] + 1, there[n] + 1
            found.append((base.atoms[n:b], mine.atoms[m - 1 : m], theirs.atoms[t - 1 : t]))
    found.append((base.atoms[b:], mine.atoms[m:], theirs.atoms[t:]))
    return found


def _is_link(atoms: Sequence[Atom]) -> bool:
    return bool(atoms) and atoms[0].likeness == "." and isinstance(atoms[-1], Group)


def _by_lines(base: str, mine: str, theirs: str) -> str | None:
    """A text of several lines brought together; None where both changed the same ones."""
    if "\n" not in base:
        return None
    was, here, there = (text.split("\n") for text in (base, mine, theirs))
    runs = [Run(tuple(map(Word, lines))) for lines in (was, here, there)]
    found: list[str] = []
    for stretch in _stretches(*runs):
        b, m, t = ([atom.source for atom in side] for side in stretch)
        if m not in (b, t) and t != b:
            return None
        found += t if m == b else m
    return "\n".join(found)


def _joined(group: Group) -> Group:
    """A group whose items come from several versions, with what must stand between them."""
    items = []
    for n, item in enumerate(group.items):
        before = item.run.atoms[0].before
        above = group.items[n - 1] if n else None
        if above is not None and "#" in above.behind and not before.startswith("\n"):
            before = "\n" + before
        elif (above is not None or not group.open) and not before:
            before = " "
        elif n == 0 and group.open and before.isspace() and "\n" not in before and group.joint:
            before = ""
        first = replace(item.run.atoms[0], before=before)
        items.append(replace(item, run=Run((first, *item.run.atoms[1:]))))
    last = items[-1].behind if items else ""
    after = "\n" if "#" in last and not group.after.startswith("\n") else group.after
    return replace(group, items=tuple(items), after=after, ends=group.ends and bool(items))


def _nothing(like: Statement) -> Statement:
    """What two new statements of the same name have in common: how they begin."""
    first = like.clauses[0]
    atoms: list[Atom] = []
    for atom in first.run.atoms:
        atoms.append(atom if isinstance(atom, Word) else replace(atom, items=(), ends=False))
    block = Block(()) if first.block else None
    if like.kind not in ("from", "import"):
        atoms = []
    return Statement((replace(first, run=Run(tuple(atoms)), block=block),), key=like.key)


def _new(base: Block, side: Block) -> list[Statement]:
    """What one side put in that has a block of its own."""
    pairs = aligned(base.statements, side.statements, lambda one: (one.kind,))
    taken = {*pairs.values()}
    return [
        one
        for n, one in enumerate(side.statements)
        if n not in taken and any(clause.block for clause in one.clauses)
    ]


def _apart(statements: Sequence[Statement], sides: Sequence[Block]) -> Iterator[Statement]:
    """Statements on lines of their own, also those that nothing stood before till now."""
    firsts = {side.statements[0].content for side in sides if side.statements}
    above = ""
    for one in statements:
        if above and not above.endswith("\n") and not one.lead and one.content in firsts:
            one = replace(one, lead="\n")
        above = one.source
        yield one


def _indent(lead: str) -> str:
    return lead.rpartition("\n")[2]


def _above(lead: str) -> str:
    return lead[: len(lead) - len(_indent(lead))]


def _both(near: Statement, mine: str, theirs: str) -> Statement:
    """Both versions of a statement, between marks on lines of their own."""
    indent = _indent(near.lead)
    sides = [f"{indent}{text.rstrip()}\n" if text.strip() else "" for text in (mine, theirs)]
    text = f"{OPENING}\n{sides[0]}{MIDDLE}\n{sides[1]}{CLOSING}\n"
    clause = Clause(Run((Word(text),)), "")
    return Statement((clause,), _above(near.lead), line=near.line)


def _both_items(mine: Item | None, theirs: Item | None) -> Item:
    sides = [
        "\n" + f"{one.source}{one.joint}{one.behind}".lstrip("\n") if one else ""
        for one in (mine, theirs)
    ]
    text = f"{OPENING}{sides[0]}\n{MIDDLE}{sides[1]}\n{CLOSING}"
    return Item(Run((Word(text, "\n"),)), joint="")
