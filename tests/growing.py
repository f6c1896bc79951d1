"""Declarations of a few lines whose meaning doubles with each: what a hostile author would send."""

from __future__ import annotations


def _model(*lines: str, name: str = "Hive") -> str:
    return f"model {name}\n" + "".join(f"    {line}\n" for line in lines) + "\n"


def _chain(first: str, step: str, count: int, type_: str = "integer") -> str:
    lines = [f"c0 {type_} = {first}"]
    lines += [f"c{n} {type_} = " + step.replace("@", f"c{n - 1}") for n in range(1, count)]
    return _model("v integer 0..9, required", "t text 20, required, unique", *lines)


def _shown(count: int, text: str) -> str:
    models = [_model("name text 20, required", 'shown as "{name}"', name="M0")]
    for n in range(1, count):
        models.append(_model(f"r -> M{n - 1}, required", f'shown as "{text}"', name=f"M{n}"))
    return "".join(models)


def _parents(count: int) -> str:
    """Each model reads a computed field of its parent twice."""
    models = [_model("v integer 0..9, required", "c integer = v + v", name="M0")]
    for n in range(1, count):
        models.append(
            _model(
                f"r -> M{n - 1}, required", "c integer = r.c + r.c", f"name{n} text 9", name=f"M{n}"
            )
        )
    return "".join(models)


def _children(count: int) -> str:
    """Each model sums what its children sum, twice."""
    models = []
    for n in range(count):
        last = n == count - 1
        more = [f"rows <- M{n + 1}.up", "c integer = sum(rows.c) + sum(rows.c)"]
        lines = ["v integer 0..9, required", "c integer = v + v"] if last else more
        lines += [f"up -> M{n - 1}, required"] if n else []
        models.append(_model("name text 20, required", *lines, name=f"M{n}"))
    return "".join(models)


def _rules(count: int, deep: int = 12) -> str:
    computed = _chain("v", "@ + @", deep).rstrip("\n")
    return computed + "\n" + "".join(f"    rule c{deep - 1} < {n + 99_999}\n" for n in range(count))


NESTED = "a"
for _ in range(40):
    NESTED = f"({NESTED}{{1,40}})"
CHOICE = "(a|b)" * 4
for _ in range(6):
    CHOICE = f"({CHOICE}|{CHOICE})"

SHAPES: dict[str, str] = {
    "many rules": _rules(60, 9),
    "rules of a part": "part P\n    v integer 0..9\n" + "".join(f"    rule v * v * v < {n}\n" for n in range(900, 1_000))
    + _model("ps list of P") + "seed\n    3 Hive\n",
    "near the limit": _chain("v + v", "@ + @", 9) + "seed\n    3 Hive\n",
    "many rules near the limit": _rules(8, 9),
    "product near the limit": _chain("v + 1", "@ * @", 9) + "seed\n    3 Hive\n",
    "shown near the limit": _shown(5, "{r}{r}"),
    "sum": _chain("v + v", "@ + @", 40),
    "product": _chain("v + 1", "@ * @", 40),
    "text": _chain("t", "@ || @", 40, "text"),
    "choice": _chain("v", "least(@, @, @)", 40),
    "logic": _chain("v > 3", "(@ and @) or @", 40, "boolean"),
    "deep": _chain("v", "@ + 1", 900),
    "brackets": _model("v integer", "c integer = " + "(" * 3_000 + "v" + ")" * 3_000),
    "signs": _model("v integer", "c integer = " + "-" * 3_000 + "v"),
    "long": _model("v integer", "c integer = " + " + ".join(["v"] * 5_000)),
    "ors": _model("v integer", "rule " + " or ".join(f"v = {n}" for n in range(5_000))),
    "parents": _parents(30),
    "children": _children(24),
    "rules": _rules(200),
    "shown": _shown(30, "{r}{r}"),
    "shown thrice": _shown(24, "{r} of {r}, {r}"),
    "words": _model("about text, required, sample words(1..999999999)") + "seed\n    3 Hive\n",
    "sentences": _model("about text, required, sample sentences(999999999..999999999)") + "seed\n    3 Hive\n",
    "length": _model("about text 900000000..999999999, required") + "seed\n    3 Hive\n",
    "nested pattern": _model(f'code text, required, matches "{NESTED}"') + "seed\n    3 Hive\n",
    "choices in a pattern": _model(f'code text, required, matches "{CHOICE}"') + "seed\n    3 Hive\n",
    "days": _model("day date, required, sample within(999999999999 days)") + "seed\n    3 Hive\n",
    "digits": _model(f"v integer 0..{'9' * 5_000}", f"c integer = {'9' * 5_000}"),
    "places": _model("v decimal 0..9, places 999999999", "d decimal 0..1e999999999"),
    "decimals": _model(f"v decimal 0.{'0' * 5_000}..1"),
    "long name": _model(f'v integer, label "{"x" * 900_000}"'),
    "repeat": _model('code text 9, matches "a{1,999999999}"'),
    "fan-out": _model("a <- Bee.hive")
    + _model("hive -> Hive, required, sample 1..999999999 per hive", name="Bee")
    + "seed\n    3 Hive\n    9 Bee\n",
    "part": "part P\n    v integer\n" + "".join(f"    rule v * v * v < {n}\n" for n in range(900, 1_500))
    + _model("ps list of P"),
}  # fmt: skip
