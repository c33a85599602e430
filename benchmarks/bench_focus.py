"""Focus runs: do the planted best position, step, backlash, slope and filter offset come back within twice u?

Each seed is five runs of a simulated telescope, drawn star by star, read from their frames as a user would.
"""

import datetime
import math
import os
import sys
import tempfile
from collections.abc import Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np

from wyntaxis.core.evidence.focus.kind import read
from wyntaxis.core.evidence.focus.result import FocusOptics
from wyntaxis.simulators.telescope import START, Run, SimulatedTelescope

SEEDS = int(os.environ.get("SEEDS", "100"))
PLAN = (("L", 12.0, 1), ("L", 12.0, -1), ("L", 6.0, 1), ("L", 6.0, -1), ("Ha", 9.0, 1))
"""Filter, temperature in °C, and way of each run."""
SIDE = 4
"""Points on each side of the middle."""
CASES = {
    "no obstruction, Gaussian": {"profile": "gaussian"},
    "obstruction 0.35": {"obstruction": 0.35},
    "bad seeing": {"sharpest_px": 5.0, "seeing_scatter": 0.05, "obstruction": 0.35},
    "one wild point": {"wild": True},
    "one run one-sided": {"one_sided": True, "obstruction": 0.35},
    "saturated stars": {"brightest_adu": 2.0e6, "stars": 20},
}


def one_seed(seed: int, made_of: dict[str, object]) -> dict[str, bool]:
    """Return of each planted number whether it lies within twice the uncertainty told."""
    options = dict(made_of)
    outlier, one_sided = bool(options.pop("wild", False)), bool(options.pop("one_sided", False))
    rng = np.random.default_rng(seed)
    scope = replace(
        SimulatedTelescope(width=420, height=320, stars=12, faintest_adu=1.2e4, seed=seed),
        best_position=7000 + rng.uniform(-8, 8),
        backlash_steps=rng.uniform(15, 60),
        steps_per_c=rng.uniform(3, 9),
        offsets={"Ha": rng.uniform(-40, 40)},
        **options,
    )
    growth = scope.step_um / (scope.focal_ratio * scope.pixel_um) * math.sqrt((1 + scope.obstruction**2) / 2)
    step = max(round(scope.sharpest_px * math.sqrt(2.75**2 - 1) / growth / SIDE), 1)
    with tempfile.TemporaryDirectory() as place:
        number, when = 0, START
        for run, (name, celsius, way) in enumerate(PLAN):
            best = scope.best(name, celsius, "out" if way > 0 else "in")
            middle = round(best) + int(rng.integers(-(step // 2), step // 2 + 1))
            middle += way * 5 * step if one_sided and run == 1 else 0
            positions = [middle + way * step * at for at in range(-SIDE, SIDE + 1)]
            cloud = int(rng.integers(len(positions))) if outlier and run == 2 else -1
            paths = scope.write_run(
                Path(place), positions, run=Run(filter_name=name, temperature_c=celsius, start=when, number=number)
            )
            if cloud >= 0:
                wrong = replace(scope, sharpest_px=2.5 * scope.sharpest_px)
                later = when + datetime.timedelta(seconds=12 * cloud)
                run_of = Run(filter_name=name, temperature_c=celsius, number=number + cloud, start=later)
                wrong.write_run(Path(place), [positions[cloud]], run=run_of)
            number += len(paths)
            when += datetime.timedelta(hours=1)
        optics = FocusOptics(scope.pixel_um, scope.focal_ratio, obstruction=scope.obstruction, depth_um=47.0)
        result = read([Path(place)], optics)
    inside = {
        "step": within(result.step_um, scope.step_um),
        "backlash": within(result.model.backlash, scope.backlash_steps),
        "slope": within(result.model.slope, scope.steps_per_c),
        "offset": within(result.offsets[0].offset, scope.offsets["Ha"]),
    }
    for (name, celsius, way), curve in zip(PLAN, result.curves, strict=True):
        if curve.best_position is not None:
            planted = scope.best(name, celsius, "out" if way > 0 else "in")
            inside[f"best position {name} {celsius:g} °C {way:+d}"] = within(curve.best_position, planted)
            inside[f"sharpest {name} {celsius:g} °C {way:+d}"] = within(curve.hfd_px, scope.sharpest_px)
    if one_sided:
        inside["one-sided told"] = result.curves[1].why.startswith("one-sided")
    return inside


def within(estimate: object, planted: float) -> bool:
    value, standard = getattr(estimate, "value", math.nan), getattr(estimate, "standard", 0.0)
    return bool(abs(value - planted) <= 2 * standard)


def summed(found: Sequence[dict[str, bool]]) -> dict[str, tuple[int, int]]:
    """Return by number how often it lay inside, and how often it was told; the runs are taken together."""
    counts: dict[str, tuple[int, int]] = {}
    for seed in found:
        for key, good in seed.items():
            name = key.split(" L ")[0].split(" Ha ")[0]
            inside, entries = counts.get(name, (0, 0))
            counts[name] = (inside + good, entries + 1)
    return counts


def main() -> int:
    good = True
    with ProcessPoolExecutor() as pool:
        for name, made_of in CASES.items():
            counts = summed(list(pool.map(partial(one_seed, made_of=made_of), range(SEEDS))))
            text = ", ".join(f"{key} {inside} of {of}" for key, (inside, of) in counts.items())
            print(f"{name}: within twice u: {text}", flush=True)
            good &= all(inside >= 0.9 * of for inside, of in counts.values())
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
