"""A sensible plan of the night, drafted from the rig and its settings."""

from __future__ import annotations

import math

from wyntaxis.core.rig.devices import SWITCHES
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.night_plan import NightStep, NightWatch

DEFAULT_FRAMES, DEFAULT_EXPOSURE_S = 60, 240.0
LIMITS: dict[str, tuple[float, int, float]] = {
    "outlets_on": (30.0, 2, 10.0), "connect": (60.0, 3, 20.0), "cool": (2400.0, 2, 30.0), "open_roof": (180.0, 2, 30.0),
    "open_cover": (120.0, 2, 10.0), "unpark": (60.0, 2, 10.0), "slew": (240.0, 2, 30.0), "solve": (120.0, 3, 20.0),
    "rotate": (180.0, 2, 10.0), "rough_focus": (600.0, 2, 30.0), "focus": (900.0, 2, 60.0),
    "calibrate_guiding": (600.0, 2, 60.0), "guide": (120.0, 3, 60.0), "flats": (900.0, 2, 10.0),
    "darks": (7200.0, 2, 10.0),
    "stop_guiding": (30.0, 1, 0.0), "park": (240.0, 3, 30.0), "close_cover": (120.0, 3, 10.0),
    "close_roof": (240.0, 3, 30.0), "warm_up": (2400.0, 1, 0.0), "disconnect": (60.0, 1, 0.0),
    "outlets_off": (30.0, 2, 10.0),
}  # fmt: skip
"""Of each kind of step: how long an attempt may take in s, how many there are, and the pause between them in s."""
THEN = {"cool": "go_on", "open_roof": "end_safely", "open_cover": "end_safely", "unpark": "end_safely"}
FLATS, DARKS = 15, 15
FRAME_LIMIT_FACTOR, FRAME_LIMIT_S = 1.5, 60.0
"""A frame that takes longer than this many times its exposure, and so many s, will not come."""


def _step(do: str, **more: object) -> NightStep:
    entries = {"do": do, **more}
    if do in LIMITS:
        limit, attempts, pause = LIMITS[do]
        entries = {"limit_s": limit, "attempts": attempts, "pause_s": pause, "reconnect": attempts > 1, **entries}
    entries.setdefault("then", THEN.get(do, "go_on"))
    return NightStep.model_validate(entries)


def drafted_steps(rig: Rig) -> tuple[NightStep, ...]:
    """Return the steps of a night with a rig, in order.

    Parameters
    ----------
    rig
        The rig: what it has no device for is left out.

    Returns
    -------
    tuple of NightStep
        Each with a limit, attempts, and what follows when they run out.
    """
    kinds, plan = {device.kind for device in rig.devices}, rig.plan
    actions = frozenset(plan.actions) if plan is not None else frozenset[str]()
    guided = rig.guiding.kind != "none" and (plan is None or not actions or "guide" in actions)
    cooled = "cool" in actions or any("set_temperature_c" in d.settings for d in rig.devices if d.kind == "camera")
    steps = _opening(kinds, cooled=cooled, guided=guided)
    steps += _sequences(rig)
    return (*steps, *_closing(rig, kinds, cooled=cooled, guided=guided))


def _opening(kinds: set[str], *, cooled: bool, guided: bool) -> list[NightStep]:
    """Return what comes before the first frame."""
    steps: list[NightStep] = []
    if kinds & set(SWITCHES):
        steps.append(_step("outlets_on"))
    steps.append(_step("connect", then="end_safely"))
    if cooled:
        steps.append(_step("cool"))
    if kinds & {"roof", "dome"}:
        steps.append(_step("open_roof"))
    if "cover" in kinds:
        steps.append(_step("open_cover"))
    if "mount" in kinds:
        steps.append(_step("unpark"))
    steps.append(NightStep(do="wait_dark"))
    if "mount" in kinds:
        steps += [_step("slew", then="end_safely"), _step("solve", then="end_safely")]
    if "rotator" in kinds:
        steps.append(_step("rotate"))
    if "focuser" in kinds:
        steps += [_step("rough_focus"), _step("focus")]
    if guided:
        steps += [_step("calibrate_guiding"), _step("guide")]
    return steps


def _closing(rig: Rig, kinds: set[str], *, cooled: bool, guided: bool) -> list[NightStep]:
    """Return what comes after the last frame."""
    plan = rig.plan
    steps: list[NightStep] = [_step("stop_guiding")] if guided else []
    if "mount" in kinds:
        steps.append(_step("park"))
    if "cover" in kinds:
        steps.append(_step("close_cover"))
    if kinds & {"roof", "dome"}:
        steps.append(_step("close_roof"))
    if "flat_panel" in kinds:
        steps += [_step("flats", frames=FLATS, **own) for own in _filters(rig)]
    if "cover" in kinds:
        exposure = plan.exposure_s if plan is not None else DEFAULT_EXPOSURE_S
        limit = FRAME_LIMIT_FACTOR * DARKS * exposure + FRAME_LIMIT_S
        steps.append(_step("darks", frames=DARKS, exposure_s=exposure, limit_s=limit))
    if cooled:
        steps.append(_step("warm_up"))
    steps.append(_step("disconnect"))
    if kinds & set(SWITCHES):
        steps.append(_step("outlets_off"))
    return steps


def _filters(rig: Rig) -> list[dict[str, str]]:
    """Return for each filter that the plan asks for what a step says of it; nothing once, where it asks for none."""
    names = rig.plan.filters if rig.plan is not None else ()
    return [{"filter": name} for name in names] or [{}]


def _sequences(rig: Rig) -> list[NightStep]:
    """Return a sequence for each filter that the plan asks for, the frames shared among them."""
    plan = rig.plan
    frames = plan.frames if plan is not None and plan.frames is not None else DEFAULT_FRAMES
    exposure = plan.exposure_s if plan is not None else DEFAULT_EXPOSURE_S
    filters = _filters(rig)
    each = math.ceil(frames / len(filters))
    limit = FRAME_LIMIT_FACTOR * exposure + FRAME_LIMIT_S
    found, left = [], frames
    for named in filters:
        own = min(each, left)
        left -= own
        if own > 0:
            entries = {"do": "sequence", "frames": own, "exposure_s": exposure, "limit_s": limit, "attempts": 3}
            entries |= {"pause_s": 20.0, "reconnect": True, "then": "skip"}
            found.append(NightStep.model_validate(entries | named))
    return found


def drafted_watch(rig: Rig) -> NightWatch:
    """Return who should watch over the night: whatever the rig has for it, and silence counting as bad weather."""
    return NightWatch(
        silence_is_unsafe=True,
        then="end_safely",
        on_error="end_safely",
        recovers_guiding_s=180.0 if rig.guiding.kind != "none" else None,
        checks_frames=True,
    )
