"""From a rig and what was looked at to its numbers: the one place where document, formulas and values meet."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass, field, replace
from typing import TYPE_CHECKING, Self

from wyntaxis.core.evidence.kinds import Evidence
from wyntaxis.core.evidence.ports.kind import PORTS
from wyntaxis.core.ledger import Quantity, QuantityValue, stated_value
from wyntaxis.core.quantities.evaluator import QuantityEvaluator
from wyntaxis.core.quantities.guiding import guide_focal_length, guide_optics_of, guide_path_of
from wyntaxis.core.quantities.imaging import plate_solving_hints, scale_basis
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
    quantities: dict[str, Quantity]
    evaluator: QuantityEvaluator = field(repr=False, compare=False)
    """How they were worked out, and what each rests on."""
    derived: frozenset[str] = frozenset()
    """Quantities whose measured value follows from the measured image scale, and says nothing of its own."""
    shelf: tuple[ShelfPart, ...] = ()
    evidence: Evidence = field(default_factory=Evidence)

    @property
    def back_focus(self) -> BackFocus | None:
        """The main sensor's spacing; None where nothing asks for one."""
        return back_focus_of(self.evaluator)

    @property
    def guide_path(self) -> GuidePath | None:
        """The guide branch's geometry behind a prism."""
        return guide_path_of(self.evaluator)

    @property
    def guide_optics(self) -> GuideOptics | None:
        """What the guide camera looks through."""
        return guide_optics_of(self.evaluator)

    @property
    def guide_focal_length(self) -> QuantityValue | None:
        """What the guide camera works at: as measured where the scale is, else as computed."""
        return guide_focal_length(self.evaluator)

    @property
    def search(self) -> PlateSolvingHints | None:
        """Settings for the plate solver."""
        return plate_solving_hints(self.evaluator)

    @property
    def thin_lens_mm(self) -> float | None:
        """The corrector's focal length as a thin lens, in mm."""
        return corrector_lens_mm(self.evaluator)

    @property
    def ports(self) -> PortTree | None:
        """The kernel's ports, where they have been read."""
        return self.evidence.of(PORTS)

    @property
    def slots(self) -> list[SlotCase]:
        """The train through each filter whose thickness is stated."""
        return self.evaluator.memoized("slots", lambda: slot_cases(self.evaluator.rig))

    def tracked(self) -> Self:
        """Return the same numbers, which note what is read of the document and which numbers are asked for."""
        if not self.evaluator.traced or self.rig is self.evaluator.rig:
            return self
        return replace(self, rig=self.evaluator.rig, quantities=self.evaluator.tracked_rows(self.quantities))

    def quantity(self, kind: QuantityKind) -> Quantity:
        """Return the row of a quantity."""
        return self.quantities[kind.id]

    def value(self, kind: QuantityKind) -> float | None:
        """Return the best value of a quantity in its unit, or None where there is none."""
        self.evaluator.note_use(kind)
        best = self.quantities[kind.id].best
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
    evaluator = QuantityEvaluator(rig, traced=traced)
    basis = scale_basis(evaluator)
    rows = {key: _row(rig, kind, evaluator, basis) for key, kind in QUANTITY_KINDS.items()}
    derived = frozenset(
        key
        for key, kind in QUANTITY_KINDS.items()
        if evaluator.measured(kind) and not (key in rig.measured and key != basis)
    )
    return Numbers(rig, rows, evaluator, derived, shelf, evidence or Evidence())


def rows_of_kinds(rig: Rig, kinds: Iterable[QuantityKind]) -> dict[str, Quantity]:
    """Return some quantities of a rig alone, as :func:`numbers_of` has them: for very many rigs one after another."""
    evaluator = QuantityEvaluator(rig)
    basis = scale_basis(evaluator)
    return {kind.id: _row(rig, kind, evaluator, basis) for kind in kinds}


def _row(rig: Rig, kind: QuantityKind, evaluator: QuantityEvaluator, basis: str | None) -> Quantity:
    stated, measured = rig.stated.get(kind.id), rig.measured.get(kind.id)
    given = stated_value(stated.value, stated.tolerance, stated.source or "") if stated else None
    found = (
        QuantityValue(measured.value, measured.standard_uncertainty, source=measured.source or "") if measured else None
    )
    return Quantity(
        kind=kind,
        stated=given or evaluator.stated(kind),
        computed=evaluator.computed(kind),
        # A scale measured at another binning is told for the binning in use.
        measured=found if found and kind.id != basis else evaluator.measured(kind),
        target=evaluator.target(kind),
        verdict_override=evaluator.verdict(kind),
    )
