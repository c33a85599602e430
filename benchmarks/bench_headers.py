"""Reading the headers of small frames, as a ratio against a bare astropy header loop over the same files.

Folders of 300, 1,000 and 5,000 files: each within 1.5 times the bare loop.
"""

import sys
import tempfile
import time
from pathlib import Path

import numpy as np
from astropy.io import fits

from wyntaxis.core.evaluation import evaluate
from wyntaxis.core.evidence.headers.folder import find_frames, read_folder
from wyntaxis.core.records.audit import audit
from wyntaxis.core.rig.store import load
from wyntaxis.demo import rig_path

FILES = (300, 1000, 5000)
WANTED_RATIO = 1.5


def make(folder: Path, files: int) -> None:
    """Write frames of a night: 64 headers' worth of cards and a few pixels each."""
    for index in range(files):
        header = fits.Header()
        kind = ("LIGHT", "LIGHT", "DARK", "FLAT", "BIAS")[index % 5]
        header.update(IMAGETYP=kind, FILTER="LRGB"[index % 4], EXPTIME=300.0, GAIN=100, OFFSET=50, XPIXSZ=3.9)
        header.update({"SET-TEMP": -10.0, "CCD-TEMP": -9.9, "FOCALLEN": 676.0, "INSTRUME": "Pellucid Grand"})
        header.update({f"KEY{number}": float(number) for number in range(50)})
        (folder / f"{index // 500}").mkdir(exist_ok=True)
        fits.PrimaryHDU(np.zeros((8, 8), np.uint16), header).writeto(folder / f"{index // 500}" / f"{index}.fits")


def main() -> int:
    rig = load(rig_path("tarnfell-triplet-reduced")).rig
    worst = 0.0
    for files in FILES:
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            make(folder, files)
            paths = find_frames(folder)
            for path in paths:  # both read from the cache of the file system
                path.read_bytes()
            start = time.perf_counter()
            for path in paths:
                fits.getheader(path)
            bare = time.perf_counter() - start
            start = time.perf_counter()
            found = audit(evaluate(rig), read_folder(folder))
            ours = time.perf_counter() - start
        assert found.count == files
        worst = max(worst, ours / bare)
        print(
            f"headers of {files} files: bare loop {bare:.2f} s, read and audited {ours:.2f} s, {ours / bare:.2f} times"
        )
    print(f"largest ratio {worst:.2f}, wanted at most {WANTED_RATIO}")
    return 0 if worst <= WANTED_RATIO else 1


if __name__ == "__main__":
    sys.exit(main())
