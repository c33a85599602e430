"""Nights played by day: how long one takes, and a thousand, beside the clock alone with as many events."""

import datetime
import os
import sys
import time

import simpy

from wyntaxis import demo
from wyntaxis.core.rehearsal.night_sky import sky_of
from wyntaxis.core.rehearsal.parallel import many_nights_in_parallel
from wyntaxis.core.rehearsal.play import fault_table, played
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.store import load

NIGHTS = int(os.environ.get("NIGHTS", "1000"))
REPEATS = 15
MAX_NIGHT_MS, MAX_NIGHTS_S = 50.0, 20.0
EVENTS_A_FRAME = 8


def clock_alone(events: int) -> None:
    """Let the clock run over so many events that do nothing."""
    env = simpy.Environment()

    def ticks():
        for _ in range(events):
            yield env.timeout(1.0)

    env.process(ticks())
    env.run()


def median_s(work) -> float:
    """Return the median time of some repeats, in s."""
    entries = []
    for _ in range(REPEATS):
        start = time.perf_counter()
        work()
        entries.append(time.perf_counter() - start)
    return sorted(entries)[len(entries) // 2]


def main() -> int:
    """Time a night, all faults, and many nights."""
    rig = load(demo.rig_path("tarnfell-triplet-reduced")).rig
    setting = setting_of(rig, sky_of(rig, datetime.date(2026, 11, 26)))
    frames = played(setting).frames_planned
    night, clock = median_s(lambda: played(setting)), median_s(lambda: clock_alone(EVENTS_A_FRAME * frames))
    print(
        f"a night of {frames} frames: {1000 * night:.1f} ms; the clock alone {1000 * clock:.1f} ms: {night / clock:.1f}"
    )
    start = time.perf_counter()
    rows = fault_table(setting)
    print(f"{len(rows)} faults: {time.perf_counter() - start:.2f} s")
    start = time.perf_counter()
    found = many_nights_in_parallel(setting, NIGHTS)
    took = time.perf_counter() - start
    print(
        f"{NIGHTS} nights: {took:.1f} s; {found.hours_kept.value:.2f} ± {found.hours_kept.standard:.2f} h kept a night"
    )
    return 0 if 1000 * night < MAX_NIGHT_MS and took < MAX_NIGHTS_S * max(NIGHTS / 1000, 0.05) else 1


if __name__ == "__main__":
    sys.exit(main())
