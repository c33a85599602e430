"""The demo's frames under the sky: focus runs with planted mistakes, and a night's lights of which some are spoiled."""

from __future__ import annotations

import datetime
from dataclasses import replace
from pathlib import Path

from wyntaxis.core.files.errors import Progress
from wyntaxis.stand_ins.telescope import START, Spoiled, StandInTelescope

DEMO_TELESCOPE = StandInTelescope(
    best_position=12871.0,
    step_um=2.43,
    focal_ratio=4.94,
    sharpest_px=2.45,
    backlash_steps=46.0,
    steps_per_c=3.7,
    offsets={"Ha": 27.0, "OIII": 1.5},
    width=168,
    height=132,
    stars=8,
    faintest_adu=1.2e4,
    brightest_adu=9.0e4,
    noise_adu=4.0,
    sky_adu=420.0,
    seed=2026,
)
"""Its step is the drawtube's 4.2 µm times 0.76²: the reducer moves with the drawtube."""
RUNS = (
    ("out", "L", 9.0, 1, 18, 1.0),
    ("in", "L", 8.6, -1, 18, 1.0),
    ("later", "L", 3.1, 1, 18, 1.0),
    ("Ha", "Ha", 2.7, 1, 18, 0.7),
    ("OIII", "OIII", 2.4, 1, 18, 0.7),
    ("small steps", "L", 2.0, 1, 3, 6.0),
)
"""Folder, filter, temperature in °C, way, step, and brightness of each run; the last has small steps and full stars."""
SIDE = 4
CARDS = {"FOCALLEN": 513.8, "XPIXSZ": 3.9}


def write_focus_runs(folder: Path, progress: Progress = lambda _done, _of: None) -> None:
    """Write the demo's focus runs, a folder each."""
    number = 0
    for index, (name, filter_name, celsius, way, step, brightness) in enumerate(RUNS):
        progress(index, len(RUNS))
        middle = round(DEMO_TELESCOPE.best(filter_name, celsius, "out" if way > 0 else "in")) + 5
        positions = [middle + way * step * at for at in range(-SIDE, SIDE + 1)]
        paths = DEMO_TELESCOPE.write_run(
            folder / name,
            positions,
            filter_name=filter_name,
            temperature_c=celsius,
            start=START + datetime.timedelta(minutes=47 * index),
            number=number,
            brightness=brightness,
            cards=CARDS,
            ending=".fits.gz",
        )
        number += len(paths)


NIGHT_FRAMES = 26
NIGHT = replace(
    DEMO_TELESCOPE, width=480, height=340, stars=60, faintest_adu=3e3, brightest_adu=2.5e5, exposure_s=240.0
)


def write_night(folder: Path, progress: Progress = lambda _done, _of: None) -> None:
    """Write a night's lights: focus drifts off and is found anew, a cable pulls, cloud passes, the mount flips, dew
    falls.
    """
    for index in range(NIGHT_FRAMES):
        progress(index, NIGHT_FRAMES)
        filter_name, focused_c = ("L" if index < 14 else "Ha"), (9.0 if index < 9 else 6.8)
        counter = round(NIGHT.best(filter_name, focused_c, "out"))
        dewed = max(index - 20, 0)
        spoiled = Spoiled(
            blur=1.0 + 0.13 * dewed,
            trail_px=6.0 if index == 4 else 0.0,
            trail_deg=30.0,
            shift=(3.0 * (index % 4) - 4.0, 2.5 * (index % 3) - 2.0 + (40.0 if index == 18 else 0.0)),
            flipped=index >= 16,
        )
        cloud = 0.03 if index in (11, 12) else 1.0
        pixels = NIGHT.frame(
            counter - (30.0 if 6 <= index < 9 else 0.0),
            filter_name=filter_name,
            temperature_c=focused_c,
            direction="out",
            number=500 + index,
            brightness=cloud * 0.82**dewed,
            spoiled=spoiled,
        )
        moment = START + datetime.timedelta(seconds=252 * index)
        path = folder / f"light_{index:03}.fits"
        NIGHT.write(path, pixels, counter, filter_name, 9.0 - 0.25 * index, moment, CARDS)
