"""The live view: the newest frame of a folder in large type, for those who stand at the telescope."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import Any

from PyQt6.QtCore import QSize, Qt, QTimer, pyqtSignal
from PyQt6.QtGui import QImage, QKeyEvent, QPixmap, QResizeEvent
from PyQt6.QtWidgets import QApplication, QCheckBox, QFileDialog, QHBoxLayout, QScrollArea, QVBoxLayout, QWidget

from wyntaxis.core.evidence.defocus.live import FolderWatch, LiveOptics, LiveReading, LiveView
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.places import home
from wyntaxis.core.quantities.live_optics import live_optics
from wyntaxis.core.wording import number
from wyntaxis.desk.background import Job
from wyntaxis.desk.flow_row import FlowRow
from wyntaxis.desk.frame_picture import read_picture
from wyntaxis.desk.palette import Palette
from wyntaxis.desk.panel import push_button
from wyntaxis.desk.plain_widgets import PlainLabel
from wyntaxis.desk.session import Session
from wyntaxis.desk.tables import TextTable

POLL_MS = 400
MOST_ROWS = 12
PICTURE_PX, PICTURE_SHARE = 560, 0.36
HEADINGS = ("Frame", "Stars", "HFD, px", "Disc, px", "From focus,\nmm", "Best\nposition")


class LivePage(QWidget):
    """Watches a folder, and shows what its newest frame says; broken files are named in a line."""

    refused = pyqtSignal(str)
    left = pyqtSignal()

    def __init__(self) -> None:
        super().__init__()
        self._session: Session | None = None
        self._palette: Palette | None = None
        self._watch: FolderWatch | None = None
        self._view = LiveView(LiveOptics())
        self.readings: list[LiveReading] = []
        """The last ones, the newest first."""
        self._pixels: Any = None
        self.setFocusPolicy(Qt.FocusPolicy.StrongFocus)
        self.setAccessibleName("The newest frame of a folder")
        column = QVBoxLayout(self)
        column.setContentsMargins(24, 8, 24, 14)
        self.state, self.headline, self.way, self.details, self.broken = (PlainLabel() for _ in range(5))
        labels = (self.state, self.headline, self.way, self.details, self.broken)
        for label, role in zip(labels, ("answer", "huge", "large", "big", "faded"), strict=True):
            label.setProperty("role", role)
            label.setWordWrap(True)
        self.picture = PlainLabel()
        self.picture.setAccessibleName("The newest frame")
        self.picture.setAlignment(Qt.AlignmentFlag.AlignTop | Qt.AlignmentFlag.AlignRight)
        body = QWidget()
        texts = QVBoxLayout(body)
        texts.setContentsMargins(0, 0, 0, 0)
        for label in (self.headline, self.way, self.details):
            texts.addWidget(label)
        texts.addStretch(1)
        upper = QHBoxLayout()
        view = QScrollArea()
        view.setWidget(body)
        view.setWidgetResizable(True)
        view.setFocusPolicy(Qt.FocusPolicy.NoFocus)
        upper.addWidget(view, 1)
        upper.addWidget(self.picture)
        column.addWidget(self.state)
        column.addLayout(upper, 1)
        self.table = TextTable("Frames of the folder, the newest first", HEADINGS, left=(0,), widest_em=24)
        column.addWidget(self.table)
        column.addWidget(self.broken)
        row = FlowRow()
        push_button("Watch a folder …", "Choose the folder that frames are written into", self.ask, row)
        self.stop_button = push_button("Stop", "Watch no longer", self.stop, row)
        self.sound = QCheckBox("Beep at each frame")
        row.addWidget(self.sound)
        push_button("Leave (Esc)", "Back to the sheets; the folder is watched on", self.left.emit, row)
        column.addLayout(row)
        self.job = Job(self)
        self.job.done.connect(self._came)
        self.job.failed.connect(self._failed)
        self.timer = QTimer(self)
        self.timer.setInterval(POLL_MS)
        self.timer.timeout.connect(self._look)
        self._show()

    def resizeEvent(self, a0: QResizeEvent | None) -> None:
        super().resizeEvent(a0)
        self._show_picture()

    def keyPressEvent(self, a0: QKeyEvent | None) -> None:
        if a0 is not None and a0.key() == Qt.Key.Key_Escape:
            self.left.emit()
        else:
            super().keyPressEvent(a0)

    def show_session(self, session: Session, palette: Palette) -> None:
        """Show it for a session's rig as it is now."""
        if session is not self._session:
            self.stop()
            self._session, self.readings, self._pixels = session, [], None
            self._view = LiveView(live_optics(session.evaluation, session.stock.shelf.parts))
        self._view.optics = live_optics(session.evaluation, session.stock.shelf.parts)
        self._palette = palette
        self._show()

    def ask(self) -> None:
        """Ask for a folder, and watch it."""
        chosen = QFileDialog.getExistingDirectory(self, "Watch a folder", str(home()))
        if chosen:
            self.watch(Path(chosen))

    def watch(self, folder: Path, *, only_new: bool = True) -> None:
        """Watch a folder from now on; what lies in it already is left out, but for the wish to have it."""
        try:
            self._watch = FolderWatch(folder, only_new=only_new)
        except InputError as error:
            self.refused.emit(str(error))
            return
        self._folder = folder
        self.readings, self._pixels = [], None
        self._view = LiveView(self._view.optics)
        self.broken.setText("")
        self.timer.start()
        self._show()

    def stop(self) -> None:
        """Watch no longer."""
        self.timer.stop()
        self.job.cancel()
        self._watch = None
        self._show()

    def _look(self) -> None:
        watch = self._watch
        if watch is None or self.job.running:
            return

        def work(progress: Progress) -> tuple[list[Any], list[str], Any]:
            frames, broken, pixels = [], [], None
            for path, frame in watch.read(progress):
                if isinstance(frame, str):
                    broken.append(f"{path.name}: {frame}")
                else:
                    frames.append(frame)
            if frames:
                with contextlib.suppress(InputError):  # it was measured; it may have been taken away since
                    pixels = read_picture(frames[-1].path)[0]
            return frames, broken, pixels

        self.job.start(work)

    def _came(self, found: tuple[list[Any], list[str], Any]) -> None:
        frames, broken, pixels = found
        for frame in frames:
            self.readings = [self._view.add(frame), *self.readings][:MOST_ROWS]
        if broken:
            self.broken.setText(f"Not read: {'; '.join(broken[-3:])}")
        if frames:
            self._pixels = pixels
            if self.sound.isChecked():
                QApplication.beep()
            self._show()

    def _failed(self, text: str) -> None:
        self.broken.setText(text)

    def _show(self) -> None:
        self.stop_button.setEnabled(self._watch is not None)
        if self._watch is None:
            self.state.setText("Live view. Choose the folder that frames are written into.")
        elif not self.readings:
            self.state.setText(f"Live view. Waiting for the next frame in {self._folder.name}.")
        else:
            self.state.setText(f"Live view of {self._folder.name}: {self.readings[0].frame.path.name}")
        size = way = details = ""
        if self.readings:
            newest = self.readings[0]
            found, hfd = newest.frame.defocus, newest.frame.stars.hfd_px
            if found is None:
                size = f"HFD {number(hfd.value, 2)} px" if hfd is not None else "No stars"
                way = self._trend()
            elif newest.distance_mm is not None:
                size = f"{number(newest.distance_mm.value, 2)} mm from focus"
            else:
                size = f"Discs of {number(found.diameter.value, 0)} px"
            lines = newest.lines()
            if found is not None:
                way = next((line for line in lines if line.startswith(("Go ", "In focus", "Which way"))), "")
            details = "\n".join(line for line in lines if line != way)
        for label, text in ((self.headline, size), (self.way, way), (self.details, details)):
            label.setText(text)
            label.setVisible(bool(text))
        self._show_picture()
        self._show_table()

    def _trend(self) -> str:
        sizes = [own.frame.stars.hfd_px for own in self.readings[:2]]
        if len(sizes) < 2 or sizes[0] is None or sizes[1] is None:
            return ""
        by, u = sizes[0].value - sizes[1].value, (sizes[0].standard ** 2 + sizes[1].standard ** 2) ** 0.5
        if abs(by) <= 2 * u:
            return "As large as in the frame before"
        return f"{number(abs(by), 2)} px {'larger' if by > 0 else 'smaller'} than in the frame before"

    def _show_picture(self) -> None:
        self.picture.setVisible(self._pixels is not None)
        palette = self._palette
        if self._pixels is None or palette is None:
            return
        pixels, side = self._pixels.copy(), min(PICTURE_PX, round(PICTURE_SHARE * self.width()))
        image = QImage(pixels.data, pixels.shape[1], pixels.shape[0], pixels.strides[0], QImage.Format.Format_Indexed8)
        low, high = (palette.color(name) for name in (("ink", "field") if palette.name == "day" else ("paper", "ink")))
        mixed = [
            [round(a + (b - a) * k / 255) for a, b in zip(low.getRgb()[:3], high.getRgb()[:3], strict=True)]
            for k in range(256)
        ]
        image.setColorTable([0xFF000000 | r << 16 | g << 8 | b for r, g, b in mixed])
        scaled = QPixmap.fromImage(image.copy()).scaled(
            QSize(side, side), Qt.AspectRatioMode.KeepAspectRatio,
            Qt.TransformationMode.SmoothTransformation,
        )  # fmt: skip
        self.picture.setPixmap(scaled)

    def _show_table(self) -> None:
        rows = []
        for own in self.readings:
            found, hfd = own.frame.defocus, own.frame.stars.hfd_px
            rows.append([
                own.frame.path.name, str(own.as_json()["stars"]), number(hfd.value, 2) if hfd is not None else "–",
                number(found.diameter.value, 1) if found is not None else "–",
                number(own.distance_mm.value, 2) if own.distance_mm is not None else "–",
                number(own.best.position.value, 0) if own.best is not None else "–",
            ])  # fmt: skip
        self.table.setVisible(bool(rows))
        if self._palette is not None:
            self.table.show_rows(rows, palette=self._palette)
