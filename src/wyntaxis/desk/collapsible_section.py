"""A heading that opens to more; what is below it is built when it is first opened."""

from __future__ import annotations

from collections.abc import Callable

from PyQt6.QtCore import Qt
from PyQt6.QtWidgets import QVBoxLayout, QWidget

from wyntaxis.desk.plain_widgets import ToolButton


class CollapsibleSection(QWidget):
    """``build`` makes the body; ``refresh`` is called when the fold opens, and by its owner while it is open."""

    def __init__(self, title: str, build: Callable[[], QWidget], refresh: Callable[[], None]) -> None:
        super().__init__()
        self._build, self._refresh = build, refresh
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        self.heading = ToolButton()
        self.heading.setText(title)
        self.heading.setToolButtonStyle(Qt.ToolButtonStyle.ToolButtonTextBesideIcon)
        self.heading.setArrowType(Qt.ArrowType.RightArrow)
        self.heading.setCheckable(True)
        self.heading.setAccessibleName(title)
        self.heading.setToolTip(title)
        self.heading.setMinimumWidth(80)
        self.heading.toggled.connect(self._toggle)
        column.addWidget(self.heading)
        self.body: QWidget | None = None

    @property
    def opened(self) -> bool:
        return self.heading.isChecked()

    def open(self) -> None:
        self.heading.setChecked(True)

    def refresh(self) -> None:
        """Bring the body up to date, where it is open."""
        if self.opened:
            self._refresh()

    def _toggle(self, opened: bool) -> None:
        self.heading.setArrowType(Qt.ArrowType.DownArrow if opened else Qt.ArrowType.RightArrow)
        if opened and self.body is None:
            self.body = self._build()
            layout = self.layout()
            assert layout is not None
            layout.addWidget(self.body)
        if self.body is not None:
            self.body.setVisible(opened)
        self.refresh()
