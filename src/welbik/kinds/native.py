"""A database's own types: which kind of type each is, and how it holds values of ours."""

from __future__ import annotations

import re
from collections.abc import Mapping

_FAMILIES = {
    "whole": "tinyint smallint mediumint int integer bigint int2 int4 int8 serial bigserial "
    "smallserial year number",
    "floating": "real float double float4 float8",
    "exact": "decimal numeric dec fixed",
    "text": "varchar text tinytext mediumtext longtext nvarchar varchar2 clob char nchar "
    "character bpchar string name citext",
    "moment": "datetime timestamp smalldatetime",
    "zoned": "timestamptz",
    "date": "date",
    "time": "time",
    "truth": "boolean bool",
    "bits": "bit varbit",
    "bytes": "blob tinyblob mediumblob longblob binary varbinary bytea image",
    "uuid": "uuid uniqueidentifier",
    "json": "json jsonb",
}
_FAMILY = {word: family for family, words in _FAMILIES.items() for word in words.split()}


def family(native: str) -> str:
    """What kind of type a database's own type is, by its first word; empty where it is unknown.

    Texts that a database fills up with blanks are `padded`.
    """
    said = native.lower()
    word = re.match(r"[a-z0-9_]*", said)
    found = _FAMILY.get(word[0] if word else "", "")
    if found in ("moment", "time") and "with time zone" in said:
        return "zoned" if found == "moment" else ""
    if said.endswith("[]"):
        return ""
    if re.match(r"(char|character|bpchar|nchar)\b(?! *varying)", said):
        return "padded"
    return found


_FORMS: Mapping[tuple[str, str], str] = {
    ("boolean", "whole"): "flag",
    ("boolean", "exact"): "flag",
    ("boolean", "floating"): "flag",
    ("boolean", "bits"): "bits",
    ("integer", "bytes"): "size",
    ("timestamp", "whole"): "seconds",
    ("timestamp", "floating"): "seconds",
    ("timestamp", "exact"): "seconds",
    ("timestamp", "zoned"): "zoned",
    ("timestamp", "text"): "iso",
    ("timestamp", "padded"): "iso",
    ("timestamp", "moment"): "iso",
    ("date", "text"): "iso",
    ("date", "padded"): "iso",
    ("date", "date"): "iso",
    ("date", "whole"): "seconds",
    ("decimal", "floating"): "plain",
    ("decimal", "exact"): "plain",
    ("decimal", "whole"): "plain",
    ("decimal", "text"): "plain",
    ("uuid", "text"): "dashed",
    ("uuid", "padded"): "dashed",
    ("uuid", "uuid"): "dashed",
    ("text", "text"): "",
    ("text", "padded"): "padded",
    ("text", "bits"): "digits",
    ("double", "exact"): "",
}


def form(type_: str, native: str) -> str:
    """How a database's own type holds values of a neutral one."""
    word, kind = type_.split()[0], family(native)
    if word == "text":
        return _FORMS.get((word, kind), "told")
    return _FORMS.get((word, kind), "")


_SAFE = re.compile(r"[A-Za-z\"][\w \".]*(\(\s*\d+(\s*,\s*\d+)?\s*\))?[\w ]*(\[\])*")
_LISTED = re.compile(r"(enum|set)\('([^']|'')*'(,\s*'([^']|'')*')*\)", re.IGNORECASE)


def is_type(native: str) -> bool:
    """Whether a text can be a database's type, and nothing else that statements are made of."""
    return bool(_SAFE.fullmatch(native) or _LISTED.fullmatch(native))


_EXTENDED = "citext"
"""A text that heeds no capitals, where somebody has installed it."""


def is_built_in(native: str) -> bool:
    """Whether every database of its kind has a type, and not only one where somebody made it."""
    return bool(family(native)) and bool(_SAFE.fullmatch(native)) and native.lower() != _EXTENDED
