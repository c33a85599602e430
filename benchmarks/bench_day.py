"""A day of use in one process: edits, steps and jobs; resident memory grows by less than a tenth.

Counted from when the window has shown every step and the undo list is full, which is as much as it ever keeps.
EDITS, STEPS and JOBS set how long the day is.
"""

import gc
import os
import random
import sys
from pathlib import Path

from PyQt6.QtTest import QTest

from demo_window import shown_window
from wyntaxis import demo
from wyntaxis.core.rig.edit import History
from wyntaxis.core.steps import steps

EDITS, STEPS, JOBS = (
    int(os.environ.get(name, usual)) for name, usual in (("EDITS", 10000), ("STEPS", 500), ("JOBS", 200))
)
MAX_GROWTH = 1.10


def resident_mb() -> float:
    """Return the process's resident memory, after what is garbage has gone."""
    gc.collect()
    pages = int(Path("/proc/self/statm").read_text("ascii").split()[1])
    return pages * os.sysconf("SC_PAGE_SIZE") / 1e6


def main() -> int:
    chance = random.Random(4)
    with shown_window() as (app, window):
        keys = [step.key for step in steps()]

        def edit() -> None:
            window.session.set_length("ring", 12 + chance.randrange(2000) / 1000)
            app.processEvents()

        def job() -> None:
            window.show_step("travel")
            travel = window.sheets["travel"]
            travel.read([Path(demo.__file__).parent / "focus"])
            for _ in range(4000):
                if not travel.job.running:
                    break
                QTest.qWait(5)
            else:
                raise TimeoutError("a job has not ended within 20 s")
            app.processEvents()

        for key in keys * 2:
            window.show_step(key)
            app.processEvents()
        job()
        for _ in range(History.LIMIT + 100):
            edit()
        before = resident_mb()
        for index in range(EDITS):
            edit()
            if index % max(EDITS // STEPS, 1) == 0:
                window.show_step(chance.choice(keys))
            if index % max(EDITS // JOBS, 1) == 0:
                job()
        after = resident_mb()
    print(f"{EDITS} edits, {STEPS} changes of step, {JOBS} jobs: {before:.0f} MB before, {after:.0f} MB after")
    print(f"ratio {after / before:.3f} (limit {MAX_GROWTH})")
    return 0 if after / before <= MAX_GROWTH else 1


if __name__ == "__main__":
    sys.exit(main())
