"""Going anywhere by typing: steps, devices, parts, findings, commands and pages of the guide in one list."""

from __future__ import annotations

import re
from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from functools import partial
from typing import TYPE_CHECKING

from PyQt6.QtCore import QEvent, QObject, Qt
from PyQt6.QtGui import QKeyEvent
from PyQt6.QtWidgets import QDialog, QLineEdit, QListWidget, QListWidgetItem, QVBoxLayout

from wyntaxis.core.files.foreign_text import plain
from wyntaxis.desk.plain_widgets import PlainLabel

if TYPE_CHECKING:
    from wyntaxis.core.guide import Hit
    from wyntaxis.desk.menus import Menus
    from wyntaxis.desk.workplace import Workplace

MOST, GUIDE_FROM = 60, 3
"""So many places are listed; the guide is searched from so many letters on."""
KEPT_FOR_LIST = (Qt.Key.Key_Up, Qt.Key.Key_Down, Qt.Key.Key_PageUp, Qt.Key.Key_PageDown)


@dataclass(frozen=True)
class Destination:
    """Somewhere to go: what it is, how it is called, what else it is found by, and what takes one there."""

    kind: str
    title: str
    go: Callable[[], object]
    keys: str = ""
    words: str = ""


def matching(text: str, destinations: Sequence[Destination]) -> list[Destination]:
    """Return what holds every word of a text as the beginning of a word, those first whose titles begin with it.

    Parameters
    ----------
    text
        Words, or beginnings of words; capitals do not count. Empty for all.
    destinations
        What there is, in the order in which equals are listed.
    """
    wanted = [re.compile(rf"(?<!\w){re.escape(word)}", re.IGNORECASE) for word in text.split()]
    found: list[tuple[int, int, Destination]] = []
    for order, one in enumerate(destinations):
        if not all(word.search(f"{one.title} {one.kind} {one.words}") for word in wanted):
            continue
        in_title = sum(bool(word.search(one.title)) for word in wanted)
        begins = bool(wanted) and wanted[0].match(one.title) is not None
        found.append((-2 * in_title - begins, order, one))
    return [one for *_, one in sorted(found, key=lambda entry: entry[:2])]


def destinations_of(window: Workplace, menus: Menus) -> Iterator[Destination]:
    """Yield everywhere that can be gone to in a window as it is now, but for the guide's pages."""
    from wyntaxis.core.ledger import Verdict
    from wyntaxis.core.steps import DEVICES, LIGHT_PATH, steps

    session = window.session
    for step in steps():
        yield Destination("step", step.title, partial(window.show_step, step.key), words=step.purpose)
    if session is None:
        return
    for device in session.rig.devices:
        to_device = partial(_show, window, DEVICES.key, partial(session.choose_device, device.id))
        yield Destination("device", device.title, to_device, words=device.kind.replace("_", " "))
    for part in (*session.rig.train, *session.rig.guiding.path):
        to_part = partial(_show, window, LIGHT_PATH.key, partial(session.choose_part, part.id))
        yield Destination("part", part.title, to_part, words=part.kind.replace("_", " "))
    for finding in sorted(session.evaluation.findings, key=lambda finding: -finding.verdict.severity):
        if finding.verdict is not Verdict.HOLDS:
            title = f"{finding.verdict.words}: {finding.title}"
            yield Destination("finding", title, partial(window.listed.go_to, finding), words=finding.id)
    titles = {step.title for step in steps()}
    for menu, item in menus.doable():
        text = item.text().replace("&", "")
        if text not in titles:
            keys = item.shortcut().toString(item.shortcut().SequenceFormat.NativeText)
            yield Destination(menu.replace("/", ", ").replace("&", ""), text, item.trigger, keys, "command")


def _show(window: Workplace, step_key: str, choose: Callable[[], object]) -> None:
    window.show_step(step_key)
    choose()


class GoTo(QDialog):
    """A field, and the list of places that what is typed there leaves: arrows choose, Enter goes, Escape stays."""

    def __init__(self, window: Workplace, menus: Menus) -> None:
        super().__init__(window)
        self._window = window
        self._all = list(destinations_of(window, menus))
        self.shown: list[Destination] = []
        self.setWindowTitle("Go to")
        self.setModal(True)
        self.setAttribute(Qt.WidgetAttribute.WA_DeleteOnClose)
        column = QVBoxLayout(self)
        self.words = QLineEdit()
        self.words.setPlaceholderText("Step, device, part, finding, command, page of the guide")
        self.words.setAccessibleName("Where to go")
        self.words.textEdited.connect(lambda _text: self.search())
        self.words.installEventFilter(self)
        column.addWidget(self.words)
        self.list = QListWidget()
        self.list.setAccessibleName("Places that the words lead to")
        self.list.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.list.setTextElideMode(Qt.TextElideMode.ElideRight)
        self.list.itemActivated.connect(lambda _item: self.go())
        column.addWidget(self.list)
        self.state = PlainLabel("Arrows choose, Enter goes there, Escape stays here.")
        self.state.setProperty("role", "faded")
        self.state.setWordWrap(True)
        column.addWidget(self.state)
        em = self.fontMetrics().height()
        self.resize(min(round(34 * em), window.width() - 40), min(round(26 * em), window.height() - 80))
        self.search()

    def search(self) -> None:
        """List what the words lead to."""
        text = self.words.text().strip()
        self.shown = matching(text, self._all)
        if len(text) >= GUIDE_FROM:
            self.shown += self._pages(text)
        self.shown = self.shown[:MOST]
        self.list.clear()
        for one in self.shown:
            keys = f"   {one.keys}" if one.keys else ""
            item = QListWidgetItem(plain(f"{one.kind}: {one.title}{keys}"))
            item.setToolTip(plain(one.title))
            self.list.addItem(item)
        self.list.setCurrentRow(0 if self.shown else -1)
        self.state.setText(
            "Arrows choose, Enter goes there, Escape stays here."
            if self.shown
            else f"Nothing here is called “{plain(text)}”; fewer letters find more."
        )

    def _pages(self, text: str) -> list[Destination]:
        """Return the guide's sections that hold the words; none where the guide was not built."""
        from wyntaxis.core.files.errors import InputError
        from wyntaxis.core.guide import search

        def shows(hit: Hit) -> Callable[[], object]:
            return lambda: self._window.guide.show(hit.place)

        try:
            hits = search(text, 12)
            return [Destination(f"guide, {hit.place.page.rpartition('/')[2]}", hit.title, shows(hit)) for hit in hits]
        except InputError:
            return []

    def go(self) -> None:
        """Go to the place that is chosen."""
        row = self.list.currentRow()
        if 0 <= row < len(self.shown):
            self.accept()
            self.shown[row].go()

    def eventFilter(self, a0: QObject | None, a1: QEvent | None) -> bool:
        """Let the arrows move in the list, and Enter go, while the cursor stays in the field."""
        if a0 is self.words and isinstance(a1, QKeyEvent) and a1.type() == QEvent.Type.KeyPress:
            if a1.key() in KEPT_FOR_LIST:
                self.list.keyPressEvent(a1)
                return True
            if a1.key() in (Qt.Key.Key_Return, Qt.Key.Key_Enter):
                self.go()
                return True
        return super().eventFilter(a0, a1)
