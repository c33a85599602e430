"""Starts the application: typeface, window, and the pictures of it for the documentation."""

from __future__ import annotations

import gc
import os
import sys
from pathlib import Path

ASSETS = Path(__file__).parent.parent / "assets"
WARM_AFTER_MS = 300
"""How long the first rig is let alone on the screen before what later steps need is loaded."""
TURN_S = 0.001
"""How long a job in the background keeps the interpreter while the interface wants it."""
NO_SCREEN = (
    "wyntaxis: there is no screen here (neither DISPLAY nor WAYLAND_DISPLAY is set); "
    "start it in a desktop session, or write pictures of it with: wyntaxis --demo --screenshot DIR"
)


def run(
    file: Path | None, *, demo: bool, screenshots: Path | None, view: str | None = None, debug: bool = False
) -> int:
    """Open the window on a rig, the demo, the rig opened last, or the start page; return the exit code."""
    gc.disable()  # nothing made while starting is garbage; the collector takes over
    if screenshots is not None:
        os.environ["QT_QPA_PLATFORM"] = "offscreen"
    elif not has_screen():
        print(NO_SCREEN, file=sys.stderr)
        return 2
    try:
        from PyQt6 import sip
        from PyQt6.QtCore import QTimer, qInstallMessageHandler
        from PyQt6.QtWidgets import QApplication
    except ImportError as error:
        _tell_no_window(str(error))
        return 2

    if not debug:  # what Qt has to say to developers is no use to anybody else
        qInstallMessageHandler(_keep_quiet)

    from wyntaxis.core.files.places import own_shelf_path
    from wyntaxis.desk.collector import Collector
    from wyntaxis.desk.faults import Faults
    from wyntaxis.desk.preload import Preload
    from wyntaxis.desk.startup import Startup
    from wyntaxis.desk.window import MainWindow

    app = QApplication([*sys.argv[:1], "-style", "fusion"])
    if screenshots is not None:
        dress(app)
        from wyntaxis.desk.screenshots import take_all

        return take_all(screenshots, view)
    window = MainWindow(shelf_path=own_shelf_path())
    faults = Faults(debug=debug, parent=window)
    faults.met.connect(window.tell_fault)
    faults.watch()

    warming, beginning = Preload(), Startup(window, file, shows_demo=demo)
    collector = Collector(window)

    def before() -> None:
        set_typeface(app)
        beginning.draw()

    def load() -> None:
        set_icon(app)
        beginning.open()
        collector.start(window.windowHandle())
        QTimer.singleShot(WARM_AFTER_MS, warming.start)

    window.start(load, before)
    code = app.exec()
    warming.stop()
    collector.stop()

    from wyntaxis.desk.background import end_all_jobs

    if window.built:
        window.journal.wait()
    if not end_all_jobs():
        os._exit(code)  # nothing is left to save, and Qt would abort over a thread that still runs
    # Widgets go before the application does, or Qt may touch what is gone while Python shuts down.
    sip.delete(window)
    return code


def _keep_quiet(kind: object, _context: object, text: str | None) -> None:
    """Take Qt's messages: the last one before it would abort is told in a line, with what is missing here."""
    from PyQt6.QtCore import QtMsgType

    if kind == QtMsgType.QtFatalMsg:
        named = os.environ.get("QT_QPA_PLATFORM")
        asked = f" by QT_QPA_PLATFORM={named}" if named else ""
        no_plugin = "platform plugin" in (text or "")
        _tell_no_window(f"Qt cannot draw on this screen{asked}" if no_plugin else (text or "").partition("\n")[0])
        sys.stderr.flush()
        os._exit(2)


def _tell_no_window(reason: str) -> None:
    from wyntaxis.system_libraries import ALWAYS, ON_X, missing, no_window

    on_x = bool(os.environ.get("DISPLAY")) and not os.environ.get("WAYLAND_DISPLAY")
    print(f"wyntaxis: {no_window(reason, missing(ALWAYS | (ON_X if on_x else {})))}", file=sys.stderr)


def has_screen() -> bool:
    """Return whether there is something to show a window on."""
    return bool(os.environ.get("DISPLAY") or os.environ.get("WAYLAND_DISPLAY") or os.environ.get("QT_QPA_PLATFORM"))


def dress(app: object) -> None:
    """Give the application its name, typeface and icon, and the interface its turn while jobs work."""
    set_typeface(app)
    set_icon(app)


def set_typeface(app: object) -> None:
    """Give the application what its first drawing needs: the name and the typeface."""
    from PyQt6.QtGui import QFont, QFontDatabase
    from PyQt6.QtWidgets import QApplication

    assert isinstance(app, QApplication)
    sys.setswitchinterval(TURN_S)
    app.setApplicationName("wyntaxis")
    app.setApplicationDisplayName("Wyntaxis")
    app.setDesktopFileName("wyntaxis")
    for font in sorted((ASSETS / "fonts").glob("*.otf")):
        QFontDatabase.addApplicationFont(str(font))
    app.setFont(QFont("B612"))


def set_icon(app: object) -> None:
    """Give the application its icon."""
    from PyQt6.QtGui import QIcon
    from PyQt6.QtWidgets import QApplication

    assert isinstance(app, QApplication)
    app.setWindowIcon(QIcon(str(ASSETS / "wyntaxis.svg")))
