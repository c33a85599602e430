"""From whatever an imager has in hand to a rig: frames, ports, programs' files."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

from wyntaxis.core.drafting.frames import draft_frames
from wyntaxis.core.drafting.ports import draft_ports
from wyntaxis.core.drafting.programs import draft_program
from wyntaxis.core.drafting.rig_draft import Draft, RigDraft
from wyntaxis.core.evidence.foreign.keymap import KeyMaps
from wyntaxis.core.evidence.headers.folder import FolderHeaders, frame_endings, read_chunk, read_folder
from wyntaxis.core.evidence.headers.headers import UnusedFile
from wyntaxis.core.evidence.ports.tree import PortTree
from wyntaxis.core.files.errors import InputError, Progress
from wyntaxis.core.files.opening import is_folder, is_there
from wyntaxis.core.rig.blank import blank_rig
from wyntaxis.core.rig.model import Rig


@dataclass(frozen=True)
class Sources:
    """What a rig is drafted from: frames' headers, the ports, programs' files with the key maps to read them by."""

    headers: tuple[FolderHeaders, ...] = ()
    ports: PortTree | None = None
    programs: tuple[Path, ...] = ()
    maps: KeyMaps = field(default_factory=lambda: KeyMaps(format="wyntaxis-key-maps", version=1))


def read_sources(
    paths: Sequence[Path], ports: PortTree | None, maps: KeyMaps, progress: Progress = lambda _done, _of: None
) -> Sources:
    """Read what was named: a folder is one of frames, a FITS file a frame, any other file a program's.

    Parameters
    ----------
    paths, ports, maps
        Folders and files, the ports where they were read, and the imager's key maps.
    progress
        Told of each frame; may raise to end the reading.

    Returns
    -------
    Sources
        For :func:`draft`.

    Raises
    ------
    InputError
        When a path is not there, or a folder holds no frames.
    """
    headers, programs = [], []
    singles = [path for path in paths if path.name.lower().endswith(frame_endings()) and not is_folder(path)]
    for path in paths:
        if not is_there(path):
            raise InputError("is not there; name a folder of frames, a FITS file or a program's file", path)
        if is_folder(path):
            headers.append(read_folder(path, progress))
        elif path not in singles:
            programs.append(path)
    if singles:
        read = [entry for path in singles for entry in read_chunk([path], path.parent)]
        frames = tuple(entry for entry in read if not isinstance(entry, UnusedFile))
        broken = tuple(entry for entry in read if isinstance(entry, UnusedFile))
        headers.append(FolderHeaders(str(singles[0].parent), frames, broken))
    return Sources(tuple(headers), ports, tuple(programs), maps)


def draft(sources: Sources, into: Rig | None = None) -> Draft:
    """Draft a rig.

    Parameters
    ----------
    sources
        What to draft from. Frames come first, then the ports, then programs' files: what a later one says otherwise
        is kept beside and told.
    into
        The rig to go on from; what is given in it stays. A blank one where left out.

    Returns
    -------
    Draft
        The rig, with the origin of each value, and what is open.

    Raises
    ------
    InputError
        When the sources gave what no rig can hold.
    """
    book = RigDraft.of(into or blank_rig())
    for headers in sources.headers:
        draft_frames(book, headers)
    if sources.ports is not None:
        draft_ports(book, sources.ports)
    for path in sources.programs:
        draft_program(book, path, sources.maps)
    return book.draft()
