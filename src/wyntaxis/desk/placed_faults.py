"""Faults placed by hand on the timeline: chosen from a menu at the mouse, several at once, simulated together."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from PyQt6.QtCore import QObject, QPoint, pyqtSignal
from PyQt6.QtWidgets import QMenu, QWidget

from wyntaxis.core.files.errors import Progress
from wyntaxis.core.rehearsal.kind import Rehearsal
from wyntaxis.core.rehearsal.outcome import NightOutcome
from wyntaxis.core.rehearsal.play import active_faults, played
from wyntaxis.core.rehearsal.state import ActiveFault
from wyntaxis.core.rig.device_kinds.declaration import Fault
from wyntaxis.desk.background import Job

OTHER = "Another device"


class PlacedFaults(QObject):
    """The faults that were placed, and the night with them; ``changed`` tells that there is another one."""

    changed = pyqtSignal()

    def __init__(self, parent: QWidget) -> None:
        super().__init__(parent)
        self._parent = parent
        self.faults: tuple[ActiveFault, ...] = ()
        self.outcome: NightOutcome | None = None
        self.job = Job(self)
        self.job.done.connect(self._simulated)
        self.menu: QMenu | None = None

    @property
    def title(self) -> str:
        """What was placed, in words."""
        return " and ".join(entry.fault.title.lower() for entry in self.faults)

    def clear(self) -> None:
        """Take all of them back."""
        self.job.cancel()
        self.faults, self.outcome = (), None
        self.changed.emit()

    def ask(self, result: Rehearsal, device: str, at_s: float, where: QPoint) -> None:
        """Offer the faults that may strike then: the device's own first, then the sky's, then those of all others."""
        menu = QMenu(self._parent)
        own, sky, others = self._grouped(result, device)
        words = result.setting.sky.time_words(at_s)
        heading = menu.addAction(f"At {words}: a fault of {device}" if own else f"At {words}: a fault")
        if heading is not None:
            heading.setEnabled(False)
        for fault in (*own, *sky):
            self._offer(menu, result, fault, at_s)
        if others:
            more = menu.addMenu(OTHER)
            assert more is not None
            for fault in others:
                self._offer(more, result, fault, at_s)
        if self.faults:
            menu.addSeparator()
            taken_back = menu.addAction("Take the placed faults back")
            assert taken_back is not None
            taken_back.triggered.connect(lambda _checked: self.clear())
        self.menu = menu
        menu.popup(where)

    def place(self, result: Rehearsal, fault: Fault, at_s: float) -> None:
        """Place a fault beside those that are there, and simulate the night with all of them."""
        self.faults = (*self.faults, active_faults(result.setting, fault, at_s))
        self.simulate(result)

    def simulate(self, result: Rehearsal) -> None:
        """Simulate the night with what was placed, in the background."""
        faults = tuple(replace(entry) for entry in self.faults)

        def work(_progress: Progress) -> NightOutcome:
            return played(result.setting, faults)

        self.job.start(work)

    def _simulated(self, outcome: NightOutcome) -> None:
        self.outcome = outcome
        self.changed.emit()

    def _offer(self, menu: QMenu, result: Rehearsal, fault: Fault, at_s: float) -> None:
        action = menu.addAction(f"{fault.title}: {fault.shows}")
        assert action is not None
        action.triggered.connect(lambda _checked: self.place(result, fault, at_s))

    @staticmethod
    def _grouped(result: Rehearsal, device: str) -> tuple[Sequence[Fault], Sequence[Fault], Sequence[Fault]]:
        """Return the faults that the rig can have: of the device, of the sky, and of all others."""
        kinds = {own.kind for own in result.setting.rig.devices if own.title == device}
        known = [row.fault for row in result.rows if row.applies]
        own = [fault for fault in known if kinds & set(fault.devices)]
        sky = [fault for fault in known if not fault.devices]
        return own, sky, [fault for fault in known if fault not in own and fault not in sky]
