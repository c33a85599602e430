"""What the headers of a folder's frames tell of the rig that took them."""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from typing import Any

from wyntaxis.core.drafting.book import DraftBook, commonest
from wyntaxis.core.evidence.headers.headers import FolderHeaders, FrameHeader
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.rig.base import DocumentPath
from wyntaxis.core.wording import short

RECORD = ("frames", "frames' headers")
Setup = tuple[str, str]
"""The telescope and the camera that a frame names; empty where it names none."""
CHANGING = 2
"""What changes from frame to frame by itself is told with its commonest values, at most this many beside."""


def draft_frames(book: DraftBook, headers: FolderHeaders) -> None:
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
            by_setup.setdefault((frame.telescope or "", frame.camera or ""), []).append(frame)
        else:
            book.leave_out(frame.path, "its header names neither telescope nor camera")
    # Darks and flats may be taken off the telescope: frames without one are of whichever has their camera.
    for setup in [key for key in by_setup if not key[0]]:
        home = next((key for key in by_setup if key[0] and key[1] == setup[1]), None)
        if home is not None:
            by_setup[home] += by_setup.pop(setup)
    ranked = sorted(by_setup.items(), key=lambda entry: -_weight(entry[1]))
    if not ranked:
        return
    setup, frames = ranked[0]
    _own_train(book, setup, frames)
    for other, taken in ranked[1:]:
        _variant(book, setup, other, taken)


def _weight(frames: Sequence[FrameHeader]) -> int:
    """Return how much frames speak for a train: lights before all others."""
    return sum(1000 if frame.kind == "light" else 1 for frame in frames)


class _Told:
    """What some frames tell, value by value."""

    def __init__(self, book: DraftBook, frames: Sequence[FrameHeader]) -> None:
        self.book, self.frames = book, frames

    def of(self, read: Callable[[FrameHeader], Any], frames: Iterable[FrameHeader] | None = None) -> list[Any]:
        """Return the distinct values: value, count, file; the commonest first."""
        told = [(read(frame), frame.path) for frame in (self.frames if frames is None else frames)]
        return commonest([(value, path) for value, path in told if value is not None])

    def fixed(self, path: DocumentPath, keyword: str, found: list[Any], key: str = "") -> None:
        """Give a value that a rig has once; another that frames tell too is kept against it."""
        if not found:
            return
        (value, count, file), *rest = found
        more = f", in {count} of {count + sum(n for _, n, _ in rest)} frames" if rest else ""
        taken = self.book.give(path, value, f"{keyword} of {file}{more}")
        against = rest if taken else found
        if against and key:
            self.book.differs(*RECORD, key, against[0][0])
        for other, number, where in against[:CHANGING]:
            held = self.book.held(path)
            self.book.ask(f"{keyword}: {_text(other)} in {number} frames such as {where}, not {_text(held)}", path)

    def setting(
        self, at: int, key: str, keyword: str, read: Callable[[FrameHeader], Any], frames: list[FrameHeader]
    ) -> None:
        """Give a setting that may change from night to night: the commonest, the others told."""
        found = self.of(read, frames)
        if not found:
            return
        (value, _, file), *rest = found
        path = ("devices", at, "settings", key, "value")
        self.book.give(path, value, f"{keyword} of {file}")
        if rest:
            others = ", ".join(f"{_text(other)} in {number}" for other, number, _ in rest[:CHANGING])
            self.book.ask(f"{keyword}: {_text(value)} is taken; the frames also hold {others}", path)


def _text(value: Any) -> str:
    return short(value) if isinstance(value, (int, float)) and not isinstance(value, bool) else str(value)


def _own_train(book: DraftBook, setup: Setup, frames: list[FrameHeader]) -> None:
    told = _Told(book, frames)
    telescope, camera = setup
    place = ("telescope",)
    first = frames[0].path
    if telescope and book.document["telescope"].get("name") in (None, "Telescope"):
        book.document["telescope"].pop("name", None)
        book.give(("telescope", "name"), telescope, f"TELESCOP of {first}")
    _optics(told, place)
    train = book.list_of("train")
    at = next((i for i, part in enumerate(train) if part["kind"] == "camera"), None)
    if at is None:
        at = int(book.add_part(("train",), len(train), "camera", "camera")[-1])
    book.give(("train", at, "name"), camera or "camera", f"INSTRUME of {first}")
    _sensor(told, ("train", at), frames)
    part_id = train[at]["id"]
    device = next((i for i, d in enumerate(book.list_of("devices")) if d["kind"] == "camera"), None)
    if device is None and camera:  # the ports may have told of it before, without knowing what it is
        device = next((i for i, d in enumerate(book.list_of("devices")) if _is_unknown(book, i, camera)), None)
        if device is not None:
            book.give(("devices", device, "kind"), "camera", f"INSTRUME of {first}")
            book.give(("devices", device, "part"), part_id, f"INSTRUME of {first}")
    if device is None:
        device = book.add_device("main_camera", "camera", f"INSTRUME of {first}", name=camera or None, part=part_id)
    lights = [frame for frame in frames if frame.kind == "light"] or frames
    told.setting(device, "gain", "GAIN", lambda frame: frame.gain, lights)
    told.setting(device, "offset", "OFFSET", lambda frame: frame.offset, lights)
    told.setting(device, "set_temperature_c", "SET-TEMP", lambda frame: frame.set_temperature_c, lights)
    _filters(book, told)
    _focuser_and_rotator(book, told)
    _site(told)
    if book.document["name"] == "New rig":
        book.document["name"] = plain(", ".join(name for name in setup if name))[:200] or "New rig"


def _is_unknown(book: DraftBook, at: int, name: str) -> bool:
    """Return whether a device's kind is open, and it goes by a name that frames tell."""
    title = str(book.held(("devices", at, "name")) or "").casefold()
    return (
        book.is_open(("devices", at, "kind")) and bool(title) and (title in name.casefold() or name.casefold() in title)
    )


def _optics(told: _Told, place: DocumentPath) -> None:
    focal = told.of(lambda frame: frame.focal_length_mm or None)
    told.fixed((*place, "focal_length_mm"), "FOCALLEN", focal, "effective_focal_length_mm")
    told.fixed((*place, "aperture_mm"), "APTDIA", told.of(lambda frame: frame.aperture_mm or None), "aperture_mm")


def _sensor(told: _Told, place: DocumentPath, frames: list[FrameHeader]) -> None:
    """Give the sensor: the largest frame at the least binning, the rest being cut out of it."""
    sized = [frame for frame in frames if frame.width_px and frame.height_px]
    book = told.book
    if sized:
        least = min(frame.binning or 1 for frame in sized)
        plain = [frame for frame in sized if (frame.binning or 1) == least]
        largest = max(plain, key=lambda frame: (frame.width_px or 0) * (frame.height_px or 0))
        binned = f" × binning {least}" if least > 1 else ""
        for key, size in (("width_px", largest.width_px), ("height_px", largest.height_px)):
            axis = "NAXIS1" if key == "width_px" else "NAXIS2"
            path = (*place, "sensor", key)
            taken = book.give(path, (size or 0) * least, f"{axis} of {largest.path}{binned}")
            if not taken:
                book.differs(*RECORD, key, (size or 0) * least)
                book.ask(f"{axis}: frames are {size} px, not {book.held(path)}", path)
        pixels = told.of(lambda frame: frame.pixel_um or None, plain)
        path = (*place, "sensor", "pixel_um")
        if pixels and least == 1:
            told.fixed(path, "XPIXSZ", pixels, "pixel_um")
        elif pixels:
            # The standard's XPIXSZ is the binned size, but programs also write the sensor's own: nobody can tell.
            book.assume(path, pixels[0][0] / least)
            book.ask(
                f"all frames are binned {least}×: XPIXSZ {_text(pixels[0][0])} µm is taken as the binned pixel", path
            )
        used = told.of(lambda frame: frame.binning or 1, [f for f in sized if f.kind == "light"] or sized)
        if used and used[0][0] != 1:
            book.give((*place, "sensor", "binning"), used[0][0], f"XBINNING of {used[0][2]}")
    if book.held((*place, "sensor")) is not None:
        for key, value in (("width_px", 1000), ("height_px", 1000), ("pixel_um", 4.0)):
            book.assume((*place, "sensor", key), value)


def _filters(book: DraftBook, told: _Told) -> None:
    seen = [value for value, _, _ in told.of(lambda frame: frame.filter)]
    if not seen:
        return
    if len(seen) == 1:
        book.ask(f"all frames have one filter, {seen[0]}: is there a wheel or a drawer?")
        return
    first = next(frame.path for frame in told.frames if frame.filter)
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
    missing = [name[:60] for name in seen if name.casefold() not in {slot.casefold() for slot in slots}]
    if not slots:
        in_order = sorted(seen, key=lambda name: next(i for i, f in enumerate(told.frames) if f.filter == name))
        for index, name in enumerate(in_order[:32]):
            book.give(("devices", device, "slots", index), {"name": plain(name)[:60]}, f"FILTER of {first}")
        book.ask(
            "frames tell which filters there are, not in which slots: check their order", ("devices", device, "slots")
        )
    elif missing:
        book.ask(f"frames name filters that are in no slot: {', '.join(missing[:6])}", ("devices", device, "slots"))


def _focuser_and_rotator(book: DraftBook, told: _Told) -> None:
    for kind, keyword, key, read in (
        ("focuser", "FOCUSPOS", "position", lambda frame: frame.focus_position),
        ("rotator", "ROTATANG", "position_deg", lambda frame: frame.rotation_deg),
    ):
        found = told.of(read)
        if not found or any(device["kind"] == kind for device in book.list_of("devices")):
            continue
        at = book.add_device(f"{kind}_device", kind, f"{keyword} of {found[0][2]}", name=kind)
        told.setting(at, key, keyword, read, list(told.frames))


def _site(told: _Told) -> None:
    latitude, longitude = (told.of(read) for read in (lambda f: f.latitude_deg, lambda f: f.longitude_deg))
    place = ("site", "latitude_deg"), ("site", "longitude_deg")
    faults = [
        told.book.fault_of(path, found[0][0]) for path, found in zip(place, (latitude, longitude), strict=True) if found
    ]
    if latitude and longitude and not any(faults):
        told.fixed(("site", "latitude_deg"), "SITELAT", latitude, "site.latitude_deg")
        told.fixed(("site", "longitude_deg"), "SITELONG", longitude, "site.longitude_deg")
        told.fixed(("site", "elevation_m"), "SITEELEV", told.of(lambda frame: frame.elevation_m), "site.elevation_m")
        told.fixed(("site", "name"), "SITENAME", told.of(lambda frame: frame.site))


def _variant(book: DraftBook, own: Setup, other: Setup, frames: list[FrameHeader]) -> None:
    """Make a train of its own for another telescope or camera that frames were taken with."""
    name = plain(", ".join(part for part in other if part))[:200]
    variants = book.list_of("variants")
    if name == book.document["name"]:
        return
    told = _Told(book, frames)
    known = next((at for at, variant in enumerate(variants) if variant["name"] == name), None)
    if known is not None:
        if variants[known].get("telescope") is not None:
            _optics(told, ("variants", known, "telescope"))
        return
    place: DocumentPath = ("variants", len(variants))
    parts = [part["id"] for part in book.list_of("train")]
    variants.append({"name": name, "train": list(parts)})
    if other[1] != own[1]:
        path = (*place, "train", len(parts) - 1)
        variants[-1]["train"][-1] = {"id": f"camera_{len(variants) + 1}", "kind": "camera"}
        book.assume((*path, "length_mm"), 10.0)
        book.give((*path, "name"), other[1], f"INSTRUME of {frames[0].path}")
        _sensor(told, path, frames)
    if other[0] != own[0]:
        scope = (*place, "telescope")
        variants[-1]["telescope"] = {"id": book.document["telescope"]["id"]}
        book.give((*scope, "name"), other[0] or "Telescope", f"TELESCOP of {frames[0].path}")
        _optics(told, scope)
        book.assume((*scope, "focal_length_mm"), 500.0)
        book.assume((*scope, "aperture_mm"), 100.0)
    book.ask(f"{len(frames)} frames are by {name}: that is a variant here; take it out if it is another rig")
