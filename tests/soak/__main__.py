"""``python -m tests.soak SECONDS [--seed N] [--keep DIR]``: hostile inputs, kills and monkeys; exit 1 if some fail."""

from __future__ import annotations

import argparse
import sys
import time
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

from tests.soak.fuzz import fuzz
from tests.soak.kills import kill_rounds
from tests.soak.monkey import play

SHARES = {"inputs": 0.12, "kills": 0.14, "monkeys": 0.74}
LANES = 2
SHOWN = 2000


def main() -> int:
    """Spend the time on the three trials, one after another, each on both cores; print what was tried and found."""
    parser = argparse.ArgumentParser(prog="python -m tests.soak", description=__doc__)
    parser.add_argument("seconds", type=float, nargs="?", default=1200.0)
    parser.add_argument("--seed", type=int, default=int(time.time()))
    parser.add_argument("--keep", type=Path, default=Path("soak-failures"), help="where failing inputs are left")
    options = parser.parse_args()
    print(f"seed {options.seed}, {options.seconds:g} s", flush=True)
    seeds = [options.seed + 1_000_000 * lane for lane in range(LANES)]
    failures: list[str] = []
    with ThreadPoolExecutor(LANES) as lanes:
        seconds = options.seconds * SHARES["inputs"]
        tried = list(lanes.map(lambda seed: fuzz(seconds, seed, options.keep), seeds))
        count = sum((one.count for one in tried[1:]), tried[0].count)
        print(f"hostile inputs: {count.total()} over {len(count)} readers", flush=True)
        for name, number in sorted(count.items()):
            print(f"  {name}: {number}")
        failures += [f"input: {name}, seed {seed}: {what}" for one in tried for name, seed, what in one.failures]
        seconds = options.seconds * SHARES["kills"]
        killed = list(lanes.map(lambda seed: kill_rounds(seconds, seed), seeds))
        saves, windows = sum(one.saves for one in killed), sum(one.windows for one in killed)
        print(f"kills: {saves} in mid-save, {windows} of a window while somebody typed", flush=True)
        failures += [f"kill: {what}" for one in killed for what in one.failures]
        seconds = options.seconds * SHARES["monkeys"]
        played = list(lanes.map(lambda seed: play(seconds, seed), seeds))
        print(f"monkeys: {sum(one.actions for one in played)} actions", flush=True)
        failures += [f"monkey: {what}" for one in played for what in one.failures]
    for what in failures:
        print(f"FAILURE {what[-SHOWN:]}")
    print(f"{len(failures)} failures" + (f"; failing inputs are in {options.keep}" if failures else ""))
    return 1 if failures else 0


if __name__ == "__main__":
    sys.exit(main())
