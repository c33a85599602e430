"""What focus runs are told of the rig, and the rows that what they measured stands in."""

from __future__ import annotations

import math
from collections.abc import Iterator
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.focus.kind import FOCUS
from wyntaxis.core.ledger import Quantity, QuantityValue, Target
from wyntaxis.core.limits import REACH
from wyntaxis.core.optics.focus import plate_focus_shift
from wyntaxis.core.quantities.focuser import depth_of_focus_um, focusers, travel_of
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantities.read_tracking import apart
from wyntaxis.core.quantities.rows import DeviceQuantity, memoized_each, rows
from wyntaxis.core.quantity_kinds import FOCAL_LENGTH, FOCAL_RATIO, SAMPLING
from wyntaxis.core.rig.devices import Device, Slot
from wyntaxis.core.steps import TRAVEL

if TYPE_CHECKING:
    from wyntaxis.core.evidence.focus.result import FocusOptics, FocusResult

MAX_EXPANSION_PPM, NO_MODEL_PPM = 40.0, 230.0
"""Aluminium expands by 23 ppm/K, and glass adds to it; ten times that is no law of temperature but backlash or slip."""
SEASON_SPAN_C = 30.0
"""How far the nights of a year lie apart; the travel must hold what focus moves by over that."""
MIN_LEFT_PERCENT, WANTED_LEFT_PERCENT = 0.0, 10.0
COVERED_PERCENT = (5.0, 50.0)
"""A motor that covers less of the drawtube than this has to be set to its middle after focusing by hand."""
SATURATED_PERCENT = (10.0, 40.0)
REACH_HOLDS, REACH_FAILS = (2.0, 4.0), (1.4, 8.0)

EXPANSION = DeviceQuantity("expansion_ppm", "Expansion of the tube, from focus", "ppm/K", 1, TRAVEL)
COMPENSATION = DeviceQuantity("compensation_over_steps", "Compensation minus backlash", "steps", 0, TRAVEL)
LEFT = DeviceQuantity("travel_left_percent", "Travel left at the nearer end", "%", 1, TRAVEL)
COVERED = DeviceQuantity("covered_percent", "Drawtube covered by the motor", "%", 1, TRAVEL)
OFFSET = DeviceQuantity("focus_offset_steps", "Focus offset", "steps", 1, TRAVEL)
REACH_ROW = DeviceQuantity("run_reach", "Run reaches", "× sharpest", 2, TRAVEL)
PROPOSED = DeviceQuantity("proposed_run_step", "Step of a focus run, by the optics", "steps", 0, TRAVEL)
PROPOSED_LEFT = DeviceQuantity("proposed_run_left_steps", "Travel left beside such a run", "steps", 0, TRAVEL)
STATED_REACH = DeviceQuantity("stated_run_reach", "Stated run reaches", "× sharpest", 2, TRAVEL)
SATURATED = DeviceQuantity("run_saturated_percent", "Saturated in runs", "%", 0, TRAVEL)


def focus_optics(numbers: Numbers) -> FocusOptics:
    """Return what focus runs are told of a rig.

    Returns
    -------
    FocusOptics
        Lengths in µm and mm; what the rig does not tell is left out.
    """
    from wyntaxis.core.evidence.focus.result import FocusFilter, FocusOptics

    rig, found = numbers.rig, {}
    for key in ("focal_ratio", "effective_focal_length_mm"):
        row = numbers.quantities.get(key)
        found[key] = row.best if row is not None else None
    ratio, focal = found["focal_ratio"], found["effective_focal_length_mm"]
    devices = focusers(numbers)
    slots = next((device.slots for device in rig.devices if device.kind == "filter_wheel"), ())
    return FocusOptics(
        pixel_um=rig.sensor.pixel_um if rig.sensor is not None else None,
        focal_ratio=ratio.value if ratio is not None else None,
        ratio_share=ratio.uncertainty / ratio.value if ratio is not None and ratio.value else 0.0,
        focal_length_mm=focal.value if focal is not None else None,
        obstruction=rig.telescope.obstruction_ratio or 0.0,
        depth_um=depth_of_focus_um(numbers),
        step_um=devices[0].number("step_um") if devices else None,
        filters=tuple(
            FocusFilter(slot.name, slot.thickness_mm, slot.index if slot.thickness_mm is not None else None)
            for slot in slots
            if slot.name.strip()
        ),
    )


@dataclass(frozen=True)
class Travel:
    """A focuser's travel in steps: its ends, the working position, and how far focus moves to both sides of it.

    ``season_steps`` is by temperature, ``filters_steps`` by the filters: the least and the greatest offset.
    """

    device: Device
    low: float
    high: float
    position: float
    season_steps: float
    filters_steps: tuple[float, float]

    @property
    def span(self) -> tuple[float, float]:
        """The least and the greatest position that the nights of a year and the filters need."""
        half = self.season_steps / 2
        return (self.position - half + self.filters_steps[0], self.position + half + self.filters_steps[1])

    @property
    def left_percent(self) -> float:
        """What is left at the nearer end, as a share of the travel in %; below 0 where the span goes past it."""
        low, high = self.span
        return 100 * min(low - self.low, self.high - high) / (self.high - self.low)


@memoized_each
def travels(numbers: Numbers) -> Iterator[Travel]:
    """Yield the travel of each focuser whose ends and working position are known.

    Yields
    ------
    Travel
        In steps.
    """
    offsets = [offset for slot in measured_slots(numbers) if (offset := slot[1].focus_offset_measured) is not None]
    filters = [entry.value for entry in offsets]
    for device in apart(focusers(numbers)):
        ends, at = travel_of(device), device.best("position")
        if ends is None or at is None:
            continue
        slope = device.best("temperature_slope_steps_c")
        season = abs(slope) * SEASON_SPAN_C if slope is not None else 0.0
        yield Travel(device, *ends, at, season, (min([0.0, *filters]), max([0.0, *filters])))


def measured_slots(numbers: Numbers) -> list[tuple[Device, Slot, int]]:
    """Return the filters whose offset was measured or is stated, with their wheel and place from 1."""
    return [
        (device, slot, place)
        for device in numbers.rig.devices
        if device.kind == "filter_wheel"
        for place, slot in enumerate(device.slots, start=1)
        if slot.focus_offset_measured is not None or slot.focus_offset_steps is not None
    ]


@rows
def travel_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield of each focuser what its runs measured: expansion, compensation, travel left, and what the motor covers."""
    focal = numbers.value(FOCAL_LENGTH)
    for device in apart(focusers(numbers)):
        slope, step = device.measured("temperature_slope_steps_c"), device.best("step_um")
        if slope is not None and step is not None and focal:
            ppm = 1000 * step / focal
            model = QuantityValue(abs(slope.value) * ppm, slope.standard_uncertainty * ppm)
            wish = Target(high=NO_MODEL_PPM, inner_high=MAX_EXPANSION_PPM)
            yield EXPANSION.row(device.id, device.title, measured=model, target=wish)
        backlash, compensation = device.measured("backlash_steps"), device.number("compensation_steps")
        if backlash is not None and compensation is not None:
            over = QuantityValue(compensation - backlash.value, backlash.standard_uncertainty)
            yield COMPENSATION.row(device.id, device.title, computed=over, target=Target(low=0.0))
        ends, whole = travel_of(device), device.number("travel_mm")
        # The drawtube's own step, as stated: what runs measure is at the sensor, behind a corrector that moves along.
        drawn = device.number("step_um") or step
        if ends is not None and whole and drawn is not None:
            share = QuantityValue(100 * (ends[1] - ends[0]) * drawn / 1000 / whole)
            wish = Target(low=COVERED_PERCENT[0], inner_low=COVERED_PERCENT[1])
            yield COVERED.row(device.id, device.title, computed=share, target=wish)
    for travel in travels(numbers):
        if travel.season_steps or any(travel.filters_steps):
            wish = Target(low=MIN_LEFT_PERCENT, inner_low=WANTED_LEFT_PERCENT)
            yield LEFT.row(
                travel.device.id, travel.device.title, computed=QuantityValue(travel.left_percent), target=wish
            )


@rows
def offset_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield each filter's focus offset: stated, by its glass against the reference's, and as measured."""
    depth, devices = depth_of_focus_um(numbers), focusers(numbers)
    step = devices[0].best("step_um") if devices else None
    slots = measured_slots(numbers)
    reference = next((s for _, s, _ in slots if s.focus_offset_measured and not s.focus_offset_measured.value), None)
    for wheel, slot, place in slots:
        if slot is reference:
            continue
        found = slot.focus_offset_measured
        glass = _glass_steps(slot, reference, step)
        half = depth / step / 2 if depth is not None and step else 0.0
        stated = None if slot.focus_offset_steps is None else QuantityValue(slot.focus_offset_steps, tolerance=half)
        computed = None if glass is None else QuantityValue(glass, tolerance=half)
        measured = (
            None if found is None else QuantityValue(found.value, found.standard_uncertainty, source=found.source or "")
        )
        if stated is not None or measured is not None:
            thing = f"{wheel.id}.slot{place}"
            yield OFFSET.row(thing, slot.name.strip(), stated=stated, computed=computed, measured=measured)


def _glass_steps(slot: Slot, reference: Slot | None, step_um: float | None) -> float | None:
    """Return by how many steps a filter's glass moves focus farther than the reference's; None where it is not told."""
    if reference is None or not step_um:
        return None
    shifts = [
        plate_focus_shift(entry.thickness_mm, entry.index)
        for entry in (slot, reference)
        if entry.thickness_mm is not None and entry.index is not None
    ]
    return (shifts[0] - shifts[1]) * 1000 / step_um if len(shifts) == 2 else None


@dataclass(frozen=True)
class StatedRun:
    """A focus run as it is set: its step and points, and how far its outermost stars are out of focus.

    ``sharpest_px`` is the FWHM that seeing and optics leave, ``slope_px_step`` how fast a defocused star grows.
    """

    device: Device
    step: float
    points: float
    sharpest_px: float | None
    slope_px_step: float | None

    @property
    def half_steps(self) -> float:
        """How far the outermost point lies from the middle, in steps."""
        return self.step * (self.points - 1) / 2

    @property
    def reach(self) -> float | None:
        """How large the outermost stars are, in sharpest ones: ``√(1 + (b·x/a)²)``; None where too little is known."""
        if not self.sharpest_px or not self.slope_px_step:
            return None
        return math.hypot(1.0, self.slope_px_step * self.half_steps / self.sharpest_px)


@memoized_each
def stated_runs(numbers: Numbers) -> Iterator[StatedRun]:
    """Yield the focus run of each focuser that states its step.

    Yields
    ------
    StatedRun
        Sizes in px of the main camera, binned; of :data:`RUN_POINTS` points where none are stated. Source: a star out
        of focus is a ring of diameter z/N, so that HFD = (z/N)·√((1 + ε²)/2).
    """
    from wyntaxis.core.evidence.focus.advice import RUN_POINTS

    sharpest = numbers.value(SAMPLING)
    for device in apart(focusers(numbers)):
        step, points = device.number("run_step"), device.number("run_points")
        if step is not None:
            slope = _growth_per_step(numbers, device)
            yield StatedRun(device, step, points or float(RUN_POINTS), sharpest, slope)


@rows
def proposed_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield which step a focus run takes before any star was seen, and what of the travel it leaves at the nearer end.

    The outermost of its points are to be 2.75 times as large as the sharpest star that seeing and pixels leave.
    Source: a star out of focus is a ring of diameter z/N; see :func:`stated_runs`.
    """
    from wyntaxis.core.evidence.focus.advice import RUN_POINTS

    for device in apart(focusers(numbers)):
        slope, sharpest = _growth_per_step(numbers, device), numbers.value(SAMPLING)
        if not slope or not sharpest:
            continue
        half = (RUN_POINTS - 1) / 2
        step = max(round(sharpest * math.sqrt(REACH**2 - 1) / slope / half), 1)
        yield PROPOSED.row(device.id, device.title, computed=QuantityValue(float(step)))
        low, high = device.number("lowest_position"), device.number("highest_position")
        position = device.best("position")
        if low is not None and high is not None and position is not None:
            left = min(position - low, high - position) - half * step
            yield PROPOSED_LEFT.row(device.id, device.title, computed=QuantityValue(left), target=Target(low=0.0))


def _growth_per_step(numbers: Numbers, device: Device) -> float | None:
    """Return by how many px a defocused star grows with a step, None where too little is known."""
    rig, ratio, step_um = numbers.rig, numbers.value(FOCAL_RATIO), device.best("step_um")
    if step_um is None or not ratio or rig.sensor is None:
        return None
    pixel = rig.sensor.pixel_um * rig.sensor.binning
    return step_um / ratio / pixel * math.sqrt((1 + rig.telescope.obstruction_ratio**2) / 2)


@rows
def stated_run_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield how far the stated focus run of each focuser reaches."""
    for run in stated_runs(numbers):
        if run.reach is not None:
            wish = Target(*REACH_FAILS, *REACH_HOLDS)
            yield STATED_REACH.row(run.device.id, run.device.title, computed=QuantityValue(run.reach), target=wish)


@rows
def run_rows(numbers: Numbers) -> Iterator[Quantity]:
    """Yield of the focus runs that were read how far they reach, and what share of their stars is saturated."""
    result, devices = numbers.evidence.of(FOCUS), focusers(numbers)
    if result is None or not devices:
        return
    device = devices[0]
    last = last_focusing(result)
    if last is not None:
        wish = Target(*REACH_FAILS, *REACH_HOLDS)
        yield REACH_ROW.row(device.id, device.title, measured=QuantityValue(last), target=wish)
    share = saturated_percent(result)
    if share is not None:
        wish = Target(high=SATURATED_PERCENT[1], inner_high=SATURATED_PERCENT[0])
        yield SATURATED.row(device.id, device.title, measured=QuantityValue(share), target=wish)


def last_focusing(result: FocusResult) -> float | None:
    """Return how far the last run to focus with reaches, in sharpest stars; a flat run reaches what it has."""
    for curve in reversed(result.curves):
        if curve.reach is not None and not curve.characterises:
            return curve.reach
        sizes = [point.hfd_px for point in curve.points if point.used and point.hfd_px]
        if curve.is_flat and sizes:
            return max(sizes) / min(sizes)
    return None


def saturated_percent(result: FocusResult) -> float | None:
    """Return the share of saturated stars at the worst point of all runs, in %; None where none counts them."""
    shares = [
        100 * point.saturated / point.stars
        for run in result.runs
        for point in run.points
        if point.stars and point.saturated is not None
    ]
    return max(shares, default=None)
