"""Form fields for relations: rows of other models, chosen by their names."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import islice
from typing import Any, ClassVar, NamedTuple

from flask import request
from sqlalchemy import select

from . import texts
from .database import fetch, live, session
from .fields import Chosen
from .rows import key_of

_SELECT_MOST = 50
"""Beyond so many rows a select is no help, and a search box is."""
_CHECKS_MOST = 12
_FOUND_MOST = 12
_CHOSEN_MOST = 1_000
_COUNTED_MOST = 200
_NAMED_MOST = 100


class Offer(NamedTuple):
    """Rows to choose from, as keys and names, and how many were found in words."""

    rows: list[tuple[str, str]]
    told: str


@dataclass(frozen=True, kw_only=True)
class _Related(Chosen):
    """`where` says which rows of the target may be chosen."""

    target: Any
    where: Any = None
    wanted: str = ""

    def _rows(self, rows: Any) -> Any:
        rows = live(rows, self.target)
        return rows if self.where is None else rows.where(self.where)

    def _some(self, find: str, most: int) -> list[Any]:
        rows = self._rows(self.target.in_order(find)).limit(most)
        rows = rows.options(*texts.deferred(self.target))
        return list(session().scalars(rows))

    def finding(self) -> str:
        """What is typed to find rows to choose from."""
        return request.form.get(f"{self.name}-find", "").strip()[:200]

    def offered(self, typed: str) -> Offer:
        """What is chosen already, then what is found: for controls with a search box."""
        find = self.finding()
        found = self._some(find, _COUNTED_MOST + 1) if find else []
        rows = dict.fromkeys([*self._chosen_now(typed), *found[:_FOUND_MOST]])
        offer = [(str(row.id), str(row)) for row in rows]
        return Offer(offer, self._told(find, len(found)))

    def _told(self, find: str, count: int) -> str:
        if not find:
            return ""
        if not count:
            return f"None has “{find}”."
        if count <= _FOUND_MOST:
            return f"{count} found."
        most = f"{_COUNTED_MOST}+" if count > _COUNTED_MOST else str(count)
        return f"{_FOUND_MOST} of {most}: type more to find others."

    def _chosen_now(self, typed: str) -> list[Any]:
        """The rows that a text names, in its order; those that are gone are left out."""
        keys = [key_of(self.target, one) for one in self._parts(typed)]
        wanted = self.target.id.in_([key for key in keys if key is not None])
        rows = session().scalars(select(self.target).where(wanted)) if keys else ()
        found = {row.id: row for row in rows}
        return [found[key] for key in keys if key in found]

    def _parts(self, typed: str) -> list[str]:
        """What a text names, each once."""
        return [typed] if typed else []

    def _kept(self, typed: str) -> Any:
        key = key_of(self.target, typed)
        return None if key is None else fetch(self.target, key)

    def told(self, typed: str) -> str:
        row = self._kept(typed)
        return typed if row is None else str(row)


@dataclass(frozen=True, kw_only=True)
class Reference(_Related):
    """A row of another model: a select while they are few, a search box beyond."""

    loops: bool = True
    refers: ClassVar[bool] = True

    @property
    def control(self) -> str:  # type: ignore[override]
        if self.wanted:
            return self.wanted
        rows = self._rows(select(self.target.id)).limit(_SELECT_MOST + 1)
        few = len(session().scalars(rows).all()) <= _SELECT_MOST
        return "select" if few else "search"

    @property
    def column(self) -> str:
        return self.attribute or f"{self.name}_id"

    def parse(self, text: str) -> Any:
        key = key_of(self.target, text)
        known = self._rows(select(self.target.id)).where(self.target.id == key)
        if key is None or session().scalar(known) is None:
            raise self.refused("range", "Choose one of the list: this one is gone.")
        return key

    def typed(self, value: Any) -> str:
        return "" if value is None else str(value)

    def choices(self, typed: str) -> list[tuple[str, str]]:
        none = "Choose …" if self.required else "None"
        rows = self._some("", _SELECT_MOST + 1)
        found = [(str(row.id), str(row)) for row in rows]
        if typed and all(value != typed for value, _ in found):
            # What was chosen before stays to be seen, though it may not be chosen anew.
            kept = self._kept(typed)
            found += [(typed, str(kept))] if kept is not None else []
        return [("", none), *found]

    def offered(self, typed: str) -> Offer:
        found = super().offered(typed)
        if self.required or not found.rows:
            return found
        return found._replace(rows=[*found.rows, ("", "None")])

    def is_loop(self, row: Any, values: Mapping[str, Any]) -> bool:
        above = values.get(self.column)
        seen = set()
        while not self.loops and above is not None and row.id is not None:
            if above == row.id:
                return True
            if above in seen:
                return False
            seen.add(above)
            parent = fetch(self.target, above)
            above = getattr(parent, self.column, None)
        return False


@dataclass(frozen=True, kw_only=True)
class Many(_Related):
    """Rows of another model, ticked off a list of their names; a long list is searched."""

    several: ClassVar[bool] = True

    @property
    def control(self) -> str:  # type: ignore[override]
        return (
            "checks"
            if len(self._some("", _CHECKS_MOST + 1)) <= _CHECKS_MOST
            else "search"
        )

    def sent(self, form: Any, files: Any) -> str:
        return " ".join(self._parts(" ".join(form.getlist(self.name))))

    def _parts(self, typed: str) -> list[str]:
        # One more than may be chosen says that there are too many.
        return [*islice(dict.fromkeys(typed.split()), _CHOSEN_MOST + 1)]

    def ask(self) -> str:
        return "Choose at least one."

    def parse(self, text: str) -> list[Any]:
        return self._chosen(text, ())

    def change(self, text: str, stored: Any, typed: str) -> Any:
        if self.flat(text) == self.flat(typed):
            return stored
        if not text.strip():
            return self.read(text)
        return self._chosen(text, stored)

    def _chosen(self, text: str, kept: Sequence[Any]) -> list[Any]:
        """The rows that a text names, found in one query; only those of `kept` may lie in the bin."""
        words = text.split()
        if len(words) > _CHOSEN_MOST:
            said = f"At most {_CHOSEN_MOST:,} of them, please."
            raise self.refused("range", said)
        keys = [key_of(self.target, word) for word in words]
        wanted = self.target.id.in_([key for key in keys if key is not None])
        rows = session().scalars(self._rows(select(self.target)).where(wanted))
        found = {row.id: row for row in (*kept, *rows)}
        if any(key not in found for key in keys):
            raise self.refused("range", "Choose from the list: one of these is gone.")
        return [found[key] for key in dict.fromkeys(keys)]

    def read(self, text: str) -> Any:
        return super().read(text) or []

    def flat(self, text: str) -> str:
        return " ".join(sorted(text.split()))

    def typed(self, value: Any) -> str:
        return " ".join(sorted(str(row.id) for row in value or ()))

    def choices(self, typed: str) -> list[tuple[str, str]]:
        rows = session().scalars(self.target.in_order())
        return [(str(row.id), str(row)) for row in rows]

    def told(self, typed: str) -> str:
        named = [str(row) for row in self._chosen_now(typed)]
        more = (
            f" and {len(named) - _NAMED_MOST:,} more"
            if len(named) > _NAMED_MOST
            else ""
        )
        return f"{', '.join(named[:_NAMED_MOST])}{more}"
