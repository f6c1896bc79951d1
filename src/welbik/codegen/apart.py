"""Names of models kept out of the way of all other names in the generated code.

A model may be called like a class of a library, a constant of the kit or a word of Python. Where
a module would give one name two meanings, the model's class gets an underscore, which no model's
own name has; its table, its pages and its words stay as they are.
"""

from __future__ import annotations

import ast
import builtins
import keyword
import re
from collections.abc import Callable, Iterator, Mapping
from dataclasses import fields, is_dataclass, replace
from functools import cache
from importlib.resources import files
from typing import Any

from ..schema.model import Model, Schema
from .made import Files

_CODE = ("codegen", "blueprint/per_model", "blueprint/per_project", "blueprint/per_project/tests")
# The members that hold the name of a model, in the schema and in expressions.
_NAMING = {"model", "target", "child", "owner"}


def kept_apart(schema: Schema, made: Callable[[Schema], Files]) -> Files:
    """The files made of a schema, in which no model's class meets another of its name."""
    words = {name for name in schema.models if keyword.iskeyword(name)}
    schema = renamed(schema, words) if words else schema
    found = made(schema)
    suspects = {name for name in schema.models if name.isupper() or name in _words()}
    if not suspects:
        return found
    met = set().union(*(_met(text, suspects) for path, text in found.items() if _is_made(path)))
    return made(renamed(schema, met)) if met else found


def declared(name: str) -> str:
    """The name of a model by that of its class."""
    return name.rstrip("_")


def renamed(schema: Schema, which: set[str]) -> Schema:
    """The schema with an underscore behind the names of some models."""
    names = {name: f"{name}_" if name in which else name for name in schema.models}
    models = {names[model.name]: _model(model, names) for model in schema}
    return replace(
        schema,
        models=models,
        seed={names[name]: count for name, count in schema.seed.items()},
        rows={names[name]: rows for name, rows in schema.rows.items()},
    )


def _model(model: Model, names: Mapping[str, str]) -> Model:
    changed: Model = _copy(model, names)
    return replace(changed, name=names[model.name])


def _copy(value: Any, names: Mapping[str, str]) -> Any:
    """A part of a schema in which models are called by their new names."""
    if isinstance(value, tuple) and not hasattr(value, "_fields"):
        return tuple(_copy(one, names) for one in value)
    if hasattr(value, "_fields"):
        held = {name: getattr(value, name) for name in value._fields}
        return value._replace(**_changes(held, names))
    if is_dataclass(value) and not isinstance(value, type):
        changes = _changes({f.name: getattr(value, f.name) for f in fields(value)}, names)
        return replace(value, **changes) if changes else value
    return value


def _changes(held: Mapping[str, Any], names: Mapping[str, str]) -> dict[str, Any]:
    found = {}
    for name, value in held.items():
        if isinstance(value, str):
            new: Any = names.get(value, value) if name in _NAMING else value
        else:
            new = _copy(value, names)
        if new is not value:
            found[name] = new
    return found


@cache
def _words() -> frozenset[str]:
    """All words that a model could be called by, in what the code is made of."""
    found = {name for name in dir(builtins) if name[0].isupper()}
    for folder in _CODE:
        for file in files("welbik").joinpath(folder).iterdir():
            if file.name.endswith((".py", ".jinja")):
                found |= set(re.findall(r"\b[A-Z][A-Za-z0-9]*\b", file.read_text("utf-8")))
    return frozenset(found)


def _is_made(path: str) -> bool:
    return path.endswith(".py") and "/kit/" not in path


def _met(text: str, suspects: set[str]) -> set[str]:
    """The suspects that a module gives two meanings, or takes from Python itself."""
    bound = [name for name in _bound(ast.parse(text)) if name in suspects]
    return {name for name in bound if bound.count(name) > 1 or hasattr(builtins, name)}


def _bound(tree: ast.AST) -> Iterator[str]:
    """Every place of a module where a name gets a meaning."""
    for node in ast.walk(tree):
        if isinstance(node, ast.Import | ast.ImportFrom):
            yield from (alias.asname or alias.name for alias in node.names)
        elif isinstance(node, ast.ClassDef | ast.FunctionDef):
            yield node.name
        elif isinstance(node, ast.Name) and isinstance(node.ctx, ast.Store):
            yield node.id
        elif isinstance(node, ast.arg):
            yield node.arg
