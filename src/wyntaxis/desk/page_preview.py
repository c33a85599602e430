"""Pages of a PDF, one at a time, as wide as there is room; by night light on dark."""

from __future__ import annotations

from PyQt6.QtCore import QBuffer, QByteArray, QIODevice, QSize, Qt
from PyQt6.QtGui import QImage, QKeyEvent, QPainter, QPaintEvent, QResizeEvent
from PyQt6.QtPdf import QPdfDocument
from PyQt6.QtWidgets import QSizePolicy, QVBoxLayout, QWidget

from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import Picture, PlainLabel

EMPTY_RATIO = 1.414
WIDEST_PX = 1400


class _Page(Picture):
    """One page, drawn to the width that there is."""

    def __init__(self) -> None:
        super().__init__()
        self.document = QPdfDocument(self)
        self._buffer = QBuffer(self)
        self._image: QImage | None = None
        self.page = 0
        self.palette_name: Palette | None = None
        policy = QSizePolicy(QSizePolicy.Policy.Expanding, QSizePolicy.Policy.Preferred)
        policy.setHeightForWidth(True)
        self.setSizePolicy(policy)
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("Page of the dossier")

    def load(self, data: bytes) -> int:
        """Take a PDF, and return how many pages it has."""
        self._buffer.close()
        self._buffer.setData(QByteArray(data))
        self._buffer.open(QIODevice.OpenModeFlag.ReadOnly)
        self.document.load(self._buffer)
        self.turn(0)
        return self.document.pageCount()

    def turn(self, page: int) -> None:
        """Show another page."""
        self.page, self._image = page, None
        self.setAccessibleDescription(self.document.getAllText(page).text()[:2000] if self._has_page else "")
        self.updateGeometry()
        self.update()

    @property
    def _has_page(self) -> bool:
        return 0 <= self.page < self.document.pageCount()

    @property
    def _ratio(self) -> float:
        if not self._has_page:
            return EMPTY_RATIO
        size = self.document.pagePointSize(self.page)
        return size.height() / max(size.width(), 1.0)

    def hasHeightForWidth(self) -> bool:
        return True

    def heightForWidth(self, a0: int) -> int:
        return round(min(a0, WIDEST_PX) * self._ratio) if self._has_page else 60

    def sizeHint(self) -> QSize:
        return QSize(400, self.heightForWidth(400))

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        self._image = None

    def paintEvent(self, a0: QPaintEvent | None) -> None:
        """Draw the page."""
        painter = QPainter(self)
        palette = self.palette_name
        if not self._has_page or palette is None:
            return
        if self._image is None:
            ratio = self.devicePixelRatioF()
            width = round(min(self.width(), WIDEST_PX) * ratio)
            image = self.document.render(self.page, QSize(width, round(width * self._ratio)))
            on_white = QImage(image.size(), QImage.Format.Format_RGB32)
            on_white.fill(Qt.GlobalColor.white)
            over = QPainter(on_white)
            over.drawImage(0, 0, image)
            if palette.name == "night":  # ink becomes light, and takes the palette's colour
                over.setCompositionMode(QPainter.CompositionMode.CompositionMode_Difference)
                over.fillRect(on_white.rect(), Qt.GlobalColor.white)
                over.setCompositionMode(QPainter.CompositionMode.CompositionMode_Multiply)
                over.fillRect(on_white.rect(), palette.color("ink"))
            over.end()
            on_white.setDevicePixelRatio(ratio)
            self._image = on_white
        painter.drawImage(0, 0, self._image)
        painter.setPen(palette.color("rule"))
        size = self._image.deviceIndependentSize()
        painter.drawRect(0, 0, round(size.width()) - 1, min(round(size.height()), self.height()) - 1)


class PagePreview(QWidget):
    """A PDF with buttons to turn its pages; Page Up and Page Down turn them too."""

    def __init__(self) -> None:
        super().__init__()
        column = QVBoxLayout(self)
        column.setContentsMargins(0, 0, 0, 0)
        row = FlowRow()
        self.back_button = push_button("‹ Page", "The page before (Page Up)", lambda: self.turn(-1), row)
        self.forth_button = push_button("Page ›", "The next page (Page Down)", lambda: self.turn(1), row)
        self.place = PlainLabel()
        row.addWidget(self.place)
        column.addLayout(row)
        self.page = _Page()
        column.addWidget(self.page)
        self.count = 0
        self._tell()

    def show_pdf(self, data: bytes) -> None:
        """Show a PDF, at the page that was in sight where it still has one."""
        at = self.page.page
        self.count = self.page.load(data)
        self.page.turn(min(at, max(self.count - 1, 0)))
        self._tell()

    def turn(self, by: int) -> None:
        """Turn pages."""
        self.page.turn(min(max(self.page.page + by, 0), max(self.count - 1, 0)))
        self._tell()

    def _tell(self) -> None:
        at = self.page.page
        self.place.setText(f"page {at + 1} of {self.count}" if self.count else "no page yet")
        self.back_button.setEnabled(at > 0)
        self.forth_button.setEnabled(at + 1 < self.count)

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        """Turn pages by the keys."""
        by = {Qt.Key.Key_PageUp: -1, Qt.Key.Key_PageDown: 1}.get(Qt.Key(a0.key()), 0) if a0 is not None else 0
        if by:
            self.turn(by)
        else:
            super().keyPressEvent(a0)

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self.page.palette_name = palette
        self.page.turn(self.page.page)
