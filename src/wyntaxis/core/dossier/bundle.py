"""Everything that a fresh computer needs in one ZIP file: rig, history, shelf, key maps, evidence, photographs, paper.

A ZIP is opened into one chosen folder, whole or not at all: only the names that such a file has, none of them leading
out of it or hidden, only pictures among the photographs, each of bounded size and as its list says.
"""

from __future__ import annotations

import contextlib
import errno
import hashlib
import io
import json
import os
import shutil
import stat
import tempfile
import unicodedata
import zipfile
import zlib
from collections.abc import Iterable
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from wyntaxis.core.dossier.private_rig import private_rig
from wyntaxis.core.evaluation import Evaluation
from wyntaxis.core.evidence.foreign.keymap import KeyMaps, load_maps, save_maps
from wyntaxis.core.files.errors import InputError
from wyntaxis.core.files.foreign_text import plain
from wyntaxis.core.files.opening import is_there, parse_json, read_bytes, reason_of
from wyntaxis.core.files.saving import document_bytes, is_left_over, write_atomically
from wyntaxis.core.history.entries import HISTORY_SUFFIX, SIZE_LIMIT_BYTES, history_path
from wyntaxis.core.json_values import JsonObject
from wyntaxis.core.rig.dependencies import recorded_measurements
from wyntaxis.core.rig.shelf import FORMAT as SHELF_FORMAT
from wyntaxis.core.rig.shelf import Shelf, load_own_shelf, load_shelf, save_shelf
from wyntaxis.core.rig.store import SUFFIX, parse, to_bytes

if TYPE_CHECKING:
    from wyntaxis.core.rig.model import Rig

FORMAT, VERSION = "wyntaxis-bundle", 1
LIST, SHELF, MAPS, EVIDENCE, DOSSIER = "contents.json", "shelf.json", "key-maps.json", "evidence.json", "dossier.html"
PHOTOS = "photographs/"
MAX_FILES, MAX_BYTES = 400, 400 * 1024 * 1024
MAX_PHOTO_BYTES = 60 * 1024 * 1024
MAX_COMPRESSION, FREE_BYTES = 200, 1024 * 1024
"""How much smaller a file in the ZIP may be than what comes out of it, where that is more than :data:`FREE_BYTES`: text
with much repetition shrinks to some fiftieth, padding to a thousandth."""
ZIP_HINT = "a file of everything is smaller than that"
LONGEST_NAME = 180
PICTURES: dict[str, tuple[bytes, ...]] = {
    ".jpg": (b"\xff\xd8\xff",),
    ".jpeg": (b"\xff\xd8\xff",),
    ".png": (b"\x89PNG\r\n\x1a\n",),
    ".webp": (b"RIFF",),
    ".tif": (b"II*\0", b"MM\0*"),
    ".tiff": (b"II*\0", b"MM\0*"),
}
"""Endings of photographs, and how such a file begins."""


@dataclass(frozen=True)
class Unpacked:
    """What came out of a ZIP: where the rig is, and what else lies beside it."""

    rig: Path
    shelf: Path | None
    maps: Path | None


def evidence_summary(evaluation: Evaluation) -> JsonObject:
    """Return a summary of what was measured: values with their evidence, numbers and findings."""
    return {
        "measured": [
            {
                "id": quantity_value.row_id,
                "value": quantity_value.value.value,
                "u": quantity_value.value.standard_uncertainty,
                "evidence": None
                if quantity_value.value.evidence is None
                else quantity_value.value.evidence.model_dump(exclude_none=True),
            }
            for quantity_value in recorded_measurements(evaluation.rig)
        ],
        "numbers": [row.as_json() for row in evaluation.rows.values()],
        "findings": [finding.as_json() for finding in evaluation.findings],
    }


def bundle_bytes(
    evaluation: Evaluation, document: Rig, name: str, shelf: Shelf, maps: KeyMaps, html: str, rig_path: Path | None
) -> bytes:
    """Return a ZIP with everything.

    Parameters
    ----------
    evaluation, document
        The rig evaluated, and the whole document with its variants.
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
            place, name_inside = rig_path.parent / photo.file, f"{PHOTOS}{photo.file}"
            if not (_stays(rig_path.parent, place) and is_there(place) and _is_ours(name_inside)):
                continue
            data = read_bytes(place, MAX_PHOTO_BYTES, "scale the photograph down first")
            if _is_picture(name_inside, data):
                files[name_inside] = data
    listed = {name: hashlib.sha256(data).hexdigest() for name, data in files.items()}
    files[LIST] = json.dumps({"format": FORMAT, "version": VERSION, "files": listed}, indent=1).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        for entry in sorted(files):
            info = zipfile.ZipInfo(entry, (2026, 1, 1, 0, 0, 0))
            info.compress_type = zipfile.ZIP_DEFLATED
            packed.writestr(info, files[entry])
    return out.getvalue()


def private_bundle(document: Rig, html: str) -> bytes:
    """Return a ZIP to give to others: the rig and its dossier, both private.

    Parameters
    ----------
    document
        The whole document; what is private of it is left out here.
    html
        The private dossier.

    Returns
    -------
    bytes
        Without history, photographs, shelf and key maps: these may hold whose the rig is.
    """
    from wyntaxis.core.evaluation import evaluate

    rig = private_rig(document)
    return bundle_bytes(evaluate(rig), rig, "rig", Shelf(), KeyMaps(), html, None)


def _plain_name(name: str) -> str:
    """Return a name that every file system takes."""
    text = "".join(char if char.isalnum() or char in " ,.-_()+" else "_" for char in name).strip(" .")
    return text.encode()[:LONGEST_NAME].decode(errors="ignore") or "rig"


def _stays(folder: Path, place: Path) -> bool:
    return place.resolve().is_relative_to(folder.resolve())


def read_bundle(path: Path) -> dict[str, bytes]:
    """Return the files of a ZIP by name, each as its list says.

    Raises
    ------
    InputError
        For a file that is none of ours, is damaged, or holds names that lead elsewhere.
    """
    files = _unpacked(read_bytes(path, MAX_BYTES, ZIP_HINT), path)
    _check_list(files, path)
    if sum(name.endswith(SUFFIX) for name in files) != 1:
        raise InputError("holds no rig, or several", path)
    clash = _clash(files)
    if clash:
        raise InputError(f"holds two files that would both be “{clash[:60]}”; nothing is unpacked", path)
    return files


def _unpacked(data: bytes, path: Path) -> dict[str, bytes]:
    """Return the files of a ZIP by name; InputError for one that is damaged, far too large, or none of ours."""
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as packed:
            infos = packed.infolist()
            if len(infos) > MAX_FILES or sum(info.file_size for info in infos) > MAX_BYTES:
                raise InputError("holds far more than a rig; it is not unpacked", path)
            files = {}
            for info in infos:
                if info.file_size > max(FREE_BYTES, MAX_COMPRESSION * info.compress_size):
                    raise InputError(
                        f"holds “{plain(info.filename[:60])}”, which is padding; nothing is unpacked", path
                    )
                if info.is_dir() or info.flag_bits & 1 or info.filename in files or not _is_ours(info.filename):
                    raise InputError(
                        f"holds “{plain(info.filename[:60])}”, which is no file of a rig; nothing is unpacked", path
                    )
                files[info.filename] = packed.read(info)
            return files
    except (zipfile.BadZipFile, zlib.error, NotImplementedError, EOFError, RuntimeError, OSError, ValueError) as error:
        if isinstance(error, InputError):
            raise
        raise InputError("is no ZIP file that can be read", path) from None


def _check_list(files: dict[str, bytes], path: Path) -> None:
    """Raise InputError for files that are not as the list among them says."""
    try:
        listed = parse_json(files.get(LIST, b""))
    except InputError:
        listed = None
    if not isinstance(listed, dict) or listed.get("format") != FORMAT or not isinstance(listed.get("files"), dict):
        raise InputError("is no file that Wyntaxis packed", path)
    for name, own in files.items():
        if name.startswith(PHOTOS) and not _is_picture(name, own):
            raise InputError(f"holds “{name[:60]}”, which is no picture; nothing is unpacked", path)
        if name != LIST and hashlib.sha256(own).hexdigest() != listed["files"].get(name):
            raise InputError(f"{name} in it is not as it was packed", path)
    missing = next((name for name in listed["files"] if name not in files), None)
    if missing is not None:
        raise InputError(f"{str(missing)[:60]} is missing in it", path)


def _clash(files: Iterable[str]) -> str:
    """Return a name that two files of a ZIP would have in the folder, or one as a file and one as a folder."""
    taken: set[str] = set()
    folders: set[str] = set()
    for name in files:
        own = name.removeprefix(PHOTOS)
        key = unicodedata.normalize("NFC", own).casefold()  # as file systems that ignore case take it
        parents = {key[:at] for at, letter in enumerate(key) if letter == "/"}
        if key in taken or key in folders or parents & taken:
            return own
        taken.add(key)
        folders |= parents
    return ""


def _is_ours(name: str) -> bool:
    """Return whether a name is one that such a file has, plain to read, not hidden, and leads nowhere else."""
    parts = name.split("/")
    if any(not part or part.startswith(".") or part != part.strip() for part in parts):
        return False
    if any(char in name for char in '\\:*?"<>|') or plain(name) != name or len(name.encode()) > 4 * LONGEST_NAME:
        return False
    if any(len(part.encode()) > 255 for part in parts):
        return False
    if name in (LIST, SHELF, MAPS, EVIDENCE, DOSSIER):
        return True
    if name.startswith(PHOTOS):
        return len(parts) > 1 and Path(name).suffix.lower() in PICTURES
    return len(parts) == 1 and name.endswith((SUFFIX, HISTORY_SUFFIX))


def _is_picture(name: str, data: bytes) -> bool:
    return len(data) <= MAX_PHOTO_BYTES and data.startswith(PICTURES[Path(name).suffix.lower()])


def left_out_photos(document: Rig, rig_path: Path) -> list[str]:
    """Return the photographs of a rig that are there and do not go into a ZIP: no picture, hidden, or an odd name."""
    return [
        photo.file
        for photo in document.photos
        if is_there(rig_path.parent / photo.file)
        and not (_is_ours(f"{PHOTOS}{photo.file}") and _stays(rig_path.parent, rig_path.parent / photo.file))
    ]


def unpack(path: Path, folder: Path) -> Unpacked:
    """Write the files of a ZIP into a folder: all of them, or none. Nothing that is there is written over.

    They are written into a folder beside, which then takes the place of the folder where that is new or empty; else
    what it holds is moved.

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
    asked, folder = folder, Path(os.path.realpath(folder))
    for own in dict.fromkeys(own.partition("/")[0] for own in wanted):
        if os.path.lexists(folder / own):
            raise InputError(f"{own} is there already, and is not written over: choose an empty folder", folder)
    try:
        is_new = not folder.exists() or not any(folder.iterdir())
        _clear_unpacking(folder, folder.parent if is_new else folder)
        folder.parent.mkdir(parents=True, exist_ok=True)
        beside = Path(tempfile.mkdtemp(prefix=_unpacking(folder), dir=folder.parent if is_new else folder))
    except OSError as error:
        raise InputError(f"cannot be unpacked into: {reason_of(error)}", folder) from None
    try:
        for own, data in wanted.items():
            place = beside / own
            place.parent.mkdir(parents=True, exist_ok=True)
            write_atomically(data, place, keep_previous=False)
        if is_new:
            _like_new(beside)
            os.rename(beside, folder)
        else:
            _move_all(beside, folder)
    except OSError as error:
        raise InputError(f"cannot be unpacked into: {reason_of(error)}; nothing was left there", folder) from None
    except InputError as error:
        raise InputError(f"cannot be unpacked into: {error.reason}; nothing was left there", folder) from None
    finally:
        shutil.rmtree(beside, ignore_errors=True)
    return Unpacked(asked / name, asked / SHELF if SHELF in wanted else None, asked / MAPS if MAPS in wanted else None)


def _unpacking(folder: Path) -> str:
    return f".{folder.name[: LONGEST_NAME // 2]}.unpacking-{os.getpid()}-"


def _clear_unpacking(folder: Path, around: Path) -> None:
    """Remove what an unpacking that was killed left."""
    prefix = _unpacking(folder).removesuffix(f"{os.getpid()}-")
    for left in around.iterdir() if around.is_dir() else ():
        if left.name.startswith(prefix) and is_left_over(left.name.removeprefix(prefix).partition("-")[0]):
            shutil.rmtree(left, ignore_errors=True)


def _like_new(folder: Path) -> None:
    """Give a folder that was made for the owner alone the mode that a new one has here."""
    like = folder / "mode"
    like.mkdir()
    mode = stat.S_IMODE(like.stat().st_mode)
    like.rmdir()
    folder.chmod(mode)


def _move_all(source: Path, folder: Path) -> None:
    """Move everything of one folder into another on the same disk; what was moved goes back where one thing fails."""
    moved: list[Path] = []
    try:
        for entry in sorted(source.iterdir()):
            if os.path.lexists(folder / entry.name):
                raise FileExistsError(errno.EEXIST, f"{entry.name} is there already")
            os.rename(entry, folder / entry.name)
            moved.append(folder / entry.name)
    except OSError:
        for place in moved:
            with contextlib.suppress(OSError):
                os.rename(place, source / place.name)
        raise


def with_lacking(found: Unpacked, own: Shelf) -> Shelf:
    """Return a shelf with the parts of an unpacked ZIP that it lacks; :class:`InputError` where they cannot be read."""
    if found.shelf is None:
        return own
    read = load_shelf(found.shelf)
    new = [entry for entry in read.parts if own.find(entry.part.id) is None]
    have = {entry.telescope.id for entry in own.telescopes}
    telescopes = [entry for entry in read.telescopes if entry.telescope.id not in have]
    if not new and not telescopes:
        return own
    return own.with_parts((*own.parts, *new), (*own.telescopes, *telescopes))


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
