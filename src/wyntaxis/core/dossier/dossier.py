"""The dossier: its chapters, in order, made from a rig."""

from __future__ import annotations

import csv
import datetime
import io
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

from wyntaxis.core.dossier import rest_chapter, rig_chapters, state_chapters, work_chapters
from wyntaxis.core.dossier.blocks import Block, Chapter, Lines, Photo, Picture, Table, Words
from wyntaxis.core.dossier.dossier_input import DossierInput
from wyntaxis.core.dossier.private import Secrets, scrubbed, scrubbed_markup, without_private
from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.history.states import RigHistory
from wyntaxis.core.rehearsal.kind import REHEARSAL, Rehearsal, rehearse


@dataclass(frozen=True)
class ChapterKind:
    """A chapter that a dossier may have; ``pages`` begins each of its tables on a page of its own."""

    key: str
    title: str
    make: Callable[[DossierInput], Iterator[Block]]
    pages: bool = False


CHAPTERS: tuple[ChapterKind, ...] = (
    ChapterKind("glance", "At a glance", rig_chapters.glance),
    ChapterKind("light_path", "Light path", rig_chapters.light_path),
    ChapterKind("wiring", "Wiring and devices", rig_chapters.wiring),
    ChapterKind("settings", "Settings", rig_chapters.settings),
    ChapterKind("filters", "Filters", rig_chapters.filters),
    ChapterKind("numbers", "Numbers and their evidence", state_chapters.numbers),
    ChapterKind("findings", "Findings", state_chapters.findings),
    ChapterKind("conditions", "Conditions of the night", state_chapters.conditions),
    ChapterKind("curves", "Curves", state_chapters.curves),
    ChapterKind("measured", "Measured from files", state_chapters.measured),
    ChapterKind("frames", "Calibration frames that serve", state_chapters.frames_that_serve),
    ChapterKind("plan", "Plan of the night", rig_chapters.night_plan),
    ChapterKind("site", "Site and horizon", rig_chapters.site),
    ChapterKind("typing", "What to type where", work_chapters.typing, pages=True),
    ChapterKind("rebuild", "Rebuilding from scratch", work_chapters.rebuild),
    ChapterKind("packing", "Packing and reassembly", work_chapters.packing),
    ChapterKind("incidents", "Incidents", work_chapters.incidents),
    ChapterKind("rest", "Everything else on file", rest_chapter.rest),
    ChapterKind("history", "History", state_chapters.history),
    ChapterKind("photographs", "Photographs", work_chapters.photographs),
)
"""Every chapter, in order."""


@dataclass(frozen=True)
class Dossier:
    """A dossier: what rig it is of, when it was made, and its chapters."""

    rig: str
    made: str
    chapters: tuple[Chapter, ...]
    private: bool = False


def chosen(keys: Sequence[str] | None) -> tuple[ChapterKind, ...]:
    """Return the chapters of some keys, in order; all for None.

    Raises
    ------
    InputError
        For a key that no chapter has, or none at all.
    """
    if keys is None:
        return CHAPTERS
    known = {kind.key for kind in CHAPTERS}
    strange = next((key for key in keys if key not in known), None)
    if strange is not None:
        raise InputError(f"there is no chapter “{strange[:40]}”; there are: {', '.join(sorted(known))}")
    if not keys:
        raise InputError("choose at least one chapter")
    return tuple(kind for kind in CHAPTERS if kind.key in keys)


def dossier_of(
    given: DossierInput, keys: Sequence[str] | None = None, watch: Callable[[int, int], None] = lambda _a, _b: None
) -> Dossier:
    """Return the dossier of a rig.

    Parameters
    ----------
    given
        What it is made from; a private one is made from the rig without site, serial numbers and hosts.
    keys
        Which chapters; all by default.
    watch
        Told of chapters made and to make; may cancel.

    Returns
    -------
    Dossier
        A chapter that has nothing to tell is left out.
    """
    secrets = Secrets()
    if given.private:
        rig, secrets = without_private(given.evaluation.rig)
        # Neither the history nor what was looked at besides is known to hold nothing private.
        given = replace(given, evaluation=evaluate(rig), history=RigHistory(), folder=None, photos="named")
    if any(kind.key in ("findings", "conditions") for kind in chosen(keys)):
        given = _with_the_night(given, watch)
    made, kinds = [], [kind for kind in chosen(keys) if not (given.private and kind.key in ("site", "history"))]
    for place, kind in enumerate(kinds):
        watch(place, len(kinds))
        blocks = tuple(block for block in kind.make(given) if _tells(block))
        if blocks:
            made.append(Chapter(kind.key, kind.title, blocks, kind.pages))
    watch(len(kinds), len(kinds))
    found = Dossier(given.evaluation.rig.name, given.today.isoformat(), tuple(made), given.private)
    return _scrubbed(found, secrets) if given.private else found


_nights: dict[tuple[str, datetime.date], Rehearsal] = {}
"""The night played last, by the rig's document and the day: one prints more than once."""


def _with_the_night(given: DossierInput, watch: Callable[[int, int], None]) -> DossierInput:
    """Return the input with a rehearsal of its plan, which the night findings need, unless it has one already."""
    evaluation = given.evaluation
    plan = evaluation.rig.plan
    if plan is None or not plan.steps or evaluation.evidence.of(REHEARSAL) is not None:
        return given
    key = (evaluation.rig.model_dump_json(), given.today)
    night = _nights.get(key)
    if night is None:
        night = rehearse(evaluation.rig, watch=watch)
        _nights.clear()
        _nights[key] = night
    evidence = evaluation.evidence.having(REHEARSAL, night)
    return replace(given, evaluation=evaluate(evaluation.rig, evidence, given.shelf))


def _tells(block: Block) -> bool:
    """Return whether a block has anything to tell."""
    if isinstance(block, Table):
        return bool(block.rows)
    return bool(block.lines) if isinstance(block, Lines) else True


def _scrubbed(found: Dossier, secrets: Secrets) -> Dossier:
    """Return a dossier in which no text holds a private one."""

    def text(words: str) -> str:
        return scrubbed(words, secrets)

    def block(own: Block) -> Block:
        match own:
            case Table():
                rows = tuple(tuple(text(cell) for cell in row) for row in own.rows)
                return replace(own, rows=rows, title=text(own.title))
            case Picture():
                return Picture(scrubbed_markup(own.markup, secrets), text(own.caption))
            case Lines():
                return replace(own, lines=tuple(text(line) for line in own.lines), title=text(own.title))
            case Words():
                return Words(text(own.text), text(own.title))
            case Photo():
                return Photo(text(own.file), text(own.caption), own.data)

    chapters = tuple(replace(own, blocks=tuple(block(b) for b in own.blocks)) for own in found.chapters)
    return replace(found, rig=text(found.rig), chapters=chapters)


def as_csv(found: Dossier) -> str:
    """Return every table and list of a dossier as CSV: chapter, table, then its cells; headings first."""
    out = io.StringIO()
    writer = csv.writer(out, lineterminator="\n")
    for chapter in found.chapters:
        for block in chapter.blocks:
            if isinstance(block, Table):
                for row in (block.headings, *block.rows):
                    writer.writerow([chapter.title, block.title, *(_cell(cell) for cell in row)])
            elif isinstance(block, Lines):
                for line in block.lines:
                    writer.writerow([chapter.title, block.title, _cell(line)])
            elif isinstance(block, Words):
                writer.writerow([chapter.title, block.title, _cell(block.text)])
    return out.getvalue()


def _cell(text: str) -> str:
    """Return a cell that no spreadsheet takes for a formula, with nothing in it that turns a line round."""
    text = plain(text, keep="\n")
    return f"'{text}" if text[:1] in ("=", "+", "@", "\t") else text
