"""What some frames say of a rig, value by value, and what is asked where they disagree or say nothing likely."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from pathlib import Path

from wyntaxis.core.drafting.rig_draft import RigDraft, commonest
from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.files.camera_raw import is_raw
from wyntaxis.core.files.errors import path_text
from wyntaxis.core.json_values import JsonValue
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.wording import short

RECORD = ("frames", "frames' headers")
CHANGING = 2
"""What changes from frame to frame by itself is told with its commonest values, at most this many beside."""


class Reported:
    """What some frames tell, value by value."""

    def __init__(self, book: RigDraft, frames: Sequence[FrameHeader]) -> None:
        self.book, self.frames = book, frames

    def of(
        self, read: Callable[[FrameHeader], JsonValue], frames: Iterable[FrameHeader] | None = None
    ) -> list[JsonValue]:
        """Return the distinct values: value, count, file; the commonest first."""
        entries = [(read(frame), frame.path) for frame in (self.frames if frames is None else frames)]
        return commonest([(value, path) for value, path in entries if value is not None])

    def fixed(self, path: DocumentPath, keyword: str, found: list[JsonValue], key: str = "") -> None:
        """Give a value that a rig has once; another that frames tell too is kept against it."""
        if not found:
            return
        (value, count, file), *rest = found
        more = f", in {count} of {count + sum(n for _, n, _ in rest)} frames" if rest else ""
        taken = self.book.give(path, value, f"{card_of(keyword, file)}{more}")
        against = rest if taken else found
        if against and key:
            self.book.differs(*RECORD, key, against[0][0])
        for other, number, where in against[:CHANGING]:
            held = self.book.held(path)
            self.book.ask(
                f"{keyword}: {value_text(other)} in {number} frames such as {where}, not {value_text(held)}", path
            )

    def setting(
        self, at: int, key: str, keyword: str, read: Callable[[FrameHeader], JsonValue], frames: list[FrameHeader]
    ) -> None:
        """Give a setting that may change from night to night: the commonest, the others told."""
        found = self.of(read, frames)
        if not found:
            return
        (value, _, file), *rest = found
        path = ("devices", at, "settings", key, "value")
        self.book.give(path, value, card_of(keyword, file))
        if rest:
            others = ", ".join(f"{value_text(other)} in {number}" for other, number, _ in rest[:CHANGING])
            self.book.ask(f"{keyword}: {value_text(value)} is taken; the frames also hold {others}", path)


def card_of(keyword: str, file: str) -> str:
    """Return where a value of a frame stands: a body's raw file has no cards, and its values are named in words."""
    card, *value = keyword.split(" ", 1)
    if is_raw(Path(file)):
        card = _BODY_WORDS.get(card, card)
    return f"{' '.join((card, *value))} of {file}"


_BODY_WORDS = {
    "INSTRUME": "model",
    "NAXIS1": "width",
    "NAXIS2": "height",
    "GAIN": "ISO",
    "FOCALLEN": "lens’s focal length",
    "APTDIA": "lens’s focal length over its focal ratio",
}


def value_text(value: JsonValue) -> str:
    """Return a value as a question shows it: numbers as short as they are, texts as they stand."""
    return short(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else str(value)


def suppose(book: RigDraft, path: DocumentPath, entries: str, unit: str, readings: dict[str, float]) -> None:
    """Ask about a value that is no likely one, and assume the first of its readings, by the unit it would be in."""
    if not readings:
        book.ask(f"{entries} is left out: it is no likely value in {unit} or any other unit", path)
        return
    (name, own), *others = readings.items()
    value = float(f"{own:.6g}")
    if book.is_open(path):
        book.give(path, value, entries)
        book.origin.pop(path_text(path), None)
        book.mark(path)
    as_if = f"{value_text(value)} {unit} is assumed" + ("" if name == unit else f", as if it were in {name}")
    or_else = "".join(f", or {value_text(float(f'{other:.6g}'))} {unit} if it is in {more}" for more, other in others)
    book.ask(f"{entries} is no likely value in {unit}: {as_if}{or_else}; which is right?", path)
