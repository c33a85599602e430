"""What the window begins with: its rig drawn as soon as it is read, and computed and opened after that."""

from __future__ import annotations

import contextlib
from pathlib import Path
from typing import TYPE_CHECKING

from PyQt6.QtCore import QRect
from PyQt6.QtWidgets import QMenuBar

from wyntaxis import demo
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.steps import step_named
from wyntaxis.desk.drawing_shape import DrawingShape
from wyntaxis.desk.palette import style_sheet

if TYPE_CHECKING:
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.store import StoredRig
    from wyntaxis.desk.section.picture import SectionPicture
    from wyntaxis.desk.window import MainWindow

DEMO = "tarnfell-triplet-reduced"
DRAWN_GROUPS = ("Build", "Compute")
"""The groups of steps at which the band shows the section, and nothing over it."""


class Startup:
    """A rig file, the demo, the rig opened last, or for whoever begins the start page."""

    def __init__(self, window: MainWindow, file: Path | None, *, shows_demo: bool) -> None:
        self._window, self._file, self._shows_demo = window, file, shows_demo
        self._read: StoredRig | None = None
        self._picture: SectionPicture | None = None

    @property
    def _path(self) -> Path | None:
        """The rig file that is shown."""
        if self._file is None and self._shows_demo:
            return demo.rig_path(DEMO)
        return self._file or next(iter(self._window.settings.recent), None)

    def draw(self) -> None:
        """Draw the rig where its section is going to stand; what cannot be read is left to :meth:`open`."""
        settings, path = self._window.settings, self._path
        step = step_named(settings.word("step", ""))
        if path is None or step.group not in DRAWN_GROUPS or DrawingShape(settings).is_collapsed(step):
            return
        from wyntaxis.core.rig.store import load

        with contextlib.suppress(InputError):
            self._read = load(path)
            self._draw(self._read.rig)

    def _draw(self, rig: Rig) -> None:
        from wyntaxis.core.train.section import lay_out
        from wyntaxis.desk.section.drawable import BareRig
        from wyntaxis.desk.section.picture import SectionPicture

        window = self._window
        window.setStyleSheet(style_sheet(window.palette_in_use, window.text_scale))
        picture = self._picture = SectionPicture(window)
        picture.set_palette(window.palette_in_use)
        picture.setGeometry(self._place(is_empty=not rig.train))
        picture.show_rig(BareRig(rig, lay_out(rig)))
        picture.show()
        picture.repaint()

    def _place(self, *, is_empty: bool) -> QRect:
        """Return where the band is going to be, below a menu bar that is not there yet."""
        window = self._window
        bar = QMenuBar(window)
        bar.addMenu("File")
        top = bar.sizeHint().height()
        bar.deleteLater()
        step = step_named(window.settings.word("step", ""))
        height = DrawingShape(window.settings).height(step, window.height(), window.text_scale, is_empty=is_empty)
        return QRect(0, top, window.width(), height)

    def open(self) -> None:
        """Open the rig on the window, which is built by now."""
        files, path = self._window.files, self._path
        if path is None:
            files.open_new()  # whoever begins sees the start page
        elif self._file is None and self._shows_demo:
            files.open_demo(DEMO, self._read)
        else:
            files.open_path(path, self._read)
        self._read = None
        if self._picture is not None:
            self._picture.deleteLater()
            self._picture = None
