"""Scale, field and sampling for every binning, what would bring them to the match, and what field solving is told."""

from __future__ import annotations

from dataclasses import dataclass

from wyntaxis.core.optics import imaging
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import Sensor

BINNINGS = (1, 2, 3, 4)
MIN_SEARCH_SHARE = 0.05
"""Field solving is never told less than ±5 %: focal lengths shift with focus, spacing and temperature."""


@dataclass(frozen=True)
class SeeingBand:
    """Seeing FWHM in arcsec: the good night, the usual one, the poor one."""

    good_arcsec: float
    usual_arcsec: float
    poor_arcsec: float

    @property
    def is_band(self) -> bool:
        return self.good_arcsec < self.poor_arcsec


def seeing_band(rig: Rig) -> SeeingBand | None:
    """Return the site's seeing; what is not stated is as the usual night, None where nothing is."""
    site = rig.site
    if site is None:
        return None
    stated = [v for v in (site.seeing_good_arcsec, site.seeing_fwhm_arcsec, site.seeing_poor_arcsec) if v is not None]
    if not stated:
        return None
    usual = site.seeing_fwhm_arcsec or stated[0]
    return SeeingBand(site.seeing_good_arcsec or usual, usual, site.seeing_poor_arcsec or usual)


@dataclass(frozen=True)
class BinningRow:
    """One binning of one train: scale in arcsec/px, field in degrees, sampling in px per FWHM over the seeing."""

    train: str
    binning: int
    in_use: bool
    scale_arcsec_px: float
    width_px: int
    height_px: int
    width_deg: float
    height_deg: float
    sampling_good: float | None
    sampling_usual: float | None
    sampling_poor: float | None
    advice: str


def sampling_word(value: float) -> str:
    """Return what a sampling in px per FWHM is called."""
    if value < imaging.UNDERSAMPLED_BELOW:
        return "undersampled"
    if value < imaging.MATCHED_FROM:
        return "a little undersampled"
    if value <= imaging.MATCHED_TO:
        return "matched"
    return "a little oversampled" if value <= imaging.OVERSAMPLED_ABOVE else "oversampled"


def match_factors(sampling: float) -> tuple[float, float]:
    """Return the shortest and longest factor on the focal length that brings a sampling to the match."""
    return imaging.MATCHED_FROM / sampling, imaging.MATCHED_TO / sampling


def match_advice(sampling: float) -> str:
    """Return which reducer or extender brings a sampling to the match, in words."""
    low, high = match_factors(sampling)
    if low <= 1 <= high:
        return "matched as it is"
    kind = "extender" if low > 1 else "reducer"
    return f"{kind} {low:.2f}× to {high:.2f}×"


def binning_rows(rig: Rig, focal_length_mm: float) -> list[BinningRow]:
    """Return the rows of one train for binnings 1 to 4, and the one in use; none without a sensor."""
    sensor, band = rig.sensor, seeing_band(rig)
    if sensor is None:
        return []
    rows = []
    for binning in sorted({*BINNINGS, sensor.binning}):
        scale = imaging.pixel_scale(sensor.pixel_um, binning, focal_length_mm)
        usual = imaging.sampling(band.usual_arcsec, scale) if band else None
        rows.append(
            BinningRow(
                train=rig.name,
                binning=binning,
                in_use=binning == sensor.binning,
                scale_arcsec_px=scale,
                width_px=sensor.width_px // binning,
                height_px=sensor.height_px // binning,
                width_deg=imaging.field_angle(sensor.width_mm, focal_length_mm),
                height_deg=imaging.field_angle(sensor.height_mm, focal_length_mm),
                sampling_good=imaging.sampling(band.good_arcsec, scale) if band else None,
                sampling_usual=usual,
                sampling_poor=imaging.sampling(band.poor_arcsec, scale) if band else None,
                advice=match_advice(usual) if usual else "state the site's seeing",
            )
        )
    return rows


@dataclass(frozen=True)
class PlateSolvingHints:
    """What a field solver is to be told. Scales are for the binning in use; the pixel sizes are both given."""

    share: float
    low_arcsec_px: float
    high_arcsec_px: float
    radius_deg: float
    focal_length_mm: float
    pixel_um: float
    binned_pixel_um: float
    binning: int

    @property
    def text(self) -> str:
        """The range as lines to copy."""
        binned = f"binned pixel size {self.binned_pixel_um:.3f} µm, or " if self.binning > 1 else ""
        unbinned = f"pixel size {self.pixel_um:.3f} µm" + (f" with binning {self.binning}" if binned else "")
        return (
            f"focal length {self.focal_length_mm:.1f} mm\n{binned}{unbinned}\n"
            f"scale {self.low_arcsec_px:.4f} to {self.high_arcsec_px:.4f} arcsec/px\n"
            f"field radius {self.radius_deg:.3f} deg"
        )


def search_share(relative_uncertainty: float) -> float:
    """Return the half-width of the search in scale as a share: two standard uncertainties, at least 5 %."""
    return max(MIN_SEARCH_SHARE, 2 * relative_uncertainty)


def plate_solving_hints(
    sensor: Sensor, scale_arcsec_px: float, focal_length_mm: float, relative_uncertainty: float
) -> PlateSolvingHints:
    """Return the range for blind field solving: ``s (1 ± q)``, and half the field's diagonal as its radius."""
    share = search_share(relative_uncertainty)
    return PlateSolvingHints(
        share=share,
        low_arcsec_px=scale_arcsec_px * (1 - share),
        high_arcsec_px=scale_arcsec_px * (1 + share),
        radius_deg=imaging.field_angle(sensor.diagonal_mm, focal_length_mm) / 2,
        focal_length_mm=focal_length_mm,
        pixel_um=sensor.pixel_um,
        binned_pixel_um=sensor.pixel_um * sensor.binning,
        binning=sensor.binning,
    )
