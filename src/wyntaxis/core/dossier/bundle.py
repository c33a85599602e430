"""Everything that a fresh computer needs in one ZIP file: rig, history, shelf, key maps, evidence, photographs, paper.

A ZIP is opened into one chosen folder: only the names that such a file has, none of them leading out of it, each of
bounded size and as its list says.
"""

from __future__ import annotations

import hashlib
import io
import json
import zipfile
import zlib
from dataclasses import dataclass
from pathlib import Path
from typing import Any

from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.foreign.keymap import KeyMaps, load_maps, save_maps
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.opening import is_there, parse_json, read_bytes
from wyntaxis.core.files.saving import document_bytes, write_atomically
from wyntaxis.core.history.entries import HISTORY_SUFFIX, SIZE_LIMIT_BYTES, history_path
from wyntaxis.core.rig.resting import measured_legs_of
from wyntaxis.core.rig.shelf import FORMAT as SHELF_FORMAT
from wyntaxis.core.rig.shelf import Shelf, load_own_shelf, load_shelf, save_shelf
from wyntaxis.core.rig.store import SUFFIX, parse, to_bytes

FORMAT, VERSION = "wyntaxis-bundle", 1
LIST, SHELF, MAPS, EVIDENCE, DOSSIER = "contents.json", "shelf.json", "key-maps.json", "evidence.json", "dossier.html"
PHOTOS = "photographs/"
MOST_FILES, MOST_BYTES = 400, 400 * 1024 * 1024
ZIP_HINT = "a file of everything is smaller than that"
LONGEST_NAME = 180


@dataclass(frozen=True)
class Unpacked:
    """What came out of a ZIP: where the rig is, and what else lies beside it."""

    rig: Path
    shelf: Path | None
    maps: Path | None


def evidence_summary(evaluation: Evaluation) -> dict[str, Any]:
    """Return what was measured and how it stands, in short: every measured leg with its evidence, numbers, findings."""
    return {
        "measured": [
            {
                "id": leg.row_id,
                "value": leg.value.value,
                "u": leg.value.standard_uncertainty,
                "evidence": None if leg.value.evidence is None else leg.value.evidence.model_dump(exclude_none=True),
            }
            for leg in measured_legs_of(evaluation.rig)
        ],
        "numbers": [row.as_json() for row in evaluation.rows.values()],
        "findings": [finding.as_json() for finding in evaluation.findings],
    }


def bundle_bytes(
    evaluation: Evaluation, document: Any, name: str, shelf: Shelf, maps: KeyMaps, html: str, rig_path: Path | None
) -> bytes:
    """Return a ZIP with everything.

    Parameters
    ----------
    evaluation, document
        The rig reckoned, and the whole document with its variants.
    name
        The rig file's name, without its suffix.
    shelf, maps
        The imager's own.
    html
        The dossier.
    rig_path
        Where the rig is saved, for its history and photographs; None where it is not.

    Returns
    -------
    bytes
        The same for the same contents.
    """
    stem = _plain_name(name)
    files: dict[str, bytes] = {
        f"{stem}{SUFFIX}": to_bytes(document),
        SHELF: document_bytes(
            shelf.model_dump(mode="json", exclude_unset=True) | {"format": SHELF_FORMAT, "version": 1}, indent=1
        ),
        MAPS: document_bytes(maps.model_dump(mode="json", exclude_none=True), indent=1),
        EVIDENCE: json.dumps(evidence_summary(evaluation), ensure_ascii=False, indent=1, default=str).encode(),
        DOSSIER: html.encode(),
    }
    if rig_path is not None:
        history = history_path(rig_path)
        if is_there(history):
            files[f"{stem}{HISTORY_SUFFIX}"] = read_bytes(history, SIZE_LIMIT_BYTES, "compact it first")
        for photo in document.photos:
            place = rig_path.parent / photo.file
            if _stays(rig_path.parent, place) and is_there(place):
                files[f"{PHOTOS}{photo.file}"] = read_bytes(place, 60 * 1024 * 1024, "scale the photograph down first")
    listed = {name: hashlib.sha256(data).hexdigest() for name, data in files.items()}
    files[LIST] = json.dumps({"format": FORMAT, "version": VERSION, "files": listed}, indent=1).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for entry in sorted(files):
            info = zipfile.ZipInfo(entry, (2026, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            packed.writestr(info, files[entry])
    return out.getvalue()


def _plain_name(name: str) -> str:
    """Return a name that every file system takes."""
    told = "".join(char if char.isalnum() or char in " ,.-_()+" else "_" for char in name).strip(" .")
    return told.encode()[:LONGEST_NAME].decode(errors="ignore") or "rig"


def _stays(folder: Path, place: Path) -> bool:
    return place.resolve().is_relative_to(folder.resolve())


def read_bundle(path: Path) -> dict[str, bytes]:
    """Return the files of a ZIP by name, each as its list says.

    Raises
    ------
    InputError
        For a file that is none of ours, is damaged, or holds names that lead elsewhere.
    """
    data = read_bytes(path, MOST_BYTES, ZIP_HINT)
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            infos = packed.infolist()
            if len(infos) > MOST_FILES or sum(info.file_size for info in infos) > MOST_BYTES:
                raise InputError("holds far more than a rig; it is not unpacked", path)
            files = {}
            for info in infos:
                if info.is_dir() or info.flag_bits & 1 or info.filename in files or not _is_ours(info.filename):
                    raise InputError(
                        f"holds “{info.filename[:60]}”, which is no file of a rig; nothing is unpacked", path
                    )
                files[info.filename] = packed.read(info)
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, EOFError, RuntimeError, OSError, ValueError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError("is no ZIP file that can be read", path) from None
    try:
        listed = parse_json(files.get(LIST, b""))
    except InputError:
        listed = None
    if not isinstance(listed, dict) or listed.get("format") != FORMAT or not isinstance(listed.get("files"), dict):
        raise InputError("is no file that Wyntaxis packed", path)
    for name, own in files.items():
        if name != LIST and hashlib.sha256(own).hexdigest() != listed["files"].get(name):
            raise InputError(f"{name} in it is not as it was packed", path)
    missing = next((name for name in listed["files"] if name not in files), None)
    if missing is not None:
        raise InputError(f"{str(missing)[:60]} is missing in it", path)
    if sum(name.endswith(SUFFIX) for name in files) != 1:
        raise InputError("holds no rig, or several", path)
    return files


def _is_ours(name: str) -> bool:
    """Return whether a name is one that such a file has, and leads nowhere else."""
    parts = name.split("/")
    if any(part in ("", ".", "..") for part in parts) or "\\" in name or "\0" in name or ":" in name:
        return False
    if name in (LIST, SHELF, MAPS, EVIDENCE, DOSSIER):
        return True
    if name.startswith(PHOTOS):
        return len(parts) > 1
    return len(parts) == 1 and name.endswith((SUFFIX, HISTORY_SUFFIX))


def unpack(path: Path, folder: Path) -> Unpacked:
    """Write the files of a ZIP into a folder; nothing that is there is written over.

    Raises
    ------
    InputError
        For a ZIP that is none of ours, or a folder that has one of its files already, or cannot be written.
    """
    files = read_bundle(path)
    name = next(name for name in files if name.endswith(SUFFIX))
    try:
        parse(files[name])
    except InputError as error:
        raise InputError(f"the rig in it cannot be read: {error.reason}", path) from None
    wanted = {own.removeprefix(PHOTOS): data for own, data in files.items() if own != LIST}
    for own in wanted:
        if is_there(folder / own):
            raise InputError(f"{own} is there already, and is not written over: choose an empty folder", folder)
    for own, data in wanted.items():
        place = folder / own
        if not _stays(folder, place):
            raise InputError(f"{own} would lie outside the folder", folder)
        try:
            place.parent.mkdir(parents=True, exist_ok=True)
        except OSError as error:
            raise InputError(f"cannot be made: {error.strerror}", place.parent) from None
        write_atomically(data, place, keep_previous=False)
    return Unpacked(
        folder / name, folder / SHELF if SHELF in wanted else None, folder / MAPS if MAPS in wanted else None
    )


def with_lacking(found: Unpacked, own: Shelf) -> Shelf:
    """Return a shelf with the parts of an unpacked ZIP that it lacks; :class:`InputError` where they cannot be read."""
    if found.shelf is None:
        return own
    new = tuple(entry for entry in load_shelf(found.shelf).parts if own.find(entry.part.id) is None)
    return Shelf(parts=(*own.parts, *new)) if new else own


def take_maps(found: Unpacked, maps_path: Path) -> int:
    """Add the key maps of an unpacked ZIP that one lacks to one's own, and return how many came."""
    if found.maps is None:
        return 0
    mine, theirs = load_maps(maps_path), load_maps(found.maps)
    added = tuple(entry for entry in theirs.maps if mine.named(entry.name) is None)
    if added:
        save_maps(KeyMaps(maps=(*mine.maps, *added)), maps_path)
    return len(added)


def take_in(found: Unpacked, shelf_path: Path, maps_path: Path) -> tuple[int, int]:
    """Add the parts and key maps of an unpacked ZIP to one's own, where one has none of that name; return how many.

    Raises
    ------
    InputError
        Where one of the files cannot be read or written.
    """
    own = load_own_shelf(shelf_path)
    more = with_lacking(found, own)
    if more is not own:
        save_shelf(more, shelf_path)
    return len(more.parts) - len(own.parts), take_maps(found, maps_path)
