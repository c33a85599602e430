"""Findings on what a camera itself allows: that it stays on, and that it can expose as short as is planned."""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.quantities.sensor import longest_exposure_s
from wyntaxis.core.rig.device_settings import CAMERAS
from wyntaxis.core.rig.edit import Change
from wyntaxis.core.steps import DEVICES
from wyntaxis.core.wording import short


@finding(
    "camera.switch_off",
    step=DEVICES,
    proves=Proof(condition=conditions.AWAKE),
    listed=Listed(after="adaptive_optics.range"),
    titles={
        "holds": "{device} does not switch itself off",
        "tight": "{device} switches itself off after {minutes} min without a frame: a cloud or a wait can last longer",
        "fails": "{device} switches itself off after {minutes} min, during the longest exposure of {longest} s",
    },
    source="the camera's own settings, against the longest exposure of the plan",
    remedies="Switch it off in the body's menu, or in the driver: 0 min means never.",
)
def switch_off(evaluation: Evaluation) -> Iterator[Statement]:
    """Does each camera stay on between two frames?"""
    settings = evaluation.rig.guiding.settings
    for index, device in enumerate(evaluation.rig.devices):
        minutes = device.number("switch_off_min") if device.kind in CAMERAS else None
        if minutes is None:
            continue
        guides = settings.exposure_s if settings is not None else None
        longest = guides if device.kind == "guide_camera" else longest_exposure_s(evaluation)
        verdict, lines = Verdict.HOLDS, []
        if minutes > 0:
            sleeps = longest is not None and 60 * minutes <= longest
            verdict = Verdict.FAILS if sleeps else Verdict.TIGHT
            exposed = f"; exposed {short(longest)} s" if longest else ""
            lines = [f"{short(minutes)} min = {short(60 * minutes)} s{exposed}"]
        named: dict[str, Named] = {"device": device.title, "minutes": minutes, "longest": longest or 0.0}
        path = ("devices", index, "settings", "switch_off_min", "value")
        never = Change.of("Never switch off by itself", path, 0.0)
        yield say(device.id, None, verdict, named, lines=lines).with_edit(never)


@finding(
    "camera.shortest_exposure",
    step=DEVICES,
    listed=Listed(after="camera.switch_off"),
    titles={
        "": "{device} exposes as short as is planned: {planned:3} s, at least {least:5} s",
        "fails": "{device} cannot expose as short as {planned:3} s: at least {least:5} s",
    },
    source="the camera's data sheet, against what the plan, the focuser and the guide program expose",
    remedies="Expose for longer, with less light or a lower gain.",
)
def shortest_exposure(evaluation: Evaluation) -> Iterator[Statement]:
    """Can each camera expose as short as is planned with it?"""
    rig = evaluation.rig
    guides = rig.guiding.settings.exposure_s if rig.guiding.settings is not None else None
    focus = [device.number(key) for device in rig.devices for key in ("focus_exposure_s", "run_exposure_s")]
    plan = [rig.plan.exposure_s] if rig.plan is not None else []
    for device in rig.devices:
        least = device.number("shortest_exposure_s") if device.kind in CAMERAS else None
        asked = [guides] if device.kind == "guide_camera" else [*plan, *focus]
        planned = min((value for value in asked if value), default=None)
        if least is None or planned is None:
            continue
        named: dict[str, Named] = {"device": device.title, "planned": planned, "least": least}
        yield say(device.id, None, Verdict.FAILS if planned < least else Verdict.HOLDS, named)
