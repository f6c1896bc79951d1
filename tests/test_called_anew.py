"""Tables and columns come to be called otherwise: what is known of made-up and fixed rows goes with them."""

from __future__ import annotations

from conftest import Project

SHOP = """\
model Stall
    name   text 2..40, required, unique
    size   integer 1..90, sample 50% empty
    wares  <- Ware.stall
model Ware
    stall  -> Stall, required
    word   text 2..30, required
    weight decimal 0.1..9.0, sample 40% empty
rows Stall
    name   | size
    "One"  | 1
    "Two"  | 2
seed
    30 Stall
    80 Ware
"""


def _called_anew(shop: Project) -> None:
    path = "models/bees.welbik"
    shop.replace(path, "model Stall\n", "model Booth\n    was Stall\n")
    shop.replace(path, "-> Stall", "-> Booth")
    shop.replace(path, "rows Stall", "rows Booth")
    shop.replace(path, "30 Stall", "30 Booth")
    shop.replace(path, "size   integer 1..90,", "wide   integer 1..90, was size,")
    shop.replace(path, "| size\n", "| wide\n")
    shop.replace(path, "weight decimal 0.1..9.0,", "mass decimal 0.1..9.0, was weight,")


def test_what_is_known_of_rows_goes_with_their_table(shop: Project) -> None:
    shop.run("fill")
    shop.sql(
        "DELETE FROM ware WHERE stall_id IN (SELECT id FROM stall WHERE name = 'Two')",
        "DELETE FROM stall WHERE name = 'Two'",
        "INSERT INTO stall (name, size) VALUES ('Mine', NULL)",
    )
    wares = shop.sql("SELECT id, word, weight FROM ware ORDER BY id")
    stalls = shop.sql("SELECT id, name, size FROM stall ORDER BY id")
    _called_anew(shop)
    shop.run("migrate")
    # Nothing of it is new: what is empty stays so, and who took a fixed row away need not do it again.
    told = shop.run("fill").stdout
    assert "got what is new" not in told and "Two was removed by somebody" in told
    assert shop.sql("SELECT id, word, mass FROM ware ORDER BY id")[: len(wares)] == wares
    assert shop.sql("SELECT id, name, wide FROM booth ORDER BY id")[: len(stalls)] == stalls
    shop.run("fill", "--replace", "--yes")
    assert shop.sql("SELECT name, wide FROM booth WHERE name IN ('Mine', 'Two')") == [
        ("Mine", None)
    ]
    # Made-up rows are known as such: all of them went, and as many came.
    first = shop.sql("SELECT min(id), count(*) FROM ware")[0]
    assert first[0] > max(number for number, *_ in wares) and first[1] == 80
    made = shop.sql("SELECT * FROM ware ORDER BY id")
    shop.run("migrate", "--undo")
    assert shop.sql("SELECT * FROM ware ORDER BY id") == made
    shop.run("migrate")
    assert "Nothing to add" in shop.run("fill").stdout
    assert shop.sql("SELECT * FROM ware ORDER BY id") == made


def test_what_went_is_not_known_when_it_comes_again(shop: Project) -> None:
    shop.run("fill")
    path = "models/bees.welbik"
    # Of what another field tells nothing is new; what went and came again is.
    shop.replace(
        path,
        "    weight decimal 0.1..9.0, sample 40% empty\n",
        "    grams integer 1..9000, was round(weight * 1000)\n",
    )
    shop.replace(path, "    word   text 2..30, required\n", "")
    shop.run("migrate", "--allow-loss")
    empty = "SELECT count(*) FROM ware WHERE grams IS NULL"
    before = shop.sql(empty)
    assert "Nothing to add" in shop.run("fill").stdout and shop.sql(empty) == before
    assert before[0][0] > 15
    shop.replace(path, "    grams ", "    word   text 2..30, sample 0% empty\n    grams ")
    shop.run("migrate")
    assert "80 made-up rows of Ware got what is new" in shop.run("fill").stdout
    # A table that comes again has nobody's rows but people's.
    ware = shop.read(path)[
        shop.read(path).index("model Ware") : shop.read(path).index("rows Stall")
    ]
    kept = shop.read(path)
    shop.declare(
        kept.replace(ware, "")
        .replace("    wares  <- Ware.stall\n", "")
        .replace("    80 Ware\n", "")
    )
    shop.run("migrate", "--allow-loss")
    shop.declare(kept.replace("80 Ware", "5 Ware"))
    shop.run("migrate")
    shop.sql("INSERT INTO ware (stall_id, word) SELECT min(id), 'Mine' FROM stall")
    shop.run("fill")
    shop.run("fill", "--replace", "--yes")
    assert shop.sql("SELECT count(*) FROM ware WHERE word = 'Mine'") == [(1,)]
    assert shop.sql("SELECT count(*) FROM ware") == [(5,)]
