"""Finds words of the project's early dialect in what people read: texts of the program, the guide, and the documents.

Usage: python tools/check_words.py
Prints each place, and exits with 1 where there is one. CONTRIBUTING.md says how texts are worded.
"""

from __future__ import annotations

import ast
import re
import sys
from collections.abc import Iterator
from pathlib import Path

ROOT = Path(__file__).resolve().parent.parent
DIALECT = re.compile(
    r"\b(reckon\w*|vouch\w*|anew|mend(?:s|ed|ing)?|kills?|killed|dies|died|deaths?|bowls?|stale|wild|woes?|awry|"
    r"legs?|stand-ins?|tells?|told|untold|nobody|gave|unproven|in hand|so many-th|lone|alike|"
    r"(?:stands?|stood) (?:on|at|in|there|here|as|where|before|behind|beside|for|still|out|alone|twice|free|clear)|"
    r"goes by|worth keeping|sharp-eyed|what is none|rests? on|played|playing|"
    r"plays?(?= (?:the|it|every|each|N|a|again)\b))\b",
    re.IGNORECASE,
)
PLAIN = re.compile(
    r"display|player|FITS|unproven_|\"unproven\"|legs\.agree|told_|still serve|`unproven`|'unproven'|"
    r"standard|clearly|\*unproven\*|^stand in$",
)
"""What a line may contain that only looks like the dialect."""
SHOWN = ("src/wyntaxis",)
PAGES = (
    "README.md",
    "CONTRIBUTING.md",
    "CHANGELOG.md",
    "docs",
    "docs/guide",
    "docs/guide/steps",
    "docs/guide/paths",
    "docs/guide/reference",
)
IDS = re.compile(r"^[a-z0-9_.:\-/\[\]{}=%]*$")
"""Ids, keys and paths, which nobody reads as words."""


def texts_of(path: Path) -> Iterator[tuple[int, str]]:
    """Yield the strings of a module that are no docstrings, each with its line."""
    tree = ast.parse(path.read_text("utf-8"))
    docstrings = {
        id(node.value)
        for node in ast.walk(tree)
        if isinstance(node, ast.Expr) and isinstance(node.value, ast.Constant) and isinstance(node.value.value, str)
    }
    for node in ast.walk(tree):
        if isinstance(node, ast.Constant) and isinstance(node.value, str) and id(node) not in docstrings:
            yield node.lineno, node.value


def pages() -> Iterator[Path]:
    """Yield the documents that people read."""
    for name in PAGES:
        path = ROOT / name
        yield from sorted(path.glob("*.md")) if path.is_dir() else (path,)


def findings() -> Iterator[str]:
    """Yield each place with a word of the dialect."""
    for folder in SHOWN:
        for path in sorted((ROOT / folder).rglob("*.py")):
            for line, text in texts_of(path):
                words = DIALECT.findall(PLAIN.sub("", text))
                if words and not IDS.match(text):
                    yield f"{path.relative_to(ROOT)}:{line}: {', '.join(words)}: {text.strip()[:110]}"
    for path in pages():
        for line, text in enumerate(path.read_text("utf-8").splitlines(), start=1):
            words = DIALECT.findall(PLAIN.sub("", text))
            if words:
                yield f"{path.relative_to(ROOT)}:{line}: {', '.join(words)}: {text.strip()[:110]}"


def main() -> int:
    """Print what was found, and return the exit code."""
    found = list(findings())
    print("\n".join(found))
    return 1 if found else 0


if __name__ == "__main__":
    sys.exit(main())
