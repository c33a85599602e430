"""Guide logs: do planted numbers come back within twice u, and how long does a log of 200 MB take?

Each seed is a log of the simulated mount, written and read as a user would. What the guiding itself makes of the mount
(RMS, likeness, settling) is taken from a run forty times as long. The time to read is told beside numpy's own reader of
the same numbers.
"""

import io
import os
import sys
import tempfile
import time
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import partial
from pathlib import Path

import numpy as np

from wyntaxis.core.evidence.guide_log import result
from wyntaxis.core.evidence.guide_log.kind import read
from wyntaxis.core.evidence.guide_log.run import GuideOptics, GuideRun
from wyntaxis.core.evidence.guide_log.table import sections_of
from wyntaxis.simulators.guided_mount import SimulatedMount, write_guide_log

SEEDS = int(os.environ.get("SEEDS", "100"))
ONLY = os.environ.get("ONLY", "")
MEGABYTES = int(os.environ.get("MEGABYTES", "200"))
LONG = 40
MOUNT = SimulatedMount()
OPTICS = GuideOptics(
    scale_arcsec_px=MOUNT.scale_arcsec_px,
    pixel_um=4.0,
    main_scale_arcsec_px=1.566,
    rate_is_stated=True,
    declination_deg=35.0,
    calibration_declination_deg=35.0,
    settle_arcsec=1.5,
    settle_s=8.0,
    star_fwhm_arcsec=2.8,
)
CASES = {
    "usual": MOUNT,
    "too eager": replace(MOUNT, eagerness=1.3, seeing=0.7),
    "too weak": replace(MOUNT, eagerness=0.12),
    "windy": replace(MOUNT, wind=0.5, lost_share=0.05),
    "not guided": replace(MOUNT, eagerness=0.0, dither_every_s=0.0, drift_ra=0.3),
    "short, many dithers": replace(MOUNT, seconds=1200.0, dither_every_s=150.0),
    "backlash and dithers": replace(MOUNT, backlash_ms=900.0, dither_every_s=120.0),
}
FOCAL_MM = 206.264806 * 4.0 / MOUNT.scale_arcsec_px


def measured(mount: SimulatedMount) -> dict[str, tuple[float, float] | None]:
    """Return what a log of a mount tells: each number with its standard uncertainty."""
    with tempfile.TemporaryDirectory() as place:
        found = read([write_guide_log(Path(place) / "log.csv", mount)], OPTICS)
    own, calibration = found.runs[0], found.calibration
    settling = own.settling
    entries = {
        "RMS RA": own.rms_ra,
        "RMS Dec": own.rms_dec,
        "drift RA": own.drift_ra.rate if own.drift_ra else None,
        "drift Dec": own.drift_dec.rate if own.drift_dec else None,
        "period": own.period_s,
        "likeness": own.alike_ra,
        "settling, median": settling.median_s if settling else None,
        "settling, 95 %": settling.p95_s if settling else None,
        "guide focal length": calibration.guide_focal_length_mm if calibration else None,
        "axis' angle": calibration.angle_deg if calibration else None,
        "backlash": calibration.backlash_ms if calibration else None,
    }
    return {key: None if found is None else (found.value, found.standard) for key, found in entries.items()}


def one_seed(seed: int, mount: SimulatedMount) -> dict[str, tuple[float, float] | None]:
    """Return what the log of one seed tells."""
    return measured(replace(mount, seed=seed))


def planted(mount: SimulatedMount) -> dict[str, float]:
    """Return what is planted, and what a long run makes of it."""
    truth = {"drift RA": mount.drift_ra, "drift Dec": mount.drift_dec, "period": mount.worm_period_s}
    truth |= {"guide focal length": FOCAL_MM, "axis' angle": mount.angle_deg, "backlash": mount.backlash_ms}
    if mount.eagerness:
        long = measured(replace(mount, seconds=LONG * mount.seconds, seed=10_000))
        for key in ("RMS RA", "RMS Dec", "likeness", "settling, median", "settling, 95 %"):
            found = long[key]
            if found is not None:
                truth[key] = found[0]
    return truth


def read_at_speed() -> bool:
    """Tell how long a large log takes, beside numpy's reader."""
    rng = np.random.default_rng(1)
    row = "{},{:.3f},{:.3f},{:.3f},{:.0f},{:.0f},{:.1f},\n"
    rows = [row.format(k, 2.0 * k, *rng.normal(0, 0.6, 2), *rng.normal(0, 200, 2), 30.0) for k in range(20_000)]
    head = "frame,time_s,ra_arcsec,dec_arcsec,ra_pulse_ms,dec_pulse_ms,snr,event\n"
    body = "".join(rows)
    data = (head + body * max(1, MEGABYTES * 1_000_000 // len(body))).encode()
    start = time.perf_counter()
    (section,) = sections_of(data)
    own = time.perf_counter() - start
    small = "".join(rows)
    start = time.perf_counter()
    np.loadtxt(io.StringIO(small), delimiter=",", usecols=range(7))
    other = (time.perf_counter() - start) * len(data) / len(small)
    print(
        f"{len(data) / 1e6:.0f} MB, {section.rows} rows: {own:.1f} s; numpy's loadtxt {other:.1f} s: {own / other:.2f}"
    )
    return own < other


def dithers_at_speed() -> bool:
    """Tell how long the fits of logs with many dithers take, beside one least-squares fit of a line to all rows."""
    good = True
    for rows, dithers in ((11_500, 144), (2_000_000, 130)):
        rng = np.random.default_rng(2)
        time_s = 2.0 * np.arange(rows)
        marks = tuple(range(rows // dithers, rows, rows // dithers))
        errors = rng.normal(0, 0.6, (2, rows))
        pulses = -0.5 * errors
        run = GuideRun(
            "night", "log.csv", time_s, *errors, *pulses, np.zeros(rows, bool), np.zeros(rows, int), dithers=marks
        )
        start = time.perf_counter()
        result.measured([run], [], OPTICS)
        own = time.perf_counter() - start
        start = time.perf_counter()
        for _ in range(50):
            np.linalg.lstsq(np.stack([np.ones(rows), time_s], axis=1), errors[0])
        other = (time.perf_counter() - start) / 50
        print(f"{rows} rows, {dithers} dithers: {own:.2f} s; a straight line {other:.4f} s: {own / other:.0f}")
        good = good and own < (1.0 if rows < 20_000 else 30.0)
    return good


def false_periods() -> bool:
    """Tell in how many of 1,000 logs of white noise a period is seen; about 3 are promised."""
    seen = 0
    for seed in range(1000):
        rng = np.random.default_rng(seed)
        rows = 900
        run = GuideRun(
            "night", "log.csv", 2.0 * np.arange(rows), *rng.normal(0, 0.6, (2, rows)), None, None,
            np.zeros(rows, bool), np.zeros(rows, int),
        )  # fmt: skip
        seen += result.measured([run], [], OPTICS).runs[0].period_s is not None
    print(f"white noise: a period in {seen} of 1000")
    return seen <= 8


def main() -> int:
    """Run every case and tell how often each planted number came back within twice u."""
    good = True
    if not ONLY or "speed" in ONLY:
        good = all([read_at_speed(), dithers_at_speed(), false_periods()])
    with ProcessPoolExecutor() as pool:
        for name, mount in CASES.items():
            if ONLY not in name:
                continue
            truth = planted(mount)
            entries = list(pool.map(partial(one_seed, mount=mount), range(SEEDS)))
            words = []
            for key, value in truth.items():
                found = [entry[key] for entry in entries]
                inside = sum(abs(own[0] - value) <= 2 * own[1] for own in found if own is not None)
                of = sum(own is not None for own in found)
                good = good and inside >= 0.9 * SEEDS
                words.append(f"{key} {inside} of {of}")
            print(f"{name}: {', '.join(words)}", flush=True)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
