"""The spacer search on 160 pieces, as a ratio to one NumPy sort of a million numbers in the same run.

Pieces of 1, 3 or 10 joint kinds, all alike or all different: each within 1 s and 500 MB, and proven.
"""

import json
import random
import resource
import statistics
import sys
import time

import numpy as np

from wyntaxis import demo
from wyntaxis.core.rig.shelf import ShelfPart
from wyntaxis.core.rig.store import validated
from wyntaxis.core.train.spacers import find_spacers

LIMIT_S = 1.0
LIMIT_MB = 500
PIECES = 160
ROUNDS = 3
WANTED_MM = (40.0, 100.0)
DIAMETERS = (42, 48, 54, 63, 68)
ENDS = [(f"M{d}x0.75", gender) for gender in ("male", "female") for d in DIAMETERS]
KINDS = {1: ENDS[:1], 3: [ENDS[0], ENDS[5], ENDS[6]], 10: ENDS}


def shelf(seed: int, kinds: int, alike: bool) -> list[ShelfPart]:
    """Return 160 rings; of one kind, male in front and female behind, else ends drawn from the kinds."""
    draw = random.Random(seed)

    def ring(number: int) -> ShelfPart:
        ends = [draw.choice(KINDS[kinds]), draw.choice(KINDS[kinds]) if kinds > 1 else ENDS[5]]
        front, rear = ({"thread": thread, "gender": gender} for thread, gender in ends)
        length = 3.0 if alike else round(draw.uniform(1, 20), 3)
        part = {"id": f"p{number}", "kind": "spacer", "length_mm": length, "length_tolerance_mm": 0.05}
        return ShelfPart.model_validate({"owned": 1, "part": part | {"front": front, "rear": rear}})

    return [ring(number) for number in range(PIECES)]


def main() -> int:
    document = json.loads(demo.rig_path("tarnfell-triplet-reduced").read_text("utf-8"))
    document.pop("variants", None)
    document["train"][4]["front"] = {"thread": "M42x0.75", "gender": "male"}
    document["train"][2]["rear"] = {"thread": "M42x0.75", "gender": "female"}
    numbers = np.random.default_rng(1).random(1_000_000)
    worst, proven = 0.0, True
    for kinds in KINDS:
        for alike in (True, False):
            times, sorts = [], []
            for seed in range(ROUNDS):
                for wanted in WANTED_MM:
                    document["train"][0]["required_back_focus_mm"] = wanted + 32.5
                    rig, pieces = validated(document), shelf(seed, kinds, alike)
                    began = time.perf_counter()
                    np.sort(numbers)
                    sorts.append(time.perf_counter() - began)
                    began = time.perf_counter()
                    result = find_spacers(rig, pieces)
                    times.append(time.perf_counter() - began)
                    proven = proven and result.proven
            worst = max(worst, *times)
            print(
                f"{PIECES} pieces {'alike' if alike else 'all different'}, {kinds} joint kinds: "
                f"{statistics.median(times):.2f} s (slowest {max(times):.2f}), "
                f"{statistics.median(times) / statistics.median(sorts):.1f} times a sort of a million numbers; "
                f"{result.outcome}"
            )
    peak = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss / 1024
    print(f"slowest {worst:.2f} s (limit {LIMIT_S:.0f}), peak {peak:.0f} MB (limit {LIMIT_MB}), all proven: {proven}")
    return 0 if worst <= LIMIT_S and peak <= LIMIT_MB and proven else 1


if __name__ == "__main__":
    sys.exit(main())
