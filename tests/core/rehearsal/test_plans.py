"""Nearly thirty plans by name, each with the outcome and the frames that were worked out by hand.

The plan of :func:`whole` begins its first frame at 5845 s: dark at 5400 s, then slew 45 s, solve 20, rotate 30, rough
focus 90, focus 63, calibration 180, guiding 15, filter 2. A frame takes 300 s and 0.25 s to read; 15 s of settling come
between two: frame n of the first four ends at 5845 + 300.25 n + 15 (n − 1).
"""

from dataclasses import replace

import pytest

from tests.core.rehearsal.test_night import whole_document
from tests.core.rehearsal.test_order import moved, without
from wyntaxis.core.rehearsal.faults import FAULTS
from wyntaxis.core.rehearsal.night_sky import NightSky, plain_sky
from wyntaxis.core.rehearsal.outcome import grade_of
from wyntaxis.core.rehearsal.play import active_faults, played
from wyntaxis.core.rehearsal.setting import setting_of
from wyntaxis.core.rig.store import validated

DARK_S, LIGHT_S, SECOND_ENDS, THIRD_ENDS = 5400.0, 27000.0, 6460.5, 6775.75


@pytest.fixture(scope="module")
def whole():
    """Four frames through L and four through R, in a rig with roof, cover, mount and a mast that watches."""
    return setting_of(validated(whole_document(frames=8)), plain_sky(6))


def up(*spans, until=LIGHT_S):
    return lambda own: replace(own, sky=NightSky(DARK_S, until, spans, None))


def first(do, **values):
    """Change the first step of a kind alone."""

    def change(own):
        steps = list(own.steps)
        at = [step.do for step in steps].index(do)
        steps[at] = steps[at].model_copy(update=values)
        return replace(own, steps=tuple(steps))

    return change


def unwatched(own):
    return replace(own, watch=own.watch.model_copy(update={"then": None}))


def unlooked(own):
    return replace(own, watch=own.watch.model_copy(update={"checks_frames": False}))


def unconnected(own):
    return replace(own, steps=tuple(step.model_copy(update={"reconnect": False}) for step in own.steps))


def attended(own):
    return replace(own, attended="I sit beside it")


def left_out(*does):
    return lambda own: without(own, *does)


def before(do, other):
    return lambda own: moved(own, do, other)


def both(*changes):
    def change(own):
        for one in changes:
            own = one(own)
        return own

    return change


PLANS = [
    ("as drafted", None, None, "survived", 8),
    ("the roof shuts before the mount is parked", before("close_roof", "park"), None, "unsafe", 8),
    ("the roof is never opened", left_out("open_roof"), None, "unsafe", 0),
    ("the mount is never unparked", left_out("unpark"), None, "lost", 0),
    ("the cover is never opened", left_out("open_cover"), None, "lost", 0),
    ("nothing is connected until an attempt fails", left_out("connect"), None, "survived", 8),
    ("nothing is connected, and nothing reconnects", both(left_out("connect"), unconnected), None, "lost", 0),
    ("outlets that nobody switches are on", left_out("outlets_on"), None, "survived", 8),
    ("no frame is solved, and the plan asks for none", left_out("solve"), None, "survived", 8),
    ("a guider whose calibration is not asked for has one", left_out("calibrate_guiding"), None, "survived", 8),
    ("guiding is never begun, and not asked for", left_out("guide", "calibrate_guiding"), None, "survived", 8),
    ("guiding ends before the frames, which are looked at", before("stop_guiding", "sequence"), None, "survived", 8),
    ("guiding ends before the frames", both(unlooked, before("stop_guiding", "sequence")), None, "lost", 0),
    ("the mount is parked before the frames", before("park", "sequence"), None, "lost", 0),
    ("the roof stays open at the end", left_out("close_roof", "darks"), None, "unsafe", 8),
    ("the mount stays unparked, and so the roof shuts over it", left_out("park"), None, "unsafe", 8),
    ("the target never rises", up(), None, "lost", 0),
    ("the target sets just before the third frame ends", up((0.0, THIRD_ENDS - 1)), None, "degraded", 2),
    ("the target sets just after the third frame was exposed", up((0.0, THIRD_ENDS)), None, "degraded", 3),
    ("dawn comes before the third frame ends", up((0.0, LIGHT_S), until=THIRD_ENDS - 1), None, "degraded", 2),
    ("the target rises in the middle of the night", up((9000.0, LIGHT_S)), None, "survived", 8),
    ("R is in no slot of the wheel", lambda own: replace(own, slots=("L", "G")), None, "degraded", 4),
    ("six rounds of the first block", first("sequence", block="a", repeat=6), None, "survived", 28),
    # (27000 − 5845) / 315.25 = 67.1 frames of L, and no time for R.
    ("L as long as the target is up", first("sequence", frames=None, until="altitude"), None, "degraded", 67),
    ("rain, with a mast that stops the run", None, "weather.rain", "degraded", 2),
    ("rain, and nothing watches", unwatched, "weather.rain", "unsafe", 2),
    ("rain, and somebody sits beside it, who ends the run", both(unwatched, attended), "weather.rain", "degraded", 2),
    ("the power dips", None, "power.dip", "degraded", 2),
    ("the computer restarts", None, "computer.restarts", "degraded", 2),
    ("the roof's motor is dead at the end", None, "roof.motor_dead", "unsafe", 8),
]


@pytest.mark.parametrize(("change", "fault", "grade", "kept"), [p[1:] for p in PLANS], ids=[p[0] for p in PLANS])
def test_a_plan_by_name(whole, change, fault, grade, kept):
    own = change(whole) if change is not None else whole
    at = SECOND_ENDS + 100 if fault is not None and fault != "roof.motor_dead" else None
    faults = [active_faults(own, FAULTS[fault], at)] if fault is not None else []
    outcome = played(own, faults)
    assert (grade_of(outcome), outcome.frames_kept) == (grade, kept), "; ".join(e.what for e in outcome.events)
