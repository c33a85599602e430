"""The headers of a folder of FITS frames: read in parallel, broken files told by name."""

from __future__ import annotations

import multiprocessing
import os
from collections.abc import Sequence
from concurrent.futures import FIRST_COMPLETED, ProcessPoolExecutor, wait
from concurrent.futures.process import BrokenProcessPool
from dataclasses import dataclass
from pathlib import Path

from wyntaxis.core.evidence.headers.headers import FrameHeader, UnusedFile, frame_header, image_header, raw_header_of
from wyntaxis.core.evidence.headers.names import DEFAULT_FILTER_NAMES, FilterNames, own_filter_names
from wyntaxis.core.files import camera_raw
from wyntaxis.core.files.errors import InputError, Progress, shown
from wyntaxis.core.files.fits import first_line
from wyntaxis.core.files.opening import is_folder, is_there

ENDINGS = (".fit", ".fits", ".fts", ".fit.gz", ".fits.gz", ".fts.gz", ".fits.fz", ".fit.fz")
MAX_FILES = 200_000
CHUNK = 100
PARALLEL_FROM = 2500
"""Fewer files are read sooner than a second process starts."""


@dataclass(frozen=True)
class FolderHeaders:
    """The headers below a folder, in the order of their paths, and what could not be read.

    ``raw_files`` counts camera-raw files that nothing here can read; ``names`` is what filters are called.
    """

    folder: str
    frames: tuple[FrameHeader, ...]
    broken: tuple[UnusedFile, ...]
    raw_files: int = 0
    unread_folders: int = 0
    names: FilterNames = DEFAULT_FILTER_NAMES

    @property
    def skipped(self) -> str:
        """What was passed over, in a sentence; empty where nothing was."""
        entries = []
        if self.raw_files:
            plural = "files are" if self.raw_files > 1 else "file is"
            entries.append(f"{self.raw_files} camera-raw {plural} beside the frames and not read; {camera_raw.HOW}")
        if self.unread_folders:
            plural = "folders" if self.unread_folders > 1 else "folder"
            entries.append(f"{self.unread_folders} {plural} below it may not be read")
        return "; ".join(entries)


def frame_endings() -> tuple[str, ...]:
    """Return by which endings frames are known: FITS, and camera-raw where the library that reads it is installed."""
    return ENDINGS + camera_raw.ENDINGS if camera_raw.can_read() else ENDINGS


def find_frames(folder: Path) -> list[Path]:
    """Return every frame below a folder, sorted: FITS, and camera-raw where it can be read; links are not followed.

    Parameters
    ----------
    folder
        The folder.

    Returns
    -------
    list of Path
        The files by their endings, .gz and .fz too.

    Raises
    ------
    InputError
        With one line when the folder cannot be read, or holds no frame.
    """
    return _walked(folder)[0]


def _walked(folder: Path) -> tuple[list[Path], int, int]:
    """Return every frame below a folder, sorted, how many camera-raw files cannot be read, and folders not read."""
    if not is_folder(folder):
        what = "is no folder" if is_there(folder) else "is not there"
        raise InputError(f"{what}; name a folder of FITS frames", folder)
    found: list[Path] = []
    raw = 0
    unread: list[OSError] = []
    for place, folders, names in os.walk(folder, onerror=unread.append):
        folders.sort()
        found += [Path(place, name) for name in sorted(names) if name.lower().endswith(frame_endings())]
        raw += 0 if camera_raw.can_read() else sum(name.lower().endswith(camera_raw.ENDINGS) for name in names)
        if len(found) > MAX_FILES:
            raise InputError(f"holds more than {MAX_FILES} FITS files; name a smaller folder", folder)
    if not found and unread:
        where = Path(unread[0].filename or folder)
        raise InputError(f"cannot be read: {unread[0].strerror}; give yourself the right to read it", where)
    if not found:
        beside = f"; {raw} camera-raw files are there, which are not read: {camera_raw.HOW}" if raw else ""
        raise InputError(f"holds no FITS files ({', '.join(ENDINGS[:3])}, also .gz and .fz){beside}", folder)
    return found, raw, len(unread)


def read_folder(folder: Path, progress: Progress = lambda _done, _of: None) -> FolderHeaders:
    """Read every header below a folder; ``progress`` may raise to end it.

    Parameters
    ----------
    folder
        The folder, read with all below it.
    progress
        Told of each file; may raise to end the reading.

    Returns
    -------
    FolderHeaders
        The headers, the files that are broken and why, and what was left out.
    """
    paths, raw, unread = _walked(folder)
    names = own_filter_names()
    chunks = [paths[start : start + CHUNK] for start in range(0, len(paths), CHUNK)]
    results: list[list[FrameHeader | UnusedFile]] = []
    if len(paths) < PARALLEL_FROM:
        for index, chunk in enumerate(chunks):
            progress(index * CHUNK, len(paths))
            results.append(read_chunk(chunk, folder))
    else:
        results = _in_parallel(chunks, folder, len(paths), progress)
    progress(len(paths), len(paths))
    flat = [entry for chunk in results for entry in chunk]
    frames = tuple(item for item in flat if isinstance(item, FrameHeader))
    broken = tuple(element for element in flat if isinstance(element, UnusedFile))
    return FolderHeaders(str(folder), frames, broken, raw, unread, names)


def _in_parallel(
    chunks: Sequence[Sequence[Path]], folder: Path, count: int, progress: Progress
) -> list[list[FrameHeader | UnusedFile]]:
    """Read chunks in as many processes as there are cores; threads would wait for one another."""
    results: list[list[FrameHeader | UnusedFile]] = [[] for _ in chunks]
    pool = ProcessPoolExecutor(os.cpu_count() or 1, mp_context=multiprocessing.get_context("spawn"))
    try:
        waiting = {pool.submit(read_chunk, chunk, folder): index for index, chunk in enumerate(chunks)}
        done = 0
        while waiting:
            progress(done, count)
            finished, _ = wait(waiting, timeout=0.2, return_when=FIRST_COMPLETED)
            for future in finished:
                index = waiting.pop(future)
                results[index] = future.result()
                done += len(chunks[index])
    except BrokenProcessPool:
        raise InputError(
            "the reading processes were ended from outside, perhaps for lack of memory; try again"
        ) from None
    finally:
        pool.shutdown(wait=False, cancel_futures=True)
    return results


def read_chunk(paths: Sequence[Path], folder: Path) -> list[FrameHeader | UnusedFile]:
    """Read some files; each gives a header, or a line on why it does not.

    Parameters
    ----------
    paths
        Files.
    folder
        The folder that they are named from.

    Returns
    -------
    list[FrameHeader | UnusedFile]
        One for each file.
    """
    found: list[FrameHeader | UnusedFile] = []
    for path in paths:
        name = shown(path.relative_to(folder))
        try:
            entries = raw_header_of(path, name) if camera_raw.is_raw(path) else frame_header(image_header(path), name)
            found.append(entries)
        except InputError as error:
            found.append(UnusedFile(name, str(error).removeprefix(f"{shown(path)}: ")))
        except Exception as error:  # a header can be broken in ways that astropy does not foresee
            found.append(UnusedFile(name, f"its header cannot be read: {first_line(error)}"))
    return found
