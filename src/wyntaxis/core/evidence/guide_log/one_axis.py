"""One axis of a run whose corrections are logged, in depth; each part is computed when it is first asked for."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.guide_log.corrections import OwnPath, own_path
from wyntaxis.core.evidence.guide_log.loop import Shares, centroid_noise, shares_of
from wyntaxis.core.evidence.guide_log.replay import Advice, advice_of

if TYPE_CHECKING:
    from wyntaxis.core.arrays import Flags, Floats
    from wyntaxis.core.evidence.guide_log.run import GuideRun
    from wyntaxis.core.evidence.measured import Estimate


@dataclass(frozen=True)
class AxisOfRun:
    """Errors and corrections of one axis in arcsec, (n,) each, and which frames count, (n,).

    ``lag`` is after how many further frames a correction shows; ``fwhm_arcsec`` the guide star's size; ``play`` whether
    the axis has backlash.
    """

    run: GuideRun
    values: Floats
    moved: Floats
    good: Flags
    rms: Estimate | None
    lag: int
    fwhm_arcsec: float | None
    play: bool = field(kw_only=True)

    def compute(self) -> None:
        """Compute all of it now: read where nobody waits, it is shown where one does."""
        _ = self.advice

    @cached_property
    def own(self) -> OwnPath:
        """The mount's own path."""
        return own_path(self.run, self.values, self.moved, play=self.play, lag=self.lag)

    @cached_property
    def shares(self) -> Shares | None:
        """What the errors are made of; None where too few frames tell."""
        centroid, strength = None, self.run.strength
        if strength is not None and self.run.has_ratio and self.fwhm_arcsec is not None:
            centroid = centroid_noise(strength[self.good], self.fwhm_arcsec)
        return shares_of(self.own, self.rms, self.good, self.run.stretch, centroid)

    @cached_property
    def advice(self) -> Advice | None:
        """What other settings would have made of the run; None where it is too short, or its noise cannot be told."""
        shares = self.shares
        if shares is None or shares.noise is None:
            return None
        return advice_of(self.own, self.values, self.good, self.run.stretch, shares.noise.value)
