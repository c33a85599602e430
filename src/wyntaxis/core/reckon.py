"""From a rig to its ledger: the one place where the document, the formulas and the legs meet."""

from __future__ import annotations

import math
from dataclasses import dataclass, replace
from typing import TYPE_CHECKING

from wyntaxis.core.catalogue import CATALOGUE
from wyntaxis.core.ledger import Leg, Quantity, Target, Verdict, rectangular, stated_leg, worst
from wyntaxis.core.optics import focus, imaging
from wyntaxis.core.optics.guidepath import GuideOptics, GuidePath, guide_optics, guide_path
from wyntaxis.core.optics.lightpath import (
    BackFocus,
    back_focus,
    magnifications,
    main_plates,
    shift_standard,
    total_shift,
)

if TYPE_CHECKING:
    from wyntaxis.core.findings import Finding
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.shelf import ShelfPart

CENTROID_ERROR_PX = (0.1, 0.2)
"""What a guide camera's centroid usually errs by, in guide px: the good and the poor end."""

ALLOWED_GUIDE_ERROR_MAIN_PX = 0.5
"""Guide errors under half a main pixel do not show in the stars."""


@dataclass(frozen=True)
class Reckoning:
    """Everything computed from one rig: geometry, ledger, findings."""

    rig: Rig
    back_focus: BackFocus | None
    guide_path: GuidePath | None
    guide_optics: GuideOptics | None
    quantities: dict[str, Quantity]
    shelf: tuple[ShelfPart, ...] = ()
    findings: tuple[Finding, ...] = ()

    def value(self, quantity_id: str) -> float | None:
        """Return the best leg's value of a quantity, or None where there is none."""
        best = self.quantities[quantity_id].best
        return best.value if best else None

    def finding(self, finding_id: str) -> Finding | None:
        """Return the first finding of that id, or None."""
        return next((finding for finding in self.findings if finding.id == finding_id), None)

    @property
    def verdict(self) -> Verdict:
        """The gravest verdict of all findings."""
        return worst(finding.verdict for finding in self.findings)


def reckon(rig: Rig, shelf: tuple[ShelfPart, ...] = ()) -> Reckoning:
    """Compute every quantity and finding of a rig; remedies may name parts of the shelf."""
    from wyntaxis.core.findings import all_findings

    computed = _Computed(rig)
    bare = Reckoning(
        rig=rig,
        back_focus=computed.back_focus,
        guide_path=computed.guide_path,
        guide_optics=computed.guide,
        quantities={key: _row(rig, key, computed) for key in CATALOGUE},
        shelf=shelf,
    )
    return replace(bare, findings=tuple(all_findings(bare)))


class _Computed:
    """The computed legs and targets of one rig, by quantity id."""

    def __init__(self, rig: Rig) -> None:
        self.rig = rig
        self.legs: dict[str, Leg] = {}
        self.targets: dict[str, Target] = {}
        self.verdicts: dict[str, Verdict] = {}
        self.back_focus = back_focus(rig)
        self.guide_path = guide_path(rig)
        self._imaging()
        self._focus()
        self._back_focus()
        self.guide = guide_optics(rig, self.focal_length.value, self.focal_length.uncertainty)
        self._guiding()
        self._guide_path()

    def _imaging(self) -> None:
        rig, telescope = self.rig, self.rig.telescope
        factors = magnifications(rig.train)
        value = imaging.effective_focal_length(telescope.focal_length_mm, factors)
        self.focal_length = Leg(value, rectangular(telescope.focal_length_tolerance_mm) * math.prod(factors))
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
            self.legs[f"field_{name}_deg"] = Leg(
                imaging.field_angle(side, value), slope * self.focal_length.uncertainty
            )
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
        return Leg(value, value * power * self.focal_length.uncertainty / self.focal_length.value)

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
        good, poor = (ALLOWED_GUIDE_ERROR_MAIN_PX / error for error in CENTROID_ERROR_PX)
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


def _row(rig: Rig, quantity_id: str, computed: _Computed) -> Quantity:
    stated, measured = rig.stated.get(quantity_id), rig.measured.get(quantity_id)
    return Quantity(
        kind=CATALOGUE[quantity_id],
        stated=stated_leg(stated.value, stated.tolerance, stated.source or "") if stated else None,
        computed=computed.legs.get(quantity_id),
        measured=Leg(measured.value, measured.standard_uncertainty, source=measured.source or "") if measured else None,
        target=computed.targets.get(quantity_id),
        verdict_override=computed.verdicts.get(quantity_id),
    )
