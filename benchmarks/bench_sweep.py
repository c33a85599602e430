"""A field sweep of full frames: how fast and lean from files to the surface of best focus.

The reference is ``sep`` on the same frames in the same run: background, extraction and half-flux radius of each. Each
works in a process of its own, with what threads it has; imports outside the time on both sides.
"""

import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from astropy.io import fits

from bench_stars import PEAK
from wyntaxis.simulators.sky_field import StarShape, stamp

WIDTH, HEIGHT, STARS, FRAMES = 9576, 6388, 3000, 11
ROUNDS = int(os.environ.get("ROUNDS", "1"))
MAX_SHARE, MAX_MB = 0.3, 900
HALF, DISC_PX, TILT_STEPS, STEP = 22, 0.16, 12.0, 10

OURS = """
import sys, time
from pathlib import Path
from wyntaxis.core.evidence.field.kind import read
from wyntaxis.core.evidence.field.result import FieldOptics
from wyntaxis.core.evidence.measured import Estimate
import wyntaxis.core.evidence.stars.frame_stars, scipy.spatial, scipy.special, scipy.optimize, scipy.interpolate
optics = FieldOptics(pixel_um=3.76, step_um=Estimate(4.0), depth_um=48.0, focal_ratio=5.0)
began = time.perf_counter()
found = read([Path(sys.argv[1])], optics)
took = time.perf_counter() - began
entry = found.sweeps[0]
print(took, peak_mb(), len(entry.zoned.zones), entry.surface.tilt.value, entry.surface.tilt.standard)
"""

REFERENCE = """
import sys, time
from pathlib import Path
import numpy as np, sep
from astropy.io import fits
sep.set_extract_pixstack(10_000_000)
took, count, radii = 0.0, 0, []
for path in sorted(Path(sys.argv[1]).iterdir()):
    data = fits.getdata(path).astype(np.float32)
    began = time.perf_counter()
    background = sep.Background(data)
    objects = sep.extract(data - background, 3.5, err=background.globalrms)
    radius, _ = sep.flux_radius(data - background, objects["x"], objects["y"], 6.0 * objects["a"], 0.5, subpix=5)
    took += time.perf_counter() - began
    count += len(objects)
    radii.append(float(np.median(radius)))
print(took, peak_mb(), count, 0, 0)
"""


def draw(folder: Path) -> None:
    """Write eleven frames of one field through focus, tilted from left to right; each star one of a few stamps."""
    rng = np.random.default_rng(1)
    across, down = rng.integers(40, WIDTH - 40, STARS), rng.integers(40, HEIGHT - 40, STARS)
    flux = np.exp(rng.uniform(9.5, 12.5, STARS))
    stamps: dict[int, np.ndarray] = {}
    for index in range(FRAMES):
        position = STEP * (index - FRAMES // 2)
        light = rng.standard_normal((HEIGHT, WIDTH), np.float32) * np.float32(10) + np.float32(1000)
        for x, y, own in zip(across, down, flux, strict=True):
            off = abs(position - TILT_STEPS * (x - WIDTH / 2) / (np.hypot(WIDTH, HEIGHT) / 2))
            key = round(4 * DISC_PX * off)
            if key not in stamps:
                disc = key / 4
                # Light of a disc and of the seeing, added up in quadrature, is near enough for a time.
                stamps[key] = stamp(StarShape(fwhm_px=float(np.hypot(3.0, 0.6 * disc)), beta=3.5), 0, 0, HALF)
            light[y - HALF : y + HALF + 1, x - HALF : x + HALF + 1] += own * stamps[key]
        header = fits.Header(
            {"IMAGETYP": "LIGHT", "FOCUSPOS": 7000 + position, "DATE-OBS": f"2026-11-20T20:00:{index:02}"}
        )
        pixels = np.clip(np.rint(light), 0, 65535).astype(np.uint16)
        fits.PrimaryHDU(pixels, header).writeto(folder / f"{index:02}.fits")


def run(code: str, folder: Path) -> list[float]:
    """Return seconds, peak MB, and what was found."""
    entries = subprocess.run(
        [sys.executable, "-c", PEAK + code, str(folder)], check=True, capture_output=True, text=True
    )
    return [float(value) for value in entries.stdout.split()]


def main() -> int:
    """Print what was measured; 1 where it is slower or larger than it may be."""
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        draw(folder)
        ours, theirs = zip(*[(run(OURS, folder), run(REFERENCE, folder)) for _ in range(ROUNDS)], strict=True)
    for name, rounds in (("wyntaxis", ours), ("sep", theirs)):
        seconds, megabytes, *_ = (statistics.median(column) for column in zip(*rounds, strict=True))
        print(f"{name}: {seconds:.2f} s for {FRAMES} frames, peak {megabytes:.0f} MB")
    zones, tilt, standard = ours[0][2:]
    print(f"{zones:.0f} zones, tilt {tilt:.2f} ± {standard:.2f} steps from middle to corner (planted {TILT_STEPS})")
    share = statistics.median(row[0] for row in ours) / statistics.median(row[0] for row in theirs)
    print(f"ratio {share:.2f} (at most {MAX_SHARE})")
    return 0 if share <= MAX_SHARE and max(row[1] for row in ours) <= MAX_MB else 1


if __name__ == "__main__":
    sys.exit(main())
