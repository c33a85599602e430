"""What a night does in order: the plan's steps with their blocks repeated, and those of each target."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from itertools import groupby

from wyntaxis.core.rehearsal.night_sky import NightSky
from wyntaxis.core.rig.night_plan import NightStep, NightTarget

OF_A_TARGET = ("slew", "solve", "rotate", "calibrate_guiding", "guide", "sequence")
"""What is done for a target: the plan's steps from the first of these to the last are each target's."""
ONCE_A_NIGHT = ("rough_focus", "calibrate_guiding")
"""What a second target need not do again."""


@dataclass(frozen=True)
class ScriptStep:
    """A step as it is done: its place among the plan's steps, a number of its own, and where its block begins.

    A step that is repeated has the same place each time, and another number.
    """

    step: NightStep
    place: int
    key: int
    begins: int


@dataclass(frozen=True)
class ScriptTarget:
    """A target as the night takes it: when it can be taken, and what is done for it."""

    name: str
    priority: float
    sky: NightSky
    steps: tuple[ScriptStep, ...]

    @property
    def planned(self) -> int:
        """How many frames are asked for."""
        return frames_of(self.steps)


@dataclass(frozen=True)
class NightScript:
    """What a night does: before the targets, for each of them, and after; all of it before where there are none."""

    before: tuple[ScriptStep, ...]
    targets: tuple[ScriptTarget, ...] = ()
    after: tuple[ScriptStep, ...] = ()

    @property
    def steps(self) -> Iterator[NightStep]:
        """Everything that is done."""
        for own in (self.before, *(target.steps for target in self.targets), self.after):
            yield from (entry.step for entry in own)

    @property
    def planned(self) -> int:
        """How many frames are asked for."""
        return frames_of(self.before) + sum(target.planned for target in self.targets) + frames_of(self.after)


def frames_of(steps: Sequence[ScriptStep]) -> int:
    """Return how many frames sequences ask for."""
    return sum(entry.step.frames or 1 for entry in steps if entry.step.do == "sequence")


def repeated(steps: Sequence[NightStep], first_place: int, first_key: int) -> tuple[ScriptStep, ...]:
    """Return steps with their blocks repeated.

    Parameters
    ----------
    steps
        As the plan has them.
    first_place, first_key
        The place and the number of the first.

    Returns
    -------
    tuple of ScriptStep
        ``begins`` counts from the first of them; a step of no block begins where what leads to the target does, or
        with itself before that.
    """
    found: list[ScriptStep] = []
    places = list(enumerate(steps, first_place))
    for name, group in groupby(places, key=lambda entry: entry[1].block or entry[0]):
        own = list(group)
        is_block = isinstance(name, str)
        for _ in range(max(step.repeat or 1 for _, step in own)):
            begins = len(found) if is_block else 0
            found += [
                ScriptStep(step, place, first_key + len(found) + k, begins) for k, (place, step) in enumerate(own)
            ]
    leads = next((k for k, entry in enumerate(found) if entry.step.do in OF_A_TARGET), len(found))
    return tuple(
        replace(entry, begins=min(k, leads)) if entry.step.block is None else entry for k, entry in enumerate(found)
    )


def script_of(
    steps: Sequence[NightStep], targets: Sequence[NightTarget], skies: Sequence[NightSky]
) -> tuple[NightScript, tuple[NightStep, ...]]:
    """Return what a night does, and all steps by place: the plan's, then those of the targets.

    Parameters
    ----------
    steps
        The plan's.
    targets, skies
        The plan's targets, and for each when it can be taken.

    Returns
    -------
    tuple
        The script, and the steps that its places count.
    """
    if not targets:
        return NightScript(repeated(steps, 0, 0)), tuple(steps)
    first, last = _shared(steps)
    every: list[NightStep] = list(steps)
    before = repeated(steps[:first], 0, 0)
    after = repeated(steps[last:], last, len(before))
    key, found = len(before) + len(after), []
    for number, (target, sky) in enumerate(zip(targets, skies, strict=True)):
        own = repeated(steps[first:last], first, key)
        if target.steps:
            own = repeated(target.steps, len(every), key)
            every += target.steps
        key += len(own)
        priority = target.priority if target.priority is not None else 1e6
        found.append(ScriptTarget(target.name, priority + number / 1e3, sky, own))
    return NightScript(before, tuple(found), after), tuple(every)


def _shared(steps: Sequence[NightStep]) -> tuple[int, int]:
    """Return where the steps that are a target's begin and end; before the first closing step where there are none."""
    places = [place for place, step in enumerate(steps) if step.do in OF_A_TARGET]
    if places:
        return places[0], places[-1] + 1
    closing = ("stop_guiding", "park", "close_cover", "close_roof", "warm_up", "disconnect", "outlets_off")
    at = next((place for place, step in enumerate(steps) if step.do in closing), len(steps))
    return at, at
