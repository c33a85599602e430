"""Reading the headers of 5,000 small frames, as a ratio against a bare astropy header loop over the same files."""

import tempfile
import time
from pathlib import Path

import numpy as np
from astropy.io import fits

from wyntaxis.core.frames.audit import audit
from wyntaxis.core.frames.headers import find_frames, read_folder
from wyntaxis.core.reckon import reckon
from wyntaxis.core.rig.store import load
from wyntaxis.demo import rig_path

FILES = 5000
WANTED_RATIO = 1.5


def make(folder: Path) -> None:
    """Write frames of a night: 64 headers' worth of cards and a few pixels each."""
    for index in range(FILES):
        header = fits.Header()
        kind = ("LIGHT", "LIGHT", "DARK", "FLAT", "BIAS")[index % 5]
        header.update(IMAGETYP=kind, FILTER="LRGB"[index % 4], EXPTIME=300.0, GAIN=100, OFFSET=50, XPIXSZ=3.9)
        header.update({"SET-TEMP": -10.0, "CCD-TEMP": -9.9, "FOCALLEN": 676.0, "INSTRUME": "Pellucid 26M"})
        header.update({f"KEY{number}": float(number) for number in range(50)})
        (folder / f"{index // 500}").mkdir(exist_ok=True)
        fits.PrimaryHDU(np.zeros((8, 8), np.uint16), header).writeto(folder / f"{index // 500}" / f"{index}.fits")


def main() -> None:
    rig = load(rig_path("tarnfell-triplet-reduced")).rig
    with tempfile.TemporaryDirectory() as place:
        folder = Path(place)
        make(folder)
        paths = find_frames(folder)
        for path in paths:  # both read from the cache of the file system
            path.read_bytes()
        start = time.perf_counter()
        for path in paths:
            fits.getheader(path)
        bare = time.perf_counter() - start
        start = time.perf_counter()
        found = audit(reckon(rig), read_folder(folder))
        ours = time.perf_counter() - start
    assert found.count == FILES
    print(f"headers of {FILES} files: bare astropy loop {bare:.2f} s, read and audited {ours:.2f} s")
    print(f"ratio {ours / bare:.2f}, wanted at most {WANTED_RATIO}")


if __name__ == "__main__":
    main()
