"""The rig document around the train: site, mount, plan, framing, guide settings, and the recorded values."""

import re
from itertools import pairwise
from typing import Annotated, Literal, Self

from pydantic import AfterValidator, BeforeValidator, Field, model_validator

from wyntaxis.core.rig.base import Finite, Id, Note, Seconds, SkyAngle, StrictModel, Text, not_vanishing
from wyntaxis.core.rig.display import Display
from wyntaxis.core.rig.night_plan import NightStep, NightTarget, NightWatch

Latitude = Annotated[float, Field(ge=-90, le=90)]
Azimuth = Annotated[float, Field(ge=0, le=360)]
Positive = Annotated[float, Field(gt=0, le=1e6), AfterValidator(not_vanishing)]
HorizonPoint = Annotated[tuple[Azimuth, Latitude], Field(strict=False)]
SkyAngleSigned = Annotated[float, Field(ge=-360, le=360)]
Digest = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]


SITE_TOLERANCE_DEG = 0.05
"""Some 5 km: closer makes no odds to horizon, flip or field solving."""
SITE_TOLERANCE_M = 100.0


DependencyValue = float | bool | str | None


def numbers_listed(value: object) -> object:
    """Return numbers that were typed as texts as numbers; whatever else as it is."""
    if not isinstance(value, (list, tuple)):
        return value
    return [float(entry.replace(",", ".")) if isinstance(entry, str) and _is_plain(entry) else entry for entry in value]


def _is_plain(text: str) -> bool:
    return re.fullmatch(r"\s*[0-9]+(?:[.,][0-9]+)?\s*", text) is not None


class Evidence(StrictModel):
    """What a value rests on: how it was read, from which file (name without folders, SHA-256), when (ISO 8601, UTC)."""

    method: Id
    file: Text | None = None
    sha256: Digest | None = None
    date: Text | None = None
    binning: Annotated[int, Field(ge=1, le=64)] | None = None
    note: Note | None = None


class Site(StrictModel):
    """Where the rig stands. ``horizon`` holds (azimuth, altitude) in degrees, azimuths never falling; two points at one
    azimuth are a wall.
    """

    name: Annotated[Text | None, Display("Site's name", topic="site")] = None
    latitude_deg: Annotated[Latitude, Display("Latitude", "°", "site", tolerance=SITE_TOLERANCE_DEG)]
    longitude_deg: Annotated[
        Annotated[float, Field(ge=-180, le=360)], Display("Longitude, east", "°", "site", tolerance=SITE_TOLERANCE_DEG)
    ]
    elevation_m: Annotated[
        Annotated[float, Field(ge=-500, le=10_000)] | None,
        Display("Elevation", "m", "site", tolerance=SITE_TOLERANCE_M),
    ] = None
    seeing_fwhm_arcsec: Annotated[
        Annotated[float, Field(gt=0, le=60), AfterValidator(not_vanishing)] | None, Display("Seeing FWHM, usual", "″")
    ] = None
    seeing_good_arcsec: Annotated[
        Annotated[float, Field(gt=0, le=60), AfterValidator(not_vanishing)] | None,
        Display("Seeing FWHM, good night", "″"),
    ] = None
    seeing_poor_arcsec: Annotated[
        Annotated[float, Field(gt=0, le=60), AfterValidator(not_vanishing)] | None,
        Display("Seeing FWHM, poor night", "″"),
    ] = None
    horizon: Annotated[tuple[HorizonPoint, ...], Field(strict=False, max_length=3601)] = ()
    horizon_from: Evidence | None = None

    @model_validator(mode="after")
    def _rises(self) -> Self:
        good, usual, poor = self.seeing_good_arcsec, self.seeing_fwhm_arcsec, self.seeing_poor_arcsec
        stated = [value for value in (good, usual, poor) if value is not None]
        if stated != sorted(stated):
            raise ValueError("seeing must not fall from seeing_good_arcsec over seeing_fwhm_arcsec to poor")
        for (entry, _), (other, _) in pairwise(self.horizon):
            if other < entry:
                raise ValueError(f"horizon: azimuths must not fall, but {other:g} follows {entry:g}")
        return self


class Mount(StrictModel):
    """What the telescope rides on."""

    name: Text | None = None
    kind: Annotated[Literal["equatorial", "alt_azimuth"], Display("Mount type")]
    worm_period_s: Annotated[Positive | None, Display("Worm period", "s")] = None
    corrects: Annotated[Literal["both", "ra"] | None, Display("Guiding corrects")] = None
    payload_rating_kg: Annotated[Positive | None, Display("Mount payload rating", "kg")] = None


class FrameCorrection(StrictModel):
    """What a frame's header should say; the file itself stays as it is. ``left_out`` keeps the frame out altogether."""

    kind: Literal["light", "dark", "flat", "bias", "other"] | None = None
    gain: Annotated[float, Field(ge=0, le=1e9)] | None = None
    offset: Annotated[float, Field(ge=0, le=1e9)] | None = None
    exposure_s: Annotated[float, Field(ge=0, le=1e7)] | None = None
    temperature_c: Annotated[float, Field(ge=-150, le=100)] | None = None
    binning: Annotated[int, Field(ge=1, le=64)] | None = None
    filter: Text | None = None
    left_out: bool | None = None


class Confirmed(StrictModel):
    """That a measured value still counts though what it rests on has changed: why, since when, and what was so then."""

    reason: Note
    date: Text | None = None
    rests_on: Annotated[dict[Annotated[str, Field(max_length=300)], DependencyValue], Field(max_length=400)] = Field(
        default_factory=dict
    )


class MeasuredValue(StrictModel):
    """What frames, logs or callipers gave for one quantity, with its standard uncertainty.

    ``rests_on`` is what of the rig it was measured with, by name, ``changed`` since when some of that is another.
    """

    value: Finite
    standard_uncertainty: Annotated[float, Field(ge=0, le=1e12)] = 0.0
    source: Note | None = None
    evidence: Evidence | None = None
    rests_on: Annotated[dict[Annotated[str, Field(max_length=300)], DependencyValue] | None, Field(max_length=400)] = (
        None
    )
    changed: Text | None = None
    confirmed: Confirmed | None = None


MOST_WORK_S = 86_400.0
MOST_STEPS = 3000
"""A night has no more steps, repeated ones counted each time."""


class WorkTime(StrictModel):
    """What a kind of work takes each time, in s: as stated, and as measured."""

    value: Seconds | None = None
    measured: MeasuredValue | None = None

    @property
    def best(self) -> float | None:
        """What is used."""
        return self.measured.value if self.measured is not None else self.value

    @model_validator(mode="after")
    def _says_something(self) -> Self:
        if self.best is None:
            raise ValueError('needs a "value" or a "measured" value; take it out where there is neither')
        if self.measured is not None and not 0 <= self.measured.value <= MOST_WORK_S:
            raise ValueError(f"a time of work lies between 0 and {MOST_WORK_S:g} s, got {self.measured.value:g}")
        return self


TimedWork = Literal[
    "connect",
    "unpark",
    "slew",
    "solve",
    "rotate",
    "rough_focus",
    "focus",
    "calibrate_guiding",
    "guide",
    "dither",
    "wheel",
    "download",
    "flip",
    "park",
    "restart",
]
"""Work whose time can be stated or measured: actions of the rehearsal, a dither that settles, a computer's restart."""


class Plan(StrictModel):
    """What is to be taken: the exposure of one frame, how far a star may drift on it in main pixels, how many frames.

    ``filters`` are the names that the run asks for, ``actions`` what it does besides exposing, ``hours`` how long the
    night's power must last, ``ambient_c`` the warmest that it is expected to be, ``air_falls_c_h`` by how much the air
    cools in an hour, ``sky_e_s`` the sky's light in e⁻/s/px
    by filter, typed.
    """

    exposure_s: Annotated[Seconds, Display("Exposure of a frame", "s")]
    allowed_drift_px: Annotated[Positive | None, Display("Drift allowed on it", "main px")] = None
    frames: Annotated[Annotated[int, Field(ge=1, le=1_000_000)] | None, Display("Frames")] = None
    hours: Annotated[
        Annotated[float, Field(gt=0, le=100), AfterValidator(not_vanishing)] | None, Display("Night lasts", "h")
    ] = None
    filters: Annotated[
        Annotated[tuple[Text, ...], Field(strict=False, max_length=64)], Display("Filters, in commas", listed=True)
    ] = ()
    longest_exposure_s: Annotated[Seconds | None, Display("Longest exposure", "s")] = None
    ambient_c: Annotated[float, Field(ge=-60, le=60)] | None = None
    air_falls_c_h: Annotated[Annotated[float, Field(ge=-20, le=20)] | None, Display("Air cools by", "°C/h")] = None
    sky_e_s: dict[Text, Annotated[float, Field(gt=0, le=1e6), AfterValidator(not_vanishing)]] = Field(
        default_factory=dict
    )
    actions: Annotated[
        tuple[Literal["cool", "guide", "dither", "refocus", "flip", "park", "warm_up"], ...],
        Field(strict=False, max_length=7),
    ] = ()
    steps: Annotated[tuple[NightStep, ...], Field(strict=False, max_length=300)] = ()
    targets: Annotated[tuple[NightTarget, ...], Field(strict=False, max_length=50)] = ()
    watch: NightWatch | None = None
    times: dict[TimedWork, WorkTime] = Field(default_factory=dict)
    """What the work of the night takes, where it is known better than the rehearsal supposes."""
    attended: Annotated[Text | None, Display("Somebody stays beside it")] = None
    """Why the telescope is not alone: then it is covered in rain, roof or no roof."""
    file_names: Annotated[Annotated[str, Field(min_length=1, max_length=200)] | None, Display("File names")] = None

    @model_validator(mode="after")
    def _can_be_played(self) -> Self:
        steps = (*self.steps, *(step for target in self.targets for step in target.steps))
        if sum(step.repeat or 1 for step in steps) > MOST_STEPS:
            raise ValueError(f"the steps are repeated more than {MOST_STEPS} times altogether")
        names = [target.name.casefold() for target in self.targets]
        if len(set(names)) != len(names):
            raise ValueError("targets: each needs a name of its own")
        return self


class Framing(StrictModel):
    """Where the frame lies on the sky: its centre (ICRS, J2000) and the position angle of its top, north through
    east.
    """

    name: Text | None = None
    ra_deg: Annotated[float, Field(ge=0, lt=360)]
    dec_deg: Latitude
    position_angle_deg: Annotated[float, Field(ge=-360, le=360)] = 0.0
    overlap: Annotated[float, Field(ge=0, le=0.9)] | None = None


class GuideSettings(StrictModel):
    """What the guiding is set to. Lengths are in guide px, or main px where the name says so."""

    exposure_s: Annotated[Seconds | None, Display("Guide exposure", "s", "guiding")] = None
    rate_sidereal: Annotated[
        Annotated[float, Field(gt=0, le=10), AfterValidator(not_vanishing)] | None,
        Display("Guide rate", "× sidereal", "guiding"),
    ] = None
    centroid_error_px: Annotated[Positive | None, Display("Centroid error", "guide px")] = None
    search_region_px: Annotated[Positive | None, Display("Search region, half", "guide px")] = None
    calibration_distance_px: Annotated[Positive | None, Display("Calibration distance", "guide px")] = None
    calibration_pulses: Annotated[Annotated[int, Field(ge=1, le=1000)] | None, Display("Calibration pulses")] = None
    calibration_pulse_ms: Annotated[Positive | None, Display("Calibration pulse", "ms", "guiding")] = None
    calibration_declination_deg: Annotated[
        Annotated[float, Field(ge=-89.9, le=89.9)] | None, Display("Calibration at declination", "°")
    ] = None
    dither_main_px: Annotated[Positive | None, Display("Dither", "main px", "guiding")] = None
    stop_threshold_arcsec: Annotated[SkyAngle | None, Display("Stop threshold", "″")] = None
    pulse_route: Annotated[
        Literal["mount", "guide_port"] | None, Display("Guide pulses via", topic="guiding", place=1)
    ] = None
    dither_every_frames: Annotated[
        Annotated[int, Field(ge=1, le=1000)] | None, Display("Dither every", "frames", "guiding")
    ] = None
    settle_px: Annotated[Positive | None, Display("Settled within", "guide px", "guiding")] = None
    settle_s: Annotated[Seconds | None, Display("Settled for", "s", "guiding")] = None
    settle_allowed_s: Annotated[Seconds | None, Display("Settling allowed", "s")] = None
    dark_exposures_s: Annotated[
        Annotated[tuple[Seconds, ...], BeforeValidator(numbers_listed), Field(strict=False, max_length=50)],
        Display("Guide darks", "s", listed=True),
    ] = ()
    turns_calibration: Annotated[bool | None, Display("Calibration turned at the flip")] = None


class GuideCalibration(StrictModel):
    """The guider's calibration: when and where it was made, how the axes lie in the image, and the play found.

    ``angle_deg`` is right ascension's in the image, ``camera_angle_deg`` the main camera's position angle then.
    """

    date: Annotated[Text | None, Display("Calibrated on")] = None
    declination_deg: Annotated[Latitude | None, Display("at declination", "°")] = None
    pier_side: Annotated[Literal["east", "west"] | None, Display("on the pier side")] = None
    binning: Annotated[Annotated[int, Field(ge=1, le=64)] | None, Display("at binning")] = None
    camera_angle_deg: Annotated[SkyAngleSigned | None, Display("at camera angle", "°")] = None
    angle_deg: Annotated[SkyAngleSigned | None, Display("Angle of right ascension", "°")] = None
    not_square_deg: Annotated[float, Field(ge=-90, le=90)] | None = None
    backlash_ms: Annotated[Annotated[float, Field(ge=0, le=1e6)] | None, Display("Backlash in declination", "ms")] = (
        None
    )
    file: Text | None = None
    confirmed: Confirmed | None = None


class StatedValue(StrictModel):
    """What a maker's sheet or a program's settings say of one quantity; ``tolerance`` is a half-width."""

    value: Finite
    tolerance: Annotated[float, Field(ge=0, le=1e12)] | None = None
    source: Note | None = None
