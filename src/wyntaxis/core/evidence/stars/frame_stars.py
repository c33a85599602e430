"""The stars of a frame: from the file to a table, and their medians."""

from __future__ import annotations

import math
from collections.abc import Callable, Iterator, Sequence
from concurrent.futures import ThreadPoolExecutor
from dataclasses import dataclass, replace
from pathlib import Path
from typing import TYPE_CHECKING, Any

import numpy as np

from wyntaxis.core.evidence.headers.folder import ENDINGS, find_frames, frame_endings, read_chunk
from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.strips import OpenFrame, open_frame
from wyntaxis.core.evidence.stars.background import THREADS, background_mesh
from wyntaxis.core.evidence.stars.detection import LARGE, find_spots
from wyntaxis.core.evidence.stars.measuring import Shapes, measure
from wyntaxis.core.evidence.stars.populations import MIN_SNR, piled_up, why_no_star
from wyntaxis.core.evidence.stars.sampling import corrected_fwhm, fwhm_share, hfd_share
from wyntaxis.core.files import camera_raw
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.opening import is_folder, is_there
from wyntaxis.core.fitting import median_error

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats, Numbers

HIGHEST_CODE = 65535
PLATEAU_PIXELS = 3
"""So many pixels of the frame's very highest value are where it is cut off."""
BLEND_FLUX_SHARE, BLEND_ELONGATION = 0.03, 0.1
"""A neighbour of this share of a star's flux within both their sizes, or so much longer than the others: a blend."""
MIN_ISOLATED, MIN_ISOLATED_SHARE = 3, 0.2
BLEND_REACH = 1.5
"""Two annuli of light touch within this many half-flux diameters, and a sharpest star."""
SAME_STAR_PX = 4.0
MAX_ISOLATED = 3000
KEPT_STARS = 300
"""So many of the brightest stars are kept of each of many frames."""
MIN_SIDE_PX = 24
ARCSEC_UM_MM = 206.264806


@dataclass(frozen=True)
class RefusedSpot:
    """What stands out of the noise and is no star: where in px, and why."""

    x: float
    y: float
    why: str


@dataclass(frozen=True)
class StarFigures:
    """The medians of a frame's stars, and how many there are: what stays of a frame of which few stars are kept."""

    count: int
    saturated: int
    hfd_px: Estimate | None
    fwhm_px: Estimate | None
    elongation: Estimate | None
    position_angle_deg: Estimate | None
    why_none: str


@dataclass(frozen=True)
class FrameStars:
    """What one frame's stars tell; lengths in its own px, of a colour frame too: that is measured by its luminance.

    ``entries`` are the medians of all its stars, where only the brightest were kept; ``pixels_joined`` is 2 where a
    colour mosaic's pixels were measured two by two.
    """

    file: str
    shapes: Shapes
    refused: tuple[RefusedSpot, ...]
    sky_adu: Estimate
    noise_adu: Estimate
    scale_arcsec_px: float | None = None
    header: FrameHeader | None = None
    path: Path | None = None
    entries: StarFigures | None = None
    pixels_joined: int = 1

    @property
    def count(self) -> int:
        """How many stars were found."""
        return self.entries.count if self.entries else len(self.shapes.x)

    @property
    def saturated(self) -> int:
        """How many of them are saturated."""
        return self.entries.saturated if self.entries else int(self.shapes.saturated.sum())

    @property
    def brightest(self) -> Floats:
        """Places of the stars that are kept, (n, 2) in px, the brightest first."""
        order = np.argsort(-self.shapes.flux, kind="stable")
        return np.stack([self.shapes.x[order], self.shapes.y[order]], axis=-1)

    def condensed(self) -> FrameStars:
        """Return the frame with the brightest of its stars alone, and the medians of all."""
        figures = StarFigures(
            self.count, self.saturated, self.hfd_px, self.fwhm_px, self.elongation, self.position_angle_deg,
            self.why_none,
        )  # fmt: skip
        return replace(
            self, shapes=self.shapes.brightest(KEPT_STARS), refused=self.refused[:KEPT_STARS], entries=figures
        )

    @property
    def used(self) -> Flags:
        """Which stars the medians are of: unsaturated, well over the noise."""
        return ~self.shapes.saturated & (self.shapes.snr > MIN_SNR)

    @property
    def isolated(self) -> Flags:
        """Which of the used stars stand alone: discs far out of focus overlap, and a blend is larger than a star.

        All used ones where few stand alone.
        """
        used, shapes = self.used, self.shapes
        if not 0 < len(shapes.x) <= MAX_ISOLATED:  # among so many, blends are few
            return used
        usual = float(np.median(shapes.elongation[used])) if used.any() else 1.0
        alone = used & ~_near_another(shapes) & (shapes.elongation < usual + BLEND_ELONGATION)
        return alone if alone.sum() >= max(MIN_ISOLATED, MIN_ISOLATED_SHARE * used.sum()) else used

    def apart_in(self, sharp: FrameStars) -> Flags:
        """Return which of the used stars stand alone by a sharper frame of the same field.

        There two stars are two that here are one disc. The ones of :attr:`lone` where few are found again.
        """
        own, theirs, size = self.shapes, sharp.shapes, self.hfd_px
        if size is None or not 0 < len(own.x) <= MAX_ISOLATED or not 0 < len(theirs.x) <= MAX_ISOLATED:
            return self.isolated
        between = np.hypot(own.x[:, None] - theirs.x, own.y[:, None] - theirs.y)
        same, found = between.argmin(axis=1), between.min(axis=1) < max(SAME_STAR_PX, size.value / 2)
        reach = BLEND_REACH * size.value + (sharp.hfd_px.value if sharp.hfd_px is not None else 0.0)
        places = np.stack([theirs.x, theirs.y], axis=-1)
        near = np.hypot(*np.moveaxis(places[:, None] - places[None, :], -1, 0)) < reach
        near &= theirs.flux[None, :] > BLEND_FLUX_SHARE * theirs.flux[:, None]
        np.fill_diagonal(near, val=False)
        alone = self.used & found & ~near.any(axis=1)[same]
        return alone if alone.sum() >= MIN_ISOLATED else self.isolated

    def median(self, values: Floats, *, among: Flags | None = None) -> Estimate | None:
        """Return the median of a figure over the used stars, with its standard error; None without such a star.

        ``among`` tells which stars it is of, where not of all used ones.
        """
        chosen = values[self.used if among is None else among]
        return Estimate(float(np.median(chosen)), median_error(chosen)) if len(chosen) else None

    def _size(self, values: Floats, share: Callable[[float], float]) -> Estimate | None:
        """Return the median of a size in px, with what the star's unknown profile leaves uncertain."""
        middle = self.median(values)
        if middle is None:
            return None
        unknown = share(middle.value / self.pixels_joined) * middle.value
        return Estimate(middle.value, math.hypot(middle.standard, unknown))

    @property
    def hfd_px(self) -> Estimate | None:
        """The half-flux diameter."""
        return self.entries.hfd_px if self.entries else self._size(self.shapes.hfd, hfd_share)

    @property
    def fwhm_px(self) -> Estimate | None:
        """The full width at half maximum."""
        return self.entries.fwhm_px if self.entries else self._size(self.shapes.fwhm, fwhm_share)

    @property
    def elongation(self) -> Estimate | None:
        """Long axis over short axis."""
        return self.entries.elongation if self.entries else self.median(self.shapes.elongation)

    @property
    def position_angle_deg(self) -> Estimate | None:
        """The direction of the long axis, 0 to 180° from +x toward +y: the mean of directions, which have no end."""
        if self.entries:
            return self.entries.position_angle_deg
        angles = np.deg2rad(2 * self.shapes.angle[self.used])
        if not len(angles):
            return None
        mean = np.exp(1j * angles).mean()
        spread = math.sqrt(max(-2 * math.log(max(abs(mean), 1e-6)), 0.0)) / 2
        return Estimate(float(np.rad2deg(np.angle(mean)) / 2 % 180), math.degrees(spread) / math.sqrt(len(angles)))

    @property
    def why_none(self) -> str:
        """Why there are no medians, empty where there are."""
        if self.entries:
            return self.entries.why_none
        if self.used.any():
            return ""
        return "no star was found" if not self.count else "no star is unsaturated and of S/N over 20"


def _near_another(shapes: Shapes) -> Flags:
    """Return which stars have a neighbour within both their sizes that is bright enough to matter."""
    from scipy.spatial import cKDTree

    places = np.stack([shapes.x, shapes.y], axis=-1)
    pairs = cKDTree(places).query_pairs(2 * float(shapes.hfd.max()), output_type="ndarray")
    one, other = pairs[:, 0], pairs[:, 1]
    apart = np.hypot(*(places[one] - places[other]).T)
    close = apart < shapes.hfd[one] + shapes.hfd[other]
    near = np.zeros(len(places), bool)
    near[one[close & (shapes.flux[other] > BLEND_FLUX_SHARE * shapes.flux[one])]] = True
    near[other[close & (shapes.flux[one] > BLEND_FLUX_SHARE * shapes.flux[other])]] = True
    return near


def read_stars(
    path: Path, *, mosaic: bool = False, scale_arcsec_px: float | None = None, name: str = "", most: int | None = None
) -> FrameStars:
    """Measure the stars of one frame.

    Parameters
    ----------
    path
        A FITS file: raw, calibrated or stacked; numbers between 0 and 1 count as shares of 65535 ADU.
    mosaic
        Whether its pixels lie behind a colour mosaic: then each two by two are taken as one.
    scale_arcsec_px
        Arcseconds to a pixel, where it is known.
    name
        What to call it; its file name where left out.
    most
        Measure so many of the brightest alone; all where left out.

    Returns
    -------
    FrameStars
        With lengths in px of the frame.

    Raises
    ------
    InputError
        In one line, when it cannot be read or is too small.
    """
    with open_frame(path, raw=False) as frame:
        zero, unit = frame.zero, frame.unit
        if min(frame.width, frame.height) < MIN_SIDE_PX * (2 if mosaic else 1):
            raise InputError(f"is {frame.width} × {frame.height} px: too small for stars", path)
        pixels, peaks = frame_pixels(frame, mosaic=mosaic)
    mesh = background_mesh(pixels)
    spots = find_spots(pixels, mesh)
    is_star = np.array([not why for why in spots.why], bool)
    stars = (spots.x[is_star], spots.y[is_star], spots.spread[is_star])
    few = most is not None and is_star.sum() > most
    which = np.argsort(-spots.flux[is_star], kind="stable")[:most] if few else None
    shapes = measure(pixels, mesh, stars, _full(pixels, peaks, spots.top), peaks, which)
    piled = piled_up(shapes, shapes.peak - float(np.median(mesh.level)))
    shapes = replace(shapes, saturated=shapes.saturated | piled, fwhm=corrected_fwhm(shapes.fwhm))
    tiles = mesh.level.size
    side = 2 if mosaic else 1
    x, y = (side * at + (side - 1) / 2 for at in (spots.x, spots.y))
    refused = [RefusedSpot(float(x[k]), float(y[k]), why) for k, why in enumerate(spots.why) if why]
    shapes = _scaled(shapes) if mosaic else shapes
    no_star = why_no_star(shapes, nebular=LARGE in spots.why)
    refused += [RefusedSpot(float(shapes.x[k]), float(shapes.y[k]), why) for k, why in enumerate(no_star) if why]
    return FrameStars(
        name or path.name,
        shapes.among(np.array([not why for why in no_star], bool)),
        tuple(refused),
        Estimate(zero + unit * float(np.median(mesh.level)), unit * float(mesh.level.std()) / math.sqrt(tiles)),
        Estimate(unit * float(np.median(mesh.noise)), unit * float(mesh.noise.std()) / math.sqrt(tiles)),
        scale_arcsec_px,
        pixels_joined=side,
    )


def frame_pixels(frame: OpenFrame, *, mosaic: bool) -> tuple[Numbers, Numbers]:
    """Return the frame's codes as uint16, read strip by strip, and the highest that each was averaged of."""
    if not mosaic:
        whole = np.empty((frame.height, frame.width), np.uint16)

        def read(strip: tuple[int, int]) -> None:
            whole[slice(*strip)] = frame.rows(*strip)

        with ThreadPoolExecutor(THREADS if frame.threaded else 1) as pool:
            list(pool.map(read, frame.strips(1)))
        return whole, whole
    half = np.empty((frame.height // 2, frame.width // 2), np.uint16)
    highest = np.empty_like(half)
    for start, end in frame.strips(2):
        rows = frame.rows(start, end)[:, : frame.width // 2 * 2]
        fours = rows.reshape((end - start) // 2, 2, frame.width // 2, 2)
        half[start // 2 : end // 2] = fours.mean(axis=(1, 3), dtype=np.float32).round()
        highest[start // 2 : end // 2] = fours.max(axis=(1, 3))
    return half, highest


def _full(pixels: Numbers, peaks: Numbers, top: tuple[int, int]) -> float:
    """Return where a frame's pixels are saturated: at its own plateau, else at the converter's end.

    ``top`` is the highest code among the bright pixels and how many have it; of means, the codes behind them tell.
    """
    if peaks is not pixels:
        highest = int(peaks.max(initial=0))
        top = highest, int((peaks == highest).sum())
    plateau = top[1] >= PLATEAU_PIXELS and top[0] > 2 * int(np.median(peaks[::8, ::8]))
    return float(top[0] if plateau else HIGHEST_CODE)


def _scaled(shapes: Shapes) -> Shapes:
    """Return shapes of a frame of half the size in px of the whole one."""
    return Shapes(
        2 * shapes.x + 0.5,
        2 * shapes.y + 0.5,
        4 * shapes.flux,
        shapes.peak,
        2 * shapes.hfd,
        2 * shapes.fwhm,
        shapes.elongation,
        shapes.angle,
        shapes.snr,
        shapes.saturated,
    )


def star_frames(paths: Sequence[Path]) -> Iterator[tuple[Path, FrameHeader | UnusedFile]]:
    """Yield every frame that was named, or lies below a folder that was, with its header.

    Parameters
    ----------
    paths
        Folders and FITS files.

    Yields
    ------
    tuple
        The file, and its header or why it is broken.

    Raises
    ------
    InputError
        When one is not there, or is no frame.
    """
    for path in paths:
        if not is_there(path):
            raise InputError("is not there; name a FITS frame, or a folder of them", path)
        if not is_folder(path) and not path.name.lower().endswith(frame_endings()):
            if camera_raw.is_raw(path):
                raise InputError(f"is a camera's raw frame, which cannot be read here; {camera_raw.HOW}", path)
            raise InputError(f"is no FITS file by its name ({', '.join(ENDINGS[:3])})", path)
        folder = path if is_folder(path) else path.parent
        for file in find_frames(path) if is_folder(path) else [path]:
            yield file, read_chunk([file], folder)[0]


def measure_frames(
    paths: Sequence[Path],
    scale_of: Any = None,
    progress: Progress = lambda _done, _of: None,
    *,
    every: int = 1,
    condensed: bool = False,
    most: int | None = None,
) -> tuple[list[FrameStars], list[UnusedFile]]:
    """Measure the stars of many frames.

    Parameters
    ----------
    paths
        Folders and FITS files; darks, flats and bias are left out.
    scale_of
        What gives the arcseconds to a pixel from a header; the header's own pixel and focal length where left out.
    progress
        Told of each frame; may raise to end the work.
    every
        Take every so many-th frame only.
    condensed
        Keep the brightest stars of each frame alone.
    most
        Measure so many of the brightest stars of each frame alone; all where left out.

    Returns
    -------
    tuple
        What each frame's stars tell, and which files were not used, with the reason.
    """
    frames = list(star_frames(paths))[::every]
    found: list[FrameStars] = []
    not_used: list[UnusedFile] = []
    for index, (path, header) in enumerate(frames):
        progress(index, len(frames))
        if isinstance(header, UnusedFile):
            not_used.append(header)
            continue
        if header.kind in ("dark", "flat", "bias"):
            not_used.append(UnusedFile(header.path, f"is a {header.kind} by its header, and has no stars"))
            continue
        try:
            scale = (scale_of or scale_of_header)(header)
            mosaic = header.mosaic is not None
            stars = read_stars(path, mosaic=mosaic, scale_arcsec_px=scale, name=header.path, most=most)
            whole = replace(stars, header=header, path=path)
            found.append(whole.condensed() if condensed else whole)
        except InputError as error:
            not_used.append(UnusedFile(header.path, error.reason))
    progress(len(frames), len(frames))
    return found, not_used


def scale_of_header(header: FrameHeader) -> float | None:
    """Return the arcseconds to a pixel that a header tells: solved, else by its pixel and focal length."""
    if header.scale_arcsec_px:
        return header.scale_arcsec_px
    if header.pixel_um and header.focal_length_mm and header.pixel_um > 0 and header.focal_length_mm > 0:
        return ARCSEC_UM_MM * header.pixel_um / header.focal_length_mm
    return None
