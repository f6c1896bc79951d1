"""What a list shows, and what it can be sorted, searched and filtered by."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from functools import cached_property
from typing import Any

import sqlalchemy as sa

from . import expressions, light, paging, texts
from .cells import Column
from .filters import Filter
from .prepared import Prepared


class List:
    """What a list shows and what it can be asked.

    `rows` selects what is shown, first of the model itself, then of `related` entities by
    path. `columns` has for each path its heading, and what it is sorted by; `first` are the
    sort keys used when none is asked. What its `form` asks for can be shown besides, and
    what `more` has headings for.
    `tree` tells how rows stand below each other, where they do, and `through` finds how long
    lists are gone through by what their rows lead to; `narrowing`, by which filter.
    """

    def __init__(
        self,
        model: Any,
        rows: Any,
        columns: Mapping[str, Sequence[Any]],
        *,
        related: Mapping[str, Any] | None = None,
        first: str = "",
        search: Sequence[Any] = (),
        filters: Sequence[Filter] = (),
        form: Any = None,
        more: Mapping[str, str] | None = None,
        tree: Any = None,
        through: Callable[[List, str], Any] | None = None,
        narrowing: Callable[..., Any] | None = None,
    ) -> None:
        self.model = model
        self.rows = rows
        self._shown = [texts.brief(one["expr"]) for one in rows.column_descriptions]
        self.sorts = {name: rest for name, (_, *rest) in columns.items() if rest}
        self.headings = {name: head for name, (head, *_) in columns.items() if head}
        self.first = first
        self.search = search
        self.filters = {one.name: one for one in filters}
        self.related = related or {}
        self._form = form
        self._more = more or {}
        self.tree = tree
        self.through, self.narrowing = through, narrowing
        self.prepared: dict[tuple[Any, ...], Prepared] = {}
        self._orders: dict[str, list[paging.Key]] = {}

    @cached_property
    def read(self) -> Any:
        """What makes a row of the list of a result's row."""
        return light.reader(self.rows, self.related)

    @cached_property
    def declared(self) -> list[Column]:
        """The columns that it shows unless others are asked for."""
        return [Column(path, label) for path, label in self.headings.items()]

    @cached_property
    def every(self) -> list[Column]:
        """All that it can show."""
        found = dict(self.headings)
        relations = sa.inspect(self.model).relationships
        for name, field in self._form.fields.items() if self._form else ():
            path = field.column
            if hasattr(field, "target"):
                # A name that Python or the models' base have taken has a stroke behind it.
                path = name if name in relations else f"{name}_"
            found.setdefault(path, field.heading)
        return [
            Column(path, label) for path, label in (found | dict(self._more)).items()
        ]

    def joined(self, rows: Any, sort: str = "") -> Any:
        """The rows with those that they relate to.

        What they are sorted by first may come first in the database's own plan; all else is
        looked up beside each row, which an outer join makes sure of.
        """
        rows = rows.select_from(self.model)
        first = self.sorts.get(sort.partition(",")[0].removeprefix("-"), ())
        leading = {column.parent for column in first}
        entities = {"": self.model}
        for path, entity in self.related.items():
            above, _, name = path.rpartition(".")
            to = getattr(entities[above], name).of_type(entity)
            leads = any(
                sa.inspect(self.related[other]) in leading
                for other in self.related
                if other == path or other.startswith(f"{path}.")
            )
            inner = leads and sa.inspect(entity) not in self._maybe
            rows = rows.join(to, isouter=not inner)
            entities[path] = entity
        return rows

    def page_of(
        self,
        rows: Any,
        keys: Sequence[paging.Key],
        segment: paging.Segment | None,
        back: bool,
        given: Sequence[bool] = (),
        *,
        after: bool = False,
    ) -> Any:
        """The statement for a stretch of a page: from its start, or from a row's values on.

        `back` goes the other way. Without a segment it is all of the list.
        """
        # What is shown and sorted by stands there twice, and needs two names.
        sorted_by = [key.column.label(f"_by{n}") for n, key in enumerate(keys)]
        if any(texts.is_long(one["expr"]) for one in rows.column_descriptions):
            rows = rows.with_only_columns(*self._shown, maintain_column_froms=True)
        rows = rows.add_columns(*sorted_by)
        most = sa.bindparam("most", type_=sa.Integer)
        if segment is None:
            order = [*paging.expanded(keys[0]), *keys[1:]]
        else:
            order = [
                key._replace(down=key.down != back) for key in keys[segment.alone :]
            ]
            if segment.where is not None:
                rows = rows.where(segment.where)
            if given:
                rest = given[segment.alone :]
                rows = rows.where(paging.behind(order, rest, segment.alone))
        if after:
            order = [
                key._replace(column=expressions.unindexed(key.column)) for key in order
            ]
        return rows.order_by(*(key.ordered for key in order)).limit(most)

    @cached_property
    def _maybe(self) -> set[Any]:
        """The related entities that a row may be without."""
        found: set[Any] = set()
        mappers = {"": (sa.inspect(self.model), False)}
        for path, entity in self.related.items():
            above, _, name = path.rpartition(".")
            mapper, maybe = mappers[above]
            relation = mapper.relationships[name]
            maybe = maybe or any(map(paging.is_nullable, relation.local_columns))
            mappers[path] = (relation.mapper, maybe)
            if maybe:
                found.add(sa.inspect(entity))
        return found

    def reference(self, entity: Any) -> Any:
        """The column of the model that leads to related rows, where a database holds it to that."""
        mapper = sa.inspect(self.model)
        for path, other in self.related.items():
            if "." in path or sa.inspect(other) is not entity:
                continue
            (own, to), *rest = mapper.relationships[path].local_remote_pairs
            if rest or not own.foreign_keys or to is not entity.mapper.primary_key[0]:
                return None
            return getattr(self.model, mapper.get_property_by_column(own).key)
        return None

    def _absent(self, column: Any) -> Any:
        """What says by an index that a row leads to none, and so has nothing in a column."""
        reference = self.reference(column.parent)
        if reference is None or paging.is_nullable(column):
            return None
        return reference.is_(None)

    def order(self, sort: str) -> list[paging.Key]:
        """What a sort goes by; the key of the row comes last, so that no two are equal."""
        if sort not in self._orders:
            self._orders[sort] = self._order(sort)
        return self._orders[sort]

    def held(self, row: Any, sort: str) -> list[Any] | None:
        """What a row has in the columns of an order; None where only a query tells."""
        entities = {sa.inspect(self.model): "", **self._paths}
        values = []
        for key in self.order(sort):
            path = entities.get(getattr(key.column, "parent", None))
            if path is None:
                return None
            there = row
            for name in filter(None, path.split(".")):
                there = None if there is None else getattr(there, name)
            values.append(None if there is None else getattr(there, key.column.key))
        return values

    @cached_property
    def _paths(self) -> dict[Any, str]:
        return {sa.inspect(entity): path for path, entity in self.related.items()}

    def _order(self, sort: str) -> list[paging.Key]:
        found: list[paging.Key] = []
        for key in filter(None, sort.split(",")):
            down = key.startswith("-")
            for column in self.sorts[key.removeprefix("-")]:
                maybe = paging.is_nullable(column) or column.parent in self._maybe
                absent = None if found else self._absent(column)
                # What is sorted by stands in the address of the next page.
                one = paging.Key(
                    texts.start(column), down, maybe, _choices(column), absent
                )
                # The first is gone through stretch by stretch, which an index helps with.
                found += paging.expanded(one) if found else [one]
        mapper = sa.inspect(self.model)
        # In the direction of what comes before: an index can be followed so.
        down = found[-1].down if found else False
        for part in mapper.primary_key:
            column = getattr(self.model, mapper.get_property_by_column(part).key)
            one = paging.Key(column, down, bool(part.nullable and not part.primary_key))
            found += paging.expanded(one) if found else [one]
        return found


def _choices(column: Any) -> tuple[str, ...]:
    """The choices of a column in their order; none where it has none."""
    model = column.parent.mapper.class_
    name = f"{column.key.rstrip('_').upper()}_LABELS"
    return tuple(getattr(model, name, ()) or getattr(column.type, "in_order", ()))
