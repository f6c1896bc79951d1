"""How many rows a fill makes: the usual numbers, and those of other profiles."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

from ..language import syntax
from ..language.diagnostics import Report
from .model import Model
from .relations import unknown_model


def resolve_seeds(
    files: Sequence[syntax.File], models: Mapping[str, Model], report: Report
) -> tuple[dict[str, int], dict[str, dict[str, int]]]:
    """The counts of the usual seed, and of every profile by its name."""
    usual: dict[str, int] = {}
    profiles: dict[str, dict[str, int]] = {}
    first: dict[str, syntax.Seed] = {}
    for seed in (seed for file in files for seed in file.seeds):
        name = seed.name.text if seed.name else ""
        if name in first:
            what = f"two 'seed {name}' blocks" if name else "two 'seed' blocks"
            report.add(
                "said-twice",
                f"there are {what}",
                seed.span,
                "keep one, or give it a name of its own: seed load",
                (("the first", first[name].span),),
            )
            continue
        first[name] = seed
        counts = _counts(seed, models, report)
        if name:
            profiles[name] = counts
        else:
            usual = counts
    return usual, profiles


def _counts(seed: syntax.Seed, models: Mapping[str, Model], report: Report) -> dict[str, int]:
    found: dict[str, int] = {}
    for count in seed.counts:
        name = count.model.text
        if name not in models:
            unknown_model(count.model, models, report)
        elif name in found:
            report.add(
                "said-twice", f"{name} is counted twice", count.model.span, "keep one of the two"
            )
        else:
            found[name] = count.number
    return found
