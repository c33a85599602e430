"""What a dossier is made from: the rig evaluated, its history, the shelf, and what to leave out."""

from __future__ import annotations

import datetime
from dataclasses import dataclass, field
from functools import cached_property
from pathlib import Path
from typing import Literal

from wyntaxis.core.differences.differences import changed_last
from wyntaxis.core.dossier.blocks import MARKS
from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.files.errors import path_text
from wyntaxis.core.history.entries import Entry
from wyntaxis.core.history.states import RigHistory
from wyntaxis.core.ledger import Quantity, Verdict
from wyntaxis.core.quantities.rows import is_judged
from wyntaxis.core.rig.shelf import ShelfPart

PhotoForm = Literal["embedded", "named"]


@dataclass(frozen=True)
class Why:
    """Why a value is what it is, and since when."""

    reason: str = ""
    date: str = ""


@dataclass(frozen=True)
class DossierInput:
    """Everything that chapters are made from.

    ``folder`` is where the rig file lies, for its photographs; ``private`` leaves out site, serial numbers and hosts.
    """

    evaluation: Evaluation
    history: RigHistory = field(default_factory=RigHistory)
    shelf: tuple[ShelfPart, ...] = ()
    folder: Path | None = None
    private: bool = False
    photos: PhotoForm = "embedded"
    today: datetime.date = field(default_factory=lambda: datetime.datetime.now(datetime.UTC).date())

    @staticmethod
    def mark(verdict: Verdict) -> str:
        """Return a verdict as a shape and a word."""
        return MARKS[str(verdict)]

    @staticmethod
    def is_judged(row: Quantity) -> bool:
        """Return whether a number claims anything."""
        return is_judged(row)

    def age_of(self, date: str | None) -> str:
        """Return how long ago something was measured, in days; empty where nobody noted when."""
        try:
            then = datetime.datetime.fromisoformat(date or "").date()
        except ValueError:
            return ""
        days = (self.today - then).days
        return "today" if days == 0 else "1 day" if days == 1 else f"{days} days"

    def reason_of(self, device: str, key: str) -> Why:
        """Return why a device's setting is what it is: as noted at the value, else as its last save says."""
        places = {own.id: place for place, own in enumerate(self.evaluation.rig.devices)}
        reported = self.evaluation.rig.sources.get(path_text(("devices", places[device], "settings", key, "value")))
        entry = self._saves.get((device, key))
        saved = Why(entry.reason or "", entry.date) if entry is not None else Why()
        if reported is None:
            return saved
        words = "; ".join(text for text in (reported.reason, reported.source) if text)
        return Why(words or saved.reason, reported.date or saved.date)

    @cached_property
    def _saves(self) -> dict[tuple[str, str], Entry | None]:
        """By device and setting the save that changed it last."""
        keys = [(own.id, key) for own in self.evaluation.rig.devices for key in own.settings]
        if not self.history.entries:
            return {}
        named = [("devices", device, "settings", key, "value") for device, key in keys]
        return dict(zip(keys, changed_last(self.history, named), strict=True))
