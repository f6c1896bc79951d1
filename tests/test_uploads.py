"""Uploads: what they are, whose they are, how long they stay, and what is kept of them."""

from __future__ import annotations

import io
import os
import re
import time
from collections.abc import Iterator
from typing import Any

import pytest
from hypothesis import Phase, given, settings
from hypothesis import strategies as st
from loaded import Application, application, ask, kit_module
from PIL import Image, PngImagePlugin

PAPERS = """\
model Paper
    name    text 1..40, required
    scan    file up to 200 KB of pdf, txt
    plan    file up to 1 KB
    photo   image up to 4 MB
    logo    image up to 20 KB of png
seed
    2 Paper
"""
PDF = b"%PDF-1.4\n%%EOF\n"
FORMATS = ["png", "jpeg", "gif", "webp"]
images = kit_module("images")
PLACE = b"51.4778 N 0.0015 W"


@pytest.fixture
def app() -> Iterator[Application]:
    with application(PAPERS) as app:
        yield app


def _files(app: Application) -> list[str]:
    return [p.name for p in (app.root / "instance" / "files").glob("*") if len(p.name) == 64]


def _waiting(app: Application) -> list[Any]:
    return list((app.root / "instance" / "files" / "waiting").glob("*/*"))


def _note(app: Application, field: str, data: bytes, name: str) -> str:
    """What the form holds of an upload while something else of it is wrong."""
    answer = app.post("/papers/new", {"name": "", field: (io.BytesIO(data), name)})
    found = re.search(rf'type="hidden" name="{field}" value="([^"]+)"', answer.text)
    assert answer.status_code == 422 and found, answer.text
    return found[1]


def _problem(answer: Any, field: str) -> str:
    found = re.search(rf'id="{field}-problem"[^>]*>([^<]*)', answer.text)
    return found[1] if found else ""


def picture(kind: str, size: tuple[int, int] = (8, 6), turned: int = 1) -> bytes:
    """An image that tells where it was taken, in every way that its format has."""
    out = io.BytesIO()
    image = Image.effect_noise(size, 60).convert("P" if kind == "gif" else "RGB")
    exif = Image.Exif()
    exif[0x0112], exif[0x010E], exif[0x8298] = turned, PLACE.decode(), PLACE.decode()
    more: dict[str, Any] = {"exif": exif} if kind != "gif" else {}
    if kind == "png":
        told = PngImagePlugin.PngInfo()
        told.add_text("Location", PLACE.decode())
        more["pnginfo"] = told
    if kind in ("gif", "jpeg"):
        more["comment"] = PLACE
    if kind == "webp":
        more["xmp"] = b"<x:xmpmeta>" + PLACE
    image.save(out, kind, **more)
    assert PLACE in out.getvalue()
    return out.getvalue()


@pytest.mark.parametrize("kind", FORMATS)
def test_a_photo_keeps_its_pixels_and_tells_no_place(app: Application, kind: str) -> None:
    data = picture(kind, turned=6)
    sent = {"name": "x", "photo": (io.BytesIO(data), f"x.{kind}")}
    assert app.post("/papers/new", sent).status_code == 303
    (digest,) = _files(app)
    kept = (app.root / "instance" / "files" / digest).read_bytes()
    assert PLACE not in kept
    before, after = Image.open(io.BytesIO(data)), Image.open(io.BytesIO(kept))
    assert (after.format, after.size) == (before.format, before.size)
    assert after.convert("RGB").tobytes() == before.convert("RGB").tobytes()
    if kind == "jpeg":
        assert after.getexif()[0x0112] == 6


@given(st.sampled_from(FORMATS), st.integers(0, 400), st.binary(max_size=12), st.booleans())
@settings(max_examples=200, phases=[Phase.explicit, Phase.generate])
def test_a_damaged_image_is_refused_or_read(kind: str, at: int, more: bytes, cut: bool) -> None:
    data = picture(kind)
    damaged = data[:at] if cut else data[:at] + more + data[at + len(more) :]
    try:
        found = images.read(damaged)
    except ValueError:
        return
    assert found.type in FORMATS and len(found.data) <= len(damaged) + 100
    assert images.read(found.data)[:3] == found[:3]


def test_an_image_of_more_pixels_than_a_screen_can_hold_is_refused(app: Application) -> None:
    small = picture("png")
    huge = small[:16] + (50_000).to_bytes(4, "big") * 2 + small[24:]
    answer = app.post("/papers/new", {"name": "x", "photo": (io.BytesIO(huge), "x.png")})
    assert "50 million pixels" in _problem(answer, "photo") and not _waiting(app)


@pytest.mark.parametrize(
    ("field", "name", "data", "said"),
    [
        ("scan", "x.pdf", b"MZ\x90\0 a program", "something else"),
        ("scan", "x.txt", b"\x7fELF\x02\x01\x01\0\0", "something else"),
        ("scan", "x.exe", PDF, "Only these"),
        ("logo", "x.png", b"<svg onload=alert(1)>", "no image"),
        ("plan", "x.dat", b"x" * 1001, "At most"),
    ],
)
def test_bytes_must_be_what_the_name_says(
    app: Application, field: str, name: str, data: bytes, said: str
) -> None:
    answer = app.post("/papers/new", {"name": "x", field: (io.BytesIO(data), name)})
    assert answer.status_code == 422 and said in _problem(answer, field)
    assert not _files(app) and not _waiting(app)


def test_a_note_is_good_for_its_field_its_visitor_and_a_day(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    note = _note(app, "plan", b"MZ a program", "x.exe")
    for other in ("scan", "photo", "logo"):
        refused = app.post("/papers/new", {"name": "x", other: note})
        assert _problem(refused, other) == "Choose the file again."
    stranger = app.flask.test_client()
    with stranger.session_transaction() as kept:
        kept["token"] = "another"
    sent = {"name": "x", "plan": note, "_token": "another"}
    assert _problem(stranger.post("/papers/new", data=sent), "plan") == "Choose the file again."
    (waiting,) = _waiting(app)
    address = f"/files/{waiting.name}/exe/x.exe"
    assert (app.client.get(address).status_code, stranger.get(address).status_code) == (200, 404)
    now = time.time()
    monkeypatch.setattr(time, "time", lambda: now + 25 * 3600)
    assert "again" in _problem(app.post("/papers/new", {"name": "x", "plan": note}), "plan")
    monkeypatch.undo()
    assert app.post("/papers/new", {"name": "x", "plan": note}).status_code == 303
    assert _files(app) == [waiting.name] and stranger.get(address).status_code == 200


def test_what_one_row_has_is_not_claimed_for_another(app: Application) -> None:
    made = app.post("/papers/new", {"name": "x", "plan": (io.BytesIO(b"mine"), "x.txt")}).location
    page = app.client.get(f"{made}/edit").text
    told = re.search(r'type="hidden" name="plan" value="([^"]+)"', page)
    assert told
    plain = told[1].replace("&#34;", '"')
    assert _problem(app.post("/papers/new", {"name": "y", "plan": plain}), "plan")
    assert app.change(f"{made}/edit", {"name": "z", "plan": plain}).status_code == 303
    assert ask(app, "SELECT count(*) FROM paper WHERE plan LIKE '%x.txt%'") == 1
    for odd in ("[1,2,3,4]", '["a",1,"b","c"]', "[[[", "[" * 90_000, '["a",1e999,"b","c"]'):
        assert _problem(app.change(f"{made}/edit", {"name": "z", "plan": odd}), "plan")


def test_an_answer_with_an_upload_is_for_its_visitor_alone(app: Application) -> None:
    app.post("/papers/new", {"name": "x", "plan": (io.BytesIO(b"mine"), "x.txt")})
    answer = app.client.get(f"/files/{_files(app)[0]}/txt/x.txt")
    assert answer.cache_control.private and "sandbox" in answer.headers["Content-Security-Policy"]


def test_a_visitor_has_some_uploads_waiting_and_no_more(
    app: Application, monkeypatch: pytest.MonkeyPatch
) -> None:
    for number in range(45):
        _note(app, "plan", f"{number}".encode(), "x.txt")
    assert len(_waiting(app)) == 40
    shelf = app.module("kit.uploads")._WAITING
    object.__setattr__(shelf, "all_bytes", 3)
    _note(app, "plan", b"a", "x.txt")
    assert len(_waiting(app)) <= 4


def test_what_no_row_has_any_more_goes_after_a_while(app: Application) -> None:
    for name in ("one", "two"):
        data = (io.BytesIO(name.encode()), "x.txt")
        assert app.post("/papers/new", {"name": name, "plan": data}).status_code == 303
    folder = app.root / "instance" / "files"
    for name in _files(app):
        os.utime(folder / name, (time.time() - 3 * 86_400,) * 2)
    (folder / "swept").unlink()
    row = ask(app, "SELECT id FROM paper WHERE name = 'two'")
    assert len(_files(app)) == 2
    assert app.agree(f"/papers/{row}/remove").status_code == 303
    assert len(_files(app)) == 1


def test_a_list_shows_uploads_of_related_rows() -> None:
    copies = "number integer, required\n    shelf -> Shelf\n    paper -> Paper\n    list number, paper.photo"
    text = f"{PAPERS}model Copy\n    {copies}\nmodel Shelf\n    name text 40\n    copies <- Copy.shelf\n"
    with application(text) as app:
        photo = {"name": "One", "photo": (io.BytesIO(picture("png")), "one.png")}
        app.post("/papers/new", photo)
        app.post("/shelves/new", {"name": "Top"})
        app.post("/copies/new", {"number": "1", "paper": "1", "shelf": "1"})
        for path in ("/copies", "/shelves/1"):
            page = app.client.get(path).text
            assert re.search(r'<td data-label="Photo">\s*<a[^>]*href="[^"]*/files/', page), page
