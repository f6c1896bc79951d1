"""Relations that the database may not hold: what it does where a row is removed is done here.

A column that has a value for nothing can't be held to what it leads to, and neither can a view's;
of tables that others made it is not known.
"""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from typing import Any

import sqlalchemy as sa
from sqlalchemy import event, orm

from . import removal
from .database import every_model

_AT_ONCE = 1_000
_DONE = "loose_done"


class Loose(sa.ForeignKey):
    """What a column leads to, where the database may not hold it to that."""


@event.listens_for(sa.ForeignKeyConstraint, "after_parent_attach")
def _left_out(constraint: sa.ForeignKeyConstraint, _table: object) -> None:
    if any(isinstance(element, Loose) for element in constraint.elements):
        constraint.ddl_if(dialect="none")


@event.listens_for(orm.Session, "do_orm_execute")
def _removed(state: orm.ORMExecuteState) -> None:
    """Before rows go: what leads to them, or to what goes with them, is let go of or goes too."""
    if not state.is_delete or state.execution_options.get(_DONE):
        return
    mapper, statement = state.bind_mapper, state.statement
    if mapper is None or not isinstance(statement, sa.Delete):
        return
    which = statement.whereclause
    gone = removal.gone_with(mapper.class_, sa.true() if which is None else which)
    ways = [way for way in removal.references() if way[2] in gone and _is_loose(*way)]
    for child, column, parent, does in ways:
        if does == "SET NULL":
            for keys in _some(state.session, gone[parent]):
                let_go = sa.update(child).where(column.in_(keys)).values({column: None})
                _run(state.session, let_go)
    # What goes last is looked up while all that it goes with is there.
    going = {child for child, _, _, does in ways if does == "CASCADE"} - {mapper.class_}
    found = {child: list(_some(state.session, gone[child])) for child in going}
    if any(way[0] is mapper.class_ and way[3] == "CASCADE" for way in ways):
        found[mapper.class_] = list(_some(state.session, gone[mapper.class_]))
    _unpair(state.session, gone)
    for child in reversed([child for child in gone if child in found]):
        for keys in found[child]:
            _run(state.session, sa.delete(child).where(child.id.in_(keys)))


def _unpair(session: orm.Session, gone: removal.Gone) -> None:
    """Takes what goes out of the tables of pairs that others made: no cascade may do it."""
    mapped = {model.__table__ for model in every_model()}
    for model, rows in gone.items():
        for table in model.metadata.tables.values():
            for column in () if table in mapped else table.columns:
                keys = [key for key in column.foreign_keys if isinstance(key, Loose)]
                if any(key.column.table is model.__table__ for key in keys):
                    for some in _some(session, rows):
                        _run(session, sa.delete(table).where(column.in_(some)))


def _is_loose(child: Any, column: Any, parent: Any, does: str) -> bool:
    return any(isinstance(key, Loose) for key in column.foreign_keys)


def _some(session: orm.Session, rows: Any) -> Iterator[Sequence[Any]]:
    yield from session.scalars(rows).partitions(_AT_ONCE)


def _run(session: orm.Session, statement: Any) -> None:
    done = {_DONE: True, "synchronize_session": False}
    session.execute(statement, execution_options=done)
