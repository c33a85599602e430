"""Combinations of the shelf's telescopes, correctors, cameras and guides: which mate, and what each would give."""

from __future__ import annotations

import itertools
import math
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from typing import TypeVar

from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.quantities.numbers import rows_of_kinds
from wyntaxis.core.quantity_kinds import QUANTITY_KINDS
from wyntaxis.core.rig.model import Rig
from wyntaxis.core.rig.parts import MAGNIFYING_KINDS, Part, Telescope
from wyntaxis.core.rig.shelf import Shelf, ShelfPart
from wyntaxis.core.rig.store import document_of, validated
from wyntaxis.core.sky.objects import SkyObject
from wyntaxis.core.train.joints import joint_text, meetings
from wyntaxis.core.train.lightpath import with_datum
from wyntaxis.core.train.spacers import LOOSE_KINDS, apply_set, find_spacers
from wyntaxis.core.wording import number

SHOWN = (
    "effective_focal_length_mm", "focal_ratio", "pixel_scale_arcsec_px", "field_width_deg", "field_height_deg",
    "field_diagonal_deg", "sensor_diagonal_mm", "airy_diameter_um", "depth_of_focus_diffraction_um",
    "back_focus_required_mm", "back_focus_built_mm", "back_focus_error_mm", "guide_scale_arcsec_px",
    "guide_to_main_ratio",
)  # fmt: skip
"""The quantities of a combination, the same as those of a rig made of it."""
SEEING = {"sampling_good": 2.0, "sampling_usual": 3.0, "sampling_poor": 4.5}
"""FWHM in ″ of a good, a usual and a poor night, by which the sampling in px/FWHM is given."""
FRAME_S = 300.0
"""Data per hour are those of frames of so many seconds, with nothing between them."""
SEARCH_SECONDS = 2.0
MOST = 20_000
OBJECT_KEYS = ("object_share_percent", "object_px")
OWN_KEYS = (*SEEING, "data_mb_h", "cost", *OBJECT_KEYS, "image_circle_left_mm")


@dataclass(frozen=True)
class Guide:
    """How a combination guides: by a telescope of its own, or by a prism in the train; the camera behind it."""

    camera: ShelfPart
    telescope: Telescope | None = None
    prism: Part | None = None
    cost: float | None = None

    @property
    def id(self) -> str:
        other = self.telescope.id if self.telescope is not None else self.prism.id if self.prism is not None else ""
        return f"{other}+{self.camera.part.id}"


@dataclass(frozen=True)
class Combination:
    """One combination.

    Parameters
    ----------
    telescope, corrector, camera, guide
        Ids; None without a corrector or a guide, whose two ids are joined by ``+``.
    pieces
        Ids of the owned spacers and adapters that bring the sensor to its distance.
    mates
        Whether every joint screws together and the spacing is in tolerance; None where that is not known.
    why
        What is in the way, or is not known.
    numbers
        By quantity id, in that quantity's unit; what it has not is left out.
    """

    telescope: str
    corrector: str | None
    camera: str
    guide: str | None
    pieces: tuple[str, ...]
    mates: bool | None
    why: str
    numbers: dict[str, float]
    rig: Rig

    def as_json(self) -> JsonObject:
        """Return the combination as the command prints it."""
        return {
            "telescope": self.telescope,
            "corrector": self.corrector,
            "camera": self.camera,
            "guide": self.guide,
            "pieces": list(self.pieces),
            "numbers": dict(self.numbers),
            "mates": self.mates,
            "why": self.why,
        }


@dataclass(frozen=True)
class Choices:
    """What there is to choose from, and what is in every train: wheels, rotators and the like, in their order."""

    shelf: Shelf
    telescopes: tuple[Telescope, ...]
    correctors: tuple[Part | None, ...]
    cameras: tuple[Part, ...]
    guides: tuple[Guide | None, ...]
    fixed: tuple[Part, ...] = ()

    @property
    def count(self) -> int:
        """How many combinations there are."""
        return len(self.telescopes) * len(self.correctors) * len(self.cameras) * len(self.guides)


def choices_of(shelf: Shelf, wanted: Sequence[str] = ()) -> Choices:
    """Return what a shelf offers to choose from.

    Parameters
    ----------
    shelf
        Only what is owned counts, but for what is asked for by its id.
    wanted
        Ids: a telescope, corrector, camera, guide telescope, guide camera or prism must be in every combination, of
        several of one kind one of them; any other part stands in every train, in the order given, behind the
        corrector and a prism.

    Raises
    ------
    InputError
        In one line, for an id that the shelf has not, and where a telescope or a camera is lacking.
    """
    parts = {entry.part.id: entry for entry in shelf.parts}
    scopes = {entry.telescope.id: entry for entry in shelf.telescopes}
    for own_id in wanted:
        if own_id not in parts and own_id not in scopes:
            raise InputError(f'--with: "{own_id[:60]}" is not on the shelf')
        if own_id in parts and parts[own_id].part.kind in LOOSE_KINDS:
            raise InputError(f'--with: "{own_id[:60]}" is a loose piece: spacers and adapters are found by the search')

    def there(owned: int, own_id: str) -> bool:
        return owned > 0 or own_id in wanted

    have = [entry for entry in shelf.parts if there(entry.owned, entry.part.id)]
    seen = [entry for entry in shelf.telescopes if there(entry.owned, entry.telescope.id)]
    correctors = [entry.part for entry in have if entry.part.kind in MAGNIFYING_KINDS]
    must = [own for own in correctors if own.id in wanted]
    special = {"camera", "off_axis_guider", *MAGNIFYING_KINDS}
    fixed = tuple(parts[own].part for own in wanted if own in parts and parts[own].part.kind not in special)
    telescopes = _asked([entry.telescope for entry in seen if not entry.guides], wanted)
    cameras = _asked([entry.part for entry in have if entry.part.kind == "camera" and not entry.guides], wanted)
    for words, there_are in (("telescope", bool(telescopes)), ("camera", bool(cameras))):
        if not there_are:
            raise InputError(f"the shelf holds no {words} to take pictures with: add one, or say that it is owned")
    guides = _guides(have, [entry.telescope for entry in seen if entry.guides], wanted)
    return Choices(shelf, telescopes, tuple(must) or (None, *correctors), cameras, guides, fixed)


_Piece = TypeVar("_Piece", Part, Telescope)


def _asked(own: Sequence[_Piece], wanted: Sequence[str]) -> tuple[_Piece, ...]:
    """Return the pieces that are asked for; all where none is."""
    return tuple(piece for piece in own if piece.id in wanted) or tuple(own)


def _guides(have: Sequence[ShelfPart], scopes: Sequence[Telescope], wanted: Sequence[str]) -> tuple[Guide | None, ...]:
    """Return every way to guide, none among them where no piece of one is asked for."""
    eyes = [entry for entry in have if entry.part.kind == "camera" and entry.guides]
    prisms = [entry.part for entry in have if entry.part.kind == "off_axis_guider" and entry.part.prism is not None]
    guides = [Guide(eye, telescope=scope) for eye in eyes for scope in scopes]
    guides += [Guide(eye, prism=prism) for eye in eyes for prism in prisms]
    bound = {piece for guide in guides for piece in guide.id.split("+")} & {*wanted}
    chosen = tuple(guide for guide in guides if bound <= {*guide.id.split("+")})
    if bound and not chosen:
        raise InputError("--with: no guide telescope or prism goes with that guide camera on the shelf")
    return chosen if bound else (None, *chosen)


def combinations(
    choices: Choices, target: SkyObject | None = None, progress: Progress = lambda _done, _of: None
) -> list[Combination]:
    """Return every combination, those that mate first.

    Parameters
    ----------
    choices
        See :func:`choices_of`.
    target
        What is to be in the field; None without one.
    progress
        Told of each; may raise to end the work.

    Raises
    ------
    InputError
        Where there are more than 20,000.
    """
    if choices.count > MOST:
        raise InputError(f"there are {number(choices.count, 0)} combinations: name some pieces with --with")
    spaced: dict[tuple[object, ...], tuple[tuple[str, ...], bool | None, str, tuple[JsonObject, ...] | None]] = {}
    found = []
    every = itertools.product(choices.telescopes, choices.correctors, choices.cameras, choices.guides)
    for place, (telescope, corrector, camera, guide) in enumerate(every):
        progress(place, choices.count)
        if guide is not None and guide.camera.part.id == camera.id:
            continue
        found.append(_combined(choices, (telescope, corrector, camera, guide), target, spaced))
    progress(choices.count, choices.count)
    order = {True: 0, None: 1, False: 2}
    return sorted(found, key=lambda own: (order[own.mates], own.telescope, own.corrector or "", own.camera))


def sorted_by(found: Sequence[Combination], key: str) -> list[Combination]:
    """Return combinations by one of their numbers, the least first; those without it come last.

    Raises
    ------
    InputError
        For a number that no combination can have.
    """
    if key not in (*SHOWN, *OWN_KEYS):
        raise InputError(f'--sort: there is no number "{key[:40]}"; there are: {", ".join((*SHOWN, *OWN_KEYS))}')
    return sorted(found, key=lambda own: own.numbers.get(key, math.inf))


_Four = tuple[Telescope, Part | None, Part, Guide | None]


def rig_of_pieces(choices: Choices, four: _Four) -> Rig:
    """Return the rig of a combination, without any spacer."""
    telescope, corrector, camera, guide = four
    train = [corrector] if corrector is not None else []
    guiding: JsonObject = {"kind": "none"}
    if guide is not None:
        path = [_plain(guide.camera.part)]
        if guide.prism is not None:
            train.append(guide.prism)
            guiding = {"kind": "off_axis", "taps": guide.prism.id, "path": path}
        else:
            guiding = {"kind": "separate", "telescope": _plain(guide.telescope), "path": path}
    train += [*choices.fixed, camera]
    names = [telescope.title, *([corrector.title] if corrector is not None else []), camera.title]
    return validated(
        {
            "format": "wyntaxis-rig",
            "version": 1,
            "name": ", ".join(names)[:200],
            "telescope": _plain(telescope),
            "train": [_plain(part) for part in train],
            "guiding": guiding,
        }
    )


def _plain(own: Part | Telescope | None) -> JsonObject:
    assert own is not None
    return own.model_dump(mode="json", exclude_unset=True)


def _combined(
    choices: Choices, four: _Four, target: SkyObject | None,
    spaced: dict[tuple[object, ...], tuple[tuple[str, ...], bool | None, str, tuple[JsonObject, ...] | None]],
) -> Combination:  # fmt: skip
    telescope, corrector, camera, guide = four
    rig = rig_of_pieces(choices, four)
    is_bare = corrector is None or corrector.required_back_focus_mm is None
    prism = guide.prism.id if guide is not None and guide.prism is not None else ""
    # Behind a corrector nothing of the spacing is the telescope's.
    key = (telescope.id if is_bare else "", corrector.id if corrector is not None else "", prism, camera.id)
    if key not in spaced:
        spaced[key] = _spaced(rig, choices.shelf)
    pieces, fits, why, train = spaced[key]
    if train is not None:
        rig = validated(document_of(rig) | {"train": list(train)})
    mates, joint = _mating(rig, is_spaced=fits is not None)
    reasons = [text for text in (why, joint) if text]
    verdict = False if False in (fits, mates) else None if mates is None or (fits is None and why) else True
    rows = rows_of_kinds(rig, [QUANTITY_KINDS[own] for own in SHOWN])
    numbers = {own: row.best.value for own, row in rows.items() if row.best is not None}
    numbers |= _further(choices, four, pieces, numbers, target)
    return Combination(
        telescope.id, corrector.id if corrector is not None else None, camera.id,
        guide.id if guide is not None else None, pieces, verdict, "; ".join(reasons), numbers, rig,
    )  # fmt: skip


def _spaced(rig: Rig, shelf: Shelf) -> tuple[tuple[str, ...], bool | None, str, tuple[JsonObject, ...] | None]:
    """Return the owned pieces that space a train, whether any do, why not, and the train with them."""
    try:
        found = find_spacers(rig, shelf.parts, seconds=SEARCH_SECONDS)
    except InputError as error:
        return (), None, "" if _is_free(rig) else error.reason, None
    if found.sets:
        pieces = tuple(piece.id for place in found.sets[0].pieces for piece in place)
        return pieces, True, "", tuple(apply_set(rig, found, found.sets[0]))
    if not found.proven:
        return (), None, found.outcome, None
    buy = f": {found.buy}" if found.buy else ""
    return (), False, f"no owned pieces bring the sensor to its distance{buy}", None


def _is_free(rig: Rig) -> bool:
    """Return whether nothing of a train wants the sensor at a distance."""
    return all(part.required_back_focus_mm is None for part in with_datum(rig).train)


def _mating(rig: Rig, *, is_spaced: bool) -> tuple[bool | None, str]:
    """Return whether every joint screws together, None where one is not described, and which does not."""
    unknown = ""
    for meeting in meetings(rig):
        if meeting.state.mating in ("thread", "pitch", "gender", "slip"):
            ends = f"{joint_text(meeting.rear)} | {joint_text(meeting.front)}"
            return False, f"{meeting.before} and {meeting.after} do not screw together ({ends})"
        if meeting.state.mating == "unknown" and not unknown:
            unknown = f"the joint of {meeting.before} and {meeting.after} is not described"
    return (None, unknown) if unknown else (True, "")


def _further(
    choices: Choices, four: _Four, pieces: Sequence[str], numbers: dict[str, float], target: SkyObject | None
) -> dict[str, float]:
    """Return what a combination has beside a rig's quantities: sampling, data, cost, and how an object lies in it."""
    telescope, corrector, camera, _ = four
    found: dict[str, float] = {}
    scale, sensor = numbers.get("pixel_scale_arcsec_px"), camera.sensor
    if scale:
        found |= {key: seeing / scale for key, seeing in SEEING.items()}
    if sensor is not None:
        found["data_mb_h"] = sensor.width_px * sensor.height_px * 2 / 1e6 * 3600 / FRAME_S
        circle = corrector.image_circle_mm if corrector is not None else telescope.image_circle_mm
        if circle is not None:
            found["image_circle_left_mm"] = circle - sensor.diagonal_mm
    cost = _cost(choices, (*_ids(four), *(part.id for part in choices.fixed), *pieces))
    if cost is not None:
        found["cost"] = cost
    if target is not None and target.major_arcmin and scale:
        width, height = numbers.get("field_width_deg"), numbers.get("field_height_deg")
        found["object_px"] = target.major_arcmin * 60 / scale
        if width and height:
            across = target.major_arcmin / 60
            minor = (target.minor_arcmin or target.major_arcmin) / 60
            # Turned so that its long axis lies along the sensor's.
            found["object_share_percent"] = 100 * max(across / max(width, height), minor / min(width, height))
    return found


def _ids(four: _Four) -> Iterator[str]:
    telescope, corrector, camera, guide = four
    yield telescope.id
    if corrector is not None:
        yield corrector.id
    yield camera.id
    if guide is not None:
        yield from guide.id.split("+")


def _cost(choices: Choices, ids: Iterable[str]) -> float | None:
    """Return what some pieces cost together; None where none states it."""
    known = {entry.part.id: entry.cost for entry in choices.shelf.parts}
    known |= {entry.telescope.id: entry.cost for entry in choices.shelf.telescopes}
    stated = [cost for own in ids if (cost := known.get(own)) is not None]
    return math.fsum(stated) if stated else None
