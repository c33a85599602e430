"""What the live view of a folder is given of the rig, and of the shelf."""

from __future__ import annotations

from collections.abc import Iterable

from wyntaxis.core.evidence.defocus.live import LiveOptics, Piece
from wyntaxis.core.evidence.measured import Estimate
from wyntaxis.core.quantities.focuser import focusers
from wyntaxis.core.quantities.numbers import Numbers
from wyntaxis.core.quantity_kinds import FOCAL_RATIO
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, PINNABLE_KINDS, Part
from wyntaxis.core.rig.shelf import ShelfPart


def live_optics(numbers: Numbers, shelf: Iterable[ShelfPart] = ()) -> LiveOptics:
    """Return what the live view needs of a rig: pixel, focal ratio, step and travel of its first focuser, and pieces.

    Parameters
    ----------
    numbers
        The rig's numbers.
    shelf
        The imager's parts: those that are not in the rig may lengthen the train.
    """
    rig = numbers.rig
    row = numbers.quantities.get(FOCAL_RATIO.id)
    ratio = row.best if row is not None else None
    device = next(iter(focusers(numbers)), None)
    step = device.best("step_um") if device is not None else None
    mm_per_turn = device.number("mm_per_turn") if device is not None else None
    used = {part.title for _, part in rig.parts()}
    return LiveOptics(
        pixel_um=rig.sensor.pixel_um if rig.sensor is not None else None,
        focal_ratio=Estimate(ratio.value, ratio.uncertainty) if ratio is not None else None,
        step_um=step,
        lowest=device.number("lowest_position") if device is not None else None,
        highest=device.number("highest_position") if device is not None else None,
        turn_um=1000 * mm_per_turn if mm_per_turn else None,
        shelf=_pieces(entry.part for entry in shelf if entry.part.title not in used),
        train=_pieces(_before_the_corrector(rig)),
    )


def _before_the_corrector(rig: Rig) -> list[Part]:
    """Return the parts whose length moves the focus alone: those before the first corrector, all without one."""
    place = next((k for k, part in enumerate(rig.train) if part.kind in MAGNIFYING_KINDS), len(rig.train))
    return list(rig.train[:place])


def _pieces(parts: Iterable[Part]) -> tuple[Piece, ...]:
    return tuple(
        Piece(part.title, part.optical_length_mm)
        for part in parts
        if part.kind in PINNABLE_KINDS and part.optical_length_mm > 0
    )
