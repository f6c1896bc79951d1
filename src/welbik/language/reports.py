"""Problems for other programs: plain JSON, and SARIF 2.1.0 (OASIS Standard, 2020)."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from .catalogue import CATALOGUE
from .diagnostics import Edit, Problem
from .source import Span

_SCHEMA = "https://docs.oasis-open.org/sarif/sarif/v2.1.0/os/schemas/sarif-schema-2.1.0.json"


def _place(span: Span) -> dict[str, Any]:
    line, column = span.place
    end_line, end_column = span.source.place(span.end)
    return {
        "file": span.source.name,
        "line": line,
        "column": column,
        "end_line": end_line,
        "end_column": end_column,
    }


def as_json(problems: Sequence[Problem]) -> list[dict[str, Any]]:
    """Each problem as plain values; lines and columns are counted from 1, in characters."""
    return [
        {
            "code": problem.code,
            "message": problem.message,
            "remedy": problem.remedy,
            **_place(problem.span),
            "related": [{"message": words, **_place(span)} for words, span in problem.related],
            "edits": [{**_place(edit.span), "text": edit.text} for edit in problem.edits],
        }
        for problem in problems
    ]


def _location(span: Span) -> dict[str, Any]:
    return {
        "physicalLocation": {
            "artifactLocation": {"uri": span.source.name, "uriBaseId": "PROJECT"},
            "region": _region(span),
        }
    }


def _region(span: Span) -> dict[str, int]:
    line, column = span.place
    end_line, end_column = span.source.place(span.end)
    return {
        "startLine": line,
        "startColumn": column,
        "endLine": end_line,
        "endColumn": end_column,
    }


def _fix(problem: Problem) -> dict[str, Any]:
    files: dict[str, list[Edit]] = {}
    for edit in problem.edits:
        files.setdefault(edit.span.source.name, []).append(edit)
    return {
        "description": {"text": problem.remedy or problem.message},
        "artifactChanges": [
            {
                "artifactLocation": {"uri": name, "uriBaseId": "PROJECT"},
                "replacements": [
                    {"deletedRegion": _region(e.span), "insertedContent": {"text": e.text}}
                    for e in edits
                ],
            }
            for name, edits in files.items()
        ],
    }


def as_sarif(problems: Sequence[Problem], version: str) -> dict[str, Any]:
    """A SARIF log with one run: a rule for each code that occurs, a result for each problem."""
    codes = sorted({problem.code for problem in problems})
    results = []
    for problem in problems:
        text = f"{problem.message}. {problem.remedy}".strip() if problem.remedy else problem.message
        result: dict[str, Any] = {
            "ruleId": problem.code,
            "ruleIndex": codes.index(problem.code),
            "level": "error",
            "message": {"text": text},
            "locations": [_location(problem.span)],
        }
        if problem.related:
            result["relatedLocations"] = [
                {"id": n, "message": {"text": words}, **_location(span)}
                for n, (words, span) in enumerate(problem.related)
            ]
        if problem.edits:
            result["fixes"] = [_fix(problem)]
        results.append(result)
    driver = {
        "name": "welbik",
        "semanticVersion": version,
        "rules": [
            {"id": code, "shortDescription": {"text": CATALOGUE[code].about}} for code in codes
        ],
    }
    run = {"tool": {"driver": driver}, "columnKind": "unicodeCodePoints", "results": results}
    return {"$schema": _SCHEMA, "version": "2.1.0", "runs": [run]}


def explained(code: str) -> str:
    """What a code means, with the wrong and the right way, as text."""
    entry = CATALOGUE[code]
    return (
        f"{code}: {entry.about}\n\nWrong:\n\n{_indented(entry.wrong)}\n\n"
        f"Right:\n\n{_indented(entry.right)}\n"
    )


def _indented(text: str) -> str:
    shown = "".join(c if c.isprintable() or c in "\n\t" else "\ufffd" for c in text)
    return "\n".join(f"    {line}".rstrip() for line in shown.rstrip().splitlines())


def as_markdown() -> str:
    """The page of all problems."""
    parts = [
        "# Problems\n\nEverything `welbik check` can find, by its code. The same is shown by "
        "`welbik check --explain CODE`. This page is made by `make docs`.\n"
    ]
    for code, entry in sorted(CATALOGUE.items()):
        wrong, right = _indented(entry.wrong), _indented(entry.right)
        parts.append(f"## {code}\n\n{entry.about}\n\nWrong:\n\n{wrong}\n\nRight:\n\n{right}\n")
    return "\n".join(parts)
