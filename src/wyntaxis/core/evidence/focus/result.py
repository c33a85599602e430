"""What focus runs tell of a focuser: step, backlash, temperature, filters, and what to set because of it."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace

from wyntaxis.core.evidence.focus.curve import FocusCurve, fit_curve
from wyntaxis.core.evidence.focus.focus_model import FocusModel, fit_focus_model
from wyntaxis.core.evidence.focus.points import BY_HAND, FocusRun
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.optics.focus import plate_focus_shift

PROFILE_SHARE = 0.02
"""What the sharpest image's unknown profile and the measured sizes of wide discs leave in a step size, as a share,
however many runs there are.
"""


@dataclass(frozen=True)
class FocusFilter:
    """A filter as the rig documents it: its name, and its glass in mm and by refractive index, where it is told."""

    name: str
    thickness_mm: float | None = None
    index: float | None = None


@dataclass(frozen=True)
class FocusOptics:
    """What focus runs are told of the rig: pixel in µm, focal ratio with its standard uncertainty as a share, focal
    length in mm, central obstruction, depth of focus and stated step in µm, and the wheel's filters.
    """

    pixel_um: float | None = None
    focal_ratio: float | None = None
    ratio_share: float = 0.0
    focal_length_mm: float | None = None
    obstruction: float = 0.0
    depth_um: float | None = None
    step_um: float | None = None
    filters: tuple[FocusFilter, ...] = ()

    def in_the_light_of(self, step: Estimate | None) -> float | None:
        """Return the step in µm to go by: as measured, else as stated."""
        return step.value if step is not None else self.step_um


@dataclass(frozen=True)
class FilterOffset:
    """How far a filter moves the best position against the reference, in steps: measured, and by its glass."""

    name: str
    offset: Estimate | None
    expected_steps: float | None
    why: str = ""


@dataclass(frozen=True)
class FocusResult:
    """Focus runs with their curves, and what they tell together. Steps are the counter's."""

    runs: tuple[FocusRun, ...]
    curves: tuple[FocusCurve, ...]
    model: FocusModel
    optics: FocusOptics
    step_um: Estimate | None = None
    why_no_step: str = ""
    offsets: tuple[FilterOffset, ...] = ()
    not_used: tuple[UnusedFile, ...] = ()
    left_out: frozenset[str] = field(default_factory=frozenset)
    restored: frozenset[str] = field(default_factory=frozenset)
    names: FilterNames = DEFAULT_FILTER_NAMES

    @property
    def depth_steps(self) -> float | None:
        """The depth of focus in steps."""
        step = self.optics.in_the_light_of(self.step_um)
        return self.optics.depth_um / step if self.optics.depth_um and step else None

    def with_point(self, file: str, *, used: bool) -> FocusResult:
        """Return the result measured anew with a point left out by hand, or restored whatever was said against it."""
        left_out = self.left_out - {file} if used else self.left_out | {file}
        restored = self.restored | {file} if used else self.restored - {file}
        return replace(self, left_out=left_out, restored=restored).measured_anew(self.runs)

    def without_run(self, place: int) -> FocusResult:
        """Return the result measured anew without one run."""
        runs = [run for at, run in enumerate(self.runs) if at != place]
        return self.measured_anew(runs)

    def measured_anew(self, runs: Sequence[FocusRun]) -> FocusResult:
        """Return what other runs tell, by the same names and choices."""
        return measured(
            runs, self.optics, self.not_used, names=self.names, left_out=self.left_out, restored=self.restored
        )


def measured(
    runs: Sequence[FocusRun],
    optics: FocusOptics,
    not_used: Sequence[UnusedFile] = (),
    *,
    names: FilterNames = DEFAULT_FILTER_NAMES,
    left_out: frozenset[str] = frozenset(),
    restored: frozenset[str] = frozenset(),
    watch: Callable[[], None] = lambda: None,
) -> FocusResult:
    """Return what runs tell.

    Parameters
    ----------
    runs
        Runs as they were read; a point may have a reason already.
    optics
        What the rig says of telescope, camera and filters.
    not_used
        Files that were left out, with the reason.
    names
        When two filters are one.
    left_out, restored
        Files of points that the user left out, or wants to count whatever is said against them.
    watch
        Called before each run; may raise to end the work.

    Returns
    -------
    FocusResult
        With what could not be had told in words.
    """
    curves = []
    for run in runs:
        watch()
        points = tuple(
            point.without(BY_HAND)
            if point.file in left_out
            else point.at_binning(run.binning)
            if point.file in restored and point.hfd_px is not None
            else point
            for point in run.points
        )
        curves.append(fit_curve(points, optics.obstruction, restored))
    model = fit_focus_model(list(zip(runs, curves, strict=True)), [entry.name for entry in optics.filters], names)
    step, why = _step(list(zip(runs, curves, strict=True)), optics)
    result = FocusResult(
        tuple(runs), tuple(curves), model, optics, step, why, (), tuple(not_used), left_out, restored, names
    )
    return replace(result, offsets=tuple(_offsets(result, names)))


def _step(runs: Sequence[tuple[FocusRun, FocusCurve]], optics: FocusOptics) -> tuple[Estimate | None, str]:
    """Return the focuser's step in µm by how fast stars grow: ``disc [px/step] · p · N``, a mean over the runs."""
    if optics.pixel_um is None or optics.focal_ratio is None:
        return None, "the rig has no pixel size or no focal ratio"
    factor = optics.pixel_um * optics.focal_ratio
    entries = [curve.disc_px_step.times(factor * run.binning) for run, curve in runs if curve.disc_px_step is not None]
    if not entries:
        return None, "no run has a slope"
    weights = [1 / max(entry.standard, 1e-6 * entry.value) ** 2 for entry in entries]
    mean = sum(w * entry.value for w, entry in zip(weights, entries, strict=True)) / sum(weights)
    spread = sum(w * (entry.value - mean) ** 2 for w, entry in zip(weights, entries, strict=True))
    widened = max(1.0, spread / (len(entries) - 1)) if len(entries) > 1 else 1.0
    statistical = math.sqrt(widened / sum(weights))
    return Estimate(mean, math.hypot(statistical, PROFILE_SHARE * mean, optics.ratio_share * mean)), ""


def _offsets(result: FocusResult, names: FilterNames) -> list[FilterOffset]:
    """Return for each filter but the reference how far it moves focus, and how far its glass would."""
    reference = result.model.reference
    if reference is None:
        return []
    entries = {names.key(run.filter): run.filter for run in result.runs if run.filter is not None}
    shifts = _glass_shifts(result.optics, names)
    step, base = result.optics.in_the_light_of(result.step_um), shifts.get(names.key(reference))
    found = []
    for key, name in entries.items():
        if key == names.key(reference):
            continue
        shift = shifts.get(key)
        expected = (shift - base) * 1000 / step if shift is not None and base is not None and step else None
        offset = result.model.offsets.get(name)
        why = "" if offset is not None else result.model.why.get(name, "no run through it has a best position")
        found.append(FilterOffset(name, offset, expected, why))
    return found


def _glass_shifts(optics: FocusOptics, names: FilterNames) -> Mapping[str, float]:
    """Return how far each documented filter's glass moves the focus, in mm."""
    return {
        names.key(entry.name): plate_focus_shift(entry.thickness_mm, entry.index)
        for entry in optics.filters
        if entry.thickness_mm is not None and entry.index is not None
    }
