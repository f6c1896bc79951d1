"""A database made from the generated models is the same as one that was migrated, on each."""

from __future__ import annotations

from pathlib import Path

import pytest
import servers
from loaded import application
from servers import WORDS
from sqlalchemy import make_url

from welbik.storage.connect import connect

DECLARED = """\
model Shelf
    place   slug from name
    name    text 3..40, required, unique
    kept    text 900
    page    url
    above   -> Shelf, on removal clear
    marks   <-> Mark
    keep history, times, bin

model Mark
    name    text 2..300, required
    shelf   -> Shelf, required, unique
    colour  one of red | blue "Sky's blue"
    unique name, shelf, say "There is one of these"
    keep bin

model Thing
    stored as "select"
    key     code
    code    text 4..4, required, unique
    number  uuid
    group   text 40, stored as "order"
    weight  decimal 0.05..90.25, required
    share   number 0..1
    long    duration 0..8 hours
    begins  time
    begun   datetime
    opened  date 2015-01-01..
    closed  date
    sound   boolean, required, default yes
    size    integer -5..5, indexed
    many    integer 0..9_000_000_000
    tags    list of text 9
    paper   file up to 2 MB
    kept    text 900, indexed, stored as "key"
    shelf   -> Shelf, required
    next    -> Thing, loops allowed, on removal clear
    index group, size
    rule closed > opened, say "It closes later"
    rule next is empty or many is given, say "What is next is counted"
    rule weight < 80.5 when sound, say "Too heavy to be sound"
    rule length(group) > 2 and lower(group) = group, say "Small letters"
    rule begun > 2020-05-06T07:08, say "Not before"
    rule begins < 22:00 or long <= 1:30, say "Late ones are short"
"""


def _looks(address: str, root: Path, names: list[str]) -> dict[str, dict[str, str]]:
    with connect(address, root) as database:
        return {name: database.look(name) for name in names}


@pytest.mark.parametrize("word", WORDS)
def test_models_make_the_tables_that_migrations_make(word: str, tmp_path: Path) -> None:
    with (
        application(DECLARED, on=word) as app,
        servers.database(word, tmp_path) as address,
    ):
        connect(address, tmp_path, create=True).close()
        base = app.module("kit.database").Base
        engine = app.module("kit.dialects").of(word).engine(make_url(address))
        base.metadata.create_all(engine)
        engine.dispose()
        names = sorted(base.metadata.tables)
        made = _looks(address, tmp_path, names)
        migrated = _looks(app.address, tmp_path, names)
        for name in names:
            assert made[name] == migrated[name], name
        assert len(migrated["select"]) > 30
