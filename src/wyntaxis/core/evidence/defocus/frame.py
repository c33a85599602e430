"""One frame of the live view: its stars, or, far out of focus, their discs."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path

import numpy as np

from wyntaxis.core.evidence.defocus.discs import Disc, find_discs
from wyntaxis.core.evidence.defocus.distance import centre_offset
from wyntaxis.core.evidence.headers.folder import read_chunk
from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.sensor.strips import HIGHEST_CODE, open_frame
from wyntaxis.core.evidence.stars.frame_stars import FrameStars, frame_pixels, read_stars
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.fitting import median_error

FEW_STARS = 12
LARGE_HFD_PX = 5.0
"""Where there are fewer stars, or they are larger, discs are looked for."""
HFD_TO_DIAMETER = 1.3
"""A disc is so many of its half-flux diameters wide, with the usual hole."""
MODEL_SHARE = 0.004
"""What a disc with sharp edges leaves uncertain of a real one's diameter, as a share."""
OFFSET_SHARE = 0.001
"""What vanes leave uncertain of the hole's place, as a share of the disc's diameter."""
SURE_OFFSET = 2.0


@dataclass(frozen=True)
class Defocus:
    """The discs of a frame, lengths in its px: outer diameter, hole (None without one), how soft the
    edges are, and the hole's offset on axis.

    ``offset`` is x and y, in the picture as the file holds it: toward later columns, toward later rows.
    """

    discs: tuple[Disc, ...]
    diameter: Estimate
    hole: Estimate | None
    blur_fwhm: float
    offset: tuple[Estimate, Estimate] | None

    @property
    def offset_px(self) -> Estimate | None:
        """How far the hole lies off the middle."""
        if self.offset is None:
            return None
        dx, dy = self.offset
        return Estimate(math.hypot(dx.value, dy.value), math.sqrt((dx.standard**2 + dy.standard**2) / 2))

    @property
    def offset_angle_deg(self) -> float | None:
        """Which way it lies, from +x toward +y, 0 to 360°; None where it is within its uncertainty."""
        own = self.offset_px
        if own is None or self.offset is None or own.value <= SURE_OFFSET * own.standard:
            return None
        return math.degrees(math.atan2(self.offset[1].value, self.offset[0].value)) % 360


@dataclass(frozen=True)
class LiveFrame:
    """What a frame shows: header, stars, and its defocus where the stars are discs."""

    path: Path
    header: FrameHeader
    stars: FrameStars
    defocus: Defocus | None


def read_live(path: Path) -> LiveFrame:
    """Measure a frame for the live view.

    Raises
    ------
    InputError
        In one line, when it cannot be read, or is no frame of stars.
    """
    header = read_chunk([path], path.parent)[0]
    if isinstance(header, UnusedFile):
        raise InputError(header.why, path)
    if header.kind in ("dark", "flat", "bias"):
        raise InputError(f"is a {header.kind} by its header, and has no stars", path)
    mosaic = header.mosaic is not None
    stars = read_stars(path, mosaic=mosaic, name=path.name, most=2000)
    size = stars.hfd_px
    found = None
    if size is None or stars.count < FEW_STARS or size.value > LARGE_HFD_PX:
        with open_frame(path, raw=False) as frame:
            shape = frame.width, frame.height
            pixels, peaks = frame_pixels(frame, mosaic=mosaic)
        plateau = int(peaks.max(initial=0))
        is_full = plateau >= HIGHEST_CODE - 1
        about = HFD_TO_DIAMETER * size.value / (2 if mosaic else 1) if size is not None else None
        top = plateau if is_full else math.inf
        discs = find_discs(pixels, top, about)
        if not discs and about is not None:
            discs = find_discs(pixels, top)
        found = defocus_of(discs, shape, 2 if mosaic else 1)
    return LiveFrame(path, header, stars, found)


def defocus_of(discs: list[Disc], shape: tuple[int, int], side: int = 1) -> Defocus | None:
    """Return what the discs of a frame say together; None without one.

    Parameters
    ----------
    discs
        In px of the copy that they were found on.
    shape
        Width and height of the frame in px.
    side
        How many px of the frame one of the copy's is across.
    """
    if not discs:
        return None
    diameters = np.array([own.diameter for own in discs]) * side
    fitted = float(np.median([own.diameter_u for own in discs])) * side
    middle = float(np.median(diameters))
    scatter = median_error(diameters) if len(diameters) >= 4 else 0.01 * middle / math.sqrt(len(diameters))
    diameter = Estimate(middle, math.hypot(scatter, fitted / math.sqrt(len(discs)), MODEL_SHARE * middle))
    blur = float(np.median([own.blur_fwhm for own in discs])) * side
    holed = [own for own in discs if own.hole > 0]
    if len(holed) < max(1, len(discs) / 2):
        return Defocus(tuple(discs), diameter, None, blur, None)
    holes = np.array([own.hole for own in holed]) * side
    hole_u = float(np.median([own.hole_u for own in holed])) * side
    scatter = median_error(holes) if len(holes) >= 4 else 0.01 * middle
    hole = Estimate(float(np.median(holes)), math.hypot(scatter, hole_u, MODEL_SHARE * middle))
    centre = np.array([shape[0] - 1, shape[1] - 1]) / 2
    places = np.array([[own.x, own.y] for own in holed]) * side + (side - 1) / 2 - centre
    offset = centre_offset(
        np.array([own.hole_dx for own in holed]) * side, np.array([own.hole_dy for own in holed]) * side,
        np.array([own.offset_u for own in holed]) * side, places, OFFSET_SHARE * middle,
    )  # fmt: skip
    return Defocus(tuple(discs), diameter, hole, blur, offset)
