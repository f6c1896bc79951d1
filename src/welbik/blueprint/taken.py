"""Names that the generated application has of its own: what is declared so gets an underscore."""

from __future__ import annotations

ATTRIBUTES = frozenset(
    {
        *(
            "self",
            "metadata",
            "registry",
            "in_order",
            "url_part",
            "classmethod",
            "property",
        ),
        *("int", "str", "bool", "float", "list", "dict", "uuid", "re"),
        *("dt", "sa", "orm", "columns", "clock", "show", "logic", "uploads"),
        *("mapped_column", "relationship", "column_property"),
    }
)
"""What a table's class has of its own, and names that its body uses."""

FOLDERS = frozenset({"kit", "look", "settings", "models", "fingerprint"})
"""What lies beside the folders of models."""

TESTS = frozenset({"kit", "start", "tables"})
"""What is tested besides models."""

FACTORIES = frozenset(
    {
        *("store", "session", "path", "again", "all", "keys", "added", "held", "told"),
        *("found", "meeting"),
        *(
            "told_by_name",
            "whole",
            "several",
            "fitting",
            "factories",
            "broken",
            "find",
            "worked_out",
            "alone",
            "address",
        ),
        # What its methods are told to take and give.
        *("list", "dict", "tuple", "str", "int", "bool", "bytes", "type", "typing"),
    }
)
"""What the maker of rows for tests has of its own."""

BEFORE_FACTORIES, AFTER_FACTORIES = (
    ("new_", "type_", "typed_", "broken_", "edge_"),
    ("_like", "_beside", "_at"),
)
"""What it puts before and after the name of a model, for other ways to make its rows."""
