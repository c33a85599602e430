"""The rehearsal as evidence: the plain night and every fault, held for the findings until the rig's plan changes."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.kinds import EvidenceKind
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.rig.model import Rig

if TYPE_CHECKING:  # the night's machinery is loaded when a night is played
    from wyntaxis.core.rehearsal.night_sky import NightSky
    from wyntaxis.core.rehearsal.outcome import NightOutcome
    from wyntaxis.core.rehearsal.play import FaultRow, ManyNights
    from wyntaxis.core.rehearsal.setting import NightSetting


@dataclass(frozen=True)
class Rehearsal:
    """What was played: with which rig and night, how the plain night went, and every fault."""

    setting: NightSetting
    good: NightOutcome
    rows: tuple[FaultRow, ...]
    many: ManyNights | None = None

    def is_of(self, rig: Rig) -> bool:
        """Return whether it was played with the rig as it is: its plan, devices, guiding, supplies, site and train."""
        was = self.setting.rig
        return was is rig or all(
            getattr(was, key) == getattr(rig, key)
            for key in ("plan", "devices", "supplies", "guiding", "site", "framing", "mount", "train")
        )


def rehearse(
    rig: Rig, sky: NightSky | None = None, watch: Callable[[int, int], None] = lambda _a, _b: None
) -> Rehearsal:
    """Play the plain night of a rig, and every fault.

    Parameters
    ----------
    rig
        The rig.
    sky
        The night; of today by default.
    watch
        Told of faults played and to play; may cancel.

    Returns
    -------
    Rehearsal
        What came of them.
    """
    from wyntaxis.core.rehearsal.night_sky import sky_of
    from wyntaxis.core.rehearsal.play import fault_table, played
    from wyntaxis.core.rehearsal.setting import setting_of

    setting = setting_of(rig, sky or sky_of(rig))
    return Rehearsal(setting, played(setting), fault_table(setting, watch))


def _measures(_rig: Rig, _result: Rehearsal) -> Mapping[str, Estimate]:
    return {}


REHEARSAL = EvidenceKind("rehearsal", rehearse, _measures)
"""Nights played by day; nothing of it is kept in the rig."""
