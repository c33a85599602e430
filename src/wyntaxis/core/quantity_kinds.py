"""The quantities the ledger knows: their ids, labels, units and the digits worth showing."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.steps import FIELD, GUIDE_BRANCH, GUIDE_LOG, LIGHT_PATH, SCALES, STARS, Step

SET_UP = "set_up"
"""A carried rig is set up again: mount, focus and camera angle stand otherwise than when it was measured."""


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
    has_sign: bool = False
    """Whether it is shown with its sign, as an error is."""
    invalidated_by: tuple[str, ...] = ()
    """What ends the validity of its measured value, besides a change of what that rests on: :data:`SET_UP`."""


QUANTITY_KINDS: dict[str, QuantityKind] = {}
"""Every quantity by id, in the order in which the numbers are listed."""


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


FOCAL_LENGTH = declare_quantity(
    QuantityKind("effective_focal_length_mm", "Effective focal length", "mm", 1, step=SCALES, place=0)
)
FOCAL_RATIO = declare_quantity(QuantityKind("focal_ratio", "Focal ratio", "", 2, step=SCALES, place=1))
PIXEL_SCALE = declare_quantity(QuantityKind("pixel_scale_arcsec_px", "Pixel scale", "″/px", 3, step=SCALES, place=2))
FIELD_WIDTH = declare_quantity(QuantityKind("field_width_deg", "Field width", "°", 3, step=SCALES, place=4))
FIELD_HEIGHT = declare_quantity(QuantityKind("field_height_deg", "Field height", "°", 3, step=SCALES, place=5))
FIELD_DIAGONAL = declare_quantity(QuantityKind("field_diagonal_deg", "Field diagonal", "°", 3, step=SCALES, place=6))
SENSOR_DIAGONAL = declare_quantity(QuantityKind("sensor_diagonal_mm", "Sensor diagonal", "mm", 2, step=SCALES, place=7))
AIRY_DIAMETER = declare_quantity(
    QuantityKind("airy_diameter_um", "Airy disc, first dark ring, diameter", "µm", 2, step=SCALES, place=8)
)
SAMPLING = declare_quantity(QuantityKind("sampling_px_per_fwhm", "Sampling", "px/FWHM", 2, step=SCALES, place=3))
DEPTH_OF_FOCUS_DIFFRACTION = declare_quantity(
    QuantityKind("depth_of_focus_diffraction_um", "Depth of focus, diffraction, total", "µm", 1, step=SCALES, place=9)
)
DEPTH_OF_FOCUS_SEEING = declare_quantity(
    QuantityKind("depth_of_focus_seeing_um", "Depth of focus, seeing, total", "µm", 1, step=SCALES, place=10)
)
GLASS_SHIFT = declare_quantity(
    QuantityKind("glass_shift_mm", "Focus shift from glass", "mm", 3, may_be_zero=True, step=LIGHT_PATH, place=3)
)
BACK_FOCUS_REQUIRED = declare_quantity(
    QuantityKind("back_focus_required_mm", "Back focus required", "mm", 2, step=LIGHT_PATH, place=2)
)
BACK_FOCUS_BUILT = declare_quantity(
    QuantityKind("back_focus_built_mm", "Back focus built", "mm", 2, step=LIGHT_PATH, place=1)
)
BACK_FOCUS_ERROR = declare_quantity(
    QuantityKind(
        "back_focus_error_mm", "Back focus error", "mm", 2, may_be_zero=True, step=LIGHT_PATH, place=0, has_sign=True
    )
)
GUIDE_SCALE = declare_quantity(
    QuantityKind("guide_scale_arcsec_px", "Guide pixel scale", "″/px", 3, step=GUIDE_BRANCH, place=3)
)
GUIDE_TO_MAIN_RATIO = declare_quantity(
    QuantityKind("guide_to_main_ratio", "Guide pixel in main pixels", "×", 2, step=GUIDE_BRANCH, place=4)
)
GUIDE_PATH_REQUIRED = declare_quantity(
    QuantityKind("guide_path_required_mm", "Guide path required", "mm", 2, step=GUIDE_BRANCH, place=2)
)
GUIDE_PATH_BUILT = declare_quantity(
    QuantityKind("guide_path_built_mm", "Guide path built", "mm", 2, step=GUIDE_BRANCH, place=1)
)
GUIDE_PATH_ERROR = declare_quantity(
    QuantityKind(
        "guide_path_error_mm", "Guide path error", "mm", 2, may_be_zero=True, step=GUIDE_BRANCH, place=0, has_sign=True
    )
)
CORRECTOR_MAGNIFICATION = declare_quantity(
    QuantityKind("corrector_magnification", "Corrector magnification", "×", 4, step=SCALES, place=11)
)
SPACING_ERROR_BY_SCALE = declare_quantity(
    QuantityKind(
        "spacing_error_by_scale_mm",
        "Spacing error from the image scale",
        "mm",
        2,
        may_be_zero=True,
        step=SCALES,
        place=12,
    )
)
SEARCH_SCALE_LOW = declare_quantity(
    QuantityKind("search_scale_low_arcsec_px", "Plate solving, lowest scale", "″/px", 3, step=SCALES, place=13)
)
SEARCH_SCALE_HIGH = declare_quantity(
    QuantityKind("search_scale_high_arcsec_px", "Plate solving, highest scale", "″/px", 3, step=SCALES, place=14)
)
SEARCH_RADIUS = declare_quantity(
    QuantityKind("search_radius_deg", "Plate solving, field radius", "°", 3, step=SCALES, place=15)
)
GUIDE_CENTROID = declare_quantity(
    QuantityKind("guide_centroid_main_px", "Centroid error on the main sensor", "px", 2, step=GUIDE_BRANCH, place=5)
)
CALIBRATION_PULSE = declare_quantity(
    QuantityKind("calibration_pulse_ms", "Calibration pulse", "ms", 0, step=GUIDE_BRANCH, place=6)
)
DITHER_GUIDE = declare_quantity(
    QuantityKind("dither_guide_px", "Dither on the guide sensor", "px", 1, step=GUIDE_BRANCH, place=7)
)
DITHER_SKY = declare_quantity(QuantityKind("dither_arcsec", "Dither on the sky", "″", 1, step=GUIDE_BRANCH, place=8))
STOP_THRESHOLD = declare_quantity(
    QuantityKind("stop_threshold_main_px", "Stop threshold on the main sensor", "px", 2, step=GUIDE_BRANCH, place=9)
)
FLEXURE = declare_quantity(
    QuantityKind(
        "flexure_arcsec_s",
        "Flexure between the telescopes",
        "″/s",
        4,
        may_be_zero=True,
        step=GUIDE_BRANCH,
        place=10,
        invalidated_by=(SET_UP,),
    )
)
FLEXURE_BUDGET = declare_quantity(
    QuantityKind("flexure_budget_arcsec_s", "Flexure allowed", "″/s", 4, step=GUIDE_BRANCH, place=11)
)
ROTATION_EXPOSURE = declare_quantity(
    QuantityKind(
        "rotation_exposure_s", "Longest exposure before field rotation shows", "s", 0, step=GUIDE_BRANCH, place=12
    )
)
STAR_FWHM = declare_quantity(
    QuantityKind("star_fwhm_arcsec", "Stars' FWHM", "″", 2, step=STARS, place=0, invalidated_by=(SET_UP,))
)
STAR_ELONGATION = declare_quantity(
    QuantityKind("star_elongation", "Star elongation", "×", 2, step=STARS, place=1, invalidated_by=(SET_UP,))
)
FIELD_TILT = declare_quantity(
    QuantityKind("field_tilt_um", "Tilt, centre to corner", "µm", 1, may_be_zero=True, step=FIELD, place=0)
)
FIELD_CURVATURE = declare_quantity(
    QuantityKind(
        "field_curvature_um", "Field curvature, corner over centre", "µm", 1, may_be_zero=True, step=FIELD, place=1
    )
)
GUIDE_RMS = declare_quantity(
    QuantityKind(
        "guide_rms_arcsec",
        "Guiding, RMS of both axes",
        "″",
        3,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=0,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_RMS_RA = declare_quantity(
    QuantityKind(
        "guide_rms_ra_arcsec",
        "Guiding, RMS in right ascension",
        "″",
        3,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=1,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_RMS_DEC = declare_quantity(
    QuantityKind(
        "guide_rms_dec_arcsec",
        "Guiding, RMS in declination",
        "″",
        3,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=2,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_ELONGATION = declare_quantity(
    QuantityKind("guide_elongation", "Elongation from guiding", "×", 2, step=GUIDE_LOG, place=3)
)
GUIDE_DRIFT_RA = declare_quantity(
    QuantityKind(
        "guide_drift_ra_arcsec_min",
        "Drift in right ascension",
        "″/min",
        3,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=4,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_DRIFT_DEC = declare_quantity(
    QuantityKind(
        "guide_drift_dec_arcsec_min",
        "Drift in declination",
        "″/min",
        3,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=5,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_PERIOD = declare_quantity(
    QuantityKind("guide_period_s", "Periodic error, period", "s", 1, step=GUIDE_LOG, place=6)
)
GUIDE_AUTOCORRELATION = declare_quantity(
    QuantityKind("guide_autocorrelation", "Lag-1 autocorrelation", "", 2, may_be_zero=True, step=GUIDE_LOG, place=7)
)
GUIDE_AUTOCORRELATION_DEC = declare_quantity(
    QuantityKind(
        "guide_autocorrelation_dec",
        "Lag-1 autocorrelation, declination",
        "",
        2,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=7,
    )
)
GUIDE_SETTLE = declare_quantity(
    QuantityKind(
        "guide_settle_s",
        "Settling, 95 % of dithers",
        "s",
        1,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=8,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_OVER_LIMIT = declare_quantity(
    QuantityKind(
        "guide_over_limit_percent",
        "Frames beyond the stop limit",
        "%",
        2,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=9,
        invalidated_by=(SET_UP,),
    )
)
GUIDE_LOST = declare_quantity(
    QuantityKind(
        "guide_lost_percent",
        "Frames without the star",
        "%",
        1,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=10,
        invalidated_by=(SET_UP,),
    )
)
POLAR_DRIFT = declare_quantity(
    QuantityKind(
        "polar_drift_arcsec_min",
        "Star's drift, unguided",
        "″/min",
        3,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=11,
        invalidated_by=(SET_UP,),
    )
)
POLAR_ERROR = declare_quantity(
    QuantityKind(
        "polar_error_arcmin",
        "Polar error, at least",
        "′",
        2,
        may_be_zero=True,
        step=GUIDE_LOG,
        place=12,
        invalidated_by=(SET_UP,),
    )
)
POLAR_SMEAR = declare_quantity(
    QuantityKind(
        "polar_smear_px", "Corner smear from the polar error", "px", 2, may_be_zero=True, step=GUIDE_LOG, place=13
    )
)
ROTATION_SESSION = declare_quantity(
    QuantityKind(
        "rotation_session_deg", "Field rotation over the session", "°", 1, may_be_zero=True, step=GUIDE_LOG, place=14
    )
)
ROTATION_LOST = declare_quantity(
    QuantityKind(
        "rotation_lost_percent", "Frame lost to field rotation", "%", 1, may_be_zero=True, step=GUIDE_LOG, place=15
    )
)
ROTATION_RECENTRE = declare_quantity(
    QuantityKind("rotation_recentre_min", "Recentre every", "min", 0, step=GUIDE_LOG, place=16)
)
