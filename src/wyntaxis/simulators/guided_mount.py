"""A simulated mount that is guided: worm, drift, seeing, wind, backlash, dithers, lost stars; and the log of it."""

from __future__ import annotations

import datetime
import math
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np

SIDEREAL_ARCSEC_S = 15.041067
"""How fast the sky turns: 1296000″ in a sidereal day of 86164.0905 s."""
START = datetime.datetime(2026, 11, 14, 20, 12, 0, tzinfo=datetime.UTC)
GUST_S = 9.0
"""How long a gust of wind lasts, as a rule."""


@dataclass(frozen=True)
class SimulatedMount:
    """A mount and its guider; angles in arcsec, times in s, rates in arcsec/min.

    ``eagerness`` is the share of an error that a correction takes away; 0 leaves the mount alone. ``settle_share`` is
    how much of a dither is left from frame to frame, where the guider moves there step by step.
    """

    seconds: float = 3600.0
    interval_s: float = 2.5
    worm_period_s: float = 479.0
    worm_amplitude: float = 6.0
    drift_ra: float = 0.0
    drift_dec: float = 0.9
    seeing: float = 0.45
    wind: float = 0.15
    eagerness: float = 0.6
    backlash_ms: float = 350.0
    rate_sidereal: float = 0.5
    declination_deg: float = 35.0
    scale_arcsec_px: float = 1.606
    dither_every_s: float = 600.0
    dither_arcsec: float = 8.0
    lost_share: float = 0.01
    one_axis: bool = False
    angle_deg: float = 22.0
    calibration_noise_px: float = 0.12
    calibration_pulse_ms: float = 750.0
    seed: int = 1


@dataclass(frozen=True)
class SimulatedRun:
    """What happened: times in s, errors as measured and pulses with their sign, (n,) each; rows dithered and lost."""

    time_s: Any
    ra: Any
    dec: Any
    ra_pulse_ms: Any
    dec_pulse_ms: Any
    dithers: tuple[int, ...]
    lost: Any


def simulated(mount: SimulatedMount) -> SimulatedRun:
    """Return a guided run, frame by frame."""
    rng = np.random.default_rng(mount.seed)
    count = round(mount.seconds / mount.interval_s)
    time = np.arange(count) * mount.interval_s
    phase = rng.uniform(0, 2 * math.pi)
    worm = mount.worm_amplitude * np.sin(2 * math.pi * time / mount.worm_period_s + phase)
    moves = {
        "ra": np.diff(worm, prepend=worm[0]) + mount.drift_ra * mount.interval_s / 60,
        "dec": np.full(count, mount.drift_dec * mount.interval_s / 60),
    }
    keeps = math.exp(-mount.interval_s / GUST_S)
    gusts = rng.normal(0, mount.wind * math.sqrt(1 - keeps**2), (2, count))
    seeing = rng.normal(0, mount.seeing, (2, count))
    lost = rng.random(count) < mount.lost_share
    every = round(mount.dither_every_s / mount.interval_s) if mount.dither_every_s else 0
    dithers = tuple(range(every, count, every)) if every else ()
    lost[[0, 1, 2, *dithers]] = False
    ways = rng.uniform(0, 2 * math.pi, count)
    rates = {
        "ra": SIDEREAL_ARCSEC_S * mount.rate_sidereal * math.cos(math.radians(mount.declination_deg)) / 1000,
        "dec": SIDEREAL_ARCSEC_S * mount.rate_sidereal / 1000,
    }
    errors, pulses = np.zeros((2, count)), np.zeros((2, count))
    wind = np.zeros(2)
    place = np.zeros(2)
    slack, last = 0.0, 0.0
    dithered = frozenset(dithers)
    for row in range(count):
        wind = keeps * wind + gusts[:, row]
        place += (moves["ra"][row], moves["dec"][row])
        if row in dithered:
            place += mount.dither_arcsec * np.array([math.cos(ways[row]), math.sin(ways[row])])
        errors[:, row] = place + wind + seeing[:, row]
        if lost[row] or not mount.eagerness:
            continue
        for axis, name in enumerate(("ra", "dec")):
            if axis and mount.one_axis:
                continue
            pulse = -mount.eagerness * errors[axis, row] / rates[name]
            pulse = float(np.clip(pulse, -2000, 2000))
            pulses[axis, row] = pulse
            moved = pulse
            if axis:
                if pulse * last < 0:
                    slack = mount.backlash_ms - slack
                taken = min(abs(pulse), slack)
                slack, moved, last = slack - taken, math.copysign(abs(pulse) - taken, pulse), pulse
            place[axis] += moved * rates[name]
    return SimulatedRun(time, errors[0], errors[1], pulses[0], pulses[1], dithers, lost)


def log_text(
    mount: SimulatedMount,
    run: SimulatedRun,
    *,
    in_px: bool = True,
    calibrated: bool = True,
    start: datetime.datetime = START,
) -> str:
    """Return a run as a log writes it: facts, a calibration, and a row for each frame."""
    unit, factor = ("px", 1 / mount.scale_arcsec_px) if in_px else ("arcsec", 1.0)
    lines = [
        "log of a guided night",
        f"exposure = {mount.interval_s * 0.8:.1f} s, declination = {mount.declination_deg:.1f} deg, pier side = west",
    ]
    if calibrated:
        lines += ["", *calibration_lines(mount), ""]
    heads = (f"RA error [{unit}]", f"Dec error [{unit}]", "RA pulse [ms]", "Dec pulse [ms]", "SNR", "event")
    lines.append(";".join(("frame", "time", *heads)))
    dithers = frozenset(run.dithers)
    rng = np.random.default_rng(mount.seed + 1)
    strength = rng.normal(38, 3, len(run.time_s))
    for row, at in enumerate(run.time_s):
        moment = (start + datetime.timedelta(seconds=float(at))).strftime("%Y-%m-%dT%H:%M:%S.%f")[:-3]
        if run.lost[row]:
            lines.append(f"{row + 1};{moment};;;;;2.1;star lost")
            continue
        event = "dither" if row in dithers else ""
        lines.append(
            f"{row + 1};{moment};{run.ra[row] * factor:.4f};{run.dec[row] * factor:.4f};"
            f"{run.ra_pulse_ms[row]:.0f};{run.dec_pulse_ms[row]:.0f};{strength[row]:.1f};{event}"
        )
    return "\n".join(lines) + "\n"


def calibration_lines(mount: SimulatedMount, steps: int = 12) -> list[str]:
    """Return the rows of a calibration: the star sent west and back, north and back, with play in declination."""
    rng = np.random.default_rng(mount.seed + 2)
    step_s = mount.calibration_pulse_ms / 1000
    sky = SIDEREAL_ARCSEC_S * mount.rate_sidereal / mount.scale_arcsec_px
    speed = {"ra": sky * math.cos(math.radians(mount.declination_deg)), "dec": sky}
    turn = math.radians(mount.angle_deg)
    along = {"ra": (math.cos(turn), math.sin(turn)), "dec": (-math.sin(turn), math.cos(turn))}
    lines = ["direction;step;pulse [ms];x [px];y [px]"]
    place = np.array([412.0, 337.0])
    play = {"ra": 0.0, "dec": 0.0}
    for way, axis, sign in (("west", "ra", 1), ("east", "ra", -1), ("north", "dec", 1), ("south", "dec", -1)):
        slack = mount.backlash_ms / 1000 if way == "south" else play[axis]
        for step in range(steps + 1):
            if step:
                taken = min(step_s, slack)
                slack -= taken
                place = place + sign * (step_s - taken) * speed[axis] * np.array(along[axis])
            seen = place + rng.normal(0, mount.calibration_noise_px, 2)
            lines.append(f"{way};{step};{mount.calibration_pulse_ms:.0f};{seen[0]:.3f};{seen[1]:.3f}")
    return lines


def write_guide_log(path: Path, mount: SimulatedMount, *, in_px: bool = True, calibrated: bool = True) -> Path:
    """Write the log of a simulated run, and return its path."""
    path.parent.mkdir(parents=True, exist_ok=True)
    path.write_text(log_text(mount, simulated(mount), in_px=in_px, calibrated=calibrated), encoding="utf-8")
    return path


NIGHTS = (
    (
        "2026-11-13, first night",
        SimulatedMount(seconds=3000.0, seed=13, drift_dec=1.9, backlash_ms=420.0, eagerness=0.65),
    ),
    ("2026-11-14, after the pole", SimulatedMount(seconds=3600.0, seed=14, drift_dec=0.25, seeing=0.38, wind=0.1)),
)
"""Two nights of the demo: before and after the polar alignment was bettered."""


def write_demo_logs(folder: Path, scale_arcsec_px: float | None = None) -> list[Path]:
    """Write the logs of the demo's two nights; at a guide scale of one's own, where the rig has one."""
    paths = []
    for night, (name, mount) in enumerate(NIGHTS):
        own = replace(mount, scale_arcsec_px=scale_arcsec_px or mount.scale_arcsec_px)
        text = log_text(own, simulated(own), start=START + datetime.timedelta(days=night - 1))
        folder.mkdir(parents=True, exist_ok=True)
        path = folder / f"{name}.csv"
        path.write_text(text, encoding="utf-8")
        paths.append(path)
    return paths
