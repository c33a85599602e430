"""The spacer search on 80 pieces in 10 joint kinds, as a ratio to one NumPy sort of a million numbers in the same run.

Wanted within 1 s; also told for 80 rings of one thread, where the most sets are possible.
"""

import json
import random
import statistics
import sys
import time

import numpy as np

from wyntaxis import demo
from wyntaxis.core.optics.spacers import find_spacers
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.rig.store import validated

LIMIT_S = 1.0
ROUNDS = 5
THREADS = ("M42x0.75", "M42x1", "M48x0.75", "M54x0.75", "M63x1")


def shelf(seed: int, threads: tuple[str, ...]) -> list[ShelfPart]:
    """Return 80 rings, male in front and female behind: with five threads that makes ten kinds of joint."""
    draw = random.Random(seed)

    def ring(number: int) -> ShelfPart:
        ends = {
            "front": {"thread": draw.choice(threads), "gender": "male"},
            "rear": {"thread": draw.choice(threads), "gender": "female"},
        }
        length = round(draw.uniform(1, 20), 2)
        part = {"id": f"p{number}", "kind": "spacer", "length_mm": length, "length_tolerance_mm": 0.05, **ends}
        return ShelfPart.model_validate({"owned": 1, "part": part})

    return [ring(number) for number in range(80)]


def main() -> int:
    document = json.loads(demo.rig_path("tarnfell-triplet-reduced").read_text("utf-8"))
    document.pop("variants", None)
    document["train"][0]["required_back_focus_mm"] = 100
    document["train"][4]["front"]["gender"] = "male"
    rig = validated(document)
    numbers = np.random.default_rng(1).random(1_000_000)
    worst = 0.0
    for name, threads in (("10 joint kinds", THREADS), ("one thread", ("M42x0.75",))):
        times, sorts = [], []
        for seed in range(ROUNDS):
            pieces = shelf(seed, threads)
            began = time.perf_counter()
            np.sort(numbers)
            sorts.append(time.perf_counter() - began)
            began = time.perf_counter()
            result = find_spacers(rig, pieces)
            times.append(time.perf_counter() - began)
        if threads is THREADS:
            worst = max(times)
        print(
            f"80 pieces, {name}: {statistics.median(times):.2f} s (slowest {max(times):.2f}), "
            f"{statistics.median(times) / statistics.median(sorts):.1f} times a sort of a million numbers; "
            f"{len(result.sets)} sets, best {result.sets[0].error_mm:+.4f} mm"
        )
    return 0 if worst <= LIMIT_S else 1


if __name__ == "__main__":
    sys.exit(main())
