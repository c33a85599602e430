"""The quantities the ledger knows: their ids, labels, units and the digits worth showing."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.steps import FIELD, GUIDE_BRANCH, GUIDE_LOG, LIGHT_PATH, SCALES, STARS, Step


@dataclass(frozen=True)
class QuantityKind:
    """What a quantity is called, its unit, and how many decimals are shown of it."""

    id: str
    label: str
    unit: str
    decimals: int
    may_be_zero: bool = False
    """Whether the value may be zero or below, as an error may; all else must be above zero."""
    step: Step | None = None
    """The step of the worklist whose ledger shows it."""
    place: int = 0
    """Where in that ledger it stands, the least first."""


_KINDS = (
    QuantityKind("effective_focal_length_mm", "Effective focal length", "mm", 1, step=SCALES, place=0),
    QuantityKind("focal_ratio", "Focal ratio", "", 2, step=SCALES, place=1),
    QuantityKind("pixel_scale_arcsec_px", "Pixel scale", "″/px", 3, step=SCALES, place=2),
    QuantityKind("field_width_deg", "Field width", "°", 3, step=SCALES, place=4),
    QuantityKind("field_height_deg", "Field height", "°", 3, step=SCALES, place=5),
    QuantityKind("field_diagonal_deg", "Field diagonal", "°", 3, step=SCALES, place=6),
    QuantityKind("sensor_diagonal_mm", "Sensor diagonal", "mm", 2, step=SCALES, place=7),
    QuantityKind("airy_diameter_um", "Airy disc, first dark ring, diameter", "µm", 2, step=SCALES, place=8),
    QuantityKind("sampling_px_per_fwhm", "Sampling", "px/FWHM", 2, step=SCALES, place=3),
    QuantityKind("depth_of_focus_diffraction_um", "Depth of focus, diffraction, total", "µm", 1, step=SCALES, place=9),
    QuantityKind("depth_of_focus_seeing_um", "Depth of focus, seeing, total", "µm", 1, step=SCALES, place=10),
    QuantityKind("glass_shift_mm", "Focus shift by glass", "mm", 3, may_be_zero=True, step=LIGHT_PATH, place=3),
    QuantityKind("back_focus_required_mm", "Back focus required", "mm", 2, step=LIGHT_PATH, place=2),
    QuantityKind("back_focus_built_mm", "Back focus built", "mm", 2, step=LIGHT_PATH, place=1),
    QuantityKind("back_focus_error_mm", "Back focus error", "mm", 2, may_be_zero=True, step=LIGHT_PATH, place=0),
    QuantityKind("guide_scale_arcsec_px", "Guide pixel scale", "″/px", 3, step=GUIDE_BRANCH, place=3),
    QuantityKind("guide_to_main_ratio", "Guide pixel to main pixel", "×", 2, step=GUIDE_BRANCH, place=4),
    QuantityKind("guide_path_required_mm", "Guide path required", "mm", 2, step=GUIDE_BRANCH, place=2),
    QuantityKind("guide_path_built_mm", "Guide path built", "mm", 2, step=GUIDE_BRANCH, place=1),
    QuantityKind("guide_path_error_mm", "Guide path error", "mm", 2, may_be_zero=True, step=GUIDE_BRANCH, place=0),
    QuantityKind("corrector_magnification", "Corrector magnification", "×", 4, step=SCALES, place=11),
    QuantityKind(
        "spacing_error_by_scale_mm",
        "Spacing error by the image scale",
        "mm",
        2,
        may_be_zero=True,
        step=SCALES,
        place=12,
    ),
    QuantityKind("search_scale_low_arcsec_px", "Field solving, lowest scale", "″/px", 3, step=SCALES, place=13),
    QuantityKind("search_scale_high_arcsec_px", "Field solving, highest scale", "″/px", 3, step=SCALES, place=14),
    QuantityKind("search_radius_deg", "Field solving, field radius", "°", 3, step=SCALES, place=15),
    QuantityKind("guide_centroid_main_px", "Centroid error on the main sensor", "px", 2, step=GUIDE_BRANCH, place=5),
    QuantityKind("calibration_pulse_ms", "Calibration pulse", "ms", 0, step=GUIDE_BRANCH, place=6),
    QuantityKind("dither_guide_px", "Dither on the guide sensor", "px", 1, step=GUIDE_BRANCH, place=7),
    QuantityKind("dither_arcsec", "Dither on the sky", "″", 1, step=GUIDE_BRANCH, place=8),
    QuantityKind("stop_threshold_main_px", "Stop threshold on the main sensor", "px", 2, step=GUIDE_BRANCH, place=9),
    QuantityKind(
        "flexure_arcsec_s", "Flexure between the telescopes", "″/s", 4, may_be_zero=True, step=GUIDE_BRANCH, place=10
    ),
    QuantityKind("flexure_budget_arcsec_s", "Flexure allowed", "″/s", 4, step=GUIDE_BRANCH, place=11),
    QuantityKind("rotation_exposure_s", "Longest exposure by field rotation", "s", 0, step=GUIDE_BRANCH, place=12),
    QuantityKind("star_fwhm_arcsec", "Stars' FWHM", "″", 2, step=STARS, place=0),
    QuantityKind("star_elongation", "Stars, long over short axis", "×", 2, step=STARS, place=1),
    QuantityKind("field_tilt_um", "Tilt, middle to corner", "µm", 1, may_be_zero=True, step=FIELD, place=0),
    QuantityKind("field_curvature_um", "Curvature, corner over middle", "µm", 1, may_be_zero=True, step=FIELD, place=1),
    QuantityKind("guide_rms_arcsec", "Guiding, RMS of both axes", "″", 3, may_be_zero=True, step=GUIDE_LOG, place=0),
    QuantityKind(
        "guide_rms_ra_arcsec", "Guiding, RMS in right ascension", "″", 3, may_be_zero=True, step=GUIDE_LOG, place=1
    ),
    QuantityKind(
        "guide_rms_dec_arcsec", "Guiding, RMS in declination", "″", 3, may_be_zero=True, step=GUIDE_LOG, place=2
    ),
    QuantityKind("guide_elongation", "Long over short axis by guiding", "×", 2, step=GUIDE_LOG, place=3),
    QuantityKind(
        "guide_drift_ra_arcsec_min", "Drift in right ascension", "″/min", 3, may_be_zero=True, step=GUIDE_LOG, place=4
    ),
    QuantityKind(
        "guide_drift_dec_arcsec_min", "Drift in declination", "″/min", 3, may_be_zero=True, step=GUIDE_LOG, place=5
    ),
    QuantityKind("guide_period_s", "Period in right ascension", "s", 1, step=GUIDE_LOG, place=6),
    QuantityKind(
        "guide_autocorrelation", "Neighbouring errors alike", "", 2, may_be_zero=True, step=GUIDE_LOG, place=7
    ),
    QuantityKind(
        "guide_autocorrelation_dec",
        "Neighbouring errors alike, declination",
        "",
        2,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=7,
    ),
    QuantityKind("guide_settle_s", "Settling, 95 % of dithers", "s", 1, may_be_zero=True, step=GUIDE_LOG, place=8),
    QuantityKind(
        "guide_over_limit_percent", "Beyond the stop limit", "%", 2, may_be_zero=True, step=GUIDE_LOG, place=9
    ),
    QuantityKind("guide_lost_percent", "Frames without the star", "%", 1, may_be_zero=True, step=GUIDE_LOG, place=10),
    QuantityKind(
        "polar_drift_arcsec_min", "Star's drift, unguided", "″/min", 3, may_be_zero=True, step=GUIDE_LOG, place=11
    ),
    QuantityKind("polar_error_arcmin", "Polar error, at least", "′", 2, may_be_zero=True, step=GUIDE_LOG, place=12),
    QuantityKind(
        "polar_smear_px", "Corner's smear by the polar error", "px", 2, may_be_zero=True, step=GUIDE_LOG, place=13
    ),
    QuantityKind(
        "rotation_session_deg", "Field turns over the session", "°", 1, may_be_zero=True, step=GUIDE_LOG, place=14
    ),
    QuantityKind("rotation_lost_percent", "Frame lost as it turns", "%", 1, may_be_zero=True, step=GUIDE_LOG, place=15),
    QuantityKind("rotation_recentre_min", "Recentre every", "min", 0, step=GUIDE_LOG, place=16),
)

QUANTITY_KINDS: dict[str, QuantityKind] = {kind.id: kind for kind in _KINDS}
"""Every quantity by id, in the order in which the ledger lists them."""


def declare_quantity(kind: QuantityKind) -> QuantityKind:
    """Declare a quantity from elsewhere, and return it; the ledger lists it last.

    Raises
    ------
    ValueError
        When the id is taken.
    """
    if kind.id in QUANTITY_KINDS:
        raise ValueError(f"the quantity {kind.id} is declared already")
    QUANTITY_KINDS[kind.id] = kind
    return kind
