"""From a rig to its ledger: the one place where the document, the formulas and the legs meet."""

from __future__ import annotations

from dataclasses import dataclass, replace
from functools import cached_property
from typing import TYPE_CHECKING

from wyntaxis.core.catalogue import CATALOGUE
from wyntaxis.core.devices.quantities import device_quantities
from wyntaxis.core.ledger import Leg, Quantity, Verdict, stated_leg, worst
from wyntaxis.core.legs import ComputedLegs
from wyntaxis.core.optics.guidepath import GuideOptics, GuidePath
from wyntaxis.core.optics.lightpath import BackFocus
from wyntaxis.core.optics.sampling import SearchRange

if TYPE_CHECKING:
    from wyntaxis.core.findings import Finding
    from wyntaxis.core.frames.audit import HeaderAudit
    from wyntaxis.core.optics.slots import SlotCase
    from wyntaxis.core.ports.tree import PortTree
    from wyntaxis.core.ready import ConditionVerdict
    from wyntaxis.core.records.compare import Matrix
    from wyntaxis.core.records.entries import EntryFault
    from wyntaxis.core.rig.model import Rig
    from wyntaxis.core.rig.shelf import ShelfPart


@dataclass(frozen=True)
class Seen:
    """What was looked at outside the rig file, and is not kept in it: the kernel's ports, a folder's frame headers."""

    ports: PortTree | None = None
    frames: HeaderAudit | None = None


NOTHING_SEEN = Seen()


@dataclass(frozen=True)
class Reckoning:
    """Everything computed from one rig: geometry, ledger, findings."""

    rig: Rig
    back_focus: BackFocus | None
    guide_path: GuidePath | None
    guide_optics: GuideOptics | None
    quantities: dict[str, Quantity]
    guide_focal_length: Leg | None = None
    """What the guide camera works at: as measured where the scale is, else as computed."""
    search: SearchRange | None = None
    thin_lens_mm: float | None = None
    derived: frozenset[str] = frozenset()
    """Quantities whose measured leg follows from the measured image scale, and says nothing of its own."""
    shelf: tuple[ShelfPart, ...] = ()
    seen: Seen = NOTHING_SEEN
    findings: tuple[Finding, ...] = ()

    @property
    def ports(self) -> PortTree | None:
        return self.seen.ports

    @property
    def frames(self) -> HeaderAudit | None:
        return self.seen.frames

    @cached_property
    def matrix(self) -> Matrix:
        """Every record against the rig."""
        from wyntaxis.core.records.compare import matrix

        return matrix(self)

    @cached_property
    def slots(self) -> list[SlotCase]:
        """The train through each filter whose thickness is stated."""
        from wyntaxis.core.optics.slots import slot_cases

        return slot_cases(self.rig)

    @cached_property
    def entry_faults(self) -> list[tuple[str, list[EntryFault]]]:
        """What the lists of devices, the rig's own and the programs', say against themselves and the rig."""
        from wyntaxis.core.records.entries import faults_of_lists

        return faults_of_lists(self.rig)

    @cached_property
    def conditions(self) -> list[ConditionVerdict]:
        """How the conditions of the night stand."""
        from wyntaxis.core.ready import conditions

        return conditions(self)

    @cached_property
    def device_quantities(self) -> dict[str, Quantity]:
        """The numbers that devices are set to, by ``device.setting``."""
        return device_quantities(self.rig.devices)

    def value(self, quantity_id: str) -> float | None:
        """Return the best leg's value of a quantity, or None where there is none."""
        best = self.quantities[quantity_id].best
        return best.value if best else None

    def finding(self, finding_id: str) -> Finding | None:
        """Return the first finding of that id, or None."""
        return next((finding for finding in self.findings if finding.id == finding_id), None)

    @property
    def verdict(self) -> Verdict:
        """The gravest verdict of all findings."""
        return worst(finding.verdict for finding in self.findings)


def reckon(rig: Rig, shelf: tuple[ShelfPart, ...] = (), seen: Seen = NOTHING_SEEN) -> Reckoning:
    """Compute every quantity and finding of a rig; remedies may name parts of the shelf."""
    from wyntaxis.core.findings import all_findings

    bare = bare_reckoning(rig, shelf, seen)
    return replace(bare, findings=tuple(all_findings(bare)))


def bare_reckoning(rig: Rig, shelf: tuple[ShelfPart, ...] = (), seen: Seen = NOTHING_SEEN) -> Reckoning:
    """Compute every quantity of a rig, and no findings."""
    computed = ComputedLegs(rig)
    return Reckoning(
        rig=rig,
        back_focus=computed.back_focus,
        guide_path=computed.guide_path,
        guide_optics=computed.guide,
        quantities={key: _row(rig, key, computed) for key in CATALOGUE},
        guide_focal_length=computed.guide_focal_length,
        search=computed.search,
        thin_lens_mm=computed.lens_mm,
        derived=frozenset(computed.measured) - (set(rig.measured) - {computed.scale_basis}),
        shelf=shelf,
        seen=seen,
    )


def _row(rig: Rig, quantity_id: str, computed: ComputedLegs) -> Quantity:
    stated, measured = rig.stated.get(quantity_id), rig.measured.get(quantity_id)
    given = stated_leg(stated.value, stated.tolerance, stated.source or "") if stated else None
    found = Leg(measured.value, measured.standard_uncertainty, source=measured.source or "") if measured else None
    return Quantity(
        kind=CATALOGUE[quantity_id],
        stated=given or computed.stated.get(quantity_id),
        computed=computed.legs.get(quantity_id),
        # A scale measured at another binning is told for the binning in use.
        measured=found if found and quantity_id != computed.scale_basis else computed.measured.get(quantity_id),
        target=computed.targets.get(quantity_id),
        verdict_override=computed.verdicts.get(quantity_id),
    )
