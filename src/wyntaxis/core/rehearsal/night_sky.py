"""The night's sky: when it is dark, when each object is up and crosses the meridian, by the site and the date."""

from __future__ import annotations

import datetime
import math
from dataclasses import dataclass, replace

from wyntaxis.core.rehearsal.power import HOUR_S
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.night_plan import Moment, NightTarget

TWILIGHT_S = 1.5 * HOUR_S
"""The plan begins so long before it is dark."""
DEFAULT_HOURS = 8.0
DAY_S, AFTERNOON_S = 24 * HOUR_S, 6 * HOUR_S


@dataclass(frozen=True)
class NightSky:
    """A night in s from the plan's beginning: when it is dark, when the object is up, when it crosses the meridian.

    ``begins`` is the plan's beginning in UTC, None where no site and date tell it. ``targets`` are the same for each of
    the plan's targets; the night itself then has no object of its own: it is up all the time.
    """

    dark_from_s: float
    dark_until_s: float
    up: tuple[tuple[float, float], ...]
    meridian_s: float | None
    date: str = ""
    begins: datetime.datetime | None = None
    targets: tuple[TargetSky, ...] = ()

    @property
    def ends_s(self) -> float:
        """When it is light again and the plan must have ended."""
        return self.dark_until_s + TWILIGHT_S

    def by_a_clock(self, slow_s: float) -> NightSky:
        """Return the night as a program takes it to be by a clock that is slow by so much: everything comes later."""
        return replace(
            self,
            dark_from_s=self.dark_from_s + slow_s,
            dark_until_s=self.dark_until_s + slow_s,
            up=tuple((rises + slow_s, sets + slow_s) for rises, sets in self.up),
            meridian_s=None if self.meridian_s is None else self.meridian_s + slow_s,
            begins=None if self.begins is None else self.begins - datetime.timedelta(seconds=slow_s),
        )

    def is_good(self, at_s: float) -> bool:
        """Return whether it is dark and the object is up."""
        return self.dark_from_s <= at_s < self.dark_until_s and any(a <= at_s < b for a, b in self.up)

    def next_good(self, at_s: float, for_s: float = 0.0) -> float | None:
        """Return when it is next dark with the object up for so long at a stretch; None for no more this night."""
        for rises, sets in self.up:
            begins, ends = max(rises, self.dark_from_s, at_s), min(sets, self.dark_until_s)
            if begins < ends and begins + for_s <= ends:
                return begins
        return None

    def moment_s(self, moment: Moment, *, ends: bool = False) -> float | None:
        """Return when a moment is, in s; None where it does not come, or nothing shows the clock's time.

        Parameters
        ----------
        moment
            A clock time in UTC, ``twilight``, ``altitude`` or ``flip``.
        ends
            Whether something ends then, or else begins.
        """
        if moment == "twilight":
            return self.dark_until_s if ends else self.dark_from_s
        if moment == "flip":
            return self.meridian_s
        if moment == "altitude":
            return (self.up[-1][1] if ends else self.up[0][0]) if self.up else None
        if self.begins is None:
            return None
        hour, _, minute = moment.partition(":")
        at = self.begins.replace(hour=int(hour), minute=int(minute), second=0, microsecond=0)
        after_s = (at - self.begins).total_seconds()
        # The afternoon before the plan begins belongs to this night, as does the morning after it.
        return (after_s + AFTERNOON_S) % DAY_S - AFTERNOON_S

    def within(self, start: Moment | None, stop: Moment | None) -> NightSky:
        """Return the night in which an object counts as up only between two moments; one that never comes is none."""
        begins = self.moment_s(start) if start is not None else None
        ends = self.moment_s(stop, ends=True) if stop is not None else None
        low, high = (begins if begins is not None else -math.inf), (ends if ends is not None else math.inf)
        up = tuple((max(a, low), min(b, high)) for a, b in self.up if max(a, low) < min(b, high))
        return replace(self, up=up)

    def clock(self, at_s: float) -> str:
        """Return a time as UTC by the clock, as 2026-12-01T21:04:00Z; empty where the beginning is not known."""
        if self.begins is None:
            return ""
        at = self.begins + datetime.timedelta(seconds=round(at_s))
        return at.strftime("%Y-%m-%dT%H:%M:%SZ")

    def time_words(self, at_s: float) -> str:
        """Return a time for people: by the clock where the beginning is known, else since it."""
        minutes = round(at_s / 60)
        if self.begins is None:
            return f"{minutes // 60}:{minutes % 60:02d} h"
        at = self.begins + datetime.timedelta(seconds=at_s + 30)
        return f"{at:%H:%M} UTC"


@dataclass(frozen=True)
class TargetSky:
    """A target without its steps, and the night as it is for it."""

    target: NightTarget
    sky: NightSky


def plain_sky(hours: float = DEFAULT_HOURS) -> NightSky:
    """Return a night of so many dark hours with the object up all the time, for a rig without a site."""
    return NightSky(TWILIGHT_S, TWILIGHT_S + hours * HOUR_S, ((0.0, TWILIGHT_S + hours * HOUR_S),), None)


def sky_of(rig: Rig, date: datetime.date | None = None) -> NightSky:
    """Return the dark hours, and the paths of the object or of the plan's targets, at a rig's site on a date.

    Parameters
    ----------
    rig
        The rig; without a site, or without an object and targets, the night is as long as its plan says.
    date
        On which the night begins; today by default.

    Returns
    -------
    NightSky
        Times in s from an hour and a half before dark.
    """
    from wyntaxis.core.sky.night import night_of

    plan = rig.plan
    targets = tuple(_bare(target) for target in plan.targets) if plan is not None else ()
    objects = [(target.name, target.ra_deg, target.dec_deg) for target in targets]
    if not targets and rig.framing is not None:
        objects = [(rig.framing.name or "object", rig.framing.ra_deg, rig.framing.dec_deg)]
    if rig.site is None or not objects:
        plain = plain_sky(plan.hours if plan is not None and plan.hours is not None else DEFAULT_HOURS)
        return replace(plain, targets=tuple(TargetSky(own, plain.within(own.start, own.stop)) for own in targets))
    on = date or datetime.datetime.now(datetime.UTC).date()
    night = night_of(rig.site, objects, on)
    if not night.dark:
        none = NightSky(TWILIGHT_S, TWILIGHT_S, (), None, on.isoformat())
        return replace(none, targets=tuple(TargetSky(target, none) for target in targets))
    start = night.dark[0][0] - TWILIGHT_S
    begins = datetime.datetime.fromtimestamp(start, datetime.UTC)
    skies = []
    for number, found in enumerate(night.objects):
        least = targets[number].min_altitude_deg if targets else None
        up = tuple((a - start, b - start) for a, b in found.path.spans(-90.0 if least is None else least))
        meridian = None if found.transit is None else found.transit - start
        skies.append(NightSky(TWILIGHT_S, night.dark[-1][1] - start, up, meridian, on.isoformat(), begins))
    if not targets:
        return skies[0]
    whole = replace(skies[0], up=((0.0, skies[0].dark_until_s),), meridian_s=None)
    own = [TargetSky(target, sky.within(target.start, target.stop)) for target, sky in zip(targets, skies, strict=True)]
    return replace(whole, targets=tuple(own))


def _bare(target: NightTarget) -> NightTarget:
    """Return a target without what does not move it in the sky: its steps."""
    return target.model_copy(update={"steps": ()})


def target_skies(rig: Rig, sky: NightSky) -> tuple[NightSky, ...]:
    """Return the night for each of the plan's targets: those that a night has, computed again where it has others."""
    targets = tuple(_bare(target) for target in rig.plan.targets) if rig.plan is not None else ()
    if tuple(own.target for own in sky.targets) != targets:
        if not sky.date:
            return tuple(sky.within(target.start, target.stop) for target in targets)
        sky = sky_of(rig, datetime.date.fromisoformat(sky.date))
    return tuple(own.sky for own in sky.targets)
