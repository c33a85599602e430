"""A section whose guide branch is drawn shorter than it is, broken off, so that the train is not small (ISO 128)."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

from wyntaxis.core.train.section import PartShape, Section

LEAST_DRAWN_MM = 9.0
"""No part of a shortened branch is drawn shorter."""


def shortened(whole: Section, most_mm: float) -> Section:
    """Return a section whose guide branch is drawn no longer than some length, its longest parts broken off.

    Parameters
    ----------
    whole
        The section to scale.
    most_mm
        How long the branch may be drawn, in mm; no part is drawn shorter than :data:`LEAST_DRAWN_MM`.

    Returns
    -------
    Section
        The same where the branch is not turned, or short enough.
    """
    branch = whole.branch
    if branch is None or not branch.turned or branch.length_mm <= most_mm:
        return whole
    surplus = branch.length_mm - most_mm
    spare = [max(shape.length_mm - LEAST_DRAWN_MM, 0.0) for shape in branch.parts]
    share = min(1.0, surplus / sum(spare)) if sum(spare) else 0.0
    shapes, cut = [], 0.0
    for shape, room in zip(branch.parts, spare, strict=True):
        taken = room * share
        start, end = shape.start_mm - cut, shape.end_mm - cut - taken
        plates = tuple(replace(plate, centre_mm=(start + end) / 2) for plate in shape.plates)
        middle = (start + end) / 2 if taken > 0 else None
        shapes.append(replace(shape, start_mm=start, end_mm=end, plates=plates, break_mm=middle))
        cut += taken
    plane = branch.plane
    if plane is not None:
        plane = replace(plane, built_mm=plane.built_mm - cut, required_mm=plane.required_mm - cut)
    joints = tuple(
        replace(mark, at_mm=_moved(mark.at_mm, branch.parts, shapes)) if mark.on_branch else mark
        for mark in whole.joints
    )
    return replace(whole, branch=replace(branch, parts=tuple(shapes), plane=plane), joints=joints)


def stubbed(whole: Section) -> Section:
    """Return a section whose guide branch is drawn as a stub, broken off above its prism.

    Parameters
    ----------
    whole
        The section to scale.

    Returns
    -------
    Section
        The same where no branch is turned up.
    """
    branch = whole.branch
    if branch is None or not branch.turned or not branch.parts:
        return whole
    first = branch.parts[0]
    end = min(first.end_mm, first.start_mm + LEAST_DRAWN_MM)
    stub = replace(first, end_mm=end, plates=(), break_mm=end)
    joints = tuple(mark for mark in whole.joints if not mark.on_branch)
    return replace(whole, branch=replace(branch, parts=(stub,), plane=None, is_stub=True), joints=joints)


def _moved(at_mm: float, before: Sequence[PartShape], after: Sequence[PartShape]) -> float:
    """Return where a joint at the start of a part lies once the branch is shortened."""
    for old, new in zip(before, after, strict=True):
        if abs(old.start_mm - at_mm) < 1e-9:
            return new.start_mm
    return after[-1].end_mm
