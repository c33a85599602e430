"""Start to first paint, as a ratio to an empty PyQt6 window started the same way in the same run; at most 2.5.

Also told: the ratio to the first paint that shows the demo rig, which comes right after. Modules are compiled
beforehand, as an installed program's are.
"""

import compileall
import os
import statistics
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import wyntaxis

ROUNDS = 15
LIMITS = (2.5, 6.0, None)
"""Of the first paint, of the rig's drawing, and of the same with everything reckoned and told beside it."""

EMPTY = """
import sys, time
from PyQt6.QtWidgets import QApplication, QMainWindow
app = QApplication(sys.argv)
class Window(QMainWindow):
    def paintEvent(self, event):
        super().paintEvent(event)
        print(time.time(), flush=True)
        app.exit()
window = Window()
window.resize(1280, 800)
window.show()
app.exec()
"""

WYNTAXIS = """
import time
from PyQt6.QtCore import QTimer
from PyQt6.QtWidgets import QApplication
from wyntaxis.desk.startup import Startup
from wyntaxis.desk.window import MainWindow
window_paint, build, draw = MainWindow.paintEvent, MainWindow.build, Startup._draw
painted = []
def timed(self, event):
    window_paint(self, event)
    if not painted:
        painted.append(self)
        print(time.time(), flush=True)
def drawn(self, rig):
    draw(self, rig)
    print(time.time(), flush=True)
def built(self):
    build(self)
    paint = type(self.band).paintEvent
    def shown(band, event):
        paint(band, event)
        if band._shown is not None:
            print(time.time(), flush=True)
            QTimer.singleShot(0, self.close)
    type(self.band).paintEvent = shown
    MainWindow.build = build
MainWindow.paintEvent, MainWindow.build, Startup._draw = timed, built, drawn
from wyntaxis.cli import main
main(["--demo"])
"""


def paints(program: str) -> list[float]:
    """Return the seconds from the start of a process to each of its paints."""
    with tempfile.TemporaryDirectory() as state:
        environment = {**os.environ, "XDG_STATE_HOME": state}
        environment.setdefault("QT_QPA_PLATFORM", "offscreen")
        began = time.time()
        done = subprocess.run(
            [sys.executable, "-c", program], capture_output=True, text=True, env=environment, check=True, timeout=60
        )
    return [float(line) - began for line in done.stdout.split()]


def main() -> int:
    """Alternate the two programs, so that both meet the same machine, and compare medians."""
    compileall.compile_dir(Path(wyntaxis.__file__).parent, quiet=2)
    paints(EMPTY), paints(WYNTAXIS)
    empty, first, drawn, shown = [], [], [], []
    for _ in range(ROUNDS):
        empty.append(paints(EMPTY)[0])
        times = paints(WYNTAXIS)
        first.append(times[0])
        drawn.append(times[1])
        shown.append(times[2])
    base = statistics.median(empty)
    ratios = [statistics.median(times) / base for times in (first, drawn, shown)]
    print(f"empty PyQt6 window, start to first paint: {1000 * base:.0f} ms; wyntaxis, in times that:")
    for what, ratio, limit in zip(("first paint", "demo rig drawn", "demo rig reckoned"), ratios, LIMITS, strict=True):
        print(f"start to {what}: {ratio:.2f}" + (f" (limit {limit:g})" if limit else ""))
    return 0 if all(limit is None or ratio <= limit for ratio, limit in zip(ratios, LIMITS, strict=True)) else 1


if __name__ == "__main__":
    sys.exit(main())
