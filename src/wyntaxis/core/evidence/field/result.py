"""What sweeps tell of the field: tilt, curvature, the spacing that makes it flat, the turns of the plate's screws."""

from __future__ import annotations

import math
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from pathlib import Path
from typing import Literal

from wyntaxis.core.evidence.field.shape import FieldShape, shape_of
from wyntaxis.core.evidence.field.spacing import FlatSpacing, flat_spacing
from wyntaxis.core.evidence.field.surface import Surface, surface_of
from wyntaxis.core.evidence.field.sweep import FieldSweep
from wyntaxis.core.evidence.field.zones import ZonedSweep, zoned
from wyntaxis.core.evidence.focus.curve import fit_curve
from wyntaxis.core.evidence.focus.points import FocusPoint
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.evidence.stars.frame_stars import FrameStars
from wyntaxis.core.optics.tilt_plate import clock_position, screw_turns, tilt_of_turns
from wyntaxis.core.wording import counted

PRACTICAL_TURN = 1 / 24
"""A screw is turned by 15° at the finest: what a hand on a key can tell."""
STEP_SHARE = 0.02
"""What the sharpest image's profile leaves uncertain of a step by how discs grow."""
MAX_STEP_SHARE = 0.2
"""A stated step that discs contradict by more is the drawtube's: a corrector that moves with it changes it."""
NO_STEP = "the rig has no focuser step in µm, and no focal ratio to measure one with"


@dataclass(frozen=True)
class PlateScrews:
    """The screws of a tilt plate: radius and pitch in mm, azimuths in the image in degrees from +x toward +y.

    ``inward_moves_away``: a screw turned in (clockwise) pushes the camera away from the telescope there, as the push
    screws of a push-pull plate do; a screw against springs draws it nearer. ``clocks`` are the hours that the user
    sees each screw at from behind, None where only the azimuth tells.
    """

    part_id: str
    radius_mm: float
    pitch_mm: float
    azimuths_deg: tuple[float, ...]
    inward_moves_away: bool = True
    mirrored: bool = False
    clocks: tuple[int | None, ...] = ()

    def clock(self, place: int) -> int:
        """Return the hour at which a screw is seen from behind."""
        entries = self.clocks[place] if place < len(self.clocks) else None
        return entries or clock_position(self.azimuths_deg[place], mirrored=self.mirrored)


@dataclass(frozen=True)
class FieldOptics:
    """What sweeps are told of the rig: unbinned pixel and depth of focus in µm, the focuser's step in µm, focal ratio,
    obstruction, the built distance behind the corrector in mm, and the tilt plate's screws.

    ``step_is_stated``: nobody measured it. ``reversed``: the counter rises inward. ``field_follows``: the mount turns
    with the sky, so that the stars turn in the image only with the camera.
    """

    pixel_um: float | None = None
    step_um: Estimate | None = None
    step_is_stated: bool = False
    depth_um: float | None = None
    focal_ratio: float | None = None
    obstruction: float = 0.0
    built_mm: float | None = None
    reversed: bool = False
    screws: PlateScrews | None = None
    field_follows: bool = True


@dataclass(frozen=True)
class ScrewTurn:
    """One screw of the plate: where it is, by how many turns that side is to move away from the telescope, in words."""

    azimuth_deg: float
    clock: int
    turns: float
    move_um: float
    words: str


@dataclass(frozen=True)
class ScrewAdvice:
    """What to turn, and the tilt in µm from middle to corner that is left when turned as finely as a hand can."""

    turns: tuple[ScrewTurn, ...]
    left_um: float


@dataclass(frozen=True)
class MeasuredSweep:
    """One sweep with its zones, its surface in steps, its best position there, and the shape of its sharpest stars.

    ``step_um`` is what a step moves along the light, ``measured`` tells that this very sweep measured it.
    """

    sweep: FieldSweep
    zoned: ZonedSweep
    surface: Surface
    shape: FieldShape
    best_position: Estimate | None
    step_um: Estimate | None
    step_is_measured: bool
    pixel_um: float | None

    @property
    def half_diagonal_um(self) -> float | None:
        """How far the corner is from the middle, in µm."""
        if self.pixel_um is None:
            return None
        return self.sweep.half_diagonal_px * self.pixel_um * self.sweep.binning

    def in_um(self, steps: Estimate | None) -> Estimate | None:
        """Return a length in steps as one in µm, with what the step's own uncertainty adds."""
        if steps is None or self.step_um is None:
            return None
        step = self.step_um
        standard = math.hypot(steps.standard * step.value, steps.value * step.standard)
        return Estimate(steps.value * step.value, standard)

    @property
    def tilt_um(self) -> Estimate | None:
        """The plane from the middle to the corner's distance, in µm."""
        tilt = self.in_um(self.surface.tilt)
        return Estimate(abs(tilt.value), tilt.standard) if tilt is not None else None

    @property
    def azimuth_deg(self) -> Estimate | None:
        """Where the surface rises along the light, in degrees from +x toward +y; None where the tilt is not certain."""
        entries = self.surface.azimuth_deg
        if entries is None or self.step_um is None or self.step_um.value > 0:
            return entries
        return Estimate((entries.value + 180) % 360, entries.standard)

    @property
    def curvature_um(self) -> Estimate | None:
        """The corner over the middle, in µm."""
        return self.in_um(self.surface.curvature)

    @property
    def tilt_arcmin(self) -> Estimate | None:
        """The plane's angle against the sensor, in arcmin."""
        tilt, half = self.tilt_um, self.half_diagonal_um
        if tilt is None or not half:
            return None
        return Estimate(math.degrees(math.atan(tilt.value / half)) * 60, math.degrees(tilt.standard / half) * 60)

    @property
    def slope_um_mm(self) -> tuple[float, float] | None:
        """By how much the plane rises toward +x and +y, in µm a mm."""
        half = self.half_diagonal_um
        if half is None or self.step_um is None or self.surface.tilt is None:
            return None
        return tuple(1000 * value * self.step_um.value / half for value in self.surface.plane)  # type: ignore[return-value]


Relation = Literal["turned", "altitude", "flip", "day", "spacing", "repeat"]
RELATIONS: dict[Relation, str] = {
    "turned": "camera turned",
    "altitude": "at another altitude",
    "flip": "after the flip",
    "day": "on another day",
    "spacing": "at another spacing",
    "repeat": "again, nothing changed",
}
"""How two sweeps may differ, and how it is said."""


@dataclass(frozen=True)
class FieldResult:
    """Sweeps, measured, in the order in which they were taken; hints of single frames, which lie at ``single_paths``;
    and what was not used.
    """

    sweeps: tuple[MeasuredSweep, ...]
    optics: FieldOptics
    singles: tuple[FieldShape, ...] = ()
    single_paths: tuple[Path | None, ...] = ()
    not_used: tuple[UnusedFile, ...] = ()
    relation: Relation | None = None
    spacings: Mapping[str, float] = field(default_factory=dict)

    @property
    def last(self) -> MeasuredSweep | None:
        """The sweep that tells what is: the last one with a surface, else the last."""
        entries = [entry for entry in self.sweeps if not entry.surface.why]
        return (entries or list(self.sweeps) or [None])[-1]  # type: ignore[list-item]

    @property
    def last_two(self) -> tuple[MeasuredSweep, MeasuredSweep] | None:
        """The last two sweeps with a surface, in time; None with fewer."""
        entries = [entry for entry in self.sweeps if not entry.surface.why]
        return (entries[-2], entries[-1]) if len(entries) > 1 else None

    @property
    def flat(self) -> FlatSpacing:
        """The spacing that makes the field flat."""
        points = [
            (entry.sweep.spacing_mm, curvature)
            for entry in self.sweeps
            if entry.sweep.spacing_mm is not None and (curvature := entry.curvature_um) is not None
        ]
        return flat_spacing(points)

    def with_spacing(self, name: str, spacing_mm: float | None) -> FieldResult:
        """Return the result with another spacing told of one sweep."""
        spacings = {key: value for key, value in self.spacings.items() if key != name}
        if spacing_mm is not None:
            spacings[name] = spacing_mm
        sweeps = tuple(
            replace(entry, sweep=replace(entry.sweep, spacing_mm=spacing_mm)) if entry.sweep.name == name else entry
            for entry in self.sweeps
        )
        return replace(self, sweeps=sweeps, spacings=spacings)

    def without(self, place: int) -> FieldResult:
        """Return the result without one sweep."""
        return replace(self, sweeps=tuple(entry for at, entry in enumerate(self.sweeps) if at != place))


def measured(
    sweeps: Sequence[FieldSweep],
    singles: Sequence[FrameStars],
    optics: FieldOptics,
    not_used: Sequence[UnusedFile] = (),
    watch: Callable[[], None] = lambda: None,
) -> FieldResult:
    """Return what sweeps and single frames tell.

    Parameters
    ----------
    sweeps
        Stars followed through sweeps, each with its spacing where that is told.
    singles
        Frames that belong to no sweep; only their stars' shape is told.
    optics
        What the rig says.
    not_used
        Files that were left out, with the reason.
    watch
        Called before each piece of work; may raise to end it.

    Returns
    -------
    FieldResult
        With what could not be had told in words.
    """
    found = []
    for sweep in sweeps:
        watch()
        found.append(measured_sweep(sweep, optics))
    hints: list[FieldShape] = []
    for frame in singles:
        watch()
        header = frame.header
        size = (header.width_px or 0, header.height_px or 0) if header is not None else (0, 0)
        hints.append(shape_of(frame, size))
    paths = tuple(frame.path for frame in singles)
    return FieldResult(tuple(found), optics, tuple(hints), paths, tuple(not_used))


def measured_sweep(sweep: FieldSweep, optics: FieldOptics) -> MeasuredSweep:
    """Return one sweep with its zones, surface, and the shape of its stars.

    Parameters
    ----------
    sweep
        Stars followed through a sweep.
    optics
        What the rig says.

    Returns
    -------
    MeasuredSweep
        With the reason in its surface where there is none.
    """
    parts = zoned(sweep, optics.obstruction)
    surface = surface_of(parts.zones, sweep.size_px, parts.shared)
    header = sweep.header
    own_pixel = header.pixel_um / sweep.binning if header is not None and header.pixel_um else None
    pixel = optics.pixel_um or own_pixel
    whole = _whole_curve(sweep, parts, optics.obstruction)
    step, is_measured = optics.step_um, False
    if whole is not None and whole[1] is not None and pixel and optics.focal_ratio:
        own = whole[1].times(pixel * sweep.binning * optics.focal_ratio)
        own = Estimate(own.value, math.hypot(own.standard, STEP_SHARE * own.value))
        if step is None or (optics.step_is_stated and _is_another(step, own)):
            step, is_measured = own, True
    if step is not None and optics.reversed:
        step = Estimate(-step.value, step.standard)
    best = surface.middle
    if best is not None and whole is not None and whole[0] is not None:
        # What the seeing did to whole frames moves all zones alike: the curve of all of them tells by how much.
        best = Estimate(best.value, math.hypot(best.standard, whole[0].standard))
    shape = shape_of(sweep.sharpest, sweep.size_px)
    return MeasuredSweep(sweep, parts, surface, shape, best, step, is_measured, pixel)


def _is_another(stated: Estimate, own: Estimate) -> bool:
    """Return whether discs grow so otherwise than a stated step makes them that it is not the step at the sensor."""
    apart = abs(own.value / stated.value - 1)
    return apart > MAX_STEP_SHARE and abs(own.value - stated.value) > 4 * own.standard


def _whole_curve(
    sweep: FieldSweep, parts: ZonedSweep, obstruction: float
) -> tuple[Estimate | None, Estimate | None] | None:
    """Return the best position and the growth of the disc in px/step of all zones together."""
    zones = [zone for zone in parts.zones if zone.best_position is not None]
    if not zones:
        return None
    points = []
    for k, frame in enumerate(sweep.frames):
        sizes = [zone.sizes[k] for zone in zones if math.isfinite(zone.sizes[k])]
        if len(sizes) > len(zones) / 2:
            points.append(FocusPoint(frame.file, frame.position, sum(sizes) / len(sizes)))
    curve = fit_curve(points, obstruction)
    return curve.best_position, curve.disc_px_step


def screw_advice(slope: tuple[float, float], half_diagonal_um: float, screws: PlateScrews) -> ScrewAdvice:
    """Return what to turn so that a tilt goes and the mean spacing stays.

    Parameters
    ----------
    slope
        By how much the plane rises along the light toward +x and +y of the image, in µm a mm.
    half_diagonal_um
        How far the corner is from the middle, in µm.
    screws
        The plate's screws.

    Returns
    -------
    ScrewAdvice
        With what is left of it when turned as finely as a hand can.
    """
    turns = screw_turns(slope, screws.radius_mm, screws.azimuths_deg, screws.pitch_mm)
    practical = [round(value / PRACTICAL_TURN) * PRACTICAL_TURN for value in turns]
    given = tilt_of_turns(practical, screws.radius_mm, screws.azimuths_deg, screws.pitch_mm)
    half_mm = half_diagonal_um / 1000
    left = math.hypot(slope[0] - given[0], slope[1] - given[1]) * half_mm
    entries = tuple(
        ScrewTurn(
            azimuth, screws.clock(k), turns[k], 1000 * screws.pitch_mm * turns[k], _words(screws, k, practical[k])
        )
        for k, azimuth in enumerate(screws.azimuths_deg)
    )
    return ScrewAdvice(entries, left)


_FRACTIONS = {3: "an eighth turn", 6: "a quarter turn", 8: "a third of a turn", 12: "half a turn", 24: "one turn"}


def _words(screws: PlateScrews, place: int, turns: float) -> str:
    """Return in plain words what to do with one screw."""
    where = f"the screw at {screws.clock(place)} o’clock seen from behind"
    parts = round(abs(turns) / PRACTICAL_TURN)
    if not parts:
        return f"{where}: leave it"
    inward = (turns > 0) == screws.inward_moves_away
    amount = _FRACTIONS.get(parts) or (
        f"{parts * 15}°" if parts < 24 else f"{counted(parts // 24, 'turn')} and {parts % 24 * 15}°"
    )
    degrees = f" ({parts * 15}°)" if parts in _FRACTIONS and parts < 24 else ""
    side = "away from" if turns > 0 else "toward"
    return f"{where}: {amount}{degrees} {'in' if inward else 'out'}, that side moves {side} the telescope"
