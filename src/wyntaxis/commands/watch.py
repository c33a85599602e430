"""The command that watches a folder: each new frame in a line, with distance and direction to the focus."""

from __future__ import annotations

import argparse
import json
import time
from pathlib import Path

from wyntaxis.commands.shared import OK, SOME_FAIL, Command, evaluated, rig_of, shelf_for_remedies

POLL_S = 0.2


def _watch(options: argparse.Namespace) -> int:
    from wyntaxis.core.evidence.defocus.live import FolderWatch, LiveView
    from wyntaxis.core.quantities.live_optics import live_optics

    view = LiveView(live_optics(evaluated(rig_of(options)), shelf_for_remedies(options)))
    folder = FolderWatch(options.folder, only_new=options.only_new)
    until = time.monotonic() + options.seconds if options.seconds is not None else None
    left, broken = options.count, 0
    while left is None or left > 0:
        came = False
        for path, frame in folder.read():
            came = True
            if isinstance(frame, str):
                broken += 1
                entry, words = {"file": path.name, "error": frame}, frame
            else:
                reading = view.add(frame)
                entry, words = reading.as_json(), ". ".join(reading.lines())
            print(json.dumps(entry, ensure_ascii=False) if options.json else f"{path.name}: {words}", flush=True)
            left = left - 1 if left is not None else None
            if left == 0:
                break
        if until is not None and time.monotonic() >= until:
            break
        if not came:
            time.sleep(POLL_S)
    return SOME_FAIL if broken else OK


def _count(text: str) -> int:
    value = int(text)
    if not 1 <= value <= 1_000_000:
        raise argparse.ArgumentTypeError(f"must be 1 to 1,000,000, got {text[:20]}")
    return value


def _seconds(text: str) -> float:
    value = float(text)
    if not 0 <= value <= 1_000_000:
        raise argparse.ArgumentTypeError(f"must be 0 to 1,000,000, got {text[:20]}")
    return value


def _arguments(parser: argparse.ArgumentParser) -> None:
    parser.add_argument("folder", type=Path, metavar="DIR", help="the folder that frames are written into")
    parser.add_argument("--count", type=_count, metavar="N", help="end after so many frames, broken ones among them")
    parser.add_argument("--seconds", type=_seconds, metavar="S", help="end after so many seconds")
    parser.add_argument("--only-new", action="store_true", help="leave out the frames that are there already")


COMMANDS = {
    "watch": Command(
        _watch, "measure each new frame of a folder: how far out of focus, which way", _arguments, group="Measure"
    )
}
