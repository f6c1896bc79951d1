"""Requests of all shapes and sizes to a generated site, by two visitors at once, each with bounds."""

from __future__ import annotations

import io
import logging
import re
import resource
import shutil
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass, field
from html import unescape
from pathlib import Path
from typing import Any
from urllib.parse import quote

from hypothesis import strategies as st
from loaded import Application, application

from welbik.data.verify import Verifier
from welbik.schema.model import Model
from welbik.storage.backend import Database

SECONDS, MEGABYTES, LOGGED, SENT = 1.0, 100, 20_000, 5_000_000

ODD = [
    *("", " ", "0", "-1", "1", "2", "99", "1e9", "NaN", "1E-999999", "0x1", "٣", "yes", "no", "-", ".."),
    *("1..2", "..", "2..", "today", "today - 9 days", "today + 99999999 days", "now", "x,y", "1,2,3", ",,,"),
    *("2026-02-30", "2026-03-01", "0000-00-00", "9999-12-31", "9999-12-31T23:59", "0001-01-01T00:00"),
    *("2026-03-29T02:30", "24:00", "23:59:60", "<b>", "{{ 7 }}", "%s", "' OR 1=1 --", "a\0b", "a\r\nb"),
    *("\u202e", "\ufffd", "é", "e\u0301", "🐝" * 30, "x" * 300, "x" * 20_000, "9" * 400, "[" * 3_000),
    *("[]", "[{}]", '[{"a": [[]]}]', "5", '{"a": 1}', "null", '"\\ud800"', "WzEsIngiXQ", "W251bGwsMSwyXQ"),
    *("new", "bin", "chosen", "edit", "../../etc/passwd", "//evil.example", "/hives", "javascript:alert(1)"),
    *("find:hive", "more:layout", "check:code", "new:apiary", "new:", "open", "csv", "set", "remove", "empty"),
    *(",", ",,", '""', "''", '"', "-,-", "\n", "\r\n", "\t", " , ", "\0", "\x85", "\u2028", "\u2066a", "%00", "%0a"),
    *("1 " * 9_000, "1," * 9_000, "1,2,3," * 80, "[{}," * 9_000, "[" + "{}," * 9_000 + "{}]", '[{"a":' * 900),
    *("a" * 1_000_000, "é" * 300_000, "a%" * 200, "_" * 400, "12:00Z", "999999:59", "0001-01-01T00:00:00", "1e30"),
    *("1234,56", "1.234,56", "01.03.2024", "2147483648", "http://[", "javascript:alert(1)", "WyIiXQ", "9" * 20),
    *("restore", "-opened", "opened,-code", "sort", str(2**63), str(2**64), "-" + str(2**63), "1_000"),
]  # fmt: skip
HEADERS = ["HX-Current-URL", "HX-Request", "Referer", "Accept-Language", "Range", "If-None-Match", "X-Forwarded-For"]  # fmt: skip
OWN = [
    *("_search", "_sort", "_filter", "_after", "_before", "_size", "_as", "_tab", "_draft", "_return"),
    *("_list", "_rows", "_all", "_at", "_columns", "_chosen", "_copy", "_version", "_remove", "_kept"),
    *("_do", "_field", "_row", "_sure", "_seen", "_once", "_take", "_part", "_shown", "_open", "_token"),
]  # fmt: skip
ENDS = ["", "-find", "-low", "-high", "-empty", "-remove", "-sort", "-after", "-size", "-0-position", "-9999-x", "[]"]  # fmt: skip


@dataclass
class Site:
    """A site with few rows, brought back to its first state before each round of requests."""

    app: Application
    names: list[str]
    paths: list[str]
    empty: Path | None
    log: io.StringIO = field(default_factory=io.StringIO)

    cost: tuple[float, int, int] = (0, 0, 0)

    def measure(self) -> None:
        """Notes what each request costs the site itself, apart from who sends it."""
        inner = self.app.flask.wsgi_app

        def measured(environ: Any, start: Any) -> list[bytes]:
            before = resource.getrusage(resource.RUSAGE_SELF)
            data = b"".join(inner(environ, start))
            after = resource.getrusage(resource.RUSAGE_SELF)
            grown = after.ru_maxrss - before.ru_maxrss
            self.cost = (after.ru_utime - before.ru_utime, grown, len(data))
            return [data]

        self.app.flask.wsgi_app = measured

    def restore(self) -> None:
        """Brings the site back to its first rows."""
        if self.empty is None:
            with self.app.database() as database, database.transaction():
                copied(database, back=True)
        else:
            self.app.flask.extensions["engine"].dispose()
            shutil.copy(self.empty, self.app.root / "bees.db")
            for end in ("-wal", "-shm"):
                (self.app.root / f"bees.db{end}").unlink(missing_ok=True)
        self.visitors = [self.app.flask.test_client() for _ in range(2)]
        for number, one in enumerate(self.visitors):
            with one.session_transaction() as kept:
                kept["token"] = f"visitor {number}"

    def ask(self, who: int, method: str, path: str, **sent: Any) -> Any:
        """An answer, which may cost so much and no more."""
        self.log.seek(0)
        self.log.truncate()
        answer = self.visitors[who].open(path, method=method, **sent)
        said = (method, path[:300], str(sent)[:600], answer.status_code, self.cost)
        assert answer.status_code < 500, (*said, self.log.getvalue()[-2_000:])
        seconds, kilobytes, size = self.cost
        assert seconds < SECONDS and kilobytes < MEGABYTES * 1024, said
        assert size < SENT and self.log.tell() < LOGGED, said
        assert answer.headers["X-Content-Type-Options"] == "nosniff", said
        return answer

    def form(self, who: int, path: str) -> dict[str, str]:
        """What a form holds as a browser would send it."""
        page = self.ask(who, "GET", path)
        if page.status_code != 200:
            return {}
        found = {}
        for tag in re.findall(r"<input[^>]*>", page.text):
            given = {n: unescape(v) for n, v in re.findall(r'([\w-]+)="([^"]*)"', tag)}
            ticked = given.get("type") not in ("checkbox", "radio") or " checked" in tag
            if "name" in given and given.get("type") not in ("file", "search") and ticked:
                found[given["name"]] = given.get("value", "")
        for name, inner in re.findall(r'<textarea[^>]* name="([^"]*)"[^>]*>([^<]*)<', page.text):
            found[name] = unescape(inner)
        for name, inner in re.findall(
            r'<select[^>]* name="([^"]*)".*?>(.*?)</select>', page.text, re.S
        ):
            chosen = re.search(r'value="([^"]*)" selected', inner)
            found[name] = unescape(chosen[1]) if chosen else ""
        return found

    def check(self) -> None:
        """Every stored row keeps every declaration, and its page can be shown."""
        with self.app.flask.test_request_context():
            session = self.app.module("kit.database").session()
            for model in self.app.schema:
                row_class = self.app.row_class(model)
                for row in session.query(row_class).all():
                    entry = self.app.form(model).of(row)
                    for name, one in entry.form.fields.items():
                        # Uploads are read from notes alone; what is related keeps itself.
                        if not hasattr(one, "held_by") and not hasattr(one, "target"):
                            one.read(entry.typed[name])
                    page = self.app.module("kit.links").row_url(row)
                    if page and getattr(row, "removed_at", None) is None:
                        assert self.ask(0, "GET", page).status_code in (200, 404, 410), page
            self.app.module("kit.database").close()
        with self.app.database() as database:
            everything = {model.name for model in self.app.schema}
            verifier = Verifier(database, self.app.schema, "UTC")
            verifier._before = {}
            assert not [b.rule.text for b in verifier.broken(everything, everything)]


def copied(database: Database, *, back: bool) -> None:
    """Keeps the rows of all tables on a server in others beside them, or brings them `back`."""
    names = sorted(n for n in database.table_names() if not n.startswith(("first_", "welbik_mig")))
    off = "SET session_replication_role = replica"
    database.run(off if database.word == "postgresql" else "SET foreign_key_checks = 0")
    for name in names:
        if back:
            database.run(f'DELETE FROM "{name}"')
            database.run(f'INSERT INTO "{name}" SELECT * FROM "first_{name}"')
        else:
            database.run(f'CREATE TABLE "first_{name}" AS SELECT * FROM "{name}"')


@contextmanager
def site(text: str, on: str = "sqlite") -> Iterator[Site]:
    with application(text, rows=4, on=on) as app:
        first = app.root / "first.db" if on == "sqlite" else None
        if first is not None:
            shutil.copy(app.root / "bees.db", first)
        else:
            with app.database() as database:
                copied(database, back=False)
        names = [m.name for model in app.schema for m in model.everything]
        names += [f"{a}-{n}-{i.name}" for model in app.schema for f in model.fields if f.shape
                  for i in f.shape.fields for n in (0, 1) for a in (f.name,)]  # fmt: skip
        paths = [str(rule) for rule in app.flask.url_map.iter_rules()]
        app.flask.config["PROPAGATE_EXCEPTIONS"] = False
        found = Site(app, names, paths, first)
        handler = logging.StreamHandler(found.log)
        handler.setFormatter(app.module("kit.logs").Lines(reading=False))
        app.flask.logger.handlers = [handler]
        app.flask.logger.propagate = False
        found.measure()
        yield found


class Requests:
    """What is drawn of a site: paths, names and values, and requests made of them."""

    def __init__(self, site: Site) -> None:
        self.site = site
        words = [m.name for model in site.app.schema for m in model.members]
        self.value = st.one_of(st.sampled_from(ODD), st.sampled_from(words), st.text(max_size=12))
        plain = st.sampled_from([*site.names, *OWN])
        self.name = st.one_of(plain, st.builds("{}{}".format, plain, st.sampled_from(ENDS)))
        # No server lets a line's end through in a header.
        odd = [one for one in ODD if one.isascii() and one.isprintable() and len(one) < 9_000]
        self.header = st.sampled_from(odd)
        self.pairs = st.lists(st.tuples(self.name, self.value), max_size=6)
        self.path = st.sampled_from(site.paths).flatmap(self._filled)

    def _filled(self, rule: str) -> st.SearchStrategy[str]:
        holes = re.findall(r"<[^>]*>", rule)
        part = st.one_of(st.sampled_from(["1", "2", "3", *ODD]).filter(bool), self._parts())
        return st.tuples(*(part for _ in holes)).map(lambda found: _put(rule, holes, found))

    def _parts(self) -> st.SearchStrategy[str]:
        found = []
        with self.site.app.flask.test_request_context():
            session = self.site.app.module("kit.database").session()
            for model in self.site.app.schema:
                rows = session.query(self.site.app.row_class(model)).limit(3)
                found += [str(row.url_part) for row in rows]
            self.site.app.module("kit.database").close()
        return st.sampled_from(found)

    def step(self, draw: Any) -> None:
        who = draw(st.integers(0, 1))
        kind = draw(st.sampled_from(["get", "get", "post", "form", "form", "many", "race"]))
        getattr(self, f"_{kind}")(draw, who)

    def _get(self, draw: Any, who: int) -> None:
        method = draw(st.sampled_from(["GET", "GET", "GET", "HEAD", "OPTIONS", "PUT", "DELETE"]))
        headers = draw(st.dictionaries(st.sampled_from(HEADERS), self.header, max_size=2))
        query = _query(draw(self.pairs))
        self.site.ask(who, method, draw(self.path), query_string=query, headers=headers)

    def _post(self, draw: Any, who: int) -> None:
        """A form of nothing but odd names, in every way that forms are sent."""
        token = draw(st.sampled_from([f"visitor {who}", f"visitor {who}", "another", ""]))
        data: list[Any] = [*draw(self.pairs), ("_token", token)]
        way = draw(st.sampled_from(["urlencoded", "multipart", "json", "raw", "chunked"]))
        path = draw(self.path)
        if way == "json":
            self.site.ask(who, "POST", path, json=dict(data))
        elif way == "chunked":
            # A body whose length is not said.
            sent = "&".join(f"{quote(n)}={quote(v)}" for n, v in data).encode()
            self.site.ask(who, "POST", path, input_stream=io.BytesIO(sent), content_type="application/x-www-form-urlencoded", environ_overrides={"wsgi.input_terminated": True})  # fmt: skip
        elif way == "raw":
            body = draw(st.binary(max_size=60))
            kind = draw(st.sampled_from(["multipart/form-data; boundary=x", "multipart/form-data", "application/x-www-form-urlencoded", "text/plain", ""]))  # fmt: skip
            self.site.ask(who, "POST", path, data=b"--x\r\n" * draw(st.integers(0, 3)) + body, content_type=kind)  # fmt: skip
        else:
            kind = (
                "multipart/form-data" if way == "multipart" else "application/x-www-form-urlencoded"
            )
            form = _form(data)
            if way == "multipart":
                name = draw(self.name)
                form[name] = (io.BytesIO(draw(st.binary(max_size=90))), draw(self.value) or "x.png")
            self.site.ask(who, "POST", path, data=form, content_type=kind)

    def _form(self, draw: Any, who: int) -> None:
        """A real form with a few of its values made odd."""
        path = draw(self.path.filter(lambda p: p.endswith(("/new", "/edit", "/remove", "/bin"))))
        form: dict[str, Any] = self.site.form(who, path)
        for _ in range(draw(st.integers(0, 3))):
            name = draw(st.sampled_from([*form, *self.site.names]))
            form[name] = draw(self.value)
        self.site.ask(who, "POST", path, data=form | {"_token": f"visitor {who}"})

    def _many(self, draw: Any, who: int) -> None:
        """Out of all proportion: very many names, or very many values of one."""
        count = draw(st.sampled_from([300, 1_900, 2_500, 40_000]))
        name, value = draw(self.name), draw(st.sampled_from(["1", "", "x", str(2**40)]))
        several = draw(st.booleans())
        data = {name: [value] * count} if several else {f"{name}{n}": value for n in range(count)}
        self.site.ask(who, "POST", draw(self.path), data=data | {"_token": f"visitor {who}"})

    def _race(self, draw: Any, who: int) -> None:
        """Both open a form; the other saves first: what that stored is not lost unseen."""
        app = self.site.app
        models = [m for m in app.schema if "edit" in m.pages and app.schema.owner_of(m) is None]
        model: Model = draw(st.sampled_from(models))
        path = f"/{model.url}/{draw(self._parts())}/edit"
        mine, theirs = self.site.form(who, path), self.site.form(1 - who, path)
        fields = [f.name for f in model.fields if f.name in mine and f.kind.word in ("text", "integer", "date")]  # fmt: skip
        if not mine or not fields:
            return
        name = draw(st.sampled_from(fields))
        theirs[name] = draw(st.sampled_from(["Another text", "7", "2025-05-05", "12"]))
        theirs["_token"], mine["_token"] = f"visitor {1 - who}", f"visitor {who}"
        if self.site.ask(1 - who, "POST", path, data=theirs).status_code != 303:
            return
        stored = self.site.form(who, path).get(name)
        if stored == mine[name]:
            return
        mine[draw(st.sampled_from(fields))] = draw(self.value)
        saved = self.site.ask(who, "POST", path, data=mine)
        now = self.site.form(who, path).get(name)
        assert saved.status_code != 303 or now == stored, (path, name, stored, now)


def _put(rule: str, holes: list[str], found: tuple[str, ...]) -> str:
    for hole, text in zip(holes, found, strict=True):
        rule = rule.replace(hole, quote(text, safe=""), 1)
    return rule


def _query(pairs: list[tuple[str, str]]) -> str:
    return "&".join(f"{quote(n)}={quote(v[:3_000])}" for n, v in pairs)


def _form(pairs: list[tuple[str, Any]]) -> dict[str, Any]:
    found: dict[str, Any] = {}
    for name, value in pairs:
        found.setdefault(name, []).append(value)
    return found


WHOLE = (Path(__file__).parent / "projects" / "whole-language.welbik").read_text("utf-8")
