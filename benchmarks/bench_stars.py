"""Stars on a full frame: how fast and lean from file to table, and how true.

The reference is ``sep`` on the same pixels in the same run: background, extraction and half-flux radius. Each works in
a process of its own, with what threads it has, by turns; the ratio is of the medians. What was drawn has to come back.
"""

import os
import statistics
import subprocess
import sys
import tempfile
from pathlib import Path

import numpy as np
from astropy.io import fits

from wyntaxis.simulators.sky_field import StarShape, stamp

WIDTH, HEIGHT, STARS = 9576, 6388, 5000
ROUNDS = int(os.environ.get("ROUNDS", "3"))
MAX_SHARE, MAX_MB = 0.25, 700
SHAPE, HALF = StarShape(fwhm_px=3.5, beta=3.5), 16

# The process's own highest memory: that of getrusage begins with what its parent held.
PEAK = """
def peak_mb():
    told = open("/proc/self/status").read()
    return int(told.split("VmHWM:")[1].split()[0]) / 1024
"""

OURS = """
import sys, time
from pathlib import Path
from astropy.io import fits
from wyntaxis.core.evidence.stars.frame_stars import read_stars
began = time.perf_counter()
found = read_stars(Path(sys.argv[1]))
took = time.perf_counter() - began
print(took, peak_mb(), found.count, found.hfd_px.value)
"""

REFERENCE = """
import sys, time
import numpy as np, sep
from astropy.io import fits
data = fits.getdata(sys.argv[1]).astype(np.float32)
sep.set_extract_pixstack(10_000_000)
began = time.perf_counter()
background = sep.Background(data)
objects = sep.extract(data - background, 3.5, err=background.globalrms)
radius, _ = sep.flux_radius(data - background, objects["x"], objects["y"], 6.0 * objects["a"], 0.5, subpix=5)
took = time.perf_counter() - began
print(took, peak_mb(), len(objects), 2 * float(np.median(radius)))
"""


def draw(path: Path) -> None:
    """Write a frame of sky and stars, each of them one of a few stamps: drawn one by one they would take minutes."""
    rng = np.random.default_rng(1)
    light = rng.normal(1000, 10, (HEIGHT, WIDTH)).astype(np.float32)
    stamps = [stamp(SHAPE, x, y, HALF) for x in (0, 0.25, 0.5) for y in (0, 0.25, 0.5)]
    across, down = rng.integers(30, WIDTH - 30, STARS), rng.integers(30, HEIGHT - 30, STARS)
    for x, y, flux in zip(across, down, np.exp(rng.uniform(8, 12.5, STARS)), strict=True):
        light[y - HALF : y + HALF + 1, x - HALF : x + HALF + 1] += flux * stamps[rng.integers(len(stamps))]
    fits.PrimaryHDU(np.clip(np.rint(light), 0, 65535).astype(np.uint16)).writeto(path)


def run(code: str, path: Path) -> list[float]:
    """Return seconds, peak MB, how many stars, and the median half-flux diameter in px."""
    entries = subprocess.run([sys.executable, "-c", PEAK + code, str(path)], check=True, capture_output=True, text=True)
    return [float(value) for value in entries.stdout.split()]


def main() -> int:
    """Print what was measured; 1 where it is slower or larger than it may be."""
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder, "field.fits")
        draw(path)
        ours, theirs = zip(*[(run(OURS, path), run(REFERENCE, path)) for _ in range(ROUNDS)], strict=True)
    for name, rounds in (("wyntaxis", ours), ("sep", theirs)):
        seconds, megabytes, stars, hfd = (statistics.median(column) for column in zip(*rounds, strict=True))
        print(f"{name}: {seconds:.2f} s, peak {megabytes:.0f} MB, {stars:.0f} stars, median HFD {hfd:.2f} px")
    share = statistics.median(row[0] for row in ours) / statistics.median(row[0] for row in theirs)
    print(f"ratio {share:.2f} (at most {MAX_SHARE})")
    return 0 if share <= MAX_SHARE and max(row[1] for row in ours) <= MAX_MB else 1


if __name__ == "__main__":
    sys.exit(main())
