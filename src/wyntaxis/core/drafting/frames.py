"""What the headers of a folder's frames tell of the rig that took them."""

from __future__ import annotations

import re
from collections import Counter
from collections.abc import Sequence
from operator import attrgetter
from statistics import median

from wyntaxis.core.drafting.reported import RECORD, Reported, card_of, suppose, value_text
from wyntaxis.core.drafting.rig_draft import RigDraft
from wyntaxis.core.drafting.sensor import draft_sensor
from wyntaxis.core.evidence.headers.folder import FolderHeaders
from wyntaxis.core.evidence.headers.headers import FrameHeader
from wyntaxis.core.evidence.headers.names import FilterNames
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.optics.imaging import ARCSEC_PER_RADIAN
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.rig.device_kinds import DEVICE_KINDS

Setup = tuple[str, str]
"""The telescope and the camera that a frame names; empty where it names none."""
LIKELY_FOCAL_MM = (100.0, 10_000.0)
"""A focal length in mm outside these is more likely told in another unit; a lens may be shorter."""
SHORTEST_LENS_MM = 10.0
LIKELY_RATIO = 0.9
"""No telescope is faster: a focal length that makes it so is not in mm."""
SCALES_AGREE = 0.02
"""A solved frame and the header's own numbers agree to this share."""
LONGEST_GUIDE_S, SHORTEST_LIGHT_S = 10.0, 20.0
"""Lights no longer than this, beside others of this length at least and by another camera, look like guide frames."""
_MODE = re.compile(r"\s*[(\[][^)\]]*\b(?:mode|readout|bits?|gain|bin(?:ning)?)\b[^)\]]*[)\]]\s*$", re.IGNORECASE)
"""What drivers write behind a camera's name; the camera is the same."""
_GUIDE = re.compile(r"(?<![a-z])guid(?:e|er|ing)(?![a-z])", re.IGNORECASE)


def draft_frames(book: RigDraft, headers: FolderHeaders) -> None:
    """Read what frames say of their rig into a draft.

    Parameters
    ----------
    book
        The rig that is being drafted.
    headers
        The headers of a folder. The telescope and camera with the most frames become the rig's own train, others a
        variant each; what the headers disagree on is kept as a record, so that a finding tells it.
    """
    for broken in headers.broken:
        book.leave_out(broken.path, broken.why)
    by_setup: dict[Setup, list[FrameHeader]] = {}
    for frame in headers.frames:
        if frame.camera or frame.telescope:
            by_setup.setdefault((frame.telescope or "", _MODE.sub("", frame.camera or "")), []).append(frame)
        else:
            book.leave_out(frame.path, "its header names neither telescope nor camera")
    guides = _guide_frames(by_setup)
    # Darks and flats may be taken off the telescope: frames without one are of whichever has their camera.
    for setup in [key for key in by_setup if not key[0]]:
        home = next((key for key in by_setup if key[0] and key[1] == setup[1]), None)
        if home is not None:
            by_setup[home] += by_setup.pop(setup)
    ranked = sorted(by_setup.items(), key=lambda entry: -_weight(entry[1]))
    if not ranked:
        return
    setup, frames = ranked[0]
    _own_train(book, setup, frames, headers.names)
    for other, taken in ranked[1:]:
        _variant(book, setup, other, taken)
    for camera, taken in guides.items():
        _guide_camera(book, camera, taken)


def _guide_frames(by_setup: dict[Setup, list[FrameHeader]]) -> dict[str, list[FrameHeader]]:
    """Take out the frames that look like a guide camera's, by camera: by their path or name, or short beside long."""
    found: dict[str, list[FrameHeader]] = {}

    def lights(frames: Sequence[FrameHeader]) -> list[float]:
        return [frame.exposure_s for frame in frames if frame.kind == "light" and frame.exposure_s is not None]

    long = {setup[1] for setup, frames in by_setup.items() if median(lights(frames) or [0.0]) >= SHORTEST_LIGHT_S}
    for setup, frames in list(by_setup.items()):
        own = lights(frames)
        short_ones = bool(own) and max(own) <= LONGEST_GUIDE_S and not any(frame.filter for frame in frames)
        if _GUIDE.search(setup[1]) or (short_ones and long - {setup[1]}):
            taken = frames
        else:
            taken = [frame for frame in frames if _GUIDE.search(frame.path)]
        if not taken or (len(taken) == len(frames) and len(by_setup) == 1):
            continue
        found.setdefault(setup[1], []).extend(taken)
        names = {frame.path for frame in taken}
        by_setup[setup] = [frame for frame in frames if frame.path not in names]
        if not by_setup[setup]:
            del by_setup[setup]
    return found


def _guide_camera(book: RigDraft, camera: str, frames: Sequence[FrameHeader]) -> None:
    """Take a camera whose frames look like guide frames as the guide camera, and ask."""
    first = frames[0].path
    book.ask(f"{len(frames)} frames such as {first} look like guide frames: they say nothing about the main camera")
    if camera and not any(device["kind"] == "guide_camera" for device in book.list_of("devices")):
        known = any(_goes_by(book, at, camera) for at, _ in enumerate(book.list_of("devices")))
        if not known:
            at = book.add_device("guide_camera", "guide_camera", card_of("INSTRUME", first), name=camera)
            book.mark(("devices", at, "kind"))


def _goes_by(book: RigDraft, at: int, name: str) -> bool:
    title = str(book.held(("devices", at, "name")) or "").casefold()
    return bool(title) and (title in name.casefold() or name.casefold() in title)


def _weight(frames: Sequence[FrameHeader]) -> int:
    """Return how much frames speak for a train: lights before all others."""
    return sum(1000 if frame.kind == "light" else 1 for frame in frames)


def _own_train(book: RigDraft, setup: Setup, frames: list[FrameHeader], names: FilterNames) -> None:
    entries = Reported(book, frames)
    telescope, camera = setup
    place = ("telescope",)
    first = frames[0].path
    if telescope and book.document["telescope"].get("name") in (None, "Telescope"):
        book.document["telescope"].pop("name", None)
        book.give(("telescope", "name"), telescope, card_of("TELESCOP", first))
    train = book.list_of("train")
    at = next((i for i, part in enumerate(train) if part["kind"] == "camera"), None)
    if at is None:
        at = int(book.add_part(("train",), len(train), "camera", "camera")[-1])
    book.give(("train", at, "name"), camera or "camera", card_of("INSTRUME", first))
    draft_sensor(entries, ("train", at), frames)
    _optics(entries, place, ("train", at, "sensor", "pixel_um"))
    part_id = train[at]["id"]
    device = next((i for i, d in enumerate(book.list_of("devices")) if d["kind"] == "camera"), None)
    if device is None and camera:  # the ports may have told of it before, without knowing what it is
        device = next((i for i, d in enumerate(book.list_of("devices")) if _is_unknown(book, i, camera)), None)
        if device is not None:
            book.give(("devices", device, "kind"), "camera", card_of("INSTRUME", first))
            book.give(("devices", device, "part"), part_id, card_of("INSTRUME", first))
    if device is None:
        device = book.add_device("main_camera", "camera", card_of("INSTRUME", first), name=camera or None, part=part_id)
    lights = [frame for frame in frames if frame.kind == "light"] or frames
    gains = [frame for frame in lights if frame.gain is None or not _may_be_per_adu(frame.gain)]
    entries.setting(device, "gain", "GAIN", lambda frame: frame.gain, gains)
    odd = next((frame for frame in lights if frame.gain is not None and _may_be_per_adu(frame.gain)), None)
    if odd is not None:
        book.ask(
            f"GAIN {value_text(odd.gain)} of {odd.path} is left out: it may be the conversion gain in e⁻/ADU; which "
            "gain was set?",
            ("devices", device),
        )
    entries.setting(device, "offset", "OFFSET", lambda frame: frame.offset, lights)
    entries.setting(device, "set_temperature_c", "SET-TEMP", lambda frame: frame.set_temperature_c, lights)
    _filters(book, entries, names)
    _focuser_and_rotator(book, entries)
    _site(entries)
    if book.document["name"] == "New rig":
        book.document["name"] = plain(", ".join(name for name in setup if name))[:200] or "New rig"


def _is_unknown(book: RigDraft, at: int, name: str) -> bool:
    """Return whether a device's kind is open, and it goes by a name that frames tell."""
    return book.is_open(("devices", at, "kind")) and _goes_by(book, at, name)


def _may_be_per_adu(gain: float) -> bool:
    """Return whether a GAIN may be e⁻/ADU: a small broken number, where settings are whole ones or tenths of dB."""
    return 0 < gain < 20 and abs(10 * gain - round(10 * gain)) > 1e-6


def _optics(entries: Reported, place: DocumentPath, pixel: DocumentPath) -> None:
    """Give the telescope: what is no likely length in mm, or stands against solved frames, is told as a question."""
    entries.fixed((*place, "aperture_mm"), "APTDIA", entries.of(lambda frame: frame.aperture_mm or None), "aperture_mm")
    focal = entries.of(lambda frame: frame.focal_length_mm or None)
    solved = _solved_focal_mm(entries, pixel)
    path, book = (*place, "focal_length_mm"), entries.book
    if focal and focal[0][0] > 0:
        value, _, file = focal[0]
        agrees = solved is not None and abs(value / solved - 1) <= SCALES_AGREE
        aperture = 0.0 if book.is_open((*place, "aperture_mm")) else book.held((*place, "aperture_mm"))
        likely = LIKELY_FOCAL_MM[0] <= value <= LIKELY_FOCAL_MM[1] and value >= LIKELY_RATIO * aperture
        if not likely and not agrees:
            readings = {unit: factor * value for unit, factor in (("cm", 10.0), ("m", 1000.0))}
            fit = {unit: own for unit, own in readings.items() if LIKELY_FOCAL_MM[0] <= own <= LIKELY_FOCAL_MM[1]}
            if value >= max(SHORTEST_LENS_MM, LIKELY_RATIO * aperture):
                fit = {"mm": value} | fit
            if solved is not None:
                fit = {unit: own for unit, own in fit.items() if abs(own / solved - 1) <= SCALES_AGREE} or fit
            suppose(book, path, card_of(f"FOCALLEN {value_text(value)}", file), "mm", fit)
            focal = []
        elif solved is not None and not agrees:
            book.differs(*RECORD, "effective_focal_length_mm", round(solved, 2))
            by_scale = value_text(round(solved, 1))
            book.ask(
                f"{card_of('FOCALLEN', file)} is {value_text(value)} mm, and the solved frames’ scale makes {by_scale} "
                "mm with these pixels: is there a reducer, or is one of them wrong?",
                path,
            )
    entries.fixed(path, "FOCALLEN", focal, "effective_focal_length_mm")


def _solved_focal_mm(entries: Reported, pixel: DocumentPath) -> float | None:
    """Return the focal length in mm that solved frames make with the pixel that the draft holds; None without either.

    ``206.264806 · p [µm] · binning / scale [arcsec/px]``.
    """
    own = entries.book.held(pixel)
    if not own:
        return None
    found = [
        ARCSEC_PER_RADIAN * own * (frame.binning or 1) / 1000 / frame.scale_arcsec_px
        for frame in entries.frames
        if frame.scale_arcsec_px is not None
    ]
    return median(found) if found else None


def _filters(book: RigDraft, entries: Reported, names: FilterNames) -> None:
    """Give the wheel's slots: filters by any of their names are one, called as most frames do."""
    counts = Counter(frame.filter for frame in entries.frames if frame.filter)
    by_key: dict[str, str] = {}
    for name, _ in counts.most_common():
        by_key.setdefault(names.key(name), name)
    seen = list(by_key.values())
    if not seen:
        return
    if len(seen) == 1:
        book.ask(f"all frames have one filter, {seen[0]}: is there a wheel or a drawer?")
        return
    first = next(frame.path for frame in entries.frames if frame.filter)
    train = book.list_of("train")
    wheel = next((i for i, part in enumerate(train) if part["kind"] == "filter_wheel"), None)
    if wheel is None:
        wheel = int(book.add_part(("train",), max(0, len(train) - 1), "wheel", "filter_wheel")[-1])
        book.give(("train", wheel, "name"), "filter wheel", f"FILTER of {first}")
    device = next((i for i, d in enumerate(book.list_of("devices")) if d["kind"] == "filter_wheel"), None)
    if device is None:
        part_id = train[wheel]["id"]
        device = book.add_device(
            "wheel_device", "filter_wheel", f"FILTER of {first}", name="filter wheel", part=part_id
        )
    slots = [slot.get("name", "") for slot in book.held(("devices", device, "slots")) or ()]
    missing = [name[:60] for name in seen if names.key(name) not in {names.key(slot) for slot in slots}]
    if not slots:
        places: dict[str, int] = {}
        for place, frame in enumerate(entries.frames):
            places.setdefault(names.key(frame.filter or ""), place)
        in_order = sorted(seen, key=lambda name: places[names.key(name)])
        for index, name in enumerate(in_order[:32]):
            book.give(("devices", device, "slots", index), {"name": plain(name)[:60]}, f"FILTER of {first}")
        book.ask(
            "frames show which filters there are, not in which slots: check their order", ("devices", device, "slots")
        )
    elif missing:
        book.ask(f"frames name filters that are in no slot: {', '.join(missing[:6])}", ("devices", device, "slots"))


def _focuser_and_rotator(book: RigDraft, entries: Reported) -> None:
    for kind in DEVICE_KINDS.values():
        if kind.header_position is None:
            continue
        keyword, read_by, key = kind.header_position
        read = attrgetter(read_by)
        found = entries.of(read)
        if not found or any(device["kind"] == kind.id for device in book.list_of("devices")):
            continue
        at = book.add_device(f"{kind.id}_device", kind.id, f"{keyword} of {found[0][2]}", name=kind.label)
        entries.setting(at, key, keyword, read, list(entries.frames))


def _site(entries: Reported) -> None:
    latitude, longitude = (entries.of(read) for read in (lambda f: f.latitude_deg, lambda f: f.longitude_deg))
    place = ("site", "latitude_deg"), ("site", "longitude_deg")
    faults = [
        entries.book.fault_of(path, found[0][0])
        for path, found in zip(place, (latitude, longitude), strict=True)
        if found
    ]
    if latitude and longitude and latitude[0][0] == 0 and longitude[0][0] == 0:
        file = latitude[0][2]
        entries.book.ask(f"SITELAT and SITELONG of {file} are both 0, as where no site was set: they are left out")
    elif latitude and longitude and not any(faults):
        entries.fixed(("site", "latitude_deg"), "SITELAT", latitude, "site.latitude_deg")
        entries.fixed(("site", "longitude_deg"), "SITELONG", longitude, "site.longitude_deg")
        entries.fixed(
            ("site", "elevation_m"), "SITEELEV", entries.of(lambda frame: frame.elevation_m), "site.elevation_m"
        )
        entries.fixed(("site", "name"), "SITENAME", entries.of(lambda frame: frame.site))


def _pixel_of(book: RigDraft) -> DocumentPath:
    """Return where the pixel of the train's own camera stands."""
    train = book.list_of("train")
    at = next((index for index, part in enumerate(train) if part["kind"] == "camera"), len(train))
    return "train", at, "sensor", "pixel_um"


def _variant(book: RigDraft, own: Setup, other: Setup, frames: list[FrameHeader]) -> None:
    """Make a train of its own for another telescope or camera that frames were taken with."""
    name = plain(", ".join(part for part in other if part))[:200]
    variants = book.list_of("variants")
    if name == book.document["name"]:
        return
    entries = Reported(book, frames)
    known = next((at for at, variant in enumerate(variants) if variant["name"] == name), None)
    if known is not None:
        if variants[known].get("telescope") is not None:
            _optics(entries, ("variants", known, "telescope"), _pixel_of(book))
        return
    place: DocumentPath = ("variants", len(variants))
    parts = [part["id"] for part in book.list_of("train")]
    variants.append({"name": name, "train": list(parts)})
    if other[1] != own[1]:
        path = (*place, "train", len(parts) - 1)
        variants[-1]["train"][-1] = {"id": f"camera_{len(variants) + 1}", "kind": "camera"}
        book.assume((*path, "length_mm"), 10.0)
        book.give((*path, "name"), other[1], card_of("INSTRUME", frames[0].path))
        draft_sensor(entries, path, frames)
    if other[0] != own[0]:
        scope = (*place, "telescope")
        variants[-1]["telescope"] = {"id": book.document["telescope"]["id"]}
        book.give((*scope, "name"), other[0] or "Telescope", f"TELESCOP of {frames[0].path}")
        own_sensor = (*place, "train", len(parts) - 1, "sensor", "pixel_um")
        _optics(entries, scope, own_sensor if other[1] != own[1] else _pixel_of(book))
        book.assume((*scope, "focal_length_mm"), 500.0)
        book.assume((*scope, "aperture_mm"), 100.0)
    book.ask(f"{len(frames)} frames are by {name}: that is a variant here; take it out if it is another rig")
