"""The sensor of a drafted rig: its size and pixel, by the frames that it made."""

from __future__ import annotations

import math
from pathlib import Path

from wyntaxis.core.drafting.reported import RECORD, Reported, card_of, suppose, value_text
from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.files.camera_raw import is_raw
from wyntaxis.core.rig.base import DocumentPath

LIKELY_PIXEL_UM = (1.0, 30.0)
"""A pixel in µm outside these is more likely told in another unit."""
LEAST_SENSOR_PX = 200
"""Cameras' sensors have more px on a side: such a frame may be cut out."""


def draft_sensor(entries: Reported, place: DocumentPath, frames: list[FrameHeader]) -> None:
    """Give the sensor: the largest frame at the least binning, the rest being cut out of it."""
    sized = [frame for frame in frames if frame.width_px and frame.height_px]
    book = entries.book
    if sized:
        least = min(frame.binning or 1 for frame in sized)
        plain = [frame for frame in sized if (frame.binning or 1) == least]
        _sensor_size(entries, (*place, "sensor"), plain, least)
        pixels = entries.of(lambda frame: frame.pixel_um or None, plain)
        path = (*place, "sensor", "pixel_um")
        if pixels and pixels[0][0] > 0 and not LIKELY_PIXEL_UM[0] <= pixels[0][0] / least <= LIKELY_PIXEL_UM[1]:
            value, _, file = pixels[0]
            readings = {unit: factor * value / least for unit, factor in (("mm", 1e3), ("m", 1e6), ("nm", 1e-3))}
            fit = {unit: own for unit, own in readings.items() if LIKELY_PIXEL_UM[0] <= own <= LIKELY_PIXEL_UM[1]}
            suppose(book, path, f"XPIXSZ {value_text(value)} of {file}", "µm", fit)
        elif pixels and least == 1:
            entries.fixed(path, "XPIXSZ", pixels, "pixel_um")
        elif pixels:
            # The standard's XPIXSZ is the binned size, but programs also write the sensor's own: nobody can tell.
            book.assume(path, pixels[0][0] / least)
            book.ask(
                f"all frames are binned {least}×: XPIXSZ {value_text(pixels[0][0])} µm is taken as the binned pixel",
                path,
            )
        used = entries.of(lambda frame: frame.binning or 1, [f for f in sized if f.kind == "light"] or sized)
        if used and used[0][0] != 1:
            book.give((*place, "sensor", "binning"), used[0][0], f"XBINNING of {used[0][2]}")
    if book.held((*place, "sensor")) is not None:
        for key, value in (("width_px", 1000), ("height_px", 1000), ("pixel_um", 4.0)):
            book.assume((*place, "sensor", key), value)


def _sensor_size(entries: Reported, place: DocumentPath, frames: list[FrameHeader], binning: int) -> None:
    """Give the sensor's size in px: of the largest frame that is no cut-out, else assumed, with a question."""
    book = entries.book
    whole = [frame for frame in frames if not frame.part.cut_by or frame.part.whole] or frames
    largest = max(whole, key=lambda frame: math.prod(_light_px(frame)))
    sizes = _light_px(largest)
    binned = f" × binning {binning}" if binning > 1 else ""
    cut = largest.part.cut_by if not largest.part.whole else ""
    for key, axis, size in zip(("width_px", "height_px"), ("NAXIS1", "NAXIS2"), sizes, strict=True):
        path = (*place, key)
        if cut:
            book.assume(path, size * binning)
        elif not book.give(path, size * binning, f"{card_of(largest.part.whole_by or axis, largest.path)}{binned}"):
            book.differs(*RECORD, key, size * binning)
            book.ask(f"{axis}: frames are {size} px, not {book.held(path)}", path)
    told = f"{largest.path} has {sizes[0]} × {sizes[1]} px"
    if cut:
        book.ask(f"{told}, cut out of more by its {cut}: how many px has the sensor?", (*place, "width_px"))
    elif is_raw(Path(largest.path)):
        book.ask(f"{told}, and bodies can record a part of their sensor: is that the whole?", (*place, "width_px"))
    elif min(sizes) < LEAST_SENSOR_PX:
        book.ask(f"{told}, fewer than sensors have: is that the whole?", (*place, "width_px"))


def _light_px(frame: FrameHeader) -> tuple[int, int]:
    """Return the size in px that a frame tells of its sensor: as its cards say, else its own."""
    return frame.part.whole or (frame.width_px or 0, frame.height_px or 0)
