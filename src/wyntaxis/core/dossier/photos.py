"""Photographs for the dossier: only from the rig's own folder, scaled down, without what the camera wrote into them."""

from __future__ import annotations

import base64
import io
import os
import warnings
from functools import lru_cache
from pathlib import Path

from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import read_bytes

MOST_BYTES = 60 * 1024 * 1024
MOST_PIXELS = 120_000_000
LONGEST_PX = 1400
QUALITY = 82


def photo_data(name: str, folder: Path | None) -> tuple[str, str]:
    """Return a photograph as a data URI of a JPEG, scaled; empty, with why, where it cannot be shown.

    Parameters
    ----------
    name
        The file as the rig names it.
    folder
        Where the rig file lies: nothing outside it and the folders below is read.

    Returns
    -------
    tuple of str
        The data URI, and why there is none.
    """
    if folder is None:
        return "", "the rig is not saved yet, so its photographs cannot be found"
    home = os.path.realpath(folder)
    place = os.path.realpath(os.path.join(home, name))
    if Path(name).is_absolute() or os.path.commonpath([home, place]) != home:
        return "", "lies outside the rig's folder; put it beside the rig file"
    try:
        data = read_bytes(Path(place), MOST_BYTES, "a photograph of that size is scaled down first")
    except InputError as error:
        return "", error.reason
    return _scaled(data)


@lru_cache(maxsize=32)
def _scaled(data: bytes) -> tuple[str, str]:
    from PIL import Image, ImageOps

    try:
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            with Image.open(io.BytesIO(data), formats=("JPEG", "PNG", "WEBP", "TIFF")) as picture:
                if picture.width * picture.height > MOST_PIXELS:
                    return "", "has too many pixels; scale it down first"
                shown = ImageOps.exif_transpose(picture).convert("RGB")
        shown.thumbnail((LONGEST_PX, LONGEST_PX))
        out = io.BytesIO()
        # Saved anew, without the place and time that a camera writes into its pictures.
        shown.save(out, "JPEG", quality=QUALITY)
    except Exception:  # whatever a broken picture makes of the reader
        return "", "is no picture that can be read: use JPEG, PNG, WebP or TIFF"
    return "data:image/jpeg;base64," + base64.b64encode(out.getvalue()).decode(), ""
