"""How rows are shown, guessed from names and from what is stored."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Mapping

from ..schema import names as schema_names
from . import names
from .drafts import Draft, Line, quoted
from .facts import Fact
from .tables import Adoption

_NAMES = (
    "name",
    "title",
    "label",
    "caption",
    "subject",
    "headline",
    "description",
    "code",
    "sku",
    "number",
)
_ALSO = {
    **dict.fromkeys(("nom", "nombre", "nome", "naam", "namn", "navn", "nazwa"), "name"),
    **dict.fromkeys(("titel", "titre", "titulo", "titolo", "tytul"), "title"),
    **dict.fromkeys(("bezeichnung", "bez", "libelle", "etiqueta"), "label"),
    **dict.fromkeys(("nummer", "numero", "nr"), "number"),
}
"""What columns of other languages are called."""
_PEOPLE = (
    ("first_name", "last_name"),
    ("firstname", "lastname"),
    ("given_name", "family_name"),
    ("forename", "surname"),
    ("vorname", "nachname"),
    ("prenom", "nom"),
    ("nombre", "apellidos"),
    ("nombre", "apellido"),
    ("nome", "cognome"),
    ("nome", "sobrenome"),
    ("voornaam", "achternaam"),
    ("fornamn", "efternamn"),
    ("fornavn", "etternavn"),
    ("fornavn", "efternavn"),
    ("imie", "nazwisko"),
)
_SHORT = 120
_SECRET = re.compile(r"passw|pwd|hash|salt|secret|token|cipher|digest|fingerprint")
_MOST_LISTED = 6
_MOST_SEARCHED = 4
_FEW_MODELS = 12


def tell(work: Adoption) -> None:
    """Adds the clauses that say how rows of every model are shown."""
    menus = _menus(work)
    for table, draft in work.drafts.items():
        facts = work.facts.get(table, {})
        shown = _shown(draft, facts)
        if shown:
            draft.clauses.append(f"shown as {quoted(shown)}")
        listed = _listed(draft, shown)
        if listed:
            draft.clauses.append(f"list {', '.join(listed)}")
        searched = _searched(draft, shown)
        if searched:
            draft.clauses.append(f"search {', '.join(searched)}")
        if table in menus:
            draft.group = menus[table]
            draft.clauses.append(f"menu {quoted(menus[table])}")


def _is_short(line: Line) -> bool:
    """Whether it is a text of one line."""
    if line.type.startswith(("email", "slug")):
        return True
    found = re.fullmatch(r"text (?:\d+\.\.)?(\d+)", line.type)
    return int(found[1]) <= _SHORT * 4 if found else line.type == "text" and line.says("as text")


def _texts(draft: Draft) -> list[Line]:
    return [
        line
        for line in draft.lines
        if line.column
        and not line.target
        and _is_short(line)
        and not line.says("set by database")
        and not _SECRET.search(line.name)
    ]


def _shown(draft: Draft, facts: Mapping[str, Fact]) -> str:
    texts = _texts(draft)
    by_name = {line.name: line for line in texts}
    for first, last in _PEOPLE:
        pair = [next((n for n in by_name if _ends(n, word)), "") for word in (first, last)]
        if all(pair):
            return f"{{{pair[0]}}} {{{pair[1]}}}"
    own = set(schema_names.words(draft.name))
    scored = sorted(
        ((_score(line, own, facts.get(line.column, Fact())), -at, line.name))
        for at, line in enumerate(texts)
    )
    if scored and scored[-1][0] > 0:
        return f"{{{scored[-1][2]}}}"
    led = [line.name for line in draft.lines if line.target and line.says("required")]
    unique = any(line.target and line.says("unique") for line in draft.lines)
    if led and not unique:
        # Several rows lead to the same: when they were tells them apart.
        dated = [line.name for line in draft.lines if line.type.split()[0] in ("date", "datetime")]
        led = [*led, *dated[:1]] if len(led) == 1 else led
    if led:
        return " · ".join(f"{{{name}}}" for name in led[:2])
    return ""


def _ends(name: str, word: str) -> bool:
    return name == word or name.endswith(f"_{word}")


def _score(line: Line, own: set[str], fact: Fact) -> float:
    """How well a text stands for its row."""
    words = line.name.split("_")
    words[-1] = _ALSO.get(words[-1], words[-1])
    score = 0.0
    for at, word in enumerate(_NAMES):
        if words[-1] == word or line.name == word:
            score = 6 - at * 0.4
            break
    if score and set(words[:-1]) <= own:
        score += 1
    score += 1.5 * line.says("unique") + 0.8 * line.says("required")
    if fact.rows:
        # What many rows are without is no name of them.
        score -= 5 * (fact.rows - fact.given + fact.blank) / fact.rows
    if fact.given:
        score += 2 * fact.different / fact.given - 0.5
        score -= 2 * (fact.longest > _SHORT) + 2 * (fact.different == 1 and fact.given > 3)
    if re.search(
        r"(^|_)(uuid|guid|url|path|file|mime|locale|lang|currency|phone|fax|zip|postal)", line.name
    ):
        score -= 2
    return score


def _listed(draft: Draft, shown: str) -> list[str]:
    first = re.findall(r"\{(\w+)\}", shown)
    rest = [
        line.name
        for line in draft.lines
        if line.column
        and line.name not in first
        and not _SECRET.search(line.name)
        and (line.target or not line.type.startswith("text") or _is_short(line))
        and not line.says("set by database")
        and not (line.type.startswith("uuid") and line.says("unique"))
    ]
    return [*first, *rest][:_MOST_LISTED]


def _searched(draft: Draft, shown: str) -> list[str]:
    first = re.findall(r"\{(\w+)\}", shown)
    texts = [line.name for line in _texts(draft)]
    return [n for n in dict.fromkeys([*first, *texts]) if n in texts][:_MOST_SEARCHED]


def _menus(work: Adoption) -> dict[str, str]:
    """Groups of the navigation, where there are many models: by what their names begin with, and
    what is left by what it leads to, or what leads to it."""
    if len(work.drafts) <= _FEW_MODELS:
        return {}
    begins = {t: names.singular((names.words_of(t) or [t])[0]) for t in work.drafts}
    count = Counter(begins.values())
    found = {t: begins[t] for t in work.drafts if count[begins[t]] > 1}
    found |= {t: "view" for t in work.drafts if work.tables[t].view}
    near = _near(work)
    while True:
        more = {}
        for table in work.drafts.keys() - found.keys():
            groups = Counter(
                sorted(found[o] for o in near[table] if found.get(o, "view") != "view")
            )
            if groups:
                more[table] = groups.most_common(1)[0][0]
        if not more:
            break
        found |= more
    return {
        table: schema_names.plural(found[table]).capitalize() if table in found else "Other"
        for table in work.drafts
    }


def _near(work: Adoption) -> dict[str, list[str]]:
    """The tables that each leads to, or is led to from."""
    found: dict[str, list[str]] = {table: [] for table in work.drafts}
    for table, draft in work.drafts.items():
        for line in draft.lines:
            if line.target in found and line.target != table:
                found[table].append(line.target)
                found[line.target].append(table)
    return found
