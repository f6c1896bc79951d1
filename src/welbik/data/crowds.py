"""Stored rows that can't have as many new ones as were led to them: fewer are, the next time."""

from __future__ import annotations

from collections import Counter
from collections.abc import Mapping, Sequence, Set

from ..rules.tree import Aggregate, Node, lifted, walk
from ..schema.model import Model, Reference
from ..storage.backend import Database
from .drawer import Drawer
from .samples import law_of
from .verify import Broken, Verifier
from .world import World


class Crowds:
    """Tells which rows are led to too often, and has fewer lead there."""

    def __init__(
        self, database: Database, drawer: Drawer, world: World, verifier: Verifier
    ) -> None:
        self.database, self.drawer, self.world, self.verifier = database, drawer, world, verifier

    def hold_back(
        self,
        model: Model,
        broken: Sequence[Broken],
        led: Mapping[str, Mapping[object, int]],
        missing: int,
    ) -> None:
        """Has fewer rows lead to those that can't have so many; nothing of the new ones is stored."""
        before = self._leading(model, {name: {*few} for name, few in led.items()})
        for reference in model.references:
            if reference.name not in led:
                continue
            rooms: dict[object, int] = {}
            most = min(
                missing,
                law_of(self.drawer.schema, reference, self.drawer.plan.kinds).high or missing,
            )
            for one in broken:
                if one.model.name == reference.target:
                    for key, room in self.verifier.rooms(one, reference, most).items():
                        rooms[key] = min(room, rooms.get(key, room))
            new = {key: n - before[reference.name][key] for key, n in led[reference.name].items()}
            self.world.hold_back(reference, rooms, new)

    def led(self, model: Model, broken: Sequence[Broken]) -> dict[str, dict[object, int]]:
        """How many rows of a model lead to rows that can't have so many, by relation and key."""
        others = [one for one in broken if one.model is not model]
        found = {}
        for reference in model.references:
            keys = {key for one in others if one.model.name == reference.target for key in one.keys}
            keys |= self._asked_of_parents(model, reference, broken)
            if keys:
                found[reference.name] = keys
        return self._leading(model, found)

    def _leading(
        self, model: Model, keys: Mapping[str, Set[object]]
    ) -> dict[str, dict[object, int]]:
        """How many rows of a model lead to some rows, by relation and key."""
        found = {}
        for name, some in keys.items():
            led = Counter(self.database.values(model.table, model.stored(name).column))
            found[name] = {key: led[key] for key in some}
        return found

    def _asked_of_parents(
        self, model: Model, reference: Reference, broken: Sequence[Broken]
    ) -> set[object]:
        """The keys of what rows lead to that break a rule over nothing but that."""
        own = [one for one in broken if one.model is model]
        rows = {key for one in own if _asks_of(one.rule.node, reference.name) for key in one.keys}
        if not rows:
            return set()
        key = self.world.names.key(model.name)
        values = (self.database.values(model.table, name) for name in (key, reference.column))
        return {led for one, led in zip(*values, strict=True) if one in rows}


def _asks_of(node: Node, reference: str) -> bool:
    """Whether a row asks something of what leads where its reference leads, or of nothing but that."""
    there = lifted(node)
    if there is not None and there[0].reference == reference:
        return True
    gathers = (part for part in walk(node) if isinstance(part, Aggregate) and part.path)
    return any(one.path[0].reference == one.hops[0].via == reference for one in gathers)
