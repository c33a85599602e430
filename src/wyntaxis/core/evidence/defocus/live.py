"""The live view: each new frame of a folder, how far it is out of focus, and which way to turn."""

from __future__ import annotations

import math
import time
from collections.abc import Callable, Iterator
from dataclasses import dataclass, field
from pathlib import Path

from wyntaxis.core.evidence.defocus.distance import (
    BestFocus,
    Side,
    SizeAt,
    best_focus,
    focus_distance,
    growth_per_step,
    taken_by_waves,
)
from wyntaxis.core.evidence.defocus.frame import LiveFrame, read_live
from wyntaxis.core.evidence.headers.folder import ENDINGS, frame_endings
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.faults import fault_line, note_fault
from wyntaxis.core.files.fits import why_not_whole
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.wording import counted, number, plus_minus

GIVE_UP_S = 20.0
"""A file that does not grow for so long and is not whole is broken."""
SETTLED_S, PACKED_SETTLED_S = 0.3, 1.5
"""A file is looked at once it did not grow for so long; of a packed one nothing but that tells that it is whole."""
TRAVEL_KEPT, MOST_PIECES = 0.05, 2
"""What a piece leaves of the travel at either end, as a share; and how many pieces are named."""
MOST_SIZES = 40
"""So many of the last frames take part in the line: what lies before was another night's."""


@dataclass(frozen=True)
class Piece:
    """A part that may be put in or taken out, and its optical length in mm."""

    title: str
    length_mm: float


@dataclass(frozen=True)
class LiveOptics:
    """What the live view needs of a rig; None for what it does not hold. Positions in steps."""

    pixel_um: float | None = None
    focal_ratio: Estimate | None = None
    step_um: float | None = None
    lowest: float | None = None
    highest: float | None = None
    turn_um: float | None = None
    """How far one turn of the knob moves the focus."""
    shelf: tuple[Piece, ...] = ()
    """Spacers and adapters that are not in the rig."""
    train: tuple[Piece, ...] = ()
    """Spacers and adapters that stand where the corrector's distance stays without them."""

    def pieces_for(self, beyond_mm: float) -> list[tuple[Piece, float]]:
        """Return what brings a focus beyond the travel within it, the shortest first, with how far inside it then lies.

        Parameters
        ----------
        beyond_mm
            Above 0 beyond the outer end: length is added from the shelf; below 0 a piece of the train is taken out.

        Returns
        -------
        list of tuple
            Each by itself; what leaves less than a twentieth of the travel at either end is left out.
        """
        if self.step_um is None or self.lowest is None or self.highest is None:
            return []
        travel = (self.highest - self.lowest) * self.step_um / 1000
        reserve = TRAVEL_KEPT * travel
        pieces = self.shelf if beyond_mm > 0 else self.train
        inside = [(piece, piece.length_mm - abs(beyond_mm)) for piece in pieces]
        return sorted(
            ((piece, left) for piece, left in inside if reserve <= left <= travel - reserve), key=lambda entry: entry[1]
        )


@dataclass(frozen=True)
class LiveReading:
    """What a frame says, with those before it: distance in mm and steps, direction, where the focus is."""

    frame: LiveFrame
    optics: LiveOptics
    distance_mm: Estimate | None = None
    steps: Estimate | None = None
    direction: Side | None = None
    best: BestFocus | None = None

    @property
    def beyond_mm(self) -> float | None:
        """By how much the focus lies beyond the travel, above 0 beyond its outer end; None where it is within."""
        own = self.optics
        if self.best is None or own.step_um is None:
            return None
        at = self.best.position.value
        if own.highest is not None and at > own.highest:
            return (at - own.highest) * own.step_um / 1000
        if own.lowest is not None and at < own.lowest:
            return (at - own.lowest) * own.step_um / 1000
        return None

    def as_json(self) -> JsonObject:
        """Return the reading as the command prints it."""
        size, found = self.frame.stars.hfd_px, self.frame.defocus
        angle = found.offset_angle_deg if found is not None else None
        offset = found.offset_px if found is not None else None
        return {
            "file": self.frame.path.name,
            "stars": max(self.frame.stars.count, len(found.discs) if found is not None else 0),
            "hfd_px": _rounded(size),
            "defocused": None
            if found is None
            else {
                "diameter_px": _rounded(found.diameter),
                "diameter_u_px": _u(found.diameter),
                "hole_px": _rounded(found.hole),
                "distance_mm": _rounded(self.distance_mm, 4),
                "distance_u_mm": _u(self.distance_mm, 4),
                "steps": _rounded(self.steps, 1),
                "steps_u": _u(self.steps, 1),
                "direction": self.direction,
            },
            "best_position": _rounded(self.best.position if self.best is not None else None, 1),
            "best_position_u": _u(self.best.position if self.best is not None else None, 1),
            "beyond_travel_mm": None if self.beyond_mm is None else round(self.beyond_mm, 3),
            "pieces": [
                {"title": piece.title, "length_mm": piece.length_mm, "inside_mm": round(left, 3)}
                for piece, left in (self.optics.pieces_for(self.beyond_mm) if self.beyond_mm is not None else ())
            ],
            "collimation": None
            if offset is None
            else {
                "offset_px": _rounded(offset),
                "offset_u_px": _u(offset),
                "angle_deg": None if angle is None else round(angle, 1),
            },
        }

    def lines(self) -> list[str]:
        """Return what is shown of it: what was seen, how far the focus is, which way, and how the hole lies."""
        found, size = self.frame.defocus, self.frame.stars.hfd_px
        if found is None:
            words = f"{counted(self.frame.stars.count, 'star')}"
            return [words + (f", HFD {plus_minus(size.value, size.standard, 2)} px" if size is not None else "")]
        diameter = plus_minus(found.diameter.value, found.diameter.standard, 1)
        hole = f", hole {number(found.hole.value, 1)} px" if found.hole is not None else ", no hole seen"
        lines = [f"{counted(len(found.discs), 'disc')} of {diameter} px{hole}"]
        lines += self._distance_lines()
        offset, angle = found.offset_px, found.offset_angle_deg
        if offset is not None and angle is not None:
            share = 100 * offset.value / found.diameter.value
            way = f"{number(angle, 0)}° from right toward the later rows"
            lines.append(
                f"The hole lies {plus_minus(offset.value, offset.standard, 1)} px off, {number(share, 1)} %, {way}"
            )
        elif offset is not None:
            lines.append(f"The hole is centred within {number(2 * offset.standard, 1)} px")
        return lines

    def _distance_lines(self) -> list[str]:
        if self.distance_mm is None:
            return ["Enter focal ratio and pixel size to have the distance from focus"]
        far = f"{plus_minus(self.distance_mm.value, self.distance_mm.standard, 2)} mm from focus"
        if self.steps is not None:
            far += f", {plus_minus(self.steps.value, self.steps.standard, 0)} steps"
        if self.optics.turn_um:
            far += f", {number(self.distance_mm.value * 1000 / self.optics.turn_um, 1)} turns of the knob"
        lines = [far]
        if self.best is not None:
            to = plus_minus(self.best.position.value, self.best.position.standard, 0)
            lines.append(f"Go {self.direction} to {to}" if self.direction else f"In focus at {to}")
            if self.beyond_mm is not None:
                lines.append(self._beyond_words(self.beyond_mm))
        else:
            lines.append(self._open_words())
        return lines

    def _beyond_words(self, beyond: float) -> str:
        end, part = ("outer", "short") if beyond > 0 else ("inner", "long")
        cure = "Add" if beyond > 0 else "Take out"
        return (
            f"That is {number(abs(beyond), 1)} mm beyond the {end} end of the travel: the train is too {part}. "
            f"{cure} that length between focuser and corrector, where the corrector’s distance stays"
            f"{self._pieces_words(beyond)}"
        )

    def _pieces_words(self, beyond: float) -> str:
        own = self.optics
        if not (own.shelf if beyond > 0 else own.train):
            return ""
        found = own.pieces_for(beyond)
        where = "on the shelf" if beyond > 0 else "of the train there"
        if not found:
            return f"; no single piece {where} has that length"
        named = " or ".join(
            f"{piece.title} ({number(piece.length_mm, 1)} mm, focus then {number(left, 1)} mm inside the travel)"
            for piece, left in found[:MOST_PIECES]
        )
        return f"; {where}: {named}"

    def _open_words(self) -> str:
        position, own = self.frame.header.focus_position, self.optics
        if position is None:
            return (
                "Which way is open, as the frame names no focuser position: move it, and see whether the disc shrinks"
            )
        if self.steps is not None and own.lowest is not None and own.highest is not None:
            can_in, can_out = position - self.steps.value >= own.lowest, position + self.steps.value <= own.highest
            if can_in != can_out:
                side = "in" if can_in else "out"
                return f"Which way is open; only {side} lies within the travel: try that, and take another frame"
        return "Which way is open: move the focuser by some steps, and take another frame"


def _rounded(own: Estimate | None, decimals: int = 3) -> float | None:
    return None if own is None or not math.isfinite(own.value) else round(own.value, decimals)


def _u(own: Estimate | None, decimals: int = 3) -> float | None:
    return None if own is None or not math.isfinite(own.standard) else round(own.standard, decimals + 1)


@dataclass
class LiveView:
    """The readings of one folder, in the order in which the frames came."""

    optics: LiveOptics
    _sizes: list[SizeAt] = field(default_factory=list)

    def add(self, frame: LiveFrame) -> LiveReading:
        """Return what a frame says with those before it."""
        own, found = self.optics, frame.defocus
        if found is None:
            return LiveReading(frame, own, best=self._best())
        binning = frame.header.binning or 1
        whole = found.diameter.times(binning)
        position = frame.header.focus_position
        distance = steps = None
        common = 0.0
        # A header's px are those of the frame, binned as it is.
        pixel_um = own.pixel_um or (frame.header.pixel_um / binning if frame.header.pixel_um else None)
        if pixel_um is not None and own.focal_ratio is not None:
            distance = focus_distance(whole, pixel_um, own.focal_ratio, found.blur_fwhm * binning)
            steps = distance.times(1000 / own.step_um) if own.step_um else None
            # What waves took off the disc is put back; what stays uncertain of it all frames share.
            px_per_mm = 1000 / (pixel_um * own.focal_ratio.value)
            whole = Estimate(distance.value * px_per_mm, whole.standard)
            common = taken_by_waves(distance.value, own.focal_ratio.value) / 2 * px_per_mm
        if position is not None:
            self._sizes = [*self._sizes, SizeAt(position, whole, common)][-MOST_SIZES:]
        best = self._best(pixel_um)
        side = best.side(position) if best is not None and position is not None else None
        return LiveReading(frame, own, distance, steps, side, best)

    def _best(self, pixel_um: float | None = None) -> BestFocus | None:
        own, growth = self.optics, None
        pixel_um = own.pixel_um or pixel_um
        if own.step_um and pixel_um and own.focal_ratio is not None:
            growth = growth_per_step(own.step_um, pixel_um, own.focal_ratio.value)
        return best_focus(self._sizes, growth)


@dataclass
class _Seen:
    size: int
    modified_ns: int
    since: float
    done: bool = False


class FolderWatch:
    """Sees new frames in a folder: whole ones, each once, whether written slowly, renamed into place or replaced.

    The folder is listed, so that network mounts without events do as well. Folders below it are looked into too.
    """

    def __init__(self, folder: Path, *, only_new: bool = False, clock: Callable[[], float] = time.monotonic) -> None:
        if not folder.is_dir():
            raise InputError("is no folder; name the folder that the frames are written into", folder)
        self._folder, self._clock = folder, clock
        self._seen: dict[Path, _Seen] = {}
        if only_new:
            for path, size, modified in self._listed():
                self._seen[path] = _Seen(size, modified, -math.inf, done=True)

    def ready(self) -> tuple[list[Path], list[tuple[Path, str]]]:
        """Return the frames that became whole since the last call, the oldest first, and what is broken and why."""
        now = self._clock()
        ready: list[tuple[int, Path]] = []
        broken: list[tuple[Path, str]] = []
        for path, size, modified in self._listed():
            own = self._seen.get(path)
            if own is None or (own.size, own.modified_ns) != (size, modified):
                own = self._seen[path] = _Seen(size, modified, now)
            if own.done:
                continue
            why = self._why_not(path, now - own.since)
            if not why:
                own.done = True
                ready.append((modified, path))
            elif now - own.since > GIVE_UP_S:
                own.done = True
                broken.append((path, why))
        return [path for _, path in sorted(ready)], broken

    def read(self, progress: Progress = lambda _done, _of: None) -> Iterator[tuple[Path, LiveFrame | str]]:
        """Yield what became whole since the last call, measured, the oldest first; of what is broken why, in a line.

        Nothing that one frame holds keeps the next from being read.
        """
        paths, broken = self.ready()
        yield from broken
        for place, path in enumerate(paths):
            progress(place, len(paths))
            try:
                yield path, read_live(path)
            except InputError as error:
                yield path, error.reason
            except (OSError, ValueError, ArithmeticError) as error:
                note_fault(error)
                yield path, f"could not be measured ({fault_line(error)})"

    @staticmethod
    def _why_not(path: Path, settled_s: float) -> str:
        """Return why a file is not read yet, empty where it is whole."""
        is_plain = path.name.lower().endswith(ENDINGS[:3])
        if settled_s < (SETTLED_S if is_plain else PACKED_SETTLED_S):
            return "is still being written"
        return why_not_whole(path) if is_plain else ""

    def _listed(self) -> list[tuple[Path, int, int]]:
        found = []
        try:
            paths = sorted(self._folder.rglob("*"))
        except OSError:
            return []  # a network mount that is away for a moment, or a folder that was just taken away
        for path in paths:
            if path.name.startswith(".") or not path.name.lower().endswith(frame_endings()):
                continue
            try:
                state = path.stat()
            except OSError:
                continue  # it was renamed or taken away meanwhile
            if path.is_file():
                found.append((path, state.st_size, state.st_mtime_ns))
        return found
