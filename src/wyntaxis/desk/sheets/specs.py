"""Which fields a part, a telescope, a site or a sensor shows on its card."""

from __future__ import annotations

from typing import TYPE_CHECKING

from wyntaxis.core.rig.model import MAGNIFYING_KINDS, PART_KINDS
from wyntaxis.desk.card import FieldSpec

if TYPE_CHECKING:
    from wyntaxis.core.rig.model import Part, Telescope

_GENERAL = (
    FieldSpec("Name", ("name",), kind="text"),
    FieldSpec("Kind", ("kind",), kind="choice", choices=PART_KINDS, optional=False),
    FieldSpec("Length", ("length_mm",), "mm"),
    FieldSpec("Tolerance ±", ("length_tolerance_mm",), "mm"),
    FieldSpec("Length is", ("length_basis",), kind="choice", choices=("stated", "measured"), optional=False),
)
_ADJUSTABLE = (
    FieldSpec("Set at", ("adjustable", "set_mm"), "mm"),
    FieldSpec("Shortest", ("adjustable", "min_mm"), "mm"),
    FieldSpec("Longest", ("adjustable", "max_mm"), "mm"),
)
_CORRECTOR = (
    FieldSpec("Magnification", ("magnification",), "×"),
    FieldSpec("Required distance", ("required_back_focus_mm",), "mm"),
    FieldSpec("Its tolerance ±", ("back_focus_tolerance_mm",), "mm"),
    FieldSpec("Image circle", ("image_circle_mm",), "mm"),
)
_PRISM = (
    FieldSpec("Prism from front", ("prism", "from_front_mm"), "mm"),
    FieldSpec("Prism edge to axis", ("prism", "edge_from_axis_mm"), "mm"),
    FieldSpec("Prism height", ("prism", "height_mm"), "mm"),
    FieldSpec("Prism width", ("prism", "width_mm"), "mm"),
    FieldSpec("Prism's angle from top", ("prism", "angle_deg"), "°"),
    FieldSpec(
        "Beside the sensor's", ("prism", "beside"), kind="choice", choices=("long_side", "short_side"), optional=False
    ),
)
SENSOR = (
    FieldSpec("Pixels across", ("sensor", "width_px"), "px", kind="whole"),
    FieldSpec("Pixels down", ("sensor", "height_px"), "px", kind="whole"),
    FieldSpec("Pixel", ("sensor", "pixel_um"), "µm"),
    FieldSpec("Binning", ("sensor", "binning"), "", kind="whole"),
    FieldSpec("Bit depth", ("sensor", "bit_depth"), "bit", kind="whole"),
)
_BODY = (
    FieldSpec("Clear aperture", ("clear_aperture_mm",), "mm"),
    FieldSpec("Mass", ("mass_g",), "g"),
    FieldSpec("Keep with the next", ("keep_with_next",), kind="tick"),
)
PINNED = (FieldSpec("Pinned in the search", ("pinned",), kind="tick"),)
PINNABLE_KINDS = frozenset({"spacer", "adapter"})
FOCUSER = (
    FieldSpec("Focal plane behind focuser", ("focuser", "focal_plane_mm"), "mm"),
    FieldSpec("Focuser travel", ("focuser", "travel_mm"), "mm"),
    FieldSpec("Focuser carries", ("focuser", "load_rating_g"), "g"),
    FieldSpec("Focuser's moment", ("focuser", "moment_rating_n_m"), "N·m"),
)
TELESCOPE = (
    FieldSpec("Name", ("name",), kind="text"),
    FieldSpec("Focal length", ("focal_length_mm",), "mm"),
    FieldSpec("Tolerance ±", ("focal_length_tolerance_mm",), "mm"),
    FieldSpec("Aperture", ("aperture_mm",), "mm"),
    FieldSpec("Obstruction ratio", ("obstruction_ratio",)),
    FieldSpec("Image circle", ("image_circle_mm",), "mm"),
    FieldSpec("Exit pupil before image", ("exit_pupil_distance_mm",), "mm"),
)
SITE = (
    FieldSpec("Name", ("name",), kind="text"),
    FieldSpec("Seeing FWHM, good night", ("seeing_good_arcsec",), "″"),
    FieldSpec("Seeing FWHM, usual", ("seeing_fwhm_arcsec",), "″"),
    FieldSpec("Seeing FWHM, poor night", ("seeing_poor_arcsec",), "″"),
    FieldSpec("Latitude", ("latitude_deg",), "°"),
    FieldSpec("Longitude east", ("longitude_deg",), "°"),
    FieldSpec("Elevation", ("elevation_m",), "m"),
)
GUIDE_SETTINGS = (
    FieldSpec("Guide exposure", ("exposure_s",), "s"),
    FieldSpec("Guide rate", ("rate_sidereal",), "× sidereal"),
    FieldSpec("Centroid error", ("centroid_error_px",), "guide px"),
    FieldSpec("Search region, half", ("search_region_px",), "guide px"),
    FieldSpec("Calibration distance", ("calibration_distance_px",), "guide px"),
    FieldSpec("Calibration pulses", ("calibration_pulses",), kind="whole"),
    FieldSpec("Calibration pulse set", ("calibration_pulse_ms",), "ms"),
    FieldSpec("Calibration at declination", ("calibration_declination_deg",), "°"),
    FieldSpec("Dither", ("dither_main_px",), "main px"),
    FieldSpec("Stop threshold", ("stop_threshold_arcsec",), "″"),
)
PLAN = (
    FieldSpec("Exposure of a frame", ("plan", "exposure_s"), "s"),
    FieldSpec("Drift allowed on it", ("plan", "allowed_drift_px"), "main px"),
    FieldSpec("Mount is", ("mount", "kind"), kind="choice", choices=("equatorial", "alt_azimuth")),
)
GENDERS = ("male", "female", "slip")


def _plate(index: int, count: int) -> tuple[FieldSpec, ...]:
    number = f" {index + 1}" if count > 1 else ""
    return (
        FieldSpec(f"Glass{number}", ("glass", index, "name"), kind="text"),
        FieldSpec(f"Thickness{number}", ("glass", index, "thickness_mm"), "mm"),
        FieldSpec(f"Index{number}", ("glass", index, "index"), "n"),
        FieldSpec(f"Counted{number} already", ("glass", index, "counted"), kind="tick"),
    )


def _joint(name: str, key: str) -> tuple[FieldSpec, ...]:
    return (
        FieldSpec(f"{name} thread", (key, "thread"), kind="text"),
        FieldSpec(f"{name} gender", (key, "gender"), kind="choice", choices=GENDERS, optional=False),
        FieldSpec(f"{name} depth", (key, "depth_mm"), "mm"),
    )


def shelf_specs() -> tuple[FieldSpec, ...]:
    """Return the fields that a part of the shelf shows: all of it, with both joints."""
    return _GENERAL + _BODY[:2] + _joint("Front", "front") + _joint("Rear", "rear")


def telescope_specs(telescope: Telescope) -> tuple[FieldSpec, ...]:
    """Return the fields that a telescope shows: its optics, its focuser, its rear joint where it is described."""
    return TELESCOPE + FOCUSER + (_joint("Rear", "rear") if telescope.rear is not None else ())


def part_specs(part: Part) -> tuple[FieldSpec, ...]:
    """Return the fields that a part of this kind and make-up shows."""
    specs: tuple[FieldSpec, ...] = _GENERAL
    if part.adjustable is not None:
        specs += _ADJUSTABLE
    if part.kind in MAGNIFYING_KINDS:
        specs += _CORRECTOR
    if part.prism is not None:
        specs += _PRISM
    if part.sensor is not None:
        specs += SENSOR
    for index in range(len(part.glass)):
        specs += _plate(index, len(part.glass))
    specs += _BODY
    if part.kind in PINNABLE_KINDS:
        specs += PINNED
    for name, key in (("Front", "front"), ("Rear", "rear")):
        if getattr(part, key) is not None:
            specs += _joint(name, key)
    return specs
