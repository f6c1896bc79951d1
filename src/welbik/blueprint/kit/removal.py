"""What goes with rows when they are removed, and what stands in the way.

All of it is worked out by the database: so many queries for a row, whatever refers to it.
"""

from __future__ import annotations

import hashlib
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

import sqlalchemy as sa
from flask import flash, request
from sqlalchemy.exc import IntegrityError

from . import clock, rules
from .database import every_model, live, session, stored

_NAMED = 5
_UNDONE_MOST = 50
_TOLD_MOST = 600
_TOLD_APART = 1_000
"""So many rows of a group are told apart by their keys, more by the ends of these alone."""

Gone = dict[Any, Any]
"""The rows that go, by model: a statement that selects their keys."""

Ways = dict[Any, list[tuple[Any, Any]]]
"""By model the columns by which its rows go with others, each with the model of those."""


@dataclass(frozen=True)
class Group:
    """Rows of a model: how many there are, the first of them, and whether they are part of
    what is removed."""

    model: Any
    count: int
    rows: Sequence[Any]
    owned: bool


@dataclass
class Effects:
    """Rows by model: those that go too, those that lose the link, those in the way.

    `mark` tells one set of rows that go from another; `said` is why nothing was removed.
    """

    removed: list[Group] = field(default_factory=list)
    cleared: list[Group] = field(default_factory=list)
    blocking: list[Group] = field(default_factory=list)
    mark: str = ""
    said: list[str] = field(default_factory=list)

    def is_agreed(self, mark: str) -> bool:
        """Whether whoever agreed to this was shown all of it; says so where it is not."""
        if mark == self.mark:
            return True
        self.said = ["What goes along has changed since you were asked: look again."]
        return False


def restore(*rows: Any) -> bool:
    """Takes rows out of the bin; false if values are taken, or a rule forbids it now."""
    changes = [rules.Change(row) for row in rows]
    for row in rows:
        row.removed_at = None
    try:
        session().flush()
        if not any(broken for change in changes for broken in change.broken(())):
            session().commit()
            return True
    except IntegrityError:
        pass
    session().rollback()
    return False


def effects(*rows: Any) -> Effects:
    """Everything that removing rows of a model would do, found before anything is done."""
    if not rows:
        return Effects()
    model = type(rows[0])
    # Rows that only go into the bin leave those that lie there already alone.
    return effects_of(model, _these(rows), binned=not hasattr(model, "removed_at"))


def effects_of(model: Any, which: Any, *, binned: bool = True) -> Effects:
    """As `effects`, of all rows of a model that meet a condition.

    `binned` says whether rows in the bin count among what goes along or is in the way.
    """
    found = Effects()
    gone = gone_with(model, which)
    marked = hashlib.sha256()
    for child, column, ways in _touched(gone):
        refers = sa.or_(*(c.in_(gone[parent]) for c, parent in ways))
        stays = [child.id.not_in(gone[child])] if child in gone else []
        rows = sa.select(child).where(refers, *stays).order_by(child.id)
        group = _group(child, rows if binned else live(rows, child), False)
        if group.count:
            (found.cleared if column == "SET NULL" else found.blocking).append(group)
    for child, keys in gone.items():
        rows = sa.select(child).where(child.id.in_(keys)).order_by(child.id)
        if child is model:
            rows = rows.where(sa.not_(which))
        rows = rows if binned else live(rows, child)
        group = _group(child, rows, bool(child.OWNER))
        if group.count:
            found.removed.append(group)
            some = session().scalars(
                rows.with_only_columns(child.id).limit(_TOLD_APART)
            )
            marked.update(repr((child.__name__, group.count, *some)).encode())
    # What only goes into the bin can be brought back: nothing has to be agreed to.
    found.mark = marked.hexdigest()[:16] if binned and found.removed else ""
    return found


def _these(rows: Sequence[Any]) -> Any:
    return type(rows[0]).id.in_([row.id for row in rows])


def _group(model: Any, rows: Any, owned: bool) -> Group:
    first = session().scalars(rows.limit(_NAMED + 1)).all()
    count = len(first)
    if count > _NAMED:
        every = rows.order_by(None).with_only_columns(model.id).subquery()
        count = session().scalar(sa.select(sa.func.count()).select_from(every)) or 0
    return Group(model, count, first[:_NAMED], owned)


def references() -> Iterator[tuple[Any, Any, Any, str]]:
    """Every column that refers to a model: its own class, that model, what removal does."""
    classes = {model.__table__: model for model in every_model()}
    for table, child in classes.items():
        for column in table.columns:
            for key in column.foreign_keys:
                parent = classes.get(key.column.table)
                if parent is not None:
                    yield child, column, parent, key.ondelete or ""


def _touched(gone: Gone) -> Iterator[tuple[Any, str, list[tuple[Any, Any]]]]:
    """The classes whose rows refer to what goes and stay: what removal does, by which columns."""
    found: dict[tuple[Any, str], list[tuple[Any, Any]]] = {}
    for child, column, parent, does in references():
        if parent in gone and does != "CASCADE":
            found.setdefault((child, does), []).append((column, parent))
    yield from ((child, does, ways) for (child, does), ways in found.items())


def gone_with(model: Any, which: Any) -> Gone:
    """The rows that go if those of a model do which meet a condition, as statements."""
    ways: Ways = {}
    for child, column, parent, does in references():
        if does == "CASCADE":
            ways.setdefault(child, []).append((column, parent))
    gone: Gone = {}
    for circle in _in_order(model, ways):
        starts = {
            child: [sa.select(child.id).where(which)] if child is model else []
            for child in circle
        }
        for child in circle:
            starts[child] += [
                sa.select(child.id).where(column.in_(gone[parent]))
                for column, parent in ways.get(child, ())
                if parent in gone
            ]
        if len(circle) > 1:
            gone |= _walked(starts, ways)
        else:
            gone |= {child: _followed(child, starts[child], ways) for child in circle}
    return gone


def _followed(child: Any, starts: Sequence[Any], ways: Ways) -> Any:
    """The keys that some statements give, and of the rows of the same model that go with them."""
    first, *rest = starts
    own = [column for column, parent in ways.get(child, ()) if parent is child]
    name = f"gone_{child.__tablename__}"
    if not own:
        line = (first.union(*rest) if rest else first).subquery(name)
        return sa.select(line.columns.values()[0])
    # A tree: the database itself follows it downwards, each row once.
    base = (first.union(*rest) if rest else first).cte(name, recursive=True)
    key = base.columns.values()[0]
    steps = [sa.select(child.id).join(base, column == key) for column in own]
    return sa.select(base.union(*steps).columns.values()[0])


def _walked(starts: Mapping[Any, Sequence[Any]], ways: Ways) -> Gone:
    """As `_followed`, where models go with each other in a circle: step by step, by their keys."""
    found: dict[Any, set[Any]] = {
        child: {key for rows in some for key in session().scalars(rows)}
        for child, some in starts.items()
    }
    new = {child: set(keys) for child, keys in found.items()}
    while any(new.values()):
        following: dict[Any, set[Any]] = {child: set() for child in found}
        for child, known in found.items():
            for column, parent in ways[child]:
                if new.get(parent):
                    rows = sa.select(child.id).where(column.in_(new[parent]))
                    following[child] |= set(session().scalars(rows)) - known
        for child, keys in following.items():
            found[child] |= keys
        new = following
    return {
        child: sa.select(child.id).where(child.id.in_(keys))
        for child, keys in found.items()
    }


def _in_order(model: Any, ways: Ways) -> list[list[Any]]:
    """The models whose rows may go with those of one, parents first, circles together."""
    below = {parent: _reached(parent, ways) for parent in _reached(model, ways)}
    order: list[list[Any]] = []
    done: set[Any] = set()
    while len(done) < len(below):
        for child, reached in below.items():
            circle = [other for other in reached if child in below[other]]
            above = {
                parent
                for other in circle
                for _, parent in ways.get(other, ())
                if parent in below
            }
            if child not in done and above <= {*done, *circle}:
                order.append(circle)
                done.update(circle)
    return order


def _reached(model: Any, ways: Ways) -> list[Any]:
    """A model, and those whose rows may go with its rows."""
    reached, todo = [model], [model]
    while todo:
        above = todo.pop()
        for child, columns in ways.items():
            if child not in reached and any(parent is above for _, parent in columns):
                reached.append(child)
                todo.append(child)
    return reached


def is_done(found: Effects, *rows: Any) -> bool:
    """Removes rows if whoever asks was shown all that goes along, and nothing is in the way."""
    agreed = found.is_agreed(request.form.get("_shown", ""))
    return agreed and not found.blocking and remove(found, *rows)


def remove(found: Effects, *rows: Any) -> bool:
    """Removes rows, or puts them into the bin; false if something stands in the way after all.

    A rule of other rows that would be broken by it is told in `found`.
    """
    model, which = type(rows[0]), _these(rows)
    if hasattr(model, "removed_at"):
        return _bin(found, model, which)
    return remove_all(found, model, which)


def _bin(found: Effects, model: Any, which: Any) -> bool:
    keys = sa.select(model.id).where(which)
    touched = rules.touched({model: keys})
    some = list(session().scalars(keys.limit(_UNDONE_MOST + 1)))
    binned = sa.update(model).where(which).values(removed_at=clock.now())
    session().execute(binned, execution_options={"synchronize_session": False})
    done = _settled(found, touched)
    told = list(map(str, some))
    if done and len(some) <= _UNDONE_MOST and len("".join(told)) <= _TOLD_MOST:
        # The page that tells of it offers to take it back.
        flash({"where": f"{model.ENDPOINT}.bin_page", "keys": told}, "undo")  # type: ignore[arg-type]
    return done


def remove_all(found: Effects, model: Any, which: Any) -> bool:
    """As `remove`, for good, of all rows of a model that meet a condition."""
    gone = gone_with(model, which)
    touched = rules.touched(gone)
    try:
        for child, keys in gone.items():
            if child.HISTORY:
                kept = child.HISTORY.table
                # Whoever gets the key next has no past.
                same = sa.select(sa.cast(child.id, sa.String)).where(child.id.in_(keys))
                session().execute(sa.delete(kept).where(kept.c.row.in_(same)))
        removed = sa.delete(model).where(which)
        session().execute(removed, execution_options={"synchronize_session": False})
        done = _settled(found, touched)
    except IntegrityError:
        found.said = ["Rows that this site does not know of lead to it."]
        session().rollback()
        return False
    stored()
    return done


def _settled(found: Effects, touched: Sequence[rules.Touched]) -> bool:
    """Commits, unless a rule is broken now: that is told then, and nothing done."""
    found.said = list(
        dict.fromkeys(broken.words for broken in rules.broken_by(touched))
    )
    if found.said:
        session().rollback()
        return False
    session().commit()
    return True
