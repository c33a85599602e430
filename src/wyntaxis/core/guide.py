"""The guide that is shipped with the application: its pages, where something is told, and a search of its words."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass
from functools import lru_cache
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.files.errors import InputError

if TYPE_CHECKING:
    from wyntaxis.core.findings.finding import Finding
    from wyntaxis.core.steps import Step

FOLDER = Path(__file__).parent.parent / "assets" / "guide"
FIRST_PAGE = "index"
NOT_BUILT = "the guide is not there; in a copy of the source it is built by: make docs"
AROUND = 70
"""Characters of a hit's words that are shown on either side."""
_BODY = re.compile(r"<!-- page -->(.*)<!-- end of page -->", re.DOTALL)


@dataclass(frozen=True)
class Place:
    """A page of the guide, and a section of it; its top where that is empty."""

    page: str
    section: str = ""


@dataclass(frozen=True)
class Hit:
    """A section that holds what was searched for, and its words around that."""

    place: Place
    title: str
    words: str


def page_html(page: str) -> str:
    """Return what a page says, as HTML without its frame.

    Parameters
    ----------
    page
        Its name, such as ``steps/scales``.

    Returns
    -------
    str
        HTML whose links and pictures are relative to the page.

    Raises
    ------
    InputError
        In one line, where there is no such page, or the guide was not built.
    """
    path = FOLDER / f"{page}.html"
    if not re.fullmatch(r"[\w-]+(/[\w-]+)*", page) or not path.is_file():
        raise InputError(f"the guide has no page {page}" if (FOLDER / "search.json").is_file() else NOT_BUILT)
    found = _BODY.search(path.read_text("utf-8"))
    return found[1] if found else ""


def place_of_step(step: Step) -> Place:
    """Return where a step is told."""
    return Place(f"steps/{step.key}")


def place_of_finding(finding: Finding) -> Place:
    """Return where a finding is told."""
    return Place("reference/findings", f"finding.{finding.id}")


def why_of(finding: Finding) -> str:
    """Return why a finding matters, as the guide says it; empty where it says nothing, or was not built."""
    return _reasons(FOLDER).get(place_of_finding(finding).section, "")


@lru_cache(maxsize=1)
def _reasons(folder: Path) -> dict[str, str]:
    try:
        entries = _sections(folder)
    except InputError:
        return {}
    found = {}
    for entry in entries:
        _before, why, words = entry["words"].partition("Why: ")
        if why and entry["place"].startswith("finding."):
            text = words.partition("Do: ")[0].strip()
            found[entry["place"]] = f"{text[:1].upper()}{text[1:]}"
    return found


@lru_cache(maxsize=1)
def _sections(folder: Path) -> tuple[dict[str, str], ...]:
    path = folder / "search.json"
    if not path.is_file():
        raise InputError(NOT_BUILT)
    return tuple(json.loads(path.read_text("utf-8")))


def search(text: str, most: int = 40) -> list[Hit]:
    """Return the sections that hold every word of a text, those first whose titles do.

    Parameters
    ----------
    text
        Words, or beginnings of words; capitals do not count.
    most
        How many are returned at the most.

    Returns
    -------
    list of Hit
        The best first; none for an empty text.

    Raises
    ------
    InputError
        In one line, where the guide was not built.
    """
    wanted = [re.compile(rf"(?<!\w){re.escape(word)}", re.IGNORECASE) for word in text.split()]
    found = []
    for order, entry in enumerate(_sections(FOLDER)):
        whole = f"{entry['title']} {entry['words']}"
        if not wanted or not all(word.search(whole) for word in wanted):
            continue
        in_title = sum(bool(word.search(entry["title"])) for word in wanted)
        often = sum(len(word.findall(whole)) for word in wanted)
        place = Place(entry["page"], entry["place"])
        found.append((-in_title, -often, order, Hit(place, entry["title"], _around(entry["words"], wanted[0]))))
    return [hit for *_, hit in sorted(found, key=lambda one: one[:3])[:most]]


def _around(words: str, wanted: re.Pattern[str]) -> str:
    found = wanted.search(words)
    at = found.start() if found else 0
    start = max(0, at - AROUND)
    cut = words[start : at + AROUND]
    return f"{'… ' if start else ''}{cut}{' …' if at + AROUND < len(words) else ''}"
