"""A generated page of one row against the same page written by hand with an ORM."""

from __future__ import annotations

import re
from datetime import date, datetime
from pathlib import Path
from typing import Any

from flask import Flask, abort, render_template
from page import (
    KINDS,
    Apiary,
    Harvest,
    Hive,
    Inspection,
    in_layout,
    ours,
    rates,
    site,
    with_driver,
)
from sqlalchemy import Select, create_engine, func, select, tuple_
from sqlalchemy.orm import Session, joinedload

_MONTHS = ["Jan", "Feb", "Mar", "Apr", "May", "Jun", "Jul", "Aug", "Sept", "Oct", "Nov", "Dec"]
_TEMPERS = {"calm": "Calm", "nervous": "Nervous", "defensive": "Defensive"}
_SHORT = 10
_VALUES = {
    "Apiary": "<a href=\"{{ url_for('apiary', id=hive.apiary_id) }}\">{{ hive.apiary.name }}</a>",
    "Code": "{{ hive.code }}",
    "Queen": "{% if hive.queen %}<a href=\"{{ url_for('other', path='queens/%s' % hive.queen_id) }}\">"
    "{{ hive.queen.mark }}</a>{% else %}—{% endif %}",
    "Kind": "{{ kinds[hive.kind] }}",
    "Frames": "{{ hive.frames }}",
    "Opened": "{{ hive.opened | day }}",
    "Closed": "{{ hive.closed | day }}",
    "Reason": '{{ hive.reason or "—" }}',
    "Made": "{{ hive.created_at | moment }}",
    "Last changed": "{{ hive.updated_at | moment }}",
}
_LINES = """{% for one in inspections %}
<tr>
  <td class="pick"><input type="checkbox" name="_row" value="{{ one.id }}" aria-label="Choose {{ one.held | moment }}"></td>
  <th scope="row"><a href="{{ url_for('other', path='inspections/%s' % one.id) }}">{{ one.held | moment }}</a></th>
  <td data-label="Keeper"><a href="{{ url_for('other', path='keepers/%s' % one.keeper_id) }}">{{ one.keeper.name }}</a></td>
  <td class="number" data-label="Brood">{{ one.brood }}</td>
  <td class="number" data-label="Mites (per 100 bees)">{{ "—" if one.mites is none else "%.3g" | format(one.mites) }}</td>
  <td data-label="Temper">{{ tempers[one.temper] }}</td>
</tr>
{% endfor %}"""


def _day(value: date | None) -> str:
    return f"{value.day} {_MONTHS[value.month - 1]} {value.year}" if value else "—"


def _moment(value: datetime) -> str:
    return f"{_day(value)}, {value:%H:%M}"


def _neighbour(hive: Hive, *, back: bool) -> Select[Any]:
    """The next hive by apiary and code, or the one before."""
    place, own = tuple_(Apiary.name, Hive.code), (hive.apiary.name, hive.code)
    rows = select(Hive.code).join(Hive.apiary).where(Hive.removed_at.is_(None))
    rows = rows.where(place < own if back else place > own).limit(1)
    keys = (Apiary.name, Hive.code)
    return rows.order_by(*(key.desc() for key in keys) if back else keys)


def by_orm(address: str, templates: dict[str, str]) -> Flask:
    """One view: the row with what it leads to, its neighbours, and what belongs to it."""
    app = site(templates)
    app.jinja_env.filters.update(day=_day, moment=_moment)
    engine = create_engine(with_driver(address))

    def page(code: str) -> str:
        with Session(engine) as database:
            row = select(Hive).where(Hive.code == code, Hive.removed_at.is_(None))
            row = row.options(joinedload(Hive.apiary), joinedload(Hive.queen))
            hive = database.scalars(row).first() or abort(404)
            mine = Inspection.hive_id == hive.id
            some = select(Inspection).where(mine).options(joinedload(Inspection.keeper))
            some = some.order_by(Inspection.held.desc(), Inspection.id.desc()).limit(_SHORT + 1)
            counts = [
                select(func.count()).where(column == hive.id).scalar_subquery()
                for column in (Inspection.hive_id, Harvest.hive_id)
            ]
            held, taken = database.execute(select(*counts)).one()
            return render_template(
                "hive.html",
                hive=hive,
                kinds=KINDS,
                tempers=_TEMPERS,
                before=database.scalar(_neighbour(hive, back=True)),
                after=database.scalar(_neighbour(hive, back=False)),
                inspections=database.scalars(some).all()[:_SHORT],
                held=held,
                taken=taken,
            )

    app.view_functions["hive"] = page
    return app


def _templates(page: str, code: str, tenths: int) -> dict[str, str]:
    """The same HTML as the generated page's, with all that is of the row filled in."""
    for label, value in _VALUES.items():
        page = re.sub(
            rf"(<dt>{label}</dt>\s*<dd>).*?</dd>", lambda m, v=value: f"{m[1]}{v}</dd>", page
        )
    kilograms = '{{ "—" if hive.total is none else "%.1f kg" | format(hive.total / TENTHS) }}'
    page = re.sub(
        r"(<dt>Honey so far</dt>\s*<dd>).*?</dd>",
        lambda m: m[1] + kilograms.replace("TENTHS", str(tenths)) + "</dd>",
        page,
    )
    for word, name in (("prev", "before"), ("next", "after")):
        page = re.sub(
            rf'(<a rel="{word}"[^>]*href=")[^"]*("[^>]*>)(.*?</a>)',
            lambda m, n=name: (
                f"{{% if {n} %}}{m[1]}{{{{ url_for('hive', code={n}) }}}}{m[2]}"
                + re.sub(r"[A-Z]{2}-[0-9]{4}", f"{{{{ {n} }}}}", m[3])
                + "{% endif %}"
            ),
            page,
        )
    page = re.sub(r"<tbody>.*</tbody>", lambda m: f"<tbody>{_LINES}</tbody>", page, flags=re.S)
    for name, count in (("Inspections", "held"), ("Harvests", "taken")):
        page = re.sub(rf'({name} <span class="unit">)\d+', rf"\1{{{{ {count} }}}}", page)
    row = re.search(r"#_row-(\d+)", page)
    assert row is not None, "the page leads back to its row in the list"
    page = page.replace(f"#_row-{row[1]}", "#_row-{{ hive.id }}")
    page = page.replace(f"_copy={row[1]}", "_copy={{ hive.id }}")
    here = "{{ url_for('hive', code=hive.code) }}"
    page = page.replace(f"/hives/{code}", here).replace(code, "{{ hive.code }}")
    return in_layout(page, "hive.html")


def view_rates(
    folder: Path, word: str, address: str, times: int, requests: int
) -> dict[str, list[float]]:
    """The generated page's rate to that of the one written by hand, for each pair of runs."""
    client = ours(folder, address).test_client()
    codes = re.findall(r'<th scope="row"><a href="/hives/([^"]+)"', client.get("/hives").text)
    pages = {code: client.get(f"/hives/{code}").text for code in codes[5:]}
    # The one with the most inspections that stand on one page, and no other table.
    plain = {c: p for c, p in pages.items() if "–10 of" not in p and p.count("<tbody>") == 1}
    code = max(plain, key=lambda c: plain[c].count('class="pick"'))
    path = f"/hives/{code}"
    theirs = by_orm(address, _templates(pages[code], code, 10 if word == "sqlite" else 1))
    name = f"view page / by hand with SQLAlchemy, {word}"
    return {name: rates(client, theirs.test_client(), path, word, (times, requests))}
