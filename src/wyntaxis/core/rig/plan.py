"""The parts of the rig document around the train: site, mount, plan, framing, guide settings, and the recorded legs."""

from __future__ import annotations

from itertools import pairwise
from typing import Annotated, Literal

from pydantic import AfterValidator, Field, model_validator

from wyntaxis.core.rig.base import Finite, Id, Note, Seconds, SkyAngle, StrictModel, Text, not_vanishing

Latitude = Annotated[float, Field(ge=-90, le=90)]
Azimuth = Annotated[float, Field(ge=0, le=360)]
Positive = Annotated[float, Field(gt=0, le=1e6), AfterValidator(not_vanishing)]
HorizonPoint = Annotated[tuple[Azimuth, Latitude], Field(strict=False)]
Digest = Annotated[str, Field(pattern="^[0-9a-f]{64}$")]


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

    name: Text | None = None
    latitude_deg: Latitude
    longitude_deg: Annotated[float, Field(ge=-180, le=360)]
    elevation_m: Annotated[float, Field(ge=-500, le=10_000)] | None = None
    seeing_fwhm_arcsec: Annotated[float, Field(gt=0, le=60), AfterValidator(not_vanishing)] | None = None
    seeing_good_arcsec: Annotated[float, Field(gt=0, le=60), AfterValidator(not_vanishing)] | None = None
    seeing_poor_arcsec: Annotated[float, Field(gt=0, le=60), AfterValidator(not_vanishing)] | None = None
    horizon: Annotated[tuple[HorizonPoint, ...], Field(strict=False, max_length=3601)] = ()
    horizon_from: Evidence | None = None

    @model_validator(mode="after")
    def _rises(self) -> Site:
        good, usual, poor = self.seeing_good_arcsec, self.seeing_fwhm_arcsec, self.seeing_poor_arcsec
        stated = [value for value in (good, usual, poor) if value is not None]
        if stated != sorted(stated):
            raise ValueError("seeing must not fall from seeing_good_arcsec over seeing_fwhm_arcsec to poor")
        for (one, _), (other, _) in pairwise(self.horizon):
            if other < one:
                raise ValueError(f"horizon: azimuths must not fall, but {other:g} follows {one:g}")
        return self


class Mount(StrictModel):
    """What the telescope rides on."""

    name: Text | None = None
    kind: Literal["equatorial", "alt_azimuth"]


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


class Plan(StrictModel):
    """What is to be taken: the exposure of one frame, how far a star may drift on it in main pixels, how many frames.

    ``filters`` are the names that the run asks for, ``actions`` what it does besides exposing, ``hours`` how long the
    night's power must last, ``ambient_c`` the warmest that it is expected to be, ``sky_e_s`` the sky's light in e⁻/s/px
    by filter, typed.
    """

    exposure_s: Seconds
    allowed_drift_px: Positive | None = None
    frames: Annotated[int, Field(ge=1, le=1_000_000)] | None = None
    hours: Annotated[float, Field(gt=0, le=100), AfterValidator(not_vanishing)] | None = None
    filters: Annotated[tuple[Text, ...], Field(strict=False, max_length=64)] = ()
    longest_exposure_s: Seconds | None = None
    ambient_c: Annotated[float, Field(ge=-60, le=60)] | None = None
    sky_e_s: dict[Text, Annotated[float, Field(gt=0, le=1e6), AfterValidator(not_vanishing)]] = Field(
        default_factory=dict
    )
    actions: Annotated[
        tuple[Literal["cool", "guide", "dither", "refocus", "flip", "park", "warm_up"], ...],
        Field(strict=False, max_length=7),
    ] = ()


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

    exposure_s: Seconds | None = None
    rate_sidereal: Annotated[float, Field(gt=0, le=10), AfterValidator(not_vanishing)] | None = None
    centroid_error_px: Positive | None = None
    search_region_px: Positive | None = None
    calibration_distance_px: Positive | None = None
    calibration_pulses: Annotated[int, Field(ge=1, le=1000)] | None = None
    calibration_pulse_ms: Positive | None = None
    calibration_declination_deg: Annotated[float, Field(ge=-89.9, le=89.9)] | None = None
    dither_main_px: Positive | None = None
    stop_threshold_arcsec: SkyAngle | None = None
    pulse_route: Literal["mount", "guide_port"] | None = None
    dither_every_frames: Annotated[int, Field(ge=1, le=1000)] | None = None
    settle_px: Positive | None = None
    settle_s: Seconds | None = None


class StatedValue(StrictModel):
    """What a maker's sheet or a program's settings say of one quantity; ``tolerance`` is a half-width."""

    value: Finite
    tolerance: Annotated[float, Field(ge=0, le=1e12)] | None = None
    source: Note | None = None


class MeasuredValue(StrictModel):
    """What frames, logs or callipers gave for one quantity, with its standard uncertainty."""

    value: Finite
    standard_uncertainty: Annotated[float, Field(ge=0, le=1e12)] = 0.0
    source: Note | None = None
    evidence: Evidence | None = None
