"""What the first plot and the first look at each step would wait for, loaded while nobody waits.

Modules only, in a thread of its own and one at a time: none of them makes an object of Qt's when it is read.
"""

from __future__ import annotations

import contextlib
import importlib
import pkgutil
import threading
from collections.abc import Iterator

FIRST = ("numpy", "pyqtgraph", "scipy.optimize", "scipy.special", "astropy.coordinates", "astropy.time")
FOLDERS = ("wyntaxis.desk", "wyntaxis.desk.sheets")
STOP_WITHIN_S = 5.0


def wanted_modules() -> Iterator[str]:
    """Yield the modules by name: the libraries of plots and fits, then the desk's own."""
    yield from FIRST
    for folder in FOLDERS:
        for module in pkgutil.iter_modules(importlib.import_module(folder).__path__, f"{folder}."):
            yield module.name


class Preload:
    """Loads the modules once; what fails to load is left to whoever needs it, who will say so."""

    def __init__(self) -> None:
        self.stopped = threading.Event()
        self.thread = threading.Thread(target=self._load, name="warming", daemon=True)

    def start(self) -> None:
        self.thread.start()

    @property
    def done(self) -> bool:
        """Whether all is loaded, or it was stopped."""
        return not self.thread.is_alive()

    def stop(self) -> None:
        """End after the module under way, and wait for it."""
        self.stopped.set()
        if self.thread.ident is not None:
            self.thread.join(STOP_WITHIN_S)

    def _load(self) -> None:
        for name in wanted_modules():
            if self.stopped.wait(0.001):  # and let the interface have its turn
                return
            with contextlib.suppress(Exception):
                importlib.import_module(name)
