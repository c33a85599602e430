"""The legs that follow from the rig: computed from its parts, and measured ones derived from a measured scale."""

from __future__ import annotations

import math

from wyntaxis.core.ledger import STATED_RELATIVE_TOLERANCE, Leg, Target, Verdict, rectangular
from wyntaxis.core.optics import focus, guiding, imaging, thinlens
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.plan import GuideSettings
from wyntaxis.core.train import sampling
from wyntaxis.core.train.guidepath import guide_optics, guide_path
from wyntaxis.core.train.lightpath import back_focus, magnifications, main_plates, shift_standard, total_shift

CALIBRATION_TIGHT, CALIBRATION_FAILS = 4 / 3, 2.0
"""A calibration pulse this many times too long or short makes the calibration doubtful, or wrong."""

LEAST_DITHER_CENTROIDS = 3.0
"""A dither under three centroid errors is lost in the noise of the guide star."""


def best_focal_length_mm(rig: Rig) -> float:
    """Return the effective focal length to act on: as measured, or as computed from the parts."""
    found = ComputedLegs(rig)
    return found.measured.get("effective_focal_length_mm", found.focal_length).value


class ComputedLegs:
    """The computed legs and targets of one rig, by quantity id."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.legs: dict[str, Leg] = {}
        self.targets: dict[str, Target] = {}
        self.verdicts: dict[str, Verdict] = {}
        self.stated: dict[str, Leg] = {}
        self.measured: dict[str, Leg] = {}
        self.settings = rig.guiding.settings or GuideSettings()
        self.back_focus = back_focus(rig)
        self.guide_path = guide_path(rig)
        self._imaging()
        self._focus()
        self._back_focus()
        self.guide = guide_optics(rig, self.focal_length.value, self.focal_length.uncertainty)
        self._guiding()
        self._guide_path()
        self._corrector()
        self._measured_scale()
        self._measured_guide_scale()
        self._search()
        self._guide_run()
        self._rotation()

    def _imaging(self) -> None:
        rig, telescope = self.rig, self.rig.telescope
        factors = magnifications(rig.train)
        value = imaging.effective_focal_length(telescope.focal_length_mm, factors)
        tolerance = telescope.focal_length_tolerance_mm
        rounding = STATED_RELATIVE_TOLERANCE * value if tolerance is None else 0.0
        self.focal_length = Leg(value, rectangular(tolerance) * math.prod(factors), rounding)
        self.ratio = self._scaled(imaging.focal_ratio(value, telescope.aperture_mm))
        self.legs["effective_focal_length_mm"] = self.focal_length
        self.legs["focal_ratio"] = self.ratio
        self.legs["airy_diameter_um"] = self._scaled(imaging.airy_diameter(self.ratio.value))
        sensor = rig.sensor
        if sensor is None:
            return
        self.legs["sensor_diagonal_mm"] = Leg(sensor.diagonal_mm)
        sides = {"width": sensor.width_mm, "height": sensor.height_mm, "diagonal": sensor.diagonal_mm}
        for name, side in sides.items():
            slope = imaging.field_angle_slope(side, value)
            spreads = slope * self.focal_length.uncertainty, slope * self.focal_length.tolerance
            self.legs[f"field_{name}_deg"] = Leg(imaging.field_angle(side, value), *spreads)
        scale = self._scaled(imaging.pixel_scale(sensor.pixel_um, sensor.binning, value))
        self.legs["pixel_scale_arcsec_px"] = scale
        if self.seeing is not None:
            self.legs["sampling_px_per_fwhm"] = self._scaled(imaging.sampling(self.seeing, scale.value))
            self.targets["sampling_px_per_fwhm"] = Target(
                imaging.UNDERSAMPLED_BELOW, imaging.OVERSAMPLED_ABOVE, imaging.MATCHED_FROM, imaging.MATCHED_TO
            )

    @property
    def seeing(self) -> float | None:
        return self.rig.site.seeing_fwhm_arcsec if self.rig.site else None

    def _scaled(self, value: float, power: float = 1) -> Leg:
        """Return a leg whose relative uncertainty is ``power`` times that of the focal length."""
        focal = self.focal_length
        return Leg(
            value, value * power * focal.uncertainty / focal.value, value * power * focal.tolerance / focal.value
        )

    def _focus(self) -> None:
        diffraction = focus.depth_of_focus_diffraction(self.ratio.value)
        self.legs["depth_of_focus_diffraction_um"] = self._scaled(diffraction, power=2)
        if self.seeing is not None:
            zone = focus.depth_of_focus_seeing(self.ratio.value, self.focal_length.value, self.seeing)
            self.legs["depth_of_focus_seeing_um"] = self._scaled(zone, power=2)

    def _back_focus(self) -> None:
        plates = main_plates(self.rig)
        self.legs["glass_shift_mm"] = Leg(total_shift(plates), shift_standard(plates))
        path = self.back_focus
        if path is None:
            return
        self.legs["back_focus_required_mm"] = Leg(path.required_mm, path.glass_standard_mm)
        self.legs["back_focus_built_mm"] = Leg(path.built_mm, path.stack.standard_mm)
        self.legs["back_focus_error_mm"] = Leg(path.error_mm, path.error_standard_mm)
        if path.tolerance_mm is not None:
            width = path.tolerance_mm
            self.targets["back_focus_error_mm"] = Target(-width, width)
            self.targets["back_focus_built_mm"] = Target(path.required_mm - width, path.required_mm + width)

    def _guiding(self) -> None:
        guide, scale = self.guide, self.legs.get("pixel_scale_arcsec_px")
        if guide is None:
            return
        value = imaging.pixel_scale(guide.sensor.pixel_um, guide.sensor.binning, guide.focal_length_mm)
        relative = guide.focal_length_standard_mm / guide.focal_length_mm
        self.legs["guide_scale_arcsec_px"] = Leg(value, value * relative)
        if scale is None:
            return
        ratio = imaging.guide_to_main_ratio(value, scale.value)
        # Behind a prism both scales hold the same focal length, which cancels.
        spread = 0.0 if guide.shares_main else ratio * math.hypot(relative, scale.uncertainty / scale.value)
        good, poor = (guiding.ALLOWED_MAIN_PX / error for error in guiding.CENTROID_ERROR_PX)
        self.legs["guide_to_main_ratio"] = Leg(ratio, spread)
        self.targets["guide_to_main_ratio"] = Target(0, good, 0, poor)

    def _guide_path(self) -> None:
        path = self.guide_path
        if path is None:
            return
        others = math.sqrt(max(0.0, path.standard_mm**2 - path.stack.standard_mm**2))
        self.legs["guide_path_required_mm"] = Leg(path.required_mm, others)
        self.legs["guide_path_built_mm"] = Leg(path.built_mm, path.stack.standard_mm)
        self.legs["guide_path_error_mm"] = Leg(path.error_mm, path.standard_mm)
        width = self.guide_focus_half_width_mm
        self.targets["guide_path_error_mm"] = Target(-width, width)
        self.targets["guide_path_built_mm"] = Target(path.required_mm - width, path.required_mm + width)
        if path.reach is not None and path.reach.margin_mm >= 2 * path.standard_mm and abs(path.error_mm) <= width:
            # What the tolerances leave open, the guide focuser takes up.
            self.verdicts["guide_path_error_mm"] = self.verdicts["guide_path_built_mm"] = Verdict.HOLDS

    @property
    def guide_focus_half_width_mm(self) -> float:
        """Half the depth of focus, in mm: the seeing zone, or the diffraction zone where no seeing is stated."""
        zone = self.legs.get("depth_of_focus_seeing_um") or self.legs["depth_of_focus_diffraction_um"]
        return zone.value / 2000

    # The corrector as a thin lens, and what a measured image scale says of it

    def _corrector(self) -> None:
        """Set the magnification that the built distance gives."""
        path = self.back_focus
        if path is None or path.corrector.magnification is None:
            return
        lens = thinlens.focal_length_of(path.corrector.magnification, path.stated_mm)
        if lens is None:
            return
        self.lens_mm = lens
        value = thinlens.magnification_at(path.stated_mm + path.error_mm, lens)
        if value > 0:
            self.legs["corrector_magnification"] = Leg(value, path.error_standard_mm / abs(lens))

    lens_mm: float | None = None

    def _measured_scale(self) -> None:
        """Derive every measured leg that follows from a measured pixel scale or focal length."""
        sensor, focal = self.rig.sensor, self._measured_focal_length()
        if focal is None:
            return
        relative = focal.uncertainty / focal.value

        def follows(quantity_id: str, value: float) -> None:
            self.measured[quantity_id] = Leg(value, value * relative, source=focal.source)

        follows("effective_focal_length_mm", focal.value)
        ratio = imaging.focal_ratio(focal.value, self.rig.telescope.aperture_mm)
        follows("focal_ratio", ratio)
        if sensor is not None:
            scale = imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal.value)
            follows("pixel_scale_arcsec_px", scale)
            sides = {"width": sensor.width_mm, "height": sensor.height_mm, "diagonal": sensor.diagonal_mm}
            for name, side in sides.items():
                slope = imaging.field_angle_slope(side, focal.value)
                angle = imaging.field_angle(side, focal.value)
                self.measured[f"field_{name}_deg"] = Leg(angle, slope * focal.uncertainty, source=focal.source)
            if self.seeing is not None:
                follows("sampling_px_per_fwhm", imaging.sampling(self.seeing, scale))
        self._measured_magnification(focal)

    scale_basis: str | None = None
    """Which recorded measurement the derived legs follow from."""

    def _measured_focal_length(self) -> Leg | None:
        """Return the effective focal length that was measured, itself or through the pixel scale."""
        direct = self.rig.measured.get("effective_focal_length_mm")
        if direct is not None:
            self.scale_basis = "effective_focal_length_mm"
            return Leg(direct.value, direct.standard_uncertainty, source=direct.source or "")
        scale, sensor = self.rig.measured.get("pixel_scale_arcsec_px"), self.rig.sensor
        if scale is None or sensor is None:
            return None
        self.scale_basis = "pixel_scale_arcsec_px"
        binning = scale.evidence.binning if scale.evidence and scale.evidence.binning else sensor.binning
        value = imaging.pixel_scale(sensor.pixel_um, binning, scale.value)  # the formula is its own inverse
        return Leg(value, value * scale.standard_uncertainty / scale.value, source=scale.source or "")

    def _measured_magnification(self, focal: Leg) -> None:
        """Set the measured magnification of the corrector, and the spacing error that would explain it."""
        path, telescope = self.back_focus, self.rig.telescope
        if path is None or self.lens_mm is None or path.corrector.magnification is None:
            return
        design = path.corrector.magnification
        bare = self.focal_length.value / design
        value = focal.value / bare
        tolerance = rectangular(telescope.focal_length_tolerance_mm)
        standard = value * math.hypot(focal.uncertainty / focal.value, tolerance / telescope.focal_length_mm)
        self.measured["corrector_magnification"] = Leg(value, standard, source=focal.source)
        error = thinlens.spacing_error(value, design, self.lens_mm)
        self.measured["spacing_error_by_scale_mm"] = Leg(error, standard * abs(self.lens_mm), source=focal.source)
        self.legs["spacing_error_by_scale_mm"] = Leg(path.error_mm, path.error_standard_mm)

    def _search(self) -> None:
        """Set the range that field solving is told, from the measured scale where there is one."""
        sensor, focal = self.rig.sensor, self.measured.get("effective_focal_length_mm", self.focal_length)
        if sensor is None:
            return
        scale = imaging.pixel_scale(sensor.pixel_um, sensor.binning, focal.value)
        found = sampling.search_range(sensor, scale, focal.value, focal.uncertainty / focal.value)
        self.search = found
        self.legs["search_scale_low_arcsec_px"] = Leg(found.low_arcsec_px)
        self.legs["search_scale_high_arcsec_px"] = Leg(found.high_arcsec_px)
        self.legs["search_radius_deg"] = Leg(found.radius_deg)

    search: sampling.SearchRange | None = None

    # The guiding's run, and the rotation of the field

    def _guide_run(self) -> None:
        main, guide, settings = self._best_scale(), self._best_guide_scale(), self.settings
        if guide is None:
            return
        distance = settings.calibration_distance_px or guiding.USUAL_DISTANCE_PX
        pulses = settings.calibration_pulses or guiding.USUAL_PULSES
        rate = settings.rate_sidereal or guiding.USUAL_RATE_SIDEREAL
        declination = self.calibration_declination_deg
        if abs(declination) < 89.95:
            wanted = guiding.calibration_pulse_ms(distance, guide.value, pulses, rate, declination)
            self.legs["calibration_pulse_ms"] = Leg(wanted, wanted * guide.uncertainty / guide.value)
            self._stated_pulse(wanted)
        if main is None:
            return
        dither = settings.dither_main_px or guiding.USUAL_DITHER_MAIN_PX
        ratio = guide.value / main.value
        centroid = settings.centroid_error_px or guiding.CENTROID_ERROR_PX[1]
        self.legs["guide_centroid_main_px"] = Leg(centroid * ratio)
        # A usual centroid error fails only where even its good end would: nobody has stated it.
        good, poor = guiding.CENTROID_ERROR_PX
        slack = 1.0 if settings.centroid_error_px else poor / good
        self.targets["guide_centroid_main_px"] = Target(0, guiding.ALLOWED_MAIN_PX * slack, 0, guiding.ALLOWED_MAIN_PX)
        self.legs["dither_arcsec"] = Leg(dither * main.value)
        self.legs["dither_guide_px"] = Leg(dither / ratio)
        reach = settings.search_region_px or math.inf
        self.targets["dither_guide_px"] = Target(LEAST_DITHER_CENTROIDS * centroid, reach)
        if settings.stop_threshold_arcsec is not None:
            self.legs["stop_threshold_main_px"] = Leg(settings.stop_threshold_arcsec / main.value)
        plan = self.rig.plan
        if self.rig.guiding.kind == "separate" and plan is not None:
            allowed = plan.allowed_drift_px or guiding.USUAL_DRIFT_PX
            budget = guiding.flexure_budget(allowed, main.value, plan.exposure_s)
            self.legs["flexure_budget_arcsec_s"] = Leg(budget)
            self.targets["flexure_arcsec_s"] = Target(-budget, budget)

    def _stated_pulse(self, wanted_ms: float) -> None:
        pulse = self.settings.calibration_pulse_ms
        if pulse is None:
            return
        # The legs agree up to a factor of two; the verdict between is the calibration's own.
        self.stated["calibration_pulse_ms"] = Leg(pulse, tolerance=wanted_ms * (CALIBRATION_FAILS - 1))
        factor = max(pulse / wanted_ms, wanted_ms / pulse)
        self.verdicts["calibration_pulse_ms"] = (
            Verdict.FAILS
            if factor > CALIBRATION_FAILS
            else Verdict.TIGHT
            if factor > CALIBRATION_TIGHT
            else Verdict.HOLDS
        )

    @property
    def calibration_declination_deg(self) -> float:
        """Where the calibration is made: as stated, else at the framing, else at the equator."""
        if self.settings.calibration_declination_deg is not None:
            return self.settings.calibration_declination_deg
        return self.rig.framing.dec_deg if self.rig.framing else 0.0

    def _best_scale(self) -> Leg | None:
        return self.measured.get("pixel_scale_arcsec_px") or self.legs.get("pixel_scale_arcsec_px")

    def _best_guide_scale(self) -> Leg | None:
        return self.measured.get("guide_scale_arcsec_px") or self.legs.get("guide_scale_arcsec_px")

    def _measured_guide_scale(self) -> None:
        """Set the measured guide scale: as recorded; behind a prism a measured main focal length is its own too."""
        guide, main = self.legs.get("guide_scale_arcsec_px"), self.measured.get("effective_focal_length_mm")
        recorded = self.rig.measured.get("guide_scale_arcsec_px")
        if recorded is not None:
            leg = Leg(recorded.value, recorded.standard_uncertainty, source=recorded.source or "")
            self.measured["guide_scale_arcsec_px"] = leg
        elif guide is not None and main is not None and self.guide is not None and self.guide.shares_main:
            value = guide.value * self.focal_length.value / main.value
            self.measured["guide_scale_arcsec_px"] = Leg(value, value * main.uncertainty / main.value, 0.0, main.source)

    @property
    def guide_focal_length(self) -> Leg | None:
        """The focal length that the guide camera works at: by the measured guide scale, else computed."""
        if self.guide is None:
            return None
        scale, sensor = self.measured.get("guide_scale_arcsec_px"), self.guide.sensor
        if scale is None:
            return Leg(self.guide.focal_length_mm, self.guide.focal_length_standard_mm)
        value = imaging.pixel_scale(sensor.pixel_um, sensor.binning, scale.value)  # the formula is its own inverse
        return Leg(value, value * scale.uncertainty / scale.value, 0.0, scale.source)

    def _rotation(self) -> None:
        rig, sensor = self.rig, self.rig.sensor
        if rig.mount is None or rig.mount.kind != "alt_azimuth" or rig.site is None or sensor is None:
            return
        if rig.framing is None:
            return
        altitude = guiding.culmination_altitude(rig.site.latitude_deg, rig.framing.dec_deg)
        rate = guiding.rotation_rate(rig.site.latitude_deg, 180.0, min(altitude, 89.99))
        allowed = (rig.plan.allowed_drift_px if rig.plan else None) or guiding.USUAL_DRIFT_PX
        longest = float(guiding.rotation_exposure(rate, sensor.corner_px, allowed))
        if math.isfinite(longest):
            self.legs["rotation_exposure_s"] = Leg(longest)
            if rig.plan is not None:
                self.targets["rotation_exposure_s"] = Target(low=rig.plan.exposure_s)
