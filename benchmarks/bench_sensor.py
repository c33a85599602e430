"""The bench: do planted cameras come back within two standard errors, and how fast and lean are full frames?

The second part reads 20 frames of 9576 × 6388 px, against a single NumPy pass (read, convert, mean and variance) over
the same files in the same run, and tells the peak memory of a process that does nothing else.
"""

import os
import subprocess
import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from astropy.io import fits

from wyntaxis.core.evidence.cooling.cooler import fit_cooler
from wyntaxis.core.evidence.cooling.log import parse_cooling_log
from wyntaxis.core.evidence.headers.folder import read_folder
from wyntaxis.core.evidence.sensor.bench import measure_bench
from wyntaxis.simulators.camera import SimulatedCamera, cooling_csv, cooling_run, make_bench

SEEDS = int(os.environ.get("SEEDS", "100"))
WIDTH, HEIGHT, FRAMES = 9576, 6388, 20
MAX_MB, MAX_TIMES = 700, 2.0
CASES = {
    "plain": {"hot_share": 0.0, "vignetting": 0.0, "pattern": 0.0},
    "gradients, hot pixels, pattern, clipping": {"hot_share": 5e-3, "vignetting": 0.6, "pattern": 0.02},
}


def coverage(name: str, **made_of: float) -> bool:
    """Print in how many of the seeds each planted number lies within two standard errors."""
    inside: dict[str, int] = {}
    for seed in range(SEEDS):
        camera = SimulatedCamera(width=240, height=176, seed=seed, **made_of)
        with tempfile.TemporaryDirectory() as folder:
            make_bench(camera, Path(folder), (100.0,))
            result = measure_bench(read_folder(Path(folder)), {})
        found = result.gain_at(100.0).transfer
        # Headers tell the sensor 0.05 °C warmer than it was, as real ones are off: the law is held to what they tell.
        pairs = {
            "gain": (found.conversion_gain, camera.gain_at(100)),
            "read noise": (found.read_noise, camera.noise_at(100)),
            "full well": (found.full_well, camera.full_well_e),
            "dark current at -10 C": (result.model.current(-9.95), camera.dark_current(-10)),
            "dark energy": (result.model.energy_ev, camera.dark_energy_ev),
        }
        for run, asked in (("full power", {"full_power": True}), ("regulated", {}), ("ramp", {"ramp_c_min": 1.5})):
            rows = cooling_run(camera, ambient_c=18, target_c=-10, number=seed, **asked)
            model = fit_cooler([parse_cooling_log(cooling_csv(rows).encode(), "run")])
            pairs |= {f"tau, {run}": (model.tau, camera.tau_min), f"pull, {run}": (model.pull, camera.pull_c_min)}
        for key, (estimate, planted) in pairs.items():
            inside[key] = inside.get(key, 0) + (abs(estimate.value - planted) <= 2 * estimate.standard)
    print(f"{name}: within two standard errors, of {SEEDS}: " + ", ".join(f"{k} {v}" for k, v in inside.items()))
    return min(inside.values()) >= 0.9 * SEEDS


def make_frames(folder: Path) -> None:
    """Write bias and flat frames of full size; their pattern repeats, so that writing them does not take for ever."""
    rng = np.random.default_rng(1)
    rows = 512
    for index in range(FRAMES):
        kind, exposure = ("BIAS", 0.0) if index < 4 else ("FLAT", 1.0 + (index - 4) // 2)
        level = 500 + (0 if kind == "BIAS" else 6000 * exposure)
        strip = level + np.sqrt(9 + (level - 500) / 0.8) * rng.standard_normal((rows, WIDTH))
        data = np.tile(np.clip(np.rint(strip), 0, 65535).astype(np.uint16), (HEIGHT // rows + 1, 1))[:HEIGHT]
        header = fits.Header()
        header.update({"IMAGETYP": kind, "EXPTIME": exposure, "GAIN": 100, "OFFSET": 50, "FILTER": "L"})
        fits.PrimaryHDU(data, header).writeto(folder / f"{index:02}.fits")


def numpy_pass(folder: Path) -> None:
    for path in sorted(folder.glob("*.fits")):
        data = fits.getdata(path).astype(np.float64)
        data.mean(), data.var()


def timed(role: str, folder: Path) -> tuple[float, float]:
    """Run one role in a process of its own; return its seconds and its peak memory in MB."""
    out = subprocess.run([sys.executable, __file__, role, str(folder)], check=True, capture_output=True, text=True)
    seconds, peak = out.stdout.split()[-2:]
    return float(seconds), float(peak)


def speed() -> bool:
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        make_frames(folder)
        numpy_pass(folder)  # both then read from the cache of the file system
        reference, reference_mb = timed("numpy", folder)
        ours, ours_mb = timed("bench", folder)
    print(
        f"{FRAMES} frames of {WIDTH} × {HEIGHT} px: NumPy pass {reference:.1f} s ({reference_mb:.0f} MB), "
        f"bench {ours:.1f} s ({ours_mb:.0f} MB)"
    )
    print(f"ratio {ours / reference:.2f}, wanted at most {MAX_TIMES}; memory wanted under {MAX_MB} MB")
    return ours <= MAX_TIMES * reference and ours_mb < MAX_MB


def role(name: str, folder: Path) -> None:
    start = time.perf_counter()
    if name == "numpy":
        numpy_pass(folder)
    else:
        result = measure_bench(read_folder(folder), {})
        assert result.gains, result.notes
    # Not getrusage: a process there has at least the peak of the one that started it.
    status = dict(line.split(":", 1) for line in Path("/proc/self/status").read_text("ascii").splitlines())
    peak = int(status["VmHWM"].split()[0]) / 1024
    print(time.perf_counter() - start, peak)


def main() -> int:
    if len(sys.argv) == 3:
        role(sys.argv[1], Path(sys.argv[2]))
        return 0
    good = speed()
    for name, made_of in CASES.items():
        good &= coverage(name, **made_of)
    return 0 if good else 1


if __name__ == "__main__":
    sys.exit(main())
