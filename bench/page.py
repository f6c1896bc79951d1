"""A generated list page against the same page written by hand: with an ORM, and without one."""

from __future__ import annotations

import importlib
import re
import resource
import secrets
import sqlite3
import subprocess
import sys
import time
from collections.abc import Callable
from datetime import date, datetime
from pathlib import Path
from typing import Any

from flask import Flask, g, render_template, request, session
from jinja2 import DictLoader
from sqlalchemy import JSON, Date, ForeignKey, String, create_engine, func, select
from sqlalchemy.orm import (
    DeclarativeBase,
    Mapped,
    Session,
    column_property,
    contains_eager,
    mapped_column,
    relationship,
)

PATH = "/hives?_sort=code"


class Base(DeclarativeBase):
    pass


class Apiary(Base):
    __tablename__ = "apiary"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60))


class Harvest(Base):
    __tablename__ = "harvest"
    id: Mapped[int] = mapped_column(primary_key=True)
    hive_id: Mapped[int]
    kg: Mapped[int]


class Queen(Base):
    __tablename__ = "queen"
    id: Mapped[int] = mapped_column(primary_key=True)
    mark: Mapped[str] = mapped_column(String(20))


class Keeper(Base):
    __tablename__ = "keeper"
    id: Mapped[int] = mapped_column(primary_key=True)
    name: Mapped[str] = mapped_column(String(60))


class Inspection(Base):
    __tablename__ = "inspection"
    id: Mapped[int] = mapped_column(primary_key=True)
    hive_id: Mapped[int]
    held: Mapped[datetime]
    keeper_id: Mapped[int | None] = mapped_column(ForeignKey("keeper.id"))
    keeper: Mapped[Keeper | None] = relationship()
    brood: Mapped[int | None]
    mites: Mapped[float | None]
    temper: Mapped[str | None] = mapped_column(String(9))


class Hive(Base):
    __tablename__ = "hive"
    id: Mapped[int] = mapped_column(primary_key=True)
    code: Mapped[str] = mapped_column(String(7))
    apiary_id: Mapped[int] = mapped_column(ForeignKey("apiary.id"))
    apiary: Mapped[Apiary] = relationship()
    queen_id: Mapped[int | None] = mapped_column(ForeignKey("queen.id"))
    queen: Mapped[Queen | None] = relationship()
    kind: Mapped[str | None] = mapped_column(String(8))
    frames: Mapped[int]
    opened: Mapped[date] = mapped_column(Date)
    closed: Mapped[date | None] = mapped_column(Date)
    reason: Mapped[str | None] = mapped_column(String(200))
    photo: Mapped[Any | None] = mapped_column(JSON)
    layout: Mapped[Any | None] = mapped_column(JSON)
    created_at: Mapped[datetime]
    updated_at: Mapped[datetime]
    removed_at: Mapped[datetime | None]
    total: Mapped[int | None] = column_property(
        select(func.sum(Harvest.kg)).where(Harvest.hive_id == id).scalar_subquery()
    )


KINDS = {"national": "National", "top_bar": "Top-bar", "warre": "Warré", "long": "Long"}
_ROWS_BY_HAND = """
SELECT hive.id, hive.code, apiary_id, apiary.name AS apiary, kind, frames,
  (SELECT sum(kg) FROM harvest WHERE hive_id = hive.id) AS total
FROM hive JOIN apiary ON apiary.id = apiary_id
WHERE removed_at IS NULL ORDER BY {} LIMIT 25 OFFSET ?
"""


def token() -> str:
    """What each form carries, since its page takes changes: of the visitor's session."""
    if "token" not in session:
        session["token"] = secrets.token_urlsafe(24)
    return str(session["token"])


def site(templates: dict[str, str]) -> Flask:
    """A site written by hand, without the page in question."""
    app = Flask(__name__)
    app.secret_key = "bench"
    app.jinja_loader = DictLoader(templates)
    app.jinja_env.globals["token"] = token

    @app.get("/hives/<code>")
    def hive(code: str) -> str:
        return ""

    @app.get("/<path:path>")
    def other(path: str) -> str:
        return ""

    @app.get("/apiaries/<int:id>")
    def apiary(id: int) -> str:
        return ""

    return app


def with_driver(address: str) -> str:
    """An address as SQLAlchemy takes it."""
    drivers = {"postgresql:": "postgresql+psycopg:", "mariadb:": "mariadb+pymysql:"}
    for word, driver in drivers.items():
        address = address.replace(word, driver)
    return address


def by_orm(address: str, templates: dict[str, str]) -> Flask:
    """One view, one query for the rows and one for their number."""
    app = site(templates)
    engine = create_engine(with_driver(address))

    @app.get("/hives")
    def hives() -> str:
        with Session(engine) as database:
            sort = request.args.get("_sort", "code")
            number = int(request.args.get("page", "1"))
            rows = select(Hive).join(Hive.apiary).options(contains_eager(Hive.apiary))
            rows = rows.where(Hive.removed_at.is_(None))
            order = {"code": Hive.code, "apiary": Apiary.name}[sort]
            some = rows.order_by(order, Hive.id).limit(25).offset((number - 1) * 25)
            count = select(func.count()).select_from(Hive).where(Hive.removed_at.is_(None))
            total = database.scalar(count) or 0
            found = database.scalars(some).all()
            return render_template(
                "hives.html", hives=found, sort=sort, kinds=KINDS, number=number, total=total
            )

    return app


def by_driver(database: Path, templates: dict[str, str]) -> Flask:
    """The same with the driver alone: rows as the database gives them."""
    app = site(templates)

    @app.teardown_appcontext
    def close(error: BaseException | None) -> None:
        g.connection.close()

    @app.get("/hives")
    def hives() -> str:
        g.connection = sqlite3.connect(database)
        g.connection.row_factory = sqlite3.Row
        sort = request.args.get("_sort", "code")
        number = int(request.args.get("page", "1"))
        order = {"code": "hive.code, hive.id", "apiary": "apiary.name, hive.id"}[sort]
        found = g.connection.execute(_ROWS_BY_HAND.format(order), [(number - 1) * 25]).fetchall()
        counted = g.connection.execute("SELECT count(*) FROM hive WHERE removed_at IS NULL")
        return render_template(
            "hives.html",
            hives=found,
            sort=sort,
            kinds=KINDS,
            number=number,
            total=counted.fetchone()[0],
        )

    return app


def _rows(apiary: str, tenths: int) -> str:
    return f"""{{% for hive in hives %}}
      <tr id="_row-{{{{ hive.id }}}}">
        <td class="pick"><input type="checkbox" name="_row" value="{{{{ hive.id }}}}" aria-label="Choose {{{{ hive.code }}}}"></td>
        <th scope="row"><a href="{{{{ url_for('hive', code=hive.code) }}}}">{{{{ hive.code }}}}</a></th>
        <td data-label="Apiary"><a href="{{{{ url_for('apiary', id=hive.apiary_id) }}}}">{{{{ {apiary} }}}}</a></td>
        <td data-label="Kind">{{{{ kinds[hive.kind] }}}}</td>
        <td class="number" data-label="Frames">{{{{ hive.frames }}}}</td>
        <td class="number" data-label="Honey so far (kg)">{{{{ "—" if hive.total is none else "%.1f" | format(hive.total / {tenths}) }}}}</td>
      </tr>
{{% endfor %}}"""


def _templates(page: str, apiary: str, tenths: int) -> dict[str, str]:
    """What would be written by hand, a layout and a page: the same HTML, with links and rows filled in."""
    head, rest = page.split("<tbody>")
    for name in ("code", "apiary", "kind", "frames", "total_kg"):
        asked = f"'-{name}' if sort == '{name}' else '{name}'"
        link = f"{{{{ url_for('hives', **{{'_sort': {asked}}})[6:] }}}}"
        head = re.sub(rf'(href|hx-get)="\?_sort=-?{name}"', rf'\1="{link}"', head)
    shown = "{{ (number - 1) * 25 + 1 }}–{{ number * 25 }} of {{ total }}"
    head = re.sub(r"1–25 of \d+", shown, head)
    foot = re.sub(r"1–25 of \d+", shown, rest.split("</tbody>")[1])
    foot = re.sub(
        r'rel="next" href="[^"]*"',
        'rel="next" href="{{ url_for(\'hives\', sort=sort, page=number + 1) }}"',
        foot,
    )
    page = head + "<tbody>" + _rows(apiary, tenths) + "</tbody>" + foot
    return in_layout(page, "hives.html")


def in_layout(page: str, name: str) -> dict[str, str]:
    """A layout, and a page in it: links of the menu, notices and the token are filled in."""
    for path in ("keepers", "apiaries", "queens", "findings", "inspections", "harvests"):
        page = page.replace(
            f'href="/{path}"', f"href=\"{{{{ url_for('other', path='{path}') }}}}\""
        )
    page = re.sub(r'name="_token" value="[^"]*"', 'name="_token" value="{{ token() }}"', page)
    base, top = page.split('<main id="_main" tabindex="-1">')
    main, bottom = top.split("</main>")
    notices = "{% for kind, message in get_flashed_messages(with_categories=true) %}<p>{{ message }}</p>{% endfor %}"
    layout = (
        base
        + '<main id="_main" tabindex="-1">'
        + notices
        + "{% block main %}{% endblock %}</main>"
        + bottom
    )
    page = '{% extends "base.html" %}{% block main %}' + main + "{% endblock %}"
    return {"base.html": layout, name: page}


def plain(page: str) -> str:
    """What two pages must have alike: all but the token, and the notation of the next page."""
    page = re.sub(r'rel="next" href="[^"]*"|name="_token" value="[^"]*"', "", page)
    return re.sub(r"\s+", " ", re.sub(r">\s+<", "><", page)).strip()


def ours(folder: Path, address: str) -> Any:
    """The demo's generated site on a database."""
    if str(folder) not in sys.path:
        sys.path.insert(0, str(folder))
    return importlib.import_module("beekeepers").create_app(address)


def page_rates(
    folder: Path, word: str, address: str, times: int, requests: int
) -> dict[str, list[float]]:
    """The generated page's rate to that of hand-written ones, for each pair of runs.

    Of a server's database the time on the clock counts: most of it is spent there.
    """
    # One that has no decimals keeps tenths of a kilogram.
    tenths = 10 if word == "sqlite" else 1
    client = ours(folder, address).test_client()
    page = client.get(PATH).text

    ratios: dict[str, list[float]] = {}
    hands: list[tuple[str, Callable[..., Flask], str, Any]] = [
        (f"list page / by hand with SQLAlchemy, {word}", by_orm, "hive.apiary.name", address)
    ]
    if word == "sqlite":
        path = Path(address.removeprefix("sqlite:///"))
        hands.append(("list page / by hand with sqlite3 alone", by_driver, "hive.apiary", path))
    for name, make, apiary, where in hands:
        theirs = make(where, _templates(page, apiary, tenths)).test_client()
        ratios[name] = rates(client, theirs, PATH, word, (times, requests))
    return ratios


def rates(client: Any, theirs: Any, path: str, word: str, sizes: tuple[int, int]) -> list[float]:
    """How often a page is answered, to how often by the other site: for each pair of runs."""
    clock = time.process_time if word == "sqlite" else time.perf_counter
    times, requests = sizes

    def run(client: Any) -> float:
        start = clock()
        for _ in range(requests):
            client.get(path)
        return clock() - start

    assert plain(theirs.get(path).text) == plain(client.get(path).text), "the two pages differ"
    run(client), run(theirs)
    return [1 / (run(client) / run(theirs)) for _ in range(times)]


def memory_of(folder: Path, times: int) -> dict[str, list[float]]:
    """The memory of a worker that has served pages, to that of one with bare Flask and SQLAlchemy."""
    ratios = []
    for _ in range(times):
        sizes = [
            int(
                subprocess.run(
                    [sys.executable, __file__, which, str(folder)],
                    capture_output=True,
                    text=True,
                    check=True,
                ).stdout
            )
            for which in ("ours", "bare")
        ]
        ratios.append(sizes[0] / sizes[1])
    return {"memory of a worker / bare Flask + SQLAlchemy": ratios}


def _bare(folder: Path) -> Any:
    """A site that does next to nothing, with both libraries at work."""
    app = Flask(__name__)
    app.jinja_loader = DictLoader({"page.html": "<p>{{ count }}</p>"})
    engine = create_engine(f"sqlite:///{folder / 'beekeepers.db'}")

    @app.get("/hives")
    def hives() -> str:
        with Session(engine) as database:
            return render_template("page.html", count=database.scalar(select(Hive.code).limit(1)))

    return app


def main() -> None:
    which, folder = sys.argv[1], Path(sys.argv[2])
    made = _bare(folder) if which == "bare" else ours(folder, f"sqlite:///{folder}/beekeepers.db")
    client = made.test_client()
    for _ in range(50):
        client.get("/hives")
    print(resource.getrusage(resource.RUSAGE_SELF).ru_maxrss)


if __name__ == "__main__":
    main()
