"""Field sweeps: do planted tilt, its azimuth, curvature and flat spacing come back within twice u?

Each seed is a sweep of a simulated telescope, drawn star by star, read from its frames as a user would. A planted tilt
over the depth of focus has to come back within a tenth or 2u and 10°, a curvature within 15 % or 2u; where nothing is
planted, nothing may be certain and over half the depth of focus.
"""

import math
import os
import sys
import tempfile
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import partial
from pathlib import Path

import numpy as np

from wyntaxis.core.evidence.field.causes import matters
from wyntaxis.core.evidence.field.kind import read
from wyntaxis.core.evidence.field.result import FieldOptics, FieldResult, PlateScrews
from wyntaxis.core.evidence.field.surface import SURE
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.optics.tilt_plate import tilt_of_turns
from wyntaxis.simulators.telescope import Run, SimulatedFocalSurface, SimulatedTelescope

SEEDS = int(os.environ.get("SEEDS", "100"))
ONLY = os.environ.get("ONLY", "")
"""Cases whose name holds this are run; all where it is left out."""
DEPTH_UM = 47.7
SIDE = 5
"""Positions on each side of the middle: sweeps of eleven frames."""
FLAT_AT_MM, UM_A_MM = 61.9, 60.0
SCREWS = {count: tuple(17.0 + 360 / count * k for k in range(count)) for count in (3, 4)}


@dataclass(frozen=True)
class Case:
    """What is planted: tilt and bowl from middle to corner in µm, and the telescope."""

    tilt_um: float
    curvature_um: float
    telescope: SimulatedTelescope
    spacings: tuple[float, ...] = ()


SCOPE = SimulatedTelescope(
    width=700, height=480, stars=70, faintest_adu=8e3, brightest_adu=2e5, seeing_scatter=0.03, noise_adu=6.0
)
CASES = {
    "tilt 60 µm, bowl -40 µm": Case(60.0, -40.0, SCOPE),
    "tilt 30 µm, obstruction 0.35": Case(30.0, 25.0, replace(SCOPE, obstruction=0.35)),
    "few stars, restless seeing": Case(60.0, 40.0, replace(SCOPE, stars=24, seeing_scatter=0.06)),
    "flat": Case(0.0, 0.0, SCOPE),
    "coma and astigmatism": Case(
        60.0, 30.0, replace(SCOPE, over_field=SimulatedFocalSurface(coma_px=(0.5, 0.3), astigmatism_um_mm2=6.0))
    ),
    "flat at 61.9 mm by three spacings": Case(20.0, 0.0, SCOPE, (61.2, 62.0, 62.9)),
}


def one_seed(seed: int, case: Case) -> dict[str, bool]:
    """Return of each planted number whether it came back."""
    rng = np.random.default_rng(seed)
    turn = rng.uniform(0, 2 * math.pi)
    optics = FieldOptics(
        pixel_um=case.telescope.pixel_um,
        step_um=Estimate(case.telescope.step_um),
        depth_um=DEPTH_UM,
        focal_ratio=case.telescope.focal_ratio,
        obstruction=case.telescope.obstruction,
    )
    with tempfile.TemporaryDirectory() as place:
        folders = {}
        for k, spacing in enumerate(case.spacings or (0.0,)):
            curvature = (spacing - FLAT_AT_MM) * UM_A_MM if spacing else case.curvature_um
            folders[Path(place) / f"sweep {k}"] = spacing
            _write(Path(place) / f"sweep {k}", replace(case, curvature_um=curvature), turn, rng, 20 * k)
        entries = {folder.resolve(): spacing for folder, spacing in folders.items() if spacing}
        result = read(list(folders), optics, spacings=entries)
    if case.spacings:
        flat = result.flat.flat_at_mm
        return {"flat spacing": flat is not None and abs(flat.value - FLAT_AT_MM) <= SURE * flat.standard}
    return _judged(result, case, turn)


def _write(folder: Path, case: Case, turn: float, rng: np.random.Generator, number: int) -> None:
    scope = case.telescope
    half = math.hypot(scope.width, scope.height) / 2 * scope.pixel_um / 1000
    slope = case.tilt_um / half
    over_field = replace(
        scope.over_field,
        tilt_um_mm=(slope * math.cos(turn), slope * math.sin(turn)),
        curvature_um_mm2=case.curvature_um / half**2,
    )
    scope = replace(
        scope, over_field=over_field, seed=int(rng.integers(1 << 30)), best_position=7000 + rng.uniform(-9, 9)
    )
    growth = scope.step_um / (scope.focal_ratio * scope.pixel_um) * math.sqrt((1 + scope.obstruction**2) / 2)
    step = max(round(scope.sharpest_px * math.sqrt(2.75**2 - 1) / growth / SIDE), 1)
    scope.write_run(folder, [7000 + step * at for at in range(-SIDE, SIDE + 1)], run=Run(number=number))


def _judged(result: FieldResult, case: Case, turn: float) -> dict[str, bool]:
    last = result.last
    if last is None or last.tilt_um is None or last.curvature_um is None:
        return {"measured": False}
    tilt, curvature, azimuth = last.tilt_um, last.curvature_um, last.azimuth_deg
    if not case.tilt_um:
        alarms = (matters(tilt, DEPTH_UM / 2), matters(curvature, DEPTH_UM / 2))
        return {
            "no false alarm": not any(alarms),
            "no tilt within 2u": tilt.value <= SURE * tilt.standard,
            "no bowl within 2u": abs(curvature.value) <= SURE * curvature.standard,
        }
    off = abs(tilt.value - case.tilt_um)
    away = 180.0 if azimuth is None else abs((azimuth.value - math.degrees(turn) + 180) % 360 - 180)
    slope = last.slope_um_mm
    assert slope is not None
    assert last.half_diagonal_um is not None
    left = {}
    for count, azimuths in SCREWS.items():
        screws = PlateScrews("plate", 38.0, 0.35, azimuths)
        advice = replace(result, optics=replace(result.optics, screws=screws)).screws
        given = (0.0, 0.0) if advice is None else tilt_of_turns([s.turns for s in advice.turns], 38.0, azimuths, 0.35)
        per_mm = case.tilt_um / (last.half_diagonal_um / 1000)
        rest = math.hypot(per_mm * math.cos(turn) - given[0], per_mm * math.sin(turn) - given[1])
        left[f"{count} screws leave under a tenth"] = rest < 0.1 * per_mm
    return {
        "tilt": off <= max(0.1 * case.tilt_um, SURE * tilt.standard),
        "tilt within 2u": off <= SURE * tilt.standard,
        "azimuth": away <= 10,
        "curvature": abs(curvature.value - case.curvature_um)
        <= max(0.15 * abs(case.curvature_um), SURE * curvature.standard),
        "curvature within 2u": abs(curvature.value - case.curvature_um) <= SURE * curvature.standard,
        **left,
    }


def main() -> int:
    """Print a line for each case; the exit code is 1 where fewer than 90 % come back."""
    good = True
    with ProcessPoolExecutor() as pool:
        for name, case in CASES.items():
            if ONLY not in name:
                continue
            entries = list(pool.map(partial(one_seed, case=case), range(SEEDS)))
            keys = list(dict.fromkeys(key for entry in entries for key in entry))
            counts = {key: sum(entry.get(key, False) for entry in entries) for key in keys}
            good = good and all(count >= 0.9 * SEEDS for count in counts.values())
            text = ", ".join(f"{key} {count} of {SEEDS}" for key, count in counts.items())
            print(f"{name}: {text}", flush=True)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
