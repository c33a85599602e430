"""The steps of the work, in the order it is done at the bench: each declares its group, title and purpose."""

from __future__ import annotations

from dataclasses import dataclass

GROUPS = ("Build", "Compute", "Connect", "Measure", "Verify")


@dataclass(frozen=True)
class Step:
    """One step of the worklist: its group, and what it is for.

    ``caption`` stands for the counts of a step that has nothing to count. What belongs to a step says so itself: each
    quantity (see :mod:`wyntaxis.core.quantity_kinds`) and each finding names its step. Its sheet is the desk's module
    of the step's key.
    """

    key: str
    group: str
    title: str
    purpose: str
    caption: str = ""


DECLARED: dict[str, Step] = {}


def _step(key: str, group: str, title: str, purpose: str, caption: str = "") -> Step:
    return DECLARED.setdefault(key, Step(key, group, title, purpose, caption))


def steps() -> tuple[Step, ...]:
    """Return every step, group by group, in the order of the declarations."""
    return tuple(sorted(DECLARED.values(), key=lambda step: GROUPS.index(step.group)))


def step_named(key: str) -> Step:
    """Return the step of a key; the first of all for a key that names none."""
    return next((step for step in steps() if step.key == key), steps()[0])


def declare_step(key: str, group: str, title: str, purpose: str, caption: str = "") -> Step:
    """Declare a step from elsewhere; it comes last of its group.

    Raises
    ------
    ValueError
        When the key is taken, or the group is none of :data:`GROUPS`.
    """
    if key in DECLARED or group not in GROUPS:
        raise ValueError(f"the step {key} is declared already, or {group} is no group")
    return _step(key, group, title, purpose, caption)


LIGHT_PATH = _step("light_path", "Build", "Light path", "Is the sensor at the distance that the corrector needs?")
SHELF = _step(
    "shelf", "Build", "Shelf", "Which parts of your own would bring the sensor to its distance?", "parts, spacer search"
)
GUIDE_BRANCH = _step(
    "guide_branch",
    "Build",
    "Guide branch",
    "Is the guide camera in focus together with the main one, and is its pixel scale fine enough?",
)
SCALES = _step(
    "scales", "Compute", "Scales", "What does a pixel see, how large is the field, and how exact must the focus be?"
)
FOOTPRINT = _step(
    "footprint",
    "Compute",
    "Footprint",
    "What of the sky falls on the sensor, at which angle, and for how long is it up?",
    "sky, panels, horizon",
)
DEVICES = _step(
    "devices",
    "Connect",
    "Devices",
    "What is each device, how is it driven, connected, powered and set?",
    "no devices yet",
)
RECORDS = _step(
    "records",
    "Connect",
    "Programs",
    "Does every program hold the rig's values, and do the frames that it wrote?",
    "programs, frame headers",
)
PORTS = _step(
    "ports", "Connect", "Ports", "Is every device on the bus, awake, on a link that is fast enough?", "USB and serial"
)
SENSOR = _step(
    "sensor",
    "Measure",
    "Sensor",
    "What are gain, noise, offset, full well and dark current, and how long should an exposure be?",
    "gain, noise, dark current",
)
COOLING = _step(
    "cooling",
    "Measure",
    "Cooling",
    "How fast may the camera cool, which temperature does it reach, and at what power?",
    "runs, model, ramp",
)
FILTERS = _step(
    "filters",
    "Measure",
    "Filters",
    "Does the wheel stop at the same place, where is the dust, and are the old flats still valid?",
    "flats, dust, wheel",
)
STARS = _step(
    "stars",
    "Measure",
    "Stars",
    "How large and how round are the stars, frame by frame, and which frames are accepted?",
    "frames, star sizes",
)
TRAVEL = _step(
    "travel",
    "Measure",
    "Focuser",
    "Where is best focus, how long is a step, how large is the backlash, and what moves focus?",
    "focus runs, backlash",
)
FIELD = _step(
    "field",
    "Measure",
    "Tilt & curvature",
    "Is the sensor square to the light, is the field flat, and what should be turned or changed?",
    "tilt, curvature",
)
GUIDE_LOG = _step(
    "guide_log",
    "Measure",
    "Guide log",
    "How steady was the guiding, what drives its errors, and is the calibration still valid?",
    "runs, calibration",
)
READY = _step(
    "ready",
    "Verify",
    "Ready",
    "Is the rig ready? Values that were never measured count as not verified.",
    "conditions of the night",
)
PROOFS = _step(
    "proofs",
    "Verify",
    "Next measurements",
    "Which measurement would settle most, and which are out of date?",
    "what to measure next",
)
REHEARSAL = _step(
    "rehearsal",
    "Verify",
    "Rehearsal",
    "Which faults does this plan survive, where does it hang, and is its end safe?",
    "the night, simulated by day",
)
DOSSIER = _step(
    "dossier",
    "Verify",
    "Dossier",
    "The rig on paper, its history, and what a change costs.",
    "on paper, and its history",
)
