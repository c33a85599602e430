"""The steps of the work, in the order it is done at the bench, and which quantities and findings belong to each."""

from __future__ import annotations

from collections import Counter
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.ledger import Verdict, worst

if TYPE_CHECKING:
    from wyntaxis.core.reckon import Reckoning


@dataclass(frozen=True)
class Step:
    """One step of the worklist: its group, what it is for, and the quantity and finding ids it shows.

    A finding's family, ``"ports"``, stands for all of its findings.
    """

    key: str
    group: str
    title: str
    purpose: str
    quantities: tuple[str, ...]
    findings: tuple[str, ...]
    caption: str = ""
    """What stands under the title of a step that counts no numbers."""

    def tells(self, finding_id: str) -> bool:
        """Return whether a finding is told at this step by its id."""
        return finding_id in self.findings or finding_id.partition(".")[0] in self.findings


READY = "ready"
GROUPS = ("Build", "Reckon", "Connect", "Measure", "Vouch")

STEPS = (
    Step(
        "light_path",
        "Build",
        "Light path",
        "Is the sensor at the distance the corrector wants?",
        ("back_focus_error_mm", "back_focus_built_mm", "back_focus_required_mm", "glass_shift_mm"),
        (
            "spacing.main",
            "joints",
            "illumination.corner",
            "reach.main",
            "load.focuser",
        ),
    ),
    Step(
        "shelf",
        "Build",
        "Shelf",
        "Which parts of your own would bring the sensor to its distance?",
        (),
        (),
        "parts, spacer search",
    ),
    Step(
        "guide_branch",
        "Build",
        "Guide branch",
        "Is the guide camera in focus together with the main one, and sharp-eyed enough?",
        (
            "guide_path_error_mm",
            "guide_path_built_mm",
            "guide_path_required_mm",
            "guide_scale_arcsec_px",
            "guide_to_main_ratio",
            "guide_centroid_main_px",
            "calibration_pulse_ms",
            "dither_guide_px",
            "dither_arcsec",
            "stop_threshold_main_px",
            "flexure_arcsec_s",
            "flexure_budget_arcsec_s",
            "rotation_exposure_s",
        ),
        (
            "spacing.guide",
            "scale.guide",
            "prism",
            "guiding.centroid",
            "guiding.calibration",
            "guiding.dither",
            "guiding.flexure",
            "rotation.exposure",
        ),
    ),
    Step(
        "scales",
        "Reckon",
        "Scales",
        "What does a pixel see, how large is the field, and how exact must the focus be?",
        (
            "effective_focal_length_mm",
            "focal_ratio",
            "pixel_scale_arcsec_px",
            "sampling_px_per_fwhm",
            "field_width_deg",
            "field_height_deg",
            "field_diagonal_deg",
            "sensor_diagonal_mm",
            "airy_diameter_um",
            "depth_of_focus_diffraction_um",
            "depth_of_focus_seeing_um",
            "corrector_magnification",
            "spacing_error_by_scale_mm",
            "search_scale_low_arcsec_px",
            "search_scale_high_arcsec_px",
            "search_radius_deg",
        ),
        ("sampling.main", "coverage.image_circle", "scale.measured"),
    ),
    Step(
        "footprint",
        "Reckon",
        "Footprint",
        "What of the sky falls on the sensor, at which angle, and for how long is it up?",
        (),
        (),
        "sky, panels, horizon",
    ),
    Step(
        "devices",
        "Connect",
        "Devices",
        "What is each device, how is it driven, reached, fed and set?",
        (),
        (
            "driver.order",
            "devices.measured",
            "devices.parts",
            "devices.simulated",
            "cooling.on",
            "cooling.setpoint",
            "focuser.travel",
            "focuser.step",
            "focuser.backlash",
            "focuser.triggers",
            "rotator.range",
            "guiding.settle",
            "storage",
            "power",
        ),
        "no devices yet",
    ),
    Step(
        "records",
        "Connect",
        "Records",
        "Does every program hold what the rig says, and do the frames it wrote?",
        (),
        ("records", "wheel", "frames"),
        "programs, frame headers",
    ),
    Step(
        "ports",
        "Connect",
        "Ports",
        "Is every device on the bus, awake, on a link that is fast enough?",
        (),
        ("ports",),
        "USB and serial",
    ),
    Step(
        "sensor",
        "Measure",
        "Sensor",
        "What are gain, noise, offset, full well and dark current, and how long must one expose?",
        (),
        ("camera", "flats"),
        "gain, noise, dark current",
    ),
    Step(
        "cooling",
        "Measure",
        "Cooling",
        "How fast may it cool, what does it reach, and what does that cost?",
        (),
        ("cooling.reach", "cooling.reserve", "cooling.rate", "cooling.stability"),
        "runs, model, ramp",
    ),
    Step(
        READY,
        "Vouch",
        "Ready",
        "May the night begin? What is on paper only is unproven.",
        (),
        ("plan",),
        "conditions of the night",
    ),
)


@dataclass(frozen=True)
class Tally:
    """How a step stands: its gravest verdict (None where it judges nothing), and how many numbers have each."""

    step: Step
    verdict: Verdict | None
    counts: dict[Verdict, int]

    @property
    def text(self) -> str:
        """Return the counts in words: ``2 fail, 1 holds, 1 unproven``; the step's caption where there are none."""
        words = {
            Verdict.FAILS: ("fails", "fail"),
            Verdict.TIGHT: ("tight", "tight"),
            Verdict.HOLDS: ("holds", "hold"),
            Verdict.UNPROVEN: ("unproven", "unproven"),
        }
        parts = [
            f"{self.counts[verdict]} {words[verdict][self.counts[verdict] != 1]}"
            for verdict in words
            if self.counts.get(verdict)
        ]
        return ", ".join(parts) or self.step.caption


def belongs(step: Step, finding_id: str, quantity_ids: tuple[str, ...]) -> bool:
    """Return whether a finding is told at a step: by its id, or by the quantity it compares."""
    return step.tells(finding_id) or (finding_id == "legs.agree" and bool(set(quantity_ids) & set(step.quantities)))


def tallies(reckoning: Reckoning) -> list[Tally]:
    """Return how every step stands, in the order of the worklist."""
    return [_tally(reckoning, step) for step in STEPS]


def _tally(reckoning: Reckoning, step: Step) -> Tally:
    if step.key == READY:
        stand = [one.verdict for one in reckoning.conditions]
        return Tally(step, worst(stand), dict(Counter(stand)))
    verdicts = [reckoning.quantities[key].verdict for key in step.quantities]
    found = [f.verdict for f in reckoning.findings if belongs(step, f.id, f.quantities)]
    # A number that is only unproven does not outweigh a finding that holds.
    proven = [v for v in (*verdicts, *found) if v is not Verdict.UNPROVEN]
    verdict = worst(proven) if verdicts or found else None
    # A step that has no numbers of its own counts its findings.
    return Tally(step, verdict, dict(Counter(verdicts or found)))


def step_of(reckoning: Reckoning, finding_index: int) -> Step:
    """Return the step at which a finding is told."""
    finding = reckoning.findings[finding_index]
    return next((s for s in STEPS if belongs(s, finding.id, finding.quantities)), STEPS[0])
