"""From a rig and what was looked at to its numbers: the one place where document, formulas and legs meet."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING

from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.ledger import Leg, Quantity, stated_leg
from wyntaxis.core.quantities.guiding import guide_focal_length, guide_optics_of, guide_path_of
from wyntaxis.core.quantities.imaging import plate_solving_hints, scale_basis
from wyntaxis.core.quantities.legs import Legs
from wyntaxis.core.quantities.spacing import back_focus_of, corrector_lens_mm
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS, QuantityKind
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.train.guidepath import GuideOptics, GuidePath
from wyntaxis.core.train.lightpath import BackFocus
from wyntaxis.core.train.sampling import PlateSolvingHints
from wyntaxis.core.train.slots import SlotCase, slot_cases

if TYPE_CHECKING:
    from wyntaxis.core.evidence.ports.tree import PortTree
    from wyntaxis.core.rig.shelf import ShelfPart


@dataclass(frozen=True)
class Numbers:
    """Every number of one rig, with the geometry that they come from."""

    rig: Rig
    back_focus: BackFocus | None
    guide_path: GuidePath | None
    guide_optics: GuideOptics | None
    quantities: dict[str, Quantity]
    legs: Legs = field(repr=False, compare=False)
    """How they were worked out, and what each rests on."""
    guide_focal_length: Leg | None = None
    """What the guide camera works at: as measured where the scale is, else as computed."""
    search: PlateSolvingHints | None = None
    thin_lens_mm: float | None = None
    derived: frozenset[str] = frozenset()
    """Quantities whose measured leg follows from the measured image scale, and says nothing of its own."""
    shelf: tuple[ShelfPart, ...] = ()
    evidence: Evidence = field(default_factory=Evidence)

    @property
    def ports(self) -> PortTree | None:
        """The kernel's ports, where they have been read."""
        return self.evidence.of(PORTS)

    @property
    def slots(self) -> list[SlotCase]:
        """The train through each filter whose thickness is stated."""
        return self.legs.once("slots", lambda: slot_cases(self.legs.rig))

    def value(self, quantity_id: str) -> float | None:
        """Return the best leg's value of a quantity, or None where there is none."""
        self.legs.note_use(quantity_id)
        best = self.quantities[quantity_id].best
        return best.value if best else None


def numbers_of(
    rig: Rig,
    evidence: Evidence | None = None,
    shelf: tuple[ShelfPart, ...] = (),
    *,
    traced: bool | frozenset[str] = False,
) -> Numbers:
    """Compute every number of a rig.

    Parameters
    ----------
    rig
        The rig.
    evidence, shelf
        What was looked at outside its file, and parts that remedies may name.
    traced
        Whether it is to be known what each number rests on, of all the document or of some paths.

    Returns
    -------
    Numbers
        Every quantity, in the order of the ledger, and the geometry they come from.
    """
    legs = Legs(rig, traced=traced)
    basis = scale_basis(legs)
    return Numbers(
        rig=rig,
        back_focus=back_focus_of(legs),
        guide_path=guide_path_of(legs),
        guide_optics=guide_optics_of(legs),
        quantities={key: _row(rig, kind, legs, basis) for key, kind in QUANTITY_KINDS.items()},
        guide_focal_length=guide_focal_length(legs),
        search=plate_solving_hints(legs),
        thin_lens_mm=corrector_lens_mm(legs),
        derived=frozenset(
            key for key in QUANTITY_KINDS if legs.measured(key) and not (key in rig.measured and key != basis)
        ),
        legs=legs,
        shelf=shelf,
        evidence=evidence or Evidence(),
    )


def _row(rig: Rig, kind: QuantityKind, legs: Legs, basis: str | None) -> Quantity:
    stated, measured = rig.stated.get(kind.id), rig.measured.get(kind.id)
    given = stated_leg(stated.value, stated.tolerance, stated.source or "") if stated else None
    found = Leg(measured.value, measured.standard_uncertainty, source=measured.source or "") if measured else None
    return Quantity(
        kind=kind,
        stated=given or legs.stated(kind.id),
        computed=legs.computed(kind.id),
        # A scale measured at another binning is told for the binning in use.
        measured=found if found and kind.id != basis else legs.measured(kind.id),
        target=legs.target(kind.id),
        verdict_override=legs.verdict(kind.id),
    )
