"""Is each setting of the imager's own one that it may be?"""

from __future__ import annotations

from collections.abc import Iterator

from wyntaxis.core.findings import conditions
from wyntaxis.core.findings.evaluated import Evaluation
from wyntaxis.core.findings.message import Named
from wyntaxis.core.findings.registry import Listed, Proof, Statement, finding, say
from wyntaxis.core.ledger import Verdict
from wyntaxis.core.records.quantities import owners
from wyntaxis.core.rig.own_settings import OwnSetting, OwnValue
from wyntaxis.core.steps import DEVICES
from wyntaxis.core.wording import short


@finding(
    "own_settings.allowed",
    step=DEVICES,
    proves=Proof(condition=conditions.SETTINGS, rank=-2),
    listed=Listed(after="records.setting"),
    source="The imager's own range, or choices",
    titles={
        "outside": "{owner}: {setting} is {value}, allowed {allowed}",
        "inside": "{owner}: own settings are within what they may be",
    },
    remedies={"outside": "Set it back, or change what is allowed.{why}", "inside": ""},
)
def allowed(evaluation: Evaluation) -> Iterator[Statement]:
    """Find settings of the imager's own that lie outside what they may be."""
    for _, owner, title, settings in owners(evaluation.rig):
        judged = [own for own in settings if own.allowed]
        for own in judged:
            if not own.is_allowed:
                named: dict[str, Named] = {
                    "owner": title,
                    "setting": own.name,
                    "value": shown_value(own.value, own.unit),
                    "allowed": allowed_words(own),
                    "why": f" Noted: {own.why}" if own.why else "",
                }
                yield say(owner, None, Verdict.FAILS, named, case="outside")
        if judged and all(own.is_allowed for own in judged):
            lines = [f"{own.name}: {shown_value(own.value, own.unit)}, allowed {allowed_words(own)}" for own in judged]
            yield say(owner, None, Verdict.HOLDS, {"owner": title}, case="inside", lines=lines)


def shown_value(value: OwnValue, unit: str | None = None) -> str:
    """Return a value of the imager's own as it is read."""
    if isinstance(value, bool):
        return "yes" if value else "no"
    text = value if isinstance(value, str) else short(float(value), 6)
    return f"{text} {unit}" if unit else text


def allowed_words(own: OwnSetting) -> str:
    """Return what a setting may be, in words."""
    if own.bounds is not None:
        return f"{short(own.bounds[0], 6)} to {shown_value(own.bounds[1], own.unit)}"
    return ", ".join(shown_value(value) for value in own.allowed)
