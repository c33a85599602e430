"""The demo's frames under the sky: focus runs with planted mistakes, and a night's lights of which some are spoiled."""

from __future__ import annotations

import datetime
import math
from dataclasses import replace
from pathlib import Path

from wyntaxis.core.files.errors import Progress
from wyntaxis.simulators.flat_field import FLAT_START, Mote, SimulatedFlats
from wyntaxis.simulators.telescope import START, Run, SimulatedFocalSurface, SimulatedTelescope, Spoiled

DEMO_TELESCOPE = SimulatedTelescope(
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
            run=Run(
                filter_name=filter_name,
                temperature_c=celsius,
                start=START + datetime.timedelta(minutes=47 * index),
                number=number,
                brightness=brightness,
                cards=CARDS,
                ending=".fits.gz",
            ),
        )
        number += len(paths)


FIELD_TELESCOPE = replace(
    DEMO_TELESCOPE, width=1500, height=1000, stars=130, pixel_um=15.6, sharpest_px=2.0, faintest_adu=6e3,
    brightest_adu=1.6e5, seeing_scatter=0.03, backlash_steps=0.0,
)  # fmt: skip
"""Frames of the whole sensor, binned 4 × 4."""
TILT_UM, TILT_DEG, FLAT_AT_MM, CURVATURE_UM_MM = 58.0, 131.0, 62.12, 57.0
SWEEPS = (("ring out 62.00 mm", 62.00, 4.0), ("as built 62.90 mm", 62.90, 4.0), ("turned 62.90 mm", 62.90, 184.0))
"""Folder, spacing in mm, and the rotator's angle of each sweep: the tilt turns with the camera, and is its own."""
FIELD_STEP, FIELD_SIDE = 36, 5


def write_sweeps(folder: Path, progress: Progress = lambda _done, _of: None) -> None:
    """Write sweeps over the whole field: a tilted camera, and a bowl that another spacing makes flat."""
    scope = FIELD_TELESCOPE
    half = math.hypot(scope.width, scope.height) / 2 * scope.pixel_um / 1000
    turn = math.radians(TILT_DEG)
    slope = (TILT_UM / half * math.cos(turn), TILT_UM / half * math.sin(turn))
    for index, (name, spacing, rotation) in enumerate(SWEEPS):
        curvature = CURVATURE_UM_MM * (spacing - FLAT_AT_MM) / half**2
        own = replace(scope, over_field=SimulatedFocalSurface(slope, curvature), seed=scope.seed + index // 2)
        middle = round(own.best_position)
        for at in range(-FIELD_SIDE, FIELD_SIDE + 1):
            number = 11 * index + at + FIELD_SIDE
            progress(number, 11 * len(SWEEPS))
            own.write_run(
                folder / name,
                [middle + FIELD_STEP * at],
                run=Run(
                    temperature_c=7.5 - 0.2 * index,
                    start=START + datetime.timedelta(minutes=40 * index, seconds=15 * (at + FIELD_SIDE)),
                    number=number,
                    cards={"FOCALLEN": 513.8, "XPIXSZ": 15.6, "XBINNING": 4, "ROTATANG": rotation, "PIERSIDE": "EAST"},
                ),
            )


DEMO_FLATS = SimulatedFlats(
    width=1500, height=1000, pixel_um=15.6, level_adu=26_000.0, gain_e_adu=6.0, corner_share=0.83,
    centre_off_px=(70.0, -25.0), pattern=0.002, stops_px=((0.0, 0.0), (1.1, -0.7)),
    brightness={"Ha": 0.62, "OIII": 0.21},
    motes=(
        Mote(1010, 640, 3.4, 0.07), Mote(420, 310, 3.4, 0.05), Mote(560, 700, 35.4, 0.9, "L"),
        Mote(1040, 330, 35.4, 0.8, "L"), Mote(700, 420, 35.4, 0.9, "Ha"), Mote(900, 650, 35.4, 0.8, "OIII"),
    ), seed=41,
)  # fmt: skip
"""A wheel that does not stop where it did, dust on two surfaces, a filter underexposed; binned 4 × 4."""


def write_flats(folder: Path, progress: Progress = lambda _done, _of: None) -> None:
    """Write last month's flats, before a grain came in and the camera was turned a little, and this morning's."""
    cards = {"FOCALLEN": 513.8, "XPIXSZ": 15.6, "XBINNING": 4}
    progress(0, 2)
    before = replace(DEMO_FLATS, motes=DEMO_FLATS.motes[1:4], corner_share=0.85)
    month = datetime.timedelta(days=31)
    turned, then = cards | {"ROTATANG": 4.0}, FLAT_START - month
    before.write(folder / "October", ["L"], each=4, start=then, number=60, cards=turned)
    progress(1, 2)
    order = ["L", "Ha", "OIII", "L", "Ha", "OIII"]
    DEMO_FLATS.write(folder / "November", order, each=3, cards=turned)
    progress(2, 2)


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
