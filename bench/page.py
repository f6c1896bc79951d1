"""A generated list page against the same page written by hand with Flask and SQLAlchemy."""

from __future__ import annotations

import importlib
import re
import sys
import time
from datetime import date, datetime
from pathlib import Path
from typing import Any

from flask import Flask, render_template, request
from jinja2 import DictLoader
from sqlalchemy import JSON, Date, ForeignKey, String, create_engine, event, func, select
from sqlalchemy.orm import (
    DeclarativeBase,
    Mapped,
    Session,
    column_property,
    contains_eager,
    mapped_column,
    relationship,
)

PATH = "/hives?sort=code&page=3"


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


class Hive(Base):
    __tablename__ = "hive"
    id: Mapped[int] = mapped_column(primary_key=True)
    code: Mapped[str] = mapped_column(String(7))
    apiary_id: Mapped[int] = mapped_column(ForeignKey("apiary.id"))
    apiary: Mapped[Apiary] = relationship()
    queen_id: Mapped[int | None]
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


def by_hand(database: Path, templates: dict[str, str]) -> Flask:
    """One view, one query for the rows and one for their number."""
    app = Flask(__name__)
    app.secret_key = "bench"
    app.jinja_loader = DictLoader(templates)
    engine = create_engine(f"sqlite:///{database}")

    @event.listens_for(engine, "connect")
    def prepare(connection: Any, record: Any) -> None:
        connection.execute("PRAGMA foreign_keys = ON")

    @app.get("/hives")
    def hives() -> str:
        with Session(engine) as session:
            sort = request.args.get("sort", "code")
            number = int(request.args.get("page", "1"))
            rows = select(Hive).join(Hive.apiary).options(contains_eager(Hive.apiary))
            rows = rows.where(Hive.removed_at.is_(None))
            order = {"code": Hive.code, "apiary": Apiary.name}[sort]
            some = rows.order_by(order, Hive.id).limit(25).offset((number - 1) * 25)
            count = select(func.count()).select_from(Hive).where(Hive.removed_at.is_(None))
            total = session.scalar(count) or 0
            found = session.scalars(some).all()
            return render_template(
                "hives.html", hives=found, sort=sort, kinds=KINDS, number=number, total=total
            )

    @app.get("/hives/<code>")
    def hive(code: str) -> str:
        return ""

    @app.get("/<path>")
    def other(path: str) -> str:
        return ""

    @app.get("/apiaries/<int:id>")
    def apiary(id: int) -> str:
        return ""

    return app


_ROWS = """{% for hive in hives %}
      <tr>
        <th scope="row"><a href="{{ url_for('hive', code=hive.code) }}">{{ hive.code }}</a></th>
        <td data-label="Apiary"><a href="{{ url_for('apiary', id=hive.apiary_id) }}">{{ hive.apiary.name }}</a></td>
        <td data-label="Kind">{{ kinds[hive.kind] }}</td>
        <td class="number" data-label="Frames">{{ hive.frames }}</td>
        <td class="number" data-label="Honey so far (kg)">{{ "—" if hive.total is none else "%.1f" | format(hive.total / 10) }}</td>
      </tr>
{% endfor %}"""


def _templates(page: str) -> dict[str, str]:
    """What would be written by hand, a layout and a page: the same HTML, with links and rows filled in."""
    head, rest = page.split("<tbody>")
    for path in ("keepers", "apiaries", "queens", "hives", "findings", "inspections", "harvests"):
        head = head.replace(
            f'href="/{path}"', f"href=\"{{{{ url_for('other', path='{path}') }}}}\""
        )
    for name in ("code", "apiary", "kind", "frames", "total_kg"):
        link = f"{{{{ url_for('hives', sort='-{name}' if sort == '{name}' else '{name}')[6:] }}}}"
        head = re.sub(rf'href="\?sort=-?{name}"', f'href="{link}"', head)
    foot = rest.split("</tbody>")[1]
    foot = foot.replace("51–75 of", "{{ (number - 1) * 25 + 1 }}–{{ number * 25 }} of")
    foot = re.sub(r"of \d+", "of {{ total }}", foot)
    base, top = (head + "<tbody>" + _ROWS + "</tbody>" + foot).split(
        '<main id="main" tabindex="-1">'
    )
    main, bottom = top.split("</main>")
    notices = "{% for kind, message in get_flashed_messages(with_categories=true) %}<p>{{ message }}</p>{% endfor %}"
    layout = (
        base
        + '<main id="main" tabindex="-1">'
        + notices
        + "{% block main %}{% endblock %}</main>"
        + bottom
    )
    page = '{% extends "base.html" %}{% block main %}' + main + "{% endblock %}"
    return {"base.html": layout, "hives.html": page}


def _plain(page: str) -> str:
    return re.sub(r"\s+", " ", re.sub(r">\s+<", "><", page)).strip()


def page_rates(folder: Path, times: int, requests: int) -> dict[str, list[float]]:
    """The generated page's rate to the hand-written one's, for each pair of runs."""
    sys.path.insert(0, str(folder))
    ours = (
        importlib.import_module("beekeepers")
        .create_app(f"sqlite:///{folder / 'beekeepers.db'}")
        .test_client()
    )
    theirs = by_hand(folder / "beekeepers.db", _templates(ours.get(PATH).text)).test_client()
    assert _plain(ours.get(PATH).text) == _plain(theirs.get(PATH).text), "the two pages differ"

    def run(client: Any) -> float:
        start = time.process_time()
        for _ in range(requests):
            client.get(PATH)
        return time.process_time() - start

    run(ours), run(theirs)
    ratios = []
    for _ in range(times):
        mine, other = run(ours), run(theirs)
        ratios.append(other / mine)
    return {"list page / the same by hand": ratios}
