"""The night palette from dusk to dawn at the rig's site, where that is switched on."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING

from PyQt6.QtCore import QObject, QTimer

from wyntaxis.core.sky.dusk import is_dark

if TYPE_CHECKING:
    from wyntaxis.desk.workplace import Workplace

EVERY_MS = 60_000
KEY = "palette_by_dusk"


class PaletteClock(QObject):
    """Changes the palette as the sun goes down and comes up; what is chosen by hand stays until it does so again."""

    def __init__(self, window: Workplace, now: Callable[[], float] = time.time) -> None:
        super().__init__(window)
        self._window, self._now = window, now
        self._was_dark: bool | None = None
        self._timer = QTimer(self)
        self._timer.setInterval(EVERY_MS)
        self._timer.timeout.connect(self.look)
        if self.is_on:
            self._timer.start()

    @property
    def is_on(self) -> bool:
        """Whether the palette follows the sun."""
        return self._window.settings.word(KEY, "") == "on"

    def turn(self) -> None:
        """Switch it on or off."""
        on = not self.is_on
        self._window.settings.put(KEY, "on" if on else "off")
        self._was_dark = None
        if on:
            self._timer.start()
            self.look()
        else:
            self._timer.stop()

    def look(self) -> None:
        """Take the palette of the hour, where it has just become dark or light."""
        session = self._window.session
        site = session.rig.site if session is not None else None
        if not self.is_on:
            return
        if site is None:
            self._window.notice.tell("The palette follows the sun once the site is entered (Footprint).")
            return
        dark = is_dark(self._now(), site.latitude_deg, site.longitude_deg)
        if dark is not self._was_dark:
            self._was_dark = dark
            self._window.set_palette_by_name("night" if dark else "day")
