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
from dataclasses import replace
from functools import cache
from importlib.resources import files

from ..schema.model import Model, Schema
from ..schema.naming import told_otherwise
from .made import Files

_CODE = ("codegen", "blueprint/per_model", "blueprint/per_project", "blueprint/per_project/tests")


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
    changed: Model = told_otherwise(model, names)
    return replace(changed, name=names[model.name])


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
