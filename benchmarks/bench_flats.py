"""Flats: is a wheel that stops off found, none invented, and does dust lie where it was put?

Each seed is two flats through one filter with two grains on it and one on the window, and a flat with grains at other
distances through telescopes of f/4 to f/7, with and without an obstruction.
"""

import os
import sys
from concurrent.futures import ProcessPoolExecutor

import numpy as np

from wyntaxis.core.evidence.filters.dust import light_of, shadows_of
from wyntaxis.core.evidence.filters.shift import pair_shift
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.simulators.flat_field import Mote, SimulatedFlats

SEEDS = int(os.environ.get("SEEDS", "100"))
STOP_PX, BINNED, BIAS = 0.3, 1, 360
RATIOS = ((4.0, 0.0), (5.0, 0.35), (6.0, 0.0), (7.0, 0.4))


def plane(flats: SimulatedFlats, number: int, stop: tuple[float, float] = (0.0, 0.0)) -> np.ndarray:
    """Return a flat's light."""
    return flats.frame("L", number, stop).astype(np.float32) - BIAS


def places(rng: np.random.Generator, count: int, width: int, height: int, reach: float) -> list[tuple[float, float]]:
    """Return places that keep clear of one another and of the rim, by so many px."""
    found: list[tuple[float, float]] = []
    while len(found) < count:
        x, y = rng.uniform(reach, width - reach), rng.uniform(reach, height - reach)
        if all(np.hypot(x - a, y - b) > 1.4 * reach for a, b in found):
            found.append((x, y))
    return found


def one_seed(seed: int) -> dict[str, bool]:
    """Return of each claim whether it held."""
    rng = np.random.default_rng(seed)
    turn = rng.uniform(0, 2 * np.pi)
    (first, second, third) = places(rng, 3, 640, 460, 100)
    motes = (Mote(*first, 3.0, 0.11, "L"), Mote(*second, 3.1, 0.13, "L"), Mote(*third, 1.0, 0.06))
    flats = SimulatedFlats(width=640, height=460, focal_ratio=5.0, gain_e_adu=3.0, motes=motes, seed=seed)
    entries: dict[str, bool] = {}
    for name, stop in (("shift", (STOP_PX * np.cos(turn), STOP_PX * np.sin(turn))), ("none", (0.0, 0.0))):
        one, other = plane(flats, 1), plane(flats, 2, stop)
        found = pair_shift((one, other), light_of((one + other) / 2, BINNED), BINNED)
        shift = found.shift_px or Estimate(99.0)
        if name == "shift":
            entries["0.3 px found"] = found.moved > 0 and shift.value > 2 * shift.standard
            entries["0.3 px within 2u"] = abs(shift.value - STOP_PX) <= 2 * shift.standard
        else:
            entries["none invented"] = not found.moved and shift.value <= 2 * shift.standard
    ratio, obstruction = RATIOS[seed % len(RATIOS)]
    distances = (rng.uniform(1.2, 1.6), rng.uniform(2.2, 2.8))
    (near, far) = places(rng, 2, 900, 640, 0.55 * 2800 / (3.9 * ratio))
    grains = (Mote(*near, distances[0], 0.05), Mote(*far, distances[1], 0.08))
    dusty = SimulatedFlats(width=900, height=640, focal_ratio=ratio, obstruction=obstruction, motes=grains, seed=seed)
    shadows = shadows_of(plane(dusty, 3), BINNED, obstruction)
    entries["no other dust"] = len(shadows) <= len(grains)
    for grain, name in zip(grains, ("near", "far"), strict=True):
        best = min(shadows, key=lambda s: np.hypot(s.x - grain.x, s.y - grain.y), default=None)
        distance = 0.0 if best is None else best.outer_px.value * 3.9 * ratio / 1000
        entries[f"{name} dust within 10 %"] = abs(distance / grain.distance_mm - 1) <= 0.1
        standard = 0.0 if best is None else best.outer_px.standard * 3.9 * ratio / 1000
        entries[f"{name} dust within 2u"] = abs(distance - grain.distance_mm) <= 2 * standard
    return entries


def main() -> int:
    """Print how often each claim held; the exit code is 1 where one did in fewer than 90 %."""
    with ProcessPoolExecutor() as pool:
        entries = list(pool.map(one_seed, range(SEEDS)))
    counts = {key: sum(entry[key] for entry in entries) for key in entries[0]}
    print(", ".join(f"{key} {count} of {SEEDS}" for key, count in counts.items()))
    return 0 if all(count >= 0.9 * SEEDS for count in counts.values()) else 1


if __name__ == "__main__":
    sys.exit(main())
