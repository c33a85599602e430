"""A rig that wants its sensor at a measured distance instead of its corrector's maker's."""

from __future__ import annotations

from wyntaxis.core.rig.model import Rig
from wyntaxis.core.train.lightpath import back_focus


def wanting(rig: Rig, required_mm: float) -> Rig:
    """Return the rig with another required distance, for a search of spacers that fit it.

    Parameters
    ----------
    rig
        A rig whose corrector states a distance.
    required_mm
        The distance wanted behind the corrector in mm, glass shift and all.

    Returns
    -------
    Rig
        The same train, its corrector's distance told so that the required one comes out as wanted.

    Raises
    ------
    ValueError
        In one line, without a corrector that states a distance, or for one that no train can have.
    """
    path = back_focus(rig)
    if path is None:
        raise ValueError("no corrector states a required distance: there is nothing to search for")
    stated = path.stated_mm + required_mm - path.required_mm
    if stated <= 0:
        raise ValueError(f"a distance of {required_mm:.2f} mm leaves nothing between corrector and sensor")
    if path.corrector.id == rig.telescope.id:
        bare = rig.telescope.model_copy(update={"required_back_focus_mm": stated})
        return rig.model_copy(update={"telescope": bare})
    train = tuple(
        part.model_copy(update={"required_back_focus_mm": stated}) if part.id == path.corrector.id else part
        for part in rig.train
    )
    return rig.model_copy(update={"train": train})
