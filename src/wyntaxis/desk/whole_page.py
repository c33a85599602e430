"""A page that needs the whole window: what lies beside it is out of sight as long as the page is in it."""

from __future__ import annotations

from PyQt6.QtCore import QObject
from PyQt6.QtWidgets import QWidget

from wyntaxis.desk.pages import Pages


class WholePage(QObject):
    """Hides what lies beside the pages while one that needs all is shown."""

    def __init__(self, stack: Pages, *beside: QWidget) -> None:
        super().__init__(stack)
        self._stack, self._beside, self._hidden = stack, beside, False
        stack.currentChanged.connect(lambda _index: self._make_room())

    def _make_room(self) -> None:
        whole = self._stack.needs_all
        if whole != self._hidden:
            self._hidden = whole
            for widget in self._beside:
                widget.setVisible(not whole)
