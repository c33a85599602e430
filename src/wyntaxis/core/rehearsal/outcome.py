"""What came of a night: events, spans of time by device, frames, hours lost, and whether its end is safe."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rehearsal.power import SupplyUse

EventKind = Literal["done", "fault", "retry", "branch", "lost", "wait", "message", "end"]
SpanKind = Literal[
    "exposing", "download", "moving", "focusing", "cooling", "settling", "waiting", "retrying", "endless"
]
SPAN_WORDS: dict[SpanKind, str] = {
    "exposing": "exposing",
    "download": "download",
    "moving": "moving, opening, solving",
    "focusing": "focusing",
    "cooling": "cooling and warming",
    "settling": "dithers settling",
    "waiting": "waiting for dark or the object",
    "retrying": "retries and what they wait",
    "endless": "a wait that nothing ends",
}
"""What a night's time goes into."""


TARGET = "target"
"""The cause of an event: another target is begun, or gone on with."""
NO_FLIP = "no flip"
"""The cause of an event: the mount reached its limit, and the plan has no flip."""


@dataclass(frozen=True)
class NightEvent:
    """Something that happened: when in s, which device, at which step, in words; whether it went unhandled."""

    t_s: float
    device: str
    step: str
    what: str
    kind: EventKind
    unhandled: bool = False
    cause: str = ""
    """What it is, for code that looks for it; empty for most."""

    def as_json(self) -> JsonObject:
        """Return it as ``wyntaxis rehearse --json`` prints it."""
        entries = {"t_s": self.t_s, "device": self.device, "step": self.step, "what": self.what, "kind": self.kind}
        return entries | ({"unhandled": True} if self.unhandled else {})


@dataclass(frozen=True)
class NightSpan:
    """A time that a device was busy, or waited: from and to in s."""

    device: str
    from_s: float
    to_s: float
    kind: SpanKind


@dataclass(frozen=True)
class NightStage:
    """When a step of the plan was at work: its place in the plan, from and to in s."""

    place: int
    from_s: float
    to_s: float


@dataclass(frozen=True)
class TargetFrames:
    """How many frames of a target were kept, of how many asked for, and why not more where that is known."""

    name: str
    kept: int
    planned: int
    why: str = ""


@dataclass(frozen=True)
class NightOutcome:
    """One night: ``unsafe`` names what was not as it must be at its end, ``endless`` the waits that nothing ended."""

    events: tuple[NightEvent, ...]
    spans: tuple[NightSpan, ...]
    frames_kept: int
    frames_lost: int
    frames_planned: int
    kept_s: float
    ends_s: float
    unsafe: tuple[str, ...]
    endless: tuple[str, ...]
    messages: tuple[str, ...]
    lost_why: tuple[tuple[str, int], ...]
    disk_gb: float
    stages: tuple[NightStage, ...] = ()
    power: tuple[SupplyUse, ...] = ()
    targets: tuple[TargetFrames, ...] = ()

    @property
    def safe_end(self) -> bool:
        """Whether mount, roof and cover are as they must be, the sensor is warm, the power down, and nothing waits."""
        return not self.unsafe and not self.endless

    @property
    def first_unhandled(self) -> NightEvent | None:
        """The first event that nobody handled."""
        return next((event for event in self.events if event.unhandled), None)

    @property
    def begun(self) -> tuple[tuple[float, str], ...]:
        """When in s which target was begun or gone on with; none where the plan has one object."""
        return tuple((event.t_s, event.what) for event in self.events if event.cause == TARGET)

    @property
    def budget(self) -> dict[SpanKind, float]:
        """Into what the time went, in s."""
        entries: dict[SpanKind, float] = dict.fromkeys(SPAN_WORDS, 0.0)
        for span in self.spans:
            entries[span.kind] += span.to_s - span.from_s
        return entries

    def hours_lost(self, good: NightOutcome) -> float:
        """Return the hours of exposure that are missing against a night in which nothing goes wrong."""
        return max(good.kept_s - self.kept_s, 0.0) / 3600


Grade = Literal["survived", "degraded", "lost", "unsafe"]


def grade_of(outcome: NightOutcome) -> Grade:
    """Return how a night stands against what its own plan asks for.

    Returns
    -------
    Grade
        Survived with all frames kept and a safe end, degraded with some, lost with none; unsafe whatever was kept.
    """
    if not outcome.safe_end:
        return "unsafe"
    if outcome.frames_kept >= outcome.frames_planned:
        return "survived"
    return "degraded" if outcome.frames_kept else "lost"
