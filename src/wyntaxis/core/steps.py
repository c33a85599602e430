"""The steps of the work, in the order it is done at the bench: each declares its group, title and purpose."""

from __future__ import annotations

from dataclasses import dataclass

GROUPS = ("Build", "Reckon", "Connect", "Measure", "Vouch")


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


_steps: dict[str, Step] = {}


def _step(key: str, group: str, title: str, purpose: str, caption: str = "") -> Step:
    return _steps.setdefault(key, Step(key, group, title, purpose, caption))


def steps() -> tuple[Step, ...]:
    """Return every step, group by group, in the order of the declarations."""
    return tuple(sorted(_steps.values(), key=lambda step: GROUPS.index(step.group)))


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
    if key in _steps or group not in GROUPS:
        raise ValueError(f"the step {key} is declared already, or {group} is no group")
    return _step(key, group, title, purpose, caption)


LIGHT_PATH = _step("light_path", "Build", "Light path", "Is the sensor at the distance the corrector wants?")
SHELF = _step(
    "shelf", "Build", "Shelf", "Which parts of your own would bring the sensor to its distance?", "parts, spacer search"
)
GUIDE_BRANCH = _step(
    "guide_branch",
    "Build",
    "Guide branch",
    "Is the guide camera in focus together with the main one, and sharp-eyed enough?",
)
SCALES = _step(
    "scales", "Reckon", "Scales", "What does a pixel see, how large is the field, and how exact must the focus be?"
)
FOOTPRINT = _step(
    "footprint",
    "Reckon",
    "Footprint",
    "What of the sky falls on the sensor, at which angle, and for how long is it up?",
    "sky, panels, horizon",
)
DEVICES = _step(
    "devices", "Connect", "Devices", "What is each device, how is it driven, reached, fed and set?", "no devices yet"
)
RECORDS = _step(
    "records",
    "Connect",
    "Records",
    "Does every program hold what the rig says, and do the frames it wrote?",
    "programs, frame headers",
)
PORTS = _step(
    "ports", "Connect", "Ports", "Is every device on the bus, awake, on a link that is fast enough?", "USB and serial"
)
SENSOR = _step(
    "sensor",
    "Measure",
    "Sensor",
    "What are gain, noise, offset, full well and dark current, and how long must one expose?",
    "gain, noise, dark current",
)
COOLING = _step(
    "cooling",
    "Measure",
    "Cooling",
    "How fast may it cool, what does it reach, and what does that cost?",
    "runs, model, ramp",
)
FILTERS = _step(
    "filters",
    "Measure",
    "Filters",
    "Does the wheel stop where it did, where does the dust lie, and do the old flats still serve?",
    "flats, dust, wheel",
)
STARS = _step(
    "stars",
    "Measure",
    "Stars",
    "How large and how round are the stars, frame by frame, and which frames are worth keeping?",
    "frames, star sizes",
)
TRAVEL = _step(
    "travel",
    "Measure",
    "Travel",
    "Where is best focus, how far is a step, what play has it, and what moves it?",
    "focus runs, backlash",
)
FIELD = _step(
    "field",
    "Measure",
    "Field",
    "Is the sensor square to the light, is the field flat, and what is to be turned or changed?",
    "tilt, curvature",
)
GUIDE_LOG = _step(
    "guide_log",
    "Measure",
    "Guide log",
    "How steady was the guiding, what drives its errors, and does the calibration still serve?",
    "runs, calibration",
)
READY = _step(
    "ready", "Vouch", "Ready", "May the night begin? What is on paper only is unproven.", "conditions of the night"
)
PROOFS = _step(
    "proofs",
    "Vouch",
    "Proofs",
    "Which measurement would settle most, and which proofs have grown stale?",
    "what to measure next",
)
REHEARSAL = _step(
    "rehearsal",
    "Vouch",
    "Rehearsal",
    "Which faults does this plan survive, where does it hang, and is its end safe?",
    "the night, played by day",
)
DOSSIER = _step(
    "dossier",
    "Vouch",
    "Dossier",
    "The rig on paper, what became of it, and what a change costs.",
    "on paper, and its history",
)
