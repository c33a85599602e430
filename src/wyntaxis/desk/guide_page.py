"""The guide in the window: its pages, the way back, and a search; nothing outside the shipped pages is ever read."""

from __future__ import annotations

import html
import posixpath
import re
from collections.abc import Callable, Mapping, Sequence
from pathlib import PurePosixPath

from PyQt6.QtCore import Qt, QTimer, QUrl, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QPainter, QResizeEvent
from PyQt6.QtWidgets import QLineEdit, QPushButton, QTextBrowser, QVBoxLayout, QWidget

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.guide import FIRST_PAGE, FOLDER, Place, page_html, search
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.palette import DAY, NIGHT, Palette
from wyntaxis.desk.plain_widgets import PushButton

SEARCH_PAUSE_MS = 150
MIDDLE_GREY = 127
SYMPTOM_PAGE = "symptoms"
_SECTION = re.compile(r'<section id="([^"]+)">')
_TITLED_SECTION = re.compile(r'<section id="([^"]+)">\s*<h2>.*?</h2>', re.DOTALL)
_HEADER_LINK = re.compile(r'<a class="headerlink".*?</a>', re.DOTALL)


def by_night(picture: QImage, palette: Palette) -> QImage:
    """Return a picture for eyes that are used to the dark: its paper dark, its lines in the palette's ink."""
    dark = picture.convertToFormat(QImage.Format.Format_Grayscale8)
    middling = dark.scaled(1, 1, transformMode=Qt.TransformationMode.SmoothTransformation).pixelColor(0, 0)
    if middling.lightness() > MIDDLE_GREY:  # a picture that was taken by night is dark already
        dark.invertPixels()
    dark = dark.convertToFormat(QImage.Format.Format_RGB32)
    with QPainter(dark) as painter:
        painter.setCompositionMode(QPainter.CompositionMode.CompositionMode_Multiply)
        painter.fillRect(dark.rect(), palette.color("ink"))
    return dark


def with_notes(page: str, noted: Mapping[str, Sequence[str]]) -> str:
    """Return a page with lines of one's own below the title of each section that has some.

    Parameters
    ----------
    page
        HTML of the guide.
    noted
        Lines by the id of their section: plain text.
    """

    def put(found: re.Match[str]) -> str:
        lines = noted.get(found.group(1), ())
        if not lines:
            return found.group(0)
        entries = "".join(f"<li>{html.escape(plain(line))}</li>" for line in lines)
        title = "<p><b>Noted in this rig</b> (wyntaxis history prints the rig of that day)</p>"
        return f"{found.group(0)}{title}<ul>{entries}</ul>"

    return _TITLED_SECTION.sub(put, page)


class _Pages(QTextBrowser):
    """Shows a page; its pictures are those beside it, as wide as there is room."""

    palette_in_use = DAY

    def loadResource(self, type: int, name: QUrl) -> object:
        """Return one of the guide's own pictures, and nothing else."""
        path = FOLDER / "_images" / PurePosixPath(name.path()).name
        picture = QImage(str(path)) if path.suffix == ".png" and path.is_file() else QImage()
        if self.palette_in_use is NIGHT:
            picture = by_night(picture, NIGHT)
        viewport = self.viewport()
        room = (viewport.width() if viewport is not None else self.width()) - 40
        if picture.width() > room > 0:
            return picture.scaledToWidth(room, Qt.TransformationMode.SmoothTransformation)
        return picture


class GuidePage(QWidget):
    """The guide; ``left`` tells that it is to be put away."""

    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self.place = Place("")
        self._behind: list[Place] = []
        self._before: list[Place] = []
        self._palette_in_use = DAY
        self.noted: Callable[[], Mapping[str, Sequence[str]]] = dict
        """What one has noted oneself of each section of the page of symptoms, a line each."""
        self.setAccessibleName("Guide")
        self.pages = _Pages()
        self.pages.setAccessibleName("Page of the guide")
        self.pages.setOpenLinks(False)
        self.pages.setFrameShape(QTextBrowser.Shape.NoFrame)
        self.pages.setHorizontalScrollBarPolicy(Qt.ScrollBarPolicy.ScrollBarAlwaysOff)
        self.pages.anchorClicked.connect(self.follow)
        self.back = self._button("Back", "Alt+←: the page before", self.go_back)
        self.forward = self._button("Forward", "Alt+→: the page after", self.go_forward)
        self.contents = self._button("Contents", "All pages", lambda: self.show_place(Place(FIRST_PAGE)))
        self.words = QLineEdit()
        self.words.setMinimumWidth(120)
        self.words.setAccessibleName("Search the guide")
        self.words.setPlaceholderText("Search the guide")
        self.words.setClearButtonEnabled(True)
        self._pause = QTimer(self)
        self._pause.setSingleShot(True)
        self._pause.setInterval(SEARCH_PAUSE_MS)
        self._pause.timeout.connect(self._show_hits)
        self.words.textEdited.connect(lambda _text: self._pause.start())
        self.words.returnPressed.connect(self._show_hits)
        self.close_button = self._button("Close", "Esc or F1: back to the sheet", self.left.emit)
        row = FlowRow()
        for widget in (self.back, self.forward, self.contents):
            row.addWidget(widget)
        row.add_stretched(self.words)
        row.addWidget(self.close_button)
        column = QVBoxLayout(self)
        column.setContentsMargins(12, 8, 12, 10)
        column.addLayout(row)
        column.addWidget(self.pages, 1)

    def _button(self, text: str, tip: str, do: Callable[[], object]) -> QPushButton:
        button = PushButton(text)
        button.setToolTip(tip)
        button.clicked.connect(lambda _on: do())
        return button

    def set_palette(self, palette: Palette) -> None:
        """Draw in another palette."""
        self._palette_in_use = self.pages.palette_in_use = palette
        if self.place.page:
            self._draw()

    def show_place(self, place: Place) -> None:
        """Show a page, and a section of it; InputError where it is not there."""
        page_html(place.page)
        if self.place.page and place != self.place:
            self._behind.append(self.place)
            self._before.clear()
        self.place = place
        self._draw()
        self.pages.setFocus()

    def go_back(self) -> None:
        """Show the page before."""
        self._step(self._behind, self._before)

    def go_forward(self) -> None:
        """Show the page that one came back from."""
        self._step(self._before, self._behind)

    def _step(self, out_of: list[Place], into: list[Place]) -> None:
        if out_of:
            into.append(self.place)
            self.place = out_of.pop()
            self._draw()

    def _draw(self) -> None:
        self._pause.stop()
        text = _HEADER_LINK.sub("", page_html(self.place.page))
        if self.place.page == SYMPTOM_PAGE:
            text = with_notes(text, self.noted())
        self._show(_SECTION.sub(r'<a name="\1"></a>', text).replace("</section>", ""))
        if self.place.section:
            self.pages.scrollToAnchor(self.place.section)

    def _show(self, text: str) -> None:
        document = self.pages.document()
        if document is not None:
            document.setDefaultStyleSheet(_style(self._palette_in_use, self.fontInfo().pixelSize()))
        self.pages.setHtml(f"<body>{text}</body>")
        self.back.setEnabled(bool(self._behind))
        self.forward.setEnabled(bool(self._before))

    def _show_hits(self) -> None:
        wanted = self.words.text().strip()
        if not wanted:
            if self.place.page:
                self._draw()
            return
        try:
            hits = search(wanted)
        except InputError as error:
            self._show(f"<p>{html.escape(str(error))}</p>")
            return
        entries = [
            f'<p><a href="/{hit.place.page}.html#{html.escape(hit.place.section)}">{html.escape(hit.title)}</a><br>'
            f"<em>{html.escape(hit.words)}</em></p>"
            for hit in hits
        ]
        nothing = "<p>Nothing in the guide has all these words. Try fewer, or the beginning of one.</p>"
        self._show(f"<h1>{html.escape(wanted)}</h1>{''.join(entries) or nothing}")

    def follow(self, link: QUrl) -> None:
        if link.scheme() or link.host():
            return  # nothing outside is opened
        path = link.path().removesuffix(".html")
        page = posixpath.normpath(posixpath.join("/", posixpath.dirname(self.place.page), path))[1:]
        page = page if path else self.place.page
        try:
            self.show_place(Place(page, link.fragment()))
        except InputError as error:
            self._show(f"<p>{html.escape(str(error))}</p>")

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.left.emit()
        elif a0 is not None and a0.modifiers() == Qt.KeyboardModifier.AltModifier and a0.key() == Qt.Key.Key_Left:
            self.go_back()
        elif a0 is not None and a0.modifiers() == Qt.KeyboardModifier.AltModifier and a0.key() == Qt.Key.Key_Right:
            self.go_forward()
        else:
            super().keyPressEvent(a0)

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        if self.place.page and a0 is not None and a0.oldSize().width() != a0.size().width():
            self._draw()  # pictures are as wide as the page


def _style(palette: Palette, px: int) -> str:
    return (
        f"body, p, li, td, th, dt, dd {{ font-size: {px}px; color: {palette.ink}; }}"
        f"a {{ color: {palette.accent}; }} em {{ color: {palette.faded}; }}"
        f"h1 {{ font-size: {round(1.5 * px)}px; }} h2 {{ font-size: {round(1.25 * px)}px; }}"
        f"h3 {{ font-size: {round(1.05 * px)}px; }}"
        f"pre, code {{ font-family: 'B612 Mono'; color: {palette.ink}; background: {palette.field}; }}"
        "pre { white-space: pre-wrap; }"
        f"td, th {{ padding: 2px 10px 2px 0; }}"
    )
