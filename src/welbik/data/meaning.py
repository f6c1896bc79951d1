"""What a text field is likely to hold, told from its name and the model around it."""

from __future__ import annotations

from dataclasses import dataclass, replace

from ..kinds.phone import Phone
from ..kinds.text import POOLS
from ..schema.model import Field, Model
from ..schema.names import words

_PEOPLE = {
    *(
        "person",
        "keeper",
        "member",
        "user",
        "customer",
        "client",
        "author",
        "owner",
        "contact",
        "employee",
    ),
    *(
        "teacher",
        "student",
        "patient",
        "doctor",
        "driver",
        "guest",
        "tenant",
        "volunteer",
        "player",
        "artist",
    ),
    *(
        "reader",
        "visitor",
        "editor",
        "manager",
        "agent",
        "worker",
        "applicant",
        "candidate",
        "speaker",
        "child",
    ),
}
_PLACES = {
    *(
        "apiary",
        "site",
        "place",
        "town",
        "city",
        "village",
        "branch",
        "location",
        "venue",
        "station",
        "region",
    ),
    *("district", "garden", "farm", "field", "park", "depot", "area"),
}
_COMPANIES = {
    "company",
    "supplier",
    "organisation",
    "organization",
    "employer",
    "firm",
    "vendor",
    "publisher",
    "shop",
}


_EMAIL = 64
"""As long as a made-up address may be: forty letters of a name, a number and a domain."""


@dataclass(frozen=True, slots=True)
class Meaning:
    """A pool of `wordlists`, or a pattern, or a number of sentences from and to.

    `whose` tells people of one row apart, `why` says that a text gives a reason.
    """

    pool: str = "words"
    pattern: str = ""
    sentences: tuple[int, int] | None = None
    whose: str = ""
    why: bool = False

    @property
    def plain(self) -> bool:
        """Whether it is of a list whose texts are words and blanks alone."""
        pools = ("town", "thing", "title", "words", "colour", "company")
        return self.pool in pools and not self.pattern and self.sentences is None


_BY_NAME = {
    **dict.fromkeys(
        ("first_name", "given_name", "given", "forename", "nickname", "nick"), Meaning("given_name")
    ),
    **dict.fromkeys(("last_name", "family_name", "surname"), Meaning("family_name")),
    **dict.fromkeys(("full_name", "contact_name", "person"), Meaning("person")),
    **dict.fromkeys(("username", "user_name", "login", "handle", "account_name"), Meaning("user")),
    **dict.fromkeys(("email", "e_mail", "mail", "email_address"), Meaning("email")),
    **dict.fromkeys(("town", "city", "village", "place", "birthplace"), Meaning("town")),
    **dict.fromkeys(("street", "address", "address_line"), Meaning("street")),
    **dict.fromkeys(tuple(_COMPANIES), Meaning("company")),
    **dict.fromkeys(("country", "nationality"), Meaning("country")),
    **dict.fromkeys(("colour", "color"), Meaning("colour")),
    **dict.fromkeys(("title", "subject", "headline", "heading"), Meaning("title")),
    # 01632 960000 to 960999 is a range that no telephone has.
    **dict.fromkeys(
        ("phone", "telephone", "mobile", "tel", "fax"), Meaning(pattern="01632 960[0-9]{3}")
    ),
    **dict.fromkeys(
        ("website", "homepage", "link", "url"),
        Meaning(pattern="https://[a-z]{5,9}\\.example\\.org"),
    ),
    **dict.fromkeys(
        ("postcode", "postal_code", "zip", "zip_code"), Meaning(pattern="[1-9][0-9]{4}")
    ),
    **dict.fromkeys(
        ("code", "ref", "reference", "sku", "number", "mark", "serial"),
        Meaning(pattern="[A-Z]{2}-[0-9]{4}"),
    ),
    **dict.fromkeys(("reason", "why", "cause", "grounds"), Meaning(sentences=(1, 1), why=True)),
    **dict.fromkeys(("summary", "remark"), Meaning(sentences=(1, 1))),
    **dict.fromkeys(
        ("notes", "note", "description", "comment", "comments", "body", "text", "advice"),
        Meaning(sentences=(1, 3)),
    ),
}


def is_person(model: Model, field: Field) -> bool:
    """Whether a text field holds the whole name of a person."""
    if field.name in ("full_name", "person", "contact_name"):
        return True
    if field.name != "name":
        return False
    return _last(model.name) in _PEOPLE or _are_people(model)


def _are_people(model: Model) -> bool:
    """Whether rows of a model are people, as far as its fields tell."""
    if _last(model.name) in _COMPANIES | _PLACES:
        return False
    called = any(isinstance(field.kind, Phone) for field in model.fields)
    born = any(set(words(field.name)) & BORN for field in model.fields)
    # A trailer has no telephone, and neither has a terrier.
    does = _last(model.name).endswith(("er", "or", "ist", "ee"))
    told = called and (born or does)
    return told or any(field.kind.tells_people for field in model.fields)


def _last(name: str) -> str:
    return words(name)[-1]


def _known(name: str) -> Meaning | None:
    found = _BY_NAME.get(name) or _BY_NAME.get(name.rsplit("_", 1)[-1])
    return found if not name.endswith("_name") or name in _BY_NAME else None


def _holds_email(field: Field) -> bool:
    """Whether any made-up address fits in a text field."""
    longest, shortest = getattr(field.kind, "longest", None), getattr(field.kind, "shortest", 1)
    return (longest is None or longest >= _EMAIL) and shortest <= len("a@example.org")


def meaning_of(model: Model, field: Field) -> Meaning:
    """The meaning of a text field: as `sample` says, else the likeliest."""
    found = _said(field) or _meaning(model, field)
    if found.pool == "email" and not _holds_email(field):
        return Meaning()
    if found.pool in ("person", "given_name", "family_name", "user"):
        return replace(found, whose=_whose(field.name))
    return found


def _said(field: Field) -> Meaning | None:
    for term in field.sample:
        if term.word in POOLS:
            return Meaning(term.word)
        if term.word == "sentences":
            given = term.arguments[0]
            low, high = given if isinstance(given, tuple) else (given, given)
            return Meaning(sentences=(int(low), int(high)))
    return None


def _whose(name: str) -> str:
    """Whose name a field holds: what stands before it, and nothing for the row's own."""
    own = {
        *("name", "full", "first", "last", "given", "family", "surname", "forename", "person"),
        *("user", "username", "login", "handle", "account", "nickname"),
    }
    return " ".join(word for word in words(name) if word not in own)


def _meaning(model: Model, field: Field) -> Meaning:
    if is_person(model, field):
        return Meaning("person")
    longest = getattr(field.kind, "longest", None)
    known = _known(field.name)
    if longest is None or longest > 255:
        return known if known is not None and known.sentences else Meaning(sentences=(1, 3))
    if known is not None:
        return known
    if words(field.name)[-1] in _PEOPLE:
        return Meaning("person")
    if field.name == "name" or field.name.endswith("_name"):
        about = _last(model.name) if field.name == "name" else words(field.name)[-2]
        if about in _PEOPLE:
            return Meaning("person")
        if about in _PLACES:
            return Meaning("town")
        return Meaning("company") if about in _COMPANIES else Meaning("thing")
    return Meaning("words")


BORN = frozenset(("born", "birth", "birthday", "birthdate", "dob"))
_YOUNG = {"child", "pupil", "student", "kid", "toddler", "learner"}
_WORK = {
    *("visit", "visited", "held", "appointment", "meeting", "call", "called", "session"),
    *("booked", "booking", "inspected", "inspection", "shift", "interview", "lesson", "consulted"),
    *("examined", "treated", "admitted", "discharged", "invoiced", "ordered", "shipped", "signed"),
}
_PRICES = {
    *("price", "cost", "fee", "fare", "rent", "charge", "deposit", "tariff", "rate", "budget"),
    *("paid", "fine", "bill", "toll"),
}
_ORDERS = (
    (("opened", "opens", "opening"), ("closed", "closes", "closing")),
    (
        ("started", "starts", "start", "begun", "begins", "begin", "began", "from", "since"),
        ("ended", "ends", "end", "finished", "finishes", "finish", "until", "till", "to"),
    ),
    (("created", "made", "written", "added"), ("changed", "updated", "modified", "edited")),
    (("ordered", "placed"), ("paid", "packed", "shipped", "sent", "delivered", "received")),
    (("shipped", "sent"), ("delivered", "received", "arrived")),
    (("joined", "hired", "enrolled", "entered"), ("left", "resigned", "retired", "dismissed")),
    (("born", "birth", "hatched"), ("died", "death", "joined", "hired", "retired")),
    (("issued", "invoiced", "billed"), ("due", "paid")),
    (("borrowed", "lent", "loaned", "rented"), ("due", "returned")),
    (("reported", "raised", "found"), ("solved", "resolved", "fixed", "closed")),
    (("admitted", "arrived", "arrival"), ("discharged", "departed", "departure")),
    (("planted", "sown"), ("harvested", "picked")),
    (("bought", "purchased", "acquired"), ("sold", "scrapped", "disposed")),
    (("published",), ("withdrawn", "retracted")),
    (("low", "least", "min", "minimum", "smallest"), ("high", "most", "max", "maximum", "largest")),
)
"""Words of names whose values come in this order: the first ones before those of the second."""


def ages_of(model: Model) -> tuple[int, int]:
    """The least and the greatest age of what a model's rows stand for, in years."""
    last = _last(model.name)
    if last in _YOUNG:
        return 4, 19
    people = last in _PEOPLE or _are_people(model)
    return (18, 80) if people else (0, 15)


def is_coordinate(name: str) -> bool:
    """Whether a number is a latitude or a longitude."""
    return bool(set(words(name)) & {"latitude", "longitude", "lat", "lon", "lng", "long"})


def is_latitude(name: str) -> bool:
    return bool(set(words(name)) & {"latitude", "lat"})


def is_price(name: str) -> bool:
    """Whether a field holds what something costs."""
    return bool(set(words(name)) & _PRICES)


def is_work(name: str) -> bool:
    """Whether a moment lies within working hours."""
    return bool(set(words(name)) & _WORK)


def natural_orders(names: list[str]) -> list[tuple[str, str]]:
    """Pairs of names whose values come one before the other: `opened` and `closed`."""
    found = []
    for befores, afters in _ORDERS:
        for first in names:
            for second in names:
                if first != second and _follows(first, second, befores, afters):
                    found.append((first, second))
    return found


def _follows(first: str, second: str, befores: tuple[str, ...], afters: tuple[str, ...]) -> bool:
    """Whether two names differ in one word alone, an earlier and a later one."""
    one, other = words(first), words(second)
    ahead, after = set(one) & set(befores), set(other) & set(afters)
    rest = (
        [word for word in one if word not in ahead],
        [word for word in other if word not in after],
    )
    return bool(ahead and after) and rest[0] == rest[1]
