"""Which part of its sensor a frame shows, by its header: all, the pixels that saw light, or what was cut out.

Sources: the keywords TRIMSEC, DATASEC, DETSIZE, DETSEC of the NOAO image data structure definition; LTV of the same;
CNPIX of the digitised survey plates; XORGSUBF and YORGSUBF as camera drivers write them.
"""

from __future__ import annotations

import re
from typing import TYPE_CHECKING, NamedTuple

from wyntaxis.core.evidence.foreign.units import parse_foreign_number
from wyntaxis.core.files.fits import card_value, section_ends

if TYPE_CHECKING:
    from astropy.io.fits import Header

_OFFSETS = (("XORGSUBF", "YORGSUBF"), ("CNPIX1", "CNPIX2"), ("LTV1", "LTV2"))
"""Where the frame's corner lies on its sensor or plate, or how far it was moved: 0 for a whole frame."""
LEAST_OFFSET_PX = 1.0
"""Less is half a pixel of a binned frame."""
_IN_WORDS = re.compile(r"\b(crop(ped)?|cut-?out|sub-?frame|imcopy)\b", re.IGNORECASE)


class SensorPart(NamedTuple):
    """The sensor's size in px of the frame and the card that holds it, and by which card the frame is cut out of it."""

    whole: tuple[int, int] | None = None
    whole_by: str = ""
    cut_by: str = ""


WHOLE = SensorPart()


def sensor_part(header: Header) -> SensorPart:
    """Return which part of its sensor a frame shows.

    Parameters
    ----------
    header
        A FITS header.

    Returns
    -------
    SensorPart
        Without a size where the frame's own stands for it.
    """
    size = tuple(_number(header, key) for key in ("NAXIS1", "NAXIS2"))
    detector = _section(header, "DETSIZE")
    if detector is not None:  # in px that are not binned
        binning = max(round(_number(header, "XBINNING")), 1)
        detector = detector[0] // binning, detector[1] // binning
        if detector[0] > size[0] or detector[1] > size[1]:
            return SensorPart(detector, "DETSIZE", "DETSIZE")
    for pair in _OFFSETS:
        cut = next((key for key in pair if abs(_number(header, key)) >= LEAST_OFFSET_PX), None)
        if cut is not None:
            return SensorPart(cut_by=cut)
    if "HISTORY" in header and any(_IN_WORDS.search(str(line)) for line in header["HISTORY"]):
        return SensorPart(cut_by="HISTORY")
    for key in ("TRIMSEC", "DATASEC"):
        light = _section(header, key)
        if light is not None and (light[0] < size[0] or light[1] < size[1]):
            return SensorPart(light, key)
    return WHOLE


def _section(header: Header, key: str) -> tuple[int, int] | None:
    """Return how wide and high a section ``[x1:x2,y1:y2]`` is, in px."""
    ends = section_ends(card_value(header, key, ""))
    if ends is None:
        return None
    x1, x2, y1, y2 = ends
    return abs(x2 - x1) + 1, abs(y2 - y1) + 1


def _number(header: Header, key: str) -> float:
    try:
        return parse_foreign_number(card_value(header, key, 0))
    except ValueError:
        return 0.0
