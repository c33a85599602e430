"""The open rig: where it is saved, what is accepted, what is chosen. No widgets: a test drives it without a window."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import pyqtSignal

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import is_there, sha256_of
from wyntaxis.core.findings.acceptance import acceptance, withdrawal
from wyntaxis.core.findings.conditions import ConditionVerdict
from wyntaxis.core.findings.finding import Finding, subject_title
from wyntaxis.core.history import recording
from wyntaxis.core.rig import store
from wyntaxis.core.rig.blank import blank_rig
from wyntaxis.core.rig.merging import Merged, merged_documents
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.wiring import plugging
from wyntaxis.core.wording import utc_stamp
from wyntaxis.desk.edited_train import EditedTrain
from wyntaxis.desk.stock import ShelfStock

if TYPE_CHECKING:  # the night's machinery is loaded when a night is played
    from wyntaxis.core.rehearsal.outcome import NightOutcome


@dataclass(frozen=True)
class SaveWork:
    """A save to be done: of which version of the document, and what does it."""

    version: Rig
    do: Callable[[], store.Saved]


class Session(EditedTrain):
    """One open rig."""

    device_changed = pyqtSignal(str)
    saved_changed = pyqtSignal()
    night_changed = pyqtSignal()

    def __init__(
        self, rig: Rig, path: Path | None = None, sha256: str | None = None, stock: ShelfStock | None = None
    ) -> None:
        super().__init__(rig, stock)
        self.path = path
        self.sha256 = sha256
        self.stored: Rig | None = rig if path is not None else None
        """The document as the file held it when it was opened or saved here last."""
        self._chosen_finding: tuple[str, str] | None = None
        self._chosen_condition = ""
        self.night: NightOutcome | None = None
        self.next_reason = ""
        """Why the edits since the last save were made, for the history's next line."""

    @classmethod
    def opened(cls, path: Path, stock: ShelfStock | None = None, read: store.StoredRig | None = None) -> Session:
        """Return a session on a rig file, as it was ``read`` already; :class:`InputError` when it is none."""
        stored = read or store.load(path)
        return cls(stored.rig, path, stored.sha256, stock)

    @classmethod
    def new(cls, stock: ShelfStock | None = None) -> Session:
        """Return a session on a rig with no parts yet."""
        return cls(blank_rig(), stock=stock)

    def show_night(self, outcome: NightOutcome | None) -> None:
        """Show one of the nights that were played wherever the night is drawn; None for the plain one."""
        self.night = outcome
        self.night_changed.emit()

    # Saving

    def save(self, path: Path, *, protected: bool = False, reason: str | None = None) -> tuple[str, ...]:
        """Write the rig with a line in its history, and return what could not be kept of the file that was there.

        Raises
        ------
        InputError
            In one line, when the place cannot be written.
        """
        work = self.save_work(path, protected=protected, reason=reason)
        return self.take_saved(path, work.version, work.do())

    def save_work(
        self, path: Path, *, protected: bool = False, reason: str | None = None, only_as_opened: bool = False
    ) -> SaveWork:
        """Return what saves the rig as it is now, to be done in any thread; :meth:`take_saved` takes what it returns.

        Parameters
        ----------
        path
            Where.
        protected
            Whether a write-protected file may be replaced.
        reason
            Why the edits since the last save were made.
        only_as_opened
            Whether nothing is to be saved where another program has changed the file.
        """
        version, labels, reason = self.document, self.history.unsaved_labels, reason or self.next_reason
        expected = self.sha256 if only_as_opened else None
        return SaveWork(
            version,
            lambda: recording.save(version, path, labels, reason, protected=protected, expected=expected),
        )

    def take_saved(self, path: Path, version: Rig, saved: store.Saved) -> tuple[str, ...]:
        """Note that a version of the document was saved; return what could not be kept of the file that was there."""
        self.next_reason = ""
        self.sha256, self.path, self.stored = saved.sha256, path, version
        self.history.mark_saved(version)
        self.saved_changed.emit()
        return saved.notes

    def bring_together(self) -> Merged | None:
        """Take in what another program has saved into the file since it was opened, as one edit.

        Returns
        -------
        Merged or None
            What was taken; None where the two make no rig, which ``refused`` says.

        Raises
        ------
        InputError
            Where the file cannot be read.
        """
        assert self.path is not None
        theirs = store.load(self.path)
        base = store.document_of(self.stored or theirs.rig)
        found = merged_documents(base, store.document_of(self.document), store.document_of(theirs.rig))
        try:
            rig = store.validated(found.document)
        except InputError as error:
            self.refused.emit(f"the two cannot be brought together: {error}")
            return None
        self.take_back(rig, f"Take in what another program changed in {self.path.name}")
        self.sha256, self.stored = theirs.sha256, theirs.rig
        return found

    def changed_on_disk(self) -> bool:
        """Return whether the file is no longer the one that was opened or saved here."""
        return self.path is not None and is_there(self.path) and sha256_of(self.path) != self.sha256

    # Accepting

    def accept(self, reason: str) -> bool:
        """Accept the chosen finding, with a reason and today's date."""
        finding = self.chosen_finding
        return finding is not None and self.apply(acceptance(self.evaluation, finding, reason, utc_stamp()))

    def withdraw(self) -> bool:
        """Take the acceptance of the chosen finding back."""
        finding = self.chosen_finding
        return finding is not None and self.apply(withdrawal(self.rig, finding))

    def subject_of(self, finding: Finding) -> str:
        """Return what a finding's subject is called, where its title does not say it."""
        title = subject_title(self.rig, finding.subject)
        return "" if title.casefold() in finding.title.casefold() else title

    # Choosing

    def choose_part(self, part_id: str | None) -> None:
        """Choose a part, or none; the margin turns to the gravest finding about it, if there is one."""
        if part_id == self.chosen_part:
            return
        self.chosen_part = part_id
        about = [f for f in self.evaluation.findings if part_id in f.parts(self.rig)]
        if about:
            worst_verdict = max(about, key=lambda f: f.verdict.severity)
            self._chosen_finding = (worst_verdict.id, worst_verdict.subject)
        self.chosen_changed.emit()

    def choose_device(self, device_id: str) -> None:
        """Choose a device, or a supply: its card, and the gravest finding about it."""
        about = [f for f in self.evaluation.findings if f.subject == device_id]
        if about:
            self.choose_finding(max(about, key=lambda f: f.verdict.severity))
        self.device_changed.emit(device_id)

    def plug(self, device_id: str, into: str) -> bool:
        """Plug a device into a hub or the computer, or hang it, or a supply, on a supply."""
        change = plugging(self.document, device_id, into)
        if change is None:
            self.refused.emit("a line goes from a device to a hub, the computer or a supply, or from supply to supply")
            return False
        return self.apply(change)

    def choose_condition(self, entry: ConditionVerdict) -> None:
        """Choose a condition of the night: the finding that decides it, else what it lacks."""
        if entry.deciding is not None:
            self.choose_finding(entry.deciding)
        elif self._chosen_condition != entry.condition.key:
            self._chosen_condition = entry.condition.key
            self.chosen_changed.emit()

    @property
    def chosen_condition(self) -> ConditionVerdict | None:
        """The condition chosen that no finding decides, as it stands now."""
        found = (entry for entry in self.evaluation.conditions if entry.condition.key == self._chosen_condition)
        return next((entry for entry in found if entry.deciding is None), None)

    def choose_finding(self, finding: Finding) -> None:
        """Choose the finding that the margin tells."""
        key = (finding.id, finding.subject)
        if key != self._chosen_finding or self._chosen_condition:
            self._chosen_condition = ""
            self._chosen_finding = key
            self.chosen_changed.emit()

    def choose_finding_of(self, quantity_id: str) -> None:
        """Choose the gravest finding that speaks of a quantity, if one does."""
        about = [f for f in self.evaluation.findings if quantity_id in f.quantities]
        if about:
            self.choose_finding(max(about, key=lambda f: f.verdict.severity))

    @property
    def chosen_finding(self) -> Finding | None:
        """The finding chosen, as it stands now; the gravest one before any is chosen."""
        findings = self.evaluation.findings
        if self._chosen_finding is not None:
            found = next((f for f in findings if (f.id, f.subject) == self._chosen_finding), None)
            found = found or next((f for f in findings if f.id == self._chosen_finding[0]), None)
            if found is not None:
                return found
        return max(findings, key=lambda f: f.verdict.severity, default=None)
