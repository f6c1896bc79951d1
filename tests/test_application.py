"""Whatever is declared: every page answers, forms take what is made up, and refuse what is not allowed."""

from __future__ import annotations

import datetime as dt
import re
import sqlite3
from decimal import Decimal
from typing import Any

import pytest
import sqlalchemy as sa
from declared import declarations, understand
from hypothesis import Phase, assume, given, settings
from hypothesis import strategies as st
from loaded import Application, application

from welbik.data.supply import Factory
from welbik.rules.brought import unmarked
from welbik.rules.tree import own
from welbik.schema.model import Field, Model

# Shrinking an application takes longer than reading a whole example.
QUICK = [Phase.explicit, Phase.reuse, Phase.generate]


def _valid(text: str) -> str:
    assume(not understand(text)[1])
    return text


def _anywhere(text: str) -> str:
    """The same, but that relations may lead to any row: it is the first of each here."""
    return _valid(re.sub(r", where .*", "", text))


@given(declarations().map(_valid))
@settings(max_examples=10, phases=QUICK)
def test_every_page_of_every_model_answers(text: str) -> None:
    with application(text) as app:
        assert app.client.get("/").status_code == 200
        for model in app.schema:
            sorts = [f"?_sort={sign}{name}" for name in model.columns for sign in ("", "-")]
            part, key = _part(app, model), _part(app, model, "id")
            pages = [
                "",
                "/new",
                f"/{part}",
                f"/{part}/edit",
                f"/{part}/remove",
                *sorts,
                "?_size=10&_filter=open",
                "?_after=x&_sort=nothing&_search=a",
                "?_as=csv",
                f"/chosen?_row={key}",
                f"/chosen?_row={key}&_do=remove",
            ]
            for page in pages:
                answer = app.client.get(app.form_of(f"/{model.url}{page}"))
                text = answer.text
                assert answer.status_code == 200, (model.name, page, text)


def _part(app: Application, model: Model, name: str = "url_part") -> str:
    """What the address of a model's first row ends in, or another attribute of it."""
    with app.flask.app_context():
        row = app.row_class(model)
        return str(getattr(app.module("kit.database").session().get(row, 1), name))


def _typed(app: Application, model: Model) -> dict[str, str]:
    """A made-up row as it would be typed, relations to the first row of each."""
    values = Factory(app.schema, 99).values(model.name)
    with app.flask.test_request_context():
        typed: dict[str, str] = app.form(model).of(app.row_class(model)(**values)).typed
    return typed | {
        r.name: "1" for r in model.references if r.target != model.name and not r.unique
    }


@given(declarations().map(_anywhere))
@settings(max_examples=10, phases=QUICK)
def test_forms_take_what_is_made_up_and_show_it_again_unchanged(text: str) -> None:
    with application(text) as app:
        for model in app.schema:
            typed = _typed(app, model)
            made = app.post(f"/{model.url}/new", Factory(app.schema, 1).sent(model.name, typed))
            assert made.status_code == 303, made.text
            with app.flask.test_request_context():
                session, row_class = app.module("kit.database").session(), app.row_class(model)
                row = session.scalar(sa.select(row_class).order_by(row_class.id.desc()).limit(1))
                assert app.form(model).of(row).typed == typed
                app.module("kit.database").session().close()
            assert app.change(f"{made.location}/edit", typed).status_code == 303


@given(declarations().map(_anywhere))
@settings(max_examples=10, phases=QUICK)
def test_forms_and_tables_agree_at_every_edge(text: str) -> None:
    """What a form takes the table takes; what the table's CHECKs refuse no form lets by."""
    with application(text) as app:
        names = {"dt": dt, "clock": app.module("kit.clock"), "Decimal": Decimal}
        for model in app.schema:
            typed = _typed(app, model)
            ruled = {part.name for rule in model.rules for part in own(rule.node)}
            for field in model.fields:
                if field.name in ruled or field.internal:
                    continue
                for case in field.kind.cases(field):
                    value = eval(unmarked(case.typed), names)
                    with app.flask.test_request_context(
                        method="POST", data={**typed, field.name: value}
                    ):
                        entry = app.form(model).read(app.row_class(model)())
                        app.module("kit.database").session().close()
                    assert (field.name not in entry.problems) == case.accepted, (
                        field,
                        case,
                        entry.problems,
                    )
                    if case.accepted:
                        assert _table_takes(app, model, field, entry.values[field.attribute])


def _table_takes(app: Application, model: Model, field: Field, value: Any) -> bool:
    row = app.row_class(model)
    with app.flask.app_context():
        session = app.module("kit.database").session()
        stored = session.get(row, 1)
        setattr(stored, field.attribute, value)
        session.flush()
        session.refresh(stored)
        kept = getattr(stored, field.attribute)
        session.rollback()
    return bool(kept == value)


MANY = """\
model Keeper
    name    text 2..40, required
    mentor  -> Keeper, on removal clear
    learners <- Keeper.mentor
    hives   <- Hive.keeper, sorted by -code

model Hive
    code    text 7..7, required, unique
    keeper  -> Keeper, required, on removal remove
    queen   -> Queen, on removal clear
    list code, keeper, queen
    visits  <- Visit.hive

model Queen
    mark    text 2..12
    mother  -> Keeper
    shown as "{mark} of {mother}"

model Visit
    hive    -> Hive, required, on removal remove
    keeper  -> Keeper
    other   -> Hive
    sort keeper, -hive
    shown as "{hive} by {keeper}"
seed
    20 Keeper
    60 Hive
    30 Queen
    90 Visit
"""


@pytest.mark.parametrize(
    "path",
    [
        "/keepers",
        "/hives?_sort=queen",
        "/visits",
        "/visits?_sort=-keeper",
        "/queens",
        "/keepers/3",
        "/hives/2",
    ],
)
def test_the_number_of_queries_does_not_grow_with_the_rows(path: str) -> None:
    counts = []
    for rows in (4, 25):
        with application(MANY, rows) as app, app.queries() as asked:
            assert app.client.get("/keepers").status_code == 200
            del asked[:]
            assert app.client.get(path).status_code == 200
            counts.append(len(asked))
    assert counts[1] <= max(counts[0], 12), asked
    if "/" not in path[1:]:
        assert counts[1] == counts[0] <= 2, asked


def test_addresses_carry_the_root_that_a_server_puts_in_front() -> None:
    with application(MANY) as app:
        for root in ("", "/bees", "/other", ""):
            page = app.client.get("/hives", environ_overrides={"SCRIPT_NAME": root}).text
            links = re.findall(r'href="(/[^"]*)"', page)
            assert len(links) > 50 and f"{root}/keepers/" in " ".join(links)
            assert all(
                re.match(rf"{root}/(hives|keepers|queens|visits|look|$)", link) for link in links
            )


def test_sorting_by_a_relation_is_by_its_name() -> None:
    with application(MANY) as app:
        with sqlite3.connect(app.root / "bees.db") as connection:
            expected = [c for (c,) in connection.execute(
                "SELECT hive.code FROM hive LEFT JOIN queen ON queen.id = queen_id LEFT JOIN keeper ON keeper.id = mother_id "
                "ORDER BY queen.mark DESC, keeper.name DESC, queen.id DESC, hive.id DESC LIMIT 25")]  # fmt: skip
        page = app.client.get("/hives?_sort=-queen").text
        found = sorted(expected, key=lambda code: page.index(f">{code}</a>"))
        assert found == expected


@given(st.integers(0, 10**6), st.data())
@settings(max_examples=12, phases=QUICK)
def test_what_removal_says_is_what_removal_does(seed: int, data: st.DataObject) -> None:
    """The page before a removal names exactly the rows that the database then removes and clears."""
    with application(MANY) as app:
        classes = {name: app.row_class(model) for name, model in app.schema.models.items()}
        name = data.draw(st.sampled_from(sorted(classes)))
        with app.flask.app_context():
            session = app.module("kit.database").session()
            number = data.draw(st.sampled_from([row.id for row in session.query(classes[name])]))
            removal = app.module("kit.removal")
            removal._NAMED = 10**6
            effects = removal.effects(session.get(classes[name], number))
            removed = {(g.model.__name__, r.id) for g in effects.removed for r in g.rows}
            removed.add((name, number))
            cleared = {(g.model.__name__, r.id) for g in effects.cleared for r in g.rows}
            before = _all_rows(session, classes)
            session.commit()
            done = removal.remove(effects, session.get(classes[name], number))
            after = _all_rows(session, classes)
            session.close()
        assert done is not bool(effects.blocking)
        if done:
            assert before.keys() - after.keys() == removed
            assert {key for key in after if after[key] != before[key]} == cleared
        else:
            assert before == after


@pytest.mark.parametrize(("removal", "what"), [("clear", "cleared"), ("refuse", "blocking")])
def test_a_row_that_refers_twice_is_counted_once(removal: str, what: str) -> None:
    declared = f"model Team\n    name text 9\nmodel Match\n    home -> Team, on removal {removal}\n    away -> Team, on removal {removal}\nseed\n    1 Team\n    9 Match\n"
    with application(declared) as app:
        with sqlite3.connect(app.root / "bees.db") as connection:
            connection.execute("UPDATE match SET home_id = 1, away_id = 1")
        with app.flask.app_context():
            team = (
                app.module("kit.database")
                .session()
                .get(app.row_class(app.schema.models["Team"]), 1)
            )
            (group,) = getattr(app.module("kit.removal").effects(team), what)
            assert group.count == 9 and len(group.rows) == 5
        assert "9 matches:" in app.client.get("/teams/1/remove").text


def _all_rows(session: Any, classes: dict[str, Any]) -> dict[tuple[str, int], tuple[Any, ...]]:
    session.expire_all()
    return {
        (name, row.id): tuple(getattr(row, column.key) for column in class_.__table__.columns)
        for name, class_ in classes.items()
        for row in session.query(class_)
    }


@pytest.mark.parametrize("what", ["removed", "blocking"])
def test_what_a_removal_does_is_told_in_one_order_in_every_process(what: str) -> None:
    """What one worker showed another is asked to do: its mark is of the rows in their order."""
    removal = {"removed": "remove", "blocking": "refuse"}[what]
    names = ["Elm", "Ash", "Yew", "Oak", "Fir", "Bay", "Box"]
    declared = "model Wood\n    name text 9\n" + "".join(
        f"model {name}\n    wood -> Wood, required, on removal {removal}\n" for name in names
    )
    seeds = "".join(f"    2 {name}\n" for name in ("Wood", *names))
    with application(f"{declared}seed\n{seeds}") as app, app.flask.app_context():
        session = app.module("kit.database").session()
        for name in names:
            session.execute(sa.text(f"UPDATE {name.lower()} SET wood_id = 1"))
        wood = session.get(app.row_class(app.schema.models["Wood"]), 1)
        found = app.module("kit.removal").effects(wood)
        assert [group.model.__name__ for group in getattr(found, what)] == sorted(names)
