"""The first opening of each step's plots in the interface thread; at most 150 ms (median of the rounds).

Each round is a process of its own, because only the first opening counts. Side by side: with what plots need loaded in
the background, as the application does right after its start, and without.
"""

import os
import statistics
import subprocess
import sys
import time

ROUNDS = 3
LIMIT_MS = 150
READ_MS = 1500
"""How long somebody looks at a step before opening its plot; the catalogue of the footprint is read meanwhile."""
FOLDS = (
    "light_path.plots",
    "scales.plot_fold",
    "guide_branch.pulse_fold",
    "guide_branch.rotation_fold",
    "cooling.run_fold",
    "footprint.night_fold",
)


def opening(fold: str, *, warm: bool) -> None:
    """Print what the first opening of a fold took, in ms, in a window on the demo rig."""
    from PyQt6.QtTest import QTest

    from demo_window import shown_window
    from wyntaxis.desk.preload import Preload

    with shown_window() as (app, window):
        if warm:
            warming = Preload()
            warming.start()
            while not warming.done:
                app.processEvents()
                time.sleep(0.001)
        step, name = fold.split(".")
        window.show_step(step)
        QTest.qWait(READ_MS)
        began = time.perf_counter()
        getattr(window.sheets[step], name).open()
        app.processEvents()
        print(1000 * (time.perf_counter() - began))


def median_ms(fold: str, kind: str) -> float:
    """Return the median of the rounds."""
    took = []
    for _ in range(ROUNDS):
        done = subprocess.run(
            [sys.executable, __file__, fold, kind],
            capture_output=True,
            text=True,
            check=True,
            timeout=120,
            env={"QT_QPA_PLATFORM": "offscreen", **os.environ},
        )
        took.append(float(done.stdout))
    return statistics.median(took)


def main() -> int:
    """Compare both ways."""
    worst = 0.0
    for fold in FOLDS:
        warm, cold = median_ms(fold, "warm"), median_ms(fold, "cold")
        worst = max(worst, warm)
        print(f"{fold}: first opening {warm:.0f} ms (limit {LIMIT_MS}); without loading beforehand {cold:.0f} ms")
    return 0 if worst <= LIMIT_MS else 1


if __name__ == "__main__":
    if sys.argv[1:]:
        opening(sys.argv[1], warm=sys.argv[2] == "warm")
    else:
        sys.exit(main())
